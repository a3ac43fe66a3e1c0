"""Rows of a CSV log that PyArrow cannot take whole: line by line, through the csv module."""

from __future__ import annotations

import csv
from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa

from .arrow import texts_to_arrow
from .reader import RowBatch

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
