"""What every law from ohms to a temperature shares: the scales, and absolute zero."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, Literal, Protocol

import numpy as np

from ..arrays import Array
from ..error_types import ParameterError
from ..model.law import Law, unit_fields
from ..model.text import as_finely, shown
from ..model.units import TEMPERATURES
from .statements import constant, reject

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

    @property
    def _finer(self) -> float:
        """A decimal more in kelvin where its step is more than one of the scale."""
        return 10.0 if self.scale == "degF" else 1.0

    def _result(self, kelvin: float) -> str:
        if np.isnan(kelvin):
            return "no value"
        if self.scale == "K":
            return shown(kelvin, "K")
        value = float(from_kelvin(np.array(kelvin), self.scale))
        return f"{as_finely(kelvin, value / self._finer)} K = {shown(value, self.scale)}"

    def _asked(self, y: float) -> tuple[str, str]:
        """Kelvin of a value on the scale as it is written, and the step that leads to it."""
        kelvin = as_finely(float(to_kelvin(np.array(y), self.scale)), y / self._finer)
        return kelvin, "" if self.scale == "K" else f"T = {shown(y, self.scale)} = {kelvin} K; "


class Cubic(Protocol):
    """A law with 1/T as a cubic in ln(R / base)."""

    @property
    def branch(self) -> tuple[float, float]: ...
    @property
    def coefficients(self) -> Any: ...
    @property
    def base(self) -> float: ...
    @property
    def scale(self) -> str: ...


def temperature_statements(scale: str, reciprocal: str) -> list[str]:
    """From 1/T to a temperature of the scale, for firmware."""
    shift = {"degC": " - 273.15", "K": "", "degF": " - 273.15"}[scale]
    out = [f"x = {reciprocal}", reject("x <= 0.0"), f"x = 1.0 / x{shift}"]
    return [*out, "x = x * 1.8 + 32.0"] if scale == "degF" else out


def cubic_statements(law: Cubic) -> list[str] | None:
    """A cubic in ln R, for firmware."""
    if not all(map(np.isinf, law.branch)):
        return None  # the cubic turns back: a table knows where
    c0, c1, c2, c3 = map(constant, law.coefficients)
    head = [reject("x <= 0.0"), f"x = log(x / {constant(law.base)})"]
    cubic = f"{c0} + x * ({c1} + x * ({c2} + x * {c3}))"
    return [*head, *temperature_statements(law.scale, cubic)]
