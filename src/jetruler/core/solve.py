"""Inverses of monotone curves: Newton steps inside a bracket that bisection guards."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from .arrays import Array
from .errors import JetRulerError

Curve = Callable[[Array], Array]


class NoInverseError(JetRulerError):
    """A curve that turns back has no inverse; the message says where it does."""


def solve_monotone(curve: Curve, slope: Curve, y: Array, low: Array, high: Array) -> Array:
    """x in [low, high] with curve(x) = y, to machine precision; NaN where there is none.

    The curve is monotone between low and high, which are arrays like y. Newton's step is taken
    where it stays in the bracket, else the bracket is halved.
    """
    with np.errstate(all="ignore"):
        low, high = np.array(low + 0.0 * y), np.array(high + 0.0 * y)
        at_low, at_high = curve(low), curve(high)
        rising = at_high > at_low
        inside = (y >= np.fmin(at_low, at_high)) & (y <= np.fmax(at_low, at_high))
        x = low + (high - low) * np.clip((y - at_low) / (at_high - at_low), 0, 1)
        x[~inside] = np.nan
        for _ in range(200):
            error = curve(x) - y
            too_far = (error > 0) == rising
            high = np.where(too_far & (error != 0), x, high)
            low = np.where(~too_far & (error != 0), x, low)
            step = x - error / slope(x)
            # NaN compares false: a step that cannot be taken is a bisection too.
            good = (step > low) & (step < high)
            following = np.where(error == 0, x, np.where(good, step, 0.5 * (low + high)))
            still = np.abs(following - x) > 2e-16 * np.abs(x)
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
