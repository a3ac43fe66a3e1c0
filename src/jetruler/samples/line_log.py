"""Lines that are no plain cells, read one by one: pairs, numbers between words, cells in brackets
or behind a time."""

from __future__ import annotations

import numpy as np
import pyarrow as pa

from ..core.model.log_format import LogFormat
from .arrow import texts_to_arrow
from .reader import RowBatch
from .shapes import Noise, Shape, is_value
from .text_log import BlockReader, Read


class LineBlocks(BlockReader):
    """Blocks of lines that are taken apart by their shape."""

    def __init__(self, shape: Shape, form: LogFormat) -> None:
        self.shape, self.columns = shape, shape.columns
        self._comment, self._decimal = form.comment, form.decimal

    def read(self, block: bytes) -> Read:
        """The rows of a block."""
        noise, late = Noise(), dict[str, int]()
        rows: list[list[str]] = []
        numbers: list[int] = []
        torn: list[int] = []
        comments = blank = 0
        lines = block.decode("utf-8", "surrogateescape").removesuffix("\n").split("\n")
        for number, line in enumerate(lines):
            text = line.strip()
            if not text or text.startswith(self._comment):
                blank += not text
                comments += bool(text)
                continue
            cells = self._paired(text, late) if self.shape.kind == "pairs" else self._cells(text)
            if cells is None:
                noise.add("other text", text)
                continue
            if len(cells) != len(self.columns):
                torn.append(len(rows))
                cells = (cells + [""] * len(self.columns))[: len(self.columns)]
            rows.append(cells)
            numbers.append(number)
        columns = [
            texts_to_arrow([_bytes(row[i]) for row in rows], pa.binary())
            for i in range(len(self.columns))
        ]
        batch = RowBatch(columns, np.array(numbers, np.int64), np.array(torn, np.int64), True)
        return Read(batch, len(lines), comments, blank, late, noise=noise)

    def _paired(self, line: str, late: dict[str, int]) -> list[str] | None:
        found = self.shape.pairs(line)
        if found is None or found.keys().isdisjoint(self.columns):
            return None
        for name in found.keys() - set(self.columns):
            late[name] = late.get(name, 0) + 1
        return [found.get(name, "") for name in self.columns]

    def _cells(self, line: str) -> list[str] | None:
        """The cells of a line; None where none of them is a value, or where it is prose."""
        cells = self.shape.cells(line)
        if cells is None:
            return None
        data = cells[self.shape.stamped :]
        known = [is_value(cell, self._decimal) for cell in data]
        prose = len(cells) != len(self.columns) or self.shape.delimiter == " "
        return cells if all(known) or (any(known) and not prose) else None


def _bytes(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")
