"""The bench file: its schema, loading it, starting one, and writing results back into it.

In: TOML text. Out: a `Bench`, or all errors at once, each with its place, what was expected
and found; and an edited file of which nothing else has changed.
Read `load.py` first; `tables.py` has every key.
"""
