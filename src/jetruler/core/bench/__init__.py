"""Channels and benches: a ruler with what a real input needs, and all that remembers (smoothing,
zones that hold, trips, drives).

In: rulers and raw samples. Out: readings, decisions. Read `channel.py` first, then `bench.py`;
`decisions.py` has a bench at work.
"""
