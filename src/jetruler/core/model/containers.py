"""Any kind of numbers in, the like out: int, float, list, tuple, range, array, Series, Index,
DataFrame."""

from __future__ import annotations

import sys
from array import array
from collections.abc import Callable
from typing import Any

import numpy as np

from ..arrays import AnyArray, Numbers


def to_array(x: Any) -> tuple[Numbers, Callable[[AnyArray], Any]]:
    """An integer or float64 array of the numbers in x, and what turns such an array back into
    the kind of x. None and pandas' NA become NaN. Raises `TypeError` for what is no number."""
    if isinstance(x, np.ndarray):
        return _numeric(_unmasked(x)), _same
    if isinstance(x, list):
        return _numeric(np.asarray(x)), _to_list
    if isinstance(x, tuple):
        return _numeric(np.asarray(x)), lambda a: tuple(a.tolist())
    if isinstance(x, range):
        return np.asarray(x), _to_list
    if isinstance(x, array):
        return _numeric(np.asarray(x)), lambda a: array("d", a.astype(np.float64).tolist())
    if (found := _labelled(x)) is not None:
        return found
    if isinstance(x, int) and not isinstance(x, bool) and not -(2**63) <= x < 2**63:
        x = float("inf") if x > 0 else float("-inf")  # beyond every converter in any case
    return _numeric(np.asarray(np.nan if x is None else x)), lambda a: a[()].item()


def _labelled(x: Any) -> tuple[Numbers, Callable[[AnyArray], Any]] | None:
    """A Series, Index or DataFrame of pandas, or a Series of Polars; None for anything else. Only
    someone who already has them can hand one over: no import is paid here."""
    series, index, frame = (loaded("pandas", name) for name in ("Series", "Index", "DataFrame"))
    if series is not None and isinstance(x, series):
        return _from_series(x), lambda a: series(a, index=x.index, name=x.name)
    if index is not None and isinstance(x, index):
        return _from_series(x), lambda a: index(a, name=x.name)
    if frame is not None and isinstance(x, frame):
        columns = [_column(x, name) for name in x]
        counts = np.stack(columns, axis=1) if columns else np.empty(x.shape)
        return counts, lambda a: frame(a, index=x.index, columns=x.columns)
    polars = loaded("polars", "Series")
    if polars is not None and isinstance(x, polars):
        return _numeric(x.to_numpy()), lambda a: polars(x.name, a)
    return None


def _column(frame: Any, name: Any) -> Numbers:
    try:
        return _from_series(frame[name])
    except TypeError as error:
        raise TypeError(f"column {name!r}: {error}") from None


def loaded(module: str, name: str) -> Any:
    """A class of a module, if that is loaded; None also while another thread is loading it."""
    return getattr(sys.modules.get(module), name, None)


def lazily(x: Any, compute: Callable[[Any], Any], dtype: str = "float64") -> Any:
    """A Dask array or Series of what `compute` makes of its parts, not computed; None for what is
    neither. Whoever has one has loaded Dask: no import is paid here."""
    array = loaded("dask.array", "Array")
    if array is not None and isinstance(x, array):
        return x.map_blocks(compute, dtype=dtype, meta=np.empty((0,) * x.ndim, dtype))
    series = loaded("dask.dataframe", "Series")
    if series is not None and isinstance(x, series):
        return x.map_partitions(compute, meta=(x.name, dtype))
    return None


def _unmasked(a: AnyArray) -> AnyArray:
    """Masked numbers become NaN. Whoever has a masked array has numpy.ma loaded already."""
    masked = loaded("numpy.ma", "MaskedArray")
    if masked is None or not isinstance(a, masked):
        return a
    filled: AnyArray = np.ma.filled(a.astype(np.float64), np.nan)
    return filled


def _same(a: AnyArray) -> AnyArray:
    return a


def _to_list(a: AnyArray) -> Any:
    return a.tolist()


def _from_series(x: Any) -> Numbers:
    plain = isinstance(x.dtype, np.dtype)
    try:
        values = x.to_numpy() if plain else x.to_numpy(dtype=np.float64, na_value=np.nan)
    except (TypeError, ValueError):
        raise TypeError(f"numbers are wanted; found {x.dtype} ({next(iter(x))!r})") from None
    return _numeric(values)


def _numeric(a: AnyArray) -> Numbers:
    if a.dtype.kind in "iu":
        return a
    if a.dtype.kind == "f":
        return a.astype(np.float64, copy=False)
    if a.dtype.kind == "O" and all(_is_number(v) for v in a.flat):
        return a.astype(np.float64)
    example = repr(a.flat[0]) if a.size else a.dtype
    raise TypeError(f"numbers are wanted; found {_KINDS.get(a.dtype.kind, 'objects')} ({example})")


def _is_number(v: object) -> bool:
    return v is None or (isinstance(v, int | float | np.number) and not isinstance(v, bool))


_KINDS = {"U": "text", "S": "bytes", "b": "truth values", "c": "complex numbers", "M": "dates"}
