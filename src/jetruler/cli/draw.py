"""`jetruler draw`: pictures of a channel, as PNG or SVG."""

from __future__ import annotations

from pathlib import Path

import click

from ..core.channel import Channel
from ..core.errors import JetRulerError
from .common import bench_option, channel_of, folder_of, load

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


def draw_stages_file(channel: Channel, at: float | None, path: Path) -> Path:
    """Write the picture of the stages."""
    from ..logs.output import write_file
    from ..plots.stages import draw_stages
    from ..plots.style import new_figure, rendered

    figure = new_figure()
    draw_stages(figure.add_subplot(), channel, at)
    write_file(path, rendered(figure, path.suffix[1:].lower()))
    return path


def draw_ruler_file(channel: Channel, at: float | None, path: Path) -> Path:
    """Write the picture of the ruler."""
    from ..logs.output import write_file
    from ..plots.ruler import draw_ruler
    from ..plots.style import new_figure, rendered

    figure = new_figure(12.8, 4.2)
    draw_ruler(figure.add_subplot(), channel, at)
    write_file(path, rendered(figure, path.suffix[1:].lower()))
    return path


def draw_curve_file(channels: list[Channel], at: float | None, path: Path) -> Path:
    """Write the picture of the curves."""
    from ..logs.output import write_file
    from ..plots.curve import draw_curve, draw_slope
    from ..plots.style import new_figure, rendered

    figure = new_figure()
    grid = figure.subplots(
        2, len(channels), squeeze=False, sharex="col", gridspec_kw={"height_ratios": [2.4, 1]}
    )
    for column, channel in enumerate(channels):
        top = draw_curve(grid[0, column], channel, at)
        top.set_title(top.get_title("left"), loc="left", fontsize=max(9, 16 - 2 * len(channels)))
        draw_slope(grid[1, column], channel)
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
