"""Lines into samples: comma-separated cells, `name=value` pairs, or a JSON object a line."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
from pyarrow import csv as pacsv

from ..core.decide.channel_reader import NO_COUNT
from ..core.error_types import ParameterError
from ..core.model.stream import Stream
from ..core.model.text import nearest
from ..logs.cells import read_cell
from .lines import LONGEST
from .stream_errors import StreamError

#: A block of at least so many lines is worth the way through PyArrow.
WORTH_IT = 50

Cell = bytes | int | float | None


@dataclass(frozen=True)
class Column:
    """The samples of one column: int64 counts, or float64 if some are fractional."""

    counts: npt.NDArray[Any]
    missing: npt.NDArray[np.bool_] | None = None

    @property
    def present(self) -> npt.NDArray[Any]:
        """Those that are not missing."""
        return self.counts if self.missing is None else self.counts[~self.missing]


@dataclass(frozen=True)
class Parsed:
    """The samples of some lines. kept: places of the lines that were samples, from 0; None for
    all. times: the source's own, as text; None without a timestamp."""

    rows: int
    columns: list[Column]
    kept: npt.NDArray[np.int64] | None = None
    times: pa.Array | None = None


class Parser:
    """Reads lines for the columns wanted. What is no sample is counted in `bad`, and whatever a
    line that begins with # says is kept in `remark`."""

    def __init__(self, stream: Stream, wanted: Sequence[str | int], bad: Counter[str]) -> None:
        self.stream, self.wanted, self.bad = stream, list(wanted), bad
        self.remark = ""
        self.unreadable: Counter[str | int] = Counter()
        self.absent: tuple[str, ...] = ()
        self._names = stream.columns
        self._fields: int | None = None
        self._places: list[int | None] = []
        self._time: int | None = None
        self._no_header = 0
        if stream.format != "csv":
            for number in (c for c in self.wanted if isinstance(c, int)):
                right = f"a name: {stream.format} has no numbered columns"
                raise StreamError(str(ParameterError("column", number, right)))
        elif self._names is not None:
            stamp = stream.timestamp
            if stamp is not None and stamp not in self._names:
                right = f"stream.columns has none of this name; {nearest(stamp, self._names)}"
                raise StreamError(str(ParameterError("timestamp", stamp, right)))
            for column in self.wanted:
                if isinstance(column, str) and column not in self._names:
                    right = f"stream.columns has none of this name; {nearest(column, self._names)}"
                    raise StreamError(str(ParameterError("column", column, right)))
            self._settle(self._names)
        elif all(isinstance(column, int) for column in self.wanted):
            self._settle(())

    def _settle(self, names: tuple[str, ...]) -> None:
        """Where each column stands among named cells."""
        self._names, self._fields = names, len(names) or None
        self._places = []
        absent = []
        for column in self.wanted:
            place = column - 1 if isinstance(column, int) else None
            if isinstance(column, str) and column in names:
                place = names.index(column)
            if place is None or (names and place >= len(names)):
                absent.append(str(column))
                place = None
            self._places.append(place)
        stamp = self.stream.timestamp
        if names and stamp is not None and stamp not in names:
            absent.append(stamp)
        self.absent = tuple(absent)
        self._time = names.index(stamp) if stamp in names else None

    def add(self, block: bytes) -> Parsed:
        """The samples of whole lines."""
        lines = block.count(b"\n")
        if self.stream.format == "csv" and lines >= WORTH_IT and self._fields:
            quick = self._at_once(block, lines)
            if quick is not None:
                return quick
        return self._line_by_line(block.split(b"\n")[:-1])

    def _at_once(self, block: bytes, lines: int) -> Parsed | None:
        """All lines at once, if every one of them is as it should be."""
        if b"x" in block or b"X" in block:  # PyArrow would read 0x1F as a number
            return None
        places = sorted({p for p in self._places if p is not None})
        names = [str(i) for i in range(self._fields or 0)]
        kinds = {str(p): pa.int64() for p in places}
        if self._time is not None:
            kinds[str(self._time)] = pa.string()
        try:
            table = pacsv.read_csv(
                pa.BufferReader(block),
                pacsv.ReadOptions(use_threads=False, block_size=len(block) + 1, column_names=names),
                pacsv.ParseOptions(delimiter=self.stream.delimiter, quote_char=False),
                pacsv.ConvertOptions(
                    column_types=kinds, include_columns=list(kinds), null_values=[]
                ),
            )
        except pa.ArrowInvalid:
            return None
        if table.num_rows != lines:
            return None
        found = {p: Column(table.column(str(p)).combine_chunks().to_numpy()) for p in places}
        nothing = Column(np.full(lines, NO_COUNT), np.ones(lines, np.bool_))
        columns = [nothing if p is None else found[p] for p in self._places]
        times = None if self._time is None else table.column(str(self._time)).combine_chunks()
        return Parsed(lines, columns, None, times)

    def _line_by_line(self, lines: list[bytes]) -> Parsed:
        reads = {"csv": self._cells, "pairs": self._pairs, "json": self._object}
        read = reads[self.stream.format]
        kept: list[int] = []
        rows: list[list[Cell]] = []
        times: list[str] = []
        for i, line in enumerate(lines):
            line = line.rstrip(b"\r")
            if len(line) > LONGEST:
                self.bad["over-long"] += 1
            elif line.lstrip().startswith(b"#"):
                self.remark = line.lstrip(b"# \t").decode("utf-8", "replace").strip()
            elif line.strip():
                found = read(line)
                if found is not None:
                    kept.append(i)
                    rows.append(found[0])
                    times.append(found[1])
        each = zip(*rows, strict=True) if rows else [()] * len(self.wanted)
        columns = [self._column(name, cells) for name, cells in zip(self.wanted, each, strict=True)]
        stamped = self.stream.timestamp is not None and (
            self.stream.format != "csv" or self._time is not None
        )
        return Parsed(
            len(rows),
            columns,
            np.array(kept, dtype=np.int64),
            pa.array(times, pa.string()) if stamped else None,
        )

    def _cells(self, line: bytes) -> tuple[list[Cell], str] | None:
        cells = line.split(self.stream.delimiter.encode())
        if self._names is None or (self._fields is not None and len(cells) != self._fields):
            self._unexpected(line, cells)
            return None
        if self._fields is None:  # numbered columns only: the first line of numbers says how many
            if not any(_is_number(cell) for cell in cells):
                self.bad["header"] += 1
                return None
            self._fields = len(cells)
            self._places = [p if p is not None and p < len(cells) else None for p in self._places]
        if not any(_is_number(cells[p]) for p in self._places if p is not None):
            if self._is_header(cells):
                return None
            if any(cells[p].strip() for p in self._places if p is not None):
                self.bad["noise"] += 1
                return None
        time = "" if self._time is None else cells[self._time].decode("utf-8", "replace").strip()
        return [None if p is None else cells[p] for p in self._places], time

    def _unexpected(self, line: bytes, cells: list[bytes]) -> None:
        """A header, or a line with a wrong number of cells."""
        if self._is_header(cells):
            return
        if self._names is not None:
            self.bad["fields"] += 1
            return
        self.bad["before a header"] += 1
        self._no_header += all(_is_number(cell) for cell in cells)
        if self._no_header >= 3:
            shown = line[:60].decode("utf-8", "replace")
            raise StreamError(
                f"the stream has no header: found {shown!r}; name its columns in the bench file, "
                '[stream] columns = ["time_s", …], or with --columns'
            )

    def _is_header(self, cells: list[bytes]) -> bool:
        """Take a line of names for a header: it names at least one column wanted."""
        names = tuple(cell.decode("utf-8", "replace").strip().strip('"') for cell in cells)
        if not any(column in names for column in self.wanted if isinstance(column, str)):
            return False
        if names != self._names:
            self._settle(names)
        return True

    def _pairs(self, line: bytes) -> tuple[list[Cell], str] | None:
        text = line.replace(b",", b" ").replace(b";", b" ")
        found: dict[str, bytes] = {}
        for part in text.split():
            name, equals, value = part.partition(b"=")
            if not equals or not name:
                self.bad["noise"] += 1
                return None
            found[name.decode("utf-8", "replace")] = value
        return self._named(found)

    def _object(self, line: bytes) -> tuple[list[Cell], str] | None:
        try:
            found = json.loads(line)
        except (ValueError, RecursionError):
            self.bad["noise"] += 1
            return None
        if not isinstance(found, dict):
            self.bad["noise"] += 1
            return None
        return self._named(
            {
                name: v if _plain(v) else str(v).encode("utf-8", "replace")
                for name, v in found.items()
            }
        )

    def _named(self, found: dict[str, Any]) -> tuple[list[Cell], str]:
        time = found.get(self.stream.timestamp or "", b"")
        text = time.decode("utf-8", "replace") if isinstance(time, bytes) else str(time)
        return [found.get(str(column)) for column in self.wanted], text

    def _column(self, name: str | int, cells: Sequence[Cell]) -> Column:
        try:  # whole numbers all through, as they should be
            if not any(isinstance(cell, float) or (cell and b"_" in cell) for cell in cells):  # type: ignore[operator]
                return Column(np.array([int(c) for c in cells], dtype=np.int64))  # type: ignore[arg-type]
        except (TypeError, ValueError, OverflowError):
            pass
        values = [_value(cell) for cell in cells]
        missing = np.array([isinstance(v, str) for v in values], dtype=np.bool_)
        bad = sum(v == "unreadable" for v in values)
        if bad:
            self.unreadable[name] += bad
        if any(isinstance(v, float) for v in values):
            floats = [np.nan if isinstance(v, str) else v for v in values]
            return Column(np.array(floats, dtype=np.float64), missing)
        top = np.iinfo(np.int64).max
        whole = [NO_COUNT if isinstance(v, str) else max(-top, min(int(v), top)) for v in values]
        return Column(np.array(whole, dtype=np.int64), missing)


def _plain(value: object) -> bool:
    return value is None or (isinstance(value, int | float) and not isinstance(value, bool))


def _value(cell: Cell) -> int | float | str:
    """A number, or why there is none."""
    if cell is None:
        return "empty"
    if isinstance(cell, bytes):
        return read_cell(cell, ".")
    return cell if cell == cell and abs(cell) < 1e300 else "unreadable"


def _is_number(cell: bytes) -> bool:
    return not isinstance(read_cell(cell, "."), str)
