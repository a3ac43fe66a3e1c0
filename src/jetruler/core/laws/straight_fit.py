"""How lines and polynomials are fitted."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from ..arrays import Array
from ..model.fit_model import OF_RESULT, FitAsked, FitModel
from ..model.law import Law


class PolynomialModel(FitModel):
    """c0 + c1 x + …"""

    def __init__(self, asked: FitAsked, kind: Any, degree: int) -> None:
        x = asked.x
        self.asked, self.kind, self.degree = asked, kind, degree
        self.middle = 0.5 * float(x.min() + x.max())
        self.half = 0.5 * float(np.ptp(x)) or 1.0
        self.names = tuple(f"c{i}" for i in range(degree + 1))
        self.units: tuple[str | None, ...] = (OF_RESULT, *[None] * degree)
        self.neutral: Mapping[str, float] = {f"c{degree}": 0.0}
        # Column k: the powers of x in ((x − middle) / half)^k.
        self.to_powers = np.zeros((degree + 1, degree + 1))
        for k in range(degree + 1):
            power = np.polynomial.polynomial.polypow([-self.middle / self.half, 1 / self.half], k)
            self.to_powers[: k + 1, k] = power

    @property
    def paths(self) -> tuple[str, ...]:
        return tuple(f"coefficients[{i + 1}]" for i in range(self.degree + 1))

    def design(self, x: Array) -> Array:
        return np.vander((x - self.middle) / self.half, self.degree + 1, increasing=True)

    def values(self, theta: Array) -> Array:
        return self.to_powers @ theta

    def values_slope(self, theta: Array) -> Array:
        return self.to_powers

    def law(self, values: Array) -> Law:
        return self._made(tuple(values.tolist()))

    def _made(self, *parameters: Any, **named: Any) -> Law:
        law: Law = self.kind(*parameters, **named, unit=self.asked.unit, takes=self.asked.takes)
        return law


class LineModel(PolynomialModel):
    """gain · x + offset."""

    def __init__(self, asked: FitAsked, kind: Any) -> None:
        super().__init__(asked, kind, 1)
        self.names, self.units = ("gain", "offset"), (None, OF_RESULT)
        # A line that keeps the unit corrects what is there already: it may be nothing at all.
        self.neutral = {"offset": 0.0} | ({"gain": 1.0} if asked.unit is None else {})
        self.to_powers = self.to_powers[::-1]

    @property
    def paths(self) -> tuple[str, ...]:
        return self.names

    def law(self, values: Array) -> Law:
        gain, offset = values.tolist()
        return self._made(gain, offset)

    def exact(self, asked: FitAsked) -> Law | None:
        """A line through two marks is kept as the marks."""
        if asked.x.size != 2 or asked.unit is None:
            return None
        (x0, x1), (y0, y1) = asked.x.tolist(), asked.y.tolist()
        return self._made(marks=((x0, y0), (x1, y1)))


class OffsetModel(FitModel):
    """gain · x + offset with a gain that is given."""

    def __init__(self, asked: FitAsked, kind: Any) -> None:
        self.asked, self.kind, self.gain = asked, kind, asked.fixed("gain", 1.0) or 1.0
        self.names, self.units = ("offset",), (OF_RESULT,)
        self.neutral = {"offset": 0.0}

    def design(self, x: Array) -> Array:
        return np.ones((x.size, 1))

    def fixed(self, x: Array) -> Array:
        return self.gain * x

    def values(self, theta: Array) -> Array:
        return theta

    def values_slope(self, theta: Array) -> Array:
        return np.eye(1)

    def law(self, values: Array) -> Law:
        asked = self.asked
        law: Law = self.kind(self.gain, float(values[0]), unit=asked.unit, takes=asked.takes)
        return law
