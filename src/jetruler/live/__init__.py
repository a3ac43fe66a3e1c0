"""Streams: bytes and time in, readings and decisions out. What is decided is decided in core."""
