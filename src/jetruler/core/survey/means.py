"""The mean of a column, and what it is known to, in constant memory: sums of blocks of samples."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np

from ..arrays import AnyArray, Array
from ..coverage import coverage_factor
from ..uncertainty.succession import long_run

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
        told = long_run(self._sums / self._size)
        if not told.degrees:
            return MeanKnown(samples / (told.time * self._size))
        variance = told.variance / self._sums.size
        if not variance > 0:
            return MeanKnown()
        half_width = coverage_factor(told.degrees) * math.sqrt(variance)
        return MeanKnown(min(deviation**2 / variance, samples), half_width)
