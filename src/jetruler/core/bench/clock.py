"""A source's time as seconds that never go back: what decides goes on even where the source's own
clock stops, leaps, or cannot be read."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np

from ..numerics import AnyArray, Array, Truths, steps_of

#: A step of a source's time is a jump if it is longer than this (s) and this many of the longest
#: step before: a board that began its time again, or a cell that was misread.
JUMP, TIMES = 60.0, 100.0
#: The longest sampling interval in seconds: four months.
SANE = 1e7
#: A time stops if it does not grow for this many seconds, and for this many of its usual steps:
#: times to whole seconds come several times each.
STILL, STEPS = 1.0, 3.0
#: This many samples tell the usual step of a source without times of arrival.
USUAL = 256


@dataclass
class Clock:
    """Seconds that never go back and never leap.

    Where a source's time stops, leaps, goes back or cannot be read, the clock goes on by the
    times of arrival, or else by the source's usual step (once 256 samples have told it). Where it
    leaps or goes back, the sample is a restart too: what counts time starts again there.

    Attributes
    ----------
    jumps : int
        How many restarts there were.
    faults : array of bool
        Where in the last batch the source's own time was of no use.
    why : str
        What is wrong with it at the last sample, in words; empty where nothing is.
    """

    jumps: int = 0
    faults: Truths = field(default_factory=lambda: np.zeros(0, np.bool_), compare=False)
    why: str = ""
    _last: float = math.nan
    """The source's time at the last sample."""
    _now: float = 0.0
    _longest: float = 0.0
    _since: tuple[float, float] = (math.nan, math.nan)
    """The source's time and the clock where it last had to be set."""
    _count: int = 0
    _first: float = math.nan
    _step: float = 0.0
    """The usual step, where arrivals are unknown; NaN where they are known."""
    _beside: float = math.nan
    _grown: float = math.nan
    """By arrivals (or usual steps): the last sample, and the last at which the time grew."""
    _growth: tuple[float, int] = (0.0, 0)
    """How much the source's time has grown, and in how many steps."""
    _ahead: float = 0.0
    """How far the clock went on while the source's time was of no use."""
    _after_fault: bool = False
    """Whether the last sample was one whose time was of no use."""

    def add(
        self, times: AnyArray | list[float], arrivals: AnyArray | list[float] | None = None
    ) -> tuple[Array, Truths]:
        """The clock at each sample, and where it restarts. times: of the source, in s. arrivals:
        when each sample came, in s of another clock; None if it is unknown."""
        t = np.array(times, dtype=np.float64)
        nothing: Truths = np.zeros(t.size, np.bool_)
        self.faults = nothing
        if not t.size:
            return t, nothing
        unread: Truths = ~np.isfinite(t)
        if unread.any():
            known = np.where(unread, 0, np.arange(1, t.size + 1))
            t = np.concatenate(([self._last], t))[np.maximum.accumulate(known)]
            if math.isnan(t[-1]) and arrivals is None:  # not one time is known yet
                self.faults, self.why = unread, "cannot be read"
                return np.full(t.size, self._now), nothing
            t[np.isnan(t)] = t[~np.isnan(t)][0] if not math.isnan(t[-1]) else 0.0
        if math.isnan(self._last):
            self._since, self._last = (float(t[0]), self._now or float(t[0])), float(t[0])
            self._now = self._since[1]
        steps = steps_of(t, self._last)
        restarts = self._jumps(steps)
        beside = self._arrived(t, restarts, arrivals)
        stuck = self._stuck(steps, restarts, beside) & ~unread
        self.faults = unread | restarts | stuck
        clock = self._clock(t, steps, beside)
        self.why = ""
        for words, faults in (
            ("cannot be read", unread), ("leaps", restarts), ("stops", stuck),
        ):  # fmt: skip
            self.why = words if faults[-1] else self.why
        self._last, self._beside = float(t[-1]), float(beside[-1])
        self.jumps += int(np.count_nonzero(restarts))
        return clock, restarts

    def _arrived(
        self, t: Array, restarts: Truths, arrivals: AnyArray | list[float] | None
    ) -> Array:
        """When each sample came; or as many usual steps after the first as there are samples. They
        are told by the first samples alone, so that no cut into batches shows."""
        first, self._count = self._count, self._count + t.size
        if arrivals is not None:
            self._step = math.nan
            return np.asarray(arrivals, np.float64)
        if not first:
            self._first = float(t[0])
        if first < USUAL <= self._count:
            self._step = max(0.0, float(t[USUAL - 1 - first]) - self._first) / (USUAL - 1)
        number = np.arange(first, self._count)
        # Before it is known, no step is usual.
        return np.where(number >= USUAL, number - USUAL + 1.0, 0.0) * self._step

    def _stuck(self, steps: Array, restarts: Truths, beside: Array) -> Truths:
        """Where the time has not grown for long."""
        if math.isnan(self._grown):
            self._grown = self._beside = float(beside[0])
        grows = (steps > 0) & ~restarts
        # How much it grows where it does, on average so far.
        total = np.cumsum(np.concatenate(([self._growth[0]], np.where(grows, steps, 0.0))))
        many = self._growth[1] + np.cumsum(grows)
        self._growth = (float(total[-1]), int(many[-1]))
        usual = total[1:] / np.maximum(many, 1)
        index = np.maximum.accumulate(np.where(grows, np.arange(1, steps.size + 1), 0))
        since = np.concatenate(([self._grown], beside))[index]
        self._grown = float(since[-1])
        stuck: Truths = (beside - since > np.maximum(STILL, STEPS * usual)) & ~grows
        return stuck

    def _clock(self, t: Array, steps: Array, beside: Array) -> Array:
        """The clock: as the source's time grows, but where that is of no use."""
        clock = np.empty(t.size)
        by_arrival = np.maximum(np.diff(beside, prepend=self._beside), 0.0)
        # Behind a fault, the time may have caught up with what the clock went on meanwhile.
        after = np.concatenate(([self._after_fault], self.faults[:-1])) & ~self.faults
        self._after_fault = bool(self.faults[-1])
        begun = 0
        for i in np.flatnonzero(self.faults | after).tolist():
            self._run(clock, t, begun, i)
            if self.faults[i]:
                move = float(by_arrival[i])
                self._ahead += move
            else:
                step = float(steps[i])
                move = step - self._ahead if step >= self._ahead else float(by_arrival[i])
                self._ahead = 0.0
            self._now += move
            clock[i] = self._now
            self._since = (float(t[i]), self._now)
            begun = i + 1
        self._run(clock, t, begun, t.size)
        return clock

    def _run(self, clock: Array, t: Array, begin: int, end: int) -> None:
        """A stretch in which the source's time is sound."""
        if end > begin:
            source, then = self._since
            part = t[begin:end]
            clock[begin:end] = part if source == then else then + (part - source)
            self._now = float(clock[end - 1])

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

    def later(self, seconds: float) -> tuple[float, Array | None]:
        """The source's time and that of arrival this many seconds after the last sample."""
        time = seconds if math.isnan(self._last) else self._last + seconds
        return time, np.array([self._beside + seconds]) if math.isnan(self._step) else None

    @property
    def now(self) -> float:
        """The clock at the last sample."""
        return self._now
