"""What the commands write: text as the stream's encoding has it, documents in UTF-8.

A document is what another program reads: JSON, CSV, code.
"""

from __future__ import annotations

import codecs
import io
import os
import sys
from collections.abc import Iterator
from io import RawIOBase
from typing import Any, cast

from rich.console import Console
from rich.text import Text

from ..core.model.result import Content, Item, TextTable
from ..show.printed import MARK, lines, table_width
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
    return text if text.isascii() else encoded(text).decode(encoding())


def encoded(text: str) -> bytes:
    """The text as standard output will have it."""
    return text.encode(encoding(), PLAIN)


def encoding() -> str:
    """The encoding of standard output; that of standard error while the live view stands there and
    takes what is printed."""
    for stream in (sys.stdout, sys.__stderr__):
        if found := getattr(stream, "encoding", None):
            return str(found)
    return "utf-8"


class _Stream(Console):
    """Rich on a standard stream; a reader that has gone is told to whoever writes."""

    def on_broken_pipe(self) -> None:
        raise


def console(err: bool = False) -> Console:
    """Rich on standard output, or on standard error; without any style where NO_COLOR is set."""
    plain = bool(os.environ.get("NO_COLOR"))
    return _Stream(
        stderr=err,
        color_system=None if plain else "auto",
        highlight=False,
        markup=False,
        emoji=False,
    )


def echo(text: str | Text = "", err: bool = False) -> None:
    """Print a line; the styles are left out where they are not wanted."""
    line = Text(text) if isinstance(text, str) else text
    console(err).print(line, soft_wrap=True)


def show(content: Content, err: bool = False) -> None:
    """Print what a result prints. On a terminal long sentences are broken between words, and a
    table leaves its optional columns out where the window is too narrow."""
    out = console(err)
    if not out.is_terminal:
        for line in lines(content, as_shown):
            out.print(line, soft_wrap=True)
        return
    for part in content:
        if isinstance(part, TextTable):
            wide = part.optional and table_width(part, as_shown) > out.width
            part = part.narrowed() if wide else part
        indent = MARK + 1 if isinstance(part, Item) else None
        for line in lines([part], as_shown):
            for piece in _broken(line, out, indent) if not isinstance(part, TextTable) else [line]:
                out.print(piece, soft_wrap=True)


def _broken(line: Text, out: Console, indent: int | None) -> Iterator[Text]:
    """A line in pieces that the window has room for; what stands in columns stays whole."""
    plain = line.plain
    columns = indent is None and "  " in plain.strip()
    if line.cell_len <= out.width or columns or out.width < 40:
        yield line
        return
    deep = len(plain) - len(plain.lstrip()) + 2 if indent is None else indent
    first, *rest = line.wrap(out, out.width - deep)
    yield first
    for piece in rest:
        yield Text(" " * deep) + piece


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
