"""Laws that shape a value: whole numbers, magnitudes, and none at all."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import ClassVar, Literal, get_args

import numpy as np

from ..arrays import Array
from ..error_types import ParameterError
from ..model.law import Law, Role, at, unit_fields
from ..model.text import number, shown

Rounding = Literal["nearest", "down", "up", "toward zero"]


#: A value so many units in its last place from a step is on the step: that much the laws before
#: it may lose, so that a line that means 195.5 and computes 195.49999999999997 still means it.
ULPS = 16


def _on_steps(x: Array, step: float) -> Array:
    """The values, those beside a multiple of `step` put on it."""
    near = np.rint(x / step) * step
    return np.where(np.abs(x - near) <= ULPS * np.spacing(np.abs(x)), near, x)


def _nearest(x: Array) -> Array:
    x = _on_steps(x, 0.5)
    size = np.abs(x)
    floor = np.floor(size)
    rounded: Array = np.copysign(floor + (size - floor >= 0.5), x)
    return rounded


_ROUNDINGS: dict[str, Callable[[Array], Array]] = {
    "nearest": _nearest,
    "down": lambda x: np.floor(_on_steps(x, 1.0)),
    "up": lambda x: np.ceil(_on_steps(x, 1.0)),
    "toward zero": lambda x: np.trunc(_on_steps(x, 1.0)),
}


@dataclass(frozen=True)
class Whole(Law):
    """y = x rounded to a whole number.

    Parameters
    ----------
    rounding : Rounding, default "nearest"
        "nearest" (a tie goes away from zero: 2.5 → 3, −2.5 → −3), "down" (to −∞), "up" (to +∞)
        or "toward zero" (what an integer conversion in C does).

    Raises
    ------
    ParameterError
        For parameters that make no sense.

    Notes
    -----
    The inverse is the whole number itself; the slope is that of the trend, 1. A value that is
    off a tie, or off a whole number, by no more than the rounding of the laws before it (16
    units in the last place) is taken for it.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.Whole()([0.4, 0.5, 2.5])
    [0.0, 1.0, 3.0]
    """

    rounding: Rounding = "nearest"
    name: ClassVar[str] = "whole"
    role: ClassVar[Role] = Role.ROUND

    def check(self) -> Iterator[ParameterError]:
        if not isinstance(self.rounding, str) or self.rounding not in _ROUNDINGS:
            right = ", ".join(repr(r) for r in get_args(Rounding))
            yield ParameterError("rounding", self.rounding, f"one of {right} is right")

    def forward(self, x: Array) -> Array:
        return _ROUNDINGS[self.rounding](x) + 0.0  # + 0.0 turns a negative zero into zero

    def inverse(self, y: Array) -> Array:
        return np.where(y == np.trunc(y), y, np.nan)

    def slope(self, x: Array) -> Array:
        return np.ones_like(x)

    def formula(self, x: float) -> str:
        y = float(self.forward(at(x))[0])
        return f"y = x rounded {_TO[self.rounding]} = {number(x)} → {number(y)}"

    def inverse_formula(self, y: float) -> str:
        if y != np.trunc(y):
            return f"{number(y)} is not a whole number: rounding never gives it"
        return f"x = y = {number(y)}, before rounding {_TO[self.rounding]}"

    def program(self) -> list[str] | None:
        # `tie` is what rounding may take from a value, as a part of it.
        up = "x = floor(x + tie * x + 0.5)"
        nearest = f"if x < 0.0:\n    x = -floor(-x - tie * x + 0.5)\nelse:\n    {up}"
        return [
            {
                "nearest": nearest,
                "down": "x = floor(x + tie * abs(x))",
                "up": "x = ceil(x - tie * abs(x))",
                "toward zero": "x = trunc(x + tie * x)",
            }[self.rounding]
        ]

    @property
    def rounds_to(self) -> float:
        return 1.0


_TO = {
    "nearest": "to the nearest whole number",
    "down": "down",
    "up": "up",
    "toward zero": "toward zero",
}


@dataclass(frozen=True)
class Magnitude(Law):
    """y = |x|. The inverse is the positive branch; below 0 there is none.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.Magnitude()(-3)
    3.0
    """

    name: ClassVar[str] = "magnitude"
    role: ClassVar[Role] = Role.FOLD

    @property
    def corners(self) -> tuple[float, ...]:
        return (0.0,)

    def forward(self, x: Array) -> Array:
        return np.abs(x)

    def inverse(self, y: Array) -> Array:
        return np.where(y >= 0, y, np.nan)

    def slope(self, x: Array) -> Array:
        return np.where(x < 0, -1.0, 1.0)

    def formula(self, x: float) -> str:
        return f"y = |x| = |{number(x)}| = {number(abs(x))}"

    def inverse_formula(self, y: float) -> str:
        if y < 0:
            return f"{number(y)}: a magnitude is never below 0"
        return f"x = y = {number(y)} (or −{number(y)})" if y else "x = y = 0"

    def program(self) -> list[str] | None:
        return ["x = abs(x)"]


@dataclass(frozen=True)
class PassThrough(Law):
    """y = x, for a sensor that hands over true values already.

    Parameters
    ----------
    unit : str, optional
        The unit that this names.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.PassThrough()(7)
    7.0
    """

    unit: str | None = None
    name: ClassVar[str] = "pass-through"
    role: ClassVar[Role] = Role.UNIT

    def __post_init__(self) -> None:
        super().__post_init__()
        unit_fields(self, "unit")

    @property
    def gives(self) -> str | None:
        return self.unit

    def forward(self, x: Array) -> Array:
        return x

    def inverse(self, y: Array) -> Array:
        return y

    def slope(self, x: Array) -> Array:
        return np.ones_like(x)

    def formula(self, x: float) -> str:
        return f"y = x = {shown(x, self.unit)}"

    def inverse_formula(self, y: float) -> str:
        return f"x = y = {number(y)}"

    def program(self) -> list[str] | None:
        return []
