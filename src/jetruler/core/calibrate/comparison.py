"""What a comparison gives: bias, standard deviation, limits of agreement, gain, offset, delay, and
a verdict."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np

from ..error_types import JetRulerError
from ..laws import law_line
from ..laws.linear import Line
from ..numerics import Array
from ..result import Content, Result, Title
from ..ruler.units import number, rounded, shown, significant, symbol
from .questions import Delay


class PairsError(JetRulerError):
    """Two series of which no pairs can be made.

    Examples
    --------
    >>> import jetruler as jr
    >>> try:
    ...     jr.compare([1.0], [1.0])
    ... except jr.errors.PairsError as error:
    ...     print(error)
    first and second: expected three pairs or more, found 1
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


Verdict = Literal["agree", "offset", "gain", "bend", "drift", "reversed", "cannot tell"]

#: This many standard deviations hold 95 % of normal differences.
LIMITS = 1.96
#: Without `within`: noise over this many counts is worth averaging.
NOISY = 10.0


@dataclass(frozen=True, eq=False, repr=False)
class Comparison(Result):
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
        Number of independent pairs that they are worth.
    bias : float
        Mean difference.
    half_width : float
        Half-width of the 95 % interval of the bias.
    largest_bias : float
        A larger one would have been detected, 99 times in a hundred.
    standard_deviation : float
        Standard deviation of the differences.
    noise_a, noise_b : float
        Standard deviation of each round its slow movement (NaN without time order).
    limits : tuple[float, float]
        Limits of agreement: 95 % of the differences are between them, with the delay.
    limits_aligned : tuple[float, float]
        The same after the delay was taken out.
    gain : float
        Gain error (0.01 is 1 %); NaN where the values move too little to tell.
    gain_half_width : float
        Half-width of the 95 % interval of the gain.
    middle : float
        The value at which an offset of `bias` is left beside the gain.
    bend : float
        The largest difference that neither offset nor gain removes, where it is significant,
        else 0.
    drift : float
        How far the differences drift from the first pair to the last, where that is the verdict,
        else 0.
    scale : tuple[float, float] | None
        How much the first moves when the second moves by one, between which two factors at 99 %;
        None where it is unknown.
    delay : Delay
        Delay of a behind b in samples; the differences are corrected for it.
    within : float
        The difference that matters.
    bearable : float
        How far single readings may be apart without averaging them being worth while.
    verdict : Verdict
        "agree", "offset", "gain", "bend", "drift", "reversed", or "cannot tell".
    reason : str
        Why it is unknown.
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
    'offset'
    """

    names: tuple[str, str]
    """What the two are called."""
    unit: str | None
    """Their unit."""
    a: Array = field(repr=False)
    """Values of the first, shape (n,)."""
    b: Array = field(repr=False)
    """Values of the second, shape (n,)."""
    n: int
    """Pairs."""
    independent: float
    """Number of independent pairs that they are worth."""
    bias: float
    """Mean difference."""
    half_width: float
    """Half-width of the 95 % interval of the bias."""
    largest_bias: float
    """A larger one would have been detected, 99 times in a hundred."""
    standard_deviation: float
    """Standard deviation of the differences."""
    noise_a: float
    """Standard deviation of each round its slow movement (NaN without time order)."""
    noise_b: float
    """Standard deviation of each round its slow movement (NaN without time order)."""
    limits: tuple[float, float]
    """Limits of agreement: 95 % of the differences are between them, with the delay."""
    limits_aligned: tuple[float, float]
    """The same after the delay was taken out."""
    gain: float
    """Gain error (0.01 is 1 %); NaN where the values move too little to tell."""
    gain_half_width: float
    """Half-width of the 95 % interval of the gain."""
    middle: float
    """The value at which an offset of `bias` is left beside the gain."""
    bend: float
    """The largest difference that neither offset nor gain removes, where it is significant, else
    0."""
    drift: float
    """How far the differences drift from the first pair to the last, where that is the verdict,
    else 0."""
    scale: tuple[float, float] | None
    """How much the first moves when the second moves by one, between which two factors at 99 %;
    None where it is unknown."""
    delay: Delay
    """Delay of a behind b in samples; the differences are corrected for it."""
    within: float
    """The difference that matters."""
    bearable: float
    """How far single readings may be apart without averaging them being worth while."""
    verdict: Verdict
    """"agree", "offset", "gain", "bend", "drift", "reversed", or "cannot tell"."""
    reason: str
    """Why it is unknown."""
    correction: Line | None
    """The line to put on top of a so that it reads as b; None if none is called for."""
    notes: tuple[str, ...]
    """What else is to be said, such as a delay."""

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
        if self.verdict == "cannot tell":
            return f"it cannot be decided whether {first} and {second} agree: {self.reason}"
        if self.verdict == "bend":
            return (
                f"{first} and {second} differ by a bend: up to {_three(self.bend, self.unit)} "
                f"that no offset and gain remove; a bent law fitted to marks does (jetruler fit)"
            )
        if self.verdict == "reversed":
            return (
                f"{first} and {second} run against each other: {first} falls when {second} rises. "
                "Look at the two legs of the divider (`sensor`), at crossed wires, and at marks in "
                "the wrong order"
            )
        if self.verdict == "drift":
            return (
                f"{first} drifts away from {second}: by {_three(self.drift, self.unit)} from the "
                "first pair to the last, which no correction removes"
            )
        if self.verdict == "gain" and self.correction is None and self.scale is not None:
            if self.scale == (0.0, 0.0):
                return (
                    f"{first} does not move while {second} does: look at its wire, its column and "
                    "the clamps among its laws"
                )
            factor = number(significant(sum(self.scale) / 2, 2))
            return (
                f"{first} moves {factor} times as much as {second}: no calibration error is that "
                "large. Look at the unit, the gain and the marks of its laws, and at the leg of "
                "the divider (`sensor`)"
            )
        if self.verdict in ("offset", "gain"):
            return self._bias_sentence()
        far = max(abs(end) for end in self.limits)
        text = f"{first} and {second} agree within {_three(far, self.unit)}"
        if far > self.bearable:
            many = max(2, int(np.ceil(self.readings)))
            text += (
                f", which is noise that averaging reduces: the means of {many} readings agree "
                f"within {_three(self.bearable, self.unit)}"
            )
        most = self.largest_bias
        if not np.isfinite(most):
            return f"{text}; too few pairs, or too strongly correlated, to determine the bias"
        if most <= self.within and abs(self.bias) > self.half_width:
            small = f"their bias, {_three(abs(self.bias), self.unit)}, is less than what matters"
            return f"{text}; {small}, {_three(self.within, self.unit)}"
        return f"{text}; a bias of more than {_three(most, self.unit)} would have been detected"

    def _bias_sentence(self) -> str:
        first, second = self.names
        low, high = float(self.b.min()), float(self.b.max())
        if self.correction is not None and self.correction.gain != 1.0:
            ends = [self.correction.inverse(np.array([v]))[0] - v for v in (low, high)]
            at = [
                f"{_three(e, self.unit)} at {shown(significant(v), self.unit)}"
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
        """How many readings to average for their means to agree to `bearable`."""
        return self.n / self.independent * (LIMITS * self.standard_deviation / self.bearable) ** 2

    @property
    def headline(self) -> str:
        return self.sentence

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        return {
            "what": [
                "bias",
                "standard deviation",
                "gain error",
                "largest bend",
                "limits, low",
                "limits, high",
                "pairs",
                "independent",
            ],
            "value": [
                self.bias,
                self.standard_deviation,
                self.gain,
                self.bend,
                *self.limits,
                self.n,
                self.independent,
            ],
            "half-width at 95 %": [self.half_width, None, self.gain_half_width, *[None] * 5],
        }

    @property
    def content(self) -> Content:
        first, second = self.names
        unit = symbol(self.unit)
        value, u = rounded(self.bias, self.half_width)
        low, high = (_three(end, self.unit) for end in self.limits)
        alone = number(significant(self.independent))
        alone += " independent one" if alone == "1" else " independent ones"
        lines = [
            Title(f"{first} − {second}, {self.n} pairs, as many as {alone}"),
            f"  bias         {value} ± {u} {unit}".rstrip() + " (95 %)"
            if np.isfinite(self.half_width)
            else f"  bias         {_three(self.bias, self.unit)}; no interval is known",
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
            middle = _three(self.middle, self.unit)
            lines.append(f"  gain part    {value} ± {u} % (95 %), about {middle}")
        else:
            lines.append("  gain part    unknown: the values move too little")
        if self.delay.samples:
            low, high = (_three(end, self.unit) for end in self.limits_aligned)
            lines.append(f"  aligned      95 % of the differences lie between {low} and {high}")
        lines += [*(f"  {note}" for note in self.notes), "", Title(self.sentence)]
        if self.correction is not None:
            lines.append(f"the correction of {first}: {law_line(self.correction)}")
        return lines

    def _fields(self) -> Mapping[str, Any]:
        figures = (
            *("bias", "half_width", "standard_deviation", "noise_a", "noise_b", "gain"),
            *(
                "gain_half_width",
                "middle",
                "bend",
                "drift",
                "scale",
                "independent",
                "limits",
                "limits_aligned",
            ),
        )
        first, second = self.names
        correction = self.correction
        return {
            "first": first,
            "second": second,
            "unit": self.unit,
            "pairs": self.n,
            **{name: getattr(self, name) for name in figures},
            "delay_samples": self.delay.samples,
            **{name: getattr(self, name) for name in ("within", "verdict", "reason", "sentence")},
            "correction": None
            if correction is None
            else {"gain": correction.gain, "offset": correction.offset},
            "notes": self.notes,
        }


def _three(value: float, unit: str | None) -> str:
    return shown(significant(value), unit)
