"""Thermistors: by Beta or by Steinhart–Hart with three coefficients, and how those are fitted."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np

from ..error_types import ParameterError
from ..numerics import Array, solve_monotone
from ..ruler.base_law import (
    BareKelvin,
    FitInput,
    FitModel,
    Kelvin,
    Ohms,
    Role,
    as_array,
    constant,
    ignore_fp_warnings,
    reject,
)
from ..ruler.quantity import Quantityish
from ..ruler.ruler import Law
from ..ruler.units import bracketed, number, printed_as, result_text, shown, significant
from .circuit import positive
from .temperature import (
    TemperatureLaw,
    TemperatureUnit,
    cubic_statements,
    from_kelvin,
    temperature_statements,
    to_kelvin,
    typed_cubic,
    typed_temperature,
)


class _Thermistor(TemperatureLaw):
    """A curve 1/T over L = ln(R / base): rising with L, so that T falls as R rises."""

    @abstractmethod
    def reciprocal(self, log_ohms: Array) -> Array:
        """1/T in 1/K at L."""

    @abstractmethod
    def reciprocal_slope(self, log_ohms: Array) -> Array:
        """d(1/T)/dL."""

    @abstractmethod
    def log_ohms(self, reciprocal: Array) -> Array:
        """L at 1/T."""

    @property
    def base(self) -> float:
        """The resistance that R is divided by."""
        return 1.0

    #: Whether the worked line takes the logarithm in a step of its own.
    log_is_written: ClassVar[bool] = True

    @property
    def branch(self) -> tuple[Any, Any]:
        """The ends of L between which the curve is that of a thermistor."""
        return -np.inf, np.inf

    @ignore_fp_warnings
    def _log(self, ohms: Array) -> Array:
        low, high = self.branch
        level = np.log(ohms / self.base)
        if np.any(np.isfinite(low) | np.isfinite(high)):
            level = np.where((level >= low) & (level <= high), level, np.nan)
        return level

    @ignore_fp_warnings
    def _kelvin(self, ohms: Array) -> Array:
        kelvin = 1.0 / self.reciprocal(self._log(ohms))
        return np.where((kelvin > 0) & (kelvin < np.inf), kelvin, np.nan)

    def _worked_kelvin(self, x: float) -> float:
        if not self.log_is_written:
            return super()._worked_kelvin(x)
        level = as_array(printed_as(float(self._log(as_array(x))[0])))
        return float(1.0 / self.reciprocal(level)[0])

    def forward(self, x: Array) -> Array:
        return from_kelvin(self._kelvin(x), self.scale)

    @ignore_fp_warnings
    def inverse(self, y: Array) -> Array:
        ohms = self.base * np.exp(self.log_ohms(1.0 / to_kelvin(y, self.scale)))
        return np.where((ohms > 0) & (ohms < np.inf), ohms, np.nan)

    def _of_reciprocal(self, x: Array) -> Array:
        """The derivative of the result to 1/T: −T², in degrees of the scale."""
        return -self.degrees * self._kelvin(x) ** 2

    @ignore_fp_warnings
    def slope(self, x: Array) -> Array:
        # dT/dR = −T² · d(1/T)/dL · dL/dR, and dL/dR = 1/R
        steepness = self.reciprocal_slope(self._log(x))
        return -self.degrees * self._kelvin(x) ** 2 * steepness / x


@dataclass(frozen=True)
class Beta(_Thermistor):
    """A thermistor by its Beta: 1/T = 1/t0 + ln(R / r0) / beta.

    Parameters
    ----------
    r0 : float, in Ω
        Resistance in Ω at t0.
    beta : float, in K
        Exponent in K.
    t0 : float, in K, default 298.15
        Temperature of r0, 25 °C by default.
    unit : {"degC", "K", "degF"}, default "degC"
        "degC" (default), "K" or "degF".

    Raises
    ------
    ParameterError
        For parameters that make no sense.

    Notes
    -----
    Source: the two-parameter exponential model of NTC thermistors, R = r0 · e^(β(1/T − 1/t0)).

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.Beta(r0=10e3, beta=3435)(10e3)  # °C
    25.0
    """

    log_is_written: ClassVar[bool] = False
    r0: Ohms
    beta: BareKelvin
    t0: Kelvin = 298.15
    unit: TemperatureUnit = "degC"

    if TYPE_CHECKING:  # texts and quantities are read

        def __init__(
            self,
            r0: Quantityish,
            beta: Quantityish,
            t0: Quantityish = 298.15,
            unit: TemperatureUnit = "degC",
        ) -> None: ...

    name: ClassVar[str] = "beta"
    sensor_kind: ClassVar[str] = "thermistor"
    role: ClassVar[Role] = Role.CURVE
    fitted_name: ClassVar[str] = "a Beta law"
    fit_takes: ClassVar[str | None] = "ohm"
    fit_gives: ClassVar[tuple[str, ...]] = ("degC", "K", "degF")

    @classmethod
    def fit_model(cls, asked: FitInput) -> FitModel:

        return BetaModel(asked, cls)

    @classmethod
    def richer_fits(cls, free: int) -> list[tuple[str, int | None]]:
        return [("steinhart-hart", None), ("steinhart-hart-extended", None)]

    def check(self) -> Iterator[ParameterError]:
        yield from super().check()
        yield from positive(self, "r0", "beta", "t0")

    @property
    def base(self) -> float:
        return self.r0

    def reciprocal(self, log_ohms: Array) -> Array:
        return 1.0 / self.t0 + log_ohms / self.beta

    def reciprocal_slope(self, log_ohms: Array) -> Array:
        return np.full_like(log_ohms, 1.0 / self.beta)

    def log_ohms(self, reciprocal: Array) -> Array:
        return self.beta * (reciprocal - 1.0 / self.t0)

    def slope_to(self, field: str, inside: tuple[int, ...], x: Array) -> Array | None:
        reciprocal = {
            "t0": np.full_like(x, -1.0 / self.t0**2),
            "r0": np.full_like(x, -1.0 / (self.r0 * self.beta)),
            "beta": -self._log(x) / self.beta**2,
        }
        return self._of_reciprocal(x) * reciprocal[field] if field in reciprocal else None

    def formula(self, x: float) -> str:
        log = f"ln({number(x)} / {number(self.r0)})"
        numbers = f"1/{shown(self.t0, 'K')} + {log} / {shown(self.beta, 'K')}"
        return f"1/T = 1/T0 + ln(R / R0) / B = {numbers} → T = {self._result(x)}"

    def inverse_formula(self, y: float) -> str:
        kelvin, asked = self._asked(y)
        ohms = self.worked_result(y, back=True)
        numbers = (
            f"{shown(self.r0, 'ohm')} · exp({number(self.beta)} · "
            f"(1/{kelvin} − 1/{number(self.t0)}))"
        )
        return f"{asked}R = R0 · exp(B · (1/T − 1/T0)) = {numbers} = {result_text(ohms, 'ohm')}"

    def program(self) -> list[str] | None:
        inner = f"{constant(1.0 / self.t0)} + log(x / {constant(self.r0)}) / {constant(self.beta)}"
        return [reject("x <= 0.0"), *temperature_statements(self.scale, inner)]

    def typed(self) -> list[str]:
        t0, r0, beta = map(constant, (self.t0, self.r0, self.beta))
        return typed_temperature(self.scale, f"1.0 / {t0} + log(x / {r0}) / {beta}")


#: Where thermistor curves are solved for R: e^±40 covers every resistance there is.
_LOWEST, _HIGHEST = -40.0, 40.0
#: No float holds e to the power of more.
_WIDEST = 700.0


@ignore_fp_warnings
def turning_points(c1: Any, c2: Any, c3: Any) -> tuple[Array, Array]:
    """Where c1 x + c2 x² + c3 x³ turns: two arrays, the lower one first; infinite where it does
    not. The coefficients are numbers or arrays."""
    c1, c2, c3 = np.broadcast_arrays(*(np.atleast_1d(np.asarray(c, float)) for c in (c1, c2, c3)))
    root = np.sqrt(c2**2 - 3.0 * c1 * c3)  # NaN where it never turns
    q = -(c2 + np.copysign(root, c2))  # the form that loses no digits
    both = np.sort([np.where(c3 == 0, np.nan, q / (3.0 * c3)), c1 / q], axis=0)  # NaN last
    there = root > 0
    low = np.where(there & np.isfinite(both[0]), both[0], -np.inf)
    return low, np.where(there & np.isfinite(both[1]), both[1], np.inf)


class CubicThermistor(_Thermistor):
    """1/T as a cubic in L, on the branch that holds 25 °C and rises."""

    @property
    def coefficients(self) -> tuple[float, float, float, float]:
        """c0 to c3 of the cubic."""
        raise NotImplementedError

    def reciprocal(self, log_ohms: Array) -> Array:
        c0, c1, c2, c3 = self.coefficients
        return c0 + log_ohms * (c1 + log_ohms * (c2 + log_ohms * c3))

    def reciprocal_slope(self, log_ohms: Array) -> Array:
        _, c1, c2, c3 = self.coefficients
        return c1 + log_ohms * (2 * c2 + log_ohms * 3 * c3)

    @cached_property
    @ignore_fp_warnings
    def branch(self) -> tuple[Any, Any]:
        """The ends of the rising stretch through 25 °C, the one nearest to L = 0; NaN where there
        is none. Two arrays where the coefficients are arrays."""
        low, high = turning_points(*self.coefficients[1:])
        infinite = np.full(low.shape, np.inf)
        start, end = np.array([-infinite, low, high]), np.array([low, high, infinite])
        near, far = (np.clip(edge, -_WIDEST, _WIDEST) for edge in (start, end))
        at_25 = np.full(near.shape, 1 / 298.15)
        holds = (near < far) & (self.reciprocal(near) < at_25) & (self.reciprocal(far) > at_25)
        distance = np.where(holds, 0.0, np.inf)
        if np.any(np.count_nonzero(holds, axis=0) > 1):
            at = solve_monotone(self.reciprocal, self.reciprocal_slope, at_25, near, far)
            distance += np.abs(np.nan_to_num(at))
        which = np.argmin(distance, axis=0), np.arange(low.size)
        ends = (np.where(holds[which], edge[which], np.nan) for edge in (start, end))
        first, last = (e if e.size > 1 else float(e[0]) for e in ends)
        return first, last

    def log_ohms(self, reciprocal: Array) -> Array:
        low, high = self.branch
        ends = (
            np.maximum(low, _LOWEST) + 0.0 * reciprocal,
            np.minimum(high, _HIGHEST) + 0.0 * reciprocal,
        )
        return solve_monotone(self.reciprocal, self.reciprocal_slope, reciprocal, *ends)


@dataclass(frozen=True)
class SteinhartHart(CubicThermistor):
    """A thermistor by three coefficients: 1/T = a + b · ln R + c · (ln R)³, R in Ω, T in K.

    Parameters
    ----------
    a, b, c : float
        Coefficients in 1/K.
    unit : {"degC", "K", "degF"}, default "degC"
        "degC" (default), "K" or "degF".

    Raises
    ------
    ParameterError
        For coefficients that describe no thermistor.

    Notes
    -----
    The inverse is solved to machine precision on the rising branch that holds 25 °C; beyond a
    turning point of the cubic there is no value.

    Source: Steinhart and Hart, Deep-Sea Research 15 (1968) 497.

    Examples
    --------
    >>> import jetruler as jr
    >>> round(jr.SteinhartHart(a=6.7e-4, b=2.2e-4, c=1e-7)(100e3), 2)  # °C
    24.87
    """

    a: float
    b: float
    c: float
    unit: TemperatureUnit = "degC"

    if TYPE_CHECKING:  # texts and quantities are read

        def __init__(
            self,
            a: Quantityish,
            b: Quantityish,
            c: Quantityish,
            unit: TemperatureUnit = "degC",
        ) -> None: ...

    name: ClassVar[str] = "steinhart-hart"
    sensor_kind: ClassVar[str] = "thermistor"
    role: ClassVar[Role] = Role.CURVE
    fitted_name: ClassVar[str] = "a Steinhart-Hart law"
    fit_takes: ClassVar[str | None] = "ohm"
    fit_gives: ClassVar[tuple[str, ...]] = ("degC", "K", "degF")

    @classmethod
    def fit_model(cls, asked: FitInput) -> FitModel:

        return SteinhartHartModel(asked, cls)

    @classmethod
    def simpler_fits(cls, free: int) -> list[tuple[str, int | None]]:
        return [("beta", None)] if free == 3 else []

    @classmethod
    def richer_fits(cls, free: int) -> list[tuple[str, int | None]]:
        return [("steinhart-hart-extended", None)]

    @property
    def coefficients(self) -> tuple[float, float, float, float]:
        return self.a, self.b, 0.0, self.c

    def check(self) -> Iterator[ParameterError]:
        yield from super().check()
        if np.isnan(self.branch[0]):
            yield ParameterError(
                "b",
                self.b,
                "coefficients for which some R reads 25 °C and T falls with R",
            )

    def slope_to(self, field: str, inside: tuple[int, ...], x: Array) -> Array | None:
        power = {"a": 0, "b": 1, "c": 3}.get(field)
        return None if power is None else self._of_reciprocal(x) * self._log(x) ** power

    def formula(self, x: float) -> str:
        log = float(self._log(as_array(x))[0])
        each = bracketed(log)
        numbers = f"{number(self.a)} + {bracketed(self.b)} · {each} + {bracketed(self.c)} · {each}³"
        start = f"ln R = ln {number(x)} = {number(log)}; "
        symbols = f"{start}1/T = a + b · ln R + c · (ln R)³"
        return f"{symbols} = {numbers} → T = {self._result(x)}"

    def inverse_formula(self, y: float) -> str:
        kelvin, asked = self._asked(y)
        ohms = self.worked_result(y, back=True)
        solved = f"a + b · ln R + c · (ln R)³ = 1/{kelvin} solved for R"
        return f"{asked}{solved} = {result_text(ohms, 'ohm')}"

    def program(self) -> list[str] | None:
        return cubic_statements(self)

    def typed(self) -> list[str] | None:
        return typed_cubic(self)


class ThermistorModel(FitModel):
    """1/T over ln R; x is in Ω, the result in a temperature scale."""

    def __init__(self, asked: FitInput, kind: Any) -> None:
        self.kind = kind
        self.scale = scale = asked.unit or "degC"
        self.degrees = 1.8 if scale == "degF" else 1.0

    def refuse(self, asked: FitInput, robust: bool) -> Iterator[tuple[tuple[int, ...], str]]:
        for i in np.flatnonzero(asked.x <= 0).tolist():
            yield (i,), f"{shown(asked.x[i], 'ohm')} is no thermistor's"
        if not robust:
            yield from self._rising(asked)

    @staticmethod
    def _rising(asked: FitInput) -> Iterator[tuple[tuple[int, ...], str]]:
        """A thermistor's temperature falls as its ohms rise; small steps back may be noise."""
        order = np.argsort(asked.x)
        x, y = asked.x[order], asked.y[order]
        room = 0.05 * np.ptp(y) if x.size > 3 else 0.0
        for i in np.flatnonzero((np.diff(x) > 0) & (np.diff(y) > room)).tolist():
            yield (
                (int(order[i + 1]), int(order[i])),
                f"from {shown(x[i], 'ohm')} to {shown(x[i + 1], 'ohm')} the temperature rises; "
                "a thermistor's falls",
            )

    def link(self, eta: Array) -> Array:
        return from_kelvin(1.0 / eta, self.scale)

    def link_slope(self, eta: Array) -> Array:
        return -self.degrees / eta**2

    def unlink(self, y: Array) -> Array:
        return 1.0 / to_kelvin(y, self.scale)


class BetaModel(ThermistorModel):
    """1/T = A + B · (ln R − middle), told as r0 at a given t0 and beta = 1/B."""

    def __init__(self, asked: FitInput, kind: Any) -> None:
        super().__init__(asked, kind)
        self.t0 = asked.fixed("t0", 298.15)
        self.names, self.units = ("r0", "beta"), ("ohm", "K")
        with np.errstate(all="ignore"):
            self.middle = float(np.mean(np.log(asked.x)))

    def design(self, x: Array) -> Array:
        return np.stack([np.ones_like(x), np.log(x) - self.middle], axis=1)

    def values(self, theta: Array) -> Array:
        level, slope = theta
        return np.array([np.exp(self.middle + (1 / self.t0 - level) / slope), 1 / slope])

    def values_slope(self, theta: Array) -> Array:
        level, slope = theta
        r0 = self.values(theta)[0]
        return np.array(
            [[-r0 / slope, -r0 * (1 / self.t0 - level) / slope**2], [0.0, -1 / slope**2]]
        )

    def law(self, values: Array) -> Law:
        r0, beta = values.tolist()
        law: Law = self.kind(r0, beta, self.t0, self.scale)
        return law


class ExtendedModel(ThermistorModel):
    """1/T = A1 + B1 L + C1 L² + D1 L³ over L = ln(R / r25), with r25 given: that of the law before,
    else the resistance that the marks say for 25 °C, to three digits (A1 takes up the rest)."""

    def __init__(self, asked: FitInput, kind: Any) -> None:
        super().__init__(asked, kind)
        self.names = tuple(f"to_kelvin[{i}]" for i in range(1, 5))
        self.units = ("1/K",) * 4
        self.neutral = {"to_kelvin[4]": 0.0}
        with np.errstate(all="ignore"):
            log, kelvin = np.log(asked.x), to_kelvin(asked.y, self.scale)
        order = np.argsort(kelvin)
        near = float(np.exp(np.interp(298.15, kelvin[order], log[order])))
        self.r25 = asked.fixed("r25", significant(near, 3))

    def design(self, x: Array) -> Array:
        return np.vander(np.log(x / self.r25), 4, increasing=True)

    def values(self, theta: Array) -> Array:
        return theta

    def values_slope(self, theta: Array) -> Array:
        return np.eye(4)

    def law(self, values: Array) -> Law:
        law: Law = self.kind(self.r25, to_kelvin=tuple(values.tolist()), unit=self.scale)
        return law


class SteinhartHartModel(ThermistorModel):
    """1/T = a + b ln R + c (ln R)³; with `c` given, a and b only."""

    def __init__(self, asked: FitInput, kind: Any) -> None:
        super().__init__(asked, kind)
        stays = np.unique(asked.x).size <= 2
        self.c = c = asked.fixed("c", 0.0) if stays else None
        if stays:
            known = f"two marks tell two coefficients: c stays {number(c or 0.0)}"
            self.notes = (f"{known}; a third mark would tell it",)
        self.names = ("a", "b") if c is not None else ("a", "b", "c")
        self.units = ("1/K",) * len(self.names)
        self.neutral = {"c": 0.0} if c is None else {}

    def design(self, x: Array) -> Array:
        log = np.log(x)
        powers = (0, 1) if self.c is not None else (0, 1, 3)
        return np.stack([log**power for power in powers], axis=1)

    def fixed(self, x: Array) -> Array:
        return np.zeros_like(x) if self.c is None else self.c * np.log(x) ** 3

    def values(self, theta: Array) -> Array:
        return theta

    def values_slope(self, theta: Array) -> Array:
        return np.eye(theta.size)

    def law(self, values: Array) -> Law:
        a, b, *c = values.tolist()
        law: Law = self.kind(a, b, c[0] if c else float(self.c or 0.0), self.scale)
        return law
