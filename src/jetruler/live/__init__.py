"""Streams: bytes and time in, readings and decisions out. What is decided is decided in core.

In: a port, a socket, a pipe, a growing file. Out: rows, a view, commands of drives.
Read `session.py` first: it is the loop; `stream_processor.py` turns lines into readings.
"""
