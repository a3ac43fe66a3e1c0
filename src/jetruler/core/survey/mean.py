"""What the mean of samples is known to: a 95 % interval, or the reason why there is none."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np

from ..numerics import AnyArray, Array, coverage_factor, long_run, rounded_readings
from ..ruler.units import many

#: Sums that are kept; when there are more, neighbours are joined.
MOST = 1 << 13
#: Fewer samples than these tell too little of how they vary.
FEWEST = 10
#: The steps may shift a mean by so much of its half-width, and no more.
SHIFT = 0.25
#: Noise whose excess kurtosis is larger is not normal; it leaves at most so much of a step, times
#: the step over its standard deviation: 1/(π²√12) of evenly spread noise, the worst of the usual.
KURTOSIS, LEAVES = 0.4, 0.03


@dataclass(frozen=True)
class MeanKnown:
    """What a mean is known to.

    Attributes
    ----------
    independent : float
        How many independent samples would tell as much.
    half_width : float
        Half-width of its 95 % interval; NaN where there is none.
    reason : str
        Why there is no interval; empty where there is one.
    """

    independent: float = math.nan
    half_width: float = math.nan
    reason: str = ""


@dataclass
class BlockSums:
    """Sums and ends of blocks of successive samples, exact for whole numbers, whatever the
    batches."""

    size: int = 1
    _sums: Array = field(default_factory=lambda: np.empty(0))
    _lows: Array = field(default_factory=lambda: np.empty(0))
    _highs: Array = field(default_factory=lambda: np.empty(0))
    _begun: Array = field(default_factory=lambda: np.empty(0))
    """The samples, or sums, of the block that is not whole yet."""
    samples: int = 0

    def add(self, counts: AnyArray) -> None:
        """Take samples; those that are missing are left out by whoever calls."""
        values = np.concatenate((self._begun, counts))
        self.samples += counts.size
        while (self._sums.size + values.size // self.size) > MOST:
            pairs = self._sums.size // 2 * 2
            if self._sums.size > pairs:  # a last one without its pair cannot be taken apart
                need = self.size
                if values.size < need:
                    break
                self._take(values[:need])
                values = values[need:]
                pairs = self._sums.size
            self._sums = self._sums[:pairs].reshape(-1, 2).sum(axis=1)
            self._lows = self._lows[:pairs].reshape(-1, 2).min(axis=1)
            self._highs = self._highs[:pairs].reshape(-1, 2).max(axis=1)
            self.size *= 2
        whole = values.size // self.size * self.size
        self._take(values[:whole])
        self._begun = values[whole:]

    def _take(self, values: Array) -> None:
        blocks = values.reshape(-1, self.size)
        self._sums = np.concatenate((self._sums, blocks.sum(axis=1)))
        self._lows = np.concatenate((self._lows, blocks.min(axis=1)))
        self._highs = np.concatenate((self._highs, blocks.max(axis=1)))

    def scaled(self, by: int) -> None:
        """Multiply every sample: what is counted is now a finer step."""
        for name in ("_sums", "_lows", "_highs", "_begun"):
            setattr(self, name, getattr(self, name) * by)

    def known(self, deviation: float, ends: tuple[float, float], lsb: float) -> MeanKnown:
        """What the mean of the samples between two ends is known to.

        Parameters
        ----------
        deviation : standard deviation of these samples.
        lsb : the step that they are rounded to.
        """
        inside = (self._lows >= ends[0]) & (self._highs <= ends[1])
        return mean_known(self._sums[inside] / self.size, self.size, deviation, lsb)


def mean_known(means: Array, size: int, deviation: float, lsb: float) -> MeanKnown:
    """What the mean is known to, from the means of blocks of so many successive samples.

    Independent samples give t·s/√n, others the long-run variance. No interval is told where the
    noise does not dither the steps: the mean may then be off by a part of a step that no number of
    samples averages out. Source: JCGM 100:2008, 4.2.3 and 4.3.7.
    """
    n = means.size * size
    if n < FEWEST:
        return MeanKnown(reason=f"{many(n, 'sample')}: too few to tell how they vary")
    if not deviation > 0:
        return MeanKnown(reason="all samples are the same: the mean is known to half a step only")
    if are_independent(means):
        independent = float(n)
        half_width = coverage_factor(n - 1) * deviation / math.sqrt(n)
    else:
        run = long_run(means)
        variance = run.variance / means.size
        if not run.dof or not variance > 0:
            reason = "the samples move, or depend on one another for too long"
            return MeanKnown(n / (run.time * size), reason=reason)
        independent = min(deviation**2 / variance, n)
        half_width = coverage_factor(run.dof) * math.sqrt(variance)
    if lsb * _shift(means, deviation / lsb) > SHIFT * half_width:
        reason = "the noise is too small for the steps: averaging does not take the rounding out"
        return MeanKnown(independent, reason=reason)
    return MeanKnown(independent, half_width)


def _shift(means: Array, deviation: float) -> float:
    """The most that rounding may shift the mean, in steps, for a deviation in steps."""
    noise = math.sqrt(max(deviation**2 - 1 / 12, 0.0))
    off = (means - means.mean()) / means.std()
    if abs(float(np.mean(off**4)) - 3.0) > KURTOSIS:
        return min(0.5, LEAVES / noise) if noise else 0.5
    return float(np.max(np.abs(rounded_readings(min(noise, 2.0))[0])))


#: Independence is rejected at this level; few samples show little, so that the level is lenient.
LEVELS = ((100, 0.05), (0, 0.1))


def are_independent(samples: Array) -> bool:
    """Whether samples show no dependence on those before, nor hum.

    Two tests: of the autocorrelations of the first lags together, and of the largest peak of the
    spectrum. Sources: Ljung, Box, Biometrika 65 (1978) 297; Fisher, Proc. R. Soc. A 125 (1929) 54.
    """
    n = samples.size
    off = samples - samples.mean()
    power = float(off @ off)
    if not power > 0:
        return False
    lags = max(1, min(10, n // 5))
    rho = np.array([float(off[k:] @ off[:-k]) for k in range(1, lags + 1)]) / power
    from scipy.special import chdtrc  # 0.2 s, worth it only where an interval is wanted

    level = next(level for least, level in LEVELS if n >= least)
    for m in {1, lags}:
        q = n * (n + 2) * float(np.sum(rho[:m] ** 2 / (n - np.arange(1, m + 1))))
        if chdtrc(m, q) < level:
            return False
    spectrum = np.abs(np.fft.rfft(off)[1 : (n + 1) // 2]) ** 2
    m = spectrum.size
    g = float(spectrum.max() / spectrum.sum())
    return m * (1 - g) ** (m - 1) > 0.02
