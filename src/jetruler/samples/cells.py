"""Cells into counts: what is empty or unreadable becomes missing, and is counted. Arrays for
PyArrow."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from ..core.bench.channel_reader import NO_COUNT
from ..core.numerics import AnyArray, Array, Truths
from ..core.ruler.quantity import NUMBER

_TEXT = pa.string()
#: What NumPy calls PyArrow's numbers; PyArrow's own answer needs pandas before its version 26.
_KINDS = map(np.dtype, np.typecodes["AllInteger"] + "efd")
_NUMBERS = {pa.from_numpy_dtype(kind): kind for kind in _KINDS}


# PyArrow's own functions for these (`array`, `scalar`) load pandas wherever it is installed.


def to_arrow(numbers: AnyArray, there: Truths | None = None) -> pa.Array:
    """An array of numbers or truths; there: which are, where not all."""
    whole = np.ascontiguousarray(numbers, numbers.dtype.newbyteorder("="))
    kind = pa.from_numpy_dtype(whole.dtype)
    data = _bits(whole) if kind == pa.bool_() else pa.py_buffer(whole)
    return pa.Array.from_buffers(kind, whole.size, [None if there is None else _bits(there), data])


def _bits(truths: Truths) -> pa.Buffer:
    return pa.py_buffer(np.packbits(truths, bitorder="little"))


def no_value(kind: pa.DataType = _TEXT) -> pa.Scalar:
    """One null."""
    return pa.nulls(1, kind)[0]


def text_scalar(text: str | bytes) -> pa.Scalar:
    """One text, bytes as binary."""
    kind = pa.binary() if isinstance(text, bytes) else _TEXT
    return texts_to_arrow([text], kind)[0]


def number_scalar(number: int) -> pa.Scalar:
    """One whole number."""
    return to_arrow(np.array([number], np.int64))[0]


def values_to_arrow(values: Array, complete: bool) -> pa.Array:
    """Values, null where there is none; complete: whether that is nowhere."""
    return to_arrow(values, None if complete else ~np.isnan(values))


def texts_to_arrow(texts: Sequence[str | bytes | None], kind: pa.DataType = _TEXT) -> pa.Array:
    """Texts as an array of strings (or of another type that is stored like one); None is null."""
    encoded = [b"" if t is None else t if isinstance(t, bytes) else t.encode() for t in texts]
    ends = np.zeros(len(encoded) + 1, np.int32)
    np.cumsum([len(text) for text in encoded], out=ends[1:])
    there = np.array([text is not None for text in texts], np.bool_)
    data = [
        None if there.all() else _bits(there),
        pa.py_buffer(ends),
        pa.py_buffer(b"".join(encoded)),
    ]
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


def truths_of(cells: pa.Array) -> Truths:
    """An array of truths as NumPy's; a null is none."""
    start = cells.offset
    packed = np.frombuffer(cells.buffers()[1], np.uint8)
    bits = np.unpackbits(packed, count=start + len(cells), bitorder="little")[start:]
    truths: Truths = bits.view(np.bool_) & ~nulls_of(cells)
    return truths


def numbers_of(cells: pa.Array) -> AnyArray:
    """An array of numbers as NumPy's, without a copy; what is where a cell is null is left
    open."""
    kind = _NUMBERS[cells.type]
    start = cells.offset
    return np.frombuffer(cells.buffers()[1], kind, start + len(cells))[start:]


def floats_of(cells: pa.Array) -> Array:
    """An array of float64, NaN where a cell is null."""
    numbers: Array = numbers_of(cells)
    return np.where(nulls_of(cells), np.nan, numbers) if cells.null_count else numbers


#: Cells that are tried before all of them: PyArrow words an error for each that fails.
_TRIED = 64


def cast_of(cells: pa.Array, kind: pa.DataType) -> pa.Array | None:
    """Cells as another type; None where one of them cannot be."""
    try:
        cells.slice(0, _TRIED).cast(kind)
        return cells.cast(kind)
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        return None


def name_text(name: str) -> str:
    """A column's name as a typed file takes it: bytes that are no UTF-8 are read as Latin-1."""
    if name.isascii():
        return name
    try:
        name.encode()
    except UnicodeEncodeError:
        return name.encode("utf-8", "surrogateescape").decode("latin-1")
    return name


_INTEGER = re.compile(r"[+-]?\d+\Z", re.ASCII)
_NUMBER = re.compile(rf"{NUMBER}\Z")
#: A whole number as programs print registers; no number has more digits that anything counts.
HEX = "[+-]?0[xX][0-9a-fA-F]{1,16}"
_HEX = re.compile(rf"{HEX}\Z")
#: A whole number of more digits than these is none that anything counts.
LONGEST = 40
#: What says that there is no number.
MISSING = ("nan", "na", "n/a", "null", "none", "-")
_EMPTY = {"", *MISSING}
#: A date, with the year in front or, after points, behind; a day and a month between strokes could
#: be either.
DATE = r"(?:[0-9]{4}-[0-9]{2}-[0-9]{2}|[0-9]{4}/[0-9]{2}/[0-9]{2}|[0-9]{2}\.[0-9]{2}\.[0-9]{4})"
_TIME = r"[0-9]{1,2}:[0-9]{2}(?::[0-9]{2}(?:[.,][0-9]+)?)?(?: ?[AaPp][Mm])?"
#: A date, a time of day, or both.
STAMP = rf"(?:{DATE}(?:[T ]{_TIME}(?:Z|[+-][0-9]{{2}}:?[0-9]{{2}})?)?|{_TIME})"

#: What a cell's text becomes in the format it is written in.
Encode = Callable[[str, str], str]


def number_pattern(decimal: str) -> str:
    """What matches a decimal number with this point."""
    return NUMBER if decimal == "." else NUMBER.replace(r"\.", ",")


def value_pattern(decimal: str) -> str:
    """What matches a cell that is a number or a time, or says that there is none."""
    plain = number_pattern(decimal)
    number, in_hex = (form.replace("[+-]?", "[+-]? *", 1) for form in (plain, HEX))
    return rf'^\s*"?\s*(?:{number}|{in_hex}|(?i:{"|".join(MISSING)})|{STAMP})\s*"?\s*$'


@dataclass(frozen=True)
class Samples:
    """The counts of one column: integers, or float64 if some are fractional.

    missing: where there is no sample. empty, unreadable: the rows of each kind.
    """

    counts: npt.NDArray[Any]
    missing: npt.NDArray[np.bool_] | None = None
    empty: npt.NDArray[np.int64] | None = None
    unreadable: npt.NDArray[np.int64] | None = None
    fractional: int = 0

    @property
    def present(self) -> npt.NDArray[Any]:
        """Those that are not missing."""
        return self.counts if self.missing is None else self.counts[~self.missing]


def read_samples(cells: pa.Array, decimal: str, torn: npt.NDArray[np.int64]) -> Samples:
    """The counts in a column of cells, text or typed. Those of torn rows are not trusted:
    unreadable."""
    if pa.types.is_dictionary(cells.type):
        cells = cells.dictionary_decode()
    if not torn.size and pa.types.is_integer(cells.type):
        return _integers(cells)
    if not torn.size and pa.types.is_floating(cells.type):
        return _floats(floats_of(cells.cast(pa.float64())))
    text = pa.types.is_string(cells.type) or pa.types.is_binary(cells.type)
    if not text or cells.null_count:
        cells = as_text(cells)
    integers = None if torn.size else cast_of(cells, pa.int64())
    # PyArrow reads 0x1F as a number. A letter of either case takes longer than two letters.
    hexadecimal = (pc.any(pc.match_substring(cells, x)).as_py() for x in "xX")
    if integers is not None and not any(hexadecimal):
        return _integers(integers)
    kinds, numbers, whole = _plain(cells, decimal) or _one_by_one(cells, decimal)
    kinds[torn] = _UNREADABLE
    missing = kinds >= _EMPTY_CELL
    fractional = int(np.count_nonzero(kinds == _FRACTION))
    counts: npt.NDArray[Any] = numbers if fractional else whole
    counts[missing] = np.nan if fractional else NO_COUNT
    return Samples(
        counts,
        missing,
        np.flatnonzero(kinds == _EMPTY_CELL),
        np.flatnonzero(kinds == _UNREADABLE),
        fractional,
    )


#: The kinds of some cells, their numbers as floats, and as whole numbers.
_Read = tuple[npt.NDArray[np.int8], Array, npt.NDArray[np.int64]]


def _one_by_one(cells: pa.Array, decimal: str) -> _Read:
    """Cells as `read_cell` reads them; the texts of a column repeat, and each is read once."""
    encoded = cells.cast(pa.binary()).dictionary_encode()
    found = [read_cell(text.as_py(), decimal) for text in encoded.dictionary]
    inverse = numbers_of(encoded.indices)
    kinds = np.array([_kind(value) for value in found], np.int8)
    numbers = np.array([np.nan if isinstance(v, str) else _beyond(v) for v in found], np.float64)
    whole = np.array([_within(v) if isinstance(v, int) else NO_COUNT for v in found], np.int64)
    return kinds[inverse], numbers[inverse], whole[inverse]


def _plain(cells: pa.Array, decimal: str) -> _Read | None:
    """The same as `_one_by_one`, faster where numbers seldom repeat: PyArrow reads what is a number
    and nothing else, and only the rest is read one by one. None where floats are too coarse."""
    usual = pc.match_substring_regex(cells, rf"\A(?:{number_pattern(decimal)})\z")
    plain = truths_of(usual) & (numbers_of(pc.binary_length(cells)) <= LONGEST)
    texts = cells.filter(to_arrow(plain)).cast(pa.string())
    if decimal == ",":
        texts = pc.replace_substring(texts, ",", ".")
    numbers = np.full(len(cells), np.nan)
    numbers[plain] = numbers_of(texts.cast(pa.float64())) + 0.0  # no −0
    if (np.abs(numbers) >= 2.0**53).any():
        return None
    is_whole = numbers == np.rint(numbers)
    kinds = np.where(is_whole, _WHOLE, _FRACTION).astype(np.int8)
    whole = np.where(is_whole, numbers, 0.0).astype(np.int64)
    if not plain.all():
        rest = _one_by_one(cells.filter(to_arrow(~plain)), decimal)
        kinds[~plain], numbers[~plain], whole[~plain] = rest
    return kinds, numbers, whole


def _integers(cells: pa.Array) -> Samples:
    if not cells.null_count:
        return Samples(numbers_of(cells))
    nulls, numbers = nulls_of(cells), numbers_of(cells)
    if cells.type == pa.uint64():
        numbers = np.minimum(numbers, np.uint64(2**62))
    filled = np.where(nulls, NO_COUNT, numbers.astype(np.int64))
    return Samples(filled, nulls, np.flatnonzero(nulls), np.empty(0, np.int64))


def _floats(values: npt.NDArray[np.float64]) -> Samples:
    """Whole numbers are counts though they come as floats; NaN (or null) is an empty cell."""
    missing = np.isnan(values)
    fractional = int(np.count_nonzero(values != np.rint(values))) - int(np.count_nonzero(missing))
    empty, unreadable = np.flatnonzero(missing), np.empty(0, np.int64)
    if fractional:
        return Samples(values, missing, empty, unreadable, fractional)
    # Beyond 2^62 all counts are equally far outside.
    counts = np.clip(np.where(missing, 0.0, values), -(2.0**62), 2.0**62).astype(np.int64)
    counts[missing] = NO_COUNT
    return Samples(counts, missing, empty, unreadable) if empty.size else Samples(counts)


def as_text(cells: pa.Array) -> pa.Array:
    """Cells of any type as text, null as an empty cell."""
    if pa.types.is_dictionary(cells.type):
        cells = cells.dictionary_decode()
    if pa.types.is_nested(cells.type):
        import json

        found = [None if v is None else json.dumps(v, default=str) for v in cells.to_pylist()]
        cells = texts_to_arrow(found)
    if not pa.types.is_binary(cells.type):
        try:
            cells = cells.cast(pa.string())
        except (pa.ArrowInvalid, pa.ArrowNotImplementedError):  # a duration, bytes in large pieces
            texts = [None if v is None else str(v) for v in cells.to_pylist()]
            cells = texts_to_arrow(texts)
    return cells.fill_null(text_scalar("").cast(cells.type)) if cells.null_count else cells


_WHOLE, _FRACTION, _EMPTY_CELL, _UNREADABLE = range(4)


#: The decimal comma for a point, and a point for what is in no number.
_SWAPPED = str.maketrans(",.", ".,")


def read_cell(cell: bytes, decimal: str) -> int | float | str:
    """The number in a cell; a text says why there is none."""
    text = cell.decode("utf-8", "replace").strip().strip('"').strip()
    if text.startswith(("+ ", "- ")):  # a sign in a column of its own
        text = text[0] + text[1:].lstrip(" ")
    if text.lower() in _EMPTY:
        return "empty"
    if _INTEGER.match(text):
        digits = text.lstrip("+-").lstrip("0") or "0"
        sign = -1 if text[0] == "-" else 1
        return sign * int(digits) if len(digits) <= LONGEST else "unreadable"
    if _HEX.match(text):
        return int(text, 16)
    if decimal == ",":
        # A point may be one of thousands, or a decimal mark after all: nobody can tell.
        text = text.translate(_SWAPPED)
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


def _beyond(value: float) -> float:
    """A number that no 64 bits hold is infinite among fractions."""
    return math.copysign(math.inf, value) if abs(value) >= 2**63 and value == int(value) else value


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
    sign, nothing = text_scalar(b'"'), text_scalar(b"")
    wrapped = pc.binary_join_element_wise(sign, doubled, sign, nothing)
    return pc.if_else(needs, wrapped, cells)


def arrow_of(x: Any) -> Any:
    """What speaks one of Arrow's protocols, or that of frames, as an array or a table."""
    if hasattr(x, "__arrow_c_stream__"):
        return pa.chunked_array(x)
    if hasattr(x, "__arrow_c_array__"):
        return pa.array(x)
    from pyarrow.interchange import from_dataframe

    return from_dataframe(x)
