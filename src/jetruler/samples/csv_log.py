"""Lines of cells in batches: every row kept, every cell text, every line number known."""

from __future__ import annotations

import csv
import re
from collections.abc import Iterator
from dataclasses import dataclass, field, replace

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pacsv

from ..core.bench.bench import LogFormat
from .cells import (
    cast_of,
    no_value,
    nulls_of,
    text_scalar,
    texts_to_arrow,
    truths_of,
    value_pattern,
)
from .shapes import Noise, Shape, is_value
from .source import NONE_TORN, Lines, RowBatch
from .text_log import BlockReader, Read

#: A quoted row that is still open after this many bytes is taken for a stray quote.
LONGEST_ROW = 2**20
#: A quoted cell of more lines than this is said.
LONG_CELL = 20


@dataclass
class RowByRow:
    """The rows of one block: short ones are filled up, long ones cut, both are torn.

    width: how many fields a row has. last: whether the log ends here. blank_is_row: whether an
    empty line is a row. Afterwards, comments and
    blank are the lines left out, carried the bytes of an unfinished quoted row.
    """

    width: int
    delimiter: str
    comment: bytes
    last: bool
    blank_is_row: bool
    comments: int = field(init=False, default=0)
    blank: int = field(init=False, default=0)
    carried: bytes = field(init=False, default=b"")
    quotes: list[tuple[int, int]] = field(init=False, default_factory=list)
    """Lines, from 0, in which a quote opens that is never closed (0), or whose cell goes on for so
    many lines that it may have swallowed rows."""

    def read(self, block: bytes) -> RowBatch:
        """The rows, with their lines counted from 0."""
        text = block.decode("utf-8", "surrogateescape")
        texts = [line + "\n" for line in text.removesuffix("\n").split("\n")]
        rows: list[list[str]] = []
        numbers: list[int] = []
        torn: list[int] = []
        for start, fields in self._rows(texts):
            if fields is None:
                self.carried = _bytes("".join(texts[start:]))
                break
            if len(fields) != self.width:
                torn.append(len(rows))
                fields = (fields + [""] * self.width)[: self.width]
            rows.append(fields)
            numbers.append(start)
        columns = [
            texts_to_arrow([_bytes(row[i]) for row in rows], pa.binary()) for i in range(self.width)
        ]
        return RowBatch(columns, np.array(numbers, np.int64), np.array(torn, np.int64), True)

    def left_out(self, line: bytes) -> bool:
        """Whether a line is a comment, or blank and no row; those are counted."""
        is_comment = line.startswith(self.comment)
        is_blank = not self.blank_is_row and not line.strip()
        self.comments += is_comment
        self.blank += is_blank
        return is_comment or is_blank

    def _rows(self, texts: list[str]) -> Iterator[tuple[int, list[str] | None]]:
        """Each row: the line it starts at and its fields; None if it goes on in the next block."""
        start = 0
        while start < len(texts):
            if self.left_out(_bytes(texts[start])):
                start += 1
                continue
            fields, used = self._row(texts, start)
            row = "".join(texts[start : start + used])
            open_quote = row.count('"') % 2 == 1
            reaches_end = start + used == len(texts)
            if open_quote and reaches_end and not self.last and len(row) < LONGEST_ROW:
                yield start, None
                return
            if used > 1 and (open_quote or len(fields) != self.width):
                # A stray quote, not a quoted line end.
                fields, used = self._split(texts[start]), 1
                self.quotes.append((start, 0))
            elif used > LONG_CELL:
                self.quotes.append((start, used))
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


def _bytes(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")


LINE_END = ord("\n")
_RUNS, _ENDS = re.compile(rb"[ \t]+"), re.compile(rb"(?m)^ | (?=\r?$)")


class CsvBlocks(BlockReader):
    """Blocks of cells with one sign between, or blanks.

    sorts: whether lines without a number are no samples; not so in a log that has none at all.
    blank_is_row: whether an empty line is a sample of one empty cell.
    """

    def __init__(
        self, shape: Shape, form: LogFormat, *, sorts: bool = True, blank_is_row: bool = True
    ) -> None:
        self.shape, self.columns = shape, shape.columns
        self._comment, self._decimal = form.comment.encode(), form.decimal
        self._sorts, self._value = sorts, value_pattern(form.decimal)
        self._blank_is_row = blank_is_row and len(self.columns) == 1
        self._types: dict[int, pa.DataType] = {}

    def ask(self, types: dict[int, pa.DataType]) -> None:
        """From one of the next blocks on, columns come in these types where they can."""
        self._types = types

    def is_open(self, block: bytes) -> bool:
        """Whether a quoted cell may go on in the next block."""
        return b'"' in block and _ends_in_quotes(block)

    def read(self, block: bytes) -> Read:
        """The rows of a block that ends with a row."""
        if self.shape.delimiter == " ":
            block = _ENDS.sub(b"", _RUNS.sub(b" ", block))
        # By NumPy, which unlike bytes.count lets other threads run, and is faster on short lines.
        ends = int(np.count_nonzero(np.frombuffer(block, np.uint8) == LINE_END))
        quoted = b'"' in block
        if self._comment not in block:
            columns = self._fast(block, ends)
            if columns is not None:
                batch = RowBatch(columns, np.arange(ends), NONE_TORN, quoted)
                return self._sorted(Read(batch, ends), block)
        return self._cleaned(block, quoted) or self.read_part(block, True)[0]

    def _cleaned(self, block: bytes, quoted: bool) -> Read | None:
        """Read without comment and blank lines, and with torn ones evened; None where that does not
        make it even, or where a quoted cell may hold line ends."""
        rows = self._row_by_row(True)
        sign = self.shape.delimiter.encode()
        ends = np.flatnonzero(np.frombuffer(block, np.uint8) == LINE_END) + 1
        starts = np.concatenate(([0], ends[:-1]))
        kept = np.ones(ends.size, np.bool_)
        torn, pieces, at = [], [], 0
        odd = np.arange(ends.size) if quoted else self._odd(block, starts, ends)
        for i, start, end in zip(odd, starts[odd].tolist(), ends[odd].tolist(), strict=True):
            line = block[start:end]
            is_quoted = b'"' in line
            if is_quoted and line.count(b'"') % 2:
                return None
            pieces.append(block[at:start])
            at = end
            kept[i] = not rows.left_out(line)
            if kept[i] and not is_quoted and line.count(sign) != rows.width - 1:
                torn.append(i)
                cells = line.rstrip(b"\r\n").split(sign) + [b""] * rows.width
                line = sign.join(cells[: rows.width]) + b"\n"
            if kept[i]:
                pieces.append(line)
        numbers = np.flatnonzero(kept)
        # What is no sample is told by its text.
        even = b"".join([*pieces, block[at:]])
        columns = self._fast(even, numbers.size, typed=not torn)
        if columns is None:
            return None
        batch = RowBatch(columns, numbers, np.searchsorted(numbers, torn).astype(np.int64), quoted)
        read = Read(batch, ends.size, rows.comments, rows.blank)
        return self._sorted(read, block)

    def _odd(self, block: bytes, starts: Lines, ends: Lines) -> Lines:
        """The lines that may be no rows: with another number of cells, blank, or a comment."""
        sign, width = self.shape.delimiter.encode(), len(self.columns)
        if len(sign) > 1 or (width == 1 and not self._blank_is_row):
            return np.arange(ends.size)
        found = np.frombuffer(block, np.uint8)
        cells = np.diff(np.searchsorted(np.flatnonzero(found == sign[0]), ends), prepend=0)
        return np.flatnonzero((cells != width - 1) | (found[starts] == self._comment[0]))

    def read_part(self, block: bytes, last: bool) -> tuple[Read, bytes]:
        """Read row by row; and the bytes of an unfinished quoted row."""
        rows = self._row_by_row(last)
        batch = rows.read(block)
        ends = block.count(b"\n") - rows.carried.count(b"\n")
        read = Read(batch, ends, rows.comments, rows.blank, quotes=rows.quotes)
        return self._sorted(read, block), rows.carried

    def _row_by_row(self, last: bool) -> RowByRow:
        width, sign = len(self.columns), self.shape.delimiter
        return RowByRow(width, sign, self._comment, last, self._blank_is_row)

    def _fast(self, block: bytes, rows: int, typed: bool = True) -> list[pa.Array] | None:
        """The columns as PyArrow reads them; None if it found other rows than there are lines."""
        names = [str(i) for i in range(len(self.columns))]
        if not block:
            return [texts_to_arrow([])] * len(names)
        if b'"' in block and _ends_in_quotes(block):
            return None
        if b"\r" in block and block.count(b"\r") != block.count(b"\r\n"):
            return None  # PyArrow would end a row within a line
        # PyArrow would read 0x1F as a number.
        typed = bool(typed and self._types and b"x" not in block and b"X" not in block)
        for asked in (self._types, {}) if typed else ({},):
            types = {name: asked.get(i, pa.string()) for i, name in enumerate(names)}
            try:
                table = pacsv.read_csv(
                    pa.BufferReader(block),
                    read_options=pacsv.ReadOptions(
                        column_names=names, block_size=max(2**20, len(block)), use_threads=False
                    ),
                    parse_options=pacsv.ParseOptions(
                        delimiter=self.shape.delimiter, ignore_empty_lines=not self._blank_is_row
                    ),
                    convert_options=pacsv.ConvertOptions(
                        column_types=types, strings_can_be_null=False, null_values=[""]
                    ),
                )
            except pa.ArrowInvalid:
                continue
            if table.num_rows != rows:
                return None
            columns = [_whole(column) for column in table.columns]
            if typed and asked is not self._types:
                self._unask(columns)
            return columns
        return None

    def _unask(self, columns: list[pa.Array]) -> None:
        """No longer ask for types that a column has not, so that the others come typed."""
        fit = {i: kind for i, kind in self._types.items() if _becomes(columns[i], kind)}
        self._types = fit

    def _sorted(self, read: Read, block: bytes) -> Read:
        """Leave out the rows of which no cell is a value: they are no samples."""
        batch = replace(read.batch, behind=self.shape.behind)
        read = replace(read, batch=batch)
        noise = self._noise(batch) if self._sorts and batch.rows else None
        if noise is None and not batch.torn.size:
            return read
        lines = block.split(b"\n")
        noise = np.zeros(batch.rows, np.bool_) if noise is None else noise
        if self.shape.delimiter == " ":  # prose has blanks too
            for row in batch.torn.tolist():
                text = lines[batch.lines[row]].decode("utf-8", "replace")
                noise[row] |= not all(is_value(cell, self._decimal) for cell in text.split())
        if not noise.any():
            return read
        found = Noise()
        for number in batch.lines[noise].tolist():
            found.add("header" if self._is_header(lines[number]) else "other text", lines[number])
        return replace(read, batch=batch.part(~noise), noise=found)

    def _is_header(self, line: bytes) -> bool:
        cells = line.decode("utf-8", "replace").strip("\r").split(self.shape.delimiter)
        return [cell.strip().strip('"') for cell in cells] == [c.strip() for c in self.columns]

    def _noise(self, batch: RowBatch) -> npt.NDArray[np.bool_] | None:
        """Where a row has text, and no value; None where there can be none."""
        columns = [batch.numbers(index) for index in range(len(batch.columns))]
        if any(map(_all_numbers, columns)):
            return None
        is_value = np.zeros(batch.rows, np.bool_)
        is_text = np.zeros(batch.rows, np.bool_)
        for column in columns:
            if not _is_text(column.type):
                is_value |= ~nulls_of(column)
                continue
            texts = column.cast(pa.binary())
            is_value |= truths_of(pc.match_substring_regex(texts, self._value))
            is_text |= truths_of(pc.match_substring_regex(texts, r"\S"))
        return is_text & ~is_value


def _whole(column: pa.ChunkedArray) -> pa.Array:
    """A column in one piece; PyArrow copies it even where it is one."""
    return column.chunk(0) if column.num_chunks == 1 else column.combine_chunks()


def _is_text(kind: pa.DataType) -> bool:
    return bool(pa.types.is_string(kind) or pa.types.is_binary(kind))


def _becomes(cells: pa.Array, kind: pa.DataType) -> bool:
    """Whether all texts that are not empty can be of a type."""
    if not _is_text(cells.type):
        return bool(cells.type == kind)
    known = pc.if_else(pc.equal(cells, text_scalar("")), no_value(), cells)
    return cast_of(known, kind) is not None


def _all_numbers(cells: pa.Array) -> bool:
    if not _is_text(cells.type):
        return not cells.null_count
    texts = cast_of(cells, pa.string())
    return texts is not None and cast_of(texts, pa.float64()) is not None


def _ends_in_quotes(block: bytes) -> bool:
    """Whether a quoted cell may go on in the next block."""
    last_line = block[block.rfind(b"\n", 0, len(block) - 1) + 1 :]
    return last_line.count(b'"') % 2 == 1 or block.count(b'"') % 2 == 1
