"""What is summed up of a column in constant memory: envelopes, the times between samples, and what
the mean is known to."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np

from ..numerics import AnyArray, Array, coverage_factor, rounded_readings, step_decimals, steps_of
from ..ruler.units import many, number
from ..series import are_independent, long_run

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


#: Different intervals that are distinguished; a log has few, but a torn one may have many.
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
            why = "it has no later sample" if self.samples > 1 else "one sample only"
            return f"{self.name}: {why}"
        rate = f" ({number(1 / self.interval, 4)} Hz)" if self.interval > 0 else ""
        return (
            f"{self.name}: every {number(self.interval)} s{rate}, "
            f"jitter {number(self.jitter, 2)} s, {many(self.gaps, 'gap')}, "
            f"{many(self.steps_back, 'step')} back, {many(self.repeats, 'repeat')}"
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
        there = None  # all, mostly: one sum tells
        with np.errstate(all="ignore"):
            if not np.isfinite(steps.sum()):
                there = np.flatnonzero(np.isfinite(steps))
                steps = steps[there]
        if times.size:
            self._last = float(times[-1])
        for kind, i, count in _kinds(steps, step_decimals(times)):
            if kind not in self._occurrences and len(self._occurrences) >= KINDS:
                kind = min(self._occurrences, key=lambda known: abs(known - kind))
            self._occurrences[kind] = self._occurrences.get(kind, 0) + count
            self._first.setdefault(kind, self.rows + (i if there is None else int(there[i])))
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


def _kinds(steps: Array, known: int) -> list[tuple[float, int, int]]:
    """The different steps in nine digits (enough to distinguish intervals, too few to tell rounding
    errors apart) and no more decimals than are known, where each comes up first, and how often."""
    if not steps.size:
        return []
    low, high = float(steps.min()), float(steps.max())
    scale = max(-low, high)
    decimals = min(8 - math.floor(math.log10(scale)), known) if scale else known
    ends = np.round(np.array([low, high]), decimals)
    if ends[0] == ends[1]:  # the usual log: one step, whatever its rounding errors
        return [(float(ends[0]), 0, steps.size)]
    kinds = np.unique(np.round(steps, decimals), return_index=True, return_counts=True)
    return list(zip(*(part.tolist() for part in kinds), strict=True))


def _median(kinds: Array, occurrences: AnyArray) -> float:
    if not kinds.size:
        return math.nan
    return float(kinds[np.searchsorted(np.cumsum(occurrences), 0.5 * occurrences.sum())])


def _deviation(kinds: Array, occurrences: AnyArray) -> float:
    if kinds.size < 2:  # one interval has no rounding errors beside its own
        return 0.0 if kinds.size else math.nan
    mean = float(kinds @ occurrences) / float(occurrences.sum())
    return math.sqrt(float((kinds - mean) ** 2 @ occurrences) / float(occurrences.sum()))


#: Sums that are kept; when there are more, neighbours are joined.
MOST = 1 << 13
#: Fewer samples than these tell too little of how they vary.
FEWEST = 15
#: The steps may shift a mean by so much of its half-width, and no more.
SHIFT = 0.25
#: Noise whose excess kurtosis is larger is not normal; it leaves at most so much of a step, times
#: the step over its standard deviation: 1/(π²√12) of evenly spread noise, the worst of the usual.
#: A kurtosis below the third figure is that of a steady wave, which leaves 1/(π²√√2) of a step,
#: over the root of its deviation: the first Fourier term of the steps, averaged over a sine.
KURTOSIS, LEAVES, WAVE, WAVE_LEAVES = 0.4, 0.03, 1.65, 0.0852


@dataclass(frozen=True)
class MeanKnown:
    """What a mean is known to.

    Attributes
    ----------
    independent : float
        How many independent samples would tell as much.
    half_width : float
        Half-width of its 95 % interval; NaN where there is none.
    reason : str
        Why there is no interval; empty where there is one.
    """

    independent: float = math.nan
    half_width: float = math.nan
    reason: str = ""


@dataclass
class BlockSums:
    """Sums and ends of blocks of successive samples, exact for whole numbers, whatever the
    batches."""

    size: int = 1
    most: int = MOST
    """Blocks that are kept at most."""
    _sums: Array = field(default_factory=lambda: np.empty(0))
    _lows: Array = field(default_factory=lambda: np.empty(0))
    _highs: Array = field(default_factory=lambda: np.empty(0))
    _begun: AnyArray = field(default_factory=lambda: np.empty(0, np.int16))
    """The samples of the block that is not whole yet."""
    samples: int = 0

    def add(self, counts: AnyArray) -> None:
        """Take samples; those that are missing are left out by whoever calls."""
        # Narrow numbers are summed as they are; sums of wide ones may need more than 64 bits.
        wide = counts.dtype.itemsize == 8
        values = np.concatenate((self._begun, counts.astype(np.float64) if wide else counts))
        self.samples += counts.size
        while (self._sums.size + values.size // self.size) > self.most:
            pairs = self._sums.size // 2 * 2
            if self._sums.size > pairs:  # a last one without its pair cannot be taken apart
                need = self.size
                if values.size < need:
                    break
                self._take(values[:need])
                values = values[need:]
                pairs = self._sums.size
            self._sums = self._sums[:pairs].reshape(-1, 2).sum(axis=1)
            self._lows = self._lows[:pairs].reshape(-1, 2).min(axis=1)
            self._highs = self._highs[:pairs].reshape(-1, 2).max(axis=1)
            self.size *= 2
        whole = values.size // self.size * self.size
        self._take(values[:whole])
        self._begun = values[whole:].copy()  # not a view, which would keep all of them

    def _take(self, values: AnyArray) -> None:
        if self.size == 1:  # one array is all three
            self._sums = self._lows = self._highs = np.concatenate((self._sums, values))
            return
        blocks = values.reshape(-1, self.size)
        kind = np.float64 if values.dtype.kind == "f" else np.int64
        self._sums = np.concatenate((self._sums, blocks.sum(axis=1, dtype=kind)))
        self._lows = np.concatenate((self._lows, blocks.min(axis=1)))
        self._highs = np.concatenate((self._highs, blocks.max(axis=1)))

    def scaled(self, by: int, over: int = 1) -> None:
        """Multiply every sample, or divide it: what is counted is now another step."""
        for name in ("_sums", "_lows", "_highs", "_begun"):
            setattr(self, name, getattr(self, name).astype(np.float64) * by / over)

    def known(self, deviation: float, ends: tuple[float, float], lsb: float) -> MeanKnown:
        """What the mean of the samples between two ends is known to.

        Parameters
        ----------
        deviation : standard deviation of these samples.
        lsb : the step that they are rounded to.
        """
        inside = (self._lows >= ends[0]) & (self._highs <= ends[1])
        return mean_known(self._sums[inside] / self.size, self.size, deviation, lsb)


def mean_known(means: Array, size: int, deviation: float, lsb: float) -> MeanKnown:
    """What the mean is known to, from the means of blocks of this many successive samples.

    Independent samples give t·s/√n, others the long-run variance. No interval is told where the
    noise does not dither the steps: the mean may then be off by a part of a step that no number of
    samples averages out. Source: JCGM 100:2008, 4.2.3 and 4.3.7.
    """
    n = means.size * size
    if n < FEWEST:
        return MeanKnown(reason=f"{many(n, 'sample')}: too few to estimate their variation")
    if not deviation > 0:
        return MeanKnown(reason="all samples are the same: the mean is known only to half a step")
    if are_independent(means):
        independent = float(n)
        half_width = coverage_factor(n - 1) * deviation / math.sqrt(n)
    else:
        run = long_run(means)
        variance = run.variance / means.size
        if not run.dof or not variance > 0:
            reason = "the samples move, or are correlated over too long a time"
            return MeanKnown(n / (run.time * size), reason=reason)
        independent = min(deviation**2 / variance, n)
        half_width = coverage_factor(run.dof) * math.sqrt(variance)
    if lsb * _shift(means, deviation / lsb) > SHIFT * half_width:
        reason = "the noise is too small for the steps: averaging does not remove the rounding"
        return MeanKnown(independent, reason=reason)
    return MeanKnown(independent, half_width)


def _shift(means: Array, deviation: float) -> float:
    """The most that rounding may shift the mean, in steps, for a deviation in steps."""
    noise = math.sqrt(max(deviation**2 - 1 / 12, 0.0))
    off = (means - means.mean()) / means.std()
    kurtosis = float(np.mean(off**4))
    if abs(kurtosis - 3.0) > KURTOSIS:
        left = (
            WAVE_LEAVES / math.sqrt(noise) if noise and kurtosis < WAVE else LEAVES / (noise or 1)
        )
        return min(0.5, left) if noise else 0.5
    return float(np.max(np.abs(rounded_readings(min(noise, 2.0))[0])))
