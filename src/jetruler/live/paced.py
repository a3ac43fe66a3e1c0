"""A log as if it came now: each line when its time has come, or faster by a factor."""

from __future__ import annotations

import re
import time
from collections import deque
from collections.abc import Sequence

import numpy as np

from ..core.model.log_format import LogFormat
from ..samples.stream_lines import StreamLines
from .sources import WAIT, Base, GrowingFile
from .stream_errors import SourceEnded, StreamError

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
        raise StreamError(f"--pace: found {text!r}; real, fast or a factor as in 10x is right")
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
