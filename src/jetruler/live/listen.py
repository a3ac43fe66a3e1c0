"""Some seconds, or some samples, of a port: for those who want to look at it and no more."""

from __future__ import annotations

import time

from ..core.model.log_format import LogFormat
from .lines import Lines
from .sources import GrowingFile, Source, StandardInput, source_named
from .stream_errors import SourceEnded, SourceGone, StreamError

#: Seconds without a line after which nobody waits any longer.
PATIENCE = 10.0
#: Lines that show what a port prints.
FEW = 4


def listen(
    name: str, form: LogFormat, *, seconds: float | None = None, lines: int | None = None
) -> bytes:
    """The whole lines that come from a source: for some seconds from the first on, or so many.
    Raises `StreamError` where nothing comes."""
    source, cut = source_named(name, form, follow=False), Lines()
    found: list[bytes] = []
    came, begun, first = 0, time.monotonic(), None
    try:
        source.open()
        cut.begin(source.joined_late)
        while True:
            now = time.monotonic()
            if first is None and now - begun > PATIENCE:
                raise StreamError(f"{name}: nothing came in {PATIENCE:g} s; check --baud and wires")
            if first is not None and seconds is not None and now - first > seconds:
                break
            whole = cut.add(source.read())
            first = now if whole and first is None else first
            found.append(whole)
            came += whole.count(b"\n")
            if lines is not None and came >= lines:
                break
    except SourceEnded:
        found.append(cut.ended())
    except SourceGone as gone:
        if not came:
            raise StreamError(f"{name}: {gone}") from None
    finally:
        source.close()
    block = b"".join(found)
    if lines is not None:
        block = b"".join(line + b"\n" for line in block.split(b"\n")[:-1][:lines])
    return block


def head_of(source: Source, form: LogFormat) -> bytes:
    """The first whole lines of a source, which come again where it is a file or a pipe."""
    if isinstance(source, StandardInput | GrowingFile):
        head = source.peek()
        return head[: head.rfind(b"\n") + 1]
    return listen(source.name, form, lines=FEW)
