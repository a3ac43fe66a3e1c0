"""Columns that pass through to a typed result: text gets the type that it shows."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..samples.arrow import floats_of, texts_to_arrow
from ..samples.cells import as_text
from ..samples.reader import LogReader, RowBatch

#: From the narrowest to the widest; whatever there is can be text.
TYPES = (pa.int64(), pa.float64(), pa.timestamp("us"), pa.timestamp("us", tz="UTC"), pa.string())

#: A number in this form is a name rather than a number.
_LEADING_ZERO = r"^[+-]?0[0-9]"


class OtherTypeError(Exception):
    """A column that has another type from some row on."""

    def __init__(self, column: int, name: str, kind: pa.DataType, found: str, line: int) -> None:
        super().__init__(name)
        self.column, self.name, self.kind = column, name, kind
        self.found, self.line = found, line


class PassedTypes:
    """The type of each column that passes through, settled by the first batch, or given.

    given: types by position, of columns whose type turned out to be wider.
    """

    def __init__(
        self, reader: LogReader, pass_through: Sequence[int], given: dict[int, pa.DataType]
    ) -> None:
        self._reader, self._passed = reader, pass_through
        self.types = {place: kind for place, kind in given.items() if place in pass_through}
        self._blank: set[int] = set()

    @property
    def named(self) -> dict[str, str]:
        """Each type by the name of its column."""
        names = self._reader.columns
        return {names[place]: str(self.types[place]) for place in self._passed}

    def settle(self, batch: RowBatch) -> None:
        """By the first batch, in order."""
        for place in self._passed:
            if place not in self.types:
                self.types[place] = self._shown(batch.columns[place])
                if self._reader.can_be_read_again and self._is_blank(batch.columns[place]):
                    self._blank.add(place)

    def of(self, batch: RowBatch) -> list[pa.Array]:
        """The columns of a batch. Raises `OtherTypeError`."""
        return [self._cast(batch, place) for place in self._passed]

    def _shown(self, cells: pa.Array) -> pa.DataType:
        """The narrowest type for all cells; of typed cells, their own."""
        if pa.types.is_null(cells.type) or pa.types.is_nested(cells.type):
            return pa.string()
        if not _is_text(cells) or not self._reader.of_text:
            return cells.type
        texts = self._cells(cells)
        if texts.null_count == len(texts):
            return pa.string()
        return next(kind for kind in TYPES if _fits(texts, kind) is not None)

    def _is_blank(self, cells: pa.Array) -> bool:
        """Whether no cell shows a type."""
        return bool(pa.types.is_null(cells.type)) or self._cells(cells).null_count == len(cells)

    def _cells(self, cells: pa.Array) -> pa.Array:
        """Text cells, the empty ones null, numbers with a decimal point."""
        if not _is_text(cells):
            return cells
        texts = valid_text(cells)
        texts = pc.if_else(pc.equal(texts, ""), pa.scalar(None, pa.string()), texts)
        if self._reader.form.decimal == ",":
            commas = pc.match_substring_regex(texts, r"^[+-]?[0-9]*,[0-9]+([eE][+-]?[0-9]+)?$")
            texts = pc.if_else(commas, pc.replace_substring(texts, ",", "."), texts)
        return texts

    def _cast(self, batch: RowBatch, place: int) -> pa.Array:
        cells, kind = batch.columns[place], self.types[place]
        if place in self._blank and not self._is_blank(cells):
            shown = self._shown(cells)
            if shown != kind:
                name = self._reader.columns[place]
                raise OtherTypeError(place, name, shown, "", int(batch.lines[0]))
        if cells.type == kind and not self._reader.of_text:
            return cells
        if pa.types.is_string(kind):
            texts = valid_text(as_text(cells))
            return pc.if_else(pc.equal(texts, ""), pa.scalar(None, pa.string()), texts)
        texts = self._cells(cells)
        found = _fits(texts, kind)
        if found is not None:
            return found
        wider = next((k for k in TYPES[1:] if _fits(texts, k) is not None), pa.string())
        if not (kind == pa.int64() and wider == pa.float64()):
            wider = pa.string()
        row = next(i for i in range(len(texts)) if _fits(texts.slice(i, 1), kind) is None)
        shown = as_text(texts.slice(row, 1))[0].as_py()
        name = self._reader.columns[place]
        raise OtherTypeError(place, name, wider, shown, int(batch.lines[row]))


def _is_text(cells: pa.Array) -> bool:
    return bool(pa.types.is_string(cells.type) or pa.types.is_binary(cells.type))


def valid_text(cells: pa.Array) -> pa.Array:
    """Text whatever the bytes are; those that are none become the sign for it."""
    try:
        return cells.cast(pa.string())
    except pa.ArrowInvalid:
        texts = [None if c is None else c.decode("utf-8", "replace") for c in cells.to_pylist()]
        return texts_to_arrow(texts)


def _fits(cells: pa.Array, kind: pa.DataType) -> pa.Array | None:
    """The cells as a type; None where one is not of it, or would be another number as one."""
    if not _is_text(cells):
        try:
            return cells.cast(kind)
        except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
            return None
    numeric = pa.types.is_integer(kind) or pa.types.is_floating(kind)
    if numeric and pc.any(pc.match_substring_regex(cells, _LEADING_ZERO)).as_py():
        return None
    try:
        found = cells.cast(kind)
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        return None
    if pa.types.is_floating(kind) and np.isinf(floats_of(found)).any():
        return None
    return found
