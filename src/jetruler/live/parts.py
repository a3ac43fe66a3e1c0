"""What a session is made of, from what somebody names."""

from __future__ import annotations

from collections.abc import Iterable

from ..core.model.channel import Bench
from ..core.model.log_format import LogFormat
from ..samples.passes import columns_of
from .paced import Paced, speed_of
from .session import Parts
from .sources import Base, GrowingFile, Lined, Source, StandardInput, source_named
from .stream_errors import StreamError


def parts_for(
    source: str | Iterable[str] | Source,
    bench: Bench,
    form: LogFormat | None = None,
    *,
    follow: bool = False,
    pace: str | None = None,
) -> Parts:
    """What a session on a source is made of. pace: of a recorded log. Raises `StreamError`."""
    form = form or bench.log or LogFormat()
    speed = None if pace is None else speed_of(pace)
    opened: Source
    if isinstance(source, str):
        opened = source_named(source, form, follow)
    elif isinstance(source, Base):
        opened = source  # type: ignore[assignment]
    else:
        opened = Lined(source)  # type: ignore[arg-type]
    if source == "none":
        form = LogFormat(format="jsonl", stale=form.stale, line_end=form.line_end)
    if isinstance(opened, GrowingFile) and speed is not None:
        opened = Paced(opened, speed, form, columns_of(bench))
    elif pace is not None and not isinstance(opened, GrowingFile):
        raise StreamError(f"--pace: {opened.name} has its own; a file is right")
    arrives = not (
        (isinstance(opened, GrowingFile) and not opened.follows)
        or isinstance(opened, Paced)
        or (isinstance(opened, Lined) and opened.is_whole)
    )
    head = b""
    if isinstance(opened, StandardInput | GrowingFile | Lined | Paced):
        head = opened.peek()
    return Parts(None, bench, form, opened, {}, head=head, arrives=arrives)
