"""`jetruler check`: findings in the bench file, and between it and a log."""

from __future__ import annotations

import click

from .common import bench_option, load
from .log_options import Given, form_of, saying_log_options
from .streams import show, show_json


@click.command()
@click.option("--log", "log_path", metavar="LOG", help="Check it against this log too.")
@click.option("--json", "as_json", is_flag=True, help="For programs.")
@saying_log_options
@bench_option
def command(log_path: str | None, as_json: bool, given: Given, bench_path: str) -> None:
    """Findings in the bench file, and between it and a log: each with its evidence and its remedy.

    Exit code 1 if one of them is an error.

    \b
    jetruler check
    jetruler check --log roast.csv
    """
    from ..benchfile.load import listed_converters
    from ..core.check.rules import check
    from ..core.survey.finding import Findings
    from . import FOUND

    bench = load(bench_path)
    listed = listed_converters(bench_path, bench)
    found = check(bench, listed)
    if log_path is not None:
        from ..logs.check_log import check_log
        from .progress import progress_bar

        with progress_bar(log_path) as progress:
            logged = check_log(
                log_path, bench, listed, form=form_of(given, bench), progress=progress
            )
        found = Findings.of([*found, *logged])
    if as_json:
        show_json(found.to_dict())
    else:
        *lines, said = found.content
        many = "" if found else f" in {len(bench.channels)} channels"
        show([*lines, f"{bench_path}: {said}{many}"])
    if any(not finding.severity for finding in found):
        raise SystemExit(FOUND)
