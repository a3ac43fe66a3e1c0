"""What a session is made of, from what somebody names; a bench for a board that nobody has
described yet; a log as if it came now."""

from __future__ import annotations

import re
import time
from collections import deque
from collections.abc import Iterable, Sequence

import numpy as np

from ..core.bench.bench import Bench, LogFormat
from ..core.bench.channel import Channel
from ..core.laws.raw_edge import Input
from ..core.ruler.ruler import Ruler
from ..samples.cells import read_samples
from ..samples.head import find_head, head_lines
from ..samples.opening import blocks_of
from ..samples.passes import columns_of
from ..samples.shapes import EXPECTED
from ..samples.stream_lines import StreamLines
from ..samples.times import Names, find_time_column
from .session import Parts
from .sources import (
    WAIT,
    Base,
    GrowingFile,
    Lined,
    Source,
    SourceEnded,
    StandardInput,
    StreamError,
    source_named,
)

#: Lines are parsed this many bytes ahead.
AHEAD = 1 << 14


def speed_of(text: str) -> float | None:
    """How many times faster than its own pace: `real` is 1, `10x` is 10; None for as fast as it can
    be read. Raises `StreamError`."""
    if text == "fast":
        return None
    found = re.fullmatch(r"(\d+(?:\.\d+)?)x", text)
    speed = 1.0 if text == "real" else float(found[1]) if found else 0.0
    if not speed > 0:
        raise StreamError(f"--pace: expected real, fast or a factor as in 10x, found {text!r}")
    return speed


class Paced(Base):
    """A file at its own pace. Lines without a time come with the sample behind them."""

    lossless = True

    def __init__(
        self, file: GrowingFile, speed: float, form: LogFormat, wanted: Sequence[str | int]
    ) -> None:
        self.name, self._file, self._speed = file.name, file, speed
        self._lines = StreamLines(form, wanted, file.name, arrives=False)
        self._lines.prime(file.peek())
        self._rest, self._number, self._given = b"", 0, 0
        self._waiting: deque[bytes] = deque()
        self._due: deque[tuple[int, float]] = deque()
        self._first: float | None = None
        self._began = 0.0
        self._ended = False

    def peek(self) -> bytes:
        """What comes first."""
        return self._file.peek()

    def read(self) -> bytes:
        """The lines that are due by now. Raises `SourceEnded`."""
        if not self._due and not self._ended:
            self._parse()
        if not self._due:
            if not self._ended:
                return b""
            rest, self._waiting = b"".join(self._waiting), deque()
            if rest:
                return rest
            raise SourceEnded
        now = time.monotonic()
        if self._first is None:
            self._first, self._began = self._due[0][1], now
        wait = self._began + (self._due[0][1] - self._first) / self._speed - now
        if wait > 0:
            time.sleep(min(wait, WAIT))
            if wait > WAIT:
                return b""
        elapsed = (time.monotonic() - self._began) * self._speed + self._first
        until = self._given
        while self._due and self._due[0][1] <= elapsed:
            until = self._due.popleft()[0] + 1
        lines = [self._waiting.popleft() for _ in range(until - self._given)]
        self._given = until
        return b"".join(lines)

    def _parse(self) -> None:
        """Read on until some lines have times."""
        try:
            data = self._file.read(AHEAD)
        except SourceEnded:
            data, self._ended = b"", True
            self._rest += b"\n" if self._rest else b""
        text = self._rest + data
        cut = text.rfind(b"\n") + 1
        block, self._rest = text[:cut], text[cut:]
        lines = [line + b"\n" for line in block.split(b"\n")[:-1]]
        at = np.arange(self._number, self._number + len(lines), dtype=np.float64)
        self._waiting.extend(lines)
        self._number += len(lines)
        taken = self._lines.add(block, at) if block else []
        taken += self._lines.settle() if self._ended else []
        if taken and not self._lines.clock.is_known:
            raise StreamError(
                f"{self.name}: no clock, which --pace asks for; name its time column with --time, "
                "or the time between two samples with --interval"
            )
        for part in taken:
            times = np.maximum.accumulate(np.nan_to_num(part.times, nan=-np.inf))
            self._due.extend(zip(part.at.astype(int).tolist(), times.tolist(), strict=True))

    def close(self) -> None:
        """Let go."""
        self._file.close()


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
        raise StreamError(f"--pace: expected a file, found {opened.name}, which has its own")
    arrives = not (
        (isinstance(opened, GrowingFile) and not opened.follows)
        or isinstance(opened, Paced)
        or (isinstance(opened, Lined) and opened.is_whole)
    )
    head = b""
    if isinstance(opened, StandardInput | GrowingFile | Lined | Paced):
        head = opened.peek()
    return Parts(None, bench, form, opened, {}, head=head, arrives=arrives)


def bare_bench(head: bytes, form: LogFormat, name: str) -> Bench:
    """A channel a column of numbers. head: the first whole lines. Raises `StreamError` where none
    of them can be read."""
    found = find_head(head_lines(head), form)
    if found is None or not found.sorts:
        quoted = head.split(b"\n")[0][:60].decode("utf-8", "replace")
        raise StreamError(f"{name}: expected {EXPECTED}, found {quoted!r}")
    form = found.form
    blocks = blocks_of(found, form)
    batch = blocks.read(head.split(b"\n", found.begin)[-1]).batch
    time = find_time_column(Names(blocks.columns, form, dict(found.shape.units)), batch, set())
    channels: dict[str, Channel] = {}
    for index, column in enumerate(blocks.columns):
        if time is not None and index in time.indices:
            continue
        samples = read_samples(batch.numbers(index), form.decimal, batch.torn)
        if samples.present.size:
            called = _called(column, channels)
            known = _column(found.shape.names, index)
            whole = samples.counts.dtype.kind == "i"
            chain = Ruler((Input("1"),))
            channels[called] = Channel(called, chain, known, decimals=0 if whole else None)
    if not channels:
        raise StreamError(f"{name}: found no column of numbers, expected {EXPECTED}")
    return Bench("as it comes", channels)


def _column(names: Sequence[str], index: int) -> str | int:
    return index + 1 if not names else names[index] if index < len(names) else index + 1


def _called(column: str, taken: dict[str, Channel]) -> str:
    from ..benchfile.starter import channel_name

    name = base = channel_name(column)
    n = 2
    while name in taken:
        name, n = f"{base}_{n}", n + 1
    return name
