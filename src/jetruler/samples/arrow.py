"""Arrays for PyArrow, without a copy; `pyarrow.array` would load pandas to look at them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa

from ..core.arrays import AnyArray, Array, Truths

_TEXT = pa.string()
#: What NumPy calls PyArrow's numbers; PyArrow's own answer needs pandas before its version 26.
_KINDS = map(np.dtype, np.typecodes["AllInteger"] + "efd")
_NUMBERS = {pa.from_numpy_dtype(kind): kind for kind in _KINDS}


def to_arrow(numbers: AnyArray) -> pa.Array:
    """An array of numbers."""
    whole = np.ascontiguousarray(numbers)
    kind = pa.from_numpy_dtype(whole.dtype)
    return pa.Array.from_buffers(kind, whole.size, [None, pa.py_buffer(whole)])


def text_scalar(text: str | bytes) -> pa.Scalar:
    """One text, bytes as binary."""
    kind = pa.binary() if isinstance(text, bytes) else _TEXT
    return texts_to_arrow([text], kind)[0]


def values_to_arrow(values: Array, complete: bool) -> pa.Array:
    """Values, null where there is none; complete: whether that is nowhere."""
    if complete:
        return to_arrow(values)
    there = ~np.isnan(values)
    bits = pa.py_buffer(np.packbits(there, bitorder="little"))
    whole = pa.py_buffer(np.ascontiguousarray(values))
    return pa.Array.from_buffers(pa.float64(), values.size, [bits, whole])


def texts_to_arrow(texts: Sequence[str | bytes | None], kind: pa.DataType = _TEXT) -> pa.Array:
    """Texts as an array of strings (or of another type that is stored like one); None is null."""
    encoded = [b"" if t is None else t if isinstance(t, bytes) else t.encode() for t in texts]
    ends = np.zeros(len(encoded) + 1, np.int32)
    np.cumsum([len(text) for text in encoded], out=ends[1:])
    there = np.array([text is not None for text in texts], np.bool_)
    bits = None if there.all() else pa.py_buffer(np.packbits(there, bitorder="little"))
    data = [bits, pa.py_buffer(ends), pa.py_buffer(b"".join(encoded))]
    return pa.Array.from_buffers(kind, len(encoded), data)


def nulls_of(cells: pa.Array) -> Truths:
    """Where a cell is null."""
    bits = cells.buffers()[0]
    if bits is None or not cells.null_count:
        return np.zeros(len(cells), np.bool_)
    start = cells.offset
    packed = np.frombuffer(bits, np.uint8)
    there = np.unpackbits(packed, count=start + len(cells), bitorder="little")
    gone: Truths = there[start:] == 0
    return gone


def numbers_of(cells: pa.Array) -> AnyArray:
    """An array of numbers as NumPy's, without a copy; what stands where a cell is null is left
    open."""
    kind = _NUMBERS[cells.type]
    start = cells.offset
    return np.frombuffer(cells.buffers()[1], kind, start + len(cells))[start:]


def floats_of(cells: pa.Array) -> Array:
    """An array of float64, NaN where a cell is null."""
    numbers: Array = numbers_of(cells)
    return np.where(nulls_of(cells), np.nan, numbers) if cells.null_count else numbers


def name_text(name: str) -> str:
    """A column's name as a typed file takes it: bytes that are no UTF-8 are read as Latin-1."""
    if name.isascii():
        return name
    try:
        name.encode()
    except UnicodeEncodeError:
        return name.encode("utf-8", "surrogateescape").decode("latin-1")
    return name
