"""Units: one spelling inside, the trade's symbols for people, SI factors of the usual ones."""

from __future__ import annotations

import re
from dataclasses import dataclass
from decimal import Decimal

_ALIASES = {
    "Ω": "ohm",
    "\u2126": "ohm",
    "ohms": "ohm",
    "Ohm": "ohm",
    "R": "ohm",
    "°C": "degC",
    "°F": "degF",
    "counts": "count",
    "percent": "%",
}
_SYMBOLS = {"ohm": "Ω", "degC": "°C", "degF": "°F", "deg": "°", "us": "µs", "1": ""}

PREFIXES = {"p": 1e-12, "n": 1e-9, "u": 1e-6, "m": 1e-3, "c": 1e-2, "h": 1e2}
PREFIXES |= {"k": 1e3, "M": 1e6, "G": 1e9, "T": 1e12}
_PREFIXED = ("ohm", "V", "A", "W", "s", "m", "Hz", "Pa", "bar", "K", "F", "g", "N", "L", "lx")
_PLAIN = ("%", "count", "deg", "degC", "degF")
_TIMES = {"min": 60.0, "h": 3600.0}

#: Kelvin of 0 in each temperature scale, and the size of its degree in kelvin (28 digits).
TEMPERATURES = {
    "K": (Decimal(0), Decimal(1)),
    "degC": (Decimal("273.15"), Decimal(1)),
    "degF": (Decimal("459.67") * 5 / 9, Decimal(5) / 9),
}


@dataclass(frozen=True)
class Unit:
    """Mark of a parameter: the SI unit that a plain number in this place stands for.

    bare: a plain number is right even though the unit is that of a temperature (a Beta).
    """

    symbol: str
    bare: bool = False


def canonical(unit: str) -> str:
    """Return the one spelling used inside: `"Ω"` is `"ohm"`, `"°C"` is `"degC"`."""
    unit = unit.strip()
    return _ALIASES.get(unit, unit)


def symbol(unit: str | None) -> str:
    """Return the spelling for people: `"ohm"` is `"Ω"`; no unit is an empty text."""
    return "" if unit is None else _SYMBOLS.get(unit, unit)


def raw_symbol(unit: str | None) -> str:
    """Return what people call the raw edge: `"count"`, or the symbol of its unit."""
    return symbol(unit) or "raw"


def for_column(unit: str | None) -> str:
    """Return the spelling for a column name, of letters, digits and `_`: `"%"` is `"percent"`."""
    if unit in (None, "1"):
        return ""
    words = unit.replace("%", "percent").replace("/", "_per_").replace("°", "deg")
    return re.sub(r"\W+", "_", words).strip("_")


def usual(symbol: str) -> tuple[str, float] | None:
    """Return the base unit of a symbol and its size in it, without the registry."""
    symbol = symbol.replace("µ", "u").replace("μ", "u")
    name = canonical(symbol)
    if name in _PLAIN or name in _PREFIXED:
        return name, 1.0
    if name in _TIMES:
        return "s", _TIMES[name]
    prefix, rest = symbol[:1], canonical(symbol[1:])
    if prefix in PREFIXES and rest in _PREFIXED:
        return rest, PREFIXES[prefix]
    return None
