"""Writing a converted log as Parquet: values at full precision, units and title in the metadata;
columns that pass through get the type that their text shows."""

from __future__ import annotations

from collections.abc import Sequence
from typing import BinaryIO

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq

from ..core.bench.channel import Channel
from ..samples.cells import as_text, floats_of, name_text, texts_to_arrow, to_arrow, values_to_arrow
from ..samples.source import LogReader, RowBatch
from .conversion import FLAGS_COLUMN, Converted, Layout
from .summary import ConvertedColumn
from .texts import FlagTexts, uncertainty_texts

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
        self.types = {index: kind for index, kind in given.items() if index in pass_through}
        self._blank: set[int] = set()

    @property
    def named(self) -> dict[str, str]:
        """Each type by the name of its column."""
        names = self._reader.columns
        return {names[index]: str(self.types[index]) for index in self._passed}

    def settle(self, batch: RowBatch) -> None:
        """By the first batch, in order."""
        for index in self._passed:
            if index not in self.types:
                self.types[index] = self._shown(batch.columns[index])
                if self._reader.can_be_read_again and self._is_blank(batch.columns[index]):
                    self._blank.add(index)

    def of(self, batch: RowBatch) -> list[pa.Array]:
        """The columns of a batch. Raises `OtherTypeError`."""
        return [self._cast(batch, index) for index in self._passed]

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

    def _cast(self, batch: RowBatch, index: int) -> pa.Array:
        cells, kind = batch.columns[index], self.types[index]
        if index in self._blank and not self._is_blank(cells):
            shown = self._shown(cells)
            if shown != kind:
                name = self._reader.columns[index]
                raise OtherTypeError(index, name, shown, "", int(batch.lines[0]))
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
        name = self._reader.columns[index]
        raise OtherTypeError(index, name, wider, shown, int(batch.lines[row]))


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


#: Rows of one row group: a whole one is kept in memory.
GROUP_ROWS = 2**19


class ParquetWriter:
    """A result as Parquet. What has no value is null; flags are a dictionary column.

    Every value column has its `unit`, the bench's `title`, its `channel` and the `decimals` it is
    shown to in its metadata.
    """

    def __init__(
        self, layout: Layout, file: BinaryIO, given: dict[int, pa.DataType] | None = None
    ) -> None:
        self.layout = layout
        self._sink = pa.PythonFile(file, "w")
        self.pass_through = PassedTypes(layout.reader, layout.pass_through, given or {})
        self.flag_texts = FlagTexts([channel.name for channel in layout.channels], "", encode=str)
        self.uncertainties = [
            uncertainty_texts(channel, ".") if layout.uncertainty else None
            for channel in layout.channels
        ]
        added: list[str] = []
        for channel, uncertainties in zip(layout.channels, self.uncertainties, strict=True):
            added += [channel.output_column] + (
                [] if uncertainties is None else [uncertainties.column]
            )
        self.names = layout.names(added)
        self._schema: pa.Schema | None = None
        self._writer: pq.ParquetWriter | None = None
        self._waiting: list[pa.RecordBatch] = []
        self._rows = 0

    @property
    def types(self) -> dict[str, str]:
        """Types of the columns that pass through."""
        return self.pass_through.named

    def begin(self, first: Converted) -> None:
        """Settle the types of what passes through and what all batches share; open the file."""
        for uncertainties, column in zip(self.uncertainties, first.columns, strict=True):
            if uncertainties is not None:
                uncertainties.values(column)
        layout = self.layout
        self.pass_through.settle(first.batch.rows)
        kinds = [self.pass_through.types[index] for index in layout.pass_through]
        kept = [name_text(name) for name in layout.kept]
        fields = [pa.field(name, kind) for name, kind in zip(kept, kinds, strict=True)]
        for channel, uncertainties in zip(layout.channels, self.uncertainties, strict=True):
            about = self._about(channel)
            kind = _LABELS if channel.ruler.label(0.0) is not None else pa.float64()
            fields.append(pa.field(channel.output_column, kind, metadata=about))
            if uncertainties is not None:
                fields.append(pa.field(uncertainties.column, pa.float64(), metadata=about))
        fields.append(pa.field(FLAGS_COLUMN, _LABELS))
        self._schema = pa.schema(fields, metadata={"title": layout.title})
        # Times and measured values differ from row to row: a dictionary of them would be given up.
        once = {n for n, k in zip(kept, kinds, strict=True) if pa.types.is_floating(k)}
        # A row group spans a day and so all values: their ends would help nobody to find one.
        self._writer = pq.ParquetWriter(
            self._sink,
            self._schema,
            use_dictionary=[f.name for f in fields if f.name not in once],
            write_statistics=kept,
        )

    def _about(self, channel: Channel) -> dict[str, str]:
        about = {"unit": channel.unit or "", "title": self.layout.title, "channel": channel.name}
        return about | ({} if channel.decimals is None else {"decimals": str(channel.decimals)})

    def encoded(self, converted: Converted) -> pa.RecordBatch:
        """A batch as arrays."""
        columns = self.pass_through.of(converted.batch.rows)
        for channel, uncertainties, column in zip(
            self.layout.channels, self.uncertainties, converted.columns, strict=True
        ):
            if channel.ruler.label(0.0) is not None:
                columns.append(labelled(channel, column))
            else:
                columns.append(values_to_arrow(column.values, column.complete))
            if uncertainties is not None:
                columns.append(values_to_arrow(uncertainties.values(column), False))
        columns.append(self.flag_texts.encoded(converted.flags()))
        return pa.RecordBatch.from_arrays(columns, schema=self._schema)

    def write(self, encoded: pa.RecordBatch) -> None:
        """Append a batch; a row group is written when it is whole."""
        self._waiting.append(encoded)
        self._rows += encoded.num_rows
        if self._rows >= GROUP_ROWS:
            self._flush()

    def _flush(self) -> None:
        assert self._writer is not None
        if self._waiting:
            self._writer.write_table(pa.Table.from_batches(self._waiting), 2**30)
        self._waiting, self._rows = [], 0

    def finish(self) -> None:
        """Write what waits, and the end of the file."""
        self._flush()
        assert self._writer is not None
        self._writer.close()
        self._sink.flush()

    def close(self) -> None:
        """Let go. PyArrow's writer would write the file's end when it is deleted."""
        if self._writer is not None:
            self._writer.is_open = False


_LABELS = pa.dictionary(pa.int32(), pa.string())


def labelled(channel: Channel, column: ConvertedColumn) -> pa.DictionaryArray:
    """Zones by their labels; null where there is none."""
    kinds, index = np.unique(column.values, return_inverse=True)
    labels = [None if np.isnan(kind) else channel.ruler.label(kind) for kind in kinds]
    known = texts_to_arrow(labels).dictionary_encode()
    return pa.DictionaryArray.from_arrays(
        known.indices.take(to_arrow(index.astype(np.int32))), known.dictionary
    )
