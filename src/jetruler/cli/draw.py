"""`jetruler draw`: pictures of a channel, as PNG or SVG, each written whole."""

from __future__ import annotations

import logging
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from types import ModuleType
from typing import TYPE_CHECKING, Any, cast

import click

from ..core.bench.bench import Bench
from ..core.bench.channel import Channel, raw_from
from ..core.error_types import JetRulerError
from ..core.laws.raw_edge import Input
from ..core.ruler.raw_range import raw_ends
from ..core.ruler.ruler import Ruler
from ..core.ruler.units import number
from .calibrate import (
    CompareOptions,
    calibrated,
    compare_options,
    compared,
    fit_options,
    marks_options,
)
from .choose import chosen_resistor, resistor_options
from .options import (
    Given,
    any_channel,
    bench_option,
    channel_of,
    folder_of,
    form_of,
    load,
    saying_log_options,
    shown_channel,
)
from .streams import progress_bar

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from ..core.bench.bench import LogFormat
    from ..core.uncertainty.budget_result import Budget


#: Where a command keeps the width on paper that was asked for.
WIDTH = "jetruler.width"

# It warns where it finds no place for its cache, which costs time and no picture.
logging.getLogger("matplotlib").setLevel(logging.ERROR)


def draw_log_file(
    log_path: str | Path, bench: Bench, only: Sequence[str], form: LogFormat | None, path: Path
) -> Path:
    """Write the picture of some channels over a log, all if none are named, with the trips that
    look at these."""
    from ..logs.check_log import TripStretches
    from ..logs.pairs import SeriesPass
    from ..samples.passes import columns_read, walk
    from ..show.figures import log_figure

    channels = [any_channel(bench, name) for name in only or bench]
    series, trips = SeriesPass(channels), TripStretches(bench, channels)
    passes = [series, trips] if trips.bench.trips else [series]
    with progress_bar(str(log_path)) as progress:
        walk(log_path, *passes, form=form, wanted=columns_read(channels), progress=progress)
    found = series.found()
    return written(log_figure(found, trips.found(float(found[0].at[-1]))), path)


def draw_histogram_file(
    log_path: str | Path,
    columns: tuple[str, ...],
    bench: Bench | None,
    form: LogFormat | None,
    path: Path,
) -> Path:
    """Write the picture of how counts are spread."""
    from ..core.ruler.units import nearest
    from ..logs.look_at import look
    from ..show.figures import draw_histogram
    from ..show.style import new_figure

    with progress_bar(str(log_path)) as progress:
        found = look(log_path, bench, form=form, progress=progress)
    for name in columns:
        if name not in found.columns:
            why = nearest(name, found.columns)
            raise JetRulerError(f"expected a column of {log_path}, found {name!r}: {why}")
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
    """The budgets at some raw values, for averaged readings. Raises `JetRulerError` for one
    without."""
    from ..core.uncertainty.budget import budget

    budgets = [budget(channel, one, readings=readings) for one in at]
    for one in budgets:
        if one.combined != one.combined:
            raise JetRulerError(f"--at {number(one.at)}: {one.summary()[0]}")
    return budgets


def written(figure: Figure, path: Path) -> Path:
    """Write a figure as its suffix says; whole, or not at all."""
    from ..files import write_file
    from ..show.style import rendered

    width = click.get_current_context().meta.get(WIDTH)
    write_file(path, rendered(figure, path.suffix[1:].lower(), width))
    return path


def picture_path(out: str | None, default: str) -> Path:
    """Where the picture goes: refused before any work if it can't be written there."""
    path = Path(out or default)
    if path.suffix.lower() not in (".png", ".svg"):
        raise JetRulerError(f"{path}: expected .png or .svg, found another ending")
    folder_of(str(path))
    return path


def out_option(draw_command: Callable[..., None]) -> Callable[..., None]:
    """The options that say where a picture goes, and how wide it is on paper."""

    def keep(context: click.Context, _: click.Parameter, width: float | None) -> None:
        if width is not None and not 20 <= width <= 1000:
            raise JetRulerError(f"--width: expected 20 to 1000 mm, found {number(width)}")
        context.meta[WIDTH] = width

    width = click.option(
        "--width",
        type=float,
        metavar="MM",
        expose_value=False,
        callback=keep,
        help="Width on paper in mm: 86 for a column, 160 for a page.",
    )
    return click.option("-o", "--output", "out", metavar="FILE", help="The picture, .png or .svg.")(
        width(draw_command)
    )


def view_options(draw_command: Callable[..., None]) -> Callable[..., None]:
    """The options that say where the cursor is and over which raw values to draw."""
    for option in (
        click.option("--to", "high", metavar="RAW", help="Last raw value of an input."),
        click.option("--from", "low", metavar="RAW", help="First raw value of an input."),
        click.option("--at", metavar="RAW", help="Put a cursor at this raw value."),
    ):
        draw_command = option(draw_command)
    return draw_command


def _viewed(
    channel: Channel, at: str | None, low: str | None, high: str | None
) -> tuple[Channel, float | None]:
    """The channel over the raw values that are asked for, and where its cursor is."""

    def value(text: str | None, option: str) -> float | None:
        return None if text is None else raw_from(channel, text, option)

    over, cursor = _over(channel, value(low, "--from"), value(high, "--to")), value(at, "--at")
    _check_at(over, cursor)
    return over, cursor


def _over(channel: Channel, low: float | None, high: float | None) -> Channel:
    """The channel with the ends that are asked for as those of its input."""
    if low is None and high is None:
        return channel
    edge = channel.chain.edge
    if edge is None or channel.chain.converter is not None:
        expected = "--from and --to are for inputs, and for `draw ruler`"
        raise JetRulerError(f"{expected}; a converter is drawn over its counts")
    ends = (edge.lowest if low is None else low, edge.highest if high is None else high)
    return replace(
        channel, chain=Ruler((replace(cast(Input, edge), range=ends), *channel.chain.laws[1:]))
    )


def _stretch(channel: Channel, low: str | None, high: str | None) -> tuple[float, float]:
    """The raw values that a ruler is drawn over."""
    ends = raw_ends(channel.ruler)
    first = ends[0] if low is None else raw_from(channel, low, "--from")
    last = ends[1] if high is None else raw_from(channel, high, "--to")
    if not ends[0] <= first < last <= ends[1]:
        raise JetRulerError(
            f"--from {number(first)} --to {number(last)}: two raw values of {number(ends[0])} to "
            f"{number(ends[1])}, the low one first,"
        )
    return first, last


def figures() -> ModuleType:
    """The figures; Matplotlib is loaded when one is drawn."""
    from ..show import figures as made

    return made


@click.group(name="draw")
def draw_command() -> None:
    """Draw a picture: PNG or SVG, 1280 × 800."""


@draw_command.command()
@click.argument("channel")
@view_options
@out_option
@bench_option
def ruler(
    channel: str,
    out: str | None,
    bench_path: str,
    **view: str | None,
) -> None:
    """The double-edged ruler of CHANNEL: counts on one edge, true values on the other."""
    bench = load(bench_path)
    chosen, over = shown_channel(bench, channel), None
    if chosen.chain.converter is not None and (view["low"] or view["high"]):
        over = _stretch(chosen, view.pop("low"), view.pop("high"))
        view |= {"low": None, "high": None}
    chosen, at = _viewed(chosen, **view)
    path = picture_path(out, f"ruler-{channel}.png")
    trips = list(bench.trips.values()) if channel in bench else []
    click.echo(written(figures().ruler_figure(chosen, at, over, trips), path))


@draw_command.command()
@click.argument("channel")
@click.option("--at", metavar="RAW", help="Show voltages and currents at this raw value.")
@out_option
@bench_option
def circuit(channel: str, at: str | None, out: str | None, bench_path: str) -> None:
    """The schematic that the laws of CHANNEL describe: supply, legs, sensor, converter."""
    chosen, raw = _viewed(channel_of(load(bench_path), channel), at, None, None)
    path = picture_path(out, f"circuit-{channel}.png")
    click.echo(written(figures().circuit_figure(chosen, raw), path))


@draw_command.command()
@click.argument("channels", nargs=-1, required=True, metavar="CHANNEL...")
@view_options
@out_option
@bench_option
def curve(
    channels: tuple[str, ...],
    out: str | None,
    bench_path: str,
    **view: str | None,
) -> None:
    """Output against counts, with the slope beneath, of each CHANNEL side by side."""
    bench = load(bench_path)
    chosen = [_viewed(shown_channel(bench, name), **view) for name in channels]
    path = picture_path(out, f"curve-{'-'.join(channels)}.png")
    click.echo(written(figures().curve_figure(chosen), path))


@draw_command.command()
@click.argument("channel")
@view_options
@out_option
@bench_option
def stages(
    channel: str,
    out: str | None,
    bench_path: str,
    **view: str | None,
) -> None:
    """The chain of CHANNEL as stacked number lines, one a law, with one reading traced."""
    chosen, at = _viewed(shown_channel(load(bench_path), channel), **view)
    path = picture_path(out, f"stages-{channel}.png")
    click.echo(written(figures().stages_figure(chosen, at), path))


@draw_command.command()
@click.argument("log_path", metavar="LOG")
@click.argument("channels", nargs=-1, metavar="[CHANNEL]...")
@saying_log_options
@out_option
@bench_option
def log(
    log_path: str,
    channels: tuple[str, ...],
    given: Given,
    out: str | None,
    bench_path: str,
) -> None:
    """LOG, raw and converted, with flags marked; each CHANNEL (or all) beneath one another."""
    bench = load(bench_path)
    path = picture_path(out, f"log-{Path(log_path).stem}.png")
    form = form_of(given, bench)
    click.echo(draw_log_file(log_path, bench, channels, form, path))


@draw_command.command()
@click.argument("log_path", metavar="LOG")
@click.argument("columns", nargs=-1, metavar="[CHANNEL]...")
@saying_log_options
@out_option
@click.option(
    "-b", "--bench", "bench_path", metavar="FILE", help="The bench file; without one, raw counts."
)
def histogram(
    log_path: str,
    columns: tuple[str, ...],
    given: Given,
    out: str | None,
    bench_path: str | None,
) -> None:
    """How often each count came up in LOG, with ends, rails and median; each CHANNEL or column."""
    path = picture_path(out, f"histogram-{Path(log_path).stem}.png")
    bench = None
    if bench_path is not None or Path("bench.toml").exists():
        bench = load(bench_path or "bench.toml")
    form = form_of(given, bench)
    click.echo(draw_histogram_file(log_path, columns, bench, form, path))


@draw_command.command(name="choose")
@click.argument("channel")
@resistor_options
@out_option
@bench_option
def choose_picture(channel: str, out: str | None, bench_path: str, **options: Any) -> None:
    """Counts and resolution over the range for the fixed resistors that CHANNEL may have."""
    path = picture_path(out, f"choose-{channel}.png")
    chosen = channel_of(load(bench_path), channel)
    choice = chosen_resistor(chosen, options)
    click.echo(written(figures().choose_figure(chosen, choice), path))


@draw_command.command(name="budget")
@click.argument("channel")
@click.option(
    "--at",
    "at",
    type=float,
    multiple=True,
    metavar="COUNT",
    help="Show the fractions at this count (repeatable).",
)
@click.option("--readings", type=float, metavar="N", help="Number of readings averaged.")
@out_option
@bench_option
def budget_picture(
    channel: str,
    at: tuple[float, ...],
    readings: float | None,
    out: str | None,
    bench_path: str,
) -> None:
    """What makes CHANNEL uncertain: fractions as bars, the band, each source over the range."""
    chosen = channel_of(load(bench_path), channel)
    if not at:
        raise JetRulerError("draw budget: expected --at COUNT")
    for one in at:
        _check_at(chosen, one)
    path = picture_path(out, f"budget-{channel}.png")
    budgets = budgets_of(chosen, at, readings)
    click.echo(written(figures().budget_figure(chosen, budgets), path))


@draw_command.command()
@click.argument("channel")
@click.option("--at", required=True, metavar="RAW", help="The raw value.")
@click.option("--draws", type=int, default=100_000, show_default=True, metavar="N")
@out_option
@bench_option
def draws(channel: str, at: str, draws: int, out: str | None, bench_path: str) -> None:
    """What a reading of CHANNEL may be in truth: a histogram of N draws, with both intervals."""
    from ..core.uncertainty.simulate import simulate

    chosen, raw = _viewed(channel_of(load(bench_path), channel), at, None, None)
    path = picture_path(out, f"draws-{channel}.png")
    found = simulate(chosen, raw if raw is not None else 0.0, draws=draws)
    click.echo(written(figures().draws_figure(chosen, found), path))


@draw_command.command()
@click.argument("channel")
@marks_options
@fit_options
@out_option
@bench_option
def fit(channel: str, out: str | None, bench_path: str, **options: Any) -> None:
    """Marks on the fitted curve of CHANNEL, its 95 % interval, and the errors beneath."""
    path = picture_path(out, f"fit-{channel}.png")
    found = calibrated(load(bench_path), channel, **options)
    click.echo(written(figures().fit_figure(found), path))


@draw_command.command()
@click.argument("channel")
@click.argument("other", required=False)
@compare_options
@marks_options
@saying_log_options
@out_option
@bench_option
def compare(
    channel: str,
    given: Given,
    out: str | None,
    bench_path: str,
    **options: Any,
) -> None:
    """Difference of CHANNEL and OTHER against their mean, with bias and limits of agreement."""
    wanted = CompareOptions(**options)
    path = picture_path(out, f"compare-{channel}-{wanted.other or 'marks'}.png")
    bench = load(bench_path)
    form = form_of(given, bench)
    found = compared(bench, any_channel(bench, channel), wanted, form)
    click.echo(written(figures().compare_figure(found), path))


def _check_at(channel: Channel, at: float | None) -> None:
    edge = channel.ruler.edge
    if at is None or edge is None or edge.lowest <= at <= edge.highest:
        return
    what = "a count" if channel.ruler.converter else "a raw value"
    raise JetRulerError(
        f"--at: expected {what} of {channel.name}, {number(edge.lowest)} to "
        f"{number(edge.highest)}, found {number(at)}"
    )
