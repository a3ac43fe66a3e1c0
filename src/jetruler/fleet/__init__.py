"""Many logs: which there are, where their results go, and who converts them.

In: paths, folders, patterns. Out: a `Fleet`: what was done, what failed and why, one summary.
Read `convert_logs.py` first; `plan.py` settles places, `jobs.py` and `cluster.py` do the work.
"""
