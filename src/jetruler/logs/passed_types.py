"""The types of what passes through, in a format that has types: a column of texts becomes numbers
or times only where each cell can be recovered as it was written; else it stays text."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..samples.cells import (
    as_text,
    floats_of,
    no_value,
    nulls_of,
    number_scalar,
    text_scalar,
    texts_to_arrow,
)
from ..samples.source import LogReader, RowBatch


@dataclass(frozen=True)
class PassedType:
    """How a column is held.

    kind: PyArrow's type. name: of the rule that makes it so. form: what gives its text back, where
    the type alone does not say: the decimals of all cells, or the form of all times.
    """

    kind: pa.DataType
    name: str
    form: str = ""

    @property
    def metadata(self) -> dict[str, str]:
        """What a Parquet field says of its text."""
        key = "decimals" if self.name == "decimals" else "text"
        return {key: self.form} if self.form else {}


TEXT = PassedType(pa.string(), "text")


@dataclass(frozen=True)
class Given:
    """A type that a column is known to need, and the rules that one of its cells refuses."""

    type: PassedType
    refused: frozenset[str] = field(default=frozenset())


class OtherTypeError(Exception):
    """Columns that have another type from some row on: what is known of each, by position, and the
    first cell that was not as those before."""

    def __init__(self, given: dict[int, Given], name: str, found: str, line: int) -> None:
        super().__init__(name)
        self.given, self.name, self.found, self.line = given, name, found, line


class PassedTypes:
    """The type of each column that passes through: the first one, in the order of `RULES`, that no
    cell refuses. The first rows propose it; where later ones refuse it, the log is read to its end
    for what they show, and then again.

    given: what is known of columns, by position. literal: whether numbers keep their digits, as in
    JSON, so that one column may have cells of several forms.
    """

    def __init__(
        self,
        reader: LogReader,
        pass_through: Sequence[int],
        given: dict[int, Given],
        *,
        literal: bool = False,
    ) -> None:
        self._reader, self._passed, self._literal = reader, pass_through, literal
        self._rules = LITERAL_RULES if literal else RULES
        self._given = {index: known for index, known in given.items() if index in pass_through}
        self._blank: set[int] = set()
        self._other: OtherTypeError | None = None
        self._lock = threading.Lock()

    def type_of(self, index: int) -> PassedType:
        """What a column is held as."""
        return self._given[index].type

    @property
    def named(self) -> dict[str, str]:
        """Each type by the name of its column."""
        names = self._reader.columns
        return {names[index]: str(self.type_of(index).kind) for index in self._passed}

    def settle(self, batch: RowBatch) -> None:
        """By the first batch, in order."""
        for index in self._passed:
            if index not in self._given:
                cells = batch.columns[index]
                self._given[index] = self._proposed(cells, frozenset())
                if self._reader.can_be_read_again and self._texts(cells).null_count == len(cells):
                    self._blank.add(index)

    def of(self, batch: RowBatch) -> list[pa.Array] | None:
        """The columns of a batch, in any thread; None from a cell on that is not as those before.

        Raises `OtherTypeError` for such a cell where the log cannot be read again.
        """
        found = [self._cast(batch, index) for index in self._passed]
        return None if self._other else found

    def finish(self) -> None:
        """All rows are there. Raises `OtherTypeError`."""
        if self._other is not None:
            raise self._other

    def _is_text(self, cells: pa.Array) -> bool:
        return self._reader.of_text and _is_text(cells.type)

    def _texts(self, cells: pa.Array) -> pa.Array:
        """Text cells, the empty ones null, numbers with a decimal point; typed ones as they are."""
        if not self._is_text(cells):
            return cells
        texts = valid_text(cells)
        texts = pc.if_else(pc.equal(texts, text_scalar("")), no_value(), texts)
        if self._reader.form.decimal == ",":
            commas = pc.match_substring_regex(texts, r"^[+-]?[0-9]*,[0-9]+([eE][+-]?[0-9]+)?$")
            texts = pc.if_else(commas, pc.replace_substring(texts, ",", "."), texts)
        return texts

    def _proposed(self, cells: pa.Array, refused: frozenset[str]) -> Given:
        """The first type that these cells allow."""
        texts = self._texts(cells)
        if not self._is_text(cells):
            return Given(self._typed(cells), refused)
        first = _first_of(texts)
        for name, rule in self._rules.items() if first is not None else ():
            if name not in refused:
                proposed = rule(first or "")
                if proposed is not None and _held(texts, proposed) is not None:
                    return Given(proposed, refused)
                refused |= {name}
        return Given(TEXT, refused)

    def _typed(self, cells: pa.Array) -> PassedType:
        """The type of cells that have one: their own, unless the format has none like it."""
        kind = cells.type
        no_number = self._literal and pa.types.is_floating(kind) and _any_infinite(cells)
        if pa.types.is_null(kind) or pa.types.is_nested(kind) or no_number:
            return TEXT
        return PassedType(kind, "typed")

    def _cast(self, batch: RowBatch, index: int) -> pa.Array:
        cells, known = batch.columns[index], self._given[index]
        texts = self._texts(cells)
        if index in self._blank and texts.null_count < len(texts):
            proposed = self._proposed(cells, known.refused)
            if proposed.type != known.type:
                return self._differs(batch, index, proposed, 0)
        if not self._is_text(cells):
            return self._cast_typed(batch, index)
        if known.type == TEXT:
            return texts if self._reader.form.decimal != "," else _null_if_empty(valid_text(cells))
        found = _held(texts, known.type)
        if found is None:
            one = (_held(texts.slice(i, 1), known.type) is None for i in range(len(texts)))
            row = next(i for i, refused in enumerate(one) if refused)
            refused = known.refused | {known.type.name}
            return self._differs(batch, index, self._proposed(cells, refused), row)
        return found

    def _cast_typed(self, batch: RowBatch, index: int) -> pa.Array:
        """Cells of a typed log; the blocks of JSON Lines may each have found another type."""
        cells, kind = batch.columns[index], self.type_of(index).kind
        own = self._typed(cells)
        if pa.types.is_string(kind):
            if own == TEXT or not pa.types.is_string(cells.type):
                return _null_if_empty(valid_text(as_text(cells)))
            return cells
        if pa.types.is_null(cells.type):
            return pa.nulls(len(cells), kind)
        if own.kind == kind:
            return cells
        numbers = {pa.int64(), pa.float64()}
        if kind == pa.float64() and own.kind == pa.int64():
            try:
                return cells.cast(kind)
            except pa.ArrowInvalid:
                pass
        wider = kind == pa.int64() and {kind, own.kind} == numbers
        given = Given(PassedType(pa.float64(), "typed") if wider else TEXT)
        return self._differs(batch, index, given, 0)

    def _differs(self, batch: RowBatch, index: int, given: Given, row: int) -> pa.Array:
        """Go on with what a cell shows; the result is not written."""
        shown = as_text(batch.columns[index].slice(row, 1))[0].as_py()
        found = shown.decode("utf-8", "replace") if isinstance(shown, bytes) else shown
        name, line = self._reader.columns[index], int(batch.lines[row])
        with self._lock:
            refused = self._given[index].refused | given.refused
            self._given[index] = Given(given.type, refused)
            self._blank.discard(index)
            first = self._other or OtherTypeError(self._given, name, found, line)
            self._other = first
        if not self._reader.can_be_read_again:
            raise first
        return batch.columns[index]


def _is_text(kind: pa.DataType) -> bool:
    return bool(pa.types.is_string(kind) or pa.types.is_binary(kind))


def _null_if_empty(texts: pa.Array) -> pa.Array:
    return pc.if_else(pc.equal(texts, text_scalar("")), no_value(), texts)


def _any_infinite(cells: pa.Array) -> bool:
    return bool(np.isinf(floats_of(cells.cast(pa.float64()))).any())


def valid_text(cells: pa.Array) -> pa.Array:
    """Text whatever the bytes are: those of a cell that are no UTF-8 are read as Latin-1."""
    try:
        return cells.cast(pa.string())
    except pa.ArrowInvalid:
        return texts_to_arrow([None if c is None else _decoded(c) for c in cells.to_pylist()])


def _decoded(cell: bytes) -> str:
    try:
        return cell.decode()
    except UnicodeDecodeError:
        return cell.decode("latin-1")


def _first_of(texts: pa.Array) -> str | None:
    """The first text that is there."""
    if texts.null_count == len(texts):
        return None
    found: str = texts[int(np.argmin(nulls_of(texts)))].as_py()
    return found


#: What makes the type of a column from its first cell; None where that one is not of it.
Rule = Callable[[str], PassedType | None]


def _decimals(first: str) -> PassedType | None:
    _, point, digits = first.partition(".")
    whole = 0 < len(digits) <= 15 and digits.isdigit()
    return PassedType(pa.float64(), "decimals", str(len(digits))) if point and whole else None


#: What is in a form of times, and what a cell has there.
_PARTS = {"YYYY": r"\d{4}", "MM": r"\d{2}", "DD": r"\d{2}", "hh": r"\d{2}", "mm": r"\d{2}"}
_PARTS |= {"ss": r"\d{2}"}


def _time(first: str) -> PassedType | None:
    """A time whose form all cells have: date and time of day, a fraction of any length."""
    if len(first) < 19 or not first[:4].isdigit() or first[10] not in "T ":
        return None
    zone = "Z" if first.endswith("Z") else ""
    fraction = first[19:].removesuffix("Z").removeprefix(".")
    unit = "s" if not fraction else ("ms", "us", "ns")[min(2, (len(fraction) - 1) // 3)]
    form = f"YYYY-MM-DD{first[10]}hh:mm:ss" + ("." + "f" * len(fraction) if fraction else "") + zone
    return PassedType(pa.timestamp(unit, tz="UTC" if zone else None), "time", form)


def _as(name: str, kind: pa.DataType, form: str = "") -> Rule:
    found = PassedType(kind, name, form)
    return lambda first: found


_WHOLE = {"int64": _as("int64", pa.int64()), "uint64": _as("uint64", pa.uint64())}
#: The rules in order. "shortest" and "repr" are numbers with as few digits as tell them apart; the
#: second writes whole ones with ".0".
RULES: dict[str, Rule] = {
    **_WHOLE,
    "decimals": _decimals,
    "shortest": _as("shortest", pa.float64()),
    "repr": _as("repr", pa.float64(), "at least one decimal"),
    "date": _as("date", pa.date32(), "YYYY-MM-DD"),
    "time": _time,
}
LITERAL_RULES: dict[str, Rule] = {**_WHOLE, "number": _as("number", pa.float64())}

#: A number that any reader has back digit by digit: 15 digits are distinguished.
_EXACT = r"^(?:0|-?[1-9][0-9]{0,14}|-?(?:0|[1-9][0-9]*)\.[0-9]+)$"
_EXACT_LENGTH = 16
#: This many last digits are distinguished by a float64, whatever their place.
_DISTINCT = 2**52


def _held(texts: pa.Array, wanted: PassedType) -> pa.Array | None:
    """Texts as a type; None where one of them would not be recovered. Numbers of JSON stay texts:
    their digits are written as they are."""
    try:
        if wanted.name in ("int64", "uint64", "date"):
            found = texts.cast(wanted.kind)
            return found if _same(found.cast(pa.string()), texts) else None
        if wanted.name == "time":
            pattern = wanted.form.replace(".", r"\.").replace("f", r"\d")
            for part, digits in _PARTS.items():
                pattern = pattern.replace(part, digits)
            return texts.cast(wanted.kind) if _all(texts, f"^{pattern}$") else None
        if wanted.name == "decimals":
            pattern = rf"^-?(?:0|[1-9][0-9]*)\.[0-9]{{{wanted.form}}}$"
            if not _all(texts, pattern):
                return None
            digits = pc.abs(pc.replace_substring(texts, ".", "").cast(pa.int64()))
            distinct = pc.all(pc.less(digits, number_scalar(_DISTINCT))).as_py() is not False
            return texts.cast(wanted.kind) if distinct else None
        numbers = texts.cast(pa.float64())
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        return None
    if pc.all(pc.is_finite(numbers)).as_py() is False:
        return None
    shortest = numbers.cast(pa.string())
    if wanted.name == "shortest":
        return numbers if _same(shortest, texts) else None
    as_repr = pointed(shortest)
    if wanted.name == "repr":
        return numbers if _same(as_repr, texts) else None
    exact = pc.and_(
        pc.less_equal(pc.binary_length(texts), number_scalar(_EXACT_LENGTH)),
        pc.match_substring_regex(texts, _EXACT),
    )
    kept = pc.or_(exact, pc.or_(pc.equal(shortest, texts), pc.equal(as_repr, texts)))
    # As a whole number, −0 loses its sign.
    kept = pc.and_(kept, pc.not_equal(texts, text_scalar("-0")))
    return texts if pc.all(kept).as_py() is not False else None


def pointed(shortest: pa.Array) -> pa.Array:
    """The texts of floats, whole ones with ".0" behind them."""
    bare = pc.match_substring_regex(shortest, "[.en]")
    longer = pc.binary_join_element_wise(shortest, text_scalar(".0"), text_scalar(""))
    return pc.if_else(bare, shortest, longer)


def _same(a: pa.Array, b: pa.Array) -> bool:
    return pc.all(pc.equal(a, b)).as_py() is not False


def _all(texts: pa.Array, pattern: str) -> bool:
    return pc.all(pc.match_substring_regex(texts, pattern)).as_py() is not False
