"""Made-up counts in place of a channel: `--inject damper=1880`, `--sweep damper=0:4095/10s`."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from ..core.arrays import Array
from ..core.decide.channel_reader import NO_COUNT
from ..core.model.channel import Bench, Channel
from ..core.model.quantity import seconds
from ..core.model.raw_text import raw_from
from ..core.model.text import nearest, number
from ..samples.cells import Samples
from .stream_errors import StreamError


@dataclass(frozen=True)
class Injection:
    """From one raw value to another and back, each in `within` seconds; None is a missing sample.
    whole: as a converter gives it."""

    low: float | None
    high: float | None = None
    within: float = 0.0
    whole: bool = True

    @property
    def text(self) -> str:
        """What it is, for people."""
        if self.low is None:
            return "missing"
        return number(self.low) + ("" if self.high is None else f" to {number(self.high)}")

    def column(self, at: Array) -> Samples:
        """The counts at so many seconds since the start."""
        if self.low is None:
            return Samples(np.full(at.size, NO_COUNT), np.ones(at.size, np.bool_))
        if self.high is None:
            return Samples(np.full(at.size, self.low, np.int64 if self.whole else np.float64))
        fraction = np.abs((at / self.within) % 2 - 1)  # 1 at the start, 0 at the turn
        raw = self.high + (self.low - self.high) * fraction
        return Samples(np.rint(raw).astype(np.int64) if self.whole else raw)


def injections(
    bench: Bench, constants: tuple[str, ...], sweeps: tuple[str, ...]
) -> dict[str, Injection]:
    """What the options say. Raises `StreamError`."""
    found: dict[str, Injection] = {}
    for text in constants:
        name, _, value = text.partition("=")
        channel = _known(bench, "--inject", text, name)
        raw = None
        if value.strip() != "missing":
            raw = raw_from(channel, value, f"--inject {text}", whole=True)
        found[name] = Injection(raw, whole=channel.ruler.takes == "count")
    for text in sweeps:
        match = re.fullmatch(r"(?P<name>[^=]+)=([^:]+):([^/]+)/(.+)", text)
        within = seconds(_spaced(match[4])) if match else float("nan")
        right = "damper=0:4095/10s"
        if match is None or not 0 < within < float("inf"):
            raise StreamError(f"--sweep {text}: {right} is right")
        channel = _known(bench, "--sweep", text, match["name"])
        low, high = (raw_from(channel, match[i], f"--sweep {text}", whole=True) for i in (2, 3))
        whole = channel.ruler.takes == "count"
        found[channel.name] = Injection(low, high, within, whole)
    return found


def _spaced(text: str) -> str | float:
    return float(text) if re.fullmatch(r"[\d.]+", text) and text.count(".") < 2 else text


def _known(bench: Bench, option: str, text: str, name: str) -> Channel:
    if name not in bench.channels:
        hint = nearest(name, bench.channels)
        raise StreamError(f"{option} {text}: the bench has no channel {name!r}; {hint}")
    return bench[name]
