"""A ruler as a picture: its two edges with a cursor, its curve and slope, its laws as stacked
number lines."""

from __future__ import annotations

import math
import textwrap
from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import cast

import numpy as np
from matplotlib.axes import Axes
from matplotlib.patches import FancyBboxPatch

from ..core.bench.channel import Channel
from ..core.bench.conditions import THRESHOLDS, Condition
from ..core.bench.trips import Trip
from ..core.numerics import Array
from ..core.ruler.base_law import Role
from ..core.ruler.raw_range import raw_ends, raw_samples
from ..core.ruler.units import number, raw_symbol, shown, symbol
from .style import AMBER, BLUE, GREY, IVORY, JET, RED, SIGN, few_ticks, inches_of, plain, titled
from .ticks import (
    EdgeKind,
    Tick,
    decades,
    edge_kind,
    in_use,
    labelled,
    raw_in_use,
    round_step,
    round_values,
    short,
    true_ticks,
)

#: Height of the body, and how deep ticks cut into it, in axes units of a body of height 1.
LONG, SHORT = 0.16, 0.08


def draw_ruler(
    ax: Axes,
    channel: Channel,
    at: float | None = None,
    over: tuple[float, float] | None = None,
    trips: Sequence[Trip] = (),
) -> Axes:
    """Draw the ruler of a channel over all raw values, or over some, with its cursor at `at`;
    beneath it, where the trips are on that have thresholds on this channel."""
    lanes = lanes_of(channel, trips)
    ends = raw_ends(channel.ruler)
    low, high = over = over or in_use(channel, ends, at)
    span = high - low
    if over != ends:
        _overview(ax, ends, over)
    units = raw_symbol(channel.ruler.takes), symbol(channel.unit) or channel.name
    bottom, top = -0.75 - LANE * len(lanes), 1.75 if over == ends else 2.1
    wide, high_inches = inches_of(ax)
    scale = min(1.0, high_inches / (top - bottom) / PLATE)
    first = [Tick(v, v, number(v)) for v in round_values(low, high, 10)], _ticks(channel, 20, over)
    letters = max(
        len(unit) + _left_of(low, ticks, span * SIGN * 11 * scale / wide)
        for unit, ticks in zip(units, first, strict=True)
    )
    room = min(0.3 * wide, (0.5 + letters) * SIGN * 12 * scale)
    inches = (wide - room) / 1.09  # of the raw range
    sign, left = SIGN * 11 * scale / inches, room / inches
    ax.set_xlim(low - (0.045 + left) * span, high + 0.045 * span)
    ax.set_ylim(bottom, top)
    ax.set_axis_off()
    ax.add_patch(
        FancyBboxPatch(
            (low - (0.02 + left) * span, 0),
            (1.04 + left) * span,
            1,
            boxstyle=f"round,pad=0,rounding_size={0.012 * span}",
            mutation_aspect=6 / span,
            facecolor=JET,
            edgecolor="none",
        )
    )
    before = len(ax.texts)
    _raw_edge(ax, low, high, at, sign)
    _true_edge(ax, channel, (low, high), at, sign)
    for unit, y, side in zip(units, (0.81, 0.19), ("top", "bottom"), strict=True):
        x = low - (0.012 + left) * span
        ax.text(x, y, unit, color=IVORY, fontsize=12, ha="left", va=side)
    if at is not None:
        _cursor(ax, channel, at, span)
    for i, (trip, conditions) in enumerate(lanes):
        _lane(ax, channel, (low, high), trip, conditions=conditions, y=-0.6 - LANE * i)
    title = channel.title + (f": {channel.about}" if channel.about else "")
    titled(ax, title, 15 * scale)
    for text in ax.texts[before:]:
        text.set_fontsize(float(text.get_fontsize()) * scale)
    return ax


def _left_of(low: float, ticks: Sequence[Tick], sign: float) -> float:
    """How many signs of the first label stand left of the first raw value, half a one at least."""
    reach = (0.5 * len(tick.label) - (tick.raw - low) / sign for tick in ticks)
    return max(0.5, *reach, 0.0)


#: Inches that the plate is high where its texts have their full size; on a lower one they shrink.
PLATE = 0.6
#: Height of the lane of a trip.
LANE = 0.3


def lanes_of(channel: Channel, trips: Sequence[Trip]) -> list[tuple[Trip, list[Condition]]]:
    """The trips that have thresholds on a channel, each with these."""
    found = []
    for trip in trips:
        own = [c for c in trip.conditions if c.channel == channel.name and c.kind in THRESHOLDS]
        found += [(trip, own)] if own else []
    return found


def _lane(
    ax: Axes,
    channel: Channel,
    over: tuple[float, float],
    trip: Trip,
    conditions: list[Condition],
    y: float,
) -> None:
    """Where a trip is on (amber), and where it stays as it was (pale), by thresholds on this
    channel."""
    raw = np.linspace(*over, 2001)
    with np.errstate(all="ignore"):
        values = np.asarray(channel.ruler(raw), dtype=np.float64)
    decided = [condition.decides(values, channel.ruler.sizes[-1]) for condition in conditions]
    on = np.logical_or.reduce([turned for turned, _ in decided])
    stays = np.logical_or.reduce([~(turned | off | np.isnan(values)) for turned, off in decided])
    ax.hlines(y, *over, color=GREY, linewidth=0.8)
    for where, alpha in ((stays & ~on, 0.35), (on, 1.0)):
        edges = np.flatnonzero(np.diff(np.concatenate(([False], where, [False]))))
        for first, end in edges.reshape(-1, 2).tolist():
            ax.hlines(y, raw[first], raw[end - 1], color=AMBER, linewidth=7, alpha=alpha)
    names = []
    for condition in conditions:
        point = condition.above if condition.above is not None else condition.below
        name = f"{condition.kind} {channel.shown(float(point or 0.0))}"
        if condition.release is not None:
            name += f", off at {channel.shown(float(condition.release))}"
        names.append(name)
    joint = " and " if trip.join == "all" else " or "
    text = f"{trip.name}: {joint.join(names)}"
    ax.text(over[0], y + 0.06, text, color=JET, fontsize=10, ha="left", va="bottom")


def _raw_edge(ax: Axes, low: float, high: float, at: float | None, sign: float) -> None:
    values = round_values(low, high, 10)
    step = round_step(high - low, 10)
    fine = round_values(low, high, int((high - low) / step * 5 + 1))
    ax.vlines(fine, 1 - SHORT, 1, color=IVORY, linewidth=0.9)
    ax.vlines(values, 1 - LONG, 1, color=IVORY, linewidth=1.6)
    ticks = [Tick(value, value, number(value)) for value in values]
    for tick, place in labelled(ticks, (low, high), at, sign):
        ax.text(place, 0.81, tick.label, color=IVORY, fontsize=11, ha="center", va="top")


def _true_edge(
    ax: Axes, channel: Channel, over: tuple[float, float], at: float | None, sign: float
) -> None:
    ticks, fine = _ticks(channel, 20, over), _ticks(channel, 100, over)
    zoned = edge_kind(channel.ruler) is EdgeKind.ZONES
    lines = [t.raw for t in ticks if t.is_line]
    # The cursor's label, below the plate, has this many signs in its own size.
    signs = 0 if at is None else len(channel.shown(channel.ruler(at))) + 4
    half = 0.8 * signs * sign * (over[1] - over[0])
    hidden = [line for line in lines if at is not None and abs(line - at) < half]
    ax.vlines([t.raw for t in fine if t.is_line], 0, SHORT, color=IVORY, linewidth=0.9)
    ax.vlines(lines, 0, 0.5 if zoned else LONG, color=IVORY, linewidth=1.6)
    for tick, place in labelled(ticks, over, at, 1.3 * sign if zoned else sign):
        if zoned and tick.is_line and place in hidden:
            continue
        if zoned and tick.is_line:  # an edge's number is under the plate, beside its line
            ax.text(place, -0.05, tick.label, color=JET, fontsize=10, ha="center", va="top")
        else:
            style = {"fontsize": 13, "fontweight": "bold"} if zoned else {"fontsize": 11}
            ax.text(place, 0.19, tick.label, color=IVORY, ha="center", va="bottom", **style)


def _ticks(channel: Channel, many: int, over: tuple[float, float]) -> list[Tick]:
    """Round values whose places lie within these raw values; as many as for the whole ruler."""
    limits = channel.limits
    if over != raw_ends(channel.ruler) and channel.ruler.label(0.0) is None:
        with np.errstate(all="ignore"):
            seen = np.asarray(channel.ruler(np.linspace(*over, 512)))
        if np.isfinite(seen).any():
            low, high = float(np.nanmin(seen)), float(np.nanmax(seen))
            low = low if limits is None else max(low, limits[0])
            high = high if limits is None else min(high, limits[1])
            limits = (low, high)
    found = true_ticks(channel.ruler, many, limits)
    return [tick for tick in found if over[0] <= tick.raw <= over[1]]


def _overview(ax: Axes, ends: tuple[float, float], over: tuple[float, float]) -> None:
    """The whole raw range as a bar above the plate, with the part that is drawn."""
    low, high = over

    def place(raw: float) -> float:
        return low + (raw - ends[0]) / (ends[1] - ends[0]) * (high - low)

    y = 1.86
    ax.hlines(y, low, high, color=GREY, linewidth=3)
    first, last = place(low), place(high)
    middle, least = 0.5 * (first + last), 0.003 * (high - low)
    half = max(0.5 * (last - first), least)
    ax.hlines(y, middle - half, middle + half, color=BLUE, linewidth=7)
    for end, side in ((ends[0], "left"), (ends[1], "right")):
        ax.text(place(end), y - 0.07, number(end), color=GREY, fontsize=9, ha=side, va="top")
    for corner, end in ((middle - half, low), (middle + half, high)):
        ax.plot([corner, end], [y, 1.02], color=BLUE, linewidth=0.8, linestyle=(0, (3, 3)))


def _cursor(ax: Axes, channel: Channel, at: float, span: float) -> None:
    value = channel.ruler(at)
    ax.vlines(at, -0.1, 1.1, color=AMBER, linewidth=2.5)
    for place, edge, text in ((1.16, "bottom", number(at)), (-0.16, "top", channel.shown(value))):
        ax.text(
            at,
            place,
            text,
            color=JET,
            fontsize=16,
            fontweight="bold",
            ha="center",
            va=edge,
            bbox={"facecolor": AMBER, "edgecolor": "none", "boxstyle": "round,pad=0.3"},
        )


def draw_curve(ax: Axes, channel: Channel, at: float | None = None) -> Axes:
    """Output against counts; the limits as dashed lines, a reading as an amber dot. Several curves
    share the axes: those of another unit have an axis of their own, at the right."""
    before = [line for line in ax.get_lines() if line.get_gid() == CURVE]
    if before and ax.get_ylabel() != channel.title and not _same_unit(ax, channel):
        ax = ax.twinx()
    else:
        plain(ax)
    raw, values = _sampled(channel)
    color = COLORS[len(before) % len(COLORS)]
    (line,) = ax.plot(raw, values, color=color, linewidth=2.2, label=channel.name, gid=CURVE)
    _value_axis(ax, channel, values)
    if channel.limits is not None:
        low, high = channel.limits
        for end in channel.limits:
            ax.axhline(end, color=RED, linewidth=1, linestyle=(0, (6, 4)))
        room = 0.12 * (high - low)
        if ax.get_yscale() == "linear":
            ax.set_ylim(low - room, high + room)
    if at is not None:
        value = channel.ruler(at)
        rising = channel.ruler.slope(at) > 0
        ax.plot([at], [value], "o", color=AMBER, markeredgecolor=JET, markersize=10)
        ax.annotate(
            f"{number(at)} → {channel.shown(value)}",
            (at, value),
            textcoords="offset points",
            xytext=(14, -16 if rising else 10),
            fontsize=13,
            color=JET,
        )
    few_ticks(ax).set_xlabel(raw_symbol(channel.ruler.takes), fontsize=13, color=JET)
    if before:
        unit = symbol(channel.unit)
        ax.set_ylabel(unit or channel.name, fontsize=13, color=JET)
        ax.set_title("", loc="left")
        cast(Axes, before[0].axes).set_title("", loc="left")
        ax.legend(handles=[*before, line])
    else:
        ax.set_ylabel(channel.title, fontsize=13, color=JET)
        titled(ax, channel.about or channel.name, 15)
    return ax


#: The mark of a curve among the lines of axes, and the colours of several.
CURVE = "jet-curve"
COLORS = (BLUE, AMBER, RED, GREY)


def _same_unit(ax: Axes, channel: Channel) -> bool:
    """Whether the axes' label is that of this unit."""
    unit = symbol(channel.unit)
    label = ax.get_ylabel()
    return bool(unit) and (label == unit or label.endswith(f"({unit})"))


def _value_axis(ax: Axes, channel: Channel, values: Array) -> None:
    """Decades on a logarithmic axis, zones by their names."""
    kind = edge_kind(channel.ruler, channel.limits)
    there = values[np.isfinite(values)]
    if kind is EdgeKind.DECADES:
        low, high = channel.limits or (float(there.min()), float(there.max()))
        ticks = decades(low, high, 9)
        ax.set_yscale("log")
        ax.set_yticks(ticks, [short(tick) for tick in ticks])
        ax.set_yticks([], minor=True)
        ax.set_ylim(low / 1.3, high * 1.3)
    elif kind is EdgeKind.ZONES:
        named = {value: channel.ruler.label(value) or number(value) for value in np.unique(there)}
        ax.set_yticks(list(named), list(named.values()))
        span = max(named) - min(named) or 1.0
        ax.set_ylim(min(named) - 0.12 * span, max(named) + 0.12 * span)


def draw_slope(ax: Axes, channel: Channel) -> Axes:
    """The size of one count in the channel's unit, over the counts."""
    plain(ax)
    raw, values = _sampled(channel)
    slope = np.abs(channel.ruler.slope(raw))
    if channel.limits is not None:
        low, high = channel.limits
        slope = np.where((values >= low) & (values <= high), slope, np.nan)
    ax.plot(raw, slope, color=GREY, linewidth=2.0)
    finite = slope[np.isfinite(slope) & (slope > 0)]
    if finite.size and finite.max() > 30 * finite.min():
        ax.set_yscale("log")
    elif finite.size:
        ax.set_ylim(0, 1.25 * finite.max())
    ax.set_ylabel(f"one count ({symbol(channel.unit) or '1'})", fontsize=13, color=JET)
    few_ticks(ax).set_xlabel(raw_symbol(channel.ruler.takes), fontsize=13, color=JET)
    return ax


def _sampled(channel: Channel) -> tuple[Array, Array]:
    raw = raw_samples(channel.ruler)
    return raw, channel.ruler(raw)


#: Results of this many steps are drawn as dots.
DOTS = 60
#: Characters of a worked line that number lines of 12.4 inches are wide.
WIDE = 135
#: Inches that a stage is high, and all of them are wide, where texts have their full size.
ROW, NARROW = 0.95, 9.0
#: Rows of a worked line that a stage has room for.
ROWS = 3


@dataclass(frozen=True)
class _Stage:
    """One number line: its values over the raw range, and where a value is from 0 to 1."""

    values: Array
    unit: str | None
    low: float
    high: float
    logarithmic: bool

    @classmethod
    def of(cls, values: Array, unit: str | None) -> _Stage:
        there = values[np.isfinite(values)]
        low, high = float(there.min()), float(there.max())
        if low == high:
            low, high = low - 0.5, high + 0.5
        bent = unit == "ohm" and low > 0 and high > 50 * low
        return cls(values, unit, low, high, bent)

    def place(self, value: float) -> float:
        if self.logarithmic:
            return float(np.log(value / self.low) / np.log(self.high / self.low))
        return (value - self.low) / (self.high - self.low)

    def holds(self, value: float) -> bool:
        """Whether a value is on the line."""
        slack = 1e-9 * (self.high - self.low)
        return self.low - slack <= value <= self.high + slack

    def ticks(self) -> list[float]:
        if not self.logarithmic:
            return round_values(self.low, self.high, 10)
        powers = range(int(np.floor(np.log10(self.low))), int(np.ceil(np.log10(self.high))) + 1)
        return [
            m * 10.0**p for p in powers for m in (1, 2, 5) if self.low <= m * 10.0**p <= self.high
        ]


def draw_stages(ax: Axes, channel: Channel, at: float | None = None) -> Axes:
    """Draw every joint of the chain as a number line over the range of the channel.

    The range is that of the counts whose result lies within the channel's limits. The reading at
    the count `at` (the middle of the range if left out) is traced from line to line.
    """
    raw = raw_in_use(channel, at)
    ruler = channel.chain
    at = float(raw[raw.size // 2]) if at is None else at
    trace = ruler.trace(at)
    reading = [at, *(step.result for step in trace.steps)]
    stages = [_Stage.of(raw, ruler.takes)]
    for x, unit in zip(ruler.joints(raw)[1:], ruler.units[1:], strict=True):
        stages.append(_Stage.of(x, unit))
    stages = _on_one_scale(stages)
    wide, high = inches_of(ax)
    scale = min(1.0, high / len(stages) / ROW, wide / NARROW)
    letters, before = 12.4 * scale / wide, len(ax.texts)
    for i, stage in enumerate(stages):
        rounds = i > 0 and ruler.laws[i - 1].role is Role.ROUND
        _number_line(ax, stage, -i, reading[i], rounds=rounds, sign=letters)
    for i, (above, below) in enumerate(pairwise(stages)):
        for end in (0, -1):
            _joined(
                ax,
                above,
                below=below,
                start=above.values[end],
                end=below.values[end],
                y=-i,
                color=GREY,
            )
        _joined(ax, above, below=below, start=reading[i], end=reading[i + 1], y=-i, color=AMBER)
        step = trace.steps[i]
        beside = max(0.13, 0.03 + 0.0115 * letters * len(step.law))
        y, line = -i - 0.5, _within(step.line, int(WIDE / letters * (1.1 - beside)))
        if line.count("\n") > 1:  # three rows reach up to the unit of the line above
            y, line = -i - 0.43, _within(step.line, int(WIDE / letters * (1.0 - beside)))
        ax.text(0.0, y, step.law, fontsize=12, fontweight="bold", color=JET, va="center")
        worked = ax.text(beside, y, line, fontsize=9, color=JET, va="center", bbox=_PAPER)
        worked.set_in_layout(False)
    for i, (stage, value) in enumerate(zip(stages, reading, strict=True)):
        _reading(ax, stage, value, -i)
    ax.set_xlim(-0.12, 1.12)
    ax.set_ylim(-len(stages) + 0.55, 0.45)
    ax.set_axis_off()
    title = channel.title + (f": {channel.about}" if channel.about else "")
    titled(ax, title, 15 * scale)
    for text in ax.texts[before:]:
        text.set_fontsize(float(text.get_fontsize()) * scale)
    return ax


def _within(line: str, width: int) -> str:
    """A worked line in as many rows as there is room for between two number lines: from the front,
    symbols go first."""
    width, parts = max(10, width), line.split(" = ")
    rows = textwrap.wrap(line, width, subsequent_indent="    ")
    while len(rows) > ROWS and len(parts) > 2:
        parts = parts[1:]
        shorter = "… = " + " = ".join(parts)
        rows = textwrap.wrap(shorter, width, subsequent_indent="    ")
    return "\n".join(rows)


def _on_one_scale(stages: list[_Stage]) -> list[_Stage]:
    """Lines of one unit have one scale, so that a clamp shows what it cuts off."""
    found = []
    for stage in stages:
        like = [one for one in stages if one.unit == stage.unit]
        low, high = min(one.low for one in like), max(one.high for one in like)
        found.append(replace(stage, low=low, high=high))
    return found


_PAPER = {"facecolor": "#fffdf7", "edgecolor": "none", "alpha": 0.85, "boxstyle": "round,pad=0.2"}


def _number_line(
    ax: Axes, stage: _Stage, y: float, reading: float, rounds: bool, sign: float
) -> None:
    """A number line: strong where values come, thin where only those of its unit's other lines
    do. rounds: whether its values are steps, which are dots where there are few. sign: how wide
    letters are, as a part of the width that they have on 12.4 inches."""
    ax.hlines(y, 0, 1, color=GREY, linewidth=0.8)
    there = stage.values[np.isfinite(stage.values)]
    first, last = sorted((stage.place(float(there.min())), stage.place(float(there.max()))))
    steps = np.unique(there)
    if rounds and steps.size <= DOTS:
        places = [stage.place(float(step)) for step in steps]
        ax.plot(places, [y] * len(places), "o", color=JET, markersize=3.5)
    else:
        ax.hlines(y, first, last, color=JET, linewidth=2.2)
    if stage.low < 0 < stage.high and not stage.logarithmic:
        ax.vlines(stage.place(0.0), y - 0.1, y + 0.1, color=BLUE, linewidth=1.6)
    places = [stage.place(value) for value in stage.ticks()]
    ax.vlines(places, y - 0.05, y + 0.05, color=JET, linewidth=1)
    beside = sign * (0.025 + 0.0058 * len(shown(reading, stage.unit)))  # half the reading's label
    reads = stage.place(reading) if np.isfinite(reading) else math.inf
    shown_at: list[float] = []
    near = sign * 0.011 * max(5, *(len(number(value)) for value in stage.ticks()))
    for place, value in zip(places, stage.ticks(), strict=True):
        clear = abs(place - reads) > beside
        if clear and all(abs(place - other) > near for other in [*shown_at, 0.0, 1.0]):
            shown_at.append(place)
            ax.text(
                place, y + 0.08, number(value), fontsize=8, color=GREY, ha="center", va="bottom"
            )
    for place, value, side in ((0, stage.low, "right"), (1, stage.high, "left")):
        offset = -0.01 if side == "right" else 0.01
        ax.text(
            place + offset,
            y,
            f"{number(value, 4 if abs(value) < 1e4 else None)}",
            fontsize=11,
            color=BLUE,
            ha=side,
            va="center",
        )
    unit = (symbol(stage.unit) or "value") + (" (log)" if stage.logarithmic else "")
    ax.text(1.01, y - 0.17, unit, fontsize=12, fontweight="bold", color=JET, va="center")


def _joined(
    ax: Axes, above: _Stage, below: _Stage, start: float, end: float, y: float, color: str
) -> None:
    if above.holds(start) and below.holds(end):
        width = 2.5 if color == AMBER else 1.0
        ax.plot([above.place(start), below.place(end)], [y, y - 1], color=color, linewidth=width)


def _reading(ax: Axes, stage: _Stage, value: float, y: float) -> None:
    if not stage.holds(value):  # a reading without a value, outside what is drawn
        return
    place = stage.place(value)
    ax.plot([place], [y], "o", color=AMBER, markeredgecolor=JET, markersize=9, zorder=5)
    ax.text(
        place,
        y + 0.2,
        shown(value, stage.unit),
        fontsize=12,
        fontweight="bold",
        color=JET,
        ha="center",
        va="center",
        zorder=6,
        bbox={"facecolor": AMBER, "edgecolor": "none", "boxstyle": "round,pad=0.25"},
    )
