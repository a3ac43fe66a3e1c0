"""`jetruler convert`: a log of raw counts into engineering values."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

import click

from ..core.errors import JetRulerError
from .common import bench_option, load

if TYPE_CHECKING:
    from ..logs.convert import Progress
    from ..logs.source import LogFormat
    from ..logs.summary import Summary

DELIMITERS = {"comma": ",", "semicolon": ";", "tab": "\t"}


def format_options(command: Callable[..., None]) -> Callable[..., None]:
    """The options that say how a log is written."""
    for option in (
        click.option(
            "--no-header", is_flag=True, help="The first line is data; columns are 1, 2, …"
        ),
        click.option("--decimal-comma", is_flag=True, help="Numbers have a decimal comma."),
        click.option("--delimiter", type=click.Choice(list(DELIMITERS)), help="Else found out."),
    ):
        command = option(command)
    return command


def log_format(delimiter: str | None, decimal_comma: bool, no_header: bool) -> LogFormat:
    """What those options say."""
    from ..logs.source import LogFormat

    decimal = "," if decimal_comma else "."
    return LogFormat(DELIMITERS.get(delimiter or ""), decimal, header=not no_header)


@click.command()
@click.argument("log")
@click.option("-o", "--output", "out", default="-", metavar="FILE", help="Result; - is stdout.")
@click.option("--only", multiple=True, metavar="CHANNEL", help="Only this channel (repeatable).")
@click.option("--keep-raw", is_flag=True, help="Keep the raw columns beside the values.")
@click.option("--uncertainty", is_flag=True, help="Add ± at 95 % behind every value.")
@click.option("--events", metavar="FILE", help="Write each trip's on and off to this CSV file.")
@click.option("--json", "as_json", is_flag=True, help="The summary as JSON on stdout; needs -o.")
@format_options
@bench_option
def command(
    log: str,
    out: str,
    only: tuple[str, ...],
    keep_raw: bool,
    uncertainty: bool,
    events: str | None,
    delimiter: str | None,
    decimal_comma: bool,
    no_header: bool,
    as_json: bool,
    bench_path: str,
) -> None:
    """Convert LOG (CSV, also gzip; - is stdin) through the bench.

    The result has the columns that no channel uses, then one column a channel, then `flags`.
    A summary per channel goes to stderr.

    \b
    jetruler convert roast.csv -b bench.toml -o out.csv
    """
    from ..logs.convert import convert

    if as_json and out == "-":
        raise JetRulerError("--json: the summary and the result cannot share stdout; add -o FILE")
    form = log_format(delimiter, decimal_comma, no_header)
    bench = load(bench_path)
    with progress_bar(log) as progress:
        summary = convert(
            log,
            bench,
            out,
            form=form,
            only=only,
            keep_raw=keep_raw,
            uncertainty=uncertainty,
            events=events,
            progress=progress,
        )
    if as_json:
        click.echo(json.dumps(summary.as_dict(), indent=2, ensure_ascii=False))
    else:
        show_summary(summary, out)


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


def show_summary(summary: Summary, out: str) -> None:
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
    if out != "-":
        console.print(f"{summary.rows} rows in {out}", markup=False)
