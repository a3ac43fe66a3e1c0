"""Writing a converted log as text, CSV or JSON Lines, to where results go: a file that appears
whole or not at all, or standard output."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Callable
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pacsv

from ..samples.cells import as_text, name_text, quote, text_scalar, texts_to_arrow
from ..samples.source import RowBatch
from .conversion import FLAGS_COLUMN, Converted, Layout
from .passed_types import Given, PassedTypes, pointed, valid_text
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
            pc.binary_join_element_wise(pa.scalar(f"{name}: "), cells, "")
            for name, cells in zip(self.kept, passed, strict=True)
        ]
        for texts, column in zip(self.texts, converted.columns, strict=True):
            columns += texts.of(column)
        if self.layout.commands:
            columns += self.decided.of(converted.decided)
        columns[0] = pc.binary_join_element_wise(pa.scalar("{"), columns[0], "")
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
            cells.fill_null("null") if kind.name == "number" else _json_cells(cells)
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
        cells = pc.if_else(pc.is_finite(cells), cells, pa.scalar(None, kind))
        return pointed(cells.cast(pa.string())).fill_null("null")
    if pa.types.is_integer(kind) or pa.types.is_boolean(kind):
        return cells.cast(pa.string()).fill_null("null")
    encoded = valid_text(cells).dictionary_encode()
    texts = [json.dumps(text, ensure_ascii=False) for text in encoded.dictionary.to_pylist()]
    return texts_to_arrow(texts).take(encoded.indices).fill_null("null")
