"""`jetruler draw`: pictures of a channel, as PNG or SVG."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from ..core.channel import Bench, Channel
from ..core.errors import JetRulerError
from .common import bench_option, channel_of, folder_of, load
from .convert import format_options, log_format, progress_bar

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from ..logs.source import LogFormat

at_option = click.option("--at", metavar="COUNT", type=float, help="Cursor at this count.")
out_option = click.option(
    "-o", "--output", "out", metavar="FILE", help="PNG or SVG, by its suffix."
)


@click.group(name="draw")
def command() -> None:
    """Draw a picture: PNG or SVG, 1280 × 800."""


@command.command()
@click.argument("channel")
@at_option
@out_option
@bench_option
def ruler(channel: str, at: float | None, out: str | None, bench_path: str) -> None:
    """The double-edged ruler of CHANNEL: counts on one edge, true values on the other."""
    chosen = channel_of(load(bench_path), channel)
    _check_at(chosen, at)
    path = _picture(out, f"ruler-{channel}.png")
    click.echo(draw_ruler_file(chosen, at, path))


@command.command()
@click.argument("channels", nargs=-1, required=True, metavar="CHANNEL...")
@at_option
@out_option
@bench_option
def curve(channels: tuple[str, ...], at: float | None, out: str | None, bench_path: str) -> None:
    """Output against counts, with the slope beneath, of each CHANNEL side by side."""
    bench = load(bench_path)
    chosen = [channel_of(bench, name) for name in channels]
    for one in chosen:
        _check_at(one, at)
    path = _picture(out, f"curve-{'-'.join(channels)}.png")
    click.echo(draw_curve_file(chosen, at, path))


@command.command()
@click.argument("channel")
@at_option
@out_option
@bench_option
def stages(channel: str, at: float | None, out: str | None, bench_path: str) -> None:
    """The chain of CHANNEL as stacked number lines, one a law, with one reading traced."""
    chosen = channel_of(load(bench_path), channel)
    _check_at(chosen, at)
    path = _picture(out, f"stages-{channel}.png")
    click.echo(draw_stages_file(chosen, at, path))


@command.command()
@click.argument("log_path", metavar="LOG")
@click.argument("channels", nargs=-1, metavar="[CHANNEL]...")
@format_options
@out_option
@bench_option
def log(
    log_path: str,
    channels: tuple[str, ...],
    delimiter: str | None,
    decimal_comma: bool,
    no_header: bool,
    out: str | None,
    bench_path: str,
) -> None:
    """LOG, raw and converted, with flags marked; each CHANNEL (or all) beneath one another."""
    bench = load(bench_path)
    chosen = [channel_of(bench, name) for name in channels or bench.channels]
    path = _picture(out, f"log-{Path(log_path).stem}.png")
    form = log_format(delimiter, decimal_comma, no_header)
    click.echo(draw_log_file(log_path, chosen, form, path))


@command.command()
@click.argument("log_path", metavar="LOG")
@click.argument("columns", nargs=-1, metavar="[CHANNEL]...")
@format_options
@out_option
@click.option("-b", "--bench", "bench_path", metavar="FILE", help="The bench file; else counts.")
def spread(
    log_path: str,
    columns: tuple[str, ...],
    delimiter: str | None,
    decimal_comma: bool,
    no_header: bool,
    out: str | None,
    bench_path: str | None,
) -> None:
    """How often each count came up in LOG, with ends, rails and median; each CHANNEL or column."""
    path = _picture(out, f"spread-{Path(log_path).stem}.png")
    form = log_format(delimiter, decimal_comma, no_header)
    bench = None
    if bench_path is not None or Path("bench.toml").exists():
        bench = load(bench_path or "bench.toml")
    click.echo(draw_spread_file(log_path, columns, bench, form, path))


def draw_log_file(
    log_path: str | Path, channels: list[Channel], form: LogFormat | None, path: Path
) -> Path:
    """Write the picture of a log."""
    from ..logs.series import read_series
    from ..plots.log import draw_log
    from ..plots.style import new_figure

    with progress_bar(str(log_path)) as progress:
        series = read_series(log_path, channels, form=form, progress=progress)
    figure = new_figure(12.8, max(8.0, 1.3 * len(series)))
    axes = figure.subplots(len(series), 1, squeeze=False, sharex=True)[:, 0]
    for ax, one in zip(axes, series, strict=True):
        draw_log(ax, one.channel, one.at, one.raw, one.value)
    axes[-1].set_xlabel(series[-1].time_name)
    return _written(figure, path)


def draw_spread_file(
    log_path: str | Path,
    columns: tuple[str, ...],
    bench: Bench | None,
    form: LogFormat | None,
    path: Path,
) -> Path:
    """Write the picture of how counts are spread."""
    from ..core.text import nearest
    from ..logs.look import look
    from ..plots.log import draw_spread
    from ..plots.style import new_figure

    with progress_bar(str(log_path)) as progress:
        found = look(log_path, bench, form=form, progress=progress)
    for name in columns:
        if name not in found.columns:
            raise JetRulerError(f"found {name!r}; {nearest(name, found.columns)}")
    names = columns or tuple(found.columns)
    across = 1 if len(names) == 1 else 2
    down = -(-len(names) // across)
    figure = new_figure(12.8, max(8.0, 2.1 * down))
    grid = figure.subplots(down, across, squeeze=False).reshape(-1)
    for ax, name in zip(grid, names, strict=False):
        draw_spread(ax, name, found.columns[name].survey)
    for ax in grid[len(names) :]:
        ax.set_axis_off()
    return _written(figure, path)


def draw_stages_file(channel: Channel, at: float | None, path: Path) -> Path:
    """Write the picture of the stages."""
    from ..plots.stages import draw_stages
    from ..plots.style import new_figure

    figure = new_figure()
    draw_stages(figure.add_subplot(), channel, at)
    return _written(figure, path)


def draw_ruler_file(channel: Channel, at: float | None, path: Path) -> Path:
    """Write the picture of the ruler."""
    from ..plots.ruler import draw_ruler
    from ..plots.style import new_figure

    figure = new_figure(12.8, 4.2)
    draw_ruler(figure.add_subplot(), channel, at)
    return _written(figure, path)


def draw_curve_file(channels: list[Channel], at: float | None, path: Path) -> Path:
    """Write the picture of the curves."""
    from ..plots.curve import draw_curve, draw_slope
    from ..plots.style import new_figure

    figure = new_figure()
    grid = figure.subplots(
        2, len(channels), squeeze=False, sharex="col", gridspec_kw={"height_ratios": [2.4, 1]}
    )
    for column, channel in enumerate(channels):
        top = draw_curve(grid[0, column], channel, at)
        top.set_title(top.get_title("left"), loc="left", fontsize=max(9, 16 - 2 * len(channels)))
        draw_slope(grid[1, column], channel)
    return _written(figure, path)


def _written(figure: Figure, path: Path) -> Path:
    """Write a figure as its suffix says; whole, or not at all."""
    from ..logs.output import write_file
    from ..plots.style import rendered

    write_file(path, rendered(figure, path.suffix[1:].lower()))
    return path


def _picture(out: str | None, default: str) -> Path:
    """Where the picture goes: refused before any work if it can't be written there."""
    path = Path(out or default)
    if path.suffix.lower() not in (".png", ".svg"):
        raise JetRulerError(f"{path}: a picture is written as .png or .svg")
    folder_of(str(path))
    return path


def _check_at(channel: Channel, at: float | None) -> None:
    converter = channel.ruler.converter
    if at is None or converter is None or converter.lowest <= at <= converter.highest:
        return
    raise JetRulerError(
        f"--at: found {at:g}; the counts of {channel.name} run from {converter.lowest} to "
        f"{converter.highest}"
    )
