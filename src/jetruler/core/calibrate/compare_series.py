"""`compare`: two series of values, or marks, against each other."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..arrays import Array
from ..errors import JetRulerError
from ..laws.linear import Line
from ..model.text import number
from .comparison import LIMITS, NOISY, Comparison, Verdict, round3
from .series import Delay, PairsError, aligned, correlation_time, delay_of, noise_of


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
    The 95 % interval of the bias is Student's, from as many samples as are independent by the
    autocorrelation of the differences.

    Source: limits of agreement, Bland and Altman, Lancet 327 (1986) 307; JCGM 100:2008, 4.2.

    Examples
    --------
    >>> import jetruler as jr
    >>> import numpy as np
    >>> true = np.linspace(0, 100, 40)
    >>> found = jr.compare(true + 0.5, true)
    >>> round(float(found.bias), 3)
    0.5
    """
    if within is not None and not within > 0:
        raise JetRulerError(f"within: found {within:g}; a difference above 0 is right")
    a, b = _paired(a, b, times, times_b)
    if a.size < 3:
        raise PairsError(f"{names[0]} and {names[1]} have {a.size} pairs; three or more are right")
    parts = _Parts(a, b, ordered)
    relevant = within or resolution or 1e-12 * float(np.max(np.abs(b)))
    verdict, correction = _judged(parts, relevant, within)
    reach = LIMITS * parts.standard_deviation
    return Comparison(
        names,
        unit,
        a=a,
        b=b,
        n=a.size,
        independent=parts.independent,
        bias=parts.bias,
        half_width=parts.half_width,
        standard_deviation=parts.standard_deviation,
        noise_a=noise_of(a) if ordered else float("nan"),
        noise_b=noise_of(b) if ordered else float("nan"),
        limits=(parts.bias - reach, parts.bias + reach),
        gain=parts.gain,
        gain_half_width=parts.gain_half_width,
        middle=parts.middle,
        curve=parts.curve if verdict == "curve" else 0.0,
        delay=parts.delay,
        within=_bearable(relevant, within) if verdict == "noise" else relevant,
        verdict=verdict,
        correction=correction,
        notes=_notes(parts.delay, names, interval),
    )


def _paired(a: Any, b: Any, times: Any, times_b: Any) -> tuple[Array, Array]:
    """The values that both have, paired in time where times are given."""
    a, b = (np.asarray(values, dtype=np.float64).reshape(-1) for values in (a, b))
    if times is not None and times_b is not None:
        at = [np.asarray(t, dtype=np.float64).reshape(-1) for t in (times, times_b)]
        _, a, b = aligned(at[0], a, at[1], b)
    elif a.size != b.size:
        raise JetRulerError(
            f"compare: {a.size} and {b.size} values; without times, as many of both are right"
        )
    both = np.isfinite(a) & np.isfinite(b)
    return a[both], b[both]


def _notes(delay: Delay, names: tuple[str, str], interval: float) -> tuple[str, ...]:
    """What is to be said of a delay."""
    if not delay.samples:
        return ()
    late, early = names if delay.samples > 0 else names[::-1]
    behind = f"{number(round3(abs(delay.samples)))} samples"
    if np.isfinite(interval):
        behind += f" ({number(round3(abs(delay.samples) * interval))} s)"
    return (f"{late} follows {early} {behind} later: compared without that part",)


def _student(degrees: float, tail: float = 0.975) -> float:
    from scipy.special import stdtrit

    return float(stdtrit(degrees, tail)) if degrees > 0 else float("nan")


class _Parts:
    """The statistics of a comparison, one after the other."""

    def __init__(self, a: Array, b: Array, ordered: bool) -> None:
        n = a.size
        self.delay = Delay(0.0, 0.0)
        if ordered:
            found, part = delay_of(a - b, 0.5 * (a + b))
            if found.fraction > 0.3 and abs(found.samples) > 0.5:
                self.delay, a = found, a - part
        self.a, self.b, self.d = a, b, a - b
        self.bias = float(self.d.mean())
        time = correlation_time(self.d) if ordered else 1.0
        self.independent = n / time
        spare = n - time
        square = float(np.sum((self.d - self.bias) ** 2))
        self.standard_deviation = float(np.sqrt(square / spare)) if spare > 0 else float("nan")
        factor = _student(self.independent - 1)
        self.half_width = factor * self.standard_deviation / float(np.sqrt(self.independent))
        self._trend(ordered)

    def _trend(self, ordered: bool) -> None:
        """The gain part, and what a curve leaves beyond it."""
        a, b, d = self.a, self.b, self.d
        self.gain = self.gain_half_width = float("nan")
        self.curve, self.bent = 0.0, False
        along = 0.5 * (a + b) if ordered else b
        self.middle = float(along.mean())
        if min(np.ptp(a), np.ptp(b)) == 0 or np.corrcoef(a, b)[0, 1] < 0.9:
            return
        u = along - self.middle
        self.gain = float(u @ d) / float(u @ u)
        rest = d - self.bias - self.gain * u
        if ordered:
            # Unequal noise of the two would look like a gain: its part is taken out.
            self.gain = self._without_noise(a, b, float(rest @ rest) / a.size)
            rest = d - self.bias - self.gain * u
        self._bend(u / float(np.max(np.abs(u))), rest, ordered)
        time = correlation_time(rest) if ordered else 1.0
        independent = a.size / time
        if independent <= 2.5:
            self.gain = float("nan")
            return
        deviation = float(np.sqrt(rest @ rest / max(1.0, a.size - 2 * time)))
        self.gain_half_width = (
            _student(independent - 2) * deviation / float(np.sqrt(u @ u / a.size * independent))
        )

    @staticmethod
    def _without_noise(a: Array, b: Array, rest: float) -> float:
        noise = np.array([noise_of(a) ** 2, noise_of(b) ** 2])
        noise *= min(1.0, rest / max(float(noise.sum()), 1e-300))
        moved = np.array([a.var(), b.var()]) - noise
        ratio = float(np.sqrt(moved[0] / moved[1]))
        return 2.0 * (ratio - 1.0) / (ratio + 1.0)

    def _bend(self, u: Array, rest: Array, ordered: bool) -> None:
        """Whether a parabola or a cubic follows what is left, and how far they reach."""
        if u.size < 5:
            return
        degree = 3 if u.size >= 8 else 2
        q, r = np.linalg.qr(np.vander(u, degree + 1, increasing=True))
        along = q.T @ rest
        left = rest - q @ along
        time = correlation_time(left) if ordered else 1.0
        spare = u.size / time - degree - 1
        if spare < 1 or np.min(np.abs(np.diag(r))) < 1e-9 * np.abs(r[0, 0]):
            return
        # An orthonormal column's coefficient has the variance of one sample, times the number of
        # samples that stand for an independent one.
        scatter = np.sqrt(float(left @ left) / u.size * time * (spare + degree + 1) / spare)
        limit = _student(spare, 0.9975) * scatter + 1e-12 * float(np.max(np.abs(self.b)))
        self.bent = bool(np.any(np.abs(along[2:]) > limit))
        self.curve = float(np.max(np.abs(q[:, 2:] @ along[2:])))


def _judged(parts: _Parts, relevant: float, within: float | None) -> tuple[Verdict, Line | None]:
    """The verdict, and the line that brings a to b."""
    if not np.isfinite(parts.half_width):
        return "unknown", None
    # A verdict is given at 99 %, so that one bias in a hundred is a false one.
    sure = _student(parts.independent - 1, 0.995) / _student(parts.independent - 1)
    told = np.isfinite(parts.gain) and abs(parts.gain) > sure * parts.gain_half_width
    reach = float(np.max(np.abs(parts.b - parts.middle)))
    gain_matters = told and abs(parts.gain) * reach > relevant
    if parts.bent and parts.curve > relevant:
        return "curve", None
    biased = abs(parts.bias) > max(sure * parts.half_width, relevant)
    if gain_matters or biased:
        if not gain_matters:
            return "bias", Line(1.0, -parts.bias)
        # d = bias + g · ((a + b)/2 − middle), solved for b.
        g = parts.gain
        gain = (1 - g / 2) / (1 + g / 2)
        return "bias", Line(gain, float(parts.b.mean() - gain * parts.a.mean()))
    return (
        "noise" if LIMITS * parts.standard_deviation > _bearable(relevant, within) else "agree"
    ), None


def _bearable(relevant: float, within: float | None) -> float:
    """How far single readings may be apart without averaging them being worth while."""
    return within if within is not None else NOISY * relevant
