"""One rule for ties and edges: half away from zero, and what is off an edge by less than what the
calculation before it may lose is on the edge."""

from __future__ import annotations

import math
from collections.abc import Sequence
from decimal import ROUND_HALF_UP, Decimal

import numpy as np

from ..numerics import AnyArray, Array

#: This many units in the last place may be lost on the way: a line that means 195.5 and computes
#: 195.49999999999997 still means 195.5.
ULPS = 16


def guard(x: AnyArray | float, size: float = 0.0) -> Array:
    """How far off an edge a value may be that is on it. size: what the numbers behind the value
    are as large as, where it is a small difference of large ones."""
    largest: Array = np.maximum(np.abs(x), size)
    return ULPS * np.spacing(np.where(np.isfinite(largest), largest, 0.0))


def on_edges(x: Array, edges: Sequence[float], size: float = 0.0) -> Array:
    """The values, those that lie within the guard of an edge put on it."""
    for edge in edges:
        beside = np.abs(x - edge) <= guard(edge, size)
        if beside.any():
            x = np.where(beside, edge, x)
    return x


def on_steps(x: Array, step: float, size: float = 0.0) -> Array:
    """The values, those that lie within the guard of a multiple of a step put on it."""
    near = np.rint(x / step) * step
    return np.where(np.abs(x - near) <= guard(x, size), near, x)


def nearest(x: Array, size: float = 0.0) -> Array:
    """To whole numbers, half away from zero: 2.5 → 3, −2.5 → −3. Never a negative zero."""
    x = on_steps(x, 0.5, size)
    magnitude = np.abs(x)
    floor = np.floor(magnitude)
    rounded: Array = np.copysign(floor + (magnitude - floor >= 0.5), x) + 0.0
    return rounded


#: Beyond this many whole steps a double holds no half, and there is no tie.
_NO_HALVES = 2.0**49


def to_decimals(x: Array, decimals: int, size: float) -> Array:
    """To a number of decimals, half away from zero: what is shown, written and exported."""
    scale = 10.0**decimals
    scaled = x * scale
    tied = np.abs(scaled) < _NO_HALVES
    return np.where(tied, nearest(np.where(tied, scaled, 0.0), size * scale) / scale, x)


def to_place(value: float, place: Decimal) -> str:
    """The text of a number to a place, such as 0.01 or 100, half away from zero."""
    steps = value / float(place)
    if abs(steps) < _NO_HALVES:
        return f"{int(nearest(np.array([steps]))[0]) * place:f}"
    return f"{(Decimal(value) / place).to_integral_value(ROUND_HALF_UP) * place:f}"


def fixed(value: float, decimals: int, size: float = 0.0) -> str:
    """The text of a number to this many decimals, half away from zero; never a negative zero."""
    if math.isfinite(value):
        value = float(to_decimals(np.array([value]), decimals, size)[0])
    return f"{value:.{decimals}f}"
