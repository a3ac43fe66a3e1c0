"""Whether nothing is connected to an input: mains hum, or wandering without a pattern.

Blocks of successive samples are kept, evenly spread over a log of any length. A pin that floats
picks up the mains around it (50 or 60 Hz, or what sampling makes of them), or jumps about like
white noise of a large part of the range; no sensor behind a wire does either.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

import numpy as np

from ..numerics import Array
from ..ruler.units import number, significant
from .blocks import Blocks

#: A log of fewer samples than a block, but of so many, is one block.
LEAST = 50
#: So many times the usual distance from the median is as far as a sample may weigh.
STRAYS = 5.0
#: A block floats from so much of the range on: standard deviation of white noise, of hum.
WHITE, HUM = 0.03, 0.01
#: The steps of white noise are about as large as its deviation; those of a movement are smaller.
STEPS = 0.6
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


def floating_text(found: Floating, at: Callable[[int], str] | None = None) -> str:
    """The evidence that nothing is connected, in words."""
    where = "" if at is None else f", from {at(found.first)} to {at(found.last)}"
    part = f"{found.fraction:.0%} of the log{where}" if found.fraction < 0.95 else "all of the log"
    size = f"{found.deviation:.0f} counts (one standard deviation)"
    if found.kind == "hum":
        heard = f"{number(significant(found.frequency, 3))} Hz, what sampling makes of"
        heard = "" if abs(found.frequency - found.mains) < 0.5 else f"{heard} "
        return f"hums at {heard}{found.mains:.0f} Hz mains, by {size}, over {part}"
    return f"wanders without a pattern, by {size}, over {part}"


def floating(blocks: Blocks, span: float, interval: float | None) -> Floating | None:
    """Return what floats; None where nothing does.

    Parameters
    ----------
    blocks : what was kept of the samples.
    span : the range of the converter, in counts.
    interval : seconds between two samples; without it there is no telling hum.
    """
    kept = [(row, filled) for row, block in blocks.all() if (filled := _filled(block)) is not None]
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


def _filled(block: Array) -> Array | None:
    """A block whose few gaps are filled by what is before, and whose strays are drawn in; None for
    one with many gaps, or with too few samples."""
    there = np.flatnonzero(block == block)
    if there.size < max(LEAST, 0.8 * block.size):
        return None
    before = np.maximum(np.searchsorted(there, np.arange(block.size), side="right") - 1, 0)
    filled = block[there][before]
    # Noise of any shape lies within five medians; one bad sample in a hundred weighs no more.
    middle = float(np.median(filled))
    reach = STRAYS * float(np.median(np.abs(filled - middle)))
    near: Array = np.clip(filled, middle - reach, middle + reach)
    return near


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
    # Medians: jumps and dropouts are no noise, however large.
    wide = np.median(np.abs(x[large]), axis=1)
    steps = np.median(np.abs(np.diff(x[large], axis=1)), axis=1) / np.sqrt(2.0)
    for row, i in enumerate(large.tolist()):
        found[i] = _kind(
            power[row],
            t.size,
            deviation=1.4826 * wide[row] / span,
            steps=steps[row] / wide[row] if wide[row] else 0.0,
            interval=interval,
        )
    return found


def _kind(
    power: Array, size: int, deviation: float, steps: float, interval: float | None
) -> Judged | None:
    """One block of so many samples by its spectrum, its deviation (of the range) and the steps
    between neighbours (of that)."""
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
    if deviation > WHITE and steps > STEPS and peak < 0.5:
        return "white", float("nan"), float("nan")
    return None
