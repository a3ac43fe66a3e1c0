"""What is between a sensor and the pin: dividers, attenuators, shunts, amplifiers."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, ClassVar, Literal

import numpy as np

from ..error_types import ParameterError
from ..numerics import Array, FlagArray
from ..ruler.base_law import FRACTION, Ohms, Volts, constant, ignore_fp_warnings, reject
from ..ruler.quantity import Quantityish
from ..ruler.reading import Flag
from ..ruler.ruler import Law
from ..ruler.units import bracketed, number, printed_as, result_text, shown, significant
from .preferred import preferred


def positive(law: Law, *fields: str) -> Iterator[ParameterError]:
    """The errors among parameters that must be above 0 (or left out)."""
    for field in fields:
        value = getattr(law, field)
        if value is not None and value <= 0:
            yield ParameterError(field, value, "a value above 0")


def parallel(a: float, b: float | None) -> float:
    """Two resistances side by side; None is none there."""
    return a if b is None else a * b / (a + b)


def _parallel_slopes(a: float, b: float | None) -> tuple[float, float]:
    """The derivatives of `parallel` to its two resistances."""
    return (1.0, 0.0) if b is None else ((b / (a + b)) ** 2, (a / (a + b)) ** 2)


@dataclass(frozen=True)
class Divider(Law):
    """Volts at the tap of a divider to the ohms of the sensor in it.

    Parameters
    ----------
    known : float, in Ω
        The fixed resistor in Ω.
    sensor : {"upper", "lower"}, default "lower"
        Leg of the sensor: "upper" (to the supply) or "lower" (to ground).
    supply : float, in V, optional
        Voltage across the divider in V; None means that the converter's own reference supplies it,
        which then cancels (ratiometric).
    load : float, in Ω, optional
        Resistance in Ω parallel to the lower leg, such as that of the converter's input.

    Raises
    ------
    ParameterError
        For parameters that make no sense.

    Notes
    -----
    With s = U / supply, L the lower leg beside the load: s = L / (upper + L). A sensor leg that
    computes to 0, ∞ or less is NaN with a rail flag (a short, an open wire).

    Source: Kirchhoff's laws; the unloaded and loaded voltage divider.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.Divider(known=4700, supply=3.3)(1.65)  # ohms
    4700.0
    """

    known: Ohms
    sensor: Literal["upper", "lower"] = "lower"
    supply: Volts | None = None
    load: Ohms | None = None

    if TYPE_CHECKING:  # texts and quantities are read

        def __init__(
            self,
            known: Quantityish,
            sensor: Literal["upper", "lower"] = "lower",
            supply: Quantityish | None = None,
            load: Quantityish | None = None,
        ) -> None: ...

    name: ClassVar[str] = "divider"

    @property
    def takes(self) -> str | None:
        return FRACTION if self.supply is None else "V"

    @property
    def gives(self) -> str | None:
        return "ohm"

    @property
    def full(self) -> float:
        """The input that represents the whole supply."""
        return 1.0 if self.supply is None else self.supply

    def check(self) -> Iterator[ParameterError]:
        yield from positive(self, "known", "supply", "load")
        if self.sensor not in ("upper", "lower"):
            yield ParameterError("sensor", self.sensor, '"upper" or "lower"')

    @ignore_fp_warnings
    def forward(self, x: Array) -> Array:
        if self.sensor == "upper":
            ohms = parallel(self.known, self.load) * (self.full - x) / x
        else:
            ohms = self.known * x / (self.full - x)
            if self.load is not None:
                ohms = ohms * self.load / (self.load - ohms)
        return np.where((ohms > 0) & (ohms < np.inf), ohms, np.nan)

    @ignore_fp_warnings
    def inverse(self, y: Array) -> Array:
        y = np.where((y > 0) & (y < np.inf), y, np.nan)
        if self.sensor == "upper":
            lower = parallel(self.known, self.load)
            return self.full * lower / (y + lower)
        lower_leg = y if self.load is None else y * self.load / (y + self.load)
        return self.full * lower_leg / (self.known + lower_leg)

    @ignore_fp_warnings
    def slope(self, x: Array) -> Array:
        if self.sensor == "upper":
            return -parallel(self.known, self.load) * self.full / x**2
        per_leg = self.known * self.full / (self.full - x) ** 2
        if self.load is None:
            return per_leg
        leg = self.known * x / (self.full - x)
        return per_leg * (self.load / (self.load - leg)) ** 2

    @ignore_fp_warnings
    def flags(self, x: Array) -> FlagArray:
        """Where there is no resistance: at the rail that the pin is drawn to."""
        out = np.zeros(x.shape, np.uint8)
        nothing = np.isnan(self.forward(x))
        # An open sensor in the lower leg leaves the load there, which may pull below the half.
        top = self.full * (1.0 if self.load is None else self.load / (self.known + self.load))
        out[nothing & (x < 0.5 * top)] = Flag.LOW_RAIL
        out[nothing & (x >= 0.5 * top)] = Flag.HIGH_RAIL
        return out

    @ignore_fp_warnings
    def slope_to(self, field: str, inside: tuple[int, ...], x: Array) -> Array | None:
        known, load = _parallel_slopes(self.known, self.load)
        if self.sensor == "upper":
            rest = (self.full - x) / x
            slopes = {"known": known * rest, "load": load * rest}
            return slopes.get(field, parallel(self.known, self.load) / x)
        leg, rest = self.known * x / (self.full - x), self.full - x
        # Past the load, R = RL · Rload / (Rload − RL).
        past = 1.0 if self.load is None else (self.load / (self.load - leg)) ** 2
        if field == "load":
            return -((leg / ((self.load or 0.0) - leg)) ** 2)
        found: Array = past * (leg / self.known if field == "known" else -leg / rest)
        return found

    def worked_result(self, x: float, back: bool = False) -> float:
        exact = super().worked_result(x, back)
        if self.load is None or math.isnan(exact):
            return exact
        if self.sensor == "upper":
            lower = printed_as(parallel(self.known, self.load))
            return self.full * lower / (x + lower) if back else lower * (self.full - x) / x
        if back:
            leg = printed_as(parallel(x, self.load))
            return self.full * leg / (self.known + leg)
        leg = printed_as(replace(self, load=None).worked_result(x))
        return leg * self.load / (self.load - leg)

    def formula(self, x: float) -> str:
        y = self.worked_result(x)
        unit = None if self.supply is None else "V"
        u, full = shown(x, unit), shown(self.full, unit)
        s, whole = ("s", "1") if self.supply is None else ("U", "Us")
        if self.sensor == "upper":
            load = self._beside("Rk", self.known)
            lower = "Rk" if self.load is None else "RL"
            value = shown(parallel(self.known, self.load), "ohm")
            symbols, numbers = (
                f"R = {lower} · ({whole} − {s}) / {s}",
                f"{value} · ({full} − {u}) / {u}",
            )
            return f"{load}{symbols} = {numbers} = {self._result(y)}"
        if self.load is None:
            return f"R = {self._leg(x)} = {self._result(y)}"
        return self._past_the_load(x, y)

    def _leg(self, x: float) -> str:
        """The lower leg in symbols, then in numbers."""
        unit = None if self.supply is None else "V"
        u, full, known = shown(x, unit), shown(self.full, unit), shown(self.known, "ohm")
        s, whole = ("s", "1") if self.supply is None else ("U", "Us")
        return f"Rk · {s} / ({whole} − {s}) = {known} · {u} / ({full} − {u})"

    def _past_the_load(self, x: float, y: float) -> str:
        """The lower leg, then the sensor in it: two steps, each with the digits that it needs."""
        leg = replace(self, load=None).worked_result(x)
        beside = shown(leg, "ohm") if leg == leg else "no value"
        whole = shown(self.load or 0.0, "ohm")
        worked = f"{beside} · {whole} / ({whole} − {beside})"
        symbols = f"RL = {self._leg(x)} = {beside}; R = RL · Rload / (Rload − RL)"
        return f"{symbols} = {worked} = {self._result(y)}"

    @staticmethod
    def _result(y: float) -> str:
        return "no value: an open or shorted sensor" if np.isnan(y) else result_text(y, "ohm")

    def _beside(self, name: str, ohms: float) -> str:
        if self.load is None:
            return ""
        value = shown(parallel(ohms, self.load), "ohm")
        return f"RL = {name} ∥ {shown(self.load, 'ohm')} = {value}; "

    def inverse_formula(self, y: float) -> str:
        x = self.worked_result(y, back=True)
        unit = None if self.supply is None else "V"
        result = result_text(x, unit)
        full = "" if self.supply is None else f"{shown(self.full, 'V')} · "
        s, symbol = ("s", "") if self.supply is None else ("U", "Us · ")
        r, known = shown(y, "ohm"), shown(self.known, "ohm")
        if self.sensor == "upper":
            lower = shown(parallel(self.known, self.load), "ohm")
            rk = "Rk" if self.load is None else "RL"
            numbers = f"{full}{lower} / ({r} + {lower})"
            beside = self._beside("Rk", self.known)
            return f"{beside}{s} = {symbol}{rk} / (R + {rk}) = {numbers} = {result}"
        leg = shown(parallel(y, self.load), "ohm")
        name = "R" if self.load is None else "RL"
        numbers = f"{full}{leg} / ({known} + {leg})"
        beside = self._beside("R", y)
        return f"{beside}{s} = {symbol}{name} / (Rk + {name}) = {numbers} = {result}"

    def program(self) -> list[str] | None:
        full = constant(self.full)
        if self.sensor == "upper":
            leg = constant(parallel(self.known, self.load))
            return [reject("x <= 0.0"), f"x = {leg} * ({full} - x) / x", reject("x <= 0.0")]
        out = [reject(f"x >= {full}"), f"x = {constant(self.known)} * x / ({full} - x)"]
        if self.load is not None:
            load = constant(self.load)
            out += [reject(f"x >= {load}"), f"x = x * {load} / ({load} - x)"]
        return [*out, reject("x <= 0.0")]

    def typed(self) -> list[str]:
        return [line for line in self.program() or [] if not line.startswith("if")]


class _Gain(Law):
    """Volts at the pin that are a straight fraction of something else: y = (x − shift) · factor."""

    @property
    def takes(self) -> str | None:
        return "V"

    @property
    def gives(self) -> str | None:
        return "V"

    @property
    def factor(self) -> float:
        """Output per volt."""
        raise NotImplementedError

    @property
    def shift(self) -> float:
        """The volts that represent an output of 0."""
        return 0.0

    def forward(self, x: Array) -> Array:
        return (x - self.shift) * self.factor

    def inverse(self, y: Array) -> Array:
        return y / self.factor + self.shift

    def slope(self, x: Array) -> Array:
        return np.full_like(x, self.factor)

    def program(self) -> list[str]:
        return [f"x = (x - {constant(self.shift)}) * {constant(self.factor)}"]

    def _there(self, x: float) -> str:
        return result_text(self.worked_result(x), self.gives)

    def _back(self, y: float) -> str:
        return result_text(self.worked_result(y, back=True), "V")


@dataclass(frozen=True)
class Attenuator(_Gain):
    """Volts at the tap of an attenuator to the volts at its source: Us = U · (upper + L) / L.

    Parameters
    ----------
    upper, lower : float, in Ω
        The two resistors in Ω.
    load : float, in Ω, optional
        Resistance in Ω parallel to the lower resistor; L is both in parallel.

    Raises
    ------
    ParameterError
        For parameters that make no sense.

    Notes
    -----
    For supply rails and batteries.

    Source: the loaded voltage divider.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.Attenuator(upper=33e3, lower=10e3)(2.8)  # volts
    12.04
    """

    upper: Ohms
    lower: Ohms
    load: Ohms | None = None

    if TYPE_CHECKING:  # texts and quantities are read

        def __init__(
            self,
            upper: Quantityish,
            lower: Quantityish,
            load: Quantityish | None = None,
        ) -> None: ...

    name: ClassVar[str] = "attenuator"

    def check(self) -> Iterator[ParameterError]:
        yield from positive(self, "upper", "lower", "load")

    @property
    def factor(self) -> float:
        leg = parallel(self.lower, self.load)
        return (self.upper + leg) / leg

    def with_less(self, ratio: float) -> dict[str, float]:
        upper = parallel(self.lower, self.load) * (self.factor / ratio - 1)
        return {"upper": float(preferred("E24", upper, upper * 12)[0])}

    def slope_to(self, field: str, inside: tuple[int, ...], x: Array) -> Array | None:
        leg = parallel(self.lower, self.load)
        lower, load = _parallel_slopes(self.lower, self.load)
        of_leg = -x * self.upper / leg**2
        return {"upper": x / leg, "lower": of_leg * lower, "load": of_leg * load}.get(field)

    def worked_result(self, x: float, back: bool = False) -> float:
        leg = printed_as(parallel(self.lower, self.load))
        return x * leg / (self.upper + leg) if back else x * (self.upper + leg) / leg

    def formula(self, x: float) -> str:
        leg = number(parallel(self.lower, self.load))
        numbers = f"{shown(x, 'V')} · ({number(self.upper)} + {leg}) / {leg}"
        return f"Us = U · (Ru + RL) / RL = {numbers} = {self._there(x)}"

    def inverse_formula(self, y: float) -> str:
        leg = number(parallel(self.lower, self.load))
        numbers = f"{shown(y, 'V')} · {leg} / ({number(self.upper)} + {leg})"
        return f"U = Us · RL / (Ru + RL) = {numbers} = {self._back(y)}"

    def typed(self) -> list[str]:
        upper, leg = constant(self.upper), constant(parallel(self.lower, self.load))
        return [f"x = x * ({upper} + {leg}) / {leg}"]


@dataclass(frozen=True)
class Shunt(_Gain):
    """Volts across a shunt to the current through it: I = U / R.

    Parameters
    ----------
    ohms : float, in Ω
        The shunt in Ω.

    Raises
    ------
    ParameterError
        For parameters that make no sense.

    Notes
    -----
    With a `Line` behind it, this is the 4–20 mA loop.

    Source: Ohm's law; IEC 60381-1 for the loop.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.Shunt(ohms=150)(1.8)  # amperes
    0.012
    """

    ohms: Ohms

    if TYPE_CHECKING:  # texts and quantities are read

        def __init__(
            self,
            ohms: Quantityish,
        ) -> None: ...

    name: ClassVar[str] = "shunt"

    @property
    def gives(self) -> str | None:
        return "A"

    def check(self) -> Iterator[ParameterError]:
        yield from positive(self, "ohms")

    @property
    def factor(self) -> float:
        return 1.0 / self.ohms

    def with_less(self, ratio: float) -> dict[str, float]:
        ohms = self.ohms * ratio
        return {"ohms": float(preferred("E24", ohms / 12, ohms)[-1])}

    def forward(self, x: Array) -> Array:
        return x / self.ohms

    def inverse(self, y: Array) -> Array:
        return y * self.ohms

    def slope_to(self, field: str, inside: tuple[int, ...], x: Array) -> Array | None:
        return -x / self.ohms**2

    def formula(self, x: float) -> str:
        return f"I = U / R = {shown(x, 'V')} / {shown(self.ohms, 'ohm')} = {self._there(x)}"

    def inverse_formula(self, y: float) -> str:
        return f"U = I · R = {shown(y, 'A')} · {shown(self.ohms, 'ohm')} = {self._back(y)}"

    def program(self) -> list[str]:
        return [f"x = x / {constant(self.ohms)}"]


@dataclass(frozen=True)
class Amplifier(_Gain):
    """Volts at the converter to the volts at the sensor: Us = (U − offset) / gain.

    Parameters
    ----------
    gain : float
        Volts at the converter per volt at the sensor; negative for an inverting stage.
    offset : float, in V, default 0.0
        Volts at the converter when the sensor gives 0 V.

    Raises
    ------
    ParameterError
        For a gain of 0.

    Notes
    -----
    Source: the transfer function of a linear stage.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.Amplifier(gain=10, offset=0.5)(2.5)  # volts at its input
    0.2
    """

    gain: float
    offset: Volts = 0.0

    if TYPE_CHECKING:  # texts and quantities are read

        def __init__(
            self,
            gain: Quantityish,
            offset: Quantityish = 0.0,
        ) -> None: ...

    name: ClassVar[str] = "amplifier"

    def check(self) -> Iterator[ParameterError]:
        if self.gain == 0:
            yield ParameterError("gain", self.gain, "a gain other than 0")

    @property
    def factor(self) -> float:
        return 1.0 / self.gain

    def with_less(self, ratio: float) -> dict[str, float]:
        return {"gain": significant(0.95 * self.gain * ratio, 2)}

    @property
    def shift(self) -> float:
        return self.offset

    def slope_to(self, field: str, inside: tuple[int, ...], x: Array) -> Array | None:
        return -self.forward(x) / self.gain if field == "gain" else np.full_like(x, -self.factor)

    def formula(self, x: float) -> str:
        numbers = f"({number(x)} − {bracketed(self.offset)}) V / {bracketed(self.gain)}"
        return f"Us = (U − b) / m = {numbers} = {self._there(x)}"

    def inverse_formula(self, y: float) -> str:
        numbers = f"{bracketed(self.gain)} · {shown(y, 'V')} + {bracketed(self.offset)} V"
        return f"U = m · Us + b = {numbers} = {self._back(y)}"

    def typed(self) -> list[str]:
        return [f"x = (x - {constant(self.offset)}) / {constant(self.gain)}"]
