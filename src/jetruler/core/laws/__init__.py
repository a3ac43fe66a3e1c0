"""The laws, one class each, by the name a bench file uses.

A law is loaded when it is first asked for: a command pays only for the laws it meets. To add
one, write its class, and name it here and in the public names.
"""

from __future__ import annotations

from functools import cache
from importlib import import_module
from typing import TYPE_CHECKING, Any

from ..errors import ParameterError
from .base import Law

if TYPE_CHECKING:
    from importlib.metadata import EntryPoint

    from .circuit import Amplifier, Attenuator, Divider, Shunt
    from .converter import Adc, Converter, Counts
    from .curve import Polynomial, PowerLaw, Table
    from .formula import Formula
    from .interval import Clamp, DeadBand, Expect, Limits
    from .linear import Line
    from .platinum import Platinum
    from .shape import Magnitude, PassThrough, Whole
    from .thermistor import Beta, SteinhartHart, SteinhartHartExtended
    from .unit import To
    from .zones import Zones

#: Name in a bench file → its class and the file that class is in.
HOMES = {
    "adc": ("Adc", "converter"),
    "counts": ("Counts", "converter"),
    "line": ("Line", "linear"),
    "divider": ("Divider", "circuit"),
    "attenuator": ("Attenuator", "circuit"),
    "shunt": ("Shunt", "circuit"),
    "amplifier": ("Amplifier", "circuit"),
    "beta": ("Beta", "thermistor"),
    "steinhart-hart": ("SteinhartHart", "thermistor"),
    "steinhart-hart-extended": ("SteinhartHartExtended", "thermistor"),
    "platinum": ("Platinum", "platinum"),
    "table": ("Table", "curve"),
    "polynomial": ("Polynomial", "curve"),
    "power": ("PowerLaw", "curve"),
    "formula": ("Formula", "formula"),
    "clamp": ("Clamp", "interval"),
    "limits": ("Limits", "interval"),
    "expect": ("Expect", "interval"),
    "dead-band": ("DeadBand", "interval"),
    "whole": ("Whole", "shape"),
    "magnitude": ("Magnitude", "shape"),
    "pass-through": ("PassThrough", "shape"),
    "zones": ("Zones", "zones"),
    "to": ("To", "unit"),
}
_CLASSES = dict([*HOMES.values(), ("Converter", "converter")])

#: Entry-point group in which other packages offer laws of their own, by name.
GROUP = "jetruler.laws"

__all__ = [
    "HOMES",
    "Adc",
    "Amplifier",
    "Attenuator",
    "Beta",
    "Clamp",
    "Converter",
    "Counts",
    "DeadBand",
    "Divider",
    "Expect",
    "Formula",
    "Law",
    "Limits",
    "Line",
    "Magnitude",
    "PassThrough",
    "Platinum",
    "Polynomial",
    "PowerLaw",
    "Shunt",
    "SteinhartHart",
    "SteinhartHartExtended",
    "Table",
    "To",
    "Whole",
    "Zones",
]


def law_named(name: str) -> type[Law]:
    """The law of this name, ours or another package's. Raises `KeyError`, and `ParameterError`
    for another package's law that cannot be loaded."""
    if name in HOMES:
        class_name, file = HOMES[name]
        law: type[Law] = getattr(import_module(f".{file}", __name__), class_name)
        return law
    return _loaded(name, _own_laws()[name])


def law_names() -> list[str]:
    """Every name that a bench file may use for a law."""
    return sorted({*HOMES, *_own_laws()})


@cache
def _own_laws() -> dict[str, EntryPoint]:
    from importlib.metadata import entry_points

    return {entry.name: entry for entry in entry_points(group=GROUP)}


def _loaded(name: str, entry: EntryPoint) -> type[Law]:
    try:
        law = entry.load()
    except Exception as error:  # another package's import may fail in any way
        right = f"{entry.value} cannot be loaded: {type(error).__name__}: {error}"
        raise ParameterError("law", name, right) from None
    if not (isinstance(law, type) and issubclass(law, Law)):
        raise ParameterError("law", name, f"{entry.value} is no Law; a subclass of it is right")
    return law


def __getattr__(name: str) -> Any:
    if name not in _CLASSES:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    return getattr(import_module(f".{_CLASSES[name]}", __name__), name)
