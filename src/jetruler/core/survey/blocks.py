"""Blocks of successive samples, evenly spread over a log of any length, and their noise."""

from __future__ import annotations

import math
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


def noise_of(blocks: Blocks, ends: tuple[float, float], lsb: float) -> float:
    """Standard deviation of one sample round the slow movement, without the rounding to steps.

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
    differences: list[Array] = []
    samples = 0
    for _, block in blocks.all():
        inside = np.where((block >= ends[0]) & (block <= ends[1]), block, np.nan)
        samples += int(np.count_nonzero(inside == inside))
        differences += _settled(inside, lsb)
    if samples < FEW or not differences:
        return math.nan
    return _without_rounding(_trimmed(np.concatenate(differences), lsb), lsb)


def _settled(block: Array, lsb: float) -> list[Array]:
    """The differences of a block at the order that sees no movement, as if of one sample."""
    found: list[Array] = []
    differences = np.diff(block)
    for variance in _VARIANCES:
        differences = np.diff(differences)
        there = differences[differences == differences] / math.sqrt(variance)
        if there.size < FEW - 2:
            # Few in a row, between gaps: the order that there is.
            return found[:1]
        found.append(there)
        if len(found) > 1:
            before, now = (_trimmed(part, lsb) for part in found[-2:])
            if now >= AS_MUCH * before:
                return [found[-2]]
    return []


def _trimmed(values: Array, lsb: float) -> float:
    """The root mean square, without what stands out by four times."""
    sizes = np.abs(values)
    scale = 1.4826 * float(np.median(sizes)) + lsb
    for _ in range(50):
        inside = sizes[sizes <= 4.0 * scale]
        rms = math.sqrt(float(np.mean(inside**2)))
        if abs(rms - scale) <= 1e-9 * scale:
            break
        scale = max(rms, 0.5 * lsb)
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
