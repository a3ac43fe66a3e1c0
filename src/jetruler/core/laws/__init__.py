"""The laws, one class each, by the name a bench file uses.

A law is loaded when it is first asked for: a command pays only for the laws it meets. To add
one, write its class, and name it here: that makes it a public name as well.
"""

from __future__ import annotations

from functools import cache
from importlib import import_module
from typing import TYPE_CHECKING, Any

from ..error_types import ParameterError

if TYPE_CHECKING:
    from importlib.metadata import EntryPoint

    from ..model.converter import Converter as Converter
    from ..model.law import Law as Law
    from .adc import Adc as Adc
    from .adc import Counts as Counts
    from .circuit import Amplifier as Amplifier
    from .circuit import Attenuator as Attenuator
    from .circuit import Divider as Divider
    from .circuit import Shunt as Shunt
    from .curve import Polynomial as Polynomial
    from .curve import Table as Table
    from .formula import Formula as Formula
    from .interval import Clamp as Clamp
    from .interval import DeadBand as DeadBand
    from .interval import Expect as Expect
    from .interval import Limits as Limits
    from .linear import Line as Line
    from .platinum import Platinum as Platinum
    from .power import PowerLaw as PowerLaw
    from .raw_input import Input as Input
    from .shape import Magnitude as Magnitude
    from .shape import PassThrough as PassThrough
    from .shape import Whole as Whole
    from .steinhart_hart_extended import SteinhartHartExtended as SteinhartHartExtended
    from .thermistor import Beta as Beta
    from .thermistor import SteinhartHart as SteinhartHart
    from .unit import To as To
    from .zones import Zones as Zones

#: Name in a bench file → its class and the file that class is in.
HOMES = {
    "adc": ("Adc", "adc"),
    "counts": ("Counts", "adc"),
    "input": ("Input", "raw_input"),
    "line": ("Line", "linear"),
    "divider": ("Divider", "circuit"),
    "attenuator": ("Attenuator", "circuit"),
    "shunt": ("Shunt", "circuit"),
    "amplifier": ("Amplifier", "circuit"),
    "beta": ("Beta", "thermistor"),
    "steinhart-hart": ("SteinhartHart", "thermistor"),
    "steinhart-hart-extended": ("SteinhartHartExtended", "steinhart_hart_extended"),
    "platinum": ("Platinum", "platinum"),
    "table": ("Table", "curve"),
    "polynomial": ("Polynomial", "curve"),
    "power": ("PowerLaw", "power"),
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
#: The classes, and the file that each is in.
CLASSES = dict(HOMES.values())

#: Entry-point group in which other packages offer laws of their own, by name.
GROUP = "jetruler.laws"


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
    from ..model.law import Law

    if not (isinstance(law, type) and issubclass(law, Law)):
        raise ParameterError("law", name, f"{entry.value} is no Law; a subclass of it is right")
    return law


def __getattr__(name: str) -> Any:
    if name == "Law":
        return getattr(import_module("..model.law", __name__), name)
    if name not in CLASSES:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    return getattr(import_module(f".{CLASSES[name]}", __name__), name)
