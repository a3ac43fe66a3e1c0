"""A long series as the smallest and largest of each stretch: no spike is lost in a picture."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ..arrays import AnyArray, Array

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
