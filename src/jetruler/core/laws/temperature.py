"""What every law from ohms to a temperature shares: the scales, and absolute zero."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal

import numpy as np

from ..arrays import Array
from ..errors import ParameterError
from ..model.law import Law, unit_fields
from ..model.text import shown
from ..model.units import TEMPERATURES

TemperatureUnit = Literal["degC", "K", "degF"]
ZERO_C = 273.15


def from_kelvin(kelvin: Array, unit: str) -> Array:
    """Kelvin into degC or degF; K as it is."""
    if unit == "degF":
        return (kelvin - ZERO_C) * 1.8 + 32.0
    return kelvin - ZERO_C if unit == "degC" else kelvin


def to_kelvin(value: Array, unit: str) -> Array:
    """degC or degF into kelvin; NaN for what is not above absolute zero."""
    if unit == "degF":
        value = (value - 32.0) / 1.8
    kelvin = value if unit == "K" else value + ZERO_C
    return np.where(kelvin > 0, kelvin, np.nan)


class TemperatureLaw(Law):
    """Ohms to a temperature in °C, K or °F. Resistances of 0 or less have no temperature, and no
    result is at or below absolute zero: both are NaN."""

    @property
    def takes(self) -> str | None:
        return "ohm"

    @property
    def gives(self) -> str | None:
        return self.scale

    @property
    def scale(self) -> str:
        """The temperature scale of the result."""
        return str(getattr(self, "unit", "degC"))

    def __post_init__(self) -> None:
        unit_fields(self, "unit")
        super().__post_init__()

    def check(self) -> Iterator[ParameterError]:
        if self.scale not in TEMPERATURES:
            yield ParameterError("unit", self.scale, '"degC", "K" or "degF" is right')

    @property
    def degrees(self) -> float:
        """Degrees of the scale in a kelvin."""
        return 1.8 if self.scale == "degF" else 1.0

    def _result(self, kelvin: float) -> str:
        if np.isnan(kelvin):
            return "no value"
        text = shown(kelvin, "K")
        if self.scale == "K":
            return text
        return f"{text} = {shown(float(from_kelvin(np.array(kelvin), self.scale)), self.scale)}"

    def _asked(self, y: float) -> tuple[float, str]:
        """Kelvin of a value on the scale, and how that is written down."""
        kelvin = float(to_kelvin(np.array(y), self.scale))
        return (
            kelvin,
            "" if self.scale == "K" else f"T = {shown(y, self.scale)} = {shown(kelvin, 'K')}; ",
        )
