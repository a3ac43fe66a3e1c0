"""Tables and bars for people, in columns as wide as what stands in them."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import contextmanager
from unicodedata import combining, east_asian_width

import click

from .streams import as_shown, echo

#: Columns of a bar, and seconds between two pictures of it.
_BAR, _EVERY = 30, 0.1


def print_table(
    headings: Sequence[str],
    rows: Sequence[Sequence[str]],
    left: Collection[str] = (),
    err: bool = False,
) -> None:
    """Print a table whole: a window that is too narrow breaks its lines, and cuts no cell.

    Parameters
    ----------
    headings, rows : a heading and a cell for each column.
    left : headings of the columns that begin at the left; numbers end at the right.
    err : whether it goes to standard error.
    """
    cells = [[as_shown(cell) for cell in row] for row in (headings, *rows)]
    widths = [max(map(width, column)) for column in zip(*cells, strict=True)]
    for i, row in enumerate(cells):
        parts = []
        for heading, cell, wide in zip(headings, row, widths, strict=True):
            blanks = " " * (wide - width(cell))
            parts.append(cell + blanks if heading in left else blanks + cell)
        line = "  ".join(parts).rstrip()
        echo(click.style(line, bold=True) if i == 0 else line, err=err)


def width(text: str) -> int:
    """How many columns of a terminal a text takes."""
    if text.isascii():
        return len(text)
    wide = sum(east_asian_width(sign) in ("W", "F") for sign in text)
    return len(text) + wide - sum(combining(sign) > 0 for sign in text)


@contextmanager
def bar(title: str) -> Iterator[Callable[[float, float | None, str], None] | None]:
    """A bar on standard error while something takes long; None where that is no terminal. It takes
    what is done, of how much (if that is known), and what is being done."""
    if not sys.stderr.isatty():
        yield None
        return
    drawn = 0.0

    def draw(done: float, total: float | None, name: str) -> None:
        nonlocal drawn
        now = time.monotonic()
        if now - drawn < _EVERY:
            return
        drawn = now
        part = min(done / total, 1.0) if total else None
        filled = round(_BAR * part) if part is not None else int(10 * now) % _BAR
        marks = "━" * filled + " " * (_BAR - filled)
        percent = f"{part:4.0%}" if part is not None else f"{done / 1e6:.1f} MB"
        click.echo(f"\r\033[K{name or title} {marks} {percent}", err=True, nl=False)

    try:
        yield draw
    finally:
        if drawn:
            click.echo("\r\033[K", err=True, nl=False)
