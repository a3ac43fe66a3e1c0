"""What a conversion did, channel by channel: rows, flags, smallest, largest, mean."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np

from ..core.bench.channel import Channel, CodeTable
from ..core.bench.channel_reader import ChannelReader
from ..core.bench.smoothing import Smoothing
from ..core.numerics import AnyArray, Array, FlagArray
from ..core.result import Content, Result, TextTable
from ..core.ruler.reading import FLAG_NAMES, Reading
from ..core.ruler.units import many
from ..samples.cells import Samples

#: How many line numbers of missing cells are kept to be shown.
FIRST_FEW = 5


@dataclass(frozen=True, eq=False)
class BatchStats:
    """One channel over one batch: what could not be read, and either how often each place of the
    table of all counts came up, or the flags and values themselves, summed up."""

    rows: int
    empty: int = 0
    unreadable: int = 0
    fractional: int = 0
    first_lines: tuple[int, ...] = ()
    indices: AnyArray | None = None
    flags: AnyArray | None = None
    values: int = 0
    total: float = 0.0
    smallest: float = math.nan
    largest: float = math.nan

    @classmethod
    def of(cls, samples: Samples, lines: AnyArray, column: ConvertedColumn) -> BatchStats:
        """Count a batch."""
        first: tuple[int, ...] = ()
        if samples.missing is not None:
            first = tuple(lines[np.flatnonzero(samples.missing)[:FIRST_FEW]].tolist())
        empty = 0 if samples.empty is None else samples.empty.size
        unreadable = 0 if samples.unreadable is None else samples.unreadable.size
        stats = cls(lines.size, empty, unreadable, samples.fractional, first)
        if column.indices is not None:
            return replace(stats, indices=column.histogram)
        values: Array = column.values
        there = ~np.isnan(values)
        stats = replace(stats, flags=np.bincount(column.flags, minlength=256))
        if not there.any():
            return stats
        return replace(
            stats,
            values=int(np.count_nonzero(there)),
            total=float(np.sum(values, where=there)),
            smallest=float(np.fmin.reduce(values)),
            largest=float(np.fmax.reduce(values)),
        )


@dataclass
class ChannelSummary:
    """One channel's values over a whole log. Statistics leave out what has no value."""

    channel: Channel
    every: CodeTable | None = None
    rows: int = 0
    empty: int = 0
    unreadable: int = 0
    fractional: int = 0
    smoothing: str = ""
    """How it was smoothed, with the lag."""
    first_lines: list[int] = field(default_factory=list)
    """Lines of the first few empty or unreadable cells."""
    _values: int = 0
    _sums: list[float] = field(default_factory=list)
    _ends: list[float] = field(default_factory=list)
    _flags: AnyArray = field(default_factory=lambda: np.zeros(256, np.int64))
    _indices: AnyArray | None = None

    def add(self, stats: BatchStats) -> None:
        """Count one batch."""
        self.rows += stats.rows
        self.empty += stats.empty
        self.unreadable += stats.unreadable
        self.fractional += stats.fractional
        self.first_lines += stats.first_lines[: FIRST_FEW - len(self.first_lines)]
        if stats.indices is not None:
            self._indices = (
                stats.indices if self._indices is None else self._indices + stats.indices
            )
        if stats.flags is not None:
            self._flags += stats.flags
        if stats.values:
            self._values += stats.values
            self._sums.append(stats.total)
            self._ends += [stats.smallest, stats.largest]

    def _by_place(self) -> tuple[Array, AnyArray]:
        """The values that came up by their place, and how often each."""
        if self._indices is None or self.every is None:
            return np.empty(0), np.empty(0, np.int64)
        came = (self._indices > 0) & ~np.isnan(self.every.values)
        return self.every.values[came], self._indices[came]

    def folded(self) -> ChannelSummary:
        """The same in a few numbers, to be sent or kept; no batch can be added."""
        flags = self._flags.copy()
        if self._indices is not None and self.every is not None:
            np.add.at(flags, self.every.flags, self._indices)
        ends = [] if math.isnan(self.smallest) else [self.smallest, self.largest]
        sums = [self.mean * self.values] if self.values else []
        return replace(
            self,
            every=None,
            _values=self.values,
            _sums=sums,
            _ends=ends,
            _flags=flags,
            _indices=None,
        )

    def merge(self, other: ChannelSummary) -> None:
        """Add the (folded) summary of another log."""
        self.rows += other.rows
        self.empty += other.empty
        self.unreadable += other.unreadable
        self.fractional += other.fractional
        self._values += other._values
        self._sums += other._sums
        ends = self._ends + other._ends
        self._ends = [min(ends), max(ends)] if ends else []
        self._flags = self._flags + other._flags

    @property
    def values(self) -> int:
        """How many rows have a value."""
        return self._values + int(self._by_place()[1].sum())

    @property
    def smallest(self) -> float:
        """Smallest value; NaN if there are none."""
        return min([*self._by_place()[0].tolist(), *self._ends], default=math.nan)

    @property
    def largest(self) -> float:
        """Largest value; NaN if there are none."""
        return max([*self._by_place()[0].tolist(), *self._ends], default=math.nan)

    @property
    def mean(self) -> float:
        """Mean of the values; NaN if there are none."""
        found, occurrences = self._by_place()
        parts = [*(found * occurrences).tolist(), *self._sums]
        return math.fsum(parts) / self.values if parts else math.nan

    @property
    def flags(self) -> dict[str, int]:
        """How many rows carry each flag; flags that never came up are left out."""
        every = self._flags.copy()
        if self._indices is not None and self.every is not None:
            np.add.at(every, self.every.flags, self._indices)
        codes = np.arange(256)
        counts = {n: int(every[(codes & f) > 0].sum()) for f, n in FLAG_NAMES.items()}
        return {name: count for name, count in counts.items() if count}

    def figures(self) -> dict[str, Any]:
        """What it tells, by name."""
        return {
            "unit": self.channel.unit,
            "rows": self.rows,
            "values": self.values,
            "flags": self.flags,
            "empty": self.empty,
            "unreadable": self.unreadable,
            "first_missing_lines": self.first_lines,
            "fractional": self.fractional,
            "smoothing": self.smoothing,
            "smallest": self.smallest,
            "largest": self.largest,
            "mean": self.mean,
        }

    def row(self) -> list[str]:
        """Its row in the table of a summary."""
        shown = self.channel.shown
        flags = ", ".join(f"{flag} {count}" for flag, count in self.flags.items())
        labels = self.channel.ruler.label(self.smallest) is not None
        mean = "–" if labels else shown(self.mean)
        ends = [shown(self.smallest), shown(self.largest), mean]
        return [self.channel.name, str(self.rows), *ends, flags or "–"]


#: Quotes that never close are told one by one up to this many.
QUOTES_SHOWN = 3


@dataclass(eq=False, repr=False)
class Summary(Result):
    """What a conversion did, channel by channel, and what was skipped or could not be read.

    Attributes
    ----------
    channels : dict[str, ChannelSummary]
        Rows, flags, smallest, largest and mean of each channel.
    rows : int
        Rows of the log.
    torn_rows : int
        Rows with too few or too many fields.
    torn_lines : list[int], optional
        Lines of the first few of them.
    comments, blank_lines : int
        Lines that were left out.
    late : dict[str, int], optional
        Fields that came when the columns were settled: how many values of each were left out.
    quotes : list[tuple[int, int]], optional
        Lines in which a quote opens that is never closed (0), or goes on for this many lines.
    jumps : int
        How often the log's time went back or jumped, where trips were looked at.
    pass_through : dict[str, str], optional
        Types of the columns that pass through, by name, where the result is typed.
    line_format : str, default ""
        How the log's lines were read, if it was not given.
    noise : str, default ""
        How many lines were no samples, with the first of each kind.
    counted : str, default "line"
        What `torn_lines` counts: lines of a text, or rows.
    renamed : dict[int, str], optional
        New names of columns without one, or with one that was there before, by number from 1.

    Examples
    --------
    >>> import jetruler as jr
    >>> summary = jr.convert("roast.csv", jr.load_bench("bench.toml"), "out.csv")
    >>> summary.rows, summary.channels["rail"].flags
    (4200, {'below': 86})
    """

    channels: dict[str, ChannelSummary]
    """Rows, flags, smallest, largest and mean of each channel."""
    rows: int = 0
    """Rows of the log."""
    torn_rows: int = 0
    """Rows with too few or too many fields."""
    torn_lines: list[int] = field(default_factory=list)
    """Lines of the first few of them."""
    comments: int = 0
    """Lines that were left out."""
    blank_lines: int = 0
    """Lines that were left out."""
    late: dict[str, int] = field(default_factory=dict)
    """Fields that came when the columns were settled: how many values of each were left out."""
    quotes: list[tuple[int, int]] = field(default_factory=list)
    """Lines in which a quote opens that is never closed (0), or goes on for this many lines."""
    jumps: int = 0
    """How often the log's time went back or jumped, where trips were looked at."""
    pass_through: dict[str, str] = field(default_factory=dict)
    """Types of the columns that pass through, by name, where the result is typed."""
    line_format: str = ""
    """How the log's lines were read, if it was not given."""
    noise: str = ""
    """How many lines were no samples, with the first of each kind."""
    counted: str = "line"
    """What `torn_lines` counts: lines of a text, or rows."""
    renamed: dict[int, str] = field(default_factory=dict)
    """New names of columns without one, or with one that was there before, by number from 1."""

    def folded(self) -> Summary:
        """The same in a few numbers, to be sent or kept."""
        return replace(self, channels={name: c.folded() for name, c in self.channels.items()})

    def merge(self, other: Summary) -> None:
        """Add the (folded) summary of another log; line numbers mean nothing any more."""
        for name, channel in other.channels.items():
            if name in self.channels:
                self.channels[name].merge(channel)
            else:
                self.channels[name] = replace(channel, first_lines=[])
        self.rows += other.rows
        self.torn_rows += other.torn_rows
        self.comments += other.comments
        self.jumps += other.jumps
        self.blank_lines += other.blank_lines
        for name, count in other.late.items():
            self.late[name] = self.late.get(name, 0) + count

    @property
    def headline(self) -> str:
        return f"{many(self.rows, 'row')} of {many(len(self.channels), 'channel')}"

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        figures = {name: channel.figures() for name, channel in self.channels.items()}
        names = ("rows", "values", "smallest", "largest", "mean", "unit")
        return {
            "channel": list(figures),
            **{name: [each[name] for each in figures.values()] for name in names},
        }

    @property
    def content(self) -> Content:
        headings = ("channel", "rows", "smallest", "largest", "mean", "flags")
        rows = [channel.row() for channel in self.channels.values()]
        return [TextTable(headings, rows, left=(0, 5)), *self.notes()]

    def _fields(self) -> Mapping[str, Any]:
        return {
            "rows": self.rows,
            "line_format": self.line_format,
            "noise": self.noise,
            "torn_rows": self.torn_rows,
            "torn_lines": self.torn_lines,
            "comment_lines": self.comments,
            "blank_lines": self.blank_lines,
            "late_fields": self.late,
            "renamed_columns": {str(number): name for number, name in self.renamed.items()},
            "open_quotes": [line for line, _ in self.quotes],
            "channels": {name: channel.figures() for name, channel in self.channels.items()},
        }

    def notes(self) -> list[str]:
        """What was skipped or could not be read, in words."""
        notes = [f"reading lines as: {self.line_format}"] if self.line_format else []
        notes += [self.noise] if self.noise else []
        for name, c in self.channels.items():
            if c.empty or c.unreadable:
                where = self._where(c.first_lines, c.empty + c.unreadable)
                notes.append(f"{name}: {c.empty} empty and {c.unreadable} unreadable cells {where}")
            if c.smoothing:
                notes.append(f"{name}: smoothed by {c.smoothing}")
            if c.fractional and c.channel.ruler.takes == "count":
                notes.append(
                    f"{name}: {c.fractional} fractional counts, converted without rounding"
                )
        if self.torn_rows:
            where = self._where(self.torn_lines, self.torn_rows)
            notes.append(f"{many(self.torn_rows, 'row')} with too few or too many fields {where}")
        for line, used in self.quotes[:QUOTES_SHOWN]:
            far = f"goes on for {used} lines, which are one row"
            notes.append(f"line {line}: a quote opens that {far if used else 'is never closed'}")
        if len(self.quotes) > QUOTES_SHOWN:
            notes.append(f"{len(self.quotes)} such quotes in all")
        if self.jumps:
            what = "smoothing and trips with times restarted there"
            notes.append(f"the log's time went back or jumped {self.jumps} times: {what}")
        if self.comments:
            notes.append(f"{self.comments} comment lines left out")
        if self.blank_lines:
            notes.append(f"{self.blank_lines} blank lines left out")
        for number, name in list(self.renamed.items())[:QUOTES_SHOWN]:
            notes.append(f"column {number} is written as {name!r}: it had no name of its own")
        if len(self.renamed) > QUOTES_SHOWN:
            notes.append(f"{len(self.renamed)} such columns in all")
        for name, count in self.late.items():
            notes.append(
                f"field {name!r} came after the first block of the log: {count} values left out"
            )
        return notes

    def _where(self, first: list[int], total: int) -> str:
        if not first:
            return "in all logs"
        more = ", …" if total > len(first) else ""
        return f"({self.counted} {', '.join(map(str, first))}{more})"


@dataclass(frozen=True, eq=False)
class ConvertedColumn:
    """One channel over a batch: places in the table of all its counts, or else a reading of its
    own; counts are then what its values represent, and held says that they follow from more than
    the count (the zone that was held before)."""

    every: CodeTable | None = None
    indices: AnyArray | None = None
    counts: AnyArray | None = None
    reading: Reading | None = None
    smoothing: Smoothing | None = None
    held: bool = False
    measured: Mapping[str, ConvertedColumn] | None = None
    """Of a channel that is computed from others: the columns of those that are measured."""

    @classmethod
    def following(
        cls, every: CodeTable | None, counts: AnyArray, reading: Reading, reader: ChannelReader
    ) -> ConvertedColumn:
        """What a reader made of a batch."""
        return cls(
            every,
            None,
            counts=counts,
            reading=reading,
            smoothing=reader.smoothing,
            held=not reader.by_count,
        )

    @cached_property
    def raws(self) -> Array:
        """The raw value of every row; NaN where there is none."""
        if self.counts is not None:
            return np.asarray(self.counts, np.float64)
        every, indices = self._by_place
        last = every.values.size - 3  # below them all, each count, above them all, none
        raws = every.lowest + np.asarray(indices, np.float64) - 1
        return np.where((indices >= 1) & (indices <= last), raws, np.nan)

    @cached_property
    def flags(self) -> FlagArray:
        """The flags of every row."""
        if self.reading is not None:
            return np.asarray(self.reading.flags)
        every, indices = self._by_place
        return np.take(every.flags, indices, mode="clip")

    @cached_property
    def values(self) -> Array:
        """The value of every row."""
        if self.reading is not None:
            return np.asarray(self.reading.value)
        every, indices = self._by_place
        return np.take(every.values, indices, mode="clip")

    @cached_property
    def histogram(self) -> AnyArray:
        """How many rows are at each place."""
        every, indices = self._by_place
        return every.histogram(indices)

    @property
    def complete(self) -> bool:
        """Whether every row has a value."""
        if self.indices is None:
            return not np.isnan(self.values).any()
        return not self.histogram[np.isnan(self._by_place[0].values)].any()

    @property
    def _by_place(self) -> tuple[CodeTable, AnyArray]:
        assert self.every is not None
        assert self.indices is not None
        return self.every, self.indices
