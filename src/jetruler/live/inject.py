"""Made-up counts in place of a channel: `--inject damper=1880`, `--sweep damper=0:4095/10s`."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from ..core.arrays import Array
from ..core.decide.channel_reader import NO_COUNT
from ..core.model.channel import Bench
from ..core.model.quantity import seconds
from ..core.model.text import nearest
from .parse import Column
from .stream_errors import StreamError


@dataclass(frozen=True)
class Injection:
    """From one count to another and back, each in `within` seconds; None is a missing sample."""

    low: int | None
    high: int | None = None
    within: float = 0.0

    def column(self, at: Array) -> Column:
        """The counts at so many seconds since the start."""
        if self.low is None:
            return Column(np.full(at.size, NO_COUNT), np.ones(at.size, np.bool_))
        if self.high is None:
            return Column(np.full(at.size, self.low, np.int64))
        fraction = np.abs((at / self.within) % 2 - 1)  # 1 at the start, 0 at the turn
        return Column(np.rint(self.high + (self.low - self.high) * fraction).astype(np.int64))


def injections(
    bench: Bench, constants: tuple[str, ...], sweeps: tuple[str, ...]
) -> dict[str, Injection]:
    """What the options say. Raises `StreamError`."""
    found: dict[str, Injection] = {}
    for text in constants:
        name, _, value = text.partition("=")
        if value != "missing" and not re.fullmatch(r"-?\d{1,10}", value):
            raise StreamError(f"--inject {text}: damper=1880 or damper=missing is right")
        found[_known(bench, "--inject", text, name)] = Injection(
            None if value == "missing" else int(value)
        )
    for text in sweeps:
        match = re.fullmatch(r"(?P<name>[^=]+)=(-?\d{1,10}):(-?\d{1,10})/(.+)", text)
        within = seconds(_spaced(match[4])) if match else float("nan")
        if match is None or not 0 < within < float("inf"):
            raise StreamError(f"--sweep {text}: damper=0:4095/10s is right")
        name = _known(bench, "--sweep", text, match["name"])
        found[name] = Injection(int(match[2]), int(match[3]), within)
    return found


def _spaced(text: str) -> str | float:
    return float(text) if re.fullmatch(r"[\d.]+", text) and text.count(".") < 2 else text


def _known(bench: Bench, option: str, text: str, name: str) -> str:
    if name not in bench.channels:
        hint = nearest(name, bench.channels)
        raise StreamError(f"{option} {text}: the bench has no channel {name!r}; {hint}")
    return name
