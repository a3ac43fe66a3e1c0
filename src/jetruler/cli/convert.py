"""`jetruler convert` and `report`: one log or many into engineering values, a page to hand in."""

from __future__ import annotations

import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

import click

from ..core.bench.channel import raw_from
from ..core.error_types import JetRulerError
from ..core.ruler.units import many
from ..files import reject_overlapping_paths
from .options import (
    Given,
    bench_option,
    channel_of,
    folder_of,
    form_of,
    load,
    log_options,
    saying_log_options,
    standard,
)
from .streams import bar, progress_bar, show, show_json

if TYPE_CHECKING:
    from ..core.bench.bench import Bench
    from ..logs.convert_all import FleetProgress


#: Formats of a result.
KINDS = ("csv", "jsonl", "parquet")


@click.command()
@click.argument("logs", nargs=-1, required=True, metavar="LOG...")
@click.option(
    "-o",
    "--output",
    "out",
    default="-",
    metavar="FILE",
    callback=standard,
    help="The result, a file or a folder; - is stdout.",
)
@click.option(
    "--to",
    "out_kind",
    type=click.Choice(KINDS),
    help="Format of the result; by default from its name.",
)
@click.option(
    "--only", multiple=True, metavar="CHANNEL", help="Convert only this channel (repeatable)."
)
@click.option("--keep-raw", is_flag=True, help="Keep the raw columns too.")
@click.option("--uncertainty", is_flag=True, help="Add a column with ± (95 %) for every channel.")
@click.option(
    "--commands", is_flag=True, help="Add columns for the trips and the drives' commands."
)
@click.option(
    "--events", metavar="FILE", help="Write when each trip turns on and off to this CSV file."
)
@click.option("--jobs", type=click.IntRange(1), metavar="N", help="Many logs: convert N at a time.")
@click.option("--resume", is_flag=True, help="Many logs: skip those that are already done.")
@click.option(
    "--cluster", metavar="ADDRESS", help="Many logs: Dask scheduler, tcp://host:port or local."
)
@click.option(
    "--threads",
    type=click.IntRange(1),
    metavar="N",
    help="Threads for each log; by default from the cores.",
)
@click.option(
    "--memory",
    type=click.FloatRange(1),
    default=128.0,
    show_default=True,
    metavar="MB",
    help="Memory for batches, besides the program's own.",
)
@click.option("--json", "as_json", is_flag=True, help="Print the summary as JSON; needs -o.")
@log_options
@bench_option
def convert_command(
    logs: tuple[str, ...],
    out: str,
    events: str | None,
    jobs: int | None,
    resume: bool,
    cluster: str | None,
    given: Given,
    as_json: bool,
    bench_path: str,
    **options: Any,
) -> None:
    """Convert LOG through the bench: CSV, JSON Lines or Parquet, also .gz or .zst; - is stdin.

    The result has the columns that no channel uses, one column for each channel, and `flags`.
    A summary goes to stderr. Several logs, a folder, or a pattern with * or ** need a folder as
    output; it mirrors the folders of the logs.

    \b
    jetruler convert roast.csv -b bench.toml -o out.parquet
    jetruler convert 'logs/**/*.parquet' -o out/ --jobs 2 --resume
    """
    from ..logs.workers import is_many

    if as_json and out == "-":
        raise JetRulerError(
            "--json: expected -o FILE too, found none: summary and result cannot share stdout"
        )
    bench = load(bench_path)
    options["form"] = form_of(given, bench)
    several = len(logs) > 1 or is_many(logs[0], out)
    if not several and (jobs or resume or cluster):
        raise JetRulerError(
            "--jobs, --resume, --cluster: expected many logs and a folder as -o, found one file"
        )
    if several:
        options |= {"jobs": jobs, "resume": resume, "cluster": cluster, "events": events}
        convert_many(logs, bench, out, as_json, options | {"inputs": [bench_path]})
        return
    from ..logs.convert_log import convert

    reject_overlapping_paths(
        {"-o": out, "--events": events}, {"the log": logs[0], "the bench": bench_path}
    )
    with progress_bar(logs[0]) as progress:
        summary = convert(logs[0], bench, out, events=events, progress=progress, **options)
    if as_json:
        show_json(summary.to_dict())
    else:
        rows = [f"{many(summary.rows, 'row')} in {out}"] if out != "-" else []
        show([*summary.content, *rows], err=True)


def convert_many(
    logs: Sequence[str], bench: Bench, out: str, as_json: bool, options: dict[str, Any]
) -> None:
    """Convert, then say what came of it; exit code 1 if a log failed."""
    from ..logs.convert_all import convert_all

    if out == "-":
        raise JetRulerError("-o: expected a folder for the results of many logs, found none")
    with fleet_bar() as progress:
        fleet = convert_all(logs, bench, out, progress=progress, **options)
    if as_json:
        show_json(fleet.to_dict())
    else:
        show(fleet.content, err=True)
    if fleet.failed:
        sys.exit(1)


@contextmanager
def fleet_bar() -> Iterator[FleetProgress | None]:
    """One bar for all logs on stderr, by their bytes, where stderr is a terminal."""
    with bar("converting") as draw:
        yield draw and (lambda read, total, outcome: draw(read, total, outcome.task.log.name))


@click.command()
@click.argument("channels", nargs=-1, metavar="[CHANNEL...]")
@click.option(
    "-o",
    "--output",
    "out",
    default="report.html",
    show_default=True,
    metavar="FILE",
    callback=standard,
)
@click.option("--at", multiple=True, metavar="RAW", help="Work out this raw value (repeatable).")
@click.option("--log", metavar="LOG", help="Include this log, its trips and its findings.")
@click.option(
    "--marks",
    "marks",
    multiple=True,
    metavar="C=FILE",
    help="Calibrate channel C with these marks.",
)
@click.option(
    "--with", "changes", multiple=True, metavar="P=VALUE", help="Add a budget with another part."
)
@click.option(
    "--compare", "compared", multiple=True, metavar="A=B", help="Compare two channels of --log."
)
@click.option(
    "--to",
    "form",
    type=click.Choice(["html", "md", "tex"]),
    help="Format; by default from FILE's name.",
)
@click.option("--date", "dated", is_flag=True, help="Include today's date.")
@saying_log_options
@bench_option
def report_command(
    channels: tuple[str, ...],
    out: str,
    at: tuple[str, ...],
    log: str | None,
    marks: tuple[str, ...],
    changes: tuple[str, ...],
    compared: tuple[str, ...],
    form: str | None,
    dated: bool,
    given: Given,
    bench_path: str,
) -> None:
    """Write a report of the bench, or of some channels: circuits, rulers, worked solutions, curves,
    budgets, findings, parameters; with a log, marks or better parts if you have them.

    \b
    jetruler report --log roast.csv --marks bean=bath.csv
    jetruler report bean --at 1880 --at 400 --with "r0 = 100 kohm ± 1 %"
    jetruler report bean --to tex -o bean.tex
    """
    from ..benchfile.marks_file import read_marks
    from ..files import reject_overlapping_paths
    from ..show.report import report
    from .explain import changes_of

    folder_of(out)
    inputs = {"the bench": bench_path} | ({} if log is None else {"the log": log})
    reject_overlapping_paths({"-o": out}, inputs)
    bench = load(bench_path)
    chosen = [
        bench.derived[name] if name in bench.derived else channel_of(bench, name)
        for name in channels
    ] or list(bench.every_channel.values())
    points = [raw_from(chosen[0], text, "--at") for text in at]
    found = {}
    for text in marks:
        name, equals, path = text.partition("=")
        if not equals:
            raise JetRulerError(f"--marks: expected NAME=FILE, as in bean=bath.csv, found {text!r}")
        found[channel_of(bench, name).name] = read_marks(path)
    pairs = [text.partition("=") for text in compared]
    for text, (_, equals, _) in zip(compared, pairs, strict=True):
        if not equals:
            raise JetRulerError(f"--compare: expected A=B, as in bean=bean2, found {text!r}")
    made = report(
        bench,
        out,
        channels=channels,
        at=points,
        log=log,
        marks=found,
        changes=changes_of(changes),
        compared=[(first, second) for first, _, second in pairs],
        log_format=form_of(given, bench),
        form=form,  # type: ignore[arg-type]
        bench_file=bench_path,
        dated=dated,
    )
    for written in made:
        click.echo(written)
