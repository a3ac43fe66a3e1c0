"""The laws, one class each, by the name a bench file uses.

A law is loaded when it is first asked for: a command pays only for the laws it meets. To add
one, write its class, and name it here and in the public names.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

from .base import Law

if TYPE_CHECKING:
    from .converter import Adc, Converter, Counts
    from .linear import Line
    from .shape import Clamp, Limits, Whole

#: Name in a bench file → its class and the file that class is in.
HOMES = {
    "adc": ("Adc", "converter"),
    "counts": ("Counts", "converter"),
    "line": ("Line", "linear"),
    "clamp": ("Clamp", "shape"),
    "limits": ("Limits", "shape"),
    "whole": ("Whole", "shape"),
}
_CLASSES = dict([*HOMES.values(), ("Converter", "converter")])

__all__ = ["HOMES", "Adc", "Clamp", "Converter", "Counts", "Law", "Limits", "Line", "Whole"]


def law_named(name: str) -> type[Law]:
    """The law of this name. Raises `KeyError`."""
    law: type[Law] = getattr(import_module(f".{HOMES[name][1]}", __name__), HOMES[name][0])
    return law


def law_names() -> list[str]:
    """Every name that a bench file may use for a law."""
    return sorted(HOMES)


def __getattr__(name: str) -> Any:
    if name not in _CLASSES:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    return getattr(import_module(f".{_CLASSES[name]}", __name__), name)
