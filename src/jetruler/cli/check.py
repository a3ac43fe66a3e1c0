"""`jetruler check`: findings in the bench file, and between it and a log."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from .common import bench_option, load
from .streams import show_json

if TYPE_CHECKING:
    from ..core.survey.finding import Finding

#: Of error, warning and note.
_COLORS = ((0xC8, 0x32, 0x1E), (0xB9, 0x7A, 0x00), (0x1F, 0x6F, 0xB4))


@click.command()
@click.option("--log", "log_path", metavar="LOG", help="Check it against this log too.")
@click.option("--json", "as_json", is_flag=True, help="For programs.")
@bench_option
def command(log_path: str | None, as_json: bool, bench_path: str) -> None:
    """Findings in the bench file, and between it and a log: each with its evidence and its remedy.

    Exit code 1 if one of them is an error.

    \b
    jetruler check
    jetruler check --log roast.csv
    """
    from ..benchfile.load import listed_converters
    from ..core.check.rules import check
    from . import FOUND

    bench = load(bench_path)
    listed = listed_converters(bench_path, bench)
    found = check(bench, listed)
    if log_path is not None:
        from ..logs.check_log import check_log
        from .summary_text import progress_bar

        with progress_bar(log_path) as progress:
            found += check_log(log_path, bench, listed, progress=progress)
        found.sort(key=lambda finding: finding.severity)
    if as_json:
        show_json([as_dict(f) for f in found])
    else:
        show(found, bench_path, len(bench.channels))
    if any(not finding.severity for finding in found):
        raise SystemExit(FOUND)


def show(found: list[Finding], bench_path: str, channels: int) -> None:
    """One below the other, with what was found, why it matters and what to do about it."""
    from .streams import echo_lines

    for finding in found:
        severity = finding.severity.name.lower()
        head = click.style(f"{severity:<7}", fg=_COLORS[finding.severity], bold=True)
        echo_lines(f"{head} {click.style(finding.where, bold=True)} ({finding.rule})")
        echo_lines(f"        {finding.what}")
        if finding.why:
            echo_lines(f"        why: {finding.why}")
        echo_lines(f"        remedy: {finding.remedy}")
        click.echo()
    if not found:
        click.echo(f"{bench_path}: nothing found in {channels} channels")
        return
    many = [sum(f.severity == severity for f in found) for severity in range(3)]
    words = (f"{n} {word}{'s' * (n != 1)}" for n, word in zip(many, _WORDS, strict=True))
    click.echo(f"{bench_path}: {', '.join(words)}")


_WORDS = ("error", "warning", "note")


def as_dict(finding: Finding) -> dict[str, str]:
    """For JSON."""
    return {
        "rule": finding.rule,
        "severity": finding.severity.name.lower(),
        "where": finding.where,
        "found": finding.what,
        "why": finding.why,
        "remedy": finding.remedy,
    }
