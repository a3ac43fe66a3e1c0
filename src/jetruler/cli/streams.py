"""What the commands write: text as the stream's encoding has it, documents in UTF-8.

A document is what another program reads: JSON, CSV, code.
"""

from __future__ import annotations

import codecs
import io
import os
import sys
import textwrap
from io import RawIOBase
from typing import Any, cast

import click

from .plain import ASCII, PLAIN


def settle() -> None:
    """Let no encoding and no closed stream cost any output."""
    _open_what_is_closed()
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            bare = codecs.lookup(stream.encoding).name == "ascii"
            stream.reconfigure(encoding=ASCII if bare else None, errors=PLAIN)


def _open_what_is_closed() -> None:
    """Where a standard stream is closed, put what reads nothing and takes nothing: a command that
    needs it then says so, and no file that is opened later is taken for it."""
    for number, name, mode in ((0, "stdin", "r"), (1, "stdout", "w"), (2, "stderr", "w")):
        if getattr(sys, name) is None:
            flags = os.O_WRONLY if number == 2 else os.O_RDONLY
            if (found := os.open(os.devnull, flags)) != number:
                os.dup2(found, number)
            setattr(sys, name, os.fdopen(number, mode, encoding="utf-8", closefd=False))


def let_go() -> None:
    """What Python still holds for a closed output would fail again at exit."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), 1)


def as_shown(text: str) -> str:
    """The text as standard output will show it: what is laid out in columns is measured so."""
    return text if text.isascii() else encoded(text).decode(sys.stdout.encoding or "utf-8")


def encoded(text: str) -> bytes:
    """The text as standard output will have it."""
    return text.encode(sys.stdout.encoding or "utf-8", PLAIN)


def echo(text: str = "", err: bool = False) -> None:
    """Print; the styles are left out where they are not wanted."""
    click.echo(text, err=err, color=False if os.environ.get("NO_COLOR") else None)


def echo_lines(text: str) -> None:
    """Print lines; on a terminal the long sentences among them are broken between words."""
    if not sys.stdout.isatty():
        echo(text)
        return
    import shutil  # not worth its load to what writes no lines

    width = max(40, shutil.get_terminal_size().columns)
    for line in as_shown(text).splitlines():
        plain = len(click.unstyle(line)) <= width or "  " in line.strip()
        indent = " " * (len(line) - len(line.lstrip()) + 2)
        echo(line if plain else textwrap.fill(line, width, subsequent_indent=indent))


def document(text: str) -> None:
    """Write a whole document to standard output, in UTF-8 and with plain line ends."""
    sys.stdout.flush()
    sys.stdout.buffer.write(text.encode("utf-8", "backslashreplace"))
    sys.stdout.buffer.flush()


def show_json(data: Any) -> None:
    """Write data as a JSON document."""
    import json

    document(json.dumps(data, indent=2, ensure_ascii=False) + "\n")


def raw_stdout() -> RawIOBase:
    """Standard output as it takes bytes at once. A Windows console takes UTF-8 only so."""
    sys.stdout.flush()
    buffer = sys.stdout.buffer  # with PYTHONUNBUFFERED it is none
    return cast(RawIOBase, getattr(buffer, "raw", buffer))
