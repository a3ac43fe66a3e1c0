"""How often each count came up: exact statistics in constant memory, however long the log."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np

from ..arrays import AnyArray

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
        counts, often = self.pairs()
        if not counts.size:
            return math.nan
        place = np.searchsorted(np.cumsum(often), fraction * self.total, side="left")
        return float(counts[min(int(place), counts.size - 1)])

    def fraction_at(self, count: int) -> float:
        """Return the fraction of the samples at one count (of its bin)."""
        counts, often = self.pairs()
        return float(often[counts == count // self.width * self.width].sum() / max(self.total, 1))
