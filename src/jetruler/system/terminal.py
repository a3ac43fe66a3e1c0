"""The terminal that somebody sits at, also while data comes through a pipe."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator
from contextlib import contextmanager, suppress

#: Its name where no function tells it: the console of a Windows program.
CONSOLE = "CONIN$"


def _name() -> str:
    return os.ctermid() if hasattr(os, "ctermid") else CONSOLE


def has_keyboard() -> bool:
    """Whether there is a terminal to type at: standard input, or the one behind a pipe."""
    if sys.stdin is not None and sys.stdin.isatty():
        return True
    with suppress(OSError):
        os.close(os.open(_name(), os.O_RDWR))
        return True
    return False


@contextmanager
def keyboard() -> Iterator[None]:
    """Put the terminal in the place of standard input, until it is left. Whoever reads a pipe there
    has a descriptor of its own by then."""
    if sys.stdin is not None and sys.stdin.isatty():
        yield
        return
    kept, terminal = os.dup(0), os.open(_name(), os.O_RDWR)
    os.dup2(terminal, 0)
    os.close(terminal)
    try:
        yield
    finally:
        os.dup2(kept, 0)
        os.close(kept)
