"""The mean of a column, and what it is known to, in constant memory: sums of blocks of samples."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np

from ..arrays import AnyArray, Array
from ..distributions import student_quantile
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
    _rest: Array = field(default_factory=lambda: np.empty(0))

    def add(self, counts: AnyArray) -> None:
        """Take samples; those that are missing are left out by whoever calls."""
        values = np.concatenate((self._rest, counts))
        whole = values.size // self._size * self._size
        blocks = values[:whole].reshape(-1, self._size).sum(axis=1)
        self._sums, self._rest = np.concatenate((self._sums, blocks)), values[whole:]
        while self._sums.size > MOST:
            pairs = self._sums.size // 2 * 2
            odd = self._sums[pairs:]  # goes back to the samples that wait for their block
            self._rest = np.concatenate((np.repeat(odd / self._size, self._size), self._rest))
            self._sums = self._sums[:pairs].reshape(-1, 2).sum(axis=1)
            self._size *= 2

    def known(self, deviation: float) -> MeanKnown:
        """What the mean is known to, for samples of this standard deviation."""
        samples = self._sums.size * self._size + self._rest.size
        if self._sums.size < 4 or not deviation > 0:
            return MeanKnown()
        told = long_run(self._sums / self._size)
        if not told.degrees:
            return MeanKnown(samples / (told.time * self._size))
        variance = told.variance / self._sums.size
        if not variance > 0:
            return MeanKnown()
        half_width = student_quantile(told.degrees, 0.975) * math.sqrt(variance)
        return MeanKnown(min(deviation**2 / variance, samples), half_width)
