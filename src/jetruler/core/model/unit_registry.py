"""Every unit beyond the usual ones, and from one unit to another of its kind: Pint's registry.

Pint takes a third of a second to load, so `units.py` knows the usual units itself, and this is
asked for the others only.
"""

from __future__ import annotations

import re
from fractions import Fraction
from functools import cache
from typing import Any

from ..error_types import UnitError
from .units import PREFIXES, TEMPERATURES, canonical, symbol, usual

#: A unit as text: names with small exponents, multiplied or divided. Anything else (a power
#: tower, a call) is not even shown to Pint, which evaluates what it is given.
_PART = r"[^\W\d]{1,30}(?:(?:\^|\*\*)?-?\d|[²³])?"
_UNIT = re.compile(rf"(?:1/)?{_PART}(?:[*/·]{_PART}){{0,5}}\Z")
_PINT_NAMES = {"%": "percent", "fraction": "dimensionless"}
#: What the registry calls units that have another name here.
_OWN_NAMES = {"degree_Celsius": "degC", "degree_Fahrenheit": "degF", "kelvin": "K", "liter": "L"}
_SINGLE = re.compile(r"[^\W\d]{1,30}\Z")
#: A word is known whatever its case; a symbol is not: mA is no MA.
_WORD = re.compile(r"[A-Za-z]{4,}\Z")


@cache
def _registry() -> Any:
    import pint

    return pint.UnitRegistry(non_int_type=Fraction)


@cache
def spelled(unit: str) -> str:
    """Return the one spelling used inside of any that the registry knows: `"fahrenheit"` is
    `"degF"`, `"millivolt"` is `"mV"`. A text that nobody knows stays as it is."""
    name = canonical(unit)
    if usual(name) is not None or name in TEMPERATURES or not _SINGLE.match(name):
        return name
    for text in (name, name.lower()) if _WORD.match(name) else (name,):
        try:
            found = _registry().parse_units(text)
        except Exception:  # Pint raises many kinds
            continue
        if (own := _OWN_NAMES.get(str(found))) is not None:
            return own
        short = f"{found:~}".replace("µ", "u").replace("Ω", "ohm")
        return short if usual(short) is not None else text
    return name


def factor(name: str) -> tuple[str, float] | None:
    """Return the base unit of a symbol and its size in it: `"kohm"` → `("ohm", 1000.0)`.

    A unit of the registry alone, such as psi, is its own base. None if nobody knows the symbol.
    """
    found = usual(name)
    if found is None and name not in PREFIXES:
        own = spelled(name)
        found = usual(own) or ((own, 1.0) if is_unit(own) else None)
    return found


@cache
def is_unit(unit: str) -> bool:
    """Return whether a text is a unit that anybody knows."""
    unit = spelled(unit)
    return unit in TEMPERATURES or _quantity(0, unit) is not None


@cache
def factor_and_offset(source: str, unit: str) -> tuple[float, float]:
    """Return the factor and the offset of the way from one unit to another.

    y = factor · x + offset, from exact fractions, each rounded once. Raises `UnitError` for units
    of two kinds, and for a unit that is none.
    """
    source, unit = spelled(source), spelled(unit)
    if source in TEMPERATURES and unit in TEMPERATURES:
        (zero, degree), (to_zero, to_degree) = TEMPERATURES[source], TEMPERATURES[unit]
        return float(degree / to_degree), float((zero - to_zero) / to_degree)
    own, other = usual(source), usual(unit)
    if own is not None and other is not None and own[0] == other[0]:
        return float(Fraction(repr(own[1])) / Fraction(repr(other[1]))), 0.0
    try:
        if not is_unit(unit):
            raise ValueError(unit)
        first, second, third = (_converted(x, source, unit) for x in (0, 1, 2))
        if second - first != third - second:  # a logarithmic unit
            raise ValueError(unit)
        return float(second - first), float(first)
    except Exception:  # Pint raises many kinds
        raise UnitError(f"{symbol(source)} cannot be converted to {symbol(unit)}") from None


def _converted(x: int, source: str, unit: str) -> Fraction:
    """x of one unit in another; a temperature by way of kelvin, since scales begin elsewhere."""
    found = _quantity(x, source)
    if source in TEMPERATURES:
        found = _registry().Quantity(_zero(source) + x * _degree(source), "kelvin")
    if unit in TEMPERATURES:
        return (Fraction(found.to("kelvin").magnitude) - _zero(unit)) / _degree(unit)
    return Fraction(found.to(_PINT_NAMES.get(unit, unit)).magnitude)


def _zero(unit: str) -> Fraction:
    return Fraction(TEMPERATURES[unit][0])


def _degree(unit: str) -> Fraction:
    return Fraction(TEMPERATURES[unit][1])


def _quantity(x: int, unit: str) -> Any:
    """x of a unit, None for what is no unit."""
    if unit not in _PINT_NAMES and not _UNIT.match(unit):
        return None
    try:
        return _registry().Quantity(Fraction(x), _PINT_NAMES.get(unit, unit))
    except Exception:  # Pint raises many kinds, down to those of its tokenizer
        return None
