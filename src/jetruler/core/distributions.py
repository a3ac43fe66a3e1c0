"""Quantiles and tails of the distributions that verdicts stand on, one number at a time.

SciPy has them for arrays; loading it takes longer than any fit. Sources: Lentz's continued fraction
of the incomplete beta function (DLMF 8.17.22) and of the incomplete gamma function (DLMF 8.9.2).
"""

from __future__ import annotations

import math
from collections.abc import Callable

#: Beyond so many degrees of freedom Student's t is told from the normal distribution.
MANY = 2000.0
_ENOUGH = 1e-16
_TINY = 1e-300


def normal_quantile(p: float) -> float:
    """The value that a standard normal variable stays below with probability p, 0 < p < 1."""
    tail = min(p, 1.0 - p)
    if tail == 0.5:
        return 0.0
    # Where the tail is about e^(−z²/2)/(2z): a start that Newton's steps on its logarithm mend.
    z = math.sqrt(max(-2.0 * math.log(2.0 * tail), 0.0))
    for _ in range(60):
        above = 0.5 * math.erfc(z / math.sqrt(2.0))
        density = math.exp(-0.5 * z * z) / math.sqrt(2.0 * math.pi)
        step = (math.log(above) - math.log(tail)) * above / density
        z += step
        if abs(step) <= 4e-16 * z:
            break
    return z if p > 0.5 else -z


def student_quantile(degrees: float, p: float) -> float:
    """The value that Student's t of so many degrees of freedom stays below with probability p."""
    if math.isinf(degrees):
        return normal_quantile(p)
    if not degrees > 0:
        return math.nan
    tail = min(p, 1.0 - p)
    if tail == 0.5:
        return 0.0
    if degrees > MANY:
        return _near_normal(normal_quantile(p), degrees)

    def log_tail(log_t: float) -> float:
        # The tail beyond t is half the incomplete beta function at ν/(ν + t²).
        square = math.exp(2.0 * log_t)
        return math.log(0.5 * _beta(0.5 * degrees, 0.5, degrees / (degrees + square)))

    t = math.exp(_falling(log_tail, math.log(tail)))
    return t if p > 0.5 else -t


def _near_normal(z: float, degrees: float) -> float:
    """Student's quantile from the normal one. Source: Abramowitz and Stegun, 26.7.5."""
    terms = (
        (z**3 + z) / 4,
        (5 * z**5 + 16 * z**3 + 3 * z) / 96,
        (3 * z**7 + 19 * z**5 + 17 * z**3 - 15 * z) / 384,
        (79 * z**9 + 776 * z**7 + 1482 * z**5 - 1920 * z**3 - 945 * z) / 92160,
    )
    return z + sum(term / degrees**i for i, term in enumerate(terms, start=1))


def chi_square_tail(degrees: float, x: float) -> float:
    """Probability that chi-square of so many degrees of freedom exceeds x."""
    return _gamma_tail(0.5 * degrees, 0.5 * x)


def f_tail(above: float, below: float, x: float) -> float:
    """Probability that F of these degrees of freedom exceeds x."""
    return _beta(0.5 * below, 0.5 * above, below / (below + above * max(x, 0.0)))


def _falling(curve: Callable[[float], float], y: float) -> float:
    """Where a falling curve is y: a bracket, then secant steps that bisection guards."""
    low, high = -1.0, 1.0
    while curve(low) < y:
        low -= abs(low)
    while curve(high) > y:
        high += abs(high)
    at_low, at_high = curve(low) - y, curve(high) - y
    for i in range(200):
        x = (low * at_high - high * at_low) / (at_high - at_low)
        if i % 3 == 2 or not low < x < high:
            x = 0.5 * (low + high)
        at = curve(x) - y
        if at > 0:
            low, at_low = x, at
        else:
            high, at_high = x, at
        if at == 0 or high - low <= 4e-16 * max(1.0, abs(x)):
            return x
    return x


def _beta(a: float, b: float, x: float) -> float:
    """The regularized incomplete beta function, 0 ≤ x ≤ 1."""
    if x <= 0.0 or x >= 1.0:
        return float(x >= 1.0)
    if x > (a + 1.0) / (a + b + 2.0):  # the fraction converges on the other side
        return 1.0 - _beta(b, a, 1.0 - x)
    front = a * math.log(x) + b * math.log1p(-x) - math.log(a)
    front += math.lgamma(a + b) - math.lgamma(a) - math.lgamma(b)
    c, d = 1.0, 1.0 / (1.0 - (a + b) * x / (a + 1.0) or _TINY)
    value = d
    for m in range(1, 10_000):
        even = m * (b - m) * x / ((a + 2 * m - 1) * (a + 2 * m))
        odd = -(a + m) * (a + b + m) * x / ((a + 2 * m) * (a + 2 * m + 1))
        for term in (even, odd):
            d = 1.0 / (1.0 + term * d or _TINY)
            c = 1.0 + term / c or _TINY
            value *= d * c
        if abs(d * c - 1.0) < _ENOUGH:
            break
    return math.exp(front) * value


def _gamma_tail(a: float, x: float) -> float:
    """The upper regularized incomplete gamma function."""
    if x <= 0.0:
        return 1.0
    front = math.exp(a * math.log(x) - x - math.lgamma(a))
    if x < a + 1.0:  # the power series of the lower one
        term = total = 1.0 / a
        n = a
        while term > total * _ENOUGH:
            n += 1.0
            term *= x / n
            total += term
        return 1.0 - front * total
    b = x + 1.0 - a
    c, d = 1.0 / _TINY, 1.0 / b
    value = d
    for i in range(1, 10_000):
        term = -i * (i - a)
        b += 2.0
        d = 1.0 / ((term * d + b) or _TINY)
        c = (b + term / c) or _TINY
        value *= d * c
        if abs(d * c - 1.0) < _ENOUGH:
            break
    return front * value
