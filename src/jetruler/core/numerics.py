"""Arrays and what is computed of them: Student's t, inverses of monotone curves, what rounding does
to a mean, and the noise of samples that depend on one another."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from .error_types import JetRulerError

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]
    FlagArray = NDArray[np.uint8]
    Numbers = NDArray[np.number[Any]]
    AnyArray = NDArray[Any]
    Truths = NDArray[np.bool_]
else:
    Array = FlagArray = Numbers = AnyArray = Truths = np.ndarray


__all__ = ["AnyArray", "Array", "FlagArray", "Numbers", "Truths", "steps_of"]


def as_samples(values: Any) -> tuple[AnyArray, AnyArray | None]:
    """Numbers as an array, and where one is missing: masked, null or None; NaN stays NaN.

    Parameters
    ----------
    values : array, masked array, Series or sequence
        Numbers, shape (n,).

    Raises
    ------
    JetRulerError
        For what is no list of numbers.
    """
    masked = np.ma.getmaskarray(values) if isinstance(values, np.ma.MaskedArray) else None
    if masked is not None:
        values = np.ma.getdata(values)
    if hasattr(values, "to_numpy") and str(getattr(values, "dtype", "object")) != "object":
        # A nullable column has its own word for what is missing, and floats have room for it.
        gone = np.asarray(values.isna() if hasattr(values, "isna") else values.is_null(), bool)
        if gone.any():
            masked = gone
            values = values.fillna(0) if hasattr(values, "fillna") else values.fill_null(0)
        values = values.to_numpy()
    found = np.asarray(values)
    if found.dtype == object:
        masked = np.array([_is_gone(v) for v in found.reshape(-1)])
        found = np.array([0 if m else v for m, v in zip(masked, found.reshape(-1), strict=True)])
    if found.dtype.kind not in "iufb":
        raise JetRulerError(f"counts: expected numbers, found {found.dtype.name}")
    found = np.ascontiguousarray(found.reshape(-1))
    if not found.dtype.isnative:
        found = found.astype(found.dtype.newbyteorder("="))
    if found.dtype.kind == "b" or (found.dtype.itemsize < 4 and found.dtype.kind != "f"):
        found = found.astype(np.int64)
    elif found.dtype == np.float16:
        found = found.astype(np.float32)
    return found, masked if masked is None else np.asarray(masked, bool).reshape(-1)


def _is_gone(value: Any) -> bool:
    """Whether an object is none, NaN, masked, or a value that says only that there is none."""
    try:
        return value is None or value is np.ma.masked or bool(value != value)
    except TypeError:  # pandas' NA is neither equal nor different
        return True


def steps_of(times: Array, before: float | None = None) -> Array:
    """The steps between times; infinite between two misread ones too far apart for a float.
    before: the time before the first, whose step is then the first."""
    with np.errstate(over="ignore", invalid="ignore"):
        steps: Array = np.diff(times) if before is None else np.diff(times, prepend=before)
    return steps


def coverage_factor(dof: float, level: float = 0.95) -> float:
    """The factor of a two-sided interval of this level, for so many degrees of freedom.

    Student's; the normal one for infinite degrees of freedom, NaN for none.
    Source: JCGM 100:2008, G.3 and table G.2.
    """
    return float(coverage_factors(np.array(float(dof)), level))


def coverage_factors(dof: Array, level: float = 0.95) -> Array:
    """The same for many degrees of freedom at once."""
    from scipy.special import ndtri, stdtrit  # 0.2 s, worth it only where an interval is wanted

    p = 0.5 + level / 2
    known = np.isinf(dof)
    with np.errstate(all="ignore"):
        factors: Array = np.where(known, ndtri(p), stdtrit(np.where(known, 1.0, dof), p))
    return factors


Curve = Callable[[Array], Array]


class NoInverseError(JetRulerError):
    """A curve that turns back has no inverse; the message says where it does."""


def solve_monotone(curve: Curve, slope: Curve, y: Array, low: Array, high: Array) -> Array:
    """x in [low, high] with curve(x) = y, to machine precision; NaN where there is none.

    The curve is monotone between low and high, which are arrays like y. Newton's step is taken
    where it stays in the bracket and is at most half the one before, else the bracket is halved: up
    an exponential it would go on by ones.
    """
    with np.errstate(all="ignore"):
        low, high = np.array(low + 0.0 * y), np.array(high + 0.0 * y)
        at_low, at_high = curve(low), curve(high)
        rising = at_high > at_low
        inside = (y >= np.fmin(at_low, at_high)) & (y <= np.fmax(at_low, at_high))
        x = low + (high - low) * np.clip((y - at_low) / (at_high - at_low), 0, 1)
        x[~inside] = np.nan
        taken = np.full_like(x, np.inf)
        for _ in range(200):
            error = curve(x) - y
            too_far = (error > 0) == rising
            high = np.where(too_far & (error != 0), x, high)
            low = np.where(~too_far & (error != 0), x, low)
            step = x - error / slope(x)
            # NaN compares false: a step that cannot be taken is a bisection too.
            good = (step > low) & (step < high)
            good &= (np.abs(step - x) <= 0.5 * taken) | (np.abs(step - x) <= 1e-9 * np.abs(x))
            following = np.where(error == 0, x, np.where(good, step, 0.5 * (low + high)))
            taken = np.abs(following - x)
            still = taken > 2e-16 * np.abs(x)
            x = following
            if not np.any(still):
                break
    return x


def turning_point(curve: Curve, low: float, high: float) -> float | None:
    """Where a curve first turns back or stands still, to about a thousandth of the range."""
    wide = low > 0 and high > 1000 * low
    x = np.geomspace(low, high, 2049) if wide else np.linspace(low, high, 2049)
    with np.errstate(all="ignore"):
        step = np.sign(np.diff(curve(x)))
    step, x = step[np.isfinite(step)], x[:-1][np.isfinite(step)]
    if not step.size:
        return low
    turned = np.flatnonzero(step != step[0])
    if step[0] == 0:
        return float(x[0])
    return float(x[turned[0]]) if turned.size else None


def monotone_stretches(
    curve: Curve, slope: Curve, widest: float = 1e9
) -> list[tuple[float, float]]:
    """The stretches between −widest and widest on which a curve only rises or only falls.

    It is looked at in steps of 1 % of x from 1e-9 on, and in even steps; a turn is narrowed down to
    the last digit by its slope. Over a pole, a step or a gap no stretch reaches.
    """
    away = np.concatenate((np.geomspace(1e-9, widest, 4097), np.linspace(0.0, widest, 4097)[1:]))
    x = np.unique(np.concatenate((-away, [0.0], away)))
    with np.errstate(all="ignore"):
        y, way = curve(x), np.sign(slope(x))
        step = np.sign(np.diff(y))
        # Between two places the curve goes one way if it has a value and that slope at both. At an
        # end of its domain, or where it stands still for a moment, one of them is enough.
        there = np.isfinite(y[:-1]) & np.isfinite(y[1:])
        left, right = (np.nan_to_num(part) for part in (way[:-1], way[1:]))
        one_way = there & (step != 0) & (left * step >= 0) & (right * step >= 0)
        turns = np.flatnonzero(there & (left * right < 0))
        low, high = _narrowed(slope, x[turns], x[turns + 1], left[turns])
    stretches: list[tuple[float, float, float]] = []
    narrowed = dict(zip(turns.tolist(), zip(low.tolist(), high.tolist(), strict=True), strict=True))
    for i in range(x.size - 1):
        if i in narrowed and _continuous(curve, *narrowed[i]):
            end, begin = narrowed[i]
            parts = [(float(x[i]), end, float(left[i])), (begin, float(x[i + 1]), float(right[i]))]
        elif one_way[i]:
            parts = [(float(x[i]), float(x[i + 1]), float(step[i]))]
        else:
            continue
        for part in parts:
            if stretches and stretches[-1][1] == part[0] and stretches[-1][2] == part[2]:
                stretches[-1] = (stretches[-1][0], *part[1:])
            else:
                stretches.append(part)
    return [(start, end) for start, end, _ in stretches]


def _narrowed(slope: Curve, low: Array, high: Array, at_low: Array) -> tuple[Array, Array]:
    """Where the sign of a slope changes, each place between two neighbours."""
    low, high = low.copy(), high.copy()
    for _ in range(100):
        middle = 0.5 * (low + high)
        same = np.sign(slope(middle)) == at_low
        low, high = np.where(same, middle, low), np.where(same, high, middle)
    return low, high


def _continuous(curve: Curve, low: float, high: float) -> bool:
    """Whether a curve has no jump between two neighbours at which its slope changes sign."""
    before, after = curve(np.array([low, high])).tolist()
    return bool(abs(after - before) <= 1e-6 * max(abs(before), abs(after), 1e-300))


#: Standard uncertainty of a rounding to whole steps: every error within half a step as likely.
ROUNDING = 1 / math.sqrt(12)
#: From so much noise on, nothing is left of the staircase: e^(−2π²σ²)/π < 1e-13.
SMOOTH = 1.25


def lasting_rounding(noise: float) -> float:
    """Root mean square of what averaging cannot take away, over all levels.
    Source: the staircase's Fourier series through Gaussian noise, Σ e^(−4π²k²σ²)/(2π²k²)."""
    if noise < 0.1:  # where many harmonics count, the sum is this but for e^(−1/(4σ²))
        return math.sqrt(ROUNDING**2 - noise / math.sqrt(math.pi) + noise**2)
    k = np.arange(1, 30)
    squares = np.exp(-4 * (math.pi * k * noise) ** 2) / (2 * (math.pi * k) ** 2)
    return math.sqrt(float(squares.sum()))


def median_rounding(noise: float, readings: int) -> float:
    """Root mean square of what rounding leaves in a median, over all levels, in steps.

    The median of an odd number is a reading that was rounded. An even number has two in the middle,
    whose roundings cancel in part if they lie on different steps: their distance is exponential,
    with the mean of order statistics at the peak of a normal density, √(2π)·noise/n.
    """
    apart = min(math.sqrt(2 * math.pi) * noise / readings, 50.0)
    if readings % 2 or apart < 0.002:
        return ROUNDING
    cancelled = apart - 2 * apart**2 + 2 * apart / math.expm1(1 / apart)
    return math.sqrt(ROUNDING**2 - cancelled / 4)


#: Levels from 0 to half a step, where a reading flips between two steps: there they lie close.
LEVELS = 0.5 - np.concatenate((np.geomspace(0.5, 1e-4, 400), [0.0]))


def rounded_readings(noise: float) -> tuple[Array, Array]:
    """How far the mean of a reading is off, and its variance, at each of `LEVELS`."""
    level = LEVELS
    if noise == 0:
        return level, np.zeros_like(level)
    if noise >= SMOOTH:
        return np.zeros_like(level), np.full_like(level, noise**2 + ROUNDING**2)
    reach = math.ceil(9 * noise) + 1
    steps = np.arange(-reach, reach + 1)
    edges = (np.arange(-reach, reach + 2) - 0.5 - level[:, None]) / noise
    from scipy.special import ndtr

    chance = np.diff(ndtr(edges), axis=1)
    mean = chance @ steps
    return mean - level, chance @ steps**2 - mean**2


def correlation_time(samples: Array) -> float:
    """How many samples stand for one independent one: 1 + 2 Σ ρ_k of the autocorrelation.

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


def _of_first_order(rho: float, n: int, sigmas: float) -> float:
    """(1 + ρ)/(1 − ρ), with ρ_1 freed from its bias and so many standard errors higher."""
    rho = float(np.clip(rho + (1.0 + 3.0 * rho) / n, -0.9999, 0.9999))
    rho = min(rho + sigmas * float(np.sqrt((1.0 - rho**2) / n)), 0.9999)
    return max(1.0, (1.0 + rho) / (1.0 - rho))


#: Cosines that the long-run variance is taken from: so many of n, of n over the correlation time,
#: and at most; fewer than the least tell nothing.
OF_ALL, OF_TIMES, MOST, LEAST = 0.25, 0.25, 200, 3
#: Independent samples that there must be even where the correlation is 1.6 standard errors higher.
FEWEST, SIGMAS = 8.0, 1.64


@dataclass(frozen=True)
class LongRun:
    """What the mean of samples is known to. variance: n times that of the mean; dof: degrees of
    freedom of that figure, 0 if it cannot be told; time: samples that stand for one."""

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
    # Σ x·cos(jπ(i + ½)/n) for all j: the Fourier sum of the samples and zeros up to 2n, turned by
    # half a sample.
    turn = np.exp(-0.5j * np.pi / n * np.arange(1, cosines + 1))
    sums = (turn * np.fft.rfft(samples - samples.mean(), 2 * n)[1 : cosines + 1]).real
    return LongRun(2.0 / n * float(sums @ sums) / cosines, cosines, time)


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
    """The root mean square, without what stands out."""
    squares = differences**2
    for _ in range(20):
        limit = 16.0 * float(np.mean(squares))
        kept = squares[squares <= limit]
        if kept.size == squares.size or not kept.size:
            break
        squares = kept
    return float(np.sqrt(np.mean(squares)))


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
