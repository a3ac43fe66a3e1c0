"""Reading a CSV log in batches: every row kept, every cell text, every line number known.

The usual block goes through PyArrow. One that PyArrow cannot take whole (rows of the wrong
length, quoted line ends, bytes that are no text) goes through the csv module line by line.
"""

from __future__ import annotations

import io
import re
from collections.abc import Iterable, Iterator, Sequence

import numpy as np
import pyarrow as pa
import pyarrow.csv as pacsv

from ..ahead import Workers
from ..cells import read_cell
from ..reader import NONE_TORN, RowBatch
from ..source import (
    LogError,
    LogFormat,
    LogSource,
    find_delimiter,
    no_header,
    split_line,
)
from .csv_rows import RowByRow
from .text_log import Read, TextReader

LINE_END = ord("\n")
#: A column's name is shorter than this.
LONGEST_NAME = 2**17


#: A date, a time of day, or both.
_WHEN = re.compile(r"\d{4}-\d\d-\d\d([T ]\S+)?\Z|\d{1,2}:\d\d(:\d\d)?\S*\Z")


def is_data(cells: Sequence[str], decimal: str) -> bool:
    """Whether a first line is data: numbers and times are no names."""
    kinds = [read_cell(cell.encode("utf-8", "surrogateescape"), decimal) for cell in cells]
    numbers = sum(not isinstance(kind, str) for kind in kinds)
    times = sum(_WHEN.match(cell.strip()) is not None for cell in cells)
    empty = sum(not cell.strip() for cell in cells)
    return numbers > 0 and numbers + times + empty == len(cells)


class CsvReader(TextReader):
    """A CSV log, plain or packed."""

    of_text = True

    def __init__(
        self, source: LogSource, form: LogFormat | None = None, block_bytes: int | None = None
    ) -> None:
        form = form or LogFormat()
        super().__init__(source, form, block_bytes)
        self._comment = form.comment.encode()
        self._types: dict[int, pa.DataType] = {}
        first, block, last = self._first_line()
        self.crlf = first.endswith(b"\r\n")
        self.delimiter = form.delimiter or find_delimiter(first, form.decimal, self.name)
        names = split_line(first, self.delimiter, self.name)
        if max(map(len, names), default=0) > LONGEST_NAME:
            raise no_header(first, self.name)
        self.has_header = form.header
        if form.header is None:
            self.has_header = not is_data(names, form.decimal)
        self.columns = names if self.has_header else [str(i + 1) for i in range(len(names))]
        if self.has_header:
            self._line += 1
            block = block[len(first) :]
        self._held = (block, last)

    def batches(
        self, integers: Iterable[int] = (), workers: Workers | None = None
    ) -> Iterator[RowBatch]:
        """The rows in order."""
        self._types = dict.fromkeys(integers, pa.int64())
        yield from super().batches(integers, workers)

    def ask(self, integers: Iterable[int], floats: Iterable[int] = ()) -> None:
        """From one of the next batches on, columns come as int32 or float64 where they can."""
        self._types = dict.fromkeys(floats, pa.float64()) | dict.fromkeys(integers, pa.int32())

    def _first_line(self) -> tuple[bytes, bytes, bool]:
        """The header (or first row), the block that begins with it, and whether that is the
        last."""
        for block, last in self._blocks:
            start = 0
            while start < len(block):
                end = block.find(b"\n", start) + 1 or len(block)
                line = block[start:end]
                if line.strip() and not line.startswith(self._comment):
                    return line, block[start:], last
                self.comments += bool(line.strip())
                self.blank_lines += not line.strip()
                self._line += 1
                start = end
        raise LogError(f"{self.name}: the log is empty")

    def _pieces(self) -> Iterator[bytes | Read]:
        """Blocks that can be read side by side; one that ends within quotes is read here."""
        carried = b""
        for block, last in self._all_blocks():
            block = carried + block
            carried = b""
            if last and block and not block.endswith(b"\n"):
                block += b"\n"
            if b'"' in block and _ends_in_quotes(block):
                found, carried = self._careful(block, last)
                yield found
            else:
                yield block

    def _all_blocks(self) -> Iterator[tuple[bytes, bool]]:
        yield self._held
        self._held = (b"", True)
        yield from self._blocks

    def _read(self, piece: bytes | Read) -> Read:
        """The rows of a block that ends with a row."""
        if isinstance(piece, Read):
            return piece
        block = piece
        # By NumPy, which unlike bytes.count lets other threads run, and is faster on short lines.
        ends = int(np.count_nonzero(np.frombuffer(block, np.uint8) == LINE_END))
        quoted = b'"' in block
        if self._comment not in block:
            columns = self._fast(block, ends)
            if columns is not None:
                return Read(RowBatch(columns, np.arange(ends), NONE_TORN, quoted), ends)
        return self._cleaned(block, quoted) or self._careful(block, True)[0]

    def _cleaned(self, block: bytes, quoted: bool) -> Read | None:
        """Read without comment and blank lines; None where that does not make it even, or where a
        quoted cell may hold line ends."""
        rows = self._row_by_row(True)
        kept, numbers = [], []
        for number, line in enumerate(io.BytesIO(block)):
            if b'"' in line and line.count(b'"') % 2:
                return None
            if not rows.left_out(line):
                kept.append(line)
                numbers.append(number)
        columns = self._fast(b"".join(kept), len(kept))
        if columns is None:
            return None
        batch = RowBatch(columns, np.array(numbers, np.int64), NONE_TORN, quoted)
        return Read(batch, block.count(b"\n"), rows.comments, rows.blank)

    def _careful(self, block: bytes, last: bool) -> tuple[Read, bytes]:
        """Read row by row; and the bytes of an unfinished quoted row."""
        rows = self._row_by_row(last)
        batch = rows.read(block)
        ends = block.count(b"\n") - rows.carried.count(b"\n")
        read = Read(batch, ends, rows.comments, rows.blank, quotes=rows.quotes)
        return read, rows.carried

    def _row_by_row(self, last: bool) -> RowByRow:
        return RowByRow(len(self.columns), self.delimiter, self._comment, last)

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
                    read_options=pacsv.ReadOptions(
                        column_names=names, block_size=2**20, use_threads=False
                    ),
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


def _ends_in_quotes(block: bytes) -> bool:
    """Whether a quoted cell may go on in the next block."""
    last_line = block[block.rfind(b"\n", 0, len(block) - 1) + 1 :]
    return last_line.count(b'"') % 2 == 1 or block.count(b'"') % 2 == 1
