"""How often each value came up, with exact sums, however wide the values and long the log."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np

from ..numerics import AnyArray, Array

#: Different values that are kept one by one. Of more, neighbours share a bin.
DISTINCT = 2**17
#: Values that lie in so narrow a span are counted by place; wider ones are sorted.
SPAN = 2**18
#: Values from here to 0 are not worth being taken off all others.
NEAR = 4096
#: Samples that are summed at once: their sums then fit 64 bits.
AT_ONCE = 2**20
#: Bits of a part of a difference; three parts hold any difference of two values.
PART = 21
#: The most that a narrow place counts to.
_KINDS: dict[type, int] = {np.uint16: 2**16 - 1, np.int32: 2**31 - 1, np.int64: 2**63 - 1}
_NONE: AnyArray = np.empty(0, np.int64)


@dataclass
class Distribution:
    """Whole numbers and how often each came up. Any split into batches gives the same.

    Sum and squares are exact. Values, and so the quantiles, are exact for up to `DISTINCT`
    different ones; of more, 2**shift neighbours share a bin, which keeps their mean.
    """

    shift: int = 0
    smallest: int | None = None
    largest: int | None = None
    total: int = 0
    _sum: int = 0
    _squares: int = 0
    _divisor: int = 0
    """Greatest common divisor of all."""
    _first: int = 0
    """What the place 0 of `_places` represents."""
    _places: AnyArray | None = field(default_factory=lambda: np.zeros(0, np.uint16))
    """Occurrences by place; None as soon as the span is too wide."""
    _bins: AnyArray = field(default_factory=lambda: _NONE)
    """The bins that came up, ascending, each value // 2**shift; with"""
    _occurrences: AnyArray = field(default_factory=lambda: _NONE)
    _rests: AnyArray = field(default_factory=lambda: _NONE)
    """their occurrences, and the sum of what their values lie above the bin's first."""

    @property
    def width(self) -> int:
        """How many neighbouring values share a bin: no quantile is further off."""
        return 1 << self.shift

    def add(self, values: AnyArray) -> None:
        """Count a batch of whole numbers, each within ±2**60."""
        for start in range(0, values.size, AT_ONCE):
            self._add(values[start : start + AT_ONCE])

    def _add(self, values: AnyArray) -> None:
        low, high = int(values.min()), int(values.max())
        self.smallest = low if self.smallest is None else min(low, self.smallest)
        self.largest = high if self.largest is None else max(high, self.largest)
        self.total += values.size
        if high - low < SPAN:
            first = 0 if 0 <= low < NEAR else low
            places = np.bincount(values - values.dtype.type(first) if first else values)
            off = np.arange(places.size)
            self._add_sums(first, places, int(off @ places), int((off * off) @ places))
            if self._places is not None and self._reach(low, high):
                at = first - self._first
                skip = max(0, -at)  # places before the first are empty
                room = self._places[at + skip : at + places.size]
                np.add(room, places[skip:], out=room, casting="unsafe")
                return
            there = np.flatnonzero(places)
            kept, occurrences = there + first, places[there]
        else:
            kept, occurrences = np.unique(values, return_counts=True)
            kept = kept.astype(np.int64)
            self._add_sums(low, occurrences, *_sums(kept - low, occurrences))
        if self._divisor != 1:
            self._divisor = math.gcd(self._divisor, int(np.gcd.reduce(kept)))
        self._to_bins()
        bins = kept >> self.shift
        self._merge(bins, occurrences, (kept - (bins << self.shift)) * occurrences)

    def _add_sums(self, first: int, occurrences: AnyArray, off: int, squares: int) -> None:
        """Take in the sums of values that are given by how far they are off the first."""
        n = int(occurrences.sum())
        self._sum += first * n + off
        self._squares += first * first * n + 2 * first * off + squares

    def _reach(self, low: int, high: int) -> bool:
        """Make places for a batch; False where the span is too wide for them."""
        assert self._places is not None
        if self.total > _KINDS[self._places.dtype.type]:  # as narrow as counts can be
            kind = next(kind for kind, most in _KINDS.items() if self.total <= most)
            self._places = self._places.astype(kind)
        size = self._places.size
        first = low if not size else min(low, self._first)
        last = high if not size else max(high, self._first + size - 1)
        if last - first >= SPAN:
            return False
        if not size or first < self._first or last >= self._first + size:
            room = (last - first) // 8 + 64  # so that a slow rise does not copy again and again
            places = np.zeros(last - first + 1 + 2 * room, self._places.dtype)
            if size:
                at = self._first - first + room
                places[at : at + size] = self._places
            self._first, self._places = first - room, places
        return True

    def _to_bins(self) -> None:
        if self._places is None:
            return
        self._bins, self._occurrences = self._binned()
        self._rests = np.zeros_like(self._bins)
        if self._bins.size:
            self._divisor = math.gcd(self._divisor, int(np.gcd.reduce(self._bins)))
        self._places = None

    def _merge(self, bins: AnyArray, occurrences: AnyArray, rests: AnyArray) -> None:
        """Add bins, and double their width as long as there are too many."""
        bins = np.concatenate((self._bins, bins))
        occurrences = np.concatenate((self._occurrences, occurrences))
        rests = np.concatenate((self._rests, rests))
        while True:
            order = np.argsort(bins, kind="stable")
            bins = bins[order]
            starts = np.flatnonzero(np.diff(bins, prepend=bins[0] - 1))
            occurrences = np.add.reduceat(occurrences[order], starts)
            rests = np.add.reduceat(rests[order], starts)
            bins = bins[starts]
            if bins.size <= DISTINCT:
                break
            rests = rests + ((bins & 1) << self.shift) * occurrences
            bins = bins >> 1
            self.shift += 1
        self._bins, self._occurrences, self._rests = bins, occurrences, rests

    def scaled(self, by: int, over: int = 1) -> None:
        """Multiply every value, as what is counted is now a finer step; or divide it (over), as it
        is a coarser one: rounded, and so are sum and squares."""
        self._to_bins()
        if over > 1:
            values, occurrences = self.pairs()
            kept = np.rint(values / over * by).astype(np.int64)
            self._bins = self._occurrences = self._rests = _NONE
            bins = kept >> self.shift
            if bins.size:
                self._merge(bins, occurrences, (kept - (bins << self.shift)) * occurrences)
        elif self.smallest or self.largest:  # zeros stay, by whatever they are multiplied
            firsts = (self._bins << self.shift) * by
            self._bins = firsts >> self.shift
            self._rests = (
                self._rests * by + (firsts - (self._bins << self.shift)) * self._occurrences
            )
        self._sum = rescaled(self._sum, by, over)
        self._squares = rescaled(self._squares, by * by, over * over)
        self._divisor = self._divisor * by if over == 1 else 1
        self.smallest = None if self.smallest is None else rescaled(self.smallest, by, over)
        self.largest = None if self.largest is None else rescaled(self.largest, by, over)

    def pairs(self) -> tuple[AnyArray, AnyArray]:
        """The values that came up, ascending, and how often each did.

        Of bins, their means, as floats.
        """
        bins, occurrences = self._binned()
        if self.shift:
            return (bins << self.shift) + self._rests / occurrences, occurrences
        return bins, occurrences

    @property
    def distinct(self) -> int:
        """How many different values, or bins of them, came up."""
        return int(self.pairs()[0].size)

    @property
    def divisor(self) -> int:
        """The greatest common divisor of all values; 1 of none, or of zeros."""
        if self.shift:
            return self._divisor or 1
        values = self.pairs()[0]
        return int(np.gcd.reduce(values)) or 1 if values.size else 1

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
        """The smallest value that at least this fraction of the samples does not exceed."""
        values, occurrences = self.pairs()
        if not values.size:
            return math.nan
        index = int(np.searchsorted(np.cumsum(occurrences), fraction * self.total, side="left"))
        if index <= 0:
            return float(self.smallest or 0)
        return float(values[index] if index < values.size - 1 else self.largest or 0)

    @property
    def median(self) -> float:
        """The middle sample, or the mean of the middle two."""
        values, occurrences = self.pairs()
        if not values.size:
            return math.nan
        places = np.array([(self.total - 1) // 2, self.total // 2])
        middle = values[np.searchsorted(np.cumsum(occurrences), places, side="right")]
        return float(middle[0]) + 0.5 * float(middle[1] - middle[0])

    def fraction_at(self, value: float) -> float:
        """Return the fraction of the samples at one value, or in its bin."""
        values, occurrences = self.pairs()
        if self.shift:
            values = np.floor(values).astype(np.int64) >> self.shift
            value = int(value) >> self.shift
        return float(occurrences[values == value].sum() / max(self.total, 1))

    def between(self, low: float, high: float) -> Distribution:
        """Only the values from low to high."""
        values, occurrences = self.pairs()
        kept = (values >= low) & (values <= high)
        if kept.all():
            return self
        found = Distribution(total=int(occurrences[kept].sum()), _places=None)
        found.shift, found._divisor = self.shift, self._divisor
        found._bins, found._occurrences = self._binned()
        found._rests = self._rests if self._places is None else np.zeros_like(found._bins)
        for name in ("_bins", "_occurrences", "_rests"):
            setattr(found, name, getattr(found, name)[kept])
        if found.total:
            ends = values[kept][[0, -1]]
            below, above = values[0] >= low, values[-1] <= high
            found.smallest = self.smallest if below else math.floor(ends[0])
            found.largest = self.largest if above else math.ceil(ends[1])
        out = zip(values[~kept].tolist(), occurrences[~kept].tolist(), strict=True)
        gone = [(round(v), n) for v, n in out]
        found._sum = self._sum - sum(v * n for v, n in gone)
        found._squares = self._squares - sum(v * v * n for v, n in gone)
        return found

    def _binned(self) -> tuple[AnyArray, AnyArray]:
        if self._places is None:
            return self._bins, self._occurrences
        there = np.flatnonzero(self._places)
        return there + self._first, self._places[there].astype(np.int64)


def rescaled(count: int, by: int, over: int) -> int:
    """A whole number times one and over another, rounded."""
    return (2 * count * by + over) // (2 * over)


def _sums(off: AnyArray, occurrences: AnyArray) -> tuple[int, int]:
    """Sum and sum of squares of numbers from 0 to 2**62, each as often as it came up, exactly.

    Each is cut into three parts of 21 bits: a·2⁴² + b·2²¹ + c. No product of two parts, summed
    over a million samples, is wider than 62 bits.
    """
    mask = (1 << PART) - 1
    a, b, c = off >> 2 * PART, (off >> PART) & mask, off & mask
    na, nb, nc = a * occurrences, b * occurrences, c * occurrences
    total = (int(na.sum()) << 2 * PART) + (int(nb.sum()) << PART) + int(nc.sum())
    squares = (int(na @ a) << 4 * PART) + (2 * int(na @ b) << 3 * PART)
    squares += (2 * int(na @ c) + int(nb @ b)) << 2 * PART
    squares += (2 * int(nb @ c) << PART) + int(nc @ c)
    return total, squares


#: A fraction of the samples, on each side, that may be so far off that it is none of them; fewer
#: samples than the least say nothing of the kind.
STRAYS, LEAST = 0.01, 10
#: Neighbours are never apart: this many steps between them are none that tell.
CLOSE = 8


def core_of(found: Distribution) -> tuple[float, float]:
    """The ends of what belongs together: beyond lies what is apart from all of it by more than its
    whole span, at most one sample in a hundred on each side (or one)."""
    values, occurrences = found.pairs()
    total = int(occurrences.sum())
    if total < LEAST:
        return -math.inf, math.inf
    strays = max(1, int(STRAYS * total))
    below = np.cumsum(occurrences)
    low = int(np.searchsorted(below, strays, side="right"))
    high = int(np.searchsorted(below, total - strays, side="left"))
    steps: Array = np.diff(values).astype(np.float64)
    close = CLOSE * found.divisor
    while True:
        span = max(float(values[high] - values[low]), close)
        if high < steps.size and steps[high] <= span:
            high += 1
        elif low > 0 and steps[low - 1] <= span:
            low -= 1
        else:
            return float(values[low]), float(values[high])
