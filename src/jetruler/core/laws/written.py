"""A law as it is written in a bench file."""

from __future__ import annotations

import dataclasses
import json
from typing import Any

from ..model.law import Law, hint_unit, parameters
from ..model.quantity import Toleranced
from ..model.units import TEMPERATURES
from .temperature import ZERO_C


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
