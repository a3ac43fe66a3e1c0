"""Blocks of successive samples, evenly spread over a log of any length, and their noise."""

from __future__ import annotations

import math
import warnings
from dataclasses import dataclass, field
from functools import cache

import numpy as np

from ..numerics import LEVELS, AnyArray, Array, Truths, rounded_readings

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
        if len(self.kept) > MOST:
            self.kept = self.kept[::2]
            self._every *= 2

    def scaled(self, by: int) -> None:
        """Multiply every sample: what is counted is now a finer step."""
        self.kept = [(row, block * by) for row, block in self.kept]
        self.rest = self.rest * by

    def all(self) -> list[tuple[int, Array]]:
        """Those that are kept; of a short log, all its samples as one."""
        return self.kept or [(0, self.rest)]


#: Samples that noise is told from at least, and the variance of differences of order 2 to 6.
FEW = 10
_VARIANCES = (6.0, 20.0, 70.0, 252.0, 924.0)
#: The next order finds less than this where it is the movement that an order sees.
AS_MUCH = 0.85


def noise_of(blocks: Blocks, ends: tuple[float, float], lsb: float) -> tuple[float, float]:
    """Standard deviation of one sample round the slow movement, without the rounding to steps; and
    that of the noisiest tenth of the blocks, as it is.

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
        return math.nan, math.nan
    differences, deviations = _settled(inside, lsb)
    if not differences.size:
        return math.nan, math.nan
    noise = _without_rounding(float(_trimmed(differences[None], lsb)[0]), lsb)
    return noise, float(np.quantile(deviations, 0.9))


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
        scale = 1.4826 * np.nanmedian(sizes, axis=1) + lsb
        for _ in range(50):
            inside = sizes <= 4.0 * scale[:, None]
            many = np.count_nonzero(inside, axis=1)
            rms: Array = np.sqrt(np.sum(np.where(inside, sizes, 0.0) ** 2, axis=1) / many)
            if np.all((np.abs(rms - scale) <= 1e-9 * scale) | ~(many > 0)):
                break
            scale = np.maximum(rms, 0.5 * lsb)
    return rms


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
