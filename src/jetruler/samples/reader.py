"""What every log offers, whatever it is written in: its columns, then its rows batch by batch."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from types import TracebackType
from typing import Any, Self

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from ..core.model.log_format import LogFormat
from .ahead import Workers
from .arrow import to_arrow
from .shapes import EXPECTED, Noise
from .source import ColumnError, LogError

Lines = npt.NDArray[np.int64]

NONE_TORN: Lines = np.empty(0, np.int64)


class Columns(Sequence[pa.Array]):
    """Columns that are fetched when they are asked for, once."""

    def __init__(self, count: int, fetch: Callable[[int], pa.Array]) -> None:
        self._count, self._fetch = count, fetch
        self._known: dict[int, pa.Array] = {}

    def __len__(self) -> int:
        return self._count

    def __getitem__(self, place: Any) -> Any:
        if place >= self._count:
            raise IndexError(place)
        if place not in self._known:
            self._known[place] = self._fetch(place)
        return self._known[place]


@dataclass(frozen=True)
class RowBatch:
    """Some rows of a log: an array a column, as text or typed, as the log has it.

    lines: line (or row) number of each row. torn: rows that had too few or too many fields, or
    were no record at all. quoted: whether a cell may need quotes again when it is written as CSV.
    """

    columns: Sequence[pa.Array]
    lines: Lines
    torn: Lines = field(default_factory=lambda: NONE_TORN)
    quoted: bool = False

    @property
    def rows(self) -> int:
        """How many rows."""
        return self.lines.size

    def part(self, kept: npt.NDArray[np.bool_]) -> RowBatch:
        """Some of the rows."""
        mask = to_arrow(kept.view(np.uint8)).cast(pa.bool_())
        columns = [column.filter(mask) for column in self.columns]
        is_torn = np.zeros(self.rows, np.bool_)
        is_torn[self.torn] = True
        return RowBatch(columns, self.lines[kept], np.flatnonzero(is_torn[kept]), self.quoted)

    def head(self, rows: int) -> RowBatch:
        """The first rows."""
        columns = Columns(len(self.columns), lambda place: self.columns[place].slice(0, rows))
        return RowBatch(columns, self.lines[:rows], self.torn[self.torn < rows], self.quoted)


class LogReader(ABC):
    """A log: its columns, then its rows batch by batch in constant memory. A context manager.

    Raises `LogError` for a log that is empty, damaged or not in the format it should be in.
    """

    #: What the number of a row counts: the lines of a text, or rows.
    counted = "line"
    #: Whether all columns come as text.
    of_text = False

    columns: list[str]

    def __init__(self, name: str, form: LogFormat) -> None:
        self.name, self.form = name, form
        self.delimiter, self.crlf = ",", False
        self.has_header: bool | None = True
        """Whether the first line has the names of the columns."""
        self.unnamed = False
        """Whether columns have numbers for names, as in a log without a header."""
        self.first_line = ""
        """What stands where the first sample should."""
        self.noise = Noise()
        """Lines that were no samples."""
        self.comments = 0
        self.blank_lines = 0
        self.quotes: list[tuple[int, int]] = []
        """Lines in which a quote opens that is never closed (0), or whose cell goes on for so many
        lines."""
        self.late: dict[str, int] = {}
        """Fields that came when the columns were settled, and how many values of each were left
        out."""

    @abstractmethod
    def batches(
        self, integers: Iterable[int] = (), workers: Workers | None = None
    ) -> Iterator[RowBatch]:
        """The rows in order, some ten thousands at a time.

        integers: positions of columns of counts: a text log gives them as int64 (empty cells as
        null) where a whole batch of them reads so. workers: what reads ahead; a thread a core if
        None.
        """

    def ask(self, integers: Iterable[int], floats: Iterable[int] = ()) -> None:  # noqa: B027
        """From one of the next batches on, a text log gives columns as int32 or float64 where it
        can."""

    def nothing_read(self, columns: Iterable[int | str]) -> LogError:
        """What is wrong with a log of which not one wanted value is a number."""
        comma = self.of_text and self.form.decimal == "." and self.delimiter != ","
        hint = "; is the decimal mark a comma?" if comma else ""
        named = ", ".join(map(str, columns))
        first = next(iter(self.noise.first.values()), self.first_line)
        quoted = f"; the first line is {first!r}; {EXPECTED}" if first else ""
        what = f"not one number can be read in column {named}" if named else "no line is a sample"
        return LogError(f"{self.name}: {what}{quoted}{hint}")

    @property
    def can_be_read_again(self) -> bool:
        """Whether it is a file, and no pipe."""
        return self.progress[1] is not None

    @property
    def progress(self) -> tuple[int, int | None]:
        """How much is read, and of how much, if that is known."""
        return 0, None

    def __enter__(self) -> Self:
        return self

    def __exit__(  # noqa: B027
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        traceback: TracebackType | None,
    ) -> None:
        """Close what is open."""

    def position(self, column: str | int) -> int:
        """Where a column stands, by its name or its number from 1. Raises `ColumnError`."""
        return position_in(self.columns, column, self.name, self.said)

    @property
    def said(self) -> str:
        """How its lines are read; empty where that is as usual, or as somebody said."""
        return ""

    @property
    def remarks(self) -> list[str]:
        """How the lines were read, where that is not as usual, and which were no samples."""
        said = f"reading lines as: {self.said}" if self.said else ""
        return [text for text in (said, self.noise.words) if text]

    def positions(self, columns: Iterable[str | int]) -> set[int]:
        """Where those of some columns stand that the log has."""
        columns, names = list(columns), [name.strip() for name in self.columns]
        numbers = range(1, len(names) + 1)
        there = {c - 1 for c in columns if isinstance(c, int) and c in numbers}
        return there | {names.index(c) for c in columns if c in names}


def position_in(columns: Sequence[str], column: str | int, log: str, said: str = "") -> int:
    """Where a column stands, by its name or its number from 1. said: how lines are read, where that
    is not as usual. Raises `ColumnError`."""
    names = [name.strip() for name in columns]
    if isinstance(column, int) and column <= len(names):
        return column - 1
    if isinstance(column, str) and names.count(column) == 1:
        return names.index(column)
    if isinstance(column, str) and column in names:
        raise ColumnError(log, f"{names.count(column)} columns are named {column!r}")
    shown = column if isinstance(column, int) else repr(column)
    if said:
        raise ColumnError(log, f"there is no column {shown}; its lines are read as {said}")
    if isinstance(column, int):
        raise ColumnError(log, f"there is no column {shown}; it has {len(names)}")
    has = ", ".join(names[:30]) + (", …" if len(names) > 30 else "")
    raise ColumnError(log, f"there is no column {shown}; it has: {has}")
