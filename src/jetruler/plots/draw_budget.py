"""A budget as pictures: shares as bars, the band round the curve, each source over the range."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes

from ..core.arrays import Array
from ..core.model.channel import Channel
from ..core.model.ticks import raw_samples
from ..core.model.units import raw_symbol, symbol
from ..core.uncertainty.budget import Budget, expanded
from ..core.uncertainty.contributions import conditions_of, contributions
from ..core.uncertainty.rounding import with_uncertainty
from .style import AMBER, BLUE, GREY, JET, RED, plain

#: Lines of the sources, the largest first: told apart by colour and dash.
_STYLES = ((BLUE, "-"), (RED, "-"), (AMBER, "-"), (GREY, "-"), (BLUE, "--"), (RED, "--"))


def draw_shares(ax: Axes, budgets: list[Budget]) -> Axes:
    """Each source's fraction of the combined variance, a group of bars a source, a bar a budget."""
    plain(ax)
    names = [row.source for row in budgets[0].rows]
    thick = 0.8 / len(budgets)
    colors = (BLUE, AMBER, RED, GREY)
    for i, found in enumerate(budgets):
        shares = np.array([100 * found.fraction(row) for row in found.rows])
        places = np.arange(len(names)) + (i - 0.5 * (len(budgets) - 1)) * thick
        label = f"at {found.at:g}: {with_uncertainty(found.value, found.expanded, found.unit)}"
        bars = ax.barh(places, shares, 0.92 * thick, color=colors[i % len(colors)], label=label)
        ax.bar_label(
            bars, [f"{s:.1f} %" if s < 10 else f"{s:.0f} %" for s in shares], padding=4, fontsize=10
        )
    ax.set_yticks(range(len(names)), names, fontsize=12)
    ax.set_ylim(len(names) - 0.4, -0.6)
    ax.set_xlim(0, 112)
    ax.set_xlabel("fraction of the combined variance (%)", fontsize=12, color=JET)
    ax.legend(fontsize=12, frameon=False, loc="lower left", bbox_to_anchor=(-0.02, 1.0))
    ax.grid(False, axis="y")
    return ax


def draw_band(ax: Axes, channel: Channel, budgets: list[Budget]) -> Axes:
    """The curve with its expanded uncertainty as a band; readings as dots."""
    plain(ax)
    raw, value, width = _over_the_range(channel)
    ax.fill_between(raw, value - width, value + width, color=BLUE, alpha=0.35, linewidth=0)
    ax.plot(raw, value, color=BLUE, linewidth=1.6)
    for i, found in enumerate(budgets):
        color = (BLUE, AMBER, RED, GREY)[i % 4]
        ax.plot([found.at], [found.value], "o", color=color, mec=JET, markersize=9, zorder=5)
    ax.set_ylabel(channel.title, fontsize=13, color=JET)
    ax.set_xlabel(raw_symbol(channel.ruler.takes), fontsize=12, color=JET)
    return ax


def draw_sources(ax: Axes, channel: Channel, level: float = 0.95) -> Axes:
    """The expanded uncertainty over the value (jet), and what each of the six largest sources
    would leave alone."""
    plain(ax)
    raw, value, width = _over_the_range(channel)
    given = conditions_of(channel, level=level)
    rows = contributions(channel.ruler, raw, given)
    there = np.isfinite(width)
    if not there.any():
        return ax
    ax.plot(value[there], width[there], color=JET, linewidth=2.6, label="all together")
    with np.errstate(all="ignore"):
        sizes = [float(np.nanmax(np.where(there, row.effect, np.nan))) for row in rows]
    order = [i for i in np.argsort(sizes)[::-1].tolist() if sizes[i] > 0][: len(_STYLES)]
    for i, (color, dash) in zip(order, _STYLES, strict=False):
        alone = 1.96 * rows[i].effect
        ax.plot(value[there], alone[there], dash, color=color, linewidth=1.6, label=rows[i].source)
    ax.set_ylim(0, 1.08 * float(np.nanmax(width[there])) or 1.0)
    ax.set_xlabel(channel.title, fontsize=12, color=JET)
    ax.set_ylabel(f"± at {100 * level:g} % ({symbol(channel.unit) or '1'})", fontsize=12, color=JET)
    ax.legend(fontsize=9, frameon=False, ncols=2, loc="lower left", bbox_to_anchor=(0.0, 1.0))
    return ax


def _over_the_range(channel: Channel) -> tuple[Array, Array, Array]:
    """Counts, values and expanded uncertainties, within the channel's limits."""
    raw = raw_samples(channel.ruler).astype(np.float64)
    value = np.asarray(channel.ruler(raw), dtype=np.float64)
    width = expanded(channel, raw)
    if channel.limits is not None:
        low, high = channel.limits
        outside = ~((value >= low) & (value <= high))
        value, width = np.where(outside, np.nan, value), np.where(outside, np.nan, width)
    return raw, value, width
