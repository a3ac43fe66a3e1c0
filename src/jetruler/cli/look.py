"""`jetruler look`, `check` and `new`: what the raw samples do, what is wrong in a bench file, and a
bench file to start from."""

from __future__ import annotations

from collections import Counter
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ..benchfile.starter import KINDS
from ..core.error_types import JetRulerError, printable
from ..core.result import TextTable
from ..core.ruler.units import nearest, number, symbol
from .options import (
    Given,
    bench_option,
    folder_of,
    form_of,
    is_port,
    load,
    log_options,
    saying_log_options,
)
from .streams import echo, progress_bar, show, show_json

if TYPE_CHECKING:
    from ..benchfile.starter import SeenColumn
    from ..core.bench.bench import Bench, LogFormat
    from ..logs.look_at import Look


#: Samples of a port that are looked at where nobody says how many.
BURST = 100


@click.command()
@click.argument("log", required=False, metavar="[LOG]")
@click.option("--source", metavar="PORT", help="Listen to a port instead of a log.")
@click.option(
    "--samples",
    type=click.IntRange(2),
    metavar="N",
    help="With --source: how many samples to take.",
)
@click.option("--baud", type=int, metavar="N", help="With --source: rate of a serial port.")
@click.option(
    "-b", "--bench", "bench_path", metavar="FILE", help="Default: bench.toml, if it is of this log."
)
@click.option(
    "--ends",
    "ends",
    metavar="CHANNEL",
    help="Find the two ends of this channel's travel, as marks.",
)
@click.option(
    "--margin", type=float, metavar="RAW", help="With --ends: move both ends inward by this."
)
@click.option(
    "--reversed", "backward", is_flag=True, help="With --ends: the highest count means 0 %."
)
@click.option("--write", is_flag=True, help="With --ends: write the marks into the bench file.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON, for programs.")
@log_options
def look_command(
    log: str | None,
    source: str | None,
    samples: int | None,
    baud: int | None,
    bench_path: str | None,
    ends: str | None,
    margin: float | None,
    backward: bool,
    write: bool,
    as_json: bool,
    given: Given,
) -> None:
    """Show what the raw samples of LOG do: ends, noise, rails, and how much of the range they use.

    \b
    jetruler look roast.csv -b bench.toml
    jetruler look roast.csv --ends damper --write
    jetruler look --source /dev/ttyACM0 --samples 100
    """
    from ..logs.column_look import JOINT_MEANS
    from ..logs.look_at import look
    from ..samples.source import ColumnError

    if ends is None and (write or margin is not None or backward):
        raise JetRulerError("--write, --margin, --reversed: expected --ends CHANNEL too")
    named = bench_path is not None or write
    if bench_path is None and (write or Path("bench.toml").exists()):
        bench_path = "bench.toml"
    bench = load(bench_path) if bench_path is not None else None
    form = form_of(given, bench, baud=baud)
    if (log is None) == (source is None) or (source is None and samples is not None):
        raise JetRulerError("look: expected either a LOG or --source PORT")
    taken: str | bytes = log or _burst(str(source), form, samples or BURST)
    try:
        with progress_bar(log or "") as progress:
            found = look(taken, bench, form=form, progress=progress)
    except ColumnError as error:
        if named:
            raise
        with progress_bar(log or "") as progress:  # nobody asked for it: it is of another log
            found = look(taken, None, form=form_of(given, None), progress=progress)
        echo(f"ignored {bench_path}, which belongs to another log: {error}", err=True)
        bench = None
    if ends is not None:
        show_ends(
            found,
            bench,
            name=ends,
            margin=margin,
            backward=backward,
            write_to=bench_path if write else None,
        )
    elif as_json:
        show_json(found.to_dict())
    else:
        show(found.content)
        if source is not None:
            rows = [row for each in found.columns.values() for row in each.in_every_unit()]
            show(["", TextTable(JOINT_MEANS, rows)])


def _burst(source: str, form: LogFormat, samples: int) -> bytes:
    """This many lines of a source."""
    from ..live.source_reader import listen

    return listen(source, form, lines=samples)


def show_ends(
    found: Look,
    bench: Bench | None,
    name: str,
    margin: float | None,
    backward: bool,
    write_to: str | None,
) -> None:
    """Print the marks line of a channel or column, and write it if asked."""
    from ..core.bench.conditions import rail_faults
    from ..core.ruler.reading import Flag
    from ..core.ruler.units import nearest
    from ..core.survey.ends import NothingMovedError, ends_of, true_ends

    if name not in found.columns:
        why = nearest(name, found.columns)
        raise JetRulerError(f"--ends: expected a column of the log, found {name!r}: {why}")
    try:
        ends = ends_of(found.columns[name].survey, margin)
    except NothingMovedError as error:
        raise JetRulerError(f"{name}: {error}") from None
    channel = None if bench is None else bench.channels.get(name)
    low, high = true_ends(channel)
    at_low, at_high = (high, low) if backward else (low, high)
    if write_to is None:
        click.echo(ends.line(at_low, at_high))
    else:
        from ..benchfile.edit import write_marks

        before, after = write_marks(write_to, name, ends.marks(at_low, at_high))
        click.echo(f"{write_to}, channel.{name}:\n- {before}\n+ {after}")
    survey = found.columns[name].survey
    unit = symbol(survey.unit)
    if survey.unit == "count":
        unit = "count" if ends.margin == 1 else "counts"
    click.echo(
        f"travel {number(survey.low_end)} to {number(survey.high_end)}, drawn in by "
        f"{number(ends.margin, 2)} {unit} (noise {number(survey.noise, 2)}), so that both ends "
        "are reached",
        err=True,
    )
    faults = -1 if channel is None else rail_faults(channel)
    for flag, fraction, rail in (
        (Flag.LOW_RAIL, survey.on_low_rail, survey.smallest),
        (Flag.HIGH_RAIL, survey.on_high_rail, survey.largest),
    ):
        if fraction > RESTING and faults & int(flag):
            click.echo(
                f"it rests on the rail at {number(rail)}: it saturates before its stop, its wire "
                "was off, or its travel goes there",
                err=True,
            )


#: A sensor rests where so much of a log is.
RESTING = 0.01


@click.command()
@click.option("--log", "log_path", metavar="LOG", help="Check the bench against this log too.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON, for programs.")
@click.option(
    "--table", "as_table", is_flag=True, help="Print a table with one row for each finding."
)
@saying_log_options
@bench_option
def check_command(
    log_path: str | None, as_json: bool, as_table: bool, given: Given, bench_path: str
) -> None:
    """Check the bench file, and compare it with a log. Each finding has its evidence and a remedy.

    The exit code is 1 if one of them is an error.

    \b
    jetruler check
    jetruler check --log roast.csv
    """
    from ..core.check.check import check
    from ..core.result import Findings
    from ..core.ruler.units import many
    from . import FOUND

    if as_json and as_table:
        raise JetRulerError("expected --json or --table, found both")
    bench = load(bench_path)
    found = check(bench)
    if log_path is not None:
        from ..logs.check_log import check_log
        from .streams import progress_bar

        with progress_bar(log_path) as progress:
            logged = check_log(log_path, bench, form=form_of(given, bench), progress=progress)
        found = Findings.of([*found, *logged], logged.unjudged, logged.injected)
    if as_json:
        show_json(found.to_dict())
    else:
        *lines, verdict = found.short_content if as_table else found.content
        where = "" if found else f" in {many(len(bench.channels), 'channel')}"
        show([*lines, f"{bench_path}: {verdict}{where}"])
    if any(not finding.worst for finding in found):
        raise SystemExit(FOUND)


#: Seconds that a port is listened to.
LISTENING = 3.0


@click.command()
@click.argument("path", default="bench.toml", metavar="[FILE]")
@click.option(
    "--from", "log", metavar="LOG", help="Make a channel for each column of this log or port."
)
@click.option(
    "--channel",
    "channels",
    multiple=True,
    metavar="NAME=KIND",
    help=f"Add an example of this kind (repeatable): {', '.join(KINDS)}.",
)
@click.option("--bits", type=click.IntRange(1, 32), metavar="N", help="Bits of the converter.")
@click.option("--vref", metavar="VOLTS", help='Reference voltage: 5, or "3.3 V ± 1 %".')
@click.option("--baud", type=int, metavar="N", help="Rate of a serial port.")
@log_options
def new_command(
    path: str,
    log: str | None,
    channels: tuple[str, ...],
    bits: int | None,
    vref: str | None,
    baud: int | None,
    given: Given,
) -> None:
    """Write a commented bench file to FILE (default bench.toml). Never overwrites.

    \b
    jetruler new --channel a0=knob --bits 10 --vref 5
    jetruler new --from roast.csv --channel ch0=ntc --channel ch2=knob
    jetruler new --from /dev/ttyACM0 --bits 10 --vref 5
    """
    from ..benchfile.load import parse_bench
    from ..benchfile.starter import starter

    target = Path(path)
    folder_of(path)
    if target.exists():
        raise JetRulerError(f"{path}: expected a new file, found one: new never overwrites")
    kinds = dict(_kind(text) for text in channels)
    seen = [] if log is None else _seen(log, form_of(given, None, baud=baud), bits)
    title = printable(target.stem).replace("-", " ").capitalize() or "My bench"
    made = starter(kinds, seen, title, bits=bits, vref=vref, log=log or "")
    parse_bench(made.text, path)
    try:
        with target.open("x", encoding="utf-8", newline="\n") as file:
            file.write(made.text)
    except OSError as error:
        raise JetRulerError(f"{path}: cannot be written: {error.strerror}") from None
    for guess in made.guesses:
        echo(f"a guess: {guess}", err=True)
    name = next(iter(parse_bench(made.text, path).channels))
    echo(f"{path}: written. Next: jetruler explain {name} --at COUNT -b {path}", err=True)


def _seen(log: str, form: LogFormat, bits: int | None) -> list[SeenColumn]:
    """What a log, or a port that is listened to for some seconds, shows of its columns."""
    from ..benchfile.starter import SeenColumn
    from ..core.survey.findings import code_bits, repeats_bits
    from ..logs.look_at import look

    given: str | bytes = log
    if is_port(log):
        from ..live.source_reader import listen

        given = listen(log, form, seconds=LISTENING)
    with progress_bar(log) as progress:
        found = look(given, form=form, progress=progress)
    if found.line_format:
        echo(f"reading lines as: {found.line_format}", err=True)
    seen = []
    names = Counter(each.column for each in found.columns.values())
    for each in found.columns.values():
        v = each.survey
        named = not found.unnamed and each.column.isprintable() and names[each.column] == 1
        named &= bool(each.column)
        column = each.column if named else each.index + 1
        stated = found.units.get(each.column, "")
        if v.samples and each.bits is None:
            seen.append(SeenColumn(column, None, v.low_end, v.high_end, v.lsb, stated=stated))
        elif v.samples and each.bits is not None:
            low, high = int(v.low_end), int(v.high_end)
            codes = code_bits(v)
            step = 2 ** (each.bits - codes)
            repeats = step > 1 and repeats_bits(v, codes)
            own = each.bits if step > 1 else bits or each.bits
            high = max(high, low + 1)
            seen.append(SeenColumn(column, own, low, high, step, repeats=repeats, stated=stated))
    return seen


def _kind(text: str) -> tuple[str, str]:
    from ..benchfile.load import CHANNEL_NAME

    name, equals, kind = text.partition("=")
    if not equals or not CHANNEL_NAME.fullmatch(name):
        raise JetRulerError(f"--channel: expected NAME=KIND, as in bean=ntc, found {text!r}")
    if kind not in KINDS:
        raise JetRulerError(
            f"--channel: expected a kind in {text!r}, found {kind!r}: {nearest(kind, KINDS)}"
        )
    return name, kind
