"""Two series side by side: alignment and delay."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..arrays import Array
from ..error_types import JetRulerError


class PairsError(JetRulerError):
    """Two series of which no pairs can be made.

    Examples
    --------
    >>> import jetruler as jr
    >>> try:
    ...     jr.compare([1.0], [1.0])
    ... except jr.errors.PairsError as error:
    ...     print(error)
    first and second have 1 pairs; three or more are right
    """


def aligned(at_a: Array, a: Array, at_b: Array, b: Array) -> tuple[Array, Array, Array]:
    """Pairs of two series that were sampled at different times: times, a, b.

    The denser series is interpolated in a straight line to the times of the sparser one, never
    across a gap of more than three of its usual intervals. NaN are left out.
    Raises `PairsError` where nothing overlaps.
    """
    there_a, there_b = ~np.isnan(a) & ~np.isnan(at_a), ~np.isnan(b) & ~np.isnan(at_b)
    at_a, a, at_b, b = at_a[there_a], a[there_a], at_b[there_b], b[there_b]
    if a.size < b.size:
        at, b, a = aligned(at_b, b, at_a, a)
        return at, a, b
    if a.size < 2 or b.size < 1:
        raise PairsError("there are no two series of values to pair")
    order = np.argsort(at_a, kind="stable")
    at_a, a = at_a[order], a[order]
    usual = float(np.median(np.diff(at_a)))
    after = np.clip(np.searchsorted(at_a, at_b), 1, at_a.size - 1)
    exact = at_a[np.clip(np.searchsorted(at_a, at_b), 0, at_a.size - 1)] == at_b
    near = (at_a[after] - at_a[after - 1] <= 3.0 * usual) | exact
    inside = (at_b >= at_a[0]) & (at_b <= at_a[-1]) & near
    if not inside.any():
        raise PairsError("no time has a value of both")
    return at_b[inside], np.interp(at_b[inside], at_a, a), b[inside]


@dataclass(frozen=True)
class Delay:
    """How far one series lags behind: `samples` of the first behind the second (negative: it is
    ahead), and the fraction of the difference's variance that this explains."""

    samples: float
    fraction: float


def delay_of(difference: Array, middle: Array) -> tuple[Delay, Array]:
    """The delay that a difference in step with the rate of change shows, and its part of it."""
    n = middle.size
    width = min(max(5, n // 200), n)
    if n < 30:
        return Delay(0.0, 0.0), np.zeros(n)
    kernel = np.ones(width) / width
    padded = np.pad(middle, (width // 2, width - 1 - width // 2), mode="edge")
    rate = np.gradient(np.convolve(padded, kernel, "valid"))
    off = difference - difference.mean()
    swing = rate - rate.mean()
    power = float(swing @ swing)
    if power == 0.0 or float(off @ off) == 0.0:
        return Delay(0.0, 0.0), np.zeros(n)
    slope = float(swing @ off) / power
    fraction = slope**2 * power / float(off @ off)
    return Delay(-slope, fraction), slope * rate
