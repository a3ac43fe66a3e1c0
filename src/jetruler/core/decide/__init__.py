"""All that remembers: smoothing, zones that hold, trips, drives.

In: batches of readings with their times. Out: smoothed readings, truths of trips, commands of
drives. Any batch size gives the same numbers.
Read `decisions.py` first; `follower.py` is a channel at work.
"""
