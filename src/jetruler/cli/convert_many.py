"""`jetruler convert` for many logs: one bar, one summary, and every log that failed by name."""

from __future__ import annotations

import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

from ..core.error_types import JetRulerError
from .progress import bar
from .streams import show, show_json

if TYPE_CHECKING:
    from ..core.model.channel import Bench
    from ..fleet.convert_logs import FleetProgress


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
