"""What the commands write: text as the stream's encoding has it, documents in UTF-8, a bar while
something takes long."""

from __future__ import annotations

import codecs
import io
import os
import re
import sys
import time
import unicodedata
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from io import RawIOBase
from typing import TYPE_CHECKING, Any, cast

from rich.console import Console
from rich.text import Text

from ..core.error_types import printable
from ..core.result import Content, Item, TextTable
from ..show.printed import MARK, lines, table_width

if TYPE_CHECKING:
    from ..samples.passes import Progress as LogProgress


#: The error handler's name.
PLAIN = "jetruler.plain"
#: ASCII, as an encoding.
ASCII = "jetruler_ascii"
_SIGNS = dict(zip("−–—‐‑·×∙•✗", "-----*x**x", strict=True))
_SIGNS |= dict(zip("▕▏▼▲█░▒▓″′‘’“”", "||v^#.:#\"'''\"\"", strict=True))
_SIGNS |= dict(
    pair.split(maxsplit=1)  # µ and Ω are there twice: as a unit's sign and as a letter
    for pair in [
        "± +/-",
        "° deg",
        "Ω ohm",
        "Ω ohm",
        "µ u",
        "μ u",
        "… ...",
        "÷ /",
        "→ ->",
        "← <-",
        "≤ <=",
        "≥ >=",
        "≠ !=",
        "≈ ~",
        "∞ inf",
        "∥ ||",
        "√ sqrt",
        "Σ sum",
        "Δ d",
        "ß ss",
        "æ ae",
        "ø o",
        "ᵢ i",
    ]
)


#: What is in the same cell of a table, and the spaces up to the next one.
_REST_OF_CELL = re.compile(r"((?:[!-~]| (?! )){0,40})(  +)")


def _superscript(sign: str) -> bool:
    return unicodedata.decomposition(sign).startswith("<super>")


def plain_form(sign: str) -> str:
    """One sign in ASCII; what has no plain form is escaped, so that it can still be told.

    Examples
    --------
    >>> [plain_form(sign) for sign in "Ω−═┴é温"]
    ['ohm', '-', '=', '+', 'e', '\\\\u6e29']
    """
    if sign.isascii():
        return sign
    if sign in _SIGNS:
        return _SIGNS[sign]
    name = unicodedata.name(sign, "")
    if name.startswith("BOX DRAWINGS"):
        across = any(way in name for way in ("HORIZONTAL", "LEFT", "RIGHT"))
        down = any(way in name for way in ("VERTICAL", "UP", "DOWN"))
        return "+" if across and down else "|" if down else "=" if "DOUBLE" in name else "-"
    if name.startswith("GREEK") and "LETTER " in name:
        return name.rpartition("LETTER ")[2].partition(" ")[0].lower().replace("lamda", "lambda")
    if "BLOCK" in name or name.startswith(("BRAILLE", "QUADRANT")):
        return "#"
    letters = unicodedata.normalize("NFKD", sign)
    bare = "".join(plain_form(c) for c in letters if not unicodedata.combining(c) and c != sign)
    return bare or ascii(sign)[1:-1]


def _replace(error: UnicodeError) -> tuple[str | bytes, int]:
    """Put the plain form in; the spaces behind it give way, so that columns stay where they are."""
    if not isinstance(error, UnicodeEncodeError):
        raise error
    text, at, end = error.object, error.start, error.end
    made = ""
    while at < end:
        sign = text[at]
        if _superscript(sign):  # 10⁻³ is 10^-3, also where the encoding has ³
            made += "^"
            while at < len(text) and _superscript(text[at]):
                made += plain_form(text[at]) if text[at] != "⁻" else "-"
                at += 1
            continue
        made += plain_form(sign)
        at += 1
    end = max(at, end)
    cell = _REST_OF_CELL.match(text, end)
    longer = len(made) - (end - error.start)
    if cell is None or longer <= 0:
        return made, end
    return made + cell[1], cell.end(1) + min(longer, len(cell[2]) - 1)


codecs.register_error(PLAIN, _replace)


def _named_ascii(name: str) -> codecs.CodecInfo | None:
    """ASCII by another name: Click takes a stream in ASCII for a mistake and writes UTF-8."""
    if name != ASCII:
        return None
    known = codecs.lookup("ascii")
    return codecs.CodecInfo(
        known.encode,
        known.decode,
        incrementalencoder=known.incrementalencoder,
        incrementaldecoder=known.incrementaldecoder,
        name=ASCII,
    )


codecs.register(_named_ascii)


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


def detach_stdout() -> None:
    """What Python still holds for a closed output would fail again at exit."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), 1)


def as_shown(text: str) -> str:
    """The text as standard output will show it: what is laid out in columns is measured so."""
    return text if text.isascii() else encoded(text).decode(encoding())


def encoded(text: str) -> bytes:
    """The text as standard output will have it."""
    return text.encode(encoding(), PLAIN)


def encoding() -> str:
    """The encoding of standard output; that of standard error while the live view is there and
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
    """Print a line, or several; the styles are left out where they are not wanted."""
    if isinstance(text, str):
        text = Text("\n".join(map(printable, text.split("\n"))))
    console(err).print(text, soft_wrap=True)


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
    """A line in pieces that the window has room for; what is in columns stays whole."""
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


#: The palette: jet body, ivory ticks, amber cursor.
JET, IVORY, AMBER = "#16140f", "#f4ecd8", "#ffb000"
BODY, CURSOR = f"{IVORY} on {JET}", f"bold {AMBER} on {JET}"
