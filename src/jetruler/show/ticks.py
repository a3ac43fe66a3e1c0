"""Where the ticks of a ruler are, and what they say: round values, decades, the edges of zones,
the steps of rounded results."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import Enum
from itertools import pairwise

import numpy as np

from ..core.bench.channel import Channel
from ..core.laws.shape import zones_of
from ..core.numerics import Array
from ..core.ruler.base_law import Role
from ..core.ruler.raw_range import raw_samples
from ..core.ruler.ruler import Ruler
from ..core.ruler.units import TEMPERATURES, number, shown


class EdgeKind(Enum):
    """What the true edge of a ruler shows."""

    VALUES = "round values"
    DECADES = "decades"
    STEPS = "the steps of rounded results"
    ZONES = "zones"


@dataclass(frozen=True)
class Tick:
    """A mark on an edge: the raw value it is at, the value it shows, and its label. is_line:
    whether a line is there; the name of a zone is between lines."""

    raw: float
    value: float
    label: str
    is_line: bool = True


#: A result of this many different numbers is read by its steps.
STEPS = 40
#: Values that are this many times one another, with most of them crammed at one end, are decades.
DECADES, CRAMMED = 50.0, 0.2


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


def decades(low: float, high: float, many: int) -> list[float]:
    """1, 2 and 5 times each power of ten from low to high, or the powers alone, or every nth of
    them: at most about `many`."""
    powers = range(math.floor(math.log10(low)), math.ceil(math.log10(high)) + 1)
    for steps in ((1, 2, 5), (1, 3), (1,)):
        found = [float(f"{m}e{p}") for p in powers for m in steps]
        found = [value for value in found if low <= value <= high]
        if len(found) <= max(many, 2):
            return found
    return found[:: math.ceil(len(found) / max(many, 1))]


def short(value: float) -> str:
    """A number of any size in a few signs: `22 M`, `10 k`, `0.5`."""
    for prefix, size in (("G", 1e9), ("M", 1e6), ("k", 1e3)):
        if abs(value) >= size and abs(value) >= 1e4:
            return f"{number(round(value / size, 9))} {prefix}"
    return number(value)


def _values(ruler: Ruler) -> tuple[Array, Array]:
    """The raw values that read something, and what they read."""
    raw = raw_samples(ruler)
    values = np.asarray(ruler(raw), dtype=np.float64)
    there = np.isfinite(values)
    return np.asarray(raw, np.float64)[there], values[there]


def edge_kind(ruler: Ruler, limits: tuple[float, float] | None = None) -> EdgeKind:
    """What the true edge of a ruler shows, within limits."""
    if any(law.role is Role.LABEL for law in ruler.laws):
        return EdgeKind.ZONES
    values = _values(ruler)[1]
    if limits is not None:
        values = values[(values >= limits[0]) & (values <= limits[1])]
    if values.size < 3:
        return EdgeKind.VALUES
    if any(law.role is Role.ROUND for law in ruler.laws) and np.unique(values).size <= STEPS:
        return EdgeKind.STEPS
    low, middle, high = (float(v) for v in np.quantile(values, (0.0, 0.5, 1.0)))
    crammed = high > low and min(middle - low, high - middle) < CRAMMED * (high - low)
    positive = low > 0 and high > DECADES * low and ruler.gives not in TEMPERATURES
    return EdgeKind.DECADES if positive and crammed else EdgeKind.VALUES


def true_ticks(ruler: Ruler, many: int, limits: tuple[float, float] | None = None) -> list[Tick]:
    """The marks of the true edge, where the ruler itself puts them, from low to high raw values.

    limits: values outside are left out. Where the ruler passes a value several times, each
    passage has its tick; along a flat stretch the tick is at its end. Zones have a line at each
    edge, with the edge's number, and their names between.
    """
    raw, values = _values(ruler)
    if values.size < 2:
        return []
    kind = edge_kind(ruler, limits)
    if kind is EdgeKind.ZONES:
        return _zone_ticks(ruler, raw, values)
    if kind is EdgeKind.STEPS:
        return _step_ticks(raw, values, many, limits)
    low, high = float(values.min()), float(values.max())
    if limits is not None:
        low, high = max(low, limits[0]), min(high, limits[1])
    if kind is EdgeKind.DECADES:
        wanted = [(value, short(value)) for value in decades(low, high, many)]
    else:
        wanted = [(value, number(value)) for value in round_values(low, high, many)]
    if any(law.role is Role.ROUND for law in ruler.laws):  # a number is over all its counts
        middles = _middles(raw, values)
        ticks = [
            Tick(place, value, label)
            for value, label in wanted
            for place, reads in middles
            if reads == value
        ]
    else:
        ticks = [
            Tick(place, value, label)
            for value, label in wanted
            for place in passages(raw, values, value, ruler)
        ]
    return sorted(ticks, key=lambda tick: tick.raw)


def _runs(raw: Array, values: Array) -> list[tuple[Array, float]]:
    """The stretches of one value, with their raw values."""
    borders = np.flatnonzero(np.diff(values)) + 1
    runs = zip(np.split(raw, borders), np.split(values, borders), strict=True)
    return [(places, float(value[0])) for places, value in runs]


def _middles(raw: Array, values: Array) -> list[tuple[float, float]]:
    """The middle of each step; of one that a clamp makes long, as if it were as long as others."""
    runs = _runs(raw, values)
    usual = float(np.median([places[-1] - places[0] for places, _ in runs]))
    found = []
    for i, (places, value) in enumerate(runs):
        first, last = float(places[0]), float(places[-1])
        if last - first > 3 * usual and i in (0, len(runs) - 1):
            first, last = (last - usual, last) if i == 0 else (first, first + usual)
        found.append((0.5 * (first + last), value))
    return found


def _zone_ticks(ruler: Ruler, raw: Array, values: Array) -> list[Tick]:
    ticks, before = [], None
    zones = zones_of(ruler.laws)
    x = None if zones is None else Ruler(ruler.laws[: zones[0]])(raw)
    for places, value in _runs(raw, values):
        if before is not None and zones is not None and x is not None:
            border = 0.5 * float(before + places[0])
            came = float(np.interp(border, raw, x))
            edge = min(zones[1].edges, key=lambda one: abs(one - came))
            unit = ruler.units[zones[0]]
            ticks.append(Tick(border, float(edge), shown(float(edge), unit)))
        name = ruler.label(value) or number(value)
        ticks.append(Tick(0.5 * float(places[0] + places[-1]), value, name, is_line=False))
        before = float(places[-1])
    return ticks


def _step_ticks(
    raw: Array, values: Array, many: int, limits: tuple[float, float] | None
) -> list[Tick]:
    """A tick where each number begins, or each this many of them, evenly; the last one always."""
    runs = _runs(raw, values)
    shown = sorted({value for _, value in runs})
    if limits is not None:
        shown = [value for value in shown if limits[0] <= value <= limits[1]]
    every = max(1, math.ceil(len(shown) / max(many, 1)))
    kept = {*shown[::-1][::every]} if every > 1 else {*shown}
    return [Tick(float(places[0]), value, number(value)) for places, value in runs if value in kept]


def passages(raw: Array, values: Array, value: float, ruler: Ruler) -> list[float]:
    """The raw places where a ruler, sampled at `raw`, reads a value; none where it leaps over it,
    as past a dead band."""
    places: list[float] = []
    for beyond in (values > value, values >= value):
        for i in np.flatnonzero(beyond[1:] != beyond[:-1]).tolist():
            place = _passage(raw[i : i + 2], values[i : i + 2], value, ruler)
            if place is not None and all(abs(place - known) > 1e-6 for known in places):
                places.append(place)
    return places


def _passage(raw: Array, values: Array, value: float, ruler: Ruler) -> float | None:
    """The raw place between two samples where the ruler reads a value, or None for a leap."""
    if value in values:
        return float(raw[values == value][0])
    change = abs(values[1] - values[0])
    for _ in range(4):  # each round looks at a 32nd of what the last one left
        raw = np.linspace(raw[0], raw[1], 33)
        values = np.asarray(ruler(raw), np.float64)
        beyond = values >= value
        found = np.flatnonzero(beyond[1:] != beyond[:-1])
        if not found.size:  # it has no value in between
            return None
        first = int(found[0])
        raw, values = raw[first : first + 2], values[first : first + 2]
    if abs(values[1] - values[0]) > 0.01 * change:
        return None
    return float(raw[0])


def labelled(
    ticks: list[Tick], over: tuple[float, float], at: float | None, sign: float = 0.0085
) -> list[tuple[Tick, float]]:
    """The ticks whose labels leave room for one another and for the cursor, and where the labels
    are: on the plate. At equal steps where these fit; else the ends and the roundest. sign: how
    much of the raw range a sign is wide."""
    span = over[1] - over[0]

    def half(tick: Tick) -> float:
        return 0.5 * (0.8 + len(tick.label)) * sign * span

    def place(tick: Tick) -> float:
        edge = half(tick) - 0.018 * span  # the plate goes on so far beyond the ends
        return min(max(tick.raw, over[0] + edge), over[1] - edge)

    def apart(one: Tick, other: Tick) -> bool:
        return abs(place(one) - place(other)) > half(one) + half(other)

    def fits(tick: Tick, others: list[Tick]) -> bool:
        clear = at is None or abs(place(tick) - at) > half(tick)
        return clear and all(apart(tick, other) for other in others)

    kept: list[Tick] = []
    for tick in [*ticks[:1], *ticks[-1:][: len(ticks) - 1], *sorted(ticks[1:-1], key=_roundness)]:
        if fits(tick, kept):
            kept.append(tick)
    for stride in (1, 2, 4, 5):
        even = ticks[::stride] if stride < len(ticks) else []
        if even and all(apart(one, other) for one, other in pairwise(even)):
            even = [one for one in even if fits(one, [])]
            kept = even if len(even) > 0.6 * len(kept) else kept
            break
    return [(tick, place(tick)) for tick in kept]


def _roundness(tick: Tick) -> tuple[bool, bool, bool, float]:
    """Powers of ten first, then hundreds, then fifties."""
    digits = f"{abs(tick.value):e}".split("e")[0].strip("0.")
    return digits != "1", tick.value % 100 != 0, tick.value % 50 != 0, tick.raw


def raw_in_use(channel: Channel, at: float | None) -> Array:
    """The raw values whose result is there and within the limits, and on as far as a reading."""
    raw = np.asarray(raw_samples(channel.ruler), np.float64)
    values = np.asarray(channel.ruler(raw), np.float64)
    inside = np.isfinite(values)
    if channel.limits is not None:
        inside &= (values >= channel.limits[0]) & (values <= channel.limits[1])
    if not inside.any():
        return raw
    if at is not None:
        seen = raw[inside]
        low, high = min(float(seen[0]), at), max(float(seen[-1]), at)
        inside = (raw >= low) & (raw <= high) & np.isfinite(values)
    return raw[inside]


#: The part of a ruler that is in use is drawn by itself where it is smaller than this.
SMALL = 0.2


def in_use(channel: Channel, ends: tuple[float, float], at: float | None) -> tuple[float, float]:
    """The raw values of the limits, with some room, where they are a small part; else all."""
    if channel.limits is None:
        return ends
    raw = raw_in_use(channel, at)
    first, last = float(raw[0]), float(raw[-1])
    room = 0.04 * (last - first)
    part = max(ends[0], first - room), min(ends[1], last + room)
    is_small = 0 < part[1] - part[0] < SMALL * (ends[1] - ends[0])
    return part if is_small else ends
