"""Thermocouples by the reference functions of IEC 60584-1."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar, Literal, get_args

import numpy as np

from ..error_types import ParameterError
from ..numerics import Array, solve_monotone
from ..ruler.base_law import Kelvin, Role, as_array, ignore_fp_warnings
from ..ruler.quantity import Quantityish
from ..ruler.units import printed_as, result_text, shown
from .temperature import ZERO_C, TemperatureLaw, TemperatureUnit, from_kelvin, to_kelvin

Kind = Literal["B", "E", "J", "K", "N", "R", "S", "T"]

#: Stretches of each type: where one begins and ends in °C, and its coefficients of
#: E = Σ c_i t^i in mV. Source: IEC 60584-1:2013 (ITS-90), Table A.
_STRETCHES: dict[str, list[tuple[float, float, list[float]]]] = {
    "B": [
        (0.0, 630.615, [0.0, -0.246508183460e-3, 0.590404211710e-5, -0.132579316360e-8,
                        0.156682919010e-11, -0.169445292400e-14, 0.629903470940e-18]),
        (630.615, 1820.0, [-0.389381686210e1, 0.285717474700e-1, -0.848851047850e-4,
                           0.157852801640e-6, -0.168353448640e-9, 0.111097940130e-12,
                           -0.445154310330e-16, 0.989756408210e-20, -0.937913302890e-24]),
    ],
    "E": [
        (-270.0, 0.0, [0.0, 0.586655087080e-1, 0.454109771240e-4, -0.779980486860e-6,
                       -0.258001608430e-7, -0.594525830570e-9, -0.932140586670e-11,
                       -0.102876055340e-12, -0.803701236210e-15, -0.439794973910e-17,
                       -0.164147763550e-19, -0.396736195160e-22, -0.558273287210e-25,
                       -0.346578420130e-28]),
        (0.0, 1000.0, [0.0, 0.586655087100e-1, 0.450322755820e-4, 0.289084072120e-7,
                       -0.330568966520e-9, 0.650244032700e-12, -0.191974955040e-15,
                       -0.125366004970e-17, 0.214892175690e-20, -0.143880417820e-23,
                       0.359608994810e-27]),
    ],
    "J": [
        (-210.0, 760.0, [0.0, 0.503811878150e-1, 0.304758369300e-4, -0.856810657200e-7,
                         0.132281952950e-9, -0.170529583370e-12, 0.209480906970e-15,
                         -0.125383953360e-18, 0.156317256970e-22]),
        (760.0, 1200.0, [0.296456256810e3, -0.149761277860e1, 0.317871039240e-2,
                         -0.318476867010e-5, 0.157208190040e-8, -0.306913690560e-12]),
    ],
    "K": [
        (-270.0, 0.0, [0.0, 0.394501280250e-1, 0.236223735980e-4, -0.328589067840e-6,
                       -0.499048287770e-8, -0.675090591730e-10, -0.574103274280e-12,
                       -0.310888728940e-14, -0.104516093650e-16, -0.198892668780e-19,
                       -0.163226974860e-22]),
        (0.0, 1372.0, [-0.176004136860e-1, 0.389212049750e-1, 0.185587700320e-4,
                       -0.994575928740e-7, 0.318409457190e-9, -0.560728448890e-12,
                       0.560750590590e-15, -0.320207200030e-18, 0.971511471520e-22,
                       -0.121047212750e-25]),
    ],
    "N": [
        (-270.0, 0.0, [0.0, 0.261591059620e-1, 0.109574842280e-4, -0.938411115540e-7,
                       -0.464120397590e-10, -0.263033577160e-11, -0.226534380030e-13,
                       -0.760893007910e-16, -0.934196678350e-19]),
        (0.0, 1300.0, [0.0, 0.259293946010e-1, 0.157101418800e-4, 0.438256272370e-7,
                       -0.252611697940e-9, 0.643118193390e-12, -0.100634715190e-14,
                       0.997453389920e-18, -0.608632456070e-21, 0.208492293390e-24,
                       -0.306821961510e-28]),
    ],
    "R": [
        (-50.0, 1064.18, [0.0, 0.528961729765e-2, 0.139166589782e-4, -0.238855693017e-7,
                          0.356916001063e-10, -0.462347666298e-13, 0.500777441034e-16,
                          -0.373105886191e-19, 0.157716482367e-22, -0.281038625251e-26]),
        (1064.18, 1664.5, [0.295157925316e1, -0.252061251332e-2, 0.159564501865e-4,
                           -0.764085947576e-8, 0.205305291024e-11, -0.293359668173e-15]),
        (1664.5, 1768.1, [0.152232118209e3, -0.268819888545, 0.171280280471e-3,
                          -0.345895706453e-7, -0.934633971046e-14]),
    ],
    "S": [
        (-50.0, 1064.18, [0.0, 0.540313308631e-2, 0.125934289740e-4, -0.232477968689e-7,
                          0.322028823036e-10, -0.331465196389e-13, 0.255744251786e-16,
                          -0.125068871393e-19, 0.271443176145e-23]),
        (1064.18, 1664.5, [0.132900444085e1, 0.334509311344e-2, 0.654805192818e-5,
                           -0.164856259209e-8, 0.129989605174e-13]),
        (1664.5, 1768.1, [0.146628232636e3, -0.258430516752, 0.163693574641e-3,
                          -0.330439046987e-7, -0.943223690612e-14]),
    ],
    "T": [
        (-270.0, 0.0, [0.0, 0.387481063640e-1, 0.441944343470e-4, 0.118443231050e-6,
                       0.200329735540e-7, 0.901380195590e-9, 0.226511565930e-10,
                       0.360711542050e-12, 0.384939398830e-14, 0.282135219250e-16,
                       0.142515947790e-18, 0.487686622860e-21, 0.107955392700e-23,
                       0.139450270620e-26, 0.797951539270e-30]),
        (0.0, 400.0, [0.0, 0.387481063640e-1, 0.332922278800e-4, 0.206182434040e-6,
                      -0.218822568460e-8, 0.109968809280e-10, -0.308157587720e-13,
                      0.454791352900e-16, -0.275129016730e-19]),
    ],
}  # fmt: skip

#: Type K from 0 °C up has a0 · exp(a1 · (t − a2)²) besides.
_K = (0.118597600000, -0.118343200000e-3, 0.126968600000e3)

#: Below, a type's voltage does not tell its temperature: type B turns at 21 °C.
_LOWEST = {"B": 50.0}


def ends_of(kind: str) -> tuple[float, float]:
    """The range of a type, °C."""
    return _STRETCHES[kind][0][0], _STRETCHES[kind][-1][1]


def emf(kind: str, t: Array) -> Array:
    """The voltage of a type against 0 °C, in mV, at t in °C; NaN outside its range."""
    return _summed(kind, t, slope=False)


def emf_slope(kind: str, t: Array) -> Array:
    """The Seebeck coefficient, mV/°C."""
    return _summed(kind, t, slope=True)


@ignore_fp_warnings
def _summed(kind: str, t: Array, slope: bool) -> Array:
    low, high = ends_of(kind)
    out = np.full(t.shape, np.nan)
    for first, last, coefficients in _STRETCHES[kind]:
        inside = (t >= first) & (t <= last) & (t >= low) & (t <= high)
        x = t[inside]
        powers = np.polynomial.Polynomial(coefficients)
        value = (powers.deriv() if slope else powers)(x)
        if kind == "K" and first == 0.0:
            a0, a1, a2 = _K
            bump = a0 * np.exp(a1 * (x - a2) ** 2)
            value = value + (bump * 2 * a1 * (x - a2) if slope else bump)
        out[inside] = value
    return out


@dataclass(frozen=True)
class Thermocouple(TemperatureLaw):
    """Millivolts of a thermocouple to the temperature of its hot end: E(t) = U + E(cold).

    Parameters
    ----------
    kind : {"B", "E", "J", "K", "N", "R", "S", "T"}
        The type.
    cold : float, default "0 degC"
        Temperature of the cold junction, with its unit.
    unit : {"degC", "K", "degF"}, default "degC"
        Unit of the result.

    Raises
    ------
    ParameterError
        For a type that does not exist, and a cold junction outside its range.

    Notes
    -----
    The reference functions give the voltage for a temperature; the inverse is solved numerically,
    so that both directions agree. Outside the range of the type there is no value. Type B starts at
    50 °C, because below 42 °C two temperatures have the same voltage.

    Source: IEC 60584-1:2013, reference functions on ITS-90.

    Examples
    --------
    >>> import jetruler as jr
    >>> round(jr.Thermocouple("K", cold="25 degC")(3.0), 2)  # mV to °C
    97.68
    """

    kind: Kind
    cold: Kelvin = ZERO_C
    unit: TemperatureUnit = "degC"

    if TYPE_CHECKING:  # texts and quantities are read

        def __init__(
            self, kind: Kind, cold: Quantityish = "0 degC", unit: TemperatureUnit = "degC"
        ) -> None: ...

    name: ClassVar[str] = "thermocouple"
    sensor_kind: ClassVar[str] = "thermocouple"
    role: ClassVar[Role] = Role.CURVE

    @property
    def takes(self) -> str | None:
        return "mV"

    def check(self) -> Iterator[ParameterError]:
        yield from super().check()
        if self.kind not in get_args(Kind):
            yield ParameterError("kind", self.kind, f"one of {', '.join(get_args(Kind))}")
        elif np.isnan(self._cold_emf):
            low, high = ends_of(self.kind)
            expected = f"{shown(low, 'degC')} to {shown(high, 'degC')}"
            yield ParameterError("cold", shown(self.cold - ZERO_C, "degC"), expected)

    @property
    def _cold_emf(self) -> float:
        if self.cold == ZERO_C:
            return 0.0  # by definition; the polynomials leave 2e-9 mV
        return float(emf(self.kind, as_array(self.cold - ZERO_C))[0])

    @property
    def _ends(self) -> tuple[float, float]:
        low, high = ends_of(self.kind)
        return max(low, _LOWEST.get(self.kind, low)), high

    def _celsius(self, millivolts: Array) -> Array:
        low, high = self._ends
        wanted = millivolts + self._cold_emf
        least, most = emf(self.kind, np.array([low, high]))
        room = 5e-4  # half a digit of the standard's table
        inside = (wanted >= least - room) & (wanted <= most + room)
        t = np.full(millivolts.shape, np.nan)
        target = np.clip(wanted[inside], least, most)
        ends = np.full_like(target, low), np.full_like(target, high)
        t[inside] = solve_monotone(
            lambda x: emf(self.kind, x), lambda x: emf_slope(self.kind, x), target, *ends
        )
        return t

    def forward(self, x: Array) -> Array:
        celsius = self._celsius(x)
        return celsius if self.scale == "degC" else from_kelvin(celsius + ZERO_C, self.scale)

    def _to_celsius(self, y: Array) -> Array:
        celsius = y if self.scale == "degC" else to_kelvin(y, self.scale) - ZERO_C
        low, high = self._ends
        # The last bits of a conversion from kelvin are no way outside.
        celsius = np.where(np.abs(celsius - low) < 1e-9, low, celsius)
        celsius = np.where(np.abs(celsius - high) < 1e-9, high, celsius)
        return np.where((celsius >= low) & (celsius <= high), celsius, np.nan)

    def inverse(self, y: Array) -> Array:
        return emf(self.kind, self._to_celsius(y)) - self._cold_emf

    @ignore_fp_warnings
    def slope(self, x: Array) -> Array:
        return self.degrees / emf_slope(self.kind, self._celsius(x))

    def slope_to(self, field: str, inside: tuple[int, ...], x: Array) -> Array | None:
        if field != "cold":
            return None
        return self.slope(x) * emf_slope(self.kind, np.full_like(x, self.cold - ZERO_C))

    def worked_result(self, x: float, back: bool = False) -> float:
        cold = printed_as(self._cold_emf)
        if back:
            value = printed_as(float(emf(self.kind, self._to_celsius(as_array(x)))[0]))
            return value - cold
        whole = printed_as(x + cold)
        return float(self.forward(as_array(whole - self._cold_emf))[0])

    @property
    def _cold_text(self) -> str:
        return shown(self.cold - ZERO_C, "degC")

    def _outside(self) -> str:
        low, high = self._ends
        return f"no value: outside {shown(low, 'degC')} to {shown(high, 'degC')}"

    def formula(self, x: float) -> str:
        y, cold = self.worked_result(x), self._cold_emf
        numbers = f"{shown(x, 'mV')} + {shown(cold, 'mV')} = {shown(x + cold, 'mV')}"
        result = self._outside() if np.isnan(y) else result_text(y, self.scale)
        return f"E(t) = U + E({self._cold_text}) = {numbers}; solved for t = {result}"

    def inverse_formula(self, y: float) -> str:
        celsius = float(self._to_celsius(as_array(y))[0])
        if np.isnan(celsius):
            return self._outside()
        value, cold = float(emf(self.kind, as_array(celsius))[0]), self._cold_emf
        result = result_text(self.worked_result(y, back=True), "mV")
        at = shown(celsius, "degC")
        numbers = f"{shown(value, 'mV')} − {shown(cold, 'mV')}"
        return f"U = E({at}) − E({self._cold_text}) = {numbers} = {result}"
