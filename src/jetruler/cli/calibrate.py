"""`jetruler fit` and `compare`: a law from marks, two sensors against each other, and corrections
into the bench file if asked."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import click

from ..core.error_types import JetRulerError
from .options import Given, any_channel, bench_option, form_of, load, saying_log_options
from .streams import progress_bar, show, show_json

if TYPE_CHECKING:
    from ..core.bench.bench import Bench, LogFormat
    from ..core.bench.channel import Channel
    from ..core.calibrate.adjust import Adjustment
    from ..core.calibrate.comparison import Comparison
    from ..core.calibrate.in_channel import Calibration
    from ..core.calibrate.marks import Marks
    from ..core.calibrate.spot_check import SpotCheck


def marks_options(fit_command: Callable[..., None]) -> Callable[..., None]:
    """Where marks come from."""
    for option in (
        click.option(
            "--u-common",
            metavar="U",
            help="Standard uncertainty of an error common to all marks.",
        ),
        click.option(
            "--mark", "mark", multiple=True, metavar="RAW=TRUE", help="One mark (repeatable)."
        ),
        click.option(
            "--marks",
            "marks",
            metavar="FILE",
            help="CSV file: raw, true, optionally u_true and u_raw.",
        ),
    ):
        fit_command = option(fit_command)
    return fit_command


def fit_options(fit_command: Callable[..., None]) -> Callable[..., None]:
    """What is fitted."""
    for option in (
        click.option("--robust", is_flag=True, help="Exclude outliers, and name them."),
        click.option(
            "--degree", type=int, metavar="N", help="Degree of a polynomial; chosen by default."
        ),
        click.option(
            "--correction", is_flag=True, help="Keep every law; add a correction behind them."
        ),
        click.option(
            "--law",
            metavar="NAME",
            help="line, offset, polynomial, power, table, beta, steinhart-hart (-extended).",
        ),
    ):
        fit_command = option(fit_command)
    return fit_command


@click.command()
@click.argument("channel")
@marks_options
@fit_options
@click.option(
    "--free",
    "free",
    multiple=True,
    metavar="NAME",
    help="Fit only this parameter (repeatable): vref, known, r0, offset …",
)
@click.option("--write", is_flag=True, help="Write the law into the bench file.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON, for programs.")
@bench_option
def fit_command(
    channel: str,
    free: tuple[str, ...],
    write: bool,
    as_json: bool,
    bench_path: str,
    **options: Any,
) -> None:
    """Fit a law of CHANNEL to marks, and show how well it fits.

    Marks are pairs of a raw value (counts, unless it has a unit) and its true value.

    \b
    jetruler fit bean --marks bath.csv
    jetruler fit damper --mark 198=0 --mark 3904=100 --write
    jetruler fit bean --mark 1880=121.5 --correction
    jetruler fit rail --mark "3400=11.93 V" --free upper
    """
    bench, text = loaded(bench_path)
    found: Adjustment | Calibration
    if free:
        found = adjusted(bench, channel, free, **options)
    else:
        found = calibrated(bench, channel, **options)
    if write:
        from ..benchfile import edit
        from ..core.calibrate.adjust import Adjustment, others_changed

        if isinstance(found, Adjustment):
            before, after = edit.write_parameters(bench_path, found, text)
        else:
            before, after = edit.write_calibration(bench_path, found, text)
    if as_json:
        show_json(found.to_dict())
    else:
        show(found.content)
    if write:
        show_change(bench_path, channel, before, after, err=as_json)
        if free and (others := others_changed(bench, load(bench_path), channel)):
            click.echo(f"shared with {', '.join(others)}: their values change too", err=as_json)


def loaded(bench_path: str) -> tuple[Bench, str]:
    """The bench, and its text as it was read."""
    from ..benchfile.edit import read_text

    bench = load(bench_path)
    return bench, read_text(bench_path)


def adjusted(
    bench: Bench,
    channel: str,
    free: tuple[str, ...],
    mark: tuple[str, ...],
    marks: str | None,
    u_common: str | None,
    **how: Any,
) -> Adjustment:
    """The parameters that are free, from the marks."""
    from ..core.calibrate.adjust import adjust

    if given := [name for name, value in how.items() if value]:
        names = ", ".join(f"--{name}" for name in given)
        raise JetRulerError(f"--free: expected no {names} beside it, found both")
    chosen = any_channel(bench, channel)
    return adjust(chosen, marks_of(marks, mark, chosen, u_common), free)


def calibrated(
    bench: Bench,
    channel: str,
    mark: tuple[str, ...],
    marks: str | None,
    u_common: str | None,
    **how: Any,
) -> Calibration:
    """The fit that the options ask for."""
    from ..core.calibrate.in_channel import calibrate

    chosen = any_channel(bench, channel)
    return calibrate(chosen, marks_of(marks, mark, chosen, u_common), **how)


def marks_of(
    path: str | None, texts: tuple[str, ...], channel: Channel, u_common: str | None
) -> Marks:
    """The marks of a file, of the options, or of both."""
    from ..benchfile.marks_file import marks_from_texts, read_marks
    from ..core.ruler.quantity import amount

    sources = [read_marks(path)] if path else []
    sources += [marks_from_texts(texts)] if texts else []
    if not sources:
        raise JetRulerError("fit: expected marks, by --marks FILE or --mark RAW=TRUE")
    found = sources[0] if len(sources) == 1 else sources[0].together(sources[1])
    if u_common is None:
        return found
    unit = found.true_unit or channel.unit
    return dataclasses.replace(
        found, u_common=amount("--u-common", u_common, unit, difference=True)
    )


def show_change(path: str, channel: str, before: str, after: str, err: bool = False) -> None:
    """The lines that a change took out of the bench file, and those it put there."""
    lines = [f"{path}, channel.{channel}:"]
    lines += [f"- {line.strip()}" for line in before.splitlines()]
    lines += [f"+ {line.strip()}" for line in after.splitlines()]
    click.echo("\n".join(lines), err=err)


@dataclass(frozen=True)
class CompareOptions:
    """With what a channel is compared: another one or a column of a log, or marks."""

    other: str | None
    log_path: str | None
    other_log: str | None
    unit: str | None
    within: Any
    marks: str | None
    mark: tuple[str, ...]
    u_common: str | None


def compare_options(compare_command: Callable[..., None]) -> Callable[..., None]:
    """Where the other one is, and what matters."""
    for option in (
        click.option("--within", metavar="X", help="Largest difference that you accept."),
        click.option(
            "--unit",
            metavar="UNIT",
            help="Unit of a reference column, if its name has none.",
        ),
        click.option(
            "--other-log", metavar="LOG", help="The log with OTHER, if it is another one."
        ),
        click.option("--log", "log_path", metavar="LOG", help="The log with both."),
    ):
        compare_command = option(compare_command)
    return compare_command


@click.command()
@click.argument("channel")
@click.argument("other", required=False)
@compare_options
@marks_options
@click.option("--write", is_flag=True, help="Write the correction of CHANNEL into the bench file.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON, for programs.")
@saying_log_options
@bench_option
def compare_command(
    channel: str,
    write: bool,
    as_json: bool,
    given: Given,
    bench_path: str,
    **options: Any,
) -> None:
    """Compare CHANNEL with OTHER, the reference: a channel, or a column of values.

    \b
    jetruler compare bean bean2 --log rest.csv
    jetruler compare bean reference_degC --log rest.csv --within 0.5
    jetruler compare bean --marks bath.csv
    jetruler compare bean --mark 2031=112 --within 1
    """
    bench, text = loaded(bench_path)
    chosen = any_channel(bench, channel)
    wanted = CompareOptions(**options)
    checked = checked_at_marks(chosen, wanted)
    if checked is not None and len(checked.marks) < FEWEST:
        if write:
            raise JetRulerError("--write: expected three marks or more; one is for jetruler fit")
        show_json(checked.to_dict()) if as_json else show(checked.content)
        return
    found = compared(bench, chosen, wanted, form_of(given, bench))
    written = None
    if write and found.correction is not None:
        from ..benchfile.edit import write_correction

        written = write_correction(bench_path, chosen, found.correction, text)
    if as_json:
        spots = {} if checked is None else checked.to_dict()
        show_json(spots | found.to_dict())
    else:
        show([*(() if checked is None else (*checked.content, "")), *found.content])
    if written is not None:
        show_change(bench_path, channel, *written, err=as_json)
    elif write:
        click.echo("no correction is needed: the bench file is unchanged", err=True)


#: Marks that a bias and its interval are told from; fewer are only looked at one by one.
FEWEST = 3


def checked_at_marks(channel: Channel, wanted: CompareOptions) -> SpotCheck | None:
    """What the channel reads at each mark; None where it is compared with something else."""
    from ..core.calibrate.spot_check import spot_check

    if not wanted.marks and not wanted.mark:
        return None
    if wanted.other is not None or wanted.log_path is not None:
        raise JetRulerError("compare: expected either OTHER with --log, or marks, found both")
    marks = marks_of(wanted.marks, wanted.mark, channel, wanted.u_common)
    return spot_check(channel, marks, wanted.within)


def compared(
    bench: Bench, channel: Channel, wanted: CompareOptions, form: LogFormat | None
) -> Comparison:
    """The comparison that the options ask for."""
    from ..core.calibrate.comparison import PairsError

    try:
        if wanted.marks or wanted.mark:
            return against_marks(channel, wanted)
        if wanted.other is None or wanted.log_path is None:
            raise JetRulerError("compare: expected OTHER and --log LOG, or --marks FILE")
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
    from ..logs.pairs import compare_pairs, read_pairs

    if other == channel.name:
        raise JetRulerError(f"compare: expected another channel or column, found {other} again")
    with progress_bar(log_path) as progress:
        pairs = read_pairs(
            log_path,
            channel,
            bench.every_channel.get(other, other),
            other_log=wanted.other_log,
            unit=wanted.unit,
            form=form,
            progress=progress,
        )
    return compare_pairs(
        bench, channel, other, pairs, within=wanted.within, u_common=wanted.u_common or 0.0
    )


def against_marks(channel: Channel, wanted: CompareOptions) -> Comparison:
    """What a channel reads at marks, against their truth."""
    from ..core.calibrate.compare import compare, relevant_difference
    from ..core.calibrate.in_channel import on_rails
    from ..core.ruler.ruler import Ruler
    from ..core.uncertainty.budget import bias_note, tolerated

    marks = marks_of(wanted.marks, wanted.mark, channel, wanted.u_common)
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
        u_common=marks.u_common,
        names=(channel.name, "the marks"),
    )
    allowed = tolerated([(channel, float(sum(values) / len(values)))], channel.unit)
    note = bias_note(found.bias, allowed, channel.unit)
    notes = (*found.notes, *filter(None, (note,)), *on_rails(channel, marks))
    return dataclasses.replace(found, notes=notes)
