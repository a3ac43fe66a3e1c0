"""Samples that follow one another: how they depend on each other, what their mean is known to, and
the noise round their slow movement."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view

from .numerics import Array

#: Independence is rejected at this level; few samples show little, so that the level is lenient.
REJECTED = ((100, 0.05), (60, 0.15), (40, 0.3), (0, 0.6))


def are_independent(samples: Array, spent: int = 1) -> bool:
    """Whether samples show no dependence on those before, nor hum.
    spent: parameters that were taken out, each of which lowers every autocorrelation by 1/n.

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
    rho += (spent - 1) / n
    from scipy.special import chdtrc  # 0.2 s, worth it only where an interval is needed

    level = next(level for least, level in REJECTED if n >= least)
    for m in {1, lags}:
        q = n * (n + 2) * float(np.sum(rho[:m] ** 2 / (n - np.arange(1, m + 1))))
        if chdtrc(m, q) < level:
            return False
    spectrum = np.abs(np.fft.rfft(off)[1 : (n + 1) // 2]) ** 2
    m = spectrum.size
    g = float(spectrum.max() / spectrum.sum())
    return m * (1 - g) ** (m - 1) > 0.02


def correlation_time(samples: Array) -> float:
    """How many samples represent one independent one: 1 + 2 Σ ρ_k of the autocorrelation.

    The larger of two estimates: the sum over neighbouring pairs of lags while their sum is
    positive, and that of a first-order process of the same ρ_1, which a mean that is taken from
    few samples does not pull down. 1 for white noise, never less. Sources: Geyer, Statistical
    Science 7 (1992) 473; Kendall, Biometrika 41 (1954) 403, for the bias of ρ_1.
    """
    n = samples.size
    rho = _autocorrelation(samples)
    if rho.size < 2:
        return 1.0
    pairs = rho[: rho.size // 2 * 2].reshape(-1, 2).sum(axis=1)
    ends = np.flatnonzero(pairs <= 0)
    total = float(pairs[: ends[0] if ends.size else pairs.size].sum())
    return float(np.clip(max(2.0 * total - 1.0, _of_first_order(float(rho[1]), n, 0.0)), 1.0, n))


def _autocorrelation(samples: Array) -> Array:
    """ρ_0, ρ_1, … up to half the length; empty where there is nothing to tell."""
    n = samples.size
    off = samples - samples.mean()
    power = float(off @ off)
    if n < 4 or power <= 1e-24 * n * float(np.max(np.abs(samples), initial=0.0)) ** 2:
        return np.empty(0)
    size = 1 << (2 * n - 1).bit_length()
    spectrum = np.abs(np.fft.rfft(off, size)) ** 2
    rho: Array = np.fft.irfft(spectrum, size)[: n // 2] / power
    return rho


def _of_first_order(rho: float, n: int, sigmas: float, spent: int = 1) -> float:
    """(1 + ρ)/(1 − ρ), with ρ_1 freed from its bias and this many standard errors higher.
    spent: parameters that were taken out."""
    rho = float(np.clip(rho + spent * (1.0 + 3.0 * rho) / n, -0.9999, 0.9999))
    rho = min(rho + sigmas * float(np.sqrt((1.0 - rho**2) / n)), 0.9999)
    return max(1.0, (1.0 + rho) / (1.0 - rho))


#: Cosines that the long-run variance is taken from: this many of n, of n over the correlation time,
#: and at most; fewer than the least tell nothing.
OF_ALL, OF_TIMES, MOST, LEAST = 0.25, 0.25, 200, 3
#: Independent samples that there must be even where the correlation is 1.6 standard errors higher.
FEWEST, SIGMAS = 8.0, 1.64


@dataclass(frozen=True)
class LongRun:
    """What the mean of samples is known to. variance: n times that of the mean; dof: degrees of
    freedom of that figure, 0 if it is unknown; time: samples that represent one."""

    variance: float
    dof: int
    time: float

    @property
    def needed(self) -> int:
        """Samples that would tell."""
        return int(np.ceil(max(20.0, FEWEST * self.time, LEAST * self.time / OF_TIMES)))


def long_run(samples: Array, ordered: bool = True, spent: int = 1) -> LongRun:
    """The long-run variance of samples that follow one another.

    spent: degrees of freedom that their mean, and what was taken out before, have used.

    It is the mean power of the lowest cosines, which are few enough for the spectrum to be flat
    there: as many as the correlation time allows. Unordered samples are independent.
    Source: Lazarus, Lewis, Stock, Watson, J. Business and Economic Statistics 36 (2018) 541.
    """
    n = samples.size
    if not ordered:
        off = samples - samples.mean()
        variance = float(off @ off) / (n - spent) if n > spent else float("nan")
        return LongRun(variance, max(0, n - spent), 1.0)
    time = correlation_time(samples)
    rho = _autocorrelation(samples)
    if rho.size < 2:  # not one sample differs from another
        return LongRun(0.0, n - 1 if n >= LEAST else 0, 1.0)
    cosines = int(min(OF_ALL * n, OF_TIMES * n / time, MOST))
    if cosines < LEAST or n / _of_first_order(float(rho[1]), n, SIGMAS) < FEWEST:
        return LongRun(float("nan"), 0, time)
    sums = _cosines(samples - samples.mean(), cosines)
    return LongRun(float(sums @ sums) / cosines, cosines, time)


def long_run_beside(columns: Array, rest: Array, tiny: float) -> LongRun:
    """The long-run variance of what a fit of slow columns leaves.

    Such a fit has taken its share of the slowest movements of `rest` away, so that their power is
    counted over what the columns leave of each cosine.

    Parameters
    ----------
    columns : array of float64
        What was fitted, shape (n, p).
    rest : array of float64
        What it left, shape (n,).
    tiny : float
        What rounding alone leaves of a sample.
    """
    n, p = columns.shape
    if n < FEWEST_PAIRS:
        return LongRun(float("nan"), 0, 1.0)
    power = float(rest @ rest)
    if power <= n * tiny**2:
        return LongRun(0.0, n - p, 1.0)
    if are_independent(rest, p):
        return LongRun(power / (n - p), n - p, 1.0)
    time = correlation_time(rest)
    rho = _autocorrelation(rest)
    if n / _of_first_order(float(rho[1]), n, SIGMAS, p) < FEWEST:
        return LongRun(float("nan"), 0, time)
    cosines = int(min(OF_ALL * n, OF_TIMES * n / time + p - 1, MOST))
    if cosines < LEAST + p - 1:
        return LongRun(float("nan"), 0, time)
    basis, _ = np.linalg.qr(columns)
    taken = np.stack([_cosines(column, cosines) for column in basis.T], axis=1)
    left, ways = np.linalg.eigh(np.eye(cosines) - taken @ taken.T)
    whole = left > 0.5
    sums = (ways.T @ _cosines(rest, cosines))[whole] / np.sqrt(left[whole])
    dof = int(np.count_nonzero(whole))
    if dof < LEAST:
        return LongRun(float("nan"), 0, time)
    return LongRun(float(sums @ sums) / dof, dof, time)


def _cosines(samples: Array, many: int) -> Array:
    """√(2/n) Σ x·cos(jπ(i + ½)/n) for j = 1, 2, … `many`: the Fourier sum of the samples and zeros
    up to 2n, turned by half a sample."""
    n = samples.size
    turn = np.exp(-0.5j * np.pi / n * np.arange(1, many + 1))
    found: Array = np.sqrt(2.0 / n) * (turn * np.fft.rfft(samples, 2 * n)[1 : many + 1]).real
    return found


#: Times that the power of a hum is above what is usual at frequencies close to it; frequencies on
#: both sides that tell this; the fewest periods, and the most hums that are looked for.
ABOVE, BESIDE, PERIODS, HUMS = 14.0, 12, 6, 3


def hum(samples: Array) -> list[Array]:
    """The cosine and sine of each steady swing in samples, at most three: columns for a fit.

    A swing is a peak of the periodogram far above its surroundings; its frequency is then narrowed
    down to a sixteenth of a step. Slow movement of fewer than six periods is none.
    """
    n, rest = samples.size, samples - samples.mean()
    found: list[Array] = []
    at = np.arange(n) - (n - 1) / 2
    while len(found) < 2 * HUMS:
        power = np.abs(np.fft.rfft(rest)[1:]) ** 2
        if power.size < 2 * BESIDE or not power.sum() > 1e-20 * n * float(samples @ samples):
            break
        padded = np.pad(power, BESIDE, mode="reflect")
        usual = np.median(sliding_window_view(padded, 2 * BESIDE + 1), axis=1) / np.log(2)
        ratio = power / np.maximum(usual, 1e-300)
        ratio[: PERIODS - 1] = 0.0
        peak = int(np.argmax(ratio))
        if ratio[peak] < ABOVE + np.log(n / 500):
            break
        near = (peak + 1 + np.linspace(-1, 1, 33)) / n
        near = near[(near > 0) & (near <= 0.5)]
        strength = [abs(np.exp(-2j * np.pi * frequency * at) @ rest) for frequency in near]
        phase = 2 * np.pi * near[int(np.argmax(strength))] * at
        found += [np.cos(phase), np.sin(phase)]
        q, _ = np.linalg.qr(np.stack(found, axis=1))
        rest = samples - samples.mean()
        rest = rest - q @ (q.T @ rest)
    return [wave for wave in found if wave @ wave > 1e-6 * n]


#: Pairs in time below which nothing is judged: their dependence is unknown.
FEWEST_PAIRS = 20

#: Samples that noise is told from, and the variance of differences of order 2 to 6.
FEW = 10
_VARIANCES = (6.0, 20.0, 70.0, 252.0, 924.0)


def noise_of(samples: Array) -> float:
    """Standard deviation round the slow movement, from differences between close neighbours.

    Second differences let a drift cancel; higher ones a movement that bends. The first order is
    taken beside which the next one finds as much; NaN where each finds less, since then it is the
    movement that they see, and for fewer than ten samples. Jumps, which stand out by four standard
    deviations, are left out.
    """
    if samples.size < FEW:
        return float("nan")
    found: list[float] = []
    differences = np.diff(samples)
    for variance in _VARIANCES:
        differences = np.diff(differences)
        found.append(_without_jumps(differences) / float(np.sqrt(variance)))
        if len(found) > 1 and found[-1] >= 0.85 * found[-2]:
            return found[-2]
    return float("nan")


def _without_jumps(differences: Array) -> float:
    """The root mean square, without what stands out: it begins with the median, which jumps in
    less than half of the differences leave alone."""
    squares = differences**2
    usual = float(np.median(squares)) / 0.455 or float(np.mean(squares))
    for _ in range(20):
        kept = squares[squares <= 16.0 * usual]
        if not kept.size or usual == (usual := float(np.mean(kept))):
            break
    return float(np.sqrt(usual))


def spreads_of_means(samples: Array, most: int, of_all: float) -> Array:
    """Standard deviations of means of 1, 2, … `most` successive samples.

    From the autocovariance: n² times the variance of a mean of n is the sum of those of all its
    pairs, n·γ₀ + 2 Σ (n − k)·γ_k. of_all: variance of the mean of all, which was taken away here.
    """
    n = samples.size
    off = samples - samples.mean()
    size = 1 << (2 * n - 1).bit_length()
    spectrum = np.abs(np.fft.rfft(off, size)) ** 2
    covariance = np.fft.irfft(spectrum, size)[:most] / (n - np.arange(most))
    # The sum over pairs grows by 2 Σ_{k<n} γ_k − γ₀ with each further sample.
    grows = 2.0 * np.cumsum(covariance) - covariance[0]
    square = np.cumsum(grows) / np.arange(1, most + 1) ** 2
    deviations: Array = np.sqrt(np.maximum(square + of_all, 0.0))
    return deviations


def deviation_of_means(samples: Array, readings: int, of_all: float) -> float:
    """The same of one number of samples, from every mean of as many that there is."""
    sums = np.cumsum(np.concatenate(([0.0], samples - samples.mean())))
    means = (sums[readings:] - sums[:-readings]) / readings
    return float(np.sqrt(np.mean(means**2) + of_all))
