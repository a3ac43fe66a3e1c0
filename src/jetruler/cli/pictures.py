"""Writing pictures: each of these draws one figure and writes it whole."""

from __future__ import annotations

import logging
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ..core.error_types import JetRulerError
from ..core.model.channel import Bench, Channel
from .common import channel_of, folder_of
from .progress import progress_bar

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from ..core.model.log_format import LogFormat
    from ..core.uncertainty.budget import Budget


#: Where a command keeps the width on paper that was asked for.
WIDTH = "jetruler.width"

# It warns where it finds no place for its cache, which costs time and no picture.
logging.getLogger("matplotlib").setLevel(logging.ERROR)


def draw_log_file(
    log_path: str | Path, bench: Bench, only: Sequence[str], form: LogFormat | None, path: Path
) -> Path:
    """Write the picture of some channels over a log, all if none are named."""
    from ..logs.plot_series import read_series
    from ..plots.figures import log_figure

    channels = [channel_of(bench, name) for name in only or bench.channels]
    with progress_bar(str(log_path)) as progress:
        series = read_series(log_path, channels, form=form, progress=progress)
    return written(log_figure(series), path)


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


def budgets_of(
    channel: Channel, at: tuple[float, ...], readings: float | None = None
) -> list[Budget]:
    """The budgets at some raw values, of so many readings averaged. Raises `JetRulerError` for one
    without."""
    from ..core.uncertainty.budget import budget

    budgets = [budget(channel, one, readings=readings) for one in at]
    for one in budgets:
        if one.combined != one.combined:
            raise JetRulerError(f"--at {one.at:g}: {one.summary()[0]}")
    return budgets


def written(figure: Figure, path: Path) -> Path:
    """Write a figure as its suffix says; whole, or not at all."""
    from ..logs.output import write_file
    from ..plots.style import rendered

    width = click.get_current_context().meta.get(WIDTH)
    write_file(path, rendered(figure, path.suffix[1:].lower(), width))
    return path


def picture_path(out: str | None, default: str) -> Path:
    """Where the picture goes: refused before any work if it can't be written there."""
    path = Path(out or default)
    if path.suffix.lower() not in (".png", ".svg"):
        raise JetRulerError(f"{path}: a picture is written as .png or .svg")
    folder_of(str(path))
    return path
