"""What a conversion says while it runs and when it is done, on stderr."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

from .streams import console, print_table

if TYPE_CHECKING:
    from ..logs.batches import Progress
    from ..logs.summary import Summary


@contextmanager
def progress_bar(log: str) -> Iterator[Progress | None]:
    """A bar on stderr for logs that take a while, where stderr is a terminal."""
    if not sys.stderr.isatty():
        yield None
        return
    from rich.progress import Progress as Bar

    with Bar(console=console(err=True), transient=True) as bar:
        task = bar.add_task(log, total=None)
        yield lambda done, total: bar.update(task, completed=done, total=total)


def show_summary(summary: Summary) -> None:
    """A row a channel, then what was skipped or could not be read."""
    from rich.table import Table

    table = Table(box=None, pad_edge=False, header_style="bold")
    for heading in ("channel", "rows", "smallest", "largest", "mean", "flags"):
        table.add_column(heading, justify="left" if heading in ("channel", "flags") else "right")
    for name, found in summary.channels.items():
        shown = found.channel.shown
        flags = ", ".join(f"{flag} {count}" for flag, count in found.flags.items())
        labels = found.channel.ruler.label(found.smallest) is not None
        mean = "–" if labels else shown(found.mean)
        ends = [shown(found.smallest), shown(found.largest), mean]
        table.add_row(name, str(found.rows), *ends, flags or "–")
    out = console(err=True)
    print_table(out, table)
    for note in summary.notes():
        out.print(note, markup=False)
