"""Laws that shape a value: clamps, limits and whole numbers."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import ClassVar, Literal, get_args

import numpy as np

from ..arrays import Array, FlagArray
from ..errors import ParameterError
from ..reading import Flag
from ..text import number, shown
from ..units import canonical
from .base import Law


@dataclass(frozen=True)
class Interval(Law):
    """An interval from low to high, either end of which may be left open."""

    low: float | None = None
    high: float | None = None
    unit: str | None = None

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.unit is not None:
            object.__setattr__(self, "unit", canonical(self.unit))

    @property
    def takes(self) -> str | None:
        return self.unit

    def check(self) -> Iterator[ParameterError]:
        if self.low is None and self.high is None:
            yield ParameterError("low", None, "at least one of low and high is wanted")
        elif self.low is not None and self.high is not None and self.low >= self.high:
            yield ParameterError("low", self.low, f"a value below high, {number(self.high)}")

    def slope(self, x: Array) -> Array:
        return np.ones_like(x)

    def flags(self, x: Array) -> FlagArray:
        out = np.zeros(x.shape, np.uint8)
        if self.low is not None:
            out[x < self.low] = Flag.BELOW
        if self.high is not None:
            out[x > self.high] = Flag.ABOVE
        return out

    def _place(self, x: float) -> str:
        """Where x stands to the ends, as `0 ≤ 35 ≤ 100`."""
        left = "" if self.low is None else f"{number(self.low)} {'≤' if self.low <= x else '>'} "
        right = ""
        if self.high is not None:
            right = f" {'≤' if x <= self.high else '>'} {number(self.high)}"
        return f"{left}{number(x)}{right}"


@dataclass(frozen=True)
class Clamp(Interval):
    """y = x held between low and high; what was outside is flagged below or above.

    low, high: the ends, in the unit that comes in (or in `unit`, checked at the joint); either
    may be left out. It acts where it stands in the chain. The inverse outside the ends is NaN.
    Raises `ParameterError` when low is not below high.
    """

    name: ClassVar[str] = "clamp"

    def forward(self, x: Array) -> Array:
        held: Array = np.clip(x, self.low, self.high)
        return held

    def inverse(self, y: Array) -> Array:
        return np.where(self.flags(y) == 0, y, np.nan)

    def slope(self, x: Array) -> Array:
        return np.where(self.flags(x) == 0, 1.0, 0.0)

    def formula(self, x: float) -> str:
        y = float(self.forward(np.array([x]))[0])
        verdict = "kept" if y == x else "held at the end"
        return f"y = x held in range: {self._place(x)}, {verdict} = {shown(y, self.unit)}"

    def inverse_formula(self, y: float) -> str:
        if self.flags(np.array([y]))[0]:
            return f"{self._place(y)}: the clamp never lets {number(y)} through"
        return f"x = y = {shown(y, self.unit)}, inside the clamp"


@dataclass(frozen=True)
class Limits(Interval):
    """y = x; values below low or above high are flagged, never changed.

    low, high: the ends, in the unit that comes in (or in `unit`, checked at the joint); either
    may be left out. Raises `ParameterError` when low is not below high.
    """

    name: ClassVar[str] = "limits"

    def forward(self, x: Array) -> Array:
        return x

    def inverse(self, y: Array) -> Array:
        return y

    def formula(self, x: float) -> str:
        inside = not self.flags(np.array([x]))[0]
        return f"{self._place(x)}: {'within' if inside else 'outside'} the limits"

    def inverse_formula(self, y: float) -> str:
        return self.formula(y)


Rounding = Literal["nearest", "down", "up", "toward zero"]


def _nearest(x: Array) -> Array:
    size = np.abs(x)
    floor = np.floor(size)
    rounded: Array = np.copysign(floor + (size - floor >= 0.5), x)
    return rounded


_ROUNDINGS: dict[str, Callable[[Array], Array]] = {
    "nearest": _nearest,
    "down": np.floor,
    "up": np.ceil,
    "toward zero": np.trunc,
}


@dataclass(frozen=True)
class Whole(Law):
    """y = x rounded to a whole number.

    rounding: "nearest" (a tie goes away from zero: 2.5 → 3, −2.5 → −3), "down" (to −∞), "up"
    (to +∞) or "toward zero" (what an integer conversion in C does). The inverse is the whole
    number itself; the slope is that of the trend, 1. Raises `ParameterError`.
    """

    rounding: Rounding = "nearest"
    name: ClassVar[str] = "whole"

    def check(self) -> Iterator[ParameterError]:
        if self.rounding not in _ROUNDINGS:
            right = ", ".join(repr(r) for r in get_args(Rounding))
            yield ParameterError("rounding", self.rounding, f"one of {right} is right")

    def forward(self, x: Array) -> Array:
        return _ROUNDINGS[self.rounding](x) + 0.0  # + 0.0 turns a negative zero into zero

    def inverse(self, y: Array) -> Array:
        return np.where(y == np.trunc(y), y, np.nan)

    def slope(self, x: Array) -> Array:
        return np.ones_like(x)

    def formula(self, x: float) -> str:
        y = float(self.forward(np.array([x]))[0])
        return f"y = x rounded {_TO[self.rounding]} = {number(x)} → {number(y)}"

    def inverse_formula(self, y: float) -> str:
        if y != np.trunc(y):
            return f"{number(y)} is not a whole number: rounding never gives it"
        return f"x = y = {number(y)}, before rounding {_TO[self.rounding]}"


_TO = {
    "nearest": "to the nearest whole number",
    "down": "down",
    "up": "up",
    "toward zero": "toward zero",
}
