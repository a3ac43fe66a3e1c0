"""What the state machines share: holding a decision, and a clock that never goes back."""

from __future__ import annotations

import math
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from ..arrays import AnyArray, Array, Truths, steps_of


@dataclass
class Held:
    """A yes or no that stays until something decides otherwise."""

    state: bool = False

    def add(self, on: Truths, off: Truths) -> Truths:
        """The state at each sample: what the last sample that decided anything said."""
        if not on.size:
            return on
        decided = np.where(on | off, np.arange(1, on.size + 1), 0)
        said: Truths = np.concatenate(([self.state], on))[np.maximum.accumulate(decided)]
        self.state = bool(said[-1])
        return said


#: A step of a source's time is a jump if it is longer than this (s) and than so many of the longest
#: step before: a board that began its time again, or a cell that was misread.
JUMP, TIMES = 60.0, 100.0
#: Nobody samples more seldom than every so many seconds: four months.
SANE = 1e7


@dataclass
class Clock:
    """Seconds that never go back and never leap.

    Where a source starts its time again, or jumps ahead (`JUMP`, `TIMES`), the clock stands still
    for that step, and the sample is a restart: what counts time begins anew there. A time that is
    missing is that of the sample before. jumps: how many there were.
    """

    jumps: int = 0
    _last: float = math.nan
    _now: float = 0.0
    _longest: float = 0.0
    _since: tuple[float, float] = (math.nan, math.nan)
    """The source's time and the clock at the last restart."""

    def add(self, times: AnyArray | list[float]) -> tuple[Array, Truths]:
        """The clock at each sample, and where it restarts."""
        t = np.array(times, dtype=np.float64)
        restarts: Truths = np.zeros(t.size, np.bool_)
        missing = ~np.isfinite(t)
        if missing.any():
            known = np.where(missing, 0, np.arange(1, t.size + 1))
            t = np.concatenate(([self._last], t))[np.maximum.accumulate(known)]
            if math.isnan(t[-1]):  # not one time is known yet
                return np.full(t.size, self._now), restarts
            t[np.isnan(t)] = t[~np.isnan(t)][0]
        if not t.size:
            return t, restarts
        if math.isnan(self._last):
            self._since, self._last = (float(t[0]), float(t[0])), float(t[0])
        restarts = self._jumps(steps_of(t, self._last))
        clock = np.empty(t.size)
        bounds = [0, *np.flatnonzero(restarts).tolist(), t.size]
        for first, end in pairwise(bounds):
            if first < t.size and restarts[first]:
                self._since = (float(t[first]), self._now)
            if end > first:
                source, then = self._since
                part = t[first:end]
                clock[first:end] = part if source == then else then + (part - source)
                self._now = float(clock[end - 1])
        self._last = float(t[-1])
        self.jumps += int(np.count_nonzero(restarts))
        return clock, restarts

    def _jumps(self, steps: Array) -> Truths:
        """Where time goes back, or leaps; what is a leap depends on the steps before."""
        jumps: Truths = steps < 0
        usual = np.where(jumps | (steps > JUMP), 0.0, steps)
        before = np.maximum.accumulate(np.concatenate(([self._longest], usual)))
        longest = self._longest
        for i in np.flatnonzero(steps > JUMP).tolist():
            longest = max(longest, float(before[i]))
            # While nothing is known of how often samples come, any sane step may be the usual one.
            if steps[i] > (longest * TIMES or SANE):
                jumps[i] = True
            else:
                longest = max(longest, float(steps[i]))
        self._longest = max(longest, float(before[-1]))
        return jumps

    @property
    def now(self) -> float:
        """The clock at the last sample."""
        return self._now

    @property
    def source_time(self) -> float:
        """What the source itself said last; NaN before it said anything."""
        return self._last
