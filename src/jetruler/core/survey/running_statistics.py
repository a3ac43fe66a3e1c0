"""Exact statistics of a column in constant memory, however long the log: how often each count came
up, envelopes, means of blocks, and the times between samples."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np

from ..numerics import AnyArray, Array, steps_of
from ..ruler.units import many

#: Stretches kept at most; a picture has about half as many columns.
STRETCHES = 4096


@dataclass
class Envelope:
    """Smallest and largest value, and the flags that came up, of equal stretches of samples.

    The stretches double in length whenever there are too many: constant memory for any length.
    """

    per_stretch: int = 1
    low: Array = field(default_factory=lambda: np.empty(0))
    high: Array = field(default_factory=lambda: np.empty(0))
    flags: AnyArray = field(default_factory=lambda: np.empty(0, np.uint8))
    samples: int = 0
    _rest: Array = field(default_factory=lambda: np.empty(0))
    _rest_flags: AnyArray = field(default_factory=lambda: np.empty(0, np.uint8))

    def add(self, values: Array, flags: AnyArray | None = None) -> None:
        """Take a batch; NaN where there is no value."""
        if flags is None:
            flags = np.zeros(values.size, np.uint8)
        self.samples += values.size
        values = np.concatenate((self._rest, values))
        flags = np.concatenate((self._rest_flags, flags))
        while True:
            whole = min(values.size // self.per_stretch, STRETCHES - self.low.size)
            cut = whole * self.per_stretch
            self._take(values[:cut].reshape(-1, self.per_stretch), flags[:cut])
            values, flags = values[cut:], flags[cut:]
            if values.size < self.per_stretch:
                break
            self._halve()
        self._rest, self._rest_flags = values, flags

    def finished(self) -> Envelope:
        """With the rest that fills no stretch as a last, shorter one."""
        if self._rest.size:
            self._take(self._rest.reshape(1, -1), self._rest_flags)
            self._rest, self._rest_flags = self._rest[:0], self._rest_flags[:0]
        return self

    def _take(self, rows: Array, flags: AnyArray) -> None:
        if rows.size:
            self.low = np.concatenate((self.low, np.fmin.reduce(rows, axis=1)))
            self.high = np.concatenate((self.high, np.fmax.reduce(rows, axis=1)))
            seen = np.bitwise_or.reduce(flags.reshape(rows.shape), axis=1)
            self.flags = np.concatenate((self.flags, seen))

    def _halve(self) -> None:
        """Stretches twice as long."""
        self.low = np.fmin.reduce(self.low.reshape(-1, 2), axis=1)
        self.high = np.fmax.reduce(self.high.reshape(-1, 2), axis=1)
        self.flags = np.bitwise_or.reduce(self.flags.reshape(-1, 2), axis=1)
        self.per_stretch *= 2


#: Different intervals that are told apart; a log has few, but a torn one may have many.
KINDS = 4096

#: An interval of more than this many usual ones is a gap.
GAP = 1.5


@dataclass(frozen=True)
class TimeSurvey:
    """Intervals of a time column, in its own unit (seconds, for dates).

    interval: the usual one (the median). jitter: standard deviation of those that are no gap.
    gaps, steps_back, repeats: how many; longest_gap: how long. first rows: where, from 0.
    """

    name: str
    samples: int
    interval: float
    jitter: float
    gaps: int
    longest_gap: float
    first_gap: int | None
    steps_back: int
    first_back: int | None
    repeats: int

    def __str__(self) -> str:
        if math.isnan(self.interval):
            return f"{self.name}: it does not go on"
        rate = f" ({1 / self.interval:.4g} Hz)" if self.interval > 0 else ""
        return (
            f"{self.name}: every {self.interval:.6g} s{rate}, jitter {self.jitter:.2g} s, "
            f"{many(self.gaps, 'gap')}, {many(self.steps_back, 'step')} back, "
            f"{many(self.repeats, 'repeat')}"
        )


@dataclass
class TimeSurveyor:
    """Collects intervals batch by batch."""

    name: str
    rows: int = 0
    _last: float = math.nan
    _occurrences: dict[float, int] = field(default_factory=dict)
    _first: dict[float, int] = field(default_factory=dict)

    def add(self, times: Array) -> None:
        """Take a batch; NaN where a cell is no time."""
        steps = steps_of(times, self._last)
        there = np.flatnonzero(np.isfinite(steps))
        if times.size:
            self._last = float(times[-1])
        for kind, i, count in _kinds(steps[there]):
            if kind not in self._occurrences and len(self._occurrences) >= KINDS:
                kind = min(self._occurrences, key=lambda known: abs(known - kind))
            self._occurrences[kind] = self._occurrences.get(kind, 0) + count
            self._first.setdefault(kind, self.rows + int(there[i]))
        self.rows += times.size

    def survey(self) -> TimeSurvey:
        """The survey so far."""
        kinds = np.array(sorted(self._occurrences))
        occurrences = np.array([self._occurrences[k] for k in kinds.tolist()], dtype=np.int64)
        forward = kinds > 0
        interval = _median(kinds[forward], occurrences[forward])
        gap = kinds > GAP * interval if interval == interval else np.zeros(kinds.size, bool)
        usual = forward & ~gap
        return TimeSurvey(
            name=self.name,
            samples=self.rows,
            interval=interval,
            jitter=_deviation(kinds[usual], occurrences[usual]),
            gaps=int(occurrences[gap].sum()),
            longest_gap=float(kinds[gap].max(initial=0.0)),
            first_gap=min((self._first[k] for k in kinds[gap].tolist()), default=None),
            steps_back=int(occurrences[kinds < 0].sum()),
            first_back=min((self._first[k] for k in kinds[kinds < 0].tolist()), default=None),
            repeats=int(occurrences[kinds == 0].sum()),
        )


def _kinds(steps: Array) -> list[tuple[float, int, int]]:
    """The different steps in nine digits (enough to tell intervals apart, too few to tell rounding
    errors apart), where each comes up first, and how often."""
    if not steps.size:
        return []
    low, high = float(steps.min()), float(steps.max())
    scale = max(-low, high)
    unit = 10.0 ** (math.floor(math.log10(scale)) - 8) if scale else 1.0
    unit = max(unit, 1e-9)
    ends = np.round(np.array([low, high]) / unit) * unit
    if ends[0] == ends[1]:  # the usual log: one step, whatever its rounding errors
        return [(float(ends[0]), 0, steps.size)]
    kinds = np.unique(np.round(steps / unit) * unit, return_index=True, return_counts=True)
    return list(zip(*(part.tolist() for part in kinds), strict=True))


def _median(kinds: Array, occurrences: AnyArray) -> float:
    if not kinds.size:
        return math.nan
    return float(kinds[np.searchsorted(np.cumsum(occurrences), 0.5 * occurrences.sum())])


def _deviation(kinds: Array, occurrences: AnyArray) -> float:
    if not kinds.size:
        return math.nan
    mean = float(kinds @ occurrences) / float(occurrences.sum())
    return math.sqrt(float((kinds - mean) ** 2 @ occurrences) / float(occurrences.sum()))
