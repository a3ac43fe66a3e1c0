"""Logs: reading, converting and writing recorded samples in batches, in bounded memory.

In: a path, a pipe or a frame, and a `Bench`. Out: converted logs with a `Summary`, surveys, pairs,
series for pictures, events of trips.
Read `reader.py` first, then `conversion.py`; `convert_log.py` runs a whole conversion.
"""
