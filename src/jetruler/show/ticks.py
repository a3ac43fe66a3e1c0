"""Where the ticks of a double-edged ruler stand: round numbers on both edges."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ..core.bench.raw_values import raw_samples
from ..core.numerics import Array
from ..core.ruler.base_law import Role
from ..core.ruler.ruler import Ruler
from ..core.ruler.units import number


@dataclass(frozen=True)
class Tick:
    """A mark on an edge: the raw value it stands at, and the value it shows."""

    raw: float
    value: float
    label: str


def round_step(span: float, many: int) -> float:
    """The smallest of 1, 2, 2.5 or 5 times a power of ten that gives at most `many` steps."""
    rough = span / max(many, 1)
    power = 10.0 ** math.floor(math.log10(rough))
    return next(m * power for m in (1, 2, 2.5, 5, 10) if m * power >= rough * (1 - 1e-9))


def round_values(low: float, high: float, many: int) -> list[float]:
    """Round numbers from low to high, at most about `many`."""
    if not (math.isfinite(low) and math.isfinite(high)) or high <= low:
        return [low] if math.isfinite(low) else []
    step = round_step(high - low, many)
    first = math.ceil(low / step - 1e-9)
    last = math.floor(high / step + 1e-9)
    return [round(i * step, 12) for i in range(first, last + 1)]


def true_ticks(ruler: Ruler, many: int, limits: tuple[float, float] | None = None) -> list[Tick]:
    """Round values of the true edge and the raw values where the ruler passes them.

    limits: values outside are left out. Where the ruler passes a value several times, each
    passage has its tick; along a flat stretch the tick stands at its end. A ruler with zones, of
    labels or of numbers, has a tick in the middle of each.
    """
    raw = raw_samples(ruler)
    values = ruler(raw)
    there = np.isfinite(values)
    raw, values = raw[there], values[there]
    if values.size < 2:
        return []
    if any(law.role is Role.LABEL for law in ruler.laws):
        return _zone_ticks(ruler, raw, values)
    low, high = float(values.min()), float(values.max())
    if limits is not None:
        low, high = max(low, limits[0]), min(high, limits[1])
    ticks = [
        Tick(place, value, number(value))
        for value in round_values(low, high, many)
        for place in passages(raw, values, value)
    ]
    return sorted(ticks, key=lambda tick: tick.raw)


def _zone_ticks(ruler: Ruler, raw: Array, values: Array) -> list[Tick]:
    borders = np.flatnonzero(np.diff(values)) + 1
    runs = zip(np.split(raw, borders), np.split(values, borders), strict=True)
    return [
        Tick(
            0.5 * float(r[0] + r[-1]), float(v[0]), ruler.label(float(v[0])) or number(float(v[0]))
        )
        for r, v in runs
    ]


def passages(raw: Array, values: Array, value: float) -> list[float]:
    """The raw places where a sampled curve passes a value."""
    places: list[float] = []
    for beyond in (values > value, values >= value):
        for i in np.flatnonzero(beyond[1:] != beyond[:-1]).tolist():
            fraction = (value - values[i]) / (values[i + 1] - values[i])
            place = float(raw[i] + fraction * (raw[i + 1] - raw[i]))
            if all(abs(place - known) > 1e-6 for known in places):
                places.append(place)
    return places
