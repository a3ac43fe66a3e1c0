"""A law as it is written in a bench file."""

from __future__ import annotations

import dataclasses
from typing import Any

from ..core.model.law import Law, hint_unit, parameters
from ..core.model.quantity import Toleranced
from ..core.model.units import TEMPERATURES


def law_line(law: Law) -> str:
    """`{ law = "beta", r0 = 98600, beta = 3968, t0 = "298.15 K" }`: what differs from the
    defaults, numbers to twelve digits."""
    parts = [f'law = "{law.name}"']
    for field in dataclasses.fields(law):  # type: ignore[arg-type]
        value = getattr(law, field.name)
        if value is None or (value == field.default and not isinstance(value, Toleranced)):
            continue
        unit = hint_unit(parameters(type(law))[field.name])
        bare = unit is None or unit.bare or unit.symbol not in TEMPERATURES
        parts.append(f"{field.name} = {_value(value) if bare else _temperature(value)}")
    return "{ " + ", ".join(parts) + " }"


def _temperature(kelvin: float) -> str:
    celsius = round(kelvin - 273.15, 9)
    return f'"{celsius:.12g} degC"'


def _value(value: Any) -> str:
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, Toleranced):
        return f'"{value}"'
    if isinstance(value, int | float):
        text = f"{value:.12g}"
        return (
            text
            if set(text) & set(".e") or isinstance(value, int) or abs(value) < 1e15
            else f"{text}.0"
        )
    if isinstance(value, str):
        return '"' + value.replace("\\", "\\\\").replace('"', '\\"') + '"'
    return "[" + ", ".join(map(_value, value)) + "]"
