"""Writing pictures: each of these draws one figure and writes it whole."""

from __future__ import annotations

import logging
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from ..core.errors import JetRulerError
from ..core.model.channel import Bench, Channel
from .common import channel_of, folder_of
from .summary_text import progress_bar

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from ..core.calibrate.comparison import Comparison
    from ..core.calibrate.in_channel import Calibration
    from ..core.choose.resistor import ResistorChoice
    from ..logs.source import LogFormat


# It warns where it finds no place for its cache, which costs time and no picture.
logging.getLogger("matplotlib").setLevel(logging.ERROR)


def draw_log_file(
    log_path: str | Path, bench: Bench, only: Sequence[str], form: LogFormat | None, path: Path
) -> Path:
    """Write the picture of some channels over a log, all if none are named."""
    from ..logs.plot_series import read_series
    from ..plots.draw_log import draw_log
    from ..plots.style import new_figure

    channels = [channel_of(bench, name) for name in only or bench.channels]
    with progress_bar(str(log_path)) as progress:
        series = read_series(log_path, channels, form=form, stream=bench.stream, progress=progress)
    figure = new_figure(12.8, max(8.0, 1.3 * len(series)))
    axes = figure.subplots(len(series), 1, squeeze=False, sharex=True)[:, 0]
    for ax, one in zip(axes, series, strict=True):
        draw_log(ax, one.channel, one.at, one.raw, one.value)
    axes[-1].set_xlabel(series[-1].time_name)
    return written(figure, path)


def draw_histogram_file(
    log_path: str | Path,
    columns: tuple[str, ...],
    bench: Bench | None,
    form: LogFormat | None,
    path: Path,
) -> Path:
    """Write the picture of how counts are spread."""
    from ..core.model.text import nearest
    from ..logs.look_at_log import look
    from ..plots.draw_log import draw_histogram
    from ..plots.style import new_figure

    with progress_bar(str(log_path)) as progress:
        found = look(log_path, bench, form=form, progress=progress)
    for name in columns:
        if name not in found.columns:
            raise JetRulerError(f"found {name!r}; {nearest(name, found.columns)}")
    names = columns or tuple(found.columns)
    if not any(found.columns[name].survey.samples for name in names):
        raise JetRulerError(f"{log_path}: not one number can be read in {', '.join(names)}")
    across = 1 if len(names) == 1 else 2
    down = -(-len(names) // across)
    figure = new_figure(12.8, max(8.0, 2.1 * down))
    grid = figure.subplots(down, across, squeeze=False).reshape(-1)
    for ax, name in zip(grid, names, strict=False):
        draw_histogram(ax, name, found.columns[name].survey)
    for ax in grid[len(names) :]:
        ax.set_axis_off()
    return written(figure, path)


def draw_stages_file(channel: Channel, at: float | None, path: Path) -> Path:
    """Write the picture of the stages."""
    from ..plots.draw_stages import draw_stages
    from ..plots.style import new_figure

    figure = new_figure()
    draw_stages(figure.add_subplot(), channel, at)
    return written(figure, path)


def draw_ruler_file(channel: Channel, at: float | None, path: Path) -> Path:
    """Write the picture of the ruler."""
    from ..plots.draw_ruler import draw_ruler
    from ..plots.style import new_figure

    figure = new_figure(12.8, 4.2)
    draw_ruler(figure.add_subplot(), channel, at)
    return written(figure, path)


def draw_curve_file(channels: list[tuple[Channel, float | None]], path: Path) -> Path:
    """Write the picture of the curves, each with its cursor."""
    from ..plots.draw_curve import draw_curve, draw_slope
    from ..plots.style import new_figure

    figure = new_figure()
    grid = figure.subplots(
        2, len(channels), squeeze=False, sharex="col", gridspec_kw={"height_ratios": [2.4, 1]}
    )
    for column, (channel, at) in enumerate(channels):
        top = draw_curve(grid[0, column], channel, at)
        top.set_title(top.get_title("left"), loc="left", fontsize=max(9, 16 - 2 * len(channels)))
        draw_slope(grid[1, column], channel)
    return written(figure, path)


def draw_fit_file(found: Calibration, path: Path) -> Path:
    """Write the picture of a fit: marks on the curve, residuals beneath."""
    from ..plots.draw_fit import draw_fit, draw_residuals
    from ..plots.style import new_figure

    figure = new_figure()
    top, beneath = figure.subplots(2, 1, sharex=True, gridspec_kw={"height_ratios": [2.2, 1]})
    draw_fit(top, found)
    draw_residuals(beneath, found)
    return written(figure, path)


def draw_compare_file(found: Comparison, path: Path) -> Path:
    """Write the picture of a comparison: difference against mean."""
    from ..plots.draw_compare import draw_compare
    from ..plots.style import new_figure

    figure = new_figure()
    draw_compare(figure.add_subplot(), found)
    return written(figure, path)


def draw_budget_file(channel: Channel, at: tuple[float, ...], path: Path) -> Path:
    """Write the picture of a budget: shares as bars, the band, each source over the range."""
    from ..core.uncertainty.budget import budget
    from ..plots.draw_budget import draw_band, draw_shares, draw_sources
    from ..plots.style import JET, new_figure

    budgets = [budget(channel, one) for one in at]
    for one in budgets:
        if one.combined != one.combined:
            raise JetRulerError(f"--at {one.at:g}: {one.summary()[0]}")
    figure = new_figure()
    grid = figure.add_gridspec(2, 2, width_ratios=(1.15, 1))
    draw_shares(figure.add_subplot(grid[:, 0]), budgets)
    draw_band(figure.add_subplot(grid[0, 1]), channel, budgets)
    draw_sources(figure.add_subplot(grid[1, 1]), channel)
    title = channel.name + (f": {channel.about}" if channel.about else "")
    figure.suptitle(title, fontsize=15, color=JET, x=0.01, ha="left")
    return written(figure, path)


def draw_choose_file(channel: Channel, choice: ResistorChoice, path: Path) -> Path:
    """Write the picture of the candidates for a fixed resistor."""
    from ..plots.draw_choose import draw_choose
    from ..plots.style import new_figure

    figure = new_figure()
    top, beneath = figure.subplots(2, 1, sharex=True)
    draw_choose(top, beneath, channel, choice)
    return written(figure, path)


def written(figure: Figure, path: Path) -> Path:
    """Write a figure as its suffix says; whole, or not at all."""
    from ..logs.output import write_file
    from ..plots.style import rendered

    write_file(path, rendered(figure, path.suffix[1:].lower()))
    return path


def picture_path(out: str | None, default: str) -> Path:
    """Where the picture goes: refused before any work if it can't be written there."""
    path = Path(out or default)
    if path.suffix.lower() not in (".png", ".svg"):
        raise JetRulerError(f"{path}: a picture is written as .png or .svg")
    folder_of(str(path))
    return path
