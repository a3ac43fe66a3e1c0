"""A raw edge that is no converter: volts of a lab box, centimetres of an echo sensor."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from ..arrays import Array, FlagArray, Truths
from ..error_types import ParameterError
from ..model.converter import RawInput
from ..model.law import unit_fields
from ..model.reading import Flag
from ..model.text import number, shown
from ..model.unit_registry import factor
from .statements import constant, reject_outside


@dataclass(frozen=True)
class Input(RawInput):
    """A raw value as it comes, in its own unit: volts, centimetres, m/s², percent.

    Parameters
    ----------
    unit : str
        Unit of the raw values; "1" is a plain number.
    resolution : float, optional
        The smallest difference that it shows, in `unit`.
    range : tuple[float, float], optional
        What it can give, the low end first, in `unit`. Values beyond have no value; those at an
        end carry a rail flag.
    error : float, default 0.0
        What its maker allows for, as a half-width in `unit`, for budgets.

    Raises
    ------
    ParameterError
        For a unit that nobody knows, a range upside down, or a resolution that is not above 0 and
        below the range.

    Examples
    --------
    >>> import jetruler as jr
    >>> tank = jr.Input("cm", resolution=0.1, range=(2, 400)) >> jr.Line.through((14, 0), (4, 100))
    >>> tank([9, 500])
    [50.0, nan]
    """

    unit: str
    resolution: float | None = None
    range: tuple[float, float] | None = None
    error: float = 0.0
    name: ClassVar[str] = "input"

    def __post_init__(self) -> None:
        unit_fields(self, "unit")
        super().__post_init__()

    @property
    def takes(self) -> str | None:
        return self.unit

    @property
    def gives(self) -> str | None:
        return self.unit

    @property
    def lsb(self) -> float:
        return self.resolution or 0.0

    @property
    def lowest(self) -> float:
        return -math.inf if self.range is None else float(self.range[0])

    @property
    def highest(self) -> float:
        return math.inf if self.range is None else float(self.range[1])

    @property
    def half_width(self) -> float:
        return float(self.error)

    def check(self) -> Iterator[ParameterError]:
        if factor(self.unit) is None and self.unit != "1":
            yield ParameterError("unit", self.unit, 'a unit is right, as in "V", "cm" or "m/s²"')
        ends = self.range
        if ends is not None and not _are_ends(ends):
            yield ParameterError("range", ends, "two numbers are right, the low one first")
            ends = None
        if self.resolution is not None:
            if self.resolution <= 0:
                yield ParameterError("resolution", self.resolution, "a number above 0 is right")
            elif ends is not None and self.resolution >= ends[1] - ends[0]:
                right = f"less than the range, {number(ends[1] - ends[0])}, is right"
                yield ParameterError("resolution", self.resolution, right)
        if self.error < 0:
            yield ParameterError("error", self.error, "a half-width of 0 or more is right")

    def _inside(self, x: Array) -> Truths:
        room = 0.5 * self.lsb
        inside: Truths = (x >= self.lowest - room) & (x <= self.highest + room)
        return inside

    def forward(self, x: Array) -> Array:
        return x + 0.0 if self.range is None else np.where(self._inside(x), x, np.nan)

    def inverse(self, y: Array) -> Array:
        return self.forward(y)

    def slope(self, x: Array) -> Array:
        return np.ones_like(x)

    def flags(self, x: Array) -> FlagArray | None:
        if self.range is None:
            return None
        out = np.zeros(x.shape, np.uint8)
        out[x <= self.lowest] = Flag.LOW_RAIL
        out[x >= self.highest] = Flag.HIGH_RAIL
        out[~self._inside(x) & ~np.isnan(x)] = Flag.OFF_SCALE
        return out

    def formula(self, x: float) -> str:
        ends = (
            ""
            if self.range is None
            else f" of {number(self.lowest)} to {shown(self.highest, self.unit)}"
        )
        return f"x = {shown(x, self.unit)}{ends}"

    def inverse_formula(self, y: float) -> str:
        return self.formula(y)

    def program(self) -> list[str] | None:
        """For firmware the input comes in steps of its resolution."""
        if not self.is_bounded or not self.lsb:
            return None
        return [f"x = x * {constant(self.lsb)}", *reject_outside((self.lowest, self.highest))]


def _are_ends(ends: object) -> bool:
    if not isinstance(ends, tuple | list) or len(ends) != 2:
        return False
    numbers = all(isinstance(end, int | float) for end in ends)
    return numbers and -math.inf < ends[0] < ends[1] < math.inf
