"""A raw value as somebody writes it: counts, percent, or a value anywhere on the chain."""

from __future__ import annotations

import math
import re
from dataclasses import replace

import numpy as np

from ..error_types import JetRulerError, QuantityError
from .channel import Channel
from .quantity import quantity
from .ruler import Ruler
from .text import number
from .ticks import raw_ends
from .units import symbol

_COUNTS = re.compile(r"\s*(.+?)\s*counts?\s*\Z")
_PERCENT = re.compile(r"\s*(.+?)\s*(?:%|percent)\s*\Z")


def raw_from(channel: Channel, text: float | str, place: str, *, whole: bool = False) -> float:
    """The raw value that is meant.

    Parameters
    ----------
    channel : Channel
        Whose raw value it is.
    text : float | str
        A number is raw. A text may have a unit: `700 count`, `50 %` of the range, what the channel
        reads (`90 degC`), or what stands anywhere on its chain, from the pin on (`3.42 V`,
        `3.9 kohm`); it goes back through the laws before.
    place : str
        What messages call it.
    whole : bool, default False
        Whether counts are wanted, as a converter gives them.

    Raises
    ------
    JetRulerError
        For a text that is none of these.
    """
    takes = channel.ruler.takes
    raw = _raw(channel, text)
    if not math.isfinite(raw):
        found = (back.gives for back in reversed(_joints(channel)))
        units = dict.fromkeys(u for u in found if u not in (None, "1", "count", "fraction"))
        ways = ["a count" if takes == "count" else "a number", "a percentage of its range"]
        ways += [f"a value in {', '.join(map(symbol, units))}"] if units else []
        right = f"{', '.join(ways[:-1])} or {ways[-1]}"
        raise JetRulerError(f"{place}: found {_shown(text)}; {right} is right")
    if takes != "count":
        return raw
    nearest = float(np.rint(raw))  # what a way back through floats leaves is no part of a count
    return nearest if whole or math.isclose(raw, nearest, rel_tol=1e-12) else raw


def _shown(text: float | str) -> str:
    return repr(text) if isinstance(text, str) else number(float(text))


def _raw(channel: Channel, text: float | str) -> float:
    try:
        return float(text)
    except ValueError:
        pass
    ruler, given = channel.ruler, str(text)
    if ruler.takes == "count" and (found := _COUNTS.match(given)):
        return _number(found[1])
    if ruler.takes not in ("count", None):
        raw = _in_unit(given, str(ruler.takes))
        if not math.isnan(raw):
            return raw
    for back in _joints(channel):
        value = _in_unit(given, back.gives)
        if not math.isnan(value):
            return float(back.inverse(value))
    if found := _PERCENT.match(given):
        try:
            low, high = raw_ends(ruler)
        except JetRulerError:
            return math.nan
        return low + (high - low) * _number(found[1]) / 100.0
    return math.nan


def _joints(channel: Channel) -> list[Ruler]:
    """The chain up to where a value may be said: its end first, then from the pin on."""
    laws = channel.chain.laws
    ends = [] if channel.ruler.label(0.0) is not None else [channel.chain]
    pin = channel.ruler.converter
    in_volts = {"ratiometric": False}
    has_volts = pin is not None and hasattr(pin, "ratiometric")
    volts = [Ruler((replace(pin, **in_volts),))] if has_volts else []  # type: ignore[arg-type,type-var]
    return [*ends, *volts, *(Ruler(laws[:i]) for i in range(1, len(laws)))]


def _number(text: str) -> float:
    try:
        return float(text)
    except ValueError:
        return math.nan


def _in_unit(text: str, unit: str | None) -> float:
    if unit in (None, "1", "count", "fraction"):
        return math.nan
    try:
        return float(quantity(text, unit))
    except QuantityError:
        return math.nan
