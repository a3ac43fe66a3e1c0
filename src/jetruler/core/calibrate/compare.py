"""`compare`: two series of values, or marks, against each other."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from ..bench.channel import Channel
from ..error_types import JetRulerError
from ..laws.linear import Line
from ..numerics import Array, coverage_factor, long_run, noise_of
from ..ruler.quantity import amount
from ..ruler.units import number, significant
from ..uncertainty.contributions import resolution_of
from .comparison import LIMITS, NOISY, Comparison, Delay, PairsError, Verdict, aligned, delay_of


def compare(
    a: Any,
    b: Any,
    *,
    times: Any = None,
    times_b: Any = None,
    unit: str | None = None,
    within: float | None = None,
    resolution: float = 0.0,
    ordered: bool = True,
    interval: float = float("nan"),
    missing: int = 0,
    names: tuple[str, str] = ("first", "second"),
) -> Comparison:
    """Compare two series of values in the same unit; the second one is taken for right.

    Parameters
    ----------
    a, b : object
        Values of equal length, paired as they stand, NaN left out; with `times` and `times_b`
        paired in time.
    times : object, optional
        Times of a, in s; with `times_b` the two are paired by time.
    times_b : object, optional
        Times of b, in s.
    unit : str, optional
        Unit of both.
    within : float, optional
        The difference that matters; without it, `resolution` (what one count or one decimal is
        worth).
    resolution : float, default 0.0
        What one count or one decimal is worth: the difference that matters if `within` is not
        said.
    ordered : bool, default True
        The pairs follow one another in time, so that neighbours may depend on each other; marks
        do not.
    interval : float, default float("nan")
        Seconds between two pairs, to tell a delay in seconds too.
    missing : int, default 0
        Samples of the second beside which the first had no value, if they were left out before;
        where they are more than a tenth, no verdict is given.
    names : tuple[str, str], default ("first", "second")
        What messages call the two.

    Returns
    -------
    Comparison
        Statistics, verdict, and the correction if one is called for.

    Raises
    ------
    PairsError
        For fewer than three pairs.
    JetRulerError
        For lengths that do not fit.

    Notes
    -----
    The model is a = truth + offset + gain part + bend + noise, b = truth + noise. The 95 % interval
    of the bias is Student's, from the long-run variance of the differences. Gain and bend are
    sought along the mean of both, each weighted with the noise of the other.

    Sources: limits of agreement, Bland and Altman, Lancet 327 (1986) 307; long-run variance,
    Lazarus et al., J. Business and Economic Statistics 36 (2018) 541; errors in both, Fuller,
    Measurement Error Models, 1.3.

    Examples
    --------
    >>> import jetruler as jr
    >>> import numpy as np
    >>> true = np.linspace(0, 100, 40)
    >>> found = jr.compare(true + 0.5, true)
    >>> round(float(found.bias), 3)
    0.5
    """
    within = amount("within", within, unit, difference=True)
    if within is not None and not within > 0:
        raise JetRulerError(f"within: expected a difference above 0, found {within:g}")
    a, b, lost = _paired(a, b, times, times_b)
    lost += missing
    if a.size < 3:
        raise PairsError(f"{names[0]} and {names[1]}: expected three pairs or more, found {a.size}")
    parts = _Parts(a, b, ordered)
    relevant = within or resolution or 1e-12 * float(np.max(np.abs(b)))
    verdict, reason, correction = _judged(parts, relevant, within, lost / (lost + a.size))
    return Comparison(
        names,
        unit,
        a=a,
        b=b,
        n=a.size,
        independent=parts.independent,
        bias=parts.bias,
        half_width=parts.half_width,
        largest_bias=abs(parts.bias) + parts.bound,
        standard_deviation=parts.standard_deviation,
        noise_a=parts.noise[0],
        noise_b=parts.noise[1],
        limits=parts.limits,
        limits_aligned=parts.limits_aligned,
        gain=parts.gain,
        gain_half_width=parts.gain_half_width,
        middle=parts.middle,
        bend=parts.bend if verdict == "bend" else 0.0,
        delay=parts.delay,
        within=relevant,
        bearable=within if within is not None else NOISY * relevant,
        verdict=verdict,
        reason=reason,
        correction=correction,
        notes=_notes(parts.delay, names, interval),
    )


def _paired(a: Any, b: Any, times: Any, times_b: Any) -> tuple[Array, Array, int]:
    """The values that both have, paired in time where times are given, and how many of b stand
    alone."""
    a, b = (np.asarray(values, dtype=np.float64).reshape(-1) for values in (a, b))
    if times is not None and times_b is not None:
        at = [np.asarray(t, dtype=np.float64).reshape(-1) for t in (times, times_b)]
        _, a, b = aligned(at[0], a, at[1], b)
    elif a.size != b.size:
        raise JetRulerError(
            f"compare: expected as many values of both, without times, found {a.size} and {b.size}"
        )
    both = np.isfinite(a) & np.isfinite(b)
    return a[both], b[both], int(np.count_nonzero(np.isfinite(b) & ~both))


def _notes(delay: Delay, names: tuple[str, str], interval: float) -> tuple[str, ...]:
    """What is to be said of a delay."""
    if not delay.samples:
        return ()
    late, early = names if delay.samples > 0 else names[::-1]
    behind = f"{number(significant(abs(delay.samples)))} samples"
    if np.isfinite(interval):
        behind += f" ({number(significant(abs(delay.samples) * interval))} s)"
    return (f"{late} follows {early} {behind} later: compared without that part",)


class _Parts:
    """The statistics of a comparison, one after the other.

    The model: a = b's truth + offset + gain part + bend + noise of a; b = truth + noise of b.
    """

    def __init__(self, a: Array, b: Array, ordered: bool) -> None:
        self.a, self.b, self.ordered = a, b, ordered
        raw = a - b
        self.noise = (noise_of(a), noise_of(b)) if ordered else (float("nan"), float("nan"))
        self.standard_deviation = float(raw.std(ddof=1))
        self.limits = _limits(raw)
        self.delay = Delay(0.0, 0.0)
        if ordered:
            found, part = delay_of(raw, 0.5 * (a + b))
            if found.fraction > 0.3 and abs(found.samples) > 0.5:
                self.delay, self.a = found, a - part
        self.d = self.a - self.b
        self.limits_aligned = _limits(self.d)
        self.bias = float(self.d.mean())
        rest = self._trend()
        self.long_run = long_run(rest, ordered, spent=1 + self.terms)
        variance = self.long_run.variance
        self.independent = a.size / self.long_run.time
        if ordered and self.long_run.dof > 0 and variance > 0:
            self.independent = min(float(a.size), a.size * float(rest.var(ddof=1)) / variance)
        self.half_width = self._half_width(variance / a.size, self.long_run.dof)
        self.bound = self._half_width(variance / a.size, self.long_run.dof, SURE)

    def _half_width(self, variance: float, dof: float, level: float = 0.95) -> float:
        return coverage_factor(dof, level) * float(np.sqrt(variance)) if dof > 0 else float("nan")

    def _trend(self) -> Array:
        """The gain part, what a bend leaves beyond it, and the differences without what of both is
        told from noise.

        Both are sought along u, the mean of the two, each weighted with the noise of the other:
        its noise has nothing in common with that of the difference, whatever the two are, so that
        unequal noise is no gain and plateaus make no bend.
        """
        a, b, d = self.a, self.b, self.d
        self.gain = self.gain_half_width = float("nan")
        self.bend, self.bent, self.gain_is_sure, self.terms = 0.0, False, False, 0
        squares = np.square(self.noise)
        known = np.isfinite(squares).all() and squares.sum() > 0
        self.weight = float(squares[0] / squares.sum()) if known else 0.5
        if not self.ordered:
            self.weight = 1.0
        u = self.weight * b + (1.0 - self.weight) * a
        self.middle = float(u.mean())
        off = d - self.bias
        if min(np.ptp(a), np.ptp(b)) == 0 or np.corrcoef(a, b)[0, 1] < 0.9:
            return off
        u = u - self.middle
        square = float(u @ u)
        gain = float(u @ d) / square
        left = self._bend(u / float(np.max(np.abs(u))), d)
        rest = left if self.bent else off - gain * u
        found = long_run(u * rest, self.ordered)
        variance, dof = a.size * found.variance / square**2, found.dof
        if not self.ordered:
            dof = a.size - 2
            variance = float(rest @ rest) / dof / square
        if dof > 0:
            self.gain, self.gain_half_width = gain, self._half_width(variance, dof)
            self.gain_is_sure = abs(gain) > self._half_width(variance, dof, SURE)
        self.terms = 3 if self.bent else int(self.gain_is_sure)
        return rest if self.terms else off

    def _bend(self, u: Array, d: Array) -> Array:
        """Whether a parabola or a cubic follows the differences, how far they reach, and what they
        leave."""
        n = u.size
        degree = 3 if n >= 8 else 2
        q, r = np.linalg.qr(np.vander(u, degree + 1, increasing=True))
        if n < 5 or np.min(np.abs(np.diag(r))) < 1e-9 * np.abs(r[0, 0]):
            return d
        along = q.T @ d
        left: Array = d - q @ along
        self.bend = float(np.max(np.abs(q[:, 2:] @ along[2:])))
        tiny = 1e-12 * float(np.max(np.abs(self.b)))
        for column, size in zip(q.T[2:], along[2:], strict=True):
            found = long_run(column * left, self.ordered)
            variance, dof = n * found.variance, found.dof
            if not self.ordered:
                dof = n - degree - 1
                variance = float(left @ left) / dof
            limit = self._half_width(variance, dof, SURE_OF_BEND)
            self.bent |= bool(abs(size) > limit + tiny)
        return left


def _limits(d: Array) -> tuple[float, float]:
    """Between which 95 % of normal differences lie."""
    reach = LIMITS * float(d.std(ddof=1))
    return float(d.mean()) - reach, float(d.mean()) + reach


#: One bend in three hundred is a false one.
SURE_OF_BEND = 0.9992
#: A verdict is given at 99 %, so that one offset in a hundred is a false one.
SURE = 0.99
#: The fraction of samples without which no verdict is given.
MISSING = 0.1


def _judged(
    parts: _Parts, relevant: float, within: float | None, missing: float
) -> tuple[Verdict, str, Line | None]:
    """The verdict, why nothing can be told, and the line that brings a to b."""
    n = parts.d.size
    if missing > MISSING:
        return "cannot tell", f"{100 * missing:.0f} % of the samples have no value", None
    if not np.isfinite(parts.half_width):
        return "cannot tell", _too_little(parts, parts.long_run.needed), None
    bound = parts.bound
    reach = float(np.max(np.abs(parts.b - parts.middle)))
    if parts.bent and parts.bend > relevant:
        return "bend", "", None
    if parts.gain_is_sure and abs(parts.gain) * reach > relevant:
        # d = bias + g · (w b + (1 − w) a − middle), solved for b.
        g, w = parts.gain, parts.weight
        gain = (1.0 - g * (1.0 - w)) / (1.0 + g * w)
        return "gain", "", Line(gain, float(parts.b.mean() - gain * parts.a.mean()))
    if abs(parts.bias) > max(bound, relevant):
        return "offset", "", Line(1.0, -parts.bias)
    if within is not None and abs(parts.bias) + bound > within:
        room = max(within - abs(parts.bias), 0.1 * within)
        return "cannot tell", _too_little(parts, int(np.ceil(n * (bound / room) ** 2))), None
    return "agree", "", None


def _too_little(parts: _Parts, needed: int) -> str:
    """Why there is no interval, or too wide a one."""
    n = parts.d.size
    needed = int(significant(max(needed, n + 1), 2))
    if parts.ordered and parts.long_run.time > 0.1 * n and n >= 50:
        return f"drift: the differences wander so slowly that about {needed} pairs would be needed"
    return f"too few: about {needed} pairs would do"


def relevant_difference(channel: Channel, values: Array) -> float:
    """What one count is worth at a channel's values (their median), or one of its last decimals,
    whichever is more; 0 where neither is known."""
    values = values[np.isfinite(values)]
    count = math.nan
    try:
        counts = channel.chain.inverse(values[:: max(1, values.size // 1000)])
        slopes = np.abs(channel.chain.slope(counts)) * resolution_of(channel.chain)
        if np.isfinite(slopes).any():
            count = float(np.median(slopes[~np.isnan(slopes)]))
    except JetRulerError:  # it turns back: no count can be named
        pass
    places = 10.0**-channel.decimals if channel.decimals is not None else 0.0
    return max(0.0 if math.isnan(count) else count, places)
