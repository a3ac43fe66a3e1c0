"""Blocks of successive samples, evenly spread over a log of any length: their noise, and whether
nothing is connected.

A pin that floats picks up the mains around it (50 or 60 Hz, or what sampling makes of them), or
jumps about like white noise of a large part of the range; no sensor behind a wire does either."""

from __future__ import annotations

import math
import warnings
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cache
from typing import Literal

import numpy as np

from ..numerics import LEVELS, AnyArray, Array, Truths, rounded_readings
from ..ruler.units import number, significant

#: Samples in a block, and blocks that are kept at most.
SIZE, MOST = 256, 128
#: Blocks overlap by half: what lasts for two of them fills one, wherever it begins.
HOP = SIZE // 2


@dataclass
class Blocks:
    """Blocks of `SIZE` successive samples, one begun each `HOP` samples, thinned out evenly."""

    kept: list[tuple[int, Array]] = field(default_factory=list)
    """The row of the first sample of each, and its samples, NaN where one is missing."""
    rest: Array = field(default_factory=lambda: np.empty(0))
    """The samples from where the next block begins."""
    rows: int = 0
    most: int = MOST
    """Blocks that are kept at most."""
    _every: int = 1
    _number: int = 0

    def add(self, counts: AnyArray, missing: Truths | None = None) -> None:
        """Take a batch."""
        begun = self.rows - self.rest.size
        self.rows += counts.size
        total = self.rest.size + counts.size
        blocks = max(0, (total - SIZE) // HOP + 1)
        i = -self._number % self._every
        while i < blocks:
            start = i * HOP
            self._keep(begun + start, self._cut(counts, missing, start, start + SIZE))
            # Keeping one may thin out those that are kept, and those that follow.
            i += 1 + -(self._number + i + 1) % self._every
        self._number += blocks
        self.rest = self._cut(counts, missing, blocks * HOP, total)

    def _cut(self, counts: AnyArray, missing: Truths | None, start: int, end: int) -> Array:
        """A part of what is left over and a batch behind it."""
        part = slice(max(0, start - self.rest.size), max(0, end - self.rest.size))
        values = counts[part].astype(np.float64)
        if missing is not None:
            values[missing[part]] = np.nan
        return np.concatenate((self.rest[start:end], values))

    def _keep(self, row: int, block: Array) -> None:
        self.kept.append((row, block))
        if len(self.kept) > self.most:
            self.kept = self.kept[::2]
            self._every *= 2

    def scaled(self, by: int, over: int = 1) -> None:
        """Multiply every sample, or divide it: what is counted is now another step."""
        self.kept = [(row, block * by / over) for row, block in self.kept]
        self.rest = self.rest * by / over

    def all(self) -> list[tuple[int, Array]]:
        """Those that are kept; of a short log, all its samples as one."""
        return self.kept or [(0, self.rest)]


#: Samples that noise is told from at least, and the variance of differences of order 2 to 6.
FEW = 10
_VARIANCES = (6.0, 20.0, 70.0, 252.0, 924.0)
#: The next order finds less than this where it is the movement that an order sees.
AS_MUCH = 0.85


@dataclass(frozen=True)
class NoiseFigures:
    """Standard deviation of one sample round the slow movement, without the rounding to steps: of
    the whole log, and as it is of each block in which that can be told."""

    whole: float
    of_blocks: Array

    @property
    def noisiest(self) -> float:
        """That of the noisiest tenth of the blocks, with the rounding."""
        return float(np.quantile(self.of_blocks, 0.9)) if self.of_blocks.size else math.nan

    def calmest(self, but: float, lsb: float) -> float:
        """That of the calmest tenth of the blocks, and the fraction of blocks that do not move."""
        if self.of_blocks.size < 2:
            return self.whole
        at = min(1.0, but + 0.1 * (1.0 - but))
        return min(self.whole, _without_rounding(float(np.quantile(self.of_blocks, at)), lsb))


def noise_of(blocks: Blocks, ends: tuple[float, float], lsb: float) -> NoiseFigures:
    """Noise without the rounding to steps, of the whole log and of each block.

    Each block is differenced until the next order finds as much: a second difference lets a drift
    cancel, higher ones a movement that bends. What stands out by four standard deviations, as
    jumps and spikes do, is left out. NaN for fewer than ten samples, and where every order of
    every block finds less than the one before: then it is the movement that they see.

    Parameters
    ----------
    blocks : what was kept of the samples.
    ends : values beyond them are none.
    lsb : the step that the samples are rounded to.
    """
    kept = [block for _, block in blocks.all()]
    samples = np.array([block for block in kept if block.size == kept[0].size])
    inside = np.where((samples >= ends[0]) & (samples <= ends[1]), samples, np.nan)
    if np.count_nonzero(inside == inside) < FEW:
        return NoiseFigures(math.nan, np.empty(0))
    differences, deviations = _settled(inside, lsb)
    if not differences.size:  # a movement everywhere, or hum, which no order lets cancel
        return NoiseFigures(math.nan, _trimmed(np.diff(inside, 2, axis=1).reshape(1, -1), lsb))
    noise = _without_rounding(float(_trimmed(differences[None], lsb)[0]), lsb)
    return NoiseFigures(noise, deviations)


def _settled(blocks: Array, lsb: float) -> tuple[Array, Array]:
    """Differences at the order that sees no movement, block by block (rows), as if of one sample;
    and the deviation of each block.

    A block with too few in a row between its gaps gives the order that it has.
    """
    open_ = np.ones(len(blocks), bool)
    found: list[Array] = []
    deviations: list[Array] = []
    differences, before, rms = np.diff(blocks, axis=1), np.empty(0), np.empty(0)
    for variance in _VARIANCES:
        differences = np.diff(differences, axis=1)
        scaled = differences / math.sqrt(variance)
        there = np.count_nonzero(scaled == scaled, axis=1)
        now = _trimmed(scaled, lsb)
        if rms.size:
            # NaN, of none in a row, compares false.
            settled = open_ & ((now >= AS_MUCH * rms) | (there < FEW - 2))
            found.append(before[settled])
            deviations.append(rms[settled])
            open_ &= ~settled
        before, rms = scaled, now
    every: Array = np.concatenate([part.reshape(-1) for part in found])
    of_blocks: Array = np.concatenate(deviations)
    return every[~np.isnan(every)], of_blocks[~np.isnan(of_blocks)]


def _trimmed(values: Array, lsb: float) -> Array:
    """The root mean square of each row, without what stands out by four times; NaN is left out."""
    sizes = np.abs(values)
    with np.errstate(all="ignore"), warnings.catch_warnings():
        warnings.simplefilter("ignore", RuntimeWarning)  # a row without any
        scale = 1.4826 * _medians(sizes) + lsb
        for _ in range(20):
            inside = sizes <= 4.0 * scale[:, None]
            many = np.count_nonzero(inside, axis=1)
            rms: Array = np.sqrt(np.sum(np.where(inside, sizes, 0.0) ** 2, axis=1) / many)
            if np.all((np.abs(rms - scale) <= 1e-4 * scale) | ~(many > 0)):
                break
            scale = np.maximum(rms, 0.5 * lsb)
    return rms


def _medians(rows: Array) -> Array:
    """The median of each row without its NaN; NaN for a row without any number. Sorting is faster
    than NumPy's own, which masks."""
    ordered = np.sort(rows, axis=1)  # NaN behind all numbers
    many = np.count_nonzero(ordered == ordered, axis=1)
    row = np.arange(len(rows))
    low, high = np.maximum(many - 1, 0) // 2, np.minimum(many // 2, rows.shape[1] - 1)
    middle: Array = 0.5 * (ordered[row, low] + ordered[row, high])
    return middle


@cache
def _rounded() -> tuple[Array, Array]:
    """Noise and the deviation of its rounded samples, both in steps, over all levels alike."""
    noises = np.concatenate(([0.0], np.geomspace(0.01, 1.25, 60)))
    deviations = [0.0]
    for noise in noises[1:].tolist():
        variances = rounded_readings(noise)[1]
        deviations.append(math.sqrt(2.0 * float(np.trapezoid(variances, LEVELS))))
    return noises, np.array(deviations)


def _without_rounding(deviation: float, lsb: float) -> float:
    """The noise whose samples, rounded to whole steps at any level, show this deviation.

    For noise of more than a step this is Sheppard's correction, √(s² − lsb²/12).
    """
    noises, deviations = _rounded()
    steps = deviation / lsb
    if steps >= deviations[-1]:
        return lsb * math.sqrt(steps**2 - 1 / 12)
    return lsb * float(np.interp(steps, deviations, noises))


#: A log of fewer samples than a block, but of this many, is one block.
LEAST = 50
#: This many times the usual distance from the median is as far as a sample may weigh.
STRAYS = 5.0
#: A block floats from so much of the range on: standard deviation of white noise, of hum.
WHITE, HUM = 0.03, 0.01
#: The steps of white noise are about as large as its deviation; those of a movement are smaller.
STEPS = 0.6
#: So much of a block's power is at the mains frequency, or below for any other signal.
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
        Frequency of the hum as sampled, in Hz; NaN for white noise.
    mains : float
        The mains frequency that it comes from, in Hz.
    """

    kind: Kind
    first: int
    last: int
    fraction: float
    deviation: float
    frequency: float
    mains: float


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
    rows, filled = _filled(blocks.all())
    found = _judged(filled, span, interval) if rows else []
    index = [i for i, each in enumerate(found) if each is not None]
    # One block in a row of others is a knob that is fiddled with, not a wire that is off.
    index = [i for i in index if i - 1 in index or i + 1 in index or len(found) == 1]
    if not index:
        return None
    kinds = [each[0] for i in index if (each := found[i]) is not None]
    kind: Kind = "hum" if kinds.count("hum") * 2 >= len(kinds) else "white"
    first, last = rows[index[0]], rows[index[-1]] + filled.shape[1] - 1
    deviation = float(np.median(filled[index].std(axis=1)))
    heard = [each for i in index if (each := found[i]) is not None and each[0] == "hum"]
    frequency, mains = heard[0][1:] if kind == "hum" else (float("nan"), float("nan"))
    fraction = len(index) / len(found)
    return Floating(kind, first, last, fraction, deviation, frequency=frequency, mains=mains)


def _filled(kept: list[tuple[int, Array]]) -> tuple[list[int], Array]:
    """The rows where blocks begin, and these (a row each): their few gaps filled by what is before,
    their strays drawn in. Without those that have many gaps, or too few samples."""
    blocks = np.array([block for _, block in kept])
    there = blocks == blocks
    enough = np.count_nonzero(there, axis=1) >= max(LEAST, 0.8 * blocks.shape[1])
    blocks, there = blocks[enough], there[enough]
    if not blocks.size:
        return [], blocks
    places = np.where(there, np.arange(blocks.shape[1]), 0)
    first = there.argmax(axis=1)[:, None]  # a gap at the beginning is filled by what is behind
    before = np.maximum(np.maximum.accumulate(places, axis=1), first)
    filled = np.take_along_axis(blocks, before, axis=1)
    # Noise of any shape lies within five medians; one bad sample in a hundred weighs no more.
    middle = np.median(filled, axis=1, keepdims=True)
    reach = STRAYS * np.median(np.abs(filled - middle), axis=1, keepdims=True)
    near: Array = np.clip(filled, middle - reach, middle + reach)
    return [row for (row, _), good in zip(kept, enough, strict=True) if good], near


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
    """One block of this many samples by its spectrum, its deviation (of the range) and the steps
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
