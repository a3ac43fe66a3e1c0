"""A log as a picture, raw and converted; and how often each count came up."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.ticker import NullLocator, StrMethodFormatter

from ..core.arrays import AnyArray, Array
from ..core.model.channel import Channel
from ..core.model.reading import FLAG_NAMES
from ..core.model.units import raw_symbol
from ..core.survey.envelope import Envelope
from ..core.survey.survey import Survey
from .style import AMBER, BLUE, GREY, JET, PAPER, RED, plain


def draw_log(ax: Axes, channel: Channel, at: Array, raw: Envelope, value: Envelope) -> Axes:
    """Values on the left axis, raw counts in grey on the right one, flagged stretches in red.

    Each stretch is drawn from its smallest to its largest value, so that no spike is lost.
    """
    plain(ax)
    counts = ax.twinx()
    _drawn(counts, at, raw, GREY, 0.55)
    counts.set_ylabel(raw_symbol(channel.ruler.takes), color=GREY, fontsize=9)
    counts.tick_params(colors=GREY, labelsize=8)
    counts.grid(False)
    for side in ("top", "left", "bottom"):
        counts.spines[side].set_visible(False)
    counts.spines["right"].set_color(GREY)
    ax.set_zorder(counts.get_zorder() + 1)
    ax.patch.set_visible(False)
    _drawn(ax, at, value, BLUE, 1.3)
    ax.tick_params(labelsize=9)
    ax.set_ylabel(channel.title, color=BLUE, fontsize=11)
    _flagged(ax, at, value.flags)
    zones = [(y, channel.ruler.label(y)) for y in np.unique(value.low[~np.isnan(value.low)])]
    if zones and zones[0][1] is not None:
        ax.set_yticks([y for y, _ in zones], [text or "" for _, text in zones])
    return ax


def _drawn(ax: Axes, at: Array, envelope: Envelope, color: str, width: float) -> None:
    # Up and down through every stretch: one line, whatever the log's length.
    times = np.repeat(at, 2)
    values = np.stack([envelope.low, envelope.high], axis=1).reshape(-1)
    ax.plot(times, values, color=color, linewidth=width, solid_joinstyle="round")


def _flagged(ax: Axes, at: Array, flags: AnyArray) -> None:
    """A red band over every flagged stretch, and the names of the flags once."""
    hit = flags != 0
    if not hit.any():
        return
    edges = np.flatnonzero(np.diff(np.concatenate(([False], hit, [False]))))
    half = 0.5 * float(np.median(np.diff(at))) if at.size > 1 else 0.5
    half = max(half, 0.001 * float(at[-1] - at[0]))  # wide enough to be seen
    for start, end in edges.reshape(-1, 2).tolist():
        ax.axvspan(at[start] - half, at[end - 1] + half, color=RED, alpha=0.25, linewidth=0)
    seen = int(np.bitwise_or.reduce(flags))
    names = ", ".join(name for flag, name in FLAG_NAMES.items() if seen & flag)
    ax.text(
        0.995, 0.94, names, transform=ax.transAxes, color=RED, fontsize=10, ha="right", va="top"
    )


#: A log that uses less of the range is drawn by itself, without the rails.
NARROW = 0.2


def draw_histogram(ax: Axes, name: str, survey: Survey) -> Axes:
    """How often each count came up, with the rails, the ends and the median marked."""
    plain(ax)
    counts, often = survey.pairs()
    if counts.size:
        bins = min(400, max(1, int((counts[-1] - counts[0]) // survey.lsb) + 1))
        height, edges = np.histogram(counts, bins=bins, weights=often)
        ax.stairs(height, edges, fill=True, color=BLUE, alpha=0.85)
        ax.set_yscale("log")
        ax.yaxis.set_minor_locator(NullLocator())
        ax.yaxis.set_major_formatter(StrMethodFormatter("{x:g}"))
        ax.set_ylim(0.7, 3 * float(height.max()))
        if survey.range_fraction < NARROW:  # else the rails leave no room for what there is
            room = 0.1 * max(float(counts[-1] - counts[0]), 10.0 * survey.lsb)
            ax.set_xlim(float(counts[0]) - room, float(counts[-1]) + room)
    for places, label, color, style in (
        ((survey.lowest, survey.highest), "rails", RED, "-"),
        ((survey.low_end, survey.high_end), "ends", AMBER, "-"),
        ((survey.median,), "median", JET, (0, (4, 3))),
    ):
        for place in places:
            if np.isfinite(place):
                ax.axvline(place, color=color, linewidth=1.6, linestyle=style, label=label)
                label = "_"  # one entry in the legend
    if counts.size:
        ends = f"ends {survey.low_end:.0f} and {survey.high_end:.0f}, median {survey.median:.0f}"
        ax.set_title(
            f"{name}: {ends}, {survey.range_fraction:.0%} of the range",
            fontsize=11,
            loc="left",
            color=JET,
        )
        ax.legend(fontsize=8, ncols=3, loc="upper center", facecolor=PAPER, edgecolor="none")
    ax.set_xlabel(survey.unit, fontsize=10, color=JET)
    ax.set_ylabel("samples", fontsize=10, color=JET)
    ax.tick_params(labelsize=9)
    return ax
