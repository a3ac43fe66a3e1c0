"""`jetruler convert`: a log of raw counts into engineering values."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

import click

from ..core.errors import JetRulerError
from .common import bench_option, load

if TYPE_CHECKING:
    from ..logs.convert_log import Progress
    from ..logs.source import LogFormat
    from ..logs.summary import Summary

FORMATS = ("csv", "jsonl", "parquet")
DELIMITERS = {"comma": ",", "semicolon": ";", "tab": "\t"}


def format_options(command: Callable[..., None]) -> Callable[..., None]:
    """The options that say how a log is written."""
    for option in (
        click.option(
            "--no-header", is_flag=True, help="The first line is data; columns are 1, 2, …"
        ),
        click.option("--decimal-comma", is_flag=True, help="Numbers have a decimal comma."),
        click.option("--delimiter", type=click.Choice(list(DELIMITERS)), help="Else found out."),
        click.option(
            "--format", "kind", type=click.Choice(FORMATS), help="Of a log whose name says nothing."
        ),
    ):
        command = option(command)
    return command


def log_format(
    delimiter: str | None, decimal_comma: bool, no_header: bool, kind: str | None = None
) -> LogFormat:
    """What those options say."""
    from ..logs.source import LogFormat

    decimal = "," if decimal_comma else "."
    return LogFormat(DELIMITERS.get(delimiter or ""), decimal, header=not no_header, kind=kind)


@click.command()
@click.argument("logs", nargs=-1, required=True, metavar="LOG...")
@click.option(
    "-o", "--output", "out", default="-", metavar="FILE", help="Result, or a folder; - is stdout."
)
@click.option(
    "--to", "out_kind", type=click.Choice(FORMATS), help="Format of the result; else by its name."
)
@click.option("--only", multiple=True, metavar="CHANNEL", help="Only this channel (repeatable).")
@click.option("--keep-raw", is_flag=True, help="Keep the raw columns beside the values.")
@click.option("--uncertainty", is_flag=True, help="Add ± at 95 % behind every value.")
@click.option("--events", metavar="FILE", help="Write each trip's on and off to this CSV file.")
@click.option("--jobs", type=click.IntRange(1), metavar="N", help="Many logs: N at a time.")
@click.option("--resume", is_flag=True, help="Many logs: leave out those that are done already.")
@click.option("--cluster", metavar="ADDRESS", help="Many logs: on Dask, tcp://host:port or local.")
@click.option("--threads", type=click.IntRange(1), metavar="N", help="For each log; else by cores.")
@click.option(
    "--memory",
    type=click.FloatRange(1),
    default=128.0,
    show_default=True,
    metavar="MB",
    help="For batches under way, beside the programme's own.",
)
@click.option("--json", "as_json", is_flag=True, help="The summary as JSON on stdout; needs -o.")
@format_options
@bench_option
def command(
    logs: tuple[str, ...],
    out: str,
    events: str | None,
    jobs: int | None,
    resume: bool,
    cluster: str | None,
    delimiter: str | None,
    decimal_comma: bool,
    no_header: bool,
    kind: str | None,
    as_json: bool,
    bench_path: str,
    **options: Any,
) -> None:
    """Convert LOG through the bench: CSV, JSON Lines or Parquet, also .gz or .zst; - is stdin.

    The result has the columns that no channel uses, then one column a channel, then `flags`.
    A summary per channel goes to stderr. Several logs, a folder, or a pattern with * or ** need a
    folder as output, and their results stand in it as the logs do.

    \b
    jetruler convert roast.csv -b bench.toml -o out.parquet
    jetruler convert 'logs/**/*.parquet' -o out/ --jobs 2 --resume
    """
    from ..fleet.plan import is_many

    if as_json and out == "-":
        raise JetRulerError("--json: the summary and the result cannot share stdout; add -o FILE")
    options["form"] = log_format(delimiter, decimal_comma, no_header, kind)
    bench = load(bench_path)
    many = len(logs) > 1 or is_many(logs[0], out)
    if not many and (jobs or resume or cluster):
        raise JetRulerError("--jobs, --resume and --cluster are for many logs; name a folder as -o")
    if many:
        from .convert_many import convert_many

        options |= {"jobs": jobs, "resume": resume, "cluster": cluster, "events": events}
        convert_many(logs, bench, out, as_json, options | {"inputs": [bench_path]})
        return
    from ..logs.convert_log import convert

    with progress_bar(logs[0]) as progress:
        summary = convert(logs[0], bench, out, events=events, progress=progress, **options)
    if as_json:
        click.echo(json.dumps(summary.as_dict(), indent=2, ensure_ascii=False))
    else:
        show_summary(summary)
        if out != "-":
            click.echo(f"{summary.rows} rows in {out}", err=True)


@contextmanager
def progress_bar(log: str) -> Iterator[Progress | None]:
    """A bar on stderr for logs that take a while, where stderr is a terminal."""
    if not sys.stderr.isatty():
        yield None
        return
    from rich.console import Console
    from rich.progress import Progress as Bar

    with Bar(console=Console(stderr=True), transient=True) as bar:
        task = bar.add_task(log, total=None)
        yield lambda done, total: bar.update(task, completed=done, total=total)


def show_summary(summary: Summary) -> None:
    """A row a channel, then what was skipped or could not be read."""
    from rich.console import Console
    from rich.table import Table

    table = Table(box=None, pad_edge=False, header_style="bold")
    for heading in ("channel", "rows", "smallest", "largest", "mean", "flags"):
        table.add_column(heading, justify="left" if heading in ("channel", "flags") else "right")
    for name, found in summary.channels.items():
        shown = found.channel.shown
        flags = ", ".join(f"{flag} {count}" for flag, count in found.flags.items())
        labels = found.channel.ruler.described(found.smallest) is not None
        mean = "–" if labels else shown(found.mean)
        ends = [shown(found.smallest), shown(found.largest), mean]
        table.add_row(name, str(found.rows), *ends, flags or "–")
    console = Console(stderr=True, highlight=False, soft_wrap=True)
    console.print(table)
    for note in summary.notes():
        console.print(note, markup=False)
