"""`jetruler convert` for many logs: one bar, one summary, and every log that failed by name."""

from __future__ import annotations

import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ..core.error_types import JetRulerError
from .streams import show_json
from .summary_text import show_summary
from .tables import bar

if TYPE_CHECKING:
    from ..core.model.channel import Bench
    from ..fleet.convert_logs import Fleet, FleetProgress

#: How many logs are named where many have the same to be said of them.
NAMED = 3


def convert_many(
    logs: Sequence[str], bench: Bench, out: str, as_json: bool, options: dict[str, Any]
) -> None:
    """Convert, then say what came of it; exit code 1 if a log failed."""
    from ..fleet.convert_logs import convert_all

    if out == "-":
        raise JetRulerError("many logs need a folder for their results; add -o FOLDER")
    with fleet_bar() as progress:
        fleet = convert_all(logs, bench, out, progress=progress, **options)
    if as_json:
        show_json(as_dict(fleet))
    else:
        show(fleet, out)
    if fleet.failed:
        sys.exit(1)


@contextmanager
def fleet_bar() -> Iterator[FleetProgress | None]:
    """One bar for all logs on stderr, by their bytes, where stderr is a terminal."""
    with bar("converting") as draw:
        yield draw and (lambda read, total, outcome: draw(read, total, outcome.task.log.name))


def show(fleet: Fleet, out: str) -> None:
    """The summary over all logs, then what was skipped, what differs and what failed."""
    if fleet.done:
        show_summary(fleet.summary)
    for name, kinds in fleet.mixed.items():
        told = ", ".join(f"{kind} in {_some(logs)}" for kind, logs in sorted(kinds.items()))
        click.echo(f"column {name!r} has not the same type everywhere: {told}", err=True)
    skipped = f", {len(fleet.skipped)} skipped: done already" if fleet.skipped else ""
    rows = fleet.summary.rows
    click.echo(f"{rows} rows of {_logs(len(fleet.done))} in {out}{skipped}", err=True)
    if fleet.failed:
        click.echo(f"{_logs(len(fleet.failed))} failed:", err=True)
        here = f"{Path.cwd()}/"
        for error in fleet.failed.values():
            click.echo(f"  {error.replace(here, '')}", err=True)


def as_dict(fleet: Fleet) -> dict[str, Any]:
    """For JSON."""
    return {
        "done": [str(log) for log in fleet.done],
        "skipped": [str(log) for log in fleet.skipped],
        "failed": {str(log): error for log, error in fleet.failed.items()},
        "mixed_types": {
            name: {kind: [str(log) for log in logs] for kind, logs in kinds.items()}
            for name, kinds in fleet.mixed.items()
        },
        "summary": fleet.summary.as_dict(),
    }


def _some(logs: list[Path]) -> str:
    """A few names; a number for very many."""
    if len(logs) > NAMED:
        return f"{len(logs)} logs"
    return ", ".join(log.name for log in logs)


def _logs(count: int) -> str:
    return "1 log" if count == 1 else f"{count} logs"
