"""Logs: looking, checking, comparing and converting, one log, many, or frames, in bounded memory.

In: logs and frames as `samples` reads them. Out: converted logs and frames, surveys, pairs.
Read `convert_log.py` first, then `conversion.py`.
"""
