"""What a conversion did, channel by channel: rows, flags, smallest, largest, mean."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt

from ..core.channel import Channel
from ..core.reading import FLAG_NAMES, Reading
from .cells import Samples

#: How many line numbers of missing cells are kept to be shown.
FIRST_FEW = 5


@dataclass
class ChannelSummary:
    """One channel's values over a whole log. Statistics leave out what has no value."""

    channel: Channel
    rows: int = 0
    values: int = 0
    smallest: float = math.nan
    largest: float = math.nan
    empty: int = 0
    unreadable: int = 0
    fractional: int = 0
    smoothing: str = ""
    """How it was smoothed, with the lag."""
    first_lines: list[int] = field(default_factory=list)
    """Lines of the first few empty or unreadable cells."""
    _sums: list[float] = field(default_factory=list)
    _flags: npt.NDArray[np.int64] = field(default_factory=lambda: np.zeros(256, np.int64))

    @property
    def mean(self) -> float:
        """Mean of the values; NaN if there are none."""
        return math.fsum(self._sums) / self.values if self.values else math.nan

    @property
    def flags(self) -> dict[str, int]:
        """How many rows carry each flag; flags that never came up are left out."""
        codes = np.arange(256)
        counts = {n: int(self._flags[(codes & f) > 0].sum()) for f, n in FLAG_NAMES.items()}
        return {name: count for name, count in counts.items() if count}

    def add(self, samples: Samples, reading: Reading, lines: npt.NDArray[np.int64]) -> None:
        """Count one batch."""
        values: npt.NDArray[np.float64] = reading.value
        self.rows += values.size
        self._flags += np.bincount(reading.flags, minlength=256)
        self.fractional += samples.fractional
        if samples.missing is not None and samples.empty is not None:
            self.empty += samples.empty.size
        if samples.missing is not None and samples.unreadable is not None:
            self.unreadable += samples.unreadable.size
        if samples.missing is not None and len(self.first_lines) < FIRST_FEW:
            more = lines[np.flatnonzero(samples.missing)[: FIRST_FEW - len(self.first_lines)]]
            self.first_lines += more.tolist()
        smallest = float(np.fmin.reduce(values)) if values.size else math.nan
        if math.isnan(smallest):
            return
        there = ~np.isnan(values)
        self.values += int(np.count_nonzero(there))
        self._sums.append(float(np.sum(values, where=there)))
        self.smallest = float(np.fmin(self.smallest, smallest))
        self.largest = float(np.fmax(self.largest, np.fmax.reduce(values)))

    def as_dict(self) -> dict[str, Any]:
        """For JSON: statistics without a value are None."""
        numbers = {"smallest": self.smallest, "largest": self.largest, "mean": self.mean}
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
        } | {key: None if math.isnan(value) else value for key, value in numbers.items()}


@dataclass
class Summary:
    """The whole conversion."""

    channels: dict[str, ChannelSummary]
    rows: int = 0
    torn_rows: int = 0
    torn_lines: list[int] = field(default_factory=list)
    comments: int = 0
    blank_lines: int = 0

    def as_dict(self) -> dict[str, Any]:
        """For JSON."""
        return {
            "rows": self.rows,
            "torn_rows": self.torn_rows,
            "torn_lines": self.torn_lines,
            "comment_lines": self.comments,
            "blank_lines": self.blank_lines,
            "channels": {name: channel.as_dict() for name, channel in self.channels.items()},
        }

    def notes(self) -> list[str]:
        """What was skipped or could not be read, in words."""
        notes = []
        for name, c in self.channels.items():
            if c.empty or c.unreadable:
                where = _lines(c.first_lines, c.empty + c.unreadable)
                notes.append(f"{name}: {c.empty} empty and {c.unreadable} unreadable cells {where}")
            if c.smoothing:
                notes.append(f"{name}: smoothed by {c.smoothing}")
            if c.fractional:
                notes.append(f"{name}: {c.fractional} fractional counts, converted as they stand")
        if self.torn_rows:
            where = _lines(self.torn_lines, self.torn_rows)
            notes.append(f"{self.torn_rows} rows with too few or too many fields {where}")
        if self.comments:
            notes.append(f"{self.comments} comment lines left out")
        if self.blank_lines:
            notes.append(f"{self.blank_lines} blank lines left out")
        return notes


def _lines(first: list[int], total: int) -> str:
    more = ", …" if total > len(first) else ""
    return f"(line {', '.join(map(str, first))}{more})"
