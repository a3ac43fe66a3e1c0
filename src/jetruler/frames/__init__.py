"""Frames in and out: pandas, PyArrow, Polars, Dask.

In: a frame of counts. Out: the like frame of values. Only pandas is ever loaded from here; the
others are there when somebody hands over one of theirs.
Read `convert_frame.py` first; `lazy.py` is Dask.
"""
