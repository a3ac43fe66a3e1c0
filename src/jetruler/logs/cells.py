"""Cells of text into counts: what is empty or unreadable becomes missing, and is counted."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from ..core.follow import NO_COUNT

_INTEGER = re.compile(r"[+-]?\d+\Z")
_NUMBER = re.compile(r"[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?\Z")
_EMPTY = {"", "nan", "na", "n/a", "null", "none", "-"}


@dataclass(frozen=True)
class Samples:
    """The counts of one column: int64, or float64 if some are fractional.

    missing: where there is no sample. empty, unreadable: the rows of each kind.
    """

    counts: npt.NDArray[Any]
    missing: npt.NDArray[np.bool_] | None = None
    empty: npt.NDArray[np.int64] | None = None
    unreadable: npt.NDArray[np.int64] | None = None
    fractional: int = 0


def read_samples(cells: pa.Array, decimal: str, torn: npt.NDArray[np.int64]) -> Samples:
    """The counts in a column of text cells. Cells of torn rows are not trusted: unreadable."""
    if pa.types.is_integer(cells.type):
        if not cells.null_count:
            return Samples(cells.to_numpy())
        nulls = cells.is_null().to_numpy(zero_copy_only=False)
        filled = cells.fill_null(np.iinfo(cells.type.to_pandas_dtype()).min).to_numpy()
        return Samples(filled, nulls, np.flatnonzero(nulls), np.empty(0, np.int64))
    if not torn.size:
        try:
            return Samples(cells.cast(pa.int64()).to_numpy())
        except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
            pass
    # The texts of a column repeat: each different one is read once.
    encoded = cells.cast(pa.binary()).dictionary_encode()
    found = [read_cell(text.as_py(), decimal) for text in encoded.dictionary]
    which = encoded.indices.to_numpy()
    kinds = np.array([_kind(value) for value in found], dtype=np.int8)[which]
    kinds[torn] = _UNREADABLE
    missing = kinds >= _EMPTY_CELL
    fractional = int(np.count_nonzero(kinds == _FRACTION))
    if fractional:
        numbers = [np.nan if isinstance(v, str) else v for v in found]
        counts: npt.NDArray[Any] = np.array(numbers, dtype=np.float64)[which]
        counts[missing] = np.nan
    else:
        whole = [_within(v) if isinstance(v, int) else NO_COUNT for v in found]
        counts = np.array(whole, dtype=np.int64)[which]
        counts[missing] = NO_COUNT
    return Samples(
        counts,
        missing,
        np.flatnonzero(kinds == _EMPTY_CELL),
        np.flatnonzero(kinds == _UNREADABLE),
        fractional,
    )


_WHOLE, _FRACTION, _EMPTY_CELL, _UNREADABLE = range(4)


def read_cell(cell: bytes, decimal: str) -> int | float | str:
    """The number in a cell; a text says why there is none."""
    text = cell.decode("utf-8", "replace").strip()
    if text.lower() in _EMPTY:
        return "empty"
    if _INTEGER.match(text):
        return int(text)
    if decimal == ",":
        text = text.replace(",", ".")
    if not _NUMBER.match(text):
        return "unreadable"
    value = float(text)
    if math.isinf(value):
        return 2**63 if value > 0 else -(2**63)
    return int(value) if value.is_integer() else value


def _kind(value: int | float | str) -> int:
    if isinstance(value, str):
        return _EMPTY_CELL if value == "empty" else _UNREADABLE
    return _WHOLE if isinstance(value, int) else _FRACTION


def _within(value: int) -> int:
    """A count too large for 64 bits is as far outside as the largest that fits."""
    return max(NO_COUNT + 1, min(value, np.iinfo(np.int64).max))


def quote(cells: pa.Array, delimiter: str) -> pa.Array:
    """Put back the quotes that a cell needs when it is written."""
    cells = cells.cast(pa.binary())
    needs = pc.match_substring_regex(cells, f'[{delimiter}"\r\n]')
    if not pc.any(needs).as_py():
        return cells
    doubled = pc.replace_substring(cells, '"', '""')
    wrapped = pc.binary_join_element_wise(b'"', doubled, b'"', b"")
    return pc.if_else(needs, wrapped, cells)
