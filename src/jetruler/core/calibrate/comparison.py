"""`compare`: bias, standard deviation, limits of agreement, gain and offset, and a verdict."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np

from ..arrays import Array
from ..errors import JetRulerError
from ..laws.linear import Line
from ..model.text import number, shown
from ..model.units import symbol
from ..uncertainty.rounding import rounded
from .series import Delay, PairsError, aligned, correlation_time, delay_of, noise_of

Verdict = Literal["agree", "bias", "noise", "curve", "unknown"]

#: So many standard deviations hold 95 % of normal differences.
LIMITS = 1.96
#: Without `within`: noise over so many counts is worth averaging.
NOISY = 10.0


@dataclass(frozen=True, eq=False)
class Comparison:
    """A first sensor (a) against a second one, or a reference (b). Differences are a − b.

    Attributes
    ----------
    names : tuple[str, str]
        What the two are called.
    unit : str | None
        Their unit.
    a : array of float64, optional
        Values of the first, shape (n,).
    b : array of float64, optional
        Values of the second, shape (n,).
    n : int
        Pairs.
    independent : float
        As how many independent ones they count.
    bias : float
        Mean difference.
    half_width : float
        Of the 95 % interval of the bias.
    standard_deviation : float
        Standard deviation of the differences.
    noise_a, noise_b : float
        Standard deviation of each round its slow movement (NaN without time order).
    limits : tuple[float, float]
        Of agreement: 95 % of the differences lie between.
    gain : float
        Gain error (0.01 is 1 %); NaN where the values move too little to tell.
    gain_half_width : float
        Of the 95 % interval of the gain.
    middle : float
        The value at which an offset of `bias` is left beside the gain.
    curve : float
        The largest difference that neither offset nor gain removes, where it is significant,
        else 0.
    delay : Delay
        Of a behind b, in samples; what it does to the differences is taken out first.
    within : float
        The difference that matters.
    verdict : Verdict
        "agree", "bias", "noise", "curve", or "unknown" for too few samples.
    correction : Line | None
        The line to put on top of a so that it reads as b; None if none is called for.
    notes : tuple[str, ...], default ()
        What else is to be said, such as a delay.

    Examples
    --------
    >>> import jetruler as jr
    >>> import numpy as np
    >>> true = np.linspace(0, 100, 40)
    >>> jr.compare(true + 0.5, true).verdict
    'bias'
    """

    names: tuple[str, str]
    unit: str | None
    a: Array = field(repr=False)
    b: Array = field(repr=False)
    n: int
    independent: float
    bias: float
    half_width: float
    standard_deviation: float
    noise_a: float
    noise_b: float
    limits: tuple[float, float]
    gain: float
    gain_half_width: float
    middle: float
    curve: float
    delay: Delay
    within: float
    verdict: Verdict
    correction: Line | None
    notes: tuple[str, ...] = ()

    @property
    def difference(self) -> Array:
        """a − b, pair by pair."""
        return self.a - self.b

    @property
    def mean(self) -> Array:
        """(a + b) / 2, pair by pair."""
        return 0.5 * (self.a + self.b)

    def shown(self, value: float) -> str:
        """A difference to the place of the second digit, with its unit."""
        return shown(float(rounded(value, self.standard_deviation)[0].replace("−", "-")), self.unit)

    @property
    def sentence(self) -> str:
        """The verdict in words."""
        first, second = self.names
        if self.verdict == "unknown":
            return "too few independent samples to tell a bias from noise: compare for longer"
        if self.verdict == "curve":
            return (
                f"{first} and {second} differ by a curve: up to {_three(self.curve, self.unit)} "
                f"that no offset and gain remove; a bent law fitted to marks does (jetruler fit)"
            )
        if self.verdict == "bias":
            return self._bias_sentence()
        if self.verdict == "noise":
            many = max(2, int(np.ceil(self.readings)))
            return (
                f"{first} and {second} differ by noise, which averaging reduces: the means of "
                f"{many} readings agree within {_three(self.within, self.unit)}"
            )
        far = max(abs(end) for end in self.limits)
        text = f"{first} and {second} agree within {_three(far, self.unit)}"
        if abs(self.bias) > self.half_width:
            small = f"their bias, {_three(abs(self.bias), self.unit)}, is less than what matters"
            return f"{text}; {small}, {_three(self.within, self.unit)}"
        return text

    def _bias_sentence(self) -> str:
        first, second = self.names
        low, high = float(self.b.min()), float(self.b.max())
        if self.correction is not None and self.correction.gain != 1.0:
            ends = [self.correction.inverse(np.array([v]))[0] - v for v in (low, high)]
            at = [
                f"{_three(e, self.unit)} at {shown(_round3(v), self.unit)}"
                for e, v in zip(ends, (low, high), strict=True)
            ]
            text = f"{first} differs from {second} by {at[0]} and {at[1]}: offset and gain"
            return f"{text}, a bias that calibration removes and averaging does not"
        value, u = rounded(abs(self.bias), self.half_width)
        side = "above" if self.bias > 0 else "below"
        amount = f"{value} ± {u}" if np.isfinite(self.half_width) else value
        text = f"{first} reads {amount} {symbol(self.unit)}".rstrip()
        return f"{text} {side} {second}: a bias that calibration removes and averaging does not"

    @property
    def readings(self) -> float:
        """How many readings to average for their means to agree to `within`."""
        return self.n / self.independent * (LIMITS * self.standard_deviation / self.within) ** 2

    def __str__(self) -> str:
        first, second = self.names
        unit = symbol(self.unit)
        value, u = rounded(self.bias, self.half_width)
        low, high = (_three(end, self.unit) for end in self.limits)
        alone = number(_round3(self.independent))
        lines = [
            f"{first} − {second}, {self.n} pairs, as many as {alone} independent ones",
            f"  bias         {value} ± {u} {unit} (95 %)".rstrip(),
            f"  std dev      {_three(self.standard_deviation, self.unit)}; 95 % of the differences "
            f"lie between {low} and {high}",
        ]
        if np.isfinite(self.noise_a):
            lines.append(
                f"  noise        {first} {_three(self.noise_a, self.unit)}, "
                f"{second} {_three(self.noise_b, self.unit)}"
            )
        if np.isfinite(self.gain):
            value, u = rounded(100 * self.gain, 100 * self.gain_half_width)
            lines.append(
                f"  gain part    {value} ± {u} %, about {shown(_round3(self.middle), self.unit)}"
            )
        else:
            lines.append("  gain part    not to be told: the values move too little")
        lines += [*(f"  {note}" for note in self.notes), "", self.sentence]
        return "\n".join(lines)


def _round3(value: float) -> float:
    return float(f"{value:.3g}")


def _three(value: float, unit: str | None) -> str:
    return shown(_round3(value), unit)


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
    spread = LIMITS * parts.standard_deviation
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
        limits=(parts.bias - spread, parts.bias + spread),
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
    behind = f"{number(_round3(abs(delay.samples)))} samples"
    if np.isfinite(interval):
        behind += f" ({number(_round3(abs(delay.samples) * interval))} s)"
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
        spread = float(np.sqrt(rest @ rest / max(1.0, a.size - 2 * time)))
        self.gain_half_width = (
            _student(independent - 2) * spread / float(np.sqrt(u @ u / a.size * independent))
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


def _judged(parts: _Parts, matters: float, within: float | None) -> tuple[Verdict, Line | None]:
    """The verdict, and the line that brings a to b."""
    if not np.isfinite(parts.half_width):
        return "unknown", None
    # A verdict is given at 99 %, so that one bias in a hundred is a false one.
    sure = _student(parts.independent - 1, 0.995) / _student(parts.independent - 1)
    told = np.isfinite(parts.gain) and abs(parts.gain) > sure * parts.gain_half_width
    reach = float(np.max(np.abs(parts.b - parts.middle)))
    gain_matters = told and abs(parts.gain) * reach > matters
    if parts.bent and parts.curve > matters:
        return "curve", None
    biased = abs(parts.bias) > max(sure * parts.half_width, matters)
    if gain_matters or biased:
        if not gain_matters:
            return "bias", Line(1.0, -parts.bias)
        # d = bias + g · ((a + b)/2 − middle), solved for b.
        g = parts.gain
        gain = (1 - g / 2) / (1 + g / 2)
        return "bias", Line(gain, float(parts.b.mean() - gain * parts.a.mean()))
    return (
        "noise" if LIMITS * parts.standard_deviation > _bearable(matters, within) else "agree"
    ), None


def _bearable(matters: float, within: float | None) -> float:
    """How far single readings may be apart without averaging them being worth while."""
    return within if within is not None else NOISY * matters
