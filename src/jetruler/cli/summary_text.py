"""What a conversion says while it runs and when it is done, on stderr."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

from .streams import echo
from .tables import bar, print_table

if TYPE_CHECKING:
    from ..logs.batches import Progress
    from ..logs.summary import Summary


@contextmanager
def progress_bar(log: str) -> Iterator[Progress | None]:
    """A bar on stderr for logs that take a while, where stderr is a terminal."""
    with bar(log) as draw:
        yield draw and (lambda done, total: draw(done, total, log))


def show_summary(summary: Summary) -> None:
    """A row a channel, then what was skipped or could not be read."""
    rows = []
    for name, found in summary.channels.items():
        shown = found.channel.shown
        flags = ", ".join(f"{flag} {count}" for flag, count in found.flags.items())
        labels = found.channel.ruler.label(found.smallest) is not None
        mean = "–" if labels else shown(found.mean)
        ends = [shown(found.smallest), shown(found.largest), mean]
        rows.append([name, str(found.rows), *ends, flags or "–"])
    headings = ("channel", "rows", "smallest", "largest", "mean", "flags")
    print_table(headings, rows, left=("channel", "flags"), err=True)
    for note in summary.notes():
        echo(note, err=True)
