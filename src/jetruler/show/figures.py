"""Whole figures of standard size, as the tool writes them and a report holds them; a log, raw and
converted."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Protocol

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.ticker import LogLocator, NullLocator, StrMethodFormatter

from ..core.bench.channel import Channel
from ..core.bench.conditions import alarm_mask
from ..core.bench.trips import Trip
from ..core.calibrate.comparison import Comparison
from ..core.calibrate.in_channel import Calibration
from ..core.choose.resistor import ResistorChoice
from ..core.numerics import AnyArray, Array
from ..core.ruler.reading import FLAG_NAMES
from ..core.ruler.units import number, raw_symbol, significant
from ..core.survey.running_statistics import Envelope
from ..core.survey.survey import Survey
from ..core.uncertainty.budget_result import Budget
from ..core.uncertainty.simulate import Simulation
from .draw_results import (
    draw_band,
    draw_choose,
    draw_compare,
    draw_draws,
    draw_fit,
    draw_residuals,
    draw_shares,
    draw_sources,
)
from .draw_ruler import draw_curve, draw_ruler, draw_slope, draw_stages, lanes_of
from .schematic import draw_circuit
from .style import (
    AMBER,
    BLUE,
    GREY,
    JET,
    PAPER,
    RED,
    SIGN,
    few_ticks,
    inches_of,
    new_figure,
    plain,
    titled,
)


class LogSeries(Protocol):
    """One channel over a whole log."""

    channel: Channel
    raw: Envelope
    value: Envelope
    at: Array
    time_name: str


def ruler_figure(
    channel: Channel,
    at: float | None,
    over: tuple[float, float] | None = None,
    trips: Sequence[Trip] = (),
) -> Figure:
    """The ruler with its two edges, over all raw values or some, and its trips."""

    figure = new_figure(12.8, 4.2 + 0.5 * len(lanes_of(channel, trips)))
    draw_ruler(figure.add_subplot(), channel, at, over, trips)
    return figure


def circuit_figure(channel: Channel, at: float | None) -> Figure:
    """The schematic."""

    figure = new_figure(12.8, 6.0)
    draw_circuit(figure.add_subplot(), channel, at)
    return figure


def stages_figure(channel: Channel, at: float | None) -> Figure:
    """The chain as stacked number lines."""

    figure = new_figure()
    draw_stages(figure.add_subplot(), channel, at)
    return figure


def curve_figure(channels: Sequence[tuple[Channel, float | None]]) -> Figure:
    """Curves with their slopes beneath, each with its cursor."""

    figure = new_figure()
    grid = figure.subplots(
        2, len(channels), squeeze=False, sharex="col", gridspec_kw={"height_ratios": [2.4, 1]}
    )
    for column, (channel, at) in enumerate(channels):
        top = draw_curve(grid[0, column], channel, at)
        top.set_xlabel("")  # the one beneath has it
        titled(top, top.get_title("left").replace("\n", " "), max(9, 16 - 2 * len(channels)))
        draw_slope(grid[1, column], channel)
    return figure


def fit_figure(found: Calibration) -> Figure:
    """Marks on the curve, residuals beneath."""

    figure = new_figure()
    top, beneath = figure.subplots(2, 1, sharex=True, gridspec_kw={"height_ratios": [2.2, 1]})
    draw_fit(top, found)
    draw_residuals(beneath, found)
    return figure


def compare_figure(found: Comparison) -> Figure:
    """Difference against mean."""

    figure = new_figure()
    draw_compare(figure.add_subplot(), found)
    return figure


def budget_figure(channel: Channel, budgets: list[Budget]) -> Figure:
    """Shares as bars, the band, each source over the range."""

    figure = new_figure()
    grid = figure.add_gridspec(2, 2, width_ratios=(1.15, 1))
    draw_shares(figure.add_subplot(grid[:, 0]), budgets)
    draw_band(figure.add_subplot(grid[0, 1]), channel, budgets)
    draw_sources(figure.add_subplot(grid[1, 1]), channel)
    title = channel.name + (f": {channel.about}" if channel.about else "")
    figure.suptitle(title, fontsize=15, color=JET, x=0.01, ha="left")
    return figure


def draws_figure(channel: Channel, found: Simulation) -> Figure:
    """How often each value came up in a Monte Carlo run, with both intervals."""

    figure = new_figure(12.8, 6.4)
    ax = draw_draws(figure.add_subplot(), found)
    titled(ax, f"{channel.name} at {number(found.budget.at)}", 15)
    return figure


def choose_figure(channel: Channel, choice: ResistorChoice) -> Figure:
    """The candidates for a fixed resistor."""

    figure = new_figure()
    top, beneath = figure.subplots(2, 1, sharex=True)
    draw_choose(top, beneath, channel, choice)
    return figure


def log_figure(
    series: Sequence[LogSeries], trips: Mapping[str, Sequence[tuple[float, float]]] | None = None
) -> Figure:
    """Channels over a log, raw and converted; beneath them, when trips were on."""
    trips = trips or {}
    figure = new_figure(12.8, max(8.0, 1.3 * len(series) + 0.3 * len(trips)))
    rows = len(series) + bool(trips)
    ratios = [1.3] * len(series) + [0.25 + 0.25 * len(trips)] * bool(trips)
    axes = figure.subplots(rows, 1, squeeze=False, sharex=True, height_ratios=ratios)[:, 0]
    for ax, one in zip(axes, series, strict=False):
        draw_log(ax, one.channel, one.at, one.raw, one.value)
    if trips:
        _trips(axes[-1], trips, float(series[0].at[-1] - series[0].at[0]))
    axes[-1].set_xlabel(series[-1].time_name)
    return figure


def _trips(ax: Axes, trips: Mapping[str, Sequence[tuple[float, float]]], span: float) -> None:
    """A line for each trip, with a bar while it is on."""
    plain(ax)
    for i, stretches in enumerate(trips.values()):
        bars = [(begun, max(end - begun, 0.002 * span)) for begun, end in stretches]
        ax.broken_barh(bars, (i - 0.35, 0.7), facecolors=AMBER)
    ax.set_yticks(range(len(trips)), list(trips))
    ax.set_ylim(len(trips) - 0.4, -0.6)
    ax.tick_params(labelsize=9)
    ax.set_ylabel("trips on", color=JET, fontsize=11)


def draw_log(ax: Axes, channel: Channel, at: Array, raw: Envelope, value: Envelope) -> Axes:
    """Values on the left axis, raw counts in grey on the right one, flagged stretches in red; ends
    of a travel are none.

    Each stretch is drawn from its smallest to its largest value, so that no spike is lost.
    """
    plain(ax)
    if not channel.sources:  # what is computed from others has no raw values
        _raw_beside(ax, channel, at, raw)
    _drawn(ax, at, value, BLUE, 1.3)
    ax.tick_params(labelsize=9)
    ax.set_ylabel(channel.title, color=BLUE, fontsize=11)
    _flagged(ax, at, value.flags & np.uint8(alarm_mask(channel)))
    zones = [(y, channel.ruler.label(y)) for y in np.unique(value.low[~np.isnan(value.low)])]
    if zones and zones[0][1] is not None:
        ax.set_yticks([y for y, _ in zones], [text or "" for _, text in zones])
    return ax


def _raw_beside(ax: Axes, channel: Channel, at: Array, raw: Envelope) -> None:
    """Raw values in grey behind the values, on an axis of their own."""
    counts = ax.twinx()
    counts.set_facecolor(ax.get_facecolor())
    _drawn(counts, at, raw, GREY, 0.55)
    counts.set_ylabel(raw_symbol(channel.ruler.takes), color=GREY, fontsize=9)
    counts.tick_params(colors=GREY, labelsize=8)
    if channel.ruler.takes == "count":  # those of 24 bits are read as a whole
        counts.ticklabel_format(axis="y", style="plain", useOffset=False)
    counts.grid(False)
    for side in ("top", "left", "bottom"):
        counts.spines[side].set_visible(False)
    counts.spines["right"].set_color(GREY)
    ax.set_zorder(counts.get_zorder() + 1)
    ax.patch.set_visible(False)


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
    _flag_names(ax, at, flags, edges.reshape(-1, 2))


def _flag_names(ax: Axes, at: Array, flags: AnyArray, stretches: AnyArray) -> None:
    """The names of the flags beside the longest stretch of each kind, where there is room."""
    first, span = float(at[0]), max(float(at[-1] - at[0]), 1e-300)
    taken: list[tuple[float, float]] = []
    longest: dict[str, tuple[int, int]] = {}
    for start, end in stretches.tolist():
        seen = int(np.bitwise_or.reduce(flags[start:end]))
        names = ", ".join(name for flag, name in FLAG_NAMES.items() if seen & flag)
        if end - start > longest.get(names, (0, 0))[0]:
            longest[names] = end - start, start
    for names, (length, start) in sorted(longest.items(), key=lambda one: -one[1][0]):
        middle = (float(at[start : start + length].mean()) - first) / span
        half = 0.0045 * (len(names) + 2)
        middle = min(max(middle, half), 1 - half)
        if all(abs(middle - other) > half + room for other, room in taken):
            taken.append((middle, half))
            place = ax.get_xaxis_transform()
            x = first + middle * span
            ax.text(x, 0.94, names, transform=place, color=RED, fontsize=9, ha="center", va="top")


#: A log that uses less of the range is drawn by itself, without the rails.
NARROW = 0.2


def _percent(fraction: float) -> str:
    return "less than 1 %" if 0 < fraction < 0.01 else f"{100 * fraction:.0f} %"


#: A row of the legend, with the numbers above the bars, in inches.
LEGEND = 0.62
#: Bars of a histogram at most; few have their number written above.
BARS = 400


def bars_of(counts: Array, occurrences: AnyArray, lsb: float) -> tuple[Array, Array, float]:
    """Return the heights of a histogram's bars, their edges, and how wide each is.

    Every bar is as many whole steps wide as every other one, so that an even signal makes even
    bars. A step is one count, or what all counts differ by, where a converter leaves some out.
    """
    if not counts.size:
        return np.empty(0), np.empty(0), lsb
    codes = np.rint((counts - counts[0]) / lsb).astype(np.int64)
    step = int(np.gcd.reduce(codes)) or 1
    step *= -(-(int(codes[-1]) // step + 1) // BARS)
    height: Array = np.bincount(codes // step, weights=occurrences).astype(np.float64)
    edges = counts[0] + (np.arange(height.size + 1) * step - 0.5) * lsb
    return height, edges, step * lsb


def draw_histogram(ax: Axes, name: str, survey: Survey) -> Axes:
    """How often each count came up, with the rails, the ends and the median marked."""
    plain(ax)
    counts, occurrences = survey.pairs()
    lsb = survey.lsb or survey.step
    height, edges, each = bars_of(counts, occurrences, lsb)
    if counts.size:
        ax.stairs(height, edges, fill=True, color=BLUE, alpha=0.85)
        letters = (len(f"{height.max():.0f}") + 1) * SIGN * 10
        if height.size * letters < 0.6 * inches_of(ax)[0]:
            for i in np.flatnonzero(height):
                middle, many = 0.5 * (edges[i] + edges[i + 1]), height[i]
                ax.annotate(
                    f"{many:.0f}",
                    (middle, many),
                    (0, 2),
                    textcoords="offset points",
                    ha="center",
                    fontsize=10,
                    bbox={"facecolor": PAPER, "edgecolor": "none", "pad": 0.5},
                )
        ax.set_yscale("log")
        if height.max() < 100:  # powers of ten alone would be one or two numbers
            ax.yaxis.set_major_locator(LogLocator(subs=(1.0, 2.0, 5.0)))
        ax.yaxis.set_minor_locator(NullLocator())
        ax.yaxis.set_major_formatter(StrMethodFormatter("{x:g}"))
        above = min(LEGEND / inches_of(ax)[1], 0.5)  # of the axes: no bar, no number
        ax.set_ylim(0.7, 0.7 * (float(height.max()) / 0.7) ** (1 / (1 - above)))
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
        low, high, middle = map(number, (survey.low_end, survey.high_end, survey.median))
        ends = f"ends {low} and {high}, median {middle}"
        title = f"{f'column {name}' if name.isdecimal() else name}: {ends}"
        if np.isfinite(survey.range_fraction):
            title += f", {_percent(survey.range_fraction)} of the range"
        titled(ax, title, 11)
        ax.legend(fontsize=8, ncols=3, loc="upper center", facecolor=PAPER, edgecolor="none")
    ax.set_xlabel(raw_symbol(survey.unit), fontsize=10, color=JET)
    wide = f"samples in each {number(significant(each, 3))}" if each > lsb else "samples"
    ax.set_ylabel(wide, fontsize=10, color=JET)
    ax.tick_params(labelsize=9)
    return few_ticks(ax, whole=lsb >= 1)
