"""What the state machines share: holding a decision, and a clock that never goes back."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ..arrays import AnyArray, Array, Truths


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


@dataclass
class Clock:
    """Seconds that never go back: where a source starts its time again, so much is added that
    the clock goes on. A time that is missing is that of the sample before."""

    _last: float = math.nan
    _added: float = 0.0
    _now: float = 0.0

    def add(self, times: AnyArray | list[float]) -> Array:
        """The clock at each sample."""
        t = np.array(times, dtype=np.float64)
        if not t.size:
            return t
        missing = ~np.isfinite(t)
        if missing.any():
            if math.isnan(self._last):
                first = t[~missing]
                self._last = float(first[0]) if first.size else math.nan
            known = np.where(missing, 0, np.arange(1, t.size + 1))
            t = np.concatenate(([self._last], t))[np.maximum.accumulate(known)]
            if math.isnan(self._last):  # not one time is known yet
                return np.full(t.size, self._now)
        steps = np.diff(t, prepend=t[0] if math.isnan(self._last) else self._last)
        back = np.minimum(steps, 0.0)
        added = np.cumsum(np.concatenate(([self._added], -back)))[1:]
        self._last, self._added = float(t[-1]), float(added[-1])
        result: Array = t + added
        self._now = float(result[-1])
        return result

    @property
    def now(self) -> float:
        """The clock at the last sample."""
        return self._now

    @property
    def source_time(self) -> float:
        """What the source itself said last; NaN before it said anything."""
        return self._last
