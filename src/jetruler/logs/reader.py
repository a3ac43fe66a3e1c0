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

from .ahead import Workers
from .source import ColumnError, LogError, LogFormat

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
        return LogError(f"{self.name}: not one number can be read in column {named}{hint}")

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
        names = [name.strip() for name in self.columns]
        if isinstance(column, int):
            if column <= len(names):
                return column - 1
            raise ColumnError(self.name, f"there is no column {column}; it has {len(names)}")
        if names.count(column) > 1:
            raise ColumnError(self.name, f"{names.count(column)} columns are named {column!r}")
        if column not in names:
            if not self.has_header:
                what = f"there is no column {column!r}: its first line is data, and it has"
                raise ColumnError(self.name, f"{what} {_numbered(len(names))}")
            has = ", ".join(names[:30]) + (", …" if len(names) > 30 else "")
            raise ColumnError(self.name, f"there is no column {column!r}; it has: {has}")
        return names.index(column)

    @property
    def said(self) -> str:
        """How it is read, where nobody said so; empty where that is as usual."""
        if self.has_header or self.form.header is not None:
            return ""
        return f"no header: the first line is data; it has {_numbered(len(self.columns))}"

    def positions(self, columns: Iterable[str | int]) -> set[int]:
        """Where those of some columns stand that the log has."""
        names = [name.strip() for name in self.columns]
        numbers = range(1, len(names) + 1)
        there = {c - 1 for c in columns if isinstance(c, int) and c in numbers}
        return there | {names.index(c) for c in columns if c in names}


def _numbered(columns: int) -> str:
    return "one column, 1" if columns == 1 else f"columns 1 … {columns}"
