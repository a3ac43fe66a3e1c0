"""`jetruler convert`: a log of raw values into engineering values."""

from __future__ import annotations

from typing import Any

import click

from ..core.error_types import JetRulerError
from ..files import keep_apart
from .common import bench_option, load
from .log_options import Given, form_of, log_options
from .progress import progress_bar
from .streams import show, show_json

#: Formats of a result.
KINDS = ("csv", "jsonl", "parquet")


@click.command()
@click.argument("logs", nargs=-1, required=True, metavar="LOG...")
@click.option(
    "-o", "--output", "out", default="-", metavar="FILE", help="Result, or a folder; - is stdout."
)
@click.option(
    "--to", "out_kind", type=click.Choice(KINDS), help="Format of the result; else by its name."
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
@log_options
@bench_option
def command(
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
    bench = load(bench_path)
    options["form"] = form_of(given, bench)
    many = len(logs) > 1 or is_many(logs[0], out)
    if not many and (jobs or resume or cluster):
        raise JetRulerError("--jobs, --resume and --cluster are for many logs; name a folder as -o")
    if many:
        from .convert_many import convert_many

        options |= {"jobs": jobs, "resume": resume, "cluster": cluster, "events": events}
        convert_many(logs, bench, out, as_json, options | {"inputs": [bench_path]})
        return
    from ..logs.convert_log import convert

    keep_apart({"-o": out, "--events": events}, {"the log": logs[0], "the bench": bench_path})
    with progress_bar(logs[0]) as progress:
        summary = convert(logs[0], bench, out, events=events, progress=progress, **options)
    if as_json:
        show_json(summary.to_dict())
    else:
        rows = [f"{summary.rows} rows in {out}"] if out != "-" else []
        show([*summary.content, *rows], err=True)
