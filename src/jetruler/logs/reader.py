"""Reading a CSV log in batches: every row kept, every cell text, every line number known.

The usual block goes through PyArrow. One that PyArrow cannot take whole (rows of the wrong
length, quoted line ends, bytes that are no text) goes through the csv module line by line.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.csv as pacsv

from .ahead import ahead
from .source import LogError, LogFormat, Source, find_delimiter, split_line

Lines = npt.NDArray[np.int64]

#: A quoted row that is still open after this many bytes is taken for a stray quote.
LONGEST_ROW = 2**20


@dataclass(frozen=True)
class Batch:
    """Some rows of a log: a text array a column (numbers where that was asked and could be).

    lines: line number of each row. torn: rows that had too few or too many fields.
    quoted: whether a cell may need quotes again when it is written.
    """

    columns: list[pa.Array]
    lines: Lines
    torn: Lines
    quoted: bool

    @property
    def rows(self) -> int:
        """How many rows."""
        return self.lines.size


@dataclass(frozen=True)
class _Cleaned:
    """A block without its comment and blank lines, which are counted."""

    text: bytes
    lines: Lines
    comments: int
    blank: int


class LogReader:
    """A CSV log: its columns, then its rows batch by batch in constant memory.

    Raises `LogError` for a log that is empty, damaged or no CSV.
    """

    def __init__(self, source: Source, form: LogFormat | None = None) -> None:
        form = form or LogFormat()
        self.source = source
        self.form = form
        self.comments = 0
        self.blank_lines = 0
        self._comment = form.comment.encode()
        self._blocks = self.source.blocks()
        self._line = 1
        self._types: dict[int, pa.DataType] = {}
        first, self._held = self._first_line()
        self.crlf = first.endswith(b"\r\n")
        self.delimiter = form.delimiter or find_delimiter(first, form.decimal)
        names = split_line(first, self.delimiter)
        self.columns = names if form.header else [str(i + 1) for i in range(len(names))]

    @property
    def name(self) -> str:
        """What messages call this log."""
        return self.source.name

    def position(self, column: str | int) -> int:
        """Where a column stands, by its name or its number from 1. Raises `LogError`."""
        names = [name.strip() for name in self.columns]
        if isinstance(column, int):
            if column <= len(names):
                return column - 1
            raise LogError(f"{self.name}: there is no column {column}; it has {len(names)}")
        if names.count(column) > 1:
            raise LogError(f"{self.name}: {names.count(column)} columns are named {column!r}")
        if column not in names:
            has = ", ".join(names[:30]) + (", …" if len(names) > 30 else "")
            raise LogError(f"{self.name}: there is no column {column!r}; it has: {has}")
        return names.index(column)

    def batches(self, integers: Iterable[int] = ()) -> Iterator[Batch]:
        """The rows, some ten thousands at a time.

        integers: positions of columns that come as int64 (empty cells as null) where a whole
        batch of them reads so, else as text like the others.
        """
        self._types = dict.fromkeys(integers, pa.int64())
        yield from ahead(self._batches())

    def _batches(self) -> Iterator[Batch]:
        carried = b""
        for block, last in self._all_blocks():
            batch, carried = self._batch(carried + block, last)
            if batch.rows:
                yield batch

    def ask(self, integers: Iterable[int], floats: Iterable[int] = ()) -> None:
        """From one of the next batches on, columns come as int32 or float64 where they can."""
        self._types = dict.fromkeys(floats, pa.float64()) | dict.fromkeys(integers, pa.int32())

    def _first_line(self) -> tuple[bytes, tuple[bytes, bool]]:
        """The header (or first row), and the rest of the block it came in."""
        for block, last in self._blocks:
            start = 0
            while start < len(block):
                end = block.find(b"\n", start) + 1 or len(block)
                line = block[start:end]
                if line.strip() and not line.startswith(self._comment):
                    if self.form.header:
                        self._line += 1
                        start = end
                    return line, (block[start:], last)
                self.comments += bool(line.strip())
                self.blank_lines += not line.strip()
                self._line += 1
                start = end
        raise LogError(f"{self.name}: the log is empty")

    def _all_blocks(self) -> Iterator[tuple[bytes, bool]]:
        yield self._held
        self._held = (b"", True)
        yield from self._blocks

    def _batch(self, block: bytes, last: bool) -> tuple[Batch, bytes]:
        """The rows of a block, and the bytes of an unfinished quoted row to carry over."""
        if last and block and not block.endswith(b"\n"):
            block += b"\n"
        ends = block.count(b"\n")
        first, self._line = self._line, self._line + ends
        quoted = b'"' in block
        none_torn = np.empty(0, np.int64)
        if self._comment not in block:
            columns = self._fast(block, ends)
            if columns is not None:
                return Batch(columns, np.arange(first, first + ends), none_torn, quoted), b""
        cleaned = self._cleaned(block, first)
        if cleaned is not None:
            columns = self._fast(cleaned.text, cleaned.lines.size)
            if columns is not None:
                self.comments += cleaned.comments
                self.blank_lines += cleaned.blank
                return Batch(columns, cleaned.lines, none_torn, quoted), b""
        batch, carried = self._careful(block, first, last)
        self._line -= carried.count(b"\n")
        return batch, carried

    def _left_out(self, line: bytes) -> tuple[bool, bool]:
        """Whether a line is a comment, or blank. In a log of one column an empty line is a row."""
        blank = len(self.columns) > 1 and not line.strip(b"\r\n")
        return line.startswith(self._comment), blank

    def _cleaned(self, block: bytes, first: int) -> _Cleaned | None:
        """Without comment and blank lines; None where a quoted cell may hold line ends."""
        kept, numbers, comments, blank = [], [], 0, 0
        for number, line in enumerate(io.BytesIO(block), first):
            if b'"' in line and line.count(b'"') % 2:
                return None
            is_comment, is_blank = self._left_out(line)
            comments += is_comment
            blank += is_blank
            if not (is_comment or is_blank):
                kept.append(line)
                numbers.append(number)
        return _Cleaned(b"".join(kept), np.array(numbers, dtype=np.int64), comments, blank)

    def _fast(self, block: bytes, rows: int) -> list[pa.Array] | None:
        """The columns as PyArrow reads them; None if it found other rows than there are lines."""
        names = [str(i) for i in range(len(self.columns))]
        if not block:
            return [pa.array([], pa.string())] * len(names)
        if b'"' in block and _ends_in_quotes(block):
            return None
        for asked in (self._types, {}) if self._types else ({},):
            types = {name: asked.get(i, pa.string()) for i, name in enumerate(names)}
            try:
                table = pacsv.read_csv(
                    pa.BufferReader(block),
                    read_options=pacsv.ReadOptions(column_names=names, block_size=2**20),
                    parse_options=pacsv.ParseOptions(
                        delimiter=self.delimiter, ignore_empty_lines=len(names) > 1
                    ),
                    convert_options=pacsv.ConvertOptions(
                        column_types=types, strings_can_be_null=False, null_values=[""]
                    ),
                )
            except pa.ArrowInvalid:
                continue
            if table.num_rows != rows:
                return None
            return [column.combine_chunks() for column in table.columns]
        return None

    def _careful(self, block: bytes, first: int, last: bool) -> tuple[Batch, bytes]:
        """Row by row: short rows are filled up, long ones cut, both are reported as torn."""
        text = block.decode("utf-8", "surrogateescape")
        texts = [line + "\n" for line in text.removesuffix("\n").split("\n")]
        width = len(self.columns)
        rows: list[list[str]] = []
        numbers: list[int] = []
        torn: list[int] = []
        for start, fields in self._rows(texts, last):
            if fields is None:
                return self._found(rows, numbers, torn), _bytes("".join(texts[start:]))
            if len(fields) != width:
                torn.append(len(rows))
                fields = (fields + [""] * width)[:width]
            rows.append(fields)
            numbers.append(first + start)
        return self._found(rows, numbers, torn), b""

    def _found(self, rows: list[list[str]], numbers: list[int], torn: list[int]) -> Batch:
        columns = [
            pa.array([_bytes(row[i]) for row in rows], pa.binary())
            for i in range(len(self.columns))
        ]
        return Batch(columns, np.array(numbers, np.int64), np.array(torn, np.int64), True)

    def _rows(self, texts: list[str], last: bool) -> Iterator[tuple[int, list[str] | None]]:
        """Each row: the line it starts at and its fields; None if it goes on in the next block."""
        start = 0
        while start < len(texts):
            is_comment, is_blank = self._left_out(_bytes(texts[start]))
            if is_comment or is_blank:
                self.comments += is_comment
                self.blank_lines += is_blank
                start += 1
                continue
            fields, used = self._row(texts, start)
            row = "".join(texts[start : start + used])
            open_quote = row.count('"') % 2 == 1
            reaches_end = start + used == len(texts)
            if open_quote and reaches_end and not last and len(row) < LONGEST_ROW:
                yield start, None
                return
            if used > 1 and (open_quote or len(fields) != len(self.columns)):
                # A stray quote, not a quoted line end.
                fields, used = self._split(texts[start]), 1
            yield start, fields
            start += used

    def _row(self, texts: list[str], start: int) -> tuple[list[str], int]:
        """The fields of the row that starts at a line, and how many lines it takes."""
        end = min(start + 1000, len(texts))
        rows = csv.reader((texts[i] for i in range(start, end)), delimiter=self.delimiter)
        try:
            fields = next(rows)
        except csv.Error:
            return self._split(texts[start]), 1
        return fields or [""], rows.line_num

    def _split(self, line: str) -> list[str]:
        return line.rstrip("\r\n").split(self.delimiter)


def _ends_in_quotes(block: bytes) -> bool:
    """Whether a quoted cell may go on in the next block."""
    last_line = block[block.rfind(b"\n", 0, len(block) - 1) + 1 :]
    return last_line.count(b'"') % 2 == 1 or block.count(b'"') % 2 == 1


def _bytes(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")
