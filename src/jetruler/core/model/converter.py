"""Where every chain of counts begins: a converter with a finite set of counts."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from ..arrays import Array, FlagArray
from ..errors import ParameterError
from .law import Law
from .reading import Flag


@dataclass(frozen=True)
class Converter(Law):
    """A converter with a finite set of counts. Counts outside it become NaN, flagged off_scale;
    the lowest and highest count are flagged as rails."""

    bits: int

    @property
    def lowest(self) -> int:
        """The smallest count this converter gives."""
        return -(2 ** (self.bits - 1)) if self._is_signed() else 0

    @property
    def highest(self) -> int:
        """The largest count this converter gives."""
        return int(2 ** (self.bits - 1 if self._is_signed() else self.bits) - 1)

    def _is_signed(self) -> bool:
        return bool(getattr(self, "signed", False))

    @property
    def takes(self) -> str | None:
        return "count"

    def check(self) -> Iterator[ParameterError]:
        if isinstance(self.bits, float) or not 1 <= self.bits <= 32:
            yield ParameterError("bits", self.bits, "a whole number from 1 to 32 is right")
        if (error := getattr(self, "error_lsb", 0.0)) < 0:
            yield ParameterError("error_lsb", error, "0 counts or more is right")

    def on_scale(self, counts: Array) -> Array:
        """The counts, with NaN for those that this converter cannot give."""
        return np.where((counts >= self.lowest) & (counts <= self.highest), counts, np.nan)

    def reachable(self, counts: Array) -> Array:
        """The counts, with NaN for those more than half a step beyond the range."""
        inside = (counts >= self.lowest - 0.5) & (counts <= self.highest + 0.5)
        return np.where(inside, counts, np.nan)

    def flags(self, x: Array) -> FlagArray:
        out = np.zeros(x.shape, np.uint8)
        out[x == self.lowest] = Flag.LOW_RAIL
        out[x == self.highest] = Flag.HIGH_RAIL
        out[(x < self.lowest) | (x > self.highest)] = Flag.OFF_SCALE
        return out
