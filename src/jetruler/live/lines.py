"""Bytes into whole lines, each with its time of arrival; what is no line is counted."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ..core.arrays import Array
from ..samples.shapes import Noise
from ..samples.stream_lines import LONGEST


@dataclass
class Lines:
    """Cuts what arrives into whole lines. noise: what was no line, by kind."""

    noise: Noise = field(default_factory=Noise)
    _rest: bytes = b""
    _skipping: bool = False
    _first: bool = False

    def begin(self, joined_late: bool) -> None:
        """A connection begins. joined_late: its first line may be the end of one."""
        self._first = joined_late

    def broken(self) -> None:
        """A connection is gone: a line that was under way will never end."""
        if self._rest:
            self.noise.counts["torn"] += 1
        self._rest, self._skipping = b"", False

    def ended(self) -> bytes:
        """The end of a stream: its last line may lack a line end."""
        rest, self._rest = self._rest, b""
        return rest + b"\n" if rest and not self._skipping else b""

    def add(self, data: bytes) -> bytes:
        """The whole lines that are ready, each with its line end."""
        if self._skipping:
            cut = data.find(b"\n")
            if cut < 0:
                return b""
            data, self._skipping = data[cut + 1 :], False
        if self._first:
            cut = data.find(b"\n")
            if cut >= 0:
                data, self._first, self._rest = data[cut + 1 :], False, b""
                self.noise.counts["torn"] += 1
        cut = data.rfind(b"\n")
        if cut < 0:
            self._rest += data
            if len(self._rest) > LONGEST:
                self._rest, self._skipping = b"", True
                self.noise.counts["over-long"] += 1
            return b""
        whole, self._rest = self._rest + data[: cut + 1], data[cut + 1 :]
        if len(self._rest) > LONGEST:
            self._rest, self._skipping = b"", True
            self.noise.counts["over-long"] += 1
        return whole


def arrival_times(parts: list[tuple[bytes, float]]) -> Array:
    """The time of every line in parts that each end with a line end."""
    counts = [part.count(b"\n") for part, _ in parts]
    return np.repeat([at for _, at in parts], counts)
