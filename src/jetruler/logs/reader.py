"""Reading a CSV log in batches: every row kept, every cell text, every line number known.

The usual block goes through PyArrow. One that PyArrow cannot take whole (rows of the wrong
length, quoted line ends, bytes that are no text) goes through the csv module line by line.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from dataclasses import dataclass
from os import PathLike

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.csv as pacsv

from .source import LogError, LogFormat, Source, find_delimiter, split_line

Lines = npt.NDArray[np.int64]

#: A quoted row that is still open after this many bytes is taken for a stray quote.
LONGEST_ROW = 2**20


@dataclass(frozen=True)
class Batch:
    """Some rows of a log: a text array a column.

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


class LogReader:
    """A CSV log: its columns, then its rows batch by batch in constant memory.

    Raises `LogError` for a log that is missing, empty, damaged or no CSV.
    """

    def __init__(self, path: str | PathLike[str], form: LogFormat | None = None) -> None:
        form = form or LogFormat()
        self.source = Source(path)
        self.form = form
        self.comments = 0
        self.blank_lines = 0
        self._comment = form.comment.encode()
        self._blocks = self.source.blocks()
        self._line = 1
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

    def batches(self) -> Iterator[Batch]:
        """The rows, some ten thousands at a time."""
        carried = b""
        for block, last in self._all_blocks():
            batch, carried = self._batch(carried + block, last)
            if batch.rows:
                yield batch

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
        lines = np.arange(first, first + ends)
        columns = None if self._comment in block else self._fast(block, ends)
        if columns is None:
            block, lines = self._cleaned(block, first)
            columns = self._fast(block, lines.size)
        quoted = b'"' in block
        if columns is not None:
            return Batch(columns, lines, np.empty(0, np.int64), quoted), b""
        batch, carried = self._careful(block, lines, last)
        self._line -= carried.count(b"\n")
        return batch, carried

    def _cleaned(self, block: bytes, first: int) -> tuple[bytes, Lines]:
        """Without comment and blank lines, which are counted; and the number of each line."""
        empty_rows = len(self.columns) == 1  # there, an empty line is an empty cell
        kept, numbers = [], []
        for number, line in enumerate(io.BytesIO(block), first):
            if line.startswith(self._comment):
                self.comments += 1
            elif not empty_rows and not line.strip(b"\r\n"):
                self.blank_lines += 1
            else:
                kept.append(line)
                numbers.append(number)
        return b"".join(kept), np.array(numbers, dtype=np.int64)

    def _fast(self, block: bytes, rows: int) -> list[pa.Array] | None:
        """The columns as PyArrow reads them; None if it found other rows than there are lines."""
        names = [str(i) for i in range(len(self.columns))]
        if not block:
            return [pa.array([], pa.string())] * len(names)
        try:
            table = pacsv.read_csv(
                pa.BufferReader(block),
                read_options=pacsv.ReadOptions(column_names=names, block_size=2**20),
                parse_options=pacsv.ParseOptions(
                    delimiter=self.delimiter, ignore_empty_lines=len(names) > 1
                ),
                convert_options=pacsv.ConvertOptions(
                    column_types=dict.fromkeys(names, pa.string()), strings_can_be_null=False
                ),
            )
        except pa.ArrowInvalid:
            return None
        if table.num_rows != rows:
            return None
        return [column.combine_chunks() for column in table.columns]

    def _careful(self, block: bytes, lines: Lines, last: bool) -> tuple[Batch, bytes]:
        """Row by row: short rows are filled up, long ones cut, both are reported as torn."""
        texts = io.StringIO(block.decode("utf-8", "surrogateescape"), newline="").readlines()
        width = len(self.columns)
        rows: list[list[str]] = []
        numbers: list[int] = []
        torn: list[int] = []
        start = 0
        carried = b""
        while start < len(texts):
            fields, used = self._row(texts, start)
            open_quote = "".join(texts[start : start + used]).count('"') % 2 == 1
            if open_quote and start + used == len(texts) and not last:
                tail = _bytes("".join(texts[start:]))
                if len(tail) < LONGEST_ROW:
                    carried = tail
                    break
            if used > 1 and (open_quote or len(fields) != width):
                # A stray quote, not a quoted line end.
                fields, used = texts[start].rstrip("\r\n").split(self.delimiter), 1
            if len(fields) != width:
                torn.append(len(rows))
                fields = (fields + [""] * width)[:width]
            rows.append(fields)
            numbers.append(int(lines[start]))
            start += used
        columns = [pa.array([_bytes(row[i]) for row in rows], pa.binary()) for i in range(width)]
        found = Batch(columns, np.array(numbers, np.int64), np.array(torn, np.int64), True)
        return found, carried

    def _row(self, texts: list[str], start: int) -> tuple[list[str], int]:
        """The fields of the row that starts at a line, and how many lines it takes."""
        end = min(start + 1000, len(texts))
        rows = csv.reader((texts[i] for i in range(start, end)), delimiter=self.delimiter)
        try:
            fields = next(rows)
        except csv.Error:
            return texts[start].rstrip("\r\n").split(self.delimiter), 1
        return fields or [""], rows.line_num


def _bytes(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")
