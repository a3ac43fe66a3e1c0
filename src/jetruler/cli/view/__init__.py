"""The live view in a terminal.

In: snapshots of a session that runs in its own thread. Out: lines of styled text, and what
somebody asks of the session. Read `app.py` first.
"""
