"""Whether nothing is connected to an input: mains hum, or wandering without a pattern.

Blocks of successive samples are kept, evenly spread over a log of any length. A pin that floats
picks up the mains around it (50 or 60 Hz, or what sampling makes of them), or jumps about like
white noise of a large part of the range; no sensor behind a wire does either.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Literal

import numpy as np

from ..numerics import AnyArray, Array, Truths
from ..ruler.units import number, significant

#: Samples in a block, and blocks that are kept at most.
SIZE, MOST = 256, 128
#: A log of fewer samples than a block, but of so many, is one block.
LEAST = 50
#: A block floats from so much of the range on: standard deviation of white noise, of hum.
WHITE, HUM = 0.03, 0.01
#: So much of a block's power stands at the mains frequency, or below for any other signal.
PEAK = 0.6
MAINS = (50.0, 60.0)
#: A peak is the mains' own if it is so near: in bins of the spectrum, and in parts of the mains
#: frequency, which wanders a little, as the converter's clock does.
NEAR_BIN, NEAR_MAINS = 0.3, 0.002
#: Hum is told only where that is so little of the sampling rate: from five samples a second on.
FINEST = 0.02
Kind = Literal["hum", "white"]


@dataclass(frozen=True)
class Floating:
    """What a floating input shows.

    Attributes
    ----------
    kind : {"hum", "white"}
        Mains hum, or wandering like white noise.
    first, last : int
        Rows of the first and the last sample of what floats, from 0.
    fraction : float
        Fraction of the log that floats.
    deviation : float
        Standard deviation there, in counts.
    frequency : float
        Of the hum as it is sampled, in Hz; NaN for white noise.
    mains : float
        The mains frequency that it comes from, in Hz.
    """

    kind: Kind
    first: int
    last: int
    fraction: float
    deviation: float
    frequency: float = float("nan")
    mains: float = float("nan")


FLOATING_REMEDY = "Look for a wire that is not connected, or a column of something else"


def floating_text(found: Floating, line_of: Callable[[int], int] | None = None) -> str:
    """The evidence that nothing is connected, in words."""
    where = "" if line_of is None else f", lines {line_of(found.first)} to {line_of(found.last)}"
    part = f"{found.fraction:.0%} of the log{where}" if found.fraction < 0.95 else "all of the log"
    size = f"{found.deviation:.0f} counts (one standard deviation)"
    if found.kind == "hum":
        heard = f"{number(significant(found.frequency, 3))} Hz, what sampling makes of"
        heard = "" if abs(found.frequency - found.mains) < 0.5 else f"{heard} "
        return f"hums at {heard}{found.mains:.0f} Hz mains, by {size}, over {part}"
    return f"wanders without a pattern, by {size}, over {part}"


@dataclass
class Blocks:
    """Blocks of successive samples, evenly spread over all that is added."""

    _kept: list[tuple[int, Array]] = field(default_factory=list)
    _part: AnyArray = field(default_factory=lambda: np.empty(0))
    """The samples behind the last whole block, NaN where one is missing."""
    _rows: int = 0
    _every: int = 1
    _number: int = 0

    def add(self, counts: AnyArray, missing: Truths | None = None) -> None:
        """Take a batch; a block with a missing sample is left out."""
        begun = self._rows - self._part.size
        head = min(counts.size, (SIZE - self._part.size) % SIZE)
        self._part = np.concatenate((self._part, _floats(counts, missing, slice(0, head))))
        self._rows += counts.size
        if self._part.size == SIZE:
            if self._number % self._every == 0:
                self._keep(begun, self._part)
            self._number, self._part = self._number + 1, np.empty(0)
        if head == counts.size:
            return
        blocks = (counts.size - head) // SIZE
        i = -self._number % self._every
        while i < blocks:
            start = head + i * SIZE
            first = self._rows - counts.size + start
            self._keep(first, _floats(counts, missing, slice(start, start + SIZE)))
            # Keeping one may thin out those that are kept, and those that follow.
            i += 1 + -(self._number + i + 1) % self._every
        self._number += blocks
        self._part = _floats(counts, missing, slice(head + blocks * SIZE, None))

    def _keep(self, row: int, block: Array) -> None:
        if not np.isnan(block).any():
            self._kept.append((row, block))
        if len(self._kept) > MOST:
            self._kept = self._kept[::2]
            self._every *= 2

    def floating(self, span: float, interval: float | None) -> Floating | None:
        """Return what floats; None where nothing does.

        Parameters
        ----------
        span : the range of the converter, in counts.
        interval : seconds between two samples; without it there is no telling hum.
        """
        kept = self._kept
        if not kept and self._part.size >= LEAST and not np.isnan(self._part).any():
            kept = [(0, self._part)]
        found = _judged(np.array([block for _, block in kept]), span, interval) if kept else []
        index = [i for i, each in enumerate(found) if each is not None]
        # One block in a row of others is a knob that is fiddled with, not a wire that is off.
        index = [i for i in index if i - 1 in index or i + 1 in index or len(found) == 1]
        if not index:
            return None
        kinds = [each[0] for i in index if (each := found[i]) is not None]
        kind: Kind = "hum" if kinds.count("hum") * 2 >= len(kinds) else "white"
        first, last = kept[index[0]][0], kept[index[-1]][0] + kept[index[-1]][1].size - 1
        deviation = float(np.median([kept[i][1].std() for i in index]))
        heard = [each for i in index if (each := found[i]) is not None and each[0] == "hum"]
        frequency, mains = heard[0][1:] if kind == "hum" else (float("nan"), float("nan"))
        fraction = len(index) / len(found)
        return Floating(kind, first, last, fraction, deviation, frequency=frequency, mains=mains)


def _floats(counts: AnyArray, missing: Truths | None, part: slice) -> Array:
    """A part of a batch, NaN where a sample is missing."""
    values = counts[part].astype(np.float64)
    if missing is not None:
        values[missing[part]] = np.nan
    return values


def _between_bins(power: Array, top: int) -> float:
    """Where a peak lies between the bins of a spectrum: the top of a parabola through three."""
    if not 0 < top < power.size - 1:
        return 0.0
    low, middle, high = np.log(power[top - 1 : top + 2] + 1e-300).tolist()
    bend = low - 2.0 * middle + high
    return 0.5 * (low - high) / bend if bend else 0.0


Judged = tuple[Kind, float, float]


def _judged(blocks: Array, span: float, interval: float | None) -> list[Judged | None]:
    """Hum or white noise of each block (a row), with the frequency and that of the mains."""
    t = np.arange(blocks.shape[1]) - 0.5 * (blocks.shape[1] - 1)
    x = blocks - blocks.mean(axis=1, keepdims=True)
    x = x - np.outer(x @ t / float(t @ t), t)  # a slow movement is none of either
    deviation = x.std(axis=1)
    found: list[Judged | None] = [None] * len(blocks)
    large = np.flatnonzero(deviation >= HUM * span)
    if not large.size:
        return found
    power = np.abs(np.fft.rfft(x[large] * np.hanning(t.size), axis=1)) ** 2
    power[:, :2] = 0.0
    steps = np.sqrt(np.mean(np.diff(x[large], axis=1) ** 2, axis=1) / 2.0)
    for row, i in enumerate(large.tolist()):
        found[i] = _kind(
            power[row],
            t.size,
            deviation=deviation[i] / span,
            steps=steps[row] / deviation[i],
            interval=interval,
        )
    return found


def _kind(
    power: Array, size: int, deviation: float, steps: float, interval: float | None
) -> Judged | None:
    """One block of so many samples by its spectrum, its deviation (of the range) and its steps (of
    that)."""
    top = int(np.argmax(power))
    peak = float(power[max(0, top - 2) : top + 3].sum() / power.sum())
    if peak > PEAK and interval is not None:
        bin_width = 1.0 / (size * interval)
        frequency = (top + _between_bins(power, top)) * bin_width
        for mains in MAINS:
            folded = abs(mains - round(mains * interval) / interval)
            near = NEAR_BIN * bin_width + NEAR_MAINS * mains
            if near < FINEST / interval and top > 3 and abs(frequency - folded) < near:
                return "hum", frequency, mains
        return None
    if deviation > WHITE and steps > 0.7 and peak < 0.5:
        return "white", float("nan"), float("nan")
    return None
