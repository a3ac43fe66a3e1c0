"""The laws, one class each, by the name a bench file uses, and a law as it is written there.

To add one, write its class, and list it here.
"""

from __future__ import annotations

import dataclasses
import json
from functools import cache
from importlib.metadata import EntryPoint, entry_points
from typing import Any

from ..error_types import ParameterError
from ..ruler.base_law import hint_unit, parameters
from ..ruler.quantity import Toleranced
from ..ruler.ruler import Law, To
from ..ruler.units import TEMPERATURES
from .circuit import Amplifier, Attenuator, Divider, Shunt
from .curve import Polynomial, Table
from .formula import Formula, PowerLaw
from .interval import Clamp, DeadBand, Expect, Limits
from .linear import Line
from .raw_edge import Adc, Counts, Input
from .sensors import Bridge, LoadCell, Photoresistor, Pulses
from .shape import Magnitude, PassThrough, Steps, Whole, Zones
from .steinhart_hart_extended import SteinhartHartExtended
from .temperature import ZERO_C, Platinum
from .thermistor import Beta, SteinhartHart
from .thermocouple import Thermocouple

#: The laws, by their names in a bench file. Each is a public name as well.
LAWS: dict[str, type[Law]] = {
    law.name: law
    for law in (
        *(Adc, Counts, Input, Line, Divider, Attenuator, Shunt, Amplifier),
        *(Beta, SteinhartHart, SteinhartHartExtended, Platinum, Thermocouple),
        *(Bridge, LoadCell, Photoresistor, Pulses),
        *(Table, Polynomial, PowerLaw, Formula, To),
        *(Clamp, Limits, Expect, DeadBand, Whole, Steps, Magnitude, PassThrough, Zones),
    )
}

#: Entry-point group in which other packages offer laws of their own, by name.
GROUP = "jetruler.laws"


def law_named(name: str) -> type[Law]:
    """The law of this name, ours or another package's. Raises `KeyError`, and `ParameterError`
    for another package's law that cannot be loaded."""
    if name in LAWS:
        return LAWS[name]
    return _loaded(name, _own_laws()[name])


def law_names() -> list[str]:
    """Every name that a bench file may use for a law."""
    return sorted({*LAWS, *_own_laws()})


@cache
def _own_laws() -> dict[str, EntryPoint]:
    return {entry.name: entry for entry in entry_points(group=GROUP)}


def _loaded(name: str, entry: EntryPoint) -> type[Law]:
    try:
        law = entry.load()
    except Exception as error:  # another package's import may fail in any way
        why = f"{entry.value} gives {type(error).__name__}: {error}"
        raise ParameterError("law", name, "a law that can be loaded", why) from None
    from ..ruler.ruler import Law

    if not (isinstance(law, type) and issubclass(law, Law)):
        raise ParameterError("law", name, "a subclass of Law", f"{entry.value} is none")
    return law


def law_line(law: Law) -> str:
    """`{ law = "beta", r0 = 98600, beta = 3968, t0 = "25 degC" }`: what differs from the
    defaults, numbers with all their digits, so that what is read back is the same law."""
    parts = [f'law = "{law.name}"']
    for field in dataclasses.fields(law):  # type: ignore[arg-type]
        value = getattr(law, field.name)
        if value is None or (value == field.default and not isinstance(value, Toleranced)):
            continue
        if field.name == law.open_ended:
            parts += [f"{key} = {_value(constant)}" for key, constant in value]
            continue
        unit = hint_unit(parameters(type(law))[field.name])
        bare = unit is None or unit.bare or unit.symbol not in TEMPERATURES
        parts.append(f"{field.name} = {_value(value) if bare else _temperature(value)}")
    return "{ " + ", ".join(parts) + " }"


def _temperature(kelvin: float) -> str:
    celsius = round(kelvin - ZERO_C, 9)
    exact = celsius + ZERO_C == kelvin
    text = f"{number_text(celsius)} degC" if exact else f"{float(kelvin)!r} K"
    return f'"{text}{_tolerance(kelvin, " K")}"'


def _tolerance(value: float, unit: str = "") -> str:
    if not isinstance(value, Toleranced):
        return ""
    k = "" if value.k is None else f" (k={value.k!r})"
    return f" ± {number_text(value.half_width)}{unit}{k}"


def number_text(value: float) -> str:
    """A number with all its digits."""
    whole = value == int(value) and abs(value) < 1e15
    return str(int(value)) if whole else repr(float(value))


def _value(value: Any) -> str:
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, Toleranced):
        return f'"{number_text(value)}{_tolerance(value)}"'
    if isinstance(value, int | float):
        return number_text(value)
    if isinstance(value, str):
        return json.dumps(value, ensure_ascii=False)
    return "[" + ", ".join(map(_value, value)) + "]"
