"""Whole figures of standard size, as the tool writes them and a report holds them. Each loads only
what it draws with."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from matplotlib.figure import Figure

from ..core.arrays import Array
from ..core.calibrate.comparison import Comparison
from ..core.calibrate.in_channel import Calibration
from ..core.choose.resistor import ResistorChoice
from ..core.model.channel import Channel
from ..core.survey.envelope import Envelope
from ..core.uncertainty.budget import Budget
from ..core.uncertainty.simulate import Simulation
from .style import JET, new_figure


class LogSeries(Protocol):
    """One channel over a whole log."""

    channel: Channel
    raw: Envelope
    value: Envelope
    at: Array
    time_name: str


def ruler_figure(
    channel: Channel, at: float | None, over: tuple[float, float] | None = None
) -> Figure:
    """The ruler with its two edges, over all raw values or some."""
    from .draw_ruler import draw_ruler

    figure = new_figure(12.8, 4.2)
    draw_ruler(figure.add_subplot(), channel, at, over)
    return figure


def circuit_figure(channel: Channel, at: float | None) -> Figure:
    """The schematic."""
    from .draw_circuit import draw_circuit

    figure = new_figure(12.8, 6.0)
    draw_circuit(figure.add_subplot(), channel, at)
    return figure


def stages_figure(channel: Channel, at: float | None) -> Figure:
    """The chain as stacked number lines."""
    from .draw_stages import draw_stages

    figure = new_figure()
    draw_stages(figure.add_subplot(), channel, at)
    return figure


def curve_figure(channels: Sequence[tuple[Channel, float | None]]) -> Figure:
    """Curves with their slopes beneath, each with its cursor."""
    from .draw_curve import draw_curve, draw_slope

    figure = new_figure()
    grid = figure.subplots(
        2, len(channels), squeeze=False, sharex="col", gridspec_kw={"height_ratios": [2.4, 1]}
    )
    for column, (channel, at) in enumerate(channels):
        top = draw_curve(grid[0, column], channel, at)
        top.set_title(top.get_title("left"), loc="left", fontsize=max(9, 16 - 2 * len(channels)))
        draw_slope(grid[1, column], channel)
    return figure


def fit_figure(found: Calibration) -> Figure:
    """Marks on the curve, residuals beneath."""
    from .draw_fit import draw_fit, draw_residuals

    figure = new_figure()
    top, beneath = figure.subplots(2, 1, sharex=True, gridspec_kw={"height_ratios": [2.2, 1]})
    draw_fit(top, found)
    draw_residuals(beneath, found)
    return figure


def compare_figure(found: Comparison) -> Figure:
    """Difference against mean."""
    from .draw_compare import draw_compare

    figure = new_figure()
    draw_compare(figure.add_subplot(), found)
    return figure


def budget_figure(channel: Channel, budgets: list[Budget]) -> Figure:
    """Shares as bars, the band, each source over the range."""
    from .draw_budget import draw_band, draw_shares, draw_sources

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
    from .draw_draws import draw_draws

    figure = new_figure(12.8, 6.4)
    ax = draw_draws(figure.add_subplot(), found)
    ax.set_title(f"{channel.name} at {found.budget.at:g}", fontsize=15, color=JET, loc="left")
    return figure


def choose_figure(channel: Channel, choice: ResistorChoice) -> Figure:
    """The candidates for a fixed resistor."""
    from .draw_choose import draw_choose

    figure = new_figure()
    top, beneath = figure.subplots(2, 1, sharex=True)
    draw_choose(top, beneath, channel, choice)
    return figure


def log_figure(series: Sequence[LogSeries]) -> Figure:
    """Channels over a log, raw and converted."""
    from .draw_log import draw_log

    figure = new_figure(12.8, max(8.0, 1.3 * len(series)))
    axes = figure.subplots(len(series), 1, squeeze=False, sharex=True)[:, 0]
    for ax, one in zip(axes, series, strict=True):
        draw_log(ax, one.channel, one.at, one.raw, one.value)
    axes[-1].set_xlabel(series[-1].time_name)
    return figure
