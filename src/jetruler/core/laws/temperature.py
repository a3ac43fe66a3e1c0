"""What every law from ohms to a temperature shares, and platinum thermometers by IEC 60751."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, ClassVar, Literal, Protocol

import numpy as np

from ..error_types import ParameterError
from ..numerics import Array, solve_monotone
from ..ruler.base_law import Ohms, Role, as_array, constant, ignore_fp_warnings, reject, unit_fields
from ..ruler.quantity import Quantityish
from ..ruler.ruler import Law
from ..ruler.units import TEMPERATURES, number, printed_as, result_text, shown
from .circuit import positive

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
            yield ParameterError("unit", self.scale, '"degC", "K" or "degF"')

    @property
    def degrees(self) -> float:
        """Degrees of the scale in a kelvin."""
        return 1.8 if self.scale == "degF" else 1.0

    def _kelvin(self, ohms: Array) -> Array:
        """The temperature in kelvin."""
        return to_kelvin(self.forward(ohms), self.scale)

    def _worked_kelvin(self, x: float) -> float:
        return float(self._kelvin(as_array(x))[0])

    def worked_result(self, x: float, back: bool = False) -> float:
        if self.scale == "K" or math.isnan(x):
            return super().worked_result(x, back)
        if back:
            kelvin = printed_as(float(to_kelvin(np.array(x), self.scale)))
            return super().worked_result(float(from_kelvin(np.array(kelvin), self.scale)), back)
        kelvin = printed_as(self._worked_kelvin(x))
        return float(from_kelvin(np.array(kelvin), self.scale))

    def _result(self, x: float) -> str:
        """Kelvin as they are printed, and the step from there to the scale."""
        kelvin = self._worked_kelvin(x)
        if np.isnan(kelvin):
            return "no value"
        if self.scale == "K":
            return result_text(kelvin, "K")
        return f"{number(kelvin)} K = {result_text(self.worked_result(x), self.scale)}"

    def _asked(self, y: float) -> tuple[str, str]:
        """Kelvin of a value on the scale as it is written, and the step that leads to it."""
        kelvin = number(float(to_kelvin(np.array(y), self.scale)))
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
    if not np.all(np.isfinite(law.coefficients)):
        return None  # what is known is R over T
    if not all(map(np.isinf, law.branch)):
        return None  # the cubic turns back: a table knows where
    c0, c1, c2, c3 = map(constant, law.coefficients)
    head = [reject("x <= 0.0"), f"x = log(x / {constant(law.base)})"]
    cubic = f"{c0} + x * ({c1} + x * ({c2} + x * {c3}))"
    return [*head, *temperature_statements(law.scale, cubic)]


def typed_temperature(scale: str, reciprocal: str) -> list[str]:
    """From 1/T to a temperature of the scale, as it is typed in."""
    shift = {"degC": " - 273.15", "K": "", "degF": " * 1.8 - 459.67"}[scale]
    return [f"x = 1.0 / ({reciprocal}){shift}"]


def typed_cubic(law: Cubic) -> list[str] | None:
    """A cubic in ln R, as it is typed in."""
    if not np.all(np.isfinite(law.coefficients)):
        return None
    log = f"log(x / {constant(law.base)})" if law.base != 1.0 else "log(x)"
    powers = ("", " * x", " * x * x", " * x * x * x")
    terms = [constant(c) + p for c, p in zip(law.coefficients, powers, strict=True) if c]
    return [f"x = {log}", *typed_temperature(law.scale, " + ".join(terms) or "0.0")]


OUTSIDE = "no value: outside −200 °C to 850 °C"
#: Half a digit of the standard's table, as a ratio of r0: its own ends, as printed, are inside.
SLACK = 5e-5
_A, _B, _C = 3.9083e-3, -5.775e-7, -4.183e-12


@dataclass(frozen=True)
class Platinum(TemperatureLaw):
    """Platinum resistance thermometer, −200 °C to 850 °C, both branches (Callendar and Van
    Dusen): R = r0 · (1 + a t + b t² [+ c (t − 100) t³ below 0 °C]), t in °C.

    Parameters
    ----------
    r0 : float, in Ω, default 100.0
        Resistance in Ω at 0 °C.
    unit : {"degC", "K", "degF"}, default "degC"
        "degC" (default), "K" or "degF".
    lead : float, in Ω, default 0.0
        Resistance of one wire to the thermometer.
    wires : {2, 3, 4}, default 4
        Wires of the connection. With two, the resistance of both leads is subtracted; with three
        (equal leads cancel) or four it is not.
    a, b, c : float, in 1/K, 1/K² and 1/K⁴
        Coefficients from its certificate; by default those of the standard.

    Raises
    ------
    ParameterError
        For parameters that make no sense.

    Notes
    -----
    Outside the range of the standard there is no value. The budget of a channel with
    `dissipation` includes its self-heating.

    Source: IEC 60751:2008, with A = 3.9083e-3, B = −5.775e-7, C = −4.183e-12.

    Examples
    --------
    >>> import jetruler as jr
    >>> round(jr.Platinum()(138.5055), 6)  # °C
    100.0
    """

    r0: Ohms = 100.0
    unit: TemperatureUnit = "degC"
    lead: Ohms = 0.0
    wires: Literal[2, 3, 4] = 4
    a: float = _A
    b: float = _B
    c: float = _C

    if TYPE_CHECKING:  # texts and quantities are read

        def __init__(
            self,
            r0: Quantityish = 100.0,
            unit: TemperatureUnit = "degC",
            lead: Quantityish = 0.0,
            wires: Literal[2, 3, 4] = 4,
            a: Quantityish = _A,
            b: Quantityish = _B,
            c: Quantityish = _C,
        ) -> None: ...

    name: ClassVar[str] = "platinum"
    sensor_kind: ClassVar[str] = "platinum"
    role: ClassVar[Role] = Role.CURVE

    LOWEST: ClassVar[float] = -200.0
    HIGHEST: ClassVar[float] = 850.0

    def check(self) -> Iterator[ParameterError]:
        yield from super().check()
        yield from positive(self, "r0", "a")
        if self.lead < 0:
            yield ParameterError("lead", self.lead, "0 or more")
        if self.wires not in (2, 3, 4):
            yield ParameterError("wires", self.wires, "2, 3 or 4 wires")
        if self.a > 0 and not np.all(
            self._ratio_slope(np.linspace(self.LOWEST, self.HIGHEST, 99)) > 0
        ):
            yield ParameterError("b", self.b, "coefficients by which the resistance rises with t")

    @property
    def _in_series(self) -> float:
        """Ohms of the wires that are measured with the thermometer."""
        return 2.0 * self.lead if self.wires == 2 else 0.0

    def _ratio(self, t: Array) -> Array:
        """R/R0 of platinum at t in °C; the standard has a further term below 0 °C."""
        cold = np.where(t < 0, t * (t - 100.0) * self.c, 0.0)
        return 1.0 + t * (self.a + t * (self.b + cold))

    def _ratio_slope(self, t: Array) -> Array:
        return self.a + t * (2 * self.b + np.where(t < 0, t * (4 * t - 300.0) * self.c, 0.0))

    @ignore_fp_warnings
    def _celsius(self, ohms: Array) -> Array:
        ratio = (ohms - self._in_series) / self.r0
        ends = self._ratio(np.array([self.LOWEST, self.HIGHEST]))
        ratio = np.where((ratio >= ends[0] - SLACK) & (ratio <= ends[1] + SLACK), ratio, np.nan)
        # The quadratic in the form that loses no digits near 0 °C.
        a, b = self.a, self.b
        above = 2 * (ratio - 1) / (a + np.sqrt(a * a + 4 * b * (ratio - 1)))
        below = ratio < 1
        if np.any(below):
            low, high = np.full_like(ratio[below], -201.0), np.zeros_like(ratio[below])
            curve, slope = self._ratio, self._ratio_slope
            above[below] = solve_monotone(curve, slope, ratio[below], low, high)
        return above

    def forward(self, x: Array) -> Array:
        return (
            from_kelvin(self._celsius(x) + ZERO_C, self.scale)
            if self.scale != "degC"
            else self._celsius(x)
        )

    def inverse(self, y: Array) -> Array:
        celsius = y if self.scale == "degC" else to_kelvin(y, self.scale) - ZERO_C
        inside = (celsius >= self.LOWEST - 0.02) & (celsius <= self.HIGHEST + 0.02)
        return self.r0 * self._ratio(np.where(inside, celsius, np.nan)) + self._in_series

    @ignore_fp_warnings
    def slope(self, x: Array) -> Array:
        return self.degrees / (self.r0 * self._ratio_slope(self._celsius(x)))

    def slope_to(self, field: str, inside: tuple[int, ...], x: Array) -> Array | None:
        if field == "lead":
            return -2.0 * self.slope(x) if self.wires == 2 else np.zeros_like(x)
        own = x - self._in_series
        return -self.slope(x) * own / self.r0 if field == "r0" else None  # R is over r0

    def worked_result(self, x: float, back: bool = False) -> float:
        if back:
            celsius = printed_as(self._celsius_of(x))
            to = np.array(celsius if self.scale == "degC" else celsius + ZERO_C)
            x = celsius if self.scale == "degC" else float(from_kelvin(to, self.scale))
            return float(self.inverse(as_array(x))[0])
        ratio = printed_as((x - self._in_series) / self.r0)
        return float(self.forward(as_array(ratio * self.r0 + self._in_series))[0])

    def _celsius_of(self, y: float) -> float:
        return y if self.scale == "degC" else float(to_kelvin(np.array(y), self.scale)) - ZERO_C

    def formula(self, x: float) -> str:
        celsius = float(self._celsius(as_array(x))[0])
        y = self.worked_result(x)
        cold = " + C (t − 100) t³" if celsius < 0 else ""
        symbols = f"R / R0 = 1 + A t + B t²{cold}"
        wires = f" − {number(self._in_series)}" if self._in_series else ""
        own = f"({number(x)}{wires})" if wires else number(x)
        ratio = number((x - self._in_series) / self.r0)
        numbers = f"{own} / {number(self.r0)} = {ratio}"
        result = (
            "no value: outside −200 °C to 850 °C" if np.isnan(y) else result_text(y, self.scale)
        )
        return f"{symbols}; {numbers} solved for t = {result}"

    def inverse_formula(self, y: float) -> str:
        ohms, celsius = self.worked_result(y, back=True), self._celsius_of(y)
        cold = " + C (t − 100) t³" if celsius < 0 else ""
        result = (
            "no value: outside −200 °C to 850 °C" if np.isnan(ohms) else result_text(ohms, "ohm")
        )
        wires = f" + {number(self._in_series)} Ω of wires" if self._in_series else ""
        return f"R = R0 · (1 + A t + B t²{cold}){wires} at t = {shown(celsius, 'degC')}: {result}"

    def program(self) -> list[str]:
        # Below 0 °C two steps of Newton's method from the quadratic are right to 1e-9 °C.
        a, b, c = map(constant, (self.a, self.b, self.c))
        low, high = self._ratio(np.array([self.LOWEST, self.HIGHEST]))
        own = f"(x - {constant(self._in_series)})" if self._in_series else "x"
        off = f"1.0 + x * ({a} + x * ({b} + x * (x - 100.0) * {c})) - r"
        slope = f"{a} + x * (2.0 * {b} + x * (4.0 * x - 300.0) * {c})"
        step = f"    x = x - ({off}) / ({slope})"
        shift = {"degC": [], "K": ["x = x + 273.15"], "degF": ["x = x * 1.8 + 32.0"]}[self.scale]
        return [
            f"r = {own} / {constant(self.r0)}",
            reject(f"r < {constant(low - SLACK)} or r > {constant(high + SLACK)}"),
            f"x = 2.0 * (r - 1.0) / ({a} + sqrt({a} * {a} + 4.0 * {b} * (r - 1.0)))",
            f"if x < 0.0:\n{step}\n{step}",
            *shift,
        ]

    def typed(self) -> list[str]:
        return [line for line in self.program() if "return" not in line]
