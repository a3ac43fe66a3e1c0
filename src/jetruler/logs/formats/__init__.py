"""One file a format: CSV, JSON Lines and Parquet, read and written.

In: a path or a pipe. Out: a `LogReader` with batches of columns; or a writer of converted batches.
Read `opening.py` first, which picks the reader; all readers are those of `../reader.py`.
"""
