"""The double-edged ruler: raw ticks on one edge, true ticks on the other, a cursor between."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.patches import FancyBboxPatch

from ..core.model.channel import Channel
from ..core.model.text import number
from ..core.model.ticks import Tick, raw_ends, round_step, round_values, true_ticks
from ..core.model.units import raw_symbol, symbol
from .style import AMBER, IVORY, JET

#: Height of the body, and how deep ticks cut into it, in axes units of a body of height 1.
LONG, SHORT = 0.16, 0.08


def draw_ruler(
    ax: Axes,
    channel: Channel,
    at: float | None = None,
    over: tuple[float, float] | None = None,
) -> Axes:
    """Draw the ruler of a channel over all raw values, or over some, with its cursor at `at`."""
    low, high = over or raw_ends(channel.ruler)
    span = high - low
    ax.set_xlim(low - 0.045 * span, high + 0.045 * span)
    ax.set_ylim(-0.75, 1.75)
    ax.set_axis_off()
    ax.add_patch(
        FancyBboxPatch(
            (low - 0.02 * span, 0),
            1.04 * span,
            1,
            boxstyle=f"round,pad=0,rounding_size={0.012 * span}",
            mutation_aspect=6 / span,
            facecolor=JET,
            edgecolor="none",
        )
    )
    _raw_edge(ax, low, high, at)
    _true_edge(ax, channel, (low, high), at)
    ax.text(
        low, 0.62, raw_symbol(channel.ruler.takes), color=IVORY, fontsize=12, ha="left", va="center"
    )
    unit = symbol(channel.unit) or channel.name
    ax.text(low, 0.38, unit, color=IVORY, fontsize=12, ha="left", va="center")
    if at is not None:
        _cursor(ax, channel, at, span)
    title = channel.title + (f": {channel.about}" if channel.about else "")
    ax.set_title(title, color=JET, fontsize=15, loc="left")
    return ax


def _raw_edge(ax: Axes, low: float, high: float, at: float | None) -> None:
    values = round_values(low, high, 10)
    step = round_step(high - low, 10)
    fine = round_values(low, high, int((high - low) / step * 5 + 1))
    ax.vlines(fine, 1 - SHORT, 1, color=IVORY, linewidth=0.9)
    ax.vlines(values, 1 - LONG, 1, color=IVORY, linewidth=1.6)
    for tick in _apart([Tick(value, value, number(value)) for value in values], high - low, at):
        value = tick.raw
        ax.text(value, 0.81, number(value), color=IVORY, fontsize=11, ha="center", va="top")


def _true_edge(ax: Axes, channel: Channel, over: tuple[float, float], at: float | None) -> None:
    ticks, fine = _ticks(channel, 20, over), _ticks(channel, 100, over)
    span = over[1] - over[0]
    ax.vlines([t.raw for t in fine], 0, SHORT, color=IVORY, linewidth=0.9)
    ax.vlines([t.raw for t in ticks], 0, LONG, color=IVORY, linewidth=1.6)
    for tick in _apart(ticks, span, at):
        ax.text(tick.raw, 0.19, tick.label, color=IVORY, fontsize=11, ha="center")


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


def _apart(ticks: list[Tick], span: float, at: float | None) -> list[Tick]:
    """The ticks whose labels leave room for one another and for the cursor; the roundest first."""
    kept: list[Tick] = []
    for tick in sorted(ticks, key=lambda t: (t.value % 100 != 0, t.value % 50 != 0, t.raw)):
        width = (1.5 + len(tick.label)) * 0.0066 * span
        clear = at is None or abs(tick.raw - at) > 0.5 * width
        if clear and all(abs(tick.raw - other.raw) > width for other in kept):
            kept.append(tick)
    return kept


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
