"""Exact statistics of a column in constant memory, however long the log: how often each count came
up, envelopes, means of blocks, and the times between samples."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np

from ..numerics import AnyArray, Array, coverage_factor, long_run, steps_of

BINS = 2**18


#: Counts from here to 0 are not worth being taken off all others.
NEAR = 4096


@dataclass
class Histogram:
    """Counts of counts. Exact for converters of up to 17 bits and a sign; beyond, neighbouring
    counts share a bin (`width` of them), which only quantiles can see."""

    width: int = 1
    smallest: int | None = None
    largest: int | None = None
    _bins: AnyArray = field(default_factory=lambda: np.zeros(BINS, np.int64))
    _sum: int = 0
    _squares: int = 0
    _pairs: tuple[AnyArray, AnyArray] | None = None

    def add(self, counts: AnyArray) -> tuple[int, int]:
        """Count a batch of whole numbers; returns its smallest and largest (0, 0 of none)."""
        if not counts.size:
            return 0, 0
        self._pairs = None
        low, high = int(counts.min()), int(counts.max())
        self.smallest = low if self.smallest is None else min(low, self.smallest)
        self.largest = high if self.largest is None else max(high, self.largest)
        while max(-low, high + 1) > self.width * BINS // 2:
            self._widen()
        if high - low < BINS:
            near = 0 <= low < NEAR  # a few empty bins cost less than a pass over all counts
            local = (
                np.bincount(counts)[low:] if near else np.bincount(counts - counts.dtype.type(low))
            )
            values = np.arange(low, low + local.size)
        else:
            values, local = np.unique(counts, return_counts=True)
        if max(-low, high) < 2**24:  # the sums stay exact in 64 bits
            self._sum += int(values @ local)
            self._squares += int(values * values @ local)
        else:
            self._sum += sum(int(v) * int(n) for v, n in zip(values, local, strict=True) if n)
            self._squares += sum(
                int(v) ** 2 * int(n) for v, n in zip(values, local, strict=True) if n
            )
        if self.width == 1 and local.size == high - low + 1:
            self._bins[low + BINS // 2 : high + 1 + BINS // 2] += local
        else:
            np.add.at(self._bins, values // self.width + BINS // 2, local)
        return low, high

    def _widen(self) -> None:
        """Twice as many counts a bin: pairs of bins are merged round 0."""
        pairs = self._bins.reshape(-1, 2).sum(axis=1)
        self._bins[:] = 0
        self._bins[BINS // 4 : BINS // 4 + pairs.size] = pairs
        self.width *= 2

    @property
    def total(self) -> int:
        """How many samples."""
        return int(self.pairs()[1].sum())

    def pairs(self) -> tuple[AnyArray, AnyArray]:
        """The counts that came up (the lowest of each bin), ascending, and how often."""
        if self._pairs is None:
            # Only between the ends: the rest of the bins is empty, and large.
            ends = [(end or 0) // self.width + BINS // 2 for end in (self.smallest, self.largest)]
            there = np.flatnonzero(self._bins[ends[0] : ends[1] + 1]) + ends[0]
            self._pairs = (there - BINS // 2) * self.width, self._bins[there]
        return self._pairs

    @property
    def mean(self) -> float:
        """Mean; NaN of nothing."""
        return self._sum / self.total if self.total else math.nan

    @property
    def standard_deviation(self) -> float:
        """Standard deviation (n − 1); NaN of fewer than two samples."""
        n = self.total
        if n < 2:
            return math.nan
        # In whole numbers until the last step, so that nothing cancels.
        return math.sqrt((self._squares * n - self._sum**2) / (n * (n - 1)))

    def quantile(self, fraction: float) -> float:
        """The smallest count that at least this fraction of the samples does not exceed."""
        counts, occurrences = self.pairs()
        if not counts.size:
            return math.nan
        index = np.searchsorted(np.cumsum(occurrences), fraction * self.total, side="left")
        return float(counts[min(int(index), counts.size - 1)])

    def fraction_at(self, count: int) -> float:
        """Return the fraction of the samples at one count (of its bin)."""
        counts, occurrences = self.pairs()
        return float(
            occurrences[counts == count // self.width * self.width].sum() / max(self.total, 1)
        )


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


#: Sums that are kept; when there are more, neighbours are joined.
MOST = 1 << 13


@dataclass(frozen=True)
class MeanKnown:
    """What a mean is known to. independent: samples that tell as much if they were independent;
    half_width: of its 95 % interval, NaN where the samples move, so that no interval holds."""

    independent: float = math.nan
    half_width: float = math.nan


@dataclass
class BlockSums:
    """Sums of blocks of successive samples, exact for whole numbers, whatever the batches."""

    _size: int = 1
    _sums: Array = field(default_factory=lambda: np.empty(0))
    _begun: float = 0.0
    """Sum of the block that is not whole yet, which has so many samples:"""
    _in_begun: int = 0

    def add(self, counts: AnyArray) -> None:
        """Take samples; those that are missing are left out by whoever calls."""
        while self.samples + counts.size > MOST * self._size:
            self._join()
        head = min(counts.size, (self._size - self._in_begun) % self._size)
        whole = head + (counts.size - head) // self._size * self._size
        self._begun += float(counts[:head].sum(dtype=np.float64))
        self._in_begun += head
        sums = counts[head:whole].reshape(-1, self._size).sum(axis=1, dtype=np.float64)
        if self._in_begun == self._size:
            sums = np.concatenate(([self._begun], sums))
            self._begun, self._in_begun = 0.0, 0
        self._sums = np.concatenate((self._sums, sums))
        if whole < counts.size:
            self._begun += float(counts[whole:].sum(dtype=np.float64))
            self._in_begun += counts.size - whole

    @property
    def samples(self) -> int:
        """How many were taken."""
        return self._sums.size * self._size + self._in_begun

    def _join(self) -> None:
        """Blocks of twice the size: of pairs. A last one without its pair is begun again."""
        pairs = self._sums.size // 2 * 2
        self._begun += float(self._sums[pairs:].sum())
        self._in_begun += (self._sums.size - pairs) * self._size
        self._sums = self._sums[:pairs].reshape(-1, 2).sum(axis=1)
        self._size *= 2

    def known(self, deviation: float) -> MeanKnown:
        """What the mean is known to, for samples of this standard deviation."""
        samples = self.samples
        if self._sums.size < 4 or not deviation > 0:
            return MeanKnown()
        run = long_run(self._sums / self._size)
        if not run.dof:
            return MeanKnown(samples / (run.time * self._size))
        variance = run.variance / self._sums.size
        if not variance > 0:
            return MeanKnown()
        half_width = coverage_factor(run.dof) * math.sqrt(variance)
        return MeanKnown(min(deviation**2 / variance, samples), half_width)
