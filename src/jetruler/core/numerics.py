"""Arrays and what is computed of them: Student's t, inverses of monotone curves, what rounding does
to a mean."""

from __future__ import annotations

import math
from collections.abc import Callable
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


def steps_of(times: Array, before: float | None = None) -> Array:
    """The steps between times; infinite between two misread ones too far apart for a float.
    before: the time before the first, whose step is then the first."""
    with np.errstate(over="ignore", invalid="ignore"):
        if before is None or not times.size:
            return np.diff(times)
        steps = np.empty(times.size)
        steps[0] = times[0] - before
        np.subtract(times[1:], times[:-1], out=steps[1:])
    return steps


def step_decimals(times: Array) -> int:
    """To how many decimals, nine at most, the steps between times are known: floats as large as
    seconds since 1970 hold a microsecond, and no less."""
    ends = np.abs(times[[0, -1]]) if times.size else np.zeros(1)
    largest = np.fmax.reduce(ends[ends < np.inf], initial=0.0)
    return min(9, -math.ceil(math.log10(2.0 * np.spacing(largest))))


def coverage_factor(dof: float, level: float = 0.95) -> float:
    """The factor of a two-sided interval of this level, for this many degrees of freedom.

    Student's; the normal one for infinite degrees of freedom, NaN for none.
    Source: JCGM 100:2008, G.3 and table G.2.
    """
    return float(coverage_factors(np.array(float(dof)), level))


def coverage_factors(dof: Array, level: float = 0.95) -> Array:
    """The same for many degrees of freedom at once."""
    from scipy.special import ndtri, stdtrit  # 0.2 s, worth it only where an interval is needed

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
        taken, moving = np.full_like(x, np.inf), np.ones(x.shape, np.bool_)
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
            # What has arrived stays, so that an answer is the same whatever is asked beside it.
            following = np.where(moving, following, x)
            taken = np.abs(following - x)
            moving &= taken > 2e-16 * np.abs(x)
            x = following
            if not np.any(moving):
                break
    return x


def turning_point(curve: Curve, low: float, high: float) -> float | None:
    """Where a curve first turns back or is flat, to about six digits of the range."""
    found = None
    for _ in range(3):  # each time between the neighbours of what was found
        wide = low > 0 and high > 1000 * low
        x = np.geomspace(low, high, 2049) if wide else np.linspace(low, high, 2049)
        with np.errstate(all="ignore"):
            step = np.sign(np.diff(curve(x)))
        there = np.isfinite(step)
        step, left, right = step[there], x[:-1][there], x[1:][there]
        if not step.size or step[0] == 0:
            return (float(left[0]) if step.size else low) if found is None else found
        turned = np.flatnonzero(step != step[0])
        if not turned.size:
            return found
        at = int(turned[0])
        found, low, high = float(left[at]), float(left[at - 1]), float(right[at])
    return found


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
        # end of its domain, or where it stops for a moment, one of them is enough.
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
