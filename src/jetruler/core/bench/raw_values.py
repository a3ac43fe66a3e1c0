"""Raw values: read from what somebody writes, and sampled over the range of a ruler's raw edge."""

from __future__ import annotations

import contextlib
import math
import re
from dataclasses import replace

import numpy as np

from ..error_types import JetRulerError, ParameterError, QuantityError
from ..numerics import Array, NoInverseError
from ..ruler.quantity import quantity
from ..ruler.ruler import Ruler
from ..ruler.units import number, symbol
from .channel import Channel

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


#: A ruler is sampled at this many places at most to find its ticks.
SAMPLES = 8192


def raw_ends(ruler: Ruler) -> tuple[float, float]:
    """The range of the raw edge; where that is not known, what the marks or points of the first
    law behind it cover. Raises `ParameterError` where there are none."""
    edge = ruler.edge
    if edge is not None and edge.is_bounded:
        return float(edge.lowest), float(edge.highest)
    for law in ruler.laws[:2]:
        for key, sides in law.unit_hints.items():
            pairs = getattr(law, key)
            if pairs and isinstance(sides, tuple):
                raws = [pair[sides.index("takes")] for pair in pairs]
                return float(min(raws)), float(max(raws))
    right = "the ends of the input are wanted, as in range = [0, 10]"
    raise ParameterError("input.range", None, right)


def raw_samples(ruler: Ruler) -> Array:
    """Raw values over the range of the raw edge: each, or evenly spaced ones where there are
    many."""
    low, high = raw_ends(ruler)
    edge = ruler.edge
    bounded = edge is not None and edge.is_bounded
    raw = edge.samples(SAMPLES) if edge is not None and bounded else np.linspace(low, high, SAMPLES)
    corners = _corners(ruler, low, high)
    return np.unique(np.concatenate((raw, corners))) if corners.size else raw


def _corners(ruler: Ruler, low: float, high: float) -> Array:
    """The raw values at which the laws behind the first one bend or turn; of a converter, the
    counts on both sides."""
    found: list[float] = []
    for i, law in enumerate(ruler.laws[1:], start=1):
        if law.corners:
            with contextlib.suppress(NoInverseError):
                back = Ruler(ruler.laws[:i]).inverse(np.array(law.corners, dtype=np.float64))
                found += back[np.isfinite(back)].tolist()
    corners = np.array(found)
    if ruler.converter is not None:
        corners = np.concatenate((np.floor(corners), np.ceil(corners)))
    return corners[(corners >= low) & (corners <= high)]
