"""Frames in and out: pandas, PyArrow, Polars, Dask. Only pandas is ever loaded from here; the
others are there when somebody hands over one of theirs."""
