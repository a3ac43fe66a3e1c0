"""What a law's parameters are given as: numbers, or texts with a unit and a tolerance."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from ..error_types import ParameterError, QuantityError
from .quantity import quantity, unit_of
from .units import TEMPERATURES, Unit


def owned(value: Any) -> Any:
    """Lists, arrays, frames and the like as tuples: a law is not changed by what its caller does
    later."""
    if hasattr(value, "to_numpy"):
        value = value.to_numpy()
    if hasattr(value, "tolist"):
        value = value.tolist()
    return tuple(map(owned, value)) if isinstance(value, list | tuple | range) else value


def read_number(key: str, text: str, unit: Unit | None) -> float:
    """A text in a parameter's unit. Raises `ParameterError`."""
    try:
        # A bare kelvin stands without its unit, as a plain number and as one with a tolerance.
        said = unit is None or not unit.bare or unit_of(text) is not None
        return quantity(text, unit.symbol if unit is not None and said else None)
    except QuantityError as error:
        raise ParameterError(key, text, str(error)) from None


def read_numbers(key: str, value: Any, unit: Unit | None) -> Any:
    """What stands in a list of numbers, at any depth, its texts read."""
    if isinstance(value, list | tuple):
        return tuple(read_numbers(key, part, unit) for part in value)
    return read_number(key, value, unit) if isinstance(value, str) else value


def needs_unit(unit: Unit | None) -> bool:
    """Whether a number of this unit says it: a temperature does."""
    return unit is not None and not unit.bare and unit.symbol in TEMPERATURES


def read_hinted(
    hints: Mapping[str, str | tuple[str, str]], given: Mapping[str, Any]
) -> dict[str, Any]:
    """Quantities that tell a unit: `marks = [["0.5 V", 0], ["4.5 V", "10 bar"]]` tells both, and
    `low = "3.6 mA"` tells that of a clamp. The numbers come back plain, the units beside them.

    hints: the fields that take the units, by the parameters that may tell them.
    """
    plain: dict[str, Any] = {}

    def read(key: str, value: Any, side: str) -> Any:
        if not isinstance(value, str):
            return value
        try:
            said = given.get(side)
            unit = said if isinstance(said, str) else plain.get(side) or unit_of(value)
        except QuantityError as error:
            raise ParameterError(key, value, str(error)) from None
        if unit is not None:
            plain.setdefault(side, unit)
        return read_number(key, value, None if unit is None else Unit(unit))

    out = dict(given)
    for key, sides in hints.items():
        value = given.get(key)
        listed: Any = value if isinstance(value, list | tuple) else None
        if isinstance(sides, str) and listed is None:
            out[key] = read(key, value, sides)
        elif isinstance(sides, str):
            out[key] = [read(key, v, sides) for v in listed]
        elif listed is not None and all(isinstance(pair, list | tuple) for pair in listed):
            out[key] = [
                [read(key, v, side) for v, side in zip(pair, sides, strict=False)]
                for pair in listed
            ]
    return {key: value for key, value in out.items() if key in given} | plain
