"""Sensors that need more than a divider: strain gauges in a bridge, load cells, photoresistors,
turns from pulses."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Annotated, ClassVar, Literal

import numpy as np

from ..error_types import ParameterError
from ..numerics import Array
from ..ruler.base_law import (
    FRACTION,
    FitInput,
    FitModel,
    Ohms,
    Role,
    Volts,
    constant,
    ignore_fp_warnings,
    reject,
    unit_fields,
)
from ..ruler.quantity import Quantityish
from ..ruler.ruler import Law
from ..ruler.units import Unit, bracketed, number, printed_as, result_text, shown
from .circuit import positive


class _OfSupply(Law):
    """Volts that are a part of what feeds the sensor; without a supply, of the converter's own
    reference, which then cancels."""

    supply: float | None

    @property
    def takes(self) -> str | None:
        return FRACTION if self.supply is None else "V"

    @property
    def full(self) -> float:
        """The input that represents the whole supply."""
        return 1.0 if self.supply is None else self.supply

    @property
    def _u(self) -> tuple[str, str | None]:
        """The symbol of the part, and the unit of the input."""
        return ("s", None) if self.supply is None else ("U / Us", "V")

    def _part(self, x: float) -> str:
        return number(x) if self.supply is None else f"{shown(x, 'V')} / {shown(self.full, 'V')}"


@dataclass(frozen=True)
class Bridge(_OfSupply):
    """Volts across a Wheatstone bridge of strain gauges to the strain.

    Parameters
    ----------
    gauge_factor : float
        ΔR/R for a strain of 1; about 2 for metal foil.
    active : {1, 2, 4}, default 1
        Strained gauges: 1 for a quarter bridge, 2 for a half bridge (two of opposite sign), 4 for a
        full bridge.
    supply : float, in V, optional
        Supply voltage of the bridge; None means ratiometric.
    lead : float, in Ω, default 0.0
        Resistance of one lead wire of a gauge (three-wire connection), which reduces the
        sensitivity of quarter and half bridges.
    ohms : float, in Ω, default 350.0
        Resistance of a gauge.

    Raises
    ------
    ParameterError
        For parameters that make no sense.

    Notes
    -----
    With s = U / Us and k the gauge factor: a quarter bridge gives ε = 4 s / (k (1 − 2 s)), a half
    one 2 s / k, a full one s / k. Quarter and half bridges are multiplied by 1 + lead / ohms.

    Source: the Wheatstone bridge; textbooks of strain measurement.

    Examples
    --------
    >>> import jetruler as jr
    >>> round(jr.Bridge(2.0, active=4, supply=5)(0.01))  # µm/m
    1000
    """

    gauge_factor: float
    active: Literal[1, 2, 4] = 1
    supply: Volts | None = None
    lead: Ohms = 0.0
    ohms: Ohms = 350.0

    if TYPE_CHECKING:  # texts and quantities are read

        def __init__(
            self,
            gauge_factor: Quantityish,
            active: Literal[1, 2, 4] = 1,
            supply: Quantityish | None = None,
            lead: Quantityish = 0.0,
            ohms: Quantityish = 350.0,
        ) -> None: ...

    name: ClassVar[str] = "bridge"
    sensor_kind: ClassVar[str] = "strain gauge"

    @property
    def gives(self) -> str | None:
        return "um/m"

    def check(self) -> Iterator[ParameterError]:
        yield from positive(self, "gauge_factor", "supply", "ohms")
        if self.active not in (1, 2, 4):
            yield ParameterError("active", self.active, "1, 2 or 4 strained gauges")
        if self.lead < 0:
            yield ParameterError("lead", self.lead, "0 or more")

    @property
    def _factor(self) -> float:
        """µm/m for a part of 1 of the supply, but for the bend of a quarter bridge."""
        wires = 1.0 if self.active == 4 else 1.0 + self.lead / self.ohms
        return 4e6 / self.active * wires / self.gauge_factor

    @ignore_fp_warnings
    def forward(self, x: Array) -> Array:
        s = x / self.full
        bend = 1.0 - 2.0 * s if self.active == 1 else 1.0
        return np.where(np.abs(s) < 0.5, self._factor * s / bend, np.nan)

    @ignore_fp_warnings
    def inverse(self, y: Array) -> Array:
        part = y / self._factor
        s = part / (1.0 + 2.0 * part) if self.active == 1 else part
        return np.where(np.abs(s) < 0.5, s * self.full, np.nan)

    @ignore_fp_warnings
    def slope(self, x: Array) -> Array:
        bend = (1.0 - 2.0 * x / self.full) ** 2 if self.active == 1 else np.ones_like(x)
        return self._factor / self.full / bend

    def worked_result(self, x: float, back: bool = False) -> float:
        bends = self.active == 1
        if back:
            part = printed_as(x / self._factor)
            return part / (1.0 + 2.0 * part if bends else 1.0) * self.full
        s = printed_as(x / self.full)
        wires = 1.0 if self.active == 4 else printed_as(1.0 + self.lead / self.ohms)
        if not abs(s) < 0.5:
            return np.nan
        return 4e6 / self.active * s / self.gauge_factor / (1.0 - 2.0 * s if bends else 1.0) * wires

    def formula(self, x: float) -> str:
        times = "" if self.active == 4 or not self.lead else " · (1 + lead / R)"
        wires = "" if not times else f" · {number(1 + self.lead / self.ohms)}"
        k, s = number(self.gauge_factor), self._part(x)
        head = "" if self.supply is None else f"s = {self._u[0]} = {s} = {number(x / self.full)}; "
        s = number(x / self.full)
        symbols, numbers = {
            1: ("4 · s / (k · (1 − 2 · s))", f"4 · {s} / ({k} · (1 − 2 · {s}))"),
            2: ("2 · s / k", f"2 · {s} / {k}"),
            4: ("s / k", f"{s} / {k}"),
        }[self.active]
        y = self.worked_result(x)
        result = "no value: half the supply or more" if np.isnan(y) else result_text(y, "um/m")
        return f"{head}ε = {symbols}{times} · 10⁶ = {numbers}{wires} · 1000000 = {result}"

    def inverse_formula(self, y: float) -> str:
        part = number(y / self._factor)
        bend = f" / (1 + 2 · {part})" if self.active == 1 else ""
        full = "" if self.supply is None else f" · {shown(self.full, 'V')}"
        x = result_text(self.worked_result(y, back=True), self._u[1])
        symbol = "s" if self.supply is None else "U"
        return f"{symbol} = {part}{bend}{full} = {x}"

    def program(self) -> list[str]:
        s = f"x = x / {constant(self.full)}"
        bend = " / (1.0 - 2.0 * x)" if self.active == 1 else ""
        return [s, reject("x <= (-0.5) or x >= 0.5"), f"x = {constant(self._factor)} * x{bend}"]


@dataclass(frozen=True)
class LoadCell(_OfSupply):
    """Volts of a load cell to the load: y = U / (sensitivity · supply) · capacity.

    Parameters
    ----------
    capacity : float
        The load at which the cell gives its rated output; with a unit (`"50 kg"`), the unit of
        the result too.
    sensitivity : float, in mV/V
        Rated output per volt of supply.
    supply : float, in V, optional
        Supply voltage of the cell; None means ratiometric.
    zero : float, in mV/V, default 0.0
        Output without a load.
    unit : str, optional
        Unit of the result.

    Raises
    ------
    ParameterError
        For parameters that make no sense.

    Notes
    -----
    Source: the definition of the rated output of a load cell.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.LoadCell("50 kg", "2 mV/V", supply=5)(0.005)  # volts to kg
    25.0
    """

    capacity: float
    sensitivity: Annotated[float, Unit("mV/V")]
    supply: Volts | None = None
    zero: Annotated[float, Unit("mV/V")] = 0.0
    unit: str | None = None

    if TYPE_CHECKING:  # texts and quantities are read

        def __init__(
            self,
            capacity: Quantityish,
            sensitivity: Quantityish,
            supply: Quantityish | None = None,
            zero: Quantityish = 0.0,
            unit: str | None = None,
        ) -> None: ...

    name: ClassVar[str] = "load-cell"
    sensor_kind: ClassVar[str] = "load cell"
    unit_hints: ClassVar[Mapping[str, str | tuple[str, str]]] = {"capacity": "unit"}

    def __post_init__(self) -> None:
        super().__post_init__()
        unit_fields(self, "unit")

    @property
    def gives(self) -> str | None:
        return self.unit

    def check(self) -> Iterator[ParameterError]:
        yield from positive(self, "capacity", "sensitivity", "supply")

    def forward(self, x: Array) -> Array:
        return (1000.0 * x / self.full - self.zero) / self.sensitivity * self.capacity

    def inverse(self, y: Array) -> Array:
        return (y / self.capacity * self.sensitivity + self.zero) / 1000.0 * self.full

    def slope(self, x: Array) -> Array:
        return np.full_like(x, 1000.0 / self.full / self.sensitivity * self.capacity)

    def formula(self, x: float) -> str:
        off = f" − {bracketed(self.zero)}" if self.zero else ""
        rated = f"{number(self.sensitivity)} · {shown(self.capacity, self.unit)}"
        result = result_text(self.worked_result(x), self.unit)
        symbols = f"m = (1000 · {self._u[0]}{' − zero' if off else ''}) / rated · capacity"
        return f"{symbols} = (1000 · {self._part(x)}{off}) / {rated} = {result}"

    def inverse_formula(self, y: float) -> str:
        off = f" + {bracketed(self.zero)}" if self.zero else ""
        full = "" if self.supply is None else f" · {shown(self.full, 'V')}"
        rated = f"{shown(self.capacity, self.unit)} · {number(self.sensitivity)}"
        x = result_text(self.worked_result(y, back=True), self._u[1])
        symbol = "s" if self.supply is None else "U"
        return f"{symbol} = ({shown(y, self.unit)} / {rated}{off}) / 1000{full} = {x}"

    def program(self) -> list[str]:
        full, zero = constant(self.full), constant(self.zero)
        per = f"/ {constant(self.sensitivity)} * {constant(self.capacity)}"
        return [f"x = (1000.0 * x / {full} - {zero}) {per}"]


@dataclass(frozen=True)
class Photoresistor(Law):
    """Ohms of a photoresistor to the light on it: E = 10 lx · (r10 / R)^(1/γ).

    Parameters
    ----------
    r10 : float, in Ω
        Resistance at 10 lx.
    gamma : float
        Decades by which the resistance falls per decade of light, from the datasheet.

    Raises
    ------
    ParameterError
        For parameters that make no sense.

    Notes
    -----
    Two marks (ohms, lux) give both by `fit`. A resistance of 0 or less has no value.

    Source: the definition of γ, log(R1 / R2) / log(E2 / E1), usually between 10 lx and 100 lx.

    Examples
    --------
    >>> import jetruler as jr
    >>> round(jr.Photoresistor("20 kohm", 0.5)(2000), 6)  # lx
    1000.0
    """

    r10: Ohms
    gamma: float

    if TYPE_CHECKING:  # texts and quantities are read

        def __init__(self, r10: Quantityish, gamma: Quantityish) -> None: ...

    name: ClassVar[str] = "photoresistor"
    sensor_kind: ClassVar[str] = "photoresistor"
    role: ClassVar[Role] = Role.CURVE
    fitted_name: ClassVar[str] = "a photoresistor"
    fit_takes: ClassVar[str | None] = "ohm"
    fit_gives: ClassVar[tuple[str, ...]] = ("lx",)

    @classmethod
    def fit_model(cls, asked: FitInput) -> FitModel:
        return PhotoresistorModel(asked)

    @property
    def takes(self) -> str | None:
        return "ohm"

    @property
    def gives(self) -> str | None:
        return "lx"

    def check(self) -> Iterator[ParameterError]:
        yield from positive(self, "r10", "gamma")

    @ignore_fp_warnings
    def forward(self, x: Array) -> Array:
        lux = 10.0 * (self.r10 / np.where(x > 0, x, np.nan)) ** (1.0 / self.gamma)
        return np.where(np.isfinite(lux), lux, np.nan)

    @ignore_fp_warnings
    def inverse(self, y: Array) -> Array:
        return self.r10 * (10.0 / np.where(y > 0, y, np.nan)) ** self.gamma

    @ignore_fp_warnings
    def slope(self, x: Array) -> Array:
        return -self.forward(x) / (self.gamma * x)

    @ignore_fp_warnings
    def slope_to(self, field: str, inside: tuple[int, ...], x: Array) -> Array | None:
        lux = self.forward(x)
        if field == "r10":
            return lux / (self.gamma * self.r10)
        return -lux * np.log(self.r10 / x) / self.gamma**2

    def formula(self, x: float) -> str:
        y = self.worked_result(x)
        result = "no value" if np.isnan(y) else result_text(y, "lx")
        base = f"({shown(self.r10, 'ohm')} / {shown(x, 'ohm')})"
        return f"E = 10 · (R10 / R)^(1/γ) = 10 lx · {base}^(1/{number(self.gamma)}) = {result}"

    def inverse_formula(self, y: float) -> str:
        x = self.worked_result(y, back=True)
        result = "no value" if np.isnan(x) else result_text(x, "ohm")
        base = f"(10 lx / {shown(y, 'lx')})"
        numbers = f"{shown(self.r10, 'ohm')} · {base}^{number(self.gamma)}"
        return f"R = R10 · (10 / E)^γ = {numbers} = {result}"

    def program(self) -> list[str]:
        r10, power = constant(self.r10), constant(1.0 / self.gamma)
        return [reject("x <= 0.0"), f"x = 10.0 * ({r10} / x) ** {power}"]


class PhotoresistorModel(FitModel):
    """ln E = level − (ln R − middle) / γ."""

    names, units = ("r10", "gamma"), ("ohm", None)

    def __init__(self, asked: FitInput) -> None:
        with np.errstate(all="ignore"):
            self.middle = float(np.mean(np.log(asked.x)))

    def refuse(self, asked: FitInput, robust: bool) -> Iterator[tuple[tuple[int, ...], str]]:
        for i in np.flatnonzero((asked.x <= 0) | (asked.y <= 0)).tolist():
            pair = f"{shown(float(asked.x[i]), 'ohm')} at {shown(float(asked.y[i]), 'lx')}"
            yield (i,), f"the mark is {pair}; a photoresistor needs both above 0"

    def design(self, x: Array) -> Array:
        return np.stack([np.ones_like(x), np.log(x) - self.middle], axis=1)

    def link(self, eta: Array) -> Array:
        return np.exp(eta)

    def link_slope(self, eta: Array) -> Array:
        return np.exp(eta)

    def unlink(self, y: Array) -> Array:
        return np.log(np.where(y > 0, y, np.nan))

    def values(self, theta: Array) -> Array:
        level, slope = theta
        return np.array([np.exp(self.middle + (np.log(10.0) - level) / slope), -1.0 / slope])

    def values_slope(self, theta: Array) -> Array:
        level, slope = theta
        r10, rise = self.values(theta)[0], np.log(10.0) - level
        return np.array([[-r10 / slope, -r10 * rise / slope**2], [0.0, 1.0 / slope**2]])

    def law(self, values: Array) -> Law:
        return Photoresistor(*values.tolist())


@dataclass(frozen=True)
class Pulses(Law):
    """Pulses counted in an interval to turns, litres or strokes per time: y = n / (each · T).

    Parameters
    ----------
    each : float
        Pulses per turn, litre or other unit.
    interval : float, in s
        Counting time of one reading.
    unit : str, default "rpm"
        Unit of the result: per minute if it ends in `/min` or is `rpm`, per hour if it ends in
        `/h`, else per second.

    Raises
    ------
    ParameterError
        For parameters that are not above 0.

    Notes
    -----
    The resolution of a reading is one pulse, 1 / (each · interval); a budget includes it.

    Source: the definition of a mean rate.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.Pulses(each=2, interval=0.5)(30)  # rpm
    1800.0
    """

    each: float
    interval: Annotated[float, Unit("s")]
    unit: str = "rpm"

    if TYPE_CHECKING:  # texts and quantities are read

        def __init__(self, each: Quantityish, interval: Quantityish, unit: str = "rpm") -> None: ...

    name: ClassVar[str] = "pulses"

    def __post_init__(self) -> None:
        super().__post_init__()
        unit_fields(self, "unit")

    @property
    def takes(self) -> str | None:
        return "count"

    @property
    def gives(self) -> str | None:
        return self.unit

    def check(self) -> Iterator[ParameterError]:
        yield from positive(self, "each", "interval")

    @property
    def seconds(self) -> float:
        """Seconds of the unit's time."""
        if self.unit == "rpm" or self.unit.endswith("/min"):
            return 60.0
        return 3600.0 if self.unit.endswith("/h") else 1.0

    def forward(self, x: Array) -> Array:
        return x * self.seconds / (self.each * self.interval)

    def inverse(self, y: Array) -> Array:
        return y * (self.each * self.interval) / self.seconds

    def slope(self, x: Array) -> Array:
        return np.full_like(x, self.seconds / (self.each * self.interval))

    def formula(self, x: float) -> str:
        numbers = f"{number(x)} · {number(self.seconds)} / ({number(self.each)} · "
        result = result_text(self.worked_result(x), self.unit)
        return f"y = n · t / (k · T) = {numbers}{number(self.interval)}) = {result}"

    def inverse_formula(self, y: float) -> str:
        numbers = f"{number(y)} · {number(self.each)} · {number(self.interval)}"
        result = result_text(self.worked_result(y, back=True))
        return f"n = y · k · T / t = {numbers} / {number(self.seconds)} = {result}"

    def program(self) -> list[str]:
        over = f"({constant(self.each)} * {constant(self.interval)})"
        return [f"x = x * {constant(self.seconds)} / {over}"]
