"""What a time column does: interval, jitter, gaps, steps back."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np

from ..arrays import AnyArray, Array, steps_of

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
        rate = f" ({1 / self.interval:.4g} Hz)" if self.interval > 0 else ""
        return (
            f"{self.name}: every {self.interval:.6g} s{rate}, jitter {self.jitter:.2g} s, "
            f"{self.gaps} gaps, {self.steps_back} steps back, {self.repeats} repeats"
        )


@dataclass
class TimeSurveyor:
    """Collects intervals batch by batch."""

    name: str
    rows: int = 0
    _last: float = math.nan
    _often: dict[float, int] = field(default_factory=dict)
    _first: dict[float, int] = field(default_factory=dict)

    def add(self, times: Array) -> None:
        """Take a batch; NaN where a cell is no time."""
        steps = steps_of(times, self._last)
        there = np.flatnonzero(np.isfinite(steps))
        if times.size:
            self._last = float(times[-1])
        for kind, i, count in _kinds(steps[there]):
            if kind not in self._often and len(self._often) >= KINDS:
                kind = min(self._often, key=lambda known: abs(known - kind))
            self._often[kind] = self._often.get(kind, 0) + count
            self._first.setdefault(kind, self.rows + int(there[i]))
        self.rows += times.size

    def survey(self) -> TimeSurvey:
        """The survey so far."""
        kinds = np.array(sorted(self._often))
        often = np.array([self._often[k] for k in kinds.tolist()], dtype=np.int64)
        forward = kinds > 0
        interval = _median(kinds[forward], often[forward])
        gap = kinds > GAP * interval if interval == interval else np.zeros(kinds.size, bool)
        usual = forward & ~gap
        return TimeSurvey(
            name=self.name,
            samples=self.rows,
            interval=interval,
            jitter=_deviation(kinds[usual], often[usual]),
            gaps=int(often[gap].sum()),
            longest_gap=float(kinds[gap].max(initial=0.0)),
            first_gap=min((self._first[k] for k in kinds[gap].tolist()), default=None),
            steps_back=int(often[kinds < 0].sum()),
            first_back=min((self._first[k] for k in kinds[kinds < 0].tolist()), default=None),
            repeats=int(often[kinds == 0].sum()),
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


def _median(kinds: Array, often: AnyArray) -> float:
    if not kinds.size:
        return math.nan
    return float(kinds[np.searchsorted(np.cumsum(often), 0.5 * often.sum())])


def _deviation(kinds: Array, often: AnyArray) -> float:
    if not kinds.size:
        return math.nan
    mean = float(kinds @ often) / float(often.sum())
    return math.sqrt(float((kinds - mean) ** 2 @ often) / float(often.sum()))
