"""`jetruler compare`: two channels, or a channel and a reference; a correction if asked."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import click

from ..core.error_types import JetRulerError
from .common import bench_option, channel_of
from .fit import loaded, marks_of, marks_options, show_change
from .log_options import Given, form_of, saying_log_options
from .progress import progress_bar
from .streams import show, show_json

if TYPE_CHECKING:
    from ..core.calibrate.comparison import Comparison
    from ..core.model.channel import Bench, Channel
    from ..core.model.log_format import LogFormat


@dataclass(frozen=True)
class CompareOptions:
    """With what a channel is compared: another one or a column of a log, or marks."""

    other: str | None
    log_path: str | None
    other_log: str | None
    unit: str | None
    within: float | None
    marks: str | None
    mark: tuple[str, ...]


def compare_options(command: Callable[..., None]) -> Callable[..., None]:
    """Where the other one stands, and what matters."""
    for option in (
        click.option("--within", type=float, metavar="X", help="The difference that matters."),
        click.option(
            "--unit",
            metavar="UNIT",
            help="Unit of a reference column whose name does not say it.",
        ),
        click.option("--other-log", metavar="LOG", help="Where OTHER stands, if in another log."),
        click.option("--log", "log_path", metavar="LOG", help="The log that both stand in."),
    ):
        command = option(command)
    return command


@click.command()
@click.argument("channel")
@click.argument("other", required=False)
@compare_options
@marks_options
@click.option("--write", is_flag=True, help="Put the correction of CHANNEL into the bench file.")
@click.option("--json", "as_json", is_flag=True, help="For programs.")
@saying_log_options
@bench_option
def command(
    channel: str,
    write: bool,
    as_json: bool,
    given: Given,
    bench_path: str,
    **options: Any,
) -> None:
    """Compare CHANNEL with OTHER, which is taken for right: a channel, or a column of values.

    \b
    jetruler compare bean bean2 --log rest.csv
    jetruler compare bean reference_degC --log rest.csv --within 0.5
    jetruler compare bean --marks bath.csv
    """
    bench, text = loaded(bench_path)
    chosen = channel_of(bench, channel)
    form = form_of(given, bench)
    found = compared(bench, chosen, CompareOptions(**options), form)
    written = None
    if write and found.correction is not None:
        from ..benchfile.write_back import write_correction

        written = write_correction(bench_path, chosen, found.correction, text)
    if as_json:
        show_json(found.to_dict())
    else:
        show(found.content)
    if written is not None:
        show_change(bench_path, channel, *written, err=as_json)
    elif write:
        click.echo("no correction is called for: the bench file stays as it is", err=True)


def compared(
    bench: Bench, channel: Channel, wanted: CompareOptions, form: LogFormat | None
) -> Comparison:
    """The comparison that the options ask for."""
    from ..core.calibrate.series import PairsError

    try:
        if wanted.marks or wanted.mark:
            if wanted.other is not None or wanted.log_path is not None:
                raise JetRulerError("compare: say either OTHER with --log, or marks")
            return against_marks(channel, wanted)
        if wanted.other is None or wanted.log_path is None:
            raise JetRulerError("compare: say OTHER and --log LOG, or --marks FILE")
        return against_other(
            bench, channel, other=wanted.other, log_path=wanted.log_path, wanted=wanted, form=form
        )
    except PairsError as error:
        raise JetRulerError(f"{wanted.log_path or wanted.marks or '--mark'}: {error}") from None


def against_other(
    bench: Bench,
    channel: Channel,
    other: str,
    log_path: str,
    wanted: CompareOptions,
    form: LogFormat | None,
) -> Comparison:
    """A channel against another one, or against a column of the log."""
    from ..logs.compare_pairs import compare_pairs
    from ..logs.pairs import read_pairs

    if other == channel.name:
        raise JetRulerError(f"compare: {other} with itself; another channel or column is right")
    with progress_bar(log_path) as progress:
        pairs = read_pairs(
            log_path,
            channel,
            bench.channels.get(other, other),
            other_log=wanted.other_log,
            unit=wanted.unit,
            form=form,
            progress=progress,
        )
    return compare_pairs(bench, channel, other, pairs, wanted.within)


def against_marks(channel: Channel, wanted: CompareOptions) -> Comparison:
    """What a channel reads at marks, against their truth."""
    from ..core.calibrate.compare_series import compare
    from ..core.calibrate.in_channel import on_rails
    from ..core.calibrate.relevance import relevant_difference
    from ..core.model.ruler import Ruler

    marks = marks_of(wanted.marks, wanted.mark)
    units = channel.chain.units
    marks = marks.in_units((units[0], *filter(None, units)), channel.unit)
    joint = units.index(marks.raw_unit or units[0])
    values = Ruler(channel.chain.laws[joint:])(marks.raw)
    found = compare(
        values,
        marks.true,
        unit=channel.unit,
        within=wanted.within,
        resolution=relevant_difference(channel, values),
        ordered=False,
        names=(channel.name, "the marks"),
    )
    return dataclasses.replace(found, notes=(*found.notes, *on_rails(channel, marks)))
