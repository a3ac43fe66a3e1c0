"""A bar on standard error while something takes long."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

from .streams import as_shown, console

if TYPE_CHECKING:
    from ..samples.batches import Progress as LogProgress

#: Seconds after which a bar is worth showing.
SOON = 0.2

#: Takes what is done, of how much (if that is known), and what is being done.
Draw = Callable[[float, float | None, str], None]


@contextmanager
def bar(title: str) -> Iterator[Draw | None]:
    """A bar that goes when the work is done; None where standard error is no terminal."""
    out = console(err=True)
    if not out.is_terminal or out.is_dumb_terminal:
        yield None
        return
    from rich.progress import BarColumn, DownloadColumn, Progress, TaskProgressColumn, TextColumn

    named = TextColumn("{task.description}", markup=False)
    progress = Progress(
        named, BarColumn(30), TaskProgressColumn(), DownloadColumn(), console=out, transient=True
    )
    task = progress.add_task(title, total=None)
    begun = time.monotonic()

    def draw(done: float, total: float | None, name: str) -> None:
        if time.monotonic() - begun < SOON:
            return
        progress.start()
        progress.update(task, completed=done, total=total, description=as_shown(name or title))

    try:
        yield draw
    finally:
        progress.stop()


@contextmanager
def progress_bar(log: str) -> Iterator[LogProgress | None]:
    """A bar for a log that takes a while."""
    with bar(log) as draw:
        yield draw and (lambda done, total: draw(done, total, log))
