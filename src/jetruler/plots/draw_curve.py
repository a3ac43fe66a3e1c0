"""The curve of a channel over its counts, and its slope."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes

from ..core.arrays import Array
from ..core.model.channel import Channel
from ..core.model.ticks import raw_samples
from ..core.model.units import raw_symbol, symbol
from .style import AMBER, BLUE, GREY, JET, RED, plain


def draw_curve(ax: Axes, channel: Channel, at: float | None = None) -> Axes:
    """Output against counts; the limits as dashed lines, a reading as an amber dot."""
    plain(ax)
    raw, values = _sampled(channel)
    ax.plot(raw, values, color=BLUE, linewidth=2.2)
    if channel.limits is not None:
        low, high = channel.limits
        for end in channel.limits:
            ax.axhline(end, color=RED, linewidth=1, linestyle=(0, (6, 4)))
        room = 0.12 * (high - low)
        ax.set_ylim(low - room, high + room)
    if at is not None:
        value = channel.ruler(at)
        rising = channel.ruler.slope(at) > 0
        ax.plot([at], [value], "o", color=AMBER, markeredgecolor=JET, markersize=10)
        ax.annotate(
            f"{at:g} → {channel.shown(value)}",
            (at, value),
            textcoords="offset points",
            xytext=(14, -16 if rising else 10),
            fontsize=13,
            color=JET,
        )
    ax.set_ylabel(channel.title, fontsize=13, color=JET)
    ax.set_title(channel.about or channel.name, fontsize=15, loc="left", color=JET)
    return ax


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
    ax.set_xlabel(raw_symbol(channel.ruler.takes), fontsize=13, color=JET)
    return ax


def _sampled(channel: Channel) -> tuple[Array, Array]:
    raw = raw_samples(channel.ruler)
    return raw, channel.ruler(raw)
