"""Writing a converted log as text, CSV, JSON Lines or Parquet (values at full precision, units and
title in the metadata), to where results go: a file that appears whole or not at all, or standard
output."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Callable
from typing import Any, BinaryIO

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pacsv
import pyarrow.parquet as pq

from ..core.bench.channel import Channel
from ..samples.cells import (
    as_text,
    name_text,
    no_value,
    quote,
    text_scalar,
    texts_to_arrow,
    to_arrow,
    values_to_arrow,
)
from ..samples.source import RowBatch
from .conversion import FLAGS_COLUMN, Converted, Layout
from .passed_types import Given, PassedTypes, pointed, valid_text
from .summary import ConvertedColumn
from .texts import CellTexts, DecidedTexts, FlagTexts, uncertainty_texts

Write = Callable[[Any], object]


class CsvWriter:
    """A result as CSV, written as a CSV log is: same delimiter, decimal mark and line ends, header
    or none."""

    def __init__(self, layout: Layout, write: Write) -> None:
        self.layout, self._write = layout, write
        reader = layout.reader
        self.decimal, self.delimiter = reader.form.decimal, reader.delimiter
        self.eol = b"\r\n" if reader.crlf else b"\n"
        self.texts = []
        for channel in layout.channels:
            uncertainties = uncertainty_texts(channel, self.decimal) if layout.uncertainty else None
            self.texts.append(CellTexts(channel, self.decimal, self.delimiter, uncertainties))
        self.names = layout.names(name for texts in self.texts for name in texts.names)
        self.decided = DecidedTexts(layout.bench, self.decimal)
        names = [channel.name for channel in layout.channels]
        self.flag_texts = FlagTexts(names, self.delimiter)
        # PyArrow's writer, which is faster, ends lines with LF and lets no quotes pass.
        self._joins = (
            reader.crlf or self.delimiter == ";" or any(texts.quoted for texts in self.texts)
        )

    @property
    def types(self) -> dict[str, str]:
        """All is text."""
        return {}

    def begin(self, first: Converted) -> None:
        """Write the header, and the texts that all batches fraction."""
        for texts, column in zip(self.texts, first.columns, strict=True):
            texts.of(column)
        if self.layout.reader.has_header:
            line = io.StringIO()
            csv.writer(line, delimiter=self.delimiter, lineterminator="").writerow(self.names)
            self._write(line.getvalue().encode("utf-8", "surrogateescape") + self.eol)

    def encoded(self, converted: Converted) -> pa.Buffer:
        """A batch as bytes of the result."""
        batch = converted.batch.rows
        columns = [as_text(batch.columns[i]) for i in self.layout.pass_through]
        joins = self._joins or batch.quoted
        if batch.quoted or not self.layout.reader.of_text:
            columns = [quote(column, self.delimiter) for column in columns]
        for texts, column in zip(self.texts, converted.columns, strict=True):
            columns += texts.of(column)
        if self.layout.commands:
            columns += self.decided.of(converted.decided)
        columns.append(self.flag_texts.gather(converted.flags()))
        found = None if joins else written(columns, self.delimiter)
        return found or _joined(columns, self.delimiter.encode(), self.eol)

    def write(self, encoded: pa.Buffer) -> None:
        """Append a batch."""
        self._write(encoded)

    def finish(self) -> None:
        """Nothing is left to be written."""

    def close(self) -> None:
        """Nothing is held."""


class JsonWriter:
    """A result as JSON Lines: numbers as numbers, null for what has no value."""

    def __init__(self, layout: Layout, write: Write, given: dict[int, Given] | None = None) -> None:
        self.layout, self._write = layout, write
        self.pass_through = PassedTypes(
            layout.reader, layout.pass_through, given or {}, literal=True
        )
        self.texts = []
        for channel in layout.channels:
            encode = _text_field if channel.ruler.label(0.0) is not None else _number_field
            uncertainties = uncertainty_texts(channel, ".", encode) if layout.uncertainty else None
            self.texts.append(CellTexts(channel, ".", ", ", uncertainties, encode))
        layout.names(name for texts in self.texts for name in texts.names)
        self.kept = [json.dumps(name_text(name), ensure_ascii=False) for name in layout.kept]
        self.decided = DecidedTexts(layout.bench, ".", _number_field)
        channels = [channel.name for channel in layout.channels]
        self.flag_texts = FlagTexts(
            channels, "", b"}", lambda t: _text_field(FLAGS_COLUMN, t, '""')
        )

    @property
    def types(self) -> dict[str, str]:
        """Types of the columns that pass through."""
        return self.pass_through.named

    def begin(self, first: Converted) -> None:
        """Settle what passes through, and write the texts that all batches fraction."""
        for texts, column in zip(self.texts, first.columns, strict=True):
            texts.of(column)
        self.pass_through.settle(first.batch.rows)

    def encoded(self, converted: Converted) -> pa.Buffer | None:
        """A batch as bytes of the result; None where the log is read again."""
        passed = self._passed(converted.batch.rows)
        if passed is None:
            return None
        columns = [
            pc.binary_join_element_wise(text_scalar(f"{name}: "), cells, text_scalar(""))
            for name, cells in zip(self.kept, passed, strict=True)
        ]
        for texts, column in zip(self.texts, converted.columns, strict=True):
            columns += texts.of(column)
        if self.layout.commands:
            columns += self.decided.of(converted.decided)
        columns[0] = pc.binary_join_element_wise(text_scalar("{"), columns[0], text_scalar(""))
        columns.append(self.flag_texts.gather(converted.flags()))
        return _joined(columns, b", ", b"\n")

    def _passed(self, batch: RowBatch) -> list[pa.Array] | None:
        """What passes through, as JSON."""
        passed = self.pass_through
        types = [passed.type_of(index) for index in self.layout.pass_through]
        found = passed.of(batch)
        if found is None:
            return None
        return [
            cells.fill_null(text_scalar("null")) if kind.name == "number" else _json_cells(cells)
            for kind, cells in zip(types, found, strict=True)
        ]

    def write(self, encoded: pa.Buffer | None) -> None:
        """Append a batch."""
        if encoded is not None:
            self._write(encoded)

    def finish(self) -> None:
        """Nothing is left to be written. Raises `OtherTypeError`."""
        self.pass_through.finish()

    def close(self) -> None:
        """Nothing is held."""


def written(columns: list[pa.Array], delimiter: str) -> pa.Buffer | None:
    """The rows by PyArrow's writer; None where a cell would need quotes."""
    table = pa.table(columns, names=[str(i) for i in range(len(columns))])
    options = pacsv.WriteOptions(
        include_header=False, delimiter=delimiter, quoting_style="none", batch_size=2**16
    )
    out = pa.BufferOutputStream()
    try:
        pacsv.write_csv(table, out, options)
    except pa.ArrowInvalid:
        return None
    return out.getvalue()


def _joined(columns: list[pa.Array], delimiter: bytes, eol: bytes) -> pa.Buffer:
    """The rows joined cell by cell: the texts are one behind the other, as the file's bytes."""
    cells = [column.cast(pa.binary()) for column in columns]
    cells[-1] = pc.binary_join_element_wise(cells[-1], text_scalar(eol), text_scalar(b""))
    return pc.binary_join_element_wise(*cells, text_scalar(delimiter)).buffers()[2]


def _number_field(name: str, text: str) -> str:
    finite = text and text not in ("inf", "-inf")
    return f"{json.dumps(name, ensure_ascii=False)}: {text if finite else 'null'}"


def _text_field(name: str, text: str, empty: str = "null") -> str:
    shown = json.dumps(text, ensure_ascii=False) if text else empty
    return f"{json.dumps(name, ensure_ascii=False)}: {shown}"


def _json_cells(cells: pa.Array) -> pa.Array:
    """Cells as JSON: numbers as they are, the rest in quotes, null for what is not there."""
    kind = cells.type
    if pa.types.is_floating(kind):
        cells = pc.if_else(pc.is_finite(cells), cells, no_value(kind))
        return pointed(cells.cast(pa.string())).fill_null(text_scalar("null"))
    if pa.types.is_integer(kind) or pa.types.is_boolean(kind):
        return cells.cast(pa.string()).fill_null(text_scalar("null"))
    encoded = valid_text(cells).dictionary_encode()
    texts = [json.dumps(text, ensure_ascii=False) for text in encoded.dictionary.to_pylist()]
    return texts_to_arrow(texts).take(encoded.indices).fill_null(text_scalar("null"))


#: Rows of one row group: a whole one is kept in memory.
GROUP_ROWS = 2**19


class ParquetWriter:
    """A result as Parquet. What has no value is null; flags are a dictionary column.

    Every value column has its `unit`, the bench's `title`, its `channel` and the `decimals` it is
    shown to in its metadata.
    """

    def __init__(
        self, layout: Layout, file: BinaryIO, given: dict[int, Given] | None = None
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
        passed = [self.pass_through.type_of(index) for index in layout.pass_through]
        kinds, kept = [p.kind for p in passed], [name_text(name) for name in layout.kept]
        fields = [
            pa.field(name, p.kind, metadata=p.metadata)
            for name, p in zip(kept, passed, strict=True)
        ]
        for channel, uncertainties in zip(layout.channels, self.uncertainties, strict=True):
            about = self._about(channel)
            kind = _LABELS if channel.ruler.label(0.0) is not None else pa.float64()
            fields.append(pa.field(channel.output_column, kind, metadata=about))
            if uncertainties is not None:
                fields.append(pa.field(uncertainties.column, pa.float64(), metadata=about))
        if layout.commands:
            fields += [pa.field(name, pa.bool_()) for name in layout.bench.trips]
            fields += [
                pa.field(drive.output_column, pa.float64(), metadata={"unit": drive.unit})
                for drive in layout.bench.drives.values()
            ]
        fields.append(pa.field(FLAGS_COLUMN, _LABELS))
        self._schema = pa.schema(fields, metadata={"title": layout.bench.title})
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
        about = {
            "unit": channel.unit or "",
            "title": self.layout.bench.title,
            "channel": channel.name,
        }
        return about | ({} if channel.decimals is None else {"decimals": str(channel.decimals)})

    def encoded(self, converted: Converted) -> pa.RecordBatch | None:
        """A batch as arrays; None where the log is read again."""
        columns = self.pass_through.of(converted.batch.rows)
        if columns is None:
            return None
        for channel, uncertainties, column in zip(
            self.layout.channels, self.uncertainties, converted.columns, strict=True
        ):
            if channel.ruler.label(0.0) is not None:
                columns.append(labelled(channel, column))
            else:
                columns.append(values_to_arrow(column.values, column.complete))
            if uncertainties is not None:
                columns.append(values_to_arrow(uncertainties.values(column), False))
        if self.layout.commands and converted.decided is not None:
            columns += [to_arrow(on) for on in converted.decided.trips.values()]
            columns += [to_arrow(values) for values in converted.decided.drives.values()]
        columns.append(self.flag_texts.encoded(converted.flags()))
        return pa.RecordBatch.from_arrays(columns, schema=self._schema)

    def write(self, encoded: pa.RecordBatch | None) -> None:
        """Append a batch; a row group is written when it is whole."""
        if encoded is None:
            return
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
        """Write what waits, and the end of the file. Raises `OtherTypeError`."""
        self.pass_through.finish()
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
