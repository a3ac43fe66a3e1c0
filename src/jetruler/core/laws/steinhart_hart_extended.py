"""Thermistors by four coefficients, in both directions of a datasheet."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np

from ..error_types import ParameterError
from ..numerics import Array, solve_monotone
from ..ruler.base_law import Ohms, Role, as_array
from ..ruler.quantity import Quantityish
from ..ruler.units import bracketed, number, result_text
from .circuit import positive
from .temperature import ZERO_C, TemperatureUnit, cubic_statements, typed_cubic
from .thermistor import CubicThermistor, turning_points

if TYPE_CHECKING:
    from ..ruler.base_law import FitInput, FitModel


@dataclass(frozen=True)
class Disagreement:
    """The largest disagreement of two sets of coefficients: kelvin, and the °C it is at."""

    kelvin: float
    at: float


Four = tuple[float, float, float, float]


@dataclass(frozen=True)
class SteinhartHartExtended(CubicThermistor):
    """A thermistor by four coefficients of x = R / r25.

    Parameters
    ----------
    r25 : float, in Ω
        Resistance in Ω at 25 °C.
    to_kelvin : tuple of four floats, optional
        (A1, B1, C1, D1) of 1/T = A1 + B1 ln x + C1 ln² x + D1 ln³ x.
    to_ohms : tuple of four floats, optional
        (A, B, C, D) of R = r25 · exp(A + B/T + C/T² + D/T³), the inverse formula of datasheets. One
        of the two is enough. If both are given, `to_kelvin` is used in both directions, so that the
        inverse is exact; `disagreement` is the difference to the other set.
    unit : {"degC", "K", "degF"}, default "degC"
        "degC" (default), "K" or "degF".

    Raises
    ------
    ParameterError
        For parameters that make no sense.

    Notes
    -----
    Source: the extended Steinhart–Hart equation of NTC datasheets.

    Examples
    --------
    >>> import jetruler as jr
    >>> law = jr.SteinhartHartExtended(10e3, to_kelvin=(3.354e-3, 2.57e-4, 2.6e-6, 6.3e-8))
    >>> round(law(10e3), 2)
    25.0
    """

    r25: Ohms
    to_kelvin: Four | None = None
    to_ohms: Four | None = None
    unit: TemperatureUnit = "degC"

    if TYPE_CHECKING:  # texts and quantities are read

        def __init__(
            self,
            r25: Quantityish,
            to_kelvin: Sequence[float] | None = None,
            to_ohms: Sequence[float] | None = None,
            unit: TemperatureUnit = "degC",
        ) -> None: ...

    name: ClassVar[str] = "steinhart-hart-extended"
    sensor_kind: ClassVar[str] = "thermistor"
    role: ClassVar[Role] = Role.CURVE
    fitted_name: ClassVar[str] = "an extended Steinhart-Hart law"
    fit_takes: ClassVar[str | None] = "ohm"
    fit_gives: ClassVar[tuple[str, ...]] = ("degC", "K", "degF")

    @classmethod
    def fit_model(cls, asked: FitInput) -> FitModel:
        from .thermistor import ExtendedModel

        return ExtendedModel(asked, cls)

    @classmethod
    def simpler_fits(cls, free: int) -> list[tuple[str, int | None]]:
        return [("beta", None), ("steinhart-hart", None)]

    def check(self) -> Iterator[ParameterError]:
        yield from super().check()
        yield from positive(self, "r25")
        if self.to_kelvin is None and self.to_ohms is None:
            yield ParameterError("to_kelvin", None, "to_kelvin or to_ohms")
        sound = True
        for field in ("to_kelvin", "to_ohms"):
            value = getattr(self, field)
            if value is not None and not _four_numbers(value):
                sound = False
                yield ParameterError(field, value, "four numbers")
        if sound and self.to_kelvin is not None and np.isnan(self.branch[0]):
            yield ParameterError(
                "to_kelvin", self.to_kelvin, "coefficients", "T must fall as R rises at 25 °C"
            )
        if sound and self.to_kelvin is None and self.to_ohms and not self._falls(1 / 298.15):
            yield ParameterError(
                "to_ohms", self.to_ohms, "coefficients", "R must fall as T rises at 25 °C"
            )

    def _falls(self, reciprocal: float) -> bool:
        return bool(self._level_slope(np.array(reciprocal)) > 0)

    @property
    def base(self) -> float:
        return self.r25

    @property
    def coefficients(self) -> Four:
        return self.to_kelvin or (np.nan, np.nan, np.nan, np.nan)

    @property
    def branch(self) -> tuple[Any, Any]:
        return (-np.inf, np.inf) if self.to_kelvin is None else super().branch

    def _level(self, reciprocal: Array) -> Array:
        """ln(R / r25) over 1/T by `to_ohms`."""
        a, b, c, d = self.to_ohms or (np.nan, np.nan, np.nan, np.nan)
        return a + reciprocal * (b + reciprocal * (c + reciprocal * d))

    def _level_slope(self, reciprocal: Array) -> Array:
        _, b, c, d = self.to_ohms or (np.nan, np.nan, np.nan, np.nan)
        return b + reciprocal * (2 * c + reciprocal * 3 * d)

    @cached_property
    def _reciprocal_ends(self) -> tuple[Array, Array]:
        """The stretch of 1/T round 25 °C on which `to_ohms` is monotone, of each set of
        coefficients."""
        turns = np.array(turning_points(*(self.to_ohms or (np.nan,) * 4)[1:]))
        low = np.max(np.where((turns > 0) & (turns < 1 / 298.15), turns, 1e-4), axis=0)
        return low, np.min(np.where(turns > 1 / 298.15, turns, np.inf), axis=0, initial=1e-1)

    def reciprocal(self, log_ohms: Array) -> Array:
        if self.to_kelvin is not None:
            return super().reciprocal(log_ohms)
        ends = (end + 0.0 * log_ohms for end in self._reciprocal_ends)
        return solve_monotone(self._level, self._level_slope, log_ohms, *ends)

    def reciprocal_slope(self, log_ohms: Array) -> Array:
        if self.to_kelvin is not None:
            return super().reciprocal_slope(log_ohms)
        return 1.0 / self._level_slope(self.reciprocal(log_ohms))

    def log_ohms(self, reciprocal: Array) -> Array:
        if self.to_kelvin is not None:
            return super().log_ohms(reciprocal)
        low, high = self._reciprocal_ends
        inside = (reciprocal >= low) & (reciprocal <= high)
        return self._level(np.where(inside, reciprocal, np.nan))

    def disagreement(self, low: float = -40.0, high: float = 125.0) -> Disagreement | None:
        """How far the two sets of coefficients are apart between two temperatures in °C: what
        the resistance that `to_ohms` gives reads by `to_kelvin`. None if only one set is given."""
        if self.to_kelvin is None or self.to_ohms is None:
            return None
        kelvin = np.linspace(low, high, 1001) + ZERO_C
        read = self._kelvin(self.r25 * np.exp(self._level(1.0 / kelvin)))
        apart = np.abs(read - kelvin)
        worst = int(np.argmax(np.where(np.isnan(apart), np.inf, apart)))
        return Disagreement(float(apart[worst]), float(kelvin[worst] - ZERO_C))

    def slope_to(self, field: str, inside: tuple[int, ...], x: Array) -> Array | None:
        if field == "to_kelvin":
            return self._of_reciprocal(x) * self._log(x) ** inside[0]
        return -self.slope(x) * x / self.r25 if field == "r25" else None  # R is over r25

    def formula(self, x: float) -> str:
        value = float(self._log(as_array(x))[0])
        ratio = f"{number(x)} / {number(self.r25)}"
        start = f"L = ln(R / R25) = ln({ratio}) = {number(value)}; "
        log = bracketed(value)
        if self.to_kelvin is None:
            return f"{start}A + B/T + C/T² + D/T³ = L solved → T = {self._result(x)}"
        a, b, c, d = map(bracketed, self.to_kelvin)
        numbers = f"{a} + {b} · {log} + {c} · {log}² + {d} · {log}³"
        return f"{start}1/T = A1 + B1 L + C1 L² + D1 L³ = {numbers} → T = {self._result(x)}"

    def inverse_formula(self, y: float) -> str:
        kelvin, asked = self._asked(y)
        ohms = self.worked_result(y, back=True)
        if self.to_kelvin is None:
            return f"{asked}R = R25 · exp(A + B/T + C/T² + D/T³) = {result_text(ohms, 'ohm')}"
        solved = f"A1 + B1 L + C1 L² + D1 L³ = 1/{kelvin} solved, R = R25 · exp(L)"
        return f"{asked}{solved} = {result_text(ohms, 'ohm')}"

    def program(self) -> list[str] | None:
        return cubic_statements(self)

    def typed(self) -> list[str] | None:
        return typed_cubic(self)


def _four_numbers(value: object) -> bool:
    return (
        isinstance(value, tuple)
        and len(value) == 4
        and all(isinstance(v, int | float) and np.isfinite(v) for v in value)
    )
