"""`jetruler fit`: a law from marks, and into the bench file if asked."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import click

from ..core.error_types import JetRulerError
from .common import bench_option, channel_of, load
from .streams import show, show_json

if TYPE_CHECKING:
    from ..core.calibrate.in_channel import Calibration
    from ..core.calibrate.marks import Marks
    from ..core.model.channel import Bench


def marks_options(command: Callable[..., None]) -> Callable[..., None]:
    """Where marks come from."""
    for option in (
        click.option(
            "--mark", "mark", multiple=True, metavar="RAW=TRUE", help="One mark (repeatable)."
        ),
        click.option("--marks", "marks", metavar="FILE", help="CSV: raw, true, perhaps u_true."),
    ):
        command = option(command)
    return command


def fit_options(command: Callable[..., None]) -> Callable[..., None]:
    """What is fitted."""
    for option in (
        click.option("--robust", is_flag=True, help="Set outliers aside and name them."),
        click.option("--degree", type=int, metavar="N", help="Of a polynomial; else found."),
        click.option("--correction", is_flag=True, help="Keep every law; correct on top."),
        click.option(
            "--law",
            metavar="NAME",
            help="line, offset, polynomial, power, table, beta, steinhart-hart (-extended).",
        ),
    ):
        command = option(command)
    return command


@click.command()
@click.argument("channel")
@marks_options
@fit_options
@click.option("--write", is_flag=True, help="Put the law into the bench file.")
@click.option("--json", "as_json", is_flag=True, help="For programs.")
@bench_option
def command(channel: str, write: bool, as_json: bool, bench_path: str, **options: Any) -> None:
    """Fit a law to marks in its place in CHANNEL, and say how well it fits.

    Marks are pairs of a raw value (counts, unless a unit is said) and what it is in truth.

    \b
    jetruler fit bean --marks bath.csv
    jetruler fit damper --mark 198=0 --mark 3904=100 --write
    jetruler fit bean --mark 1880=121.5 --correction
    """
    bench, text = loaded(bench_path)
    found = calibrated(bench, channel, **options)
    if write:
        from ..benchfile.write_back import write_calibration

        before, after = write_calibration(bench_path, found, text)
    if as_json:
        show_json(found.to_dict())
    else:
        show(found.content)
    if write:
        show_change(bench_path, channel, before, after, err=as_json)


def loaded(bench_path: str) -> tuple[Bench, str]:
    """The bench, and its text as it was read."""
    from ..benchfile.bench_text import read_text

    bench = load(bench_path)
    return bench, read_text(bench_path)


def calibrated(
    bench: Bench, channel: str, mark: tuple[str, ...], marks: str | None, **how: Any
) -> Calibration:
    """The fit that the options ask for."""
    from ..core.calibrate.in_channel import calibrate

    return calibrate(channel_of(bench, channel), marks_of(marks, mark), **how)


def marks_of(path: str | None, texts: tuple[str, ...]) -> Marks:
    """The marks of a file, of the options, or of both."""
    from ..benchfile.marks_file import marks_from_texts, read_marks

    sources = [read_marks(path)] if path else []
    sources += [marks_from_texts(texts)] if texts else []
    if not sources:
        raise JetRulerError("fit: no marks; say --marks FILE or --mark RAW=TRUE")
    return sources[0] if len(sources) == 1 else sources[0].together(sources[1])


def show_change(path: str, channel: str, before: str, after: str, err: bool = False) -> None:
    """The lines that a change took out of the bench file, and those it put there."""
    lines = [f"{path}, channel.{channel}:"]
    lines += [f"- {line.strip()}" for line in before.splitlines()]
    lines += [f"+ {line.strip()}" for line in after.splitlines()]
    click.echo("\n".join(lines), err=err)
