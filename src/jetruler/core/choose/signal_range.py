"""A small signal spread over the converter's range: amplifiers with resistors that there are, and
the reference voltage that uses most of it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from ..bench.channel import Channel
from ..error_types import JetRulerError, ParameterError
from ..laws.preferred import preferred
from ..numerics import Array
from ..result import Content, Result, TextTable, refuses
from ..ruler.base_law import FRACTION
from ..ruler.units import number, shown, significant

Stage = Literal["non-inverting", "inverting"]


@dataclass(frozen=True)
class AmplifierStage:
    """One stage with its resistors.

    stage: "non-inverting", output = input · (1 + feedback/ground); or "inverting" with an offset,
    output = bias · (1 + feedback/input) − input · feedback/input, the bias from a divider of
    `upper` and `lower` across the reference. feedback, other: the two resistors of the gain in Ω
    (other: to ground, or at the input). gain, offset: what they make, as the law `amplifier`
    takes them. low_out, high_out: output at the ends of the signal in V; used: the fraction of the
    reference between them. wanted_gain, wanted_offset: before rounding to the series.
    """

    stage: Stage
    feedback: float
    other: float
    upper: float | None
    lower: float | None
    gain: float
    offset: float
    low_out: float
    high_out: float
    used: float
    wanted_gain: float
    wanted_offset: float

    @property
    def law(self) -> str:
        """The line for the bench file."""
        return f'{{ law = "amplifier", gain = {self.gain:.6g}, offset = {self.offset:.6g} }}'


@dataclass(frozen=True, eq=False, repr=False)
class AmplifierChoice(Result):
    """Both stages (a stage that cannot serve is left out, and `left_out` says why).

    Attributes
    ----------
    low : float
        Lower end of the signal, in V.
    high : float
        Upper end of the signal, in V.
    vref : float
        Reference voltage, in V.
    fraction : float
        Fraction of the reference that the signal is to cover.
    series : str
        Series of the resistors.
    stages : tuple[AmplifierStage, ...]
        The stages that serve, with their resistors.
    left_out : tuple[str, ...]
        Why each other stage cannot serve.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.choose_amplifier(0.0, 0.02, 3.3).stages[0].stage
    'non-inverting'
    """

    low: float
    """Lower end of the signal, in V."""
    high: float
    """Upper end of the signal, in V."""
    vref: float
    """Reference voltage, in V."""
    fraction: float
    """Fraction of the reference that the signal is to cover."""
    series: str
    """Series of the resistors."""
    stages: tuple[AmplifierStage, ...]
    """The stages that serve, with their resistors."""
    left_out: tuple[str, ...]
    """Why each other stage cannot serve."""

    @property
    def table(self) -> dict[str, list[object]]:
        """The stages, a list a column."""
        fields = AmplifierStage.__dataclass_fields__
        return {name: [getattr(s, name) for s in self.stages] for name in fields}

    @property
    def headline(self) -> str:
        return str(self.content[0])

    @property
    def content(self) -> Content:
        rows = [
            [
                s.stage,
                shown(s.feedback, "ohm"),
                shown(s.other, "ohm"),
                "–" if s.upper is None else f"{number(s.upper)} / {shown(s.lower or 0.0, 'ohm')}",
                number(significant(s.gain, 4)),
                shown(significant(s.offset, 4), "V"),
                f"{number(significant(s.low_out))} … {shown(significant(s.high_out), 'V')}",
                f"{s.used:.1%}",
                f"{s.gain / s.wanted_gain - 1:+.2%}".replace("-", "−"),
            ]
            for s in self.stages
        ]
        heading = [
            *("stage", "feedback", "ground / input", "bias from", "gain", "offset"),
            *("output", "range", "gain off by"),
        ]
        signal = f"{number(self.low)} to {shown(self.high, 'V')} over {self.fraction:.0%} of "
        signal += shown(self.vref, "V")
        laws = [f"{s.stage}: {s.law}" for s in self.stages]
        table = TextTable(heading, rows)
        return [f"{signal}, {self.series}", "", table, *self.left_out, "", *laws]


@refuses
def choose_amplifier(
    low: float,
    high: float,
    vref: float,
    *,
    fraction: float = 0.9,
    series: str = "E24",
    between: tuple[float, float] = (1e3, 1e5),
) -> AmplifierChoice:
    """Gain and offset that spread a signal from low to high, in V, over a fraction of the
    reference.

    Two stages are worked out with resistors of a series between two ends in Ω: the standard
    non-inverting one, which has no offset, so that the signal's 0 V stays at 0 V; and the inverting
    one with an offset, which centres the signal in the range. Output never leaves the range.

    Parameters
    ----------
    low : float
        Lower end of the signal, in V.
    high : float
        Upper end of the signal, in V.
    vref : float
        Reference voltage, in V.
    fraction : float, default 0.9
        Fraction of the reference that the signal is to cover, above 0, up to 1.
    series : str, default "E24"
        As for `preferred`: "E3" to "E192".
    between : tuple[float, float], default (1000.0, 100000.0)
        Smallest and largest resistor, in Ω.

    Returns
    -------
    AmplifierChoice
        Both stages, as far as they serve.

    Raises
    ------
    ParameterError
        For parameters that make no sense.
    JetRulerError
        Where neither serves.

    Notes
    -----
    Source: the ideal operational amplifier; IEC 60063.

    Examples
    --------
    >>> import jetruler as jr
    >>> choice = jr.choose_amplifier(0.0, 0.02, 3.3)
    >>> choice.stages[0].stage
    'non-inverting'
    """
    if not low < high:
        raise ParameterError("from", low, f"a voltage below {number(high)} V")
    if not vref > 0:
        raise ParameterError("vref", vref, "a voltage above 0 V")
    if not 0 < fraction <= 1:
        raise ParameterError("fraction", fraction, "a fraction above 0, up to 1")
    values = preferred(series, *between)
    if values.size < 2:
        raise ParameterError("between", between, f"a range with two values of {series}")
    stages, left_out = [], []
    for make in (_non_inverting, _inverting):
        try:
            stages.append(make(low, high, vref, fraction, values))
        except JetRulerError as error:
            left_out.append(str(error))
    if not stages:
        raise JetRulerError("; ".join(left_out))
    return AmplifierChoice(
        low,
        high,
        vref=vref,
        fraction=fraction,
        series=series,
        stages=tuple(stages),
        left_out=tuple(left_out),
    )


def _non_inverting(
    low: float, high: float, vref: float, fraction: float, values: Array
) -> AmplifierStage:
    top = 0.5 * (1 + fraction) * vref
    if low < 0:
        raise JetRulerError("non-inverting: it cannot give the signal's part below 0 V")
    wanted = top / high
    if wanted < 1:
        raise JetRulerError(
            f"non-inverting: expected a gain of 1 or more, found {number(wanted, 3)}"
        )
    gains = 1 + values[:, None] / values
    fits = np.where(gains * high <= vref, np.abs(np.log(gains / wanted)), np.inf)
    i, j = np.unravel_index(int(np.argmin(fits)), fits.shape)
    if not np.isfinite(fits[i, j]):
        raise JetRulerError(f"non-inverting: no two values give a gain of {number(wanted, 3)}")
    gain = float(gains[i, j])
    ends = (gain * low, gain * high)
    return AmplifierStage(
        "non-inverting",
        float(values[i]),
        other=float(values[j]),
        upper=None,
        lower=None,
        gain=gain,
        offset=0.0,
        low_out=ends[0],
        high_out=ends[1],
        used=(ends[1] - ends[0]) / vref,
        wanted_gain=wanted,
        wanted_offset=0.0,
    )


def _inverting(
    low: float, high: float, vref: float, fraction: float, values: Array
) -> AmplifierStage:
    wanted = fraction * vref / (high - low)
    ratios = values[:, None] / values
    off = np.abs(np.log(ratios / wanted))
    if float(off.min()) > 0.2:
        raise JetRulerError(f"inverting: no two values give a gain of −{number(wanted, 3)}")
    # The bias drives nothing: its divider may be ten times as large.
    upper = np.concatenate([values, 10 * values])
    shares = values / (values + upper[:, None])  # lower / (upper + lower)
    best = None
    for place in np.argsort(off, axis=None)[:60]:  # the few best gains, each with its best bias
        i, j = np.unravel_index(int(place), off.shape)
        gain = float(ratios[i, j])
        offsets = shares * vref * (1 + gain)
        bottom, top = offsets - gain * high, offsets - gain * low
        off_centre = np.abs(0.5 * (bottom + top) / vref - 0.5)
        off_centre[(bottom < 0) | (top > vref)] = np.inf
        k, m = np.unravel_index(int(np.argmin(off_centre)), shares.shape)
        mismatch = abs(gain / wanted - 1) * fraction + float(off_centre[k, m])
        if np.isfinite(mismatch) and (best is None or mismatch < best[0]):
            ends = (float(bottom[k, m]), float(top[k, m]))
            best = (mismatch, i, j, k, m, gain, float(offsets[k, m]), ends)
    if best is None:
        bias = (0.5 * vref + wanted * 0.5 * (low + high)) / (1 + wanted)
        raise JetRulerError(
            f"inverting: a bias of {number(bias, 3)} V would centre the signal, and no two values "
            "divide the reference to that"
        )
    _, i, j, k, m, gain, offset, ends = best
    return AmplifierStage(
        "inverting",
        float(values[i]),
        other=float(values[j]),
        upper=float(upper[k]),
        lower=float(values[m]),
        gain=-gain,
        offset=offset,
        low_out=ends[1],
        high_out=ends[0],
        used=(ends[1] - ends[0]) / vref,
        wanted_gain=-wanted,
        wanted_offset=0.5 * vref + wanted * 0.5 * (low + high),
    )


@dataclass(frozen=True)
class Reference:
    """One reference voltage: the fraction of the counts between the ends of the signal, what is
    left above it in V (negative: it saturates by that), what one count is worth in V, and the
    fractions of the signal that are lost: above the reference, and below 0 V."""

    vref: float
    used: float
    margin: float
    resolution: float
    lost_above: float
    lost_below: float

    @property
    def saturates(self) -> bool:
        """Whether the signal goes beyond it. One that just reaches it fits."""
        return self.lost_above > 0


@dataclass(frozen=True, eq=False, repr=False)
class ReferenceChoice(Result):
    """References, best first; those that saturate last. low, high: the signal in V.

    Attributes
    ----------
    low : float
        Lower end of the signal, in V.
    high : float
        Upper end of the signal, in V.
    candidates : tuple[Reference, ...]
        One for each reference voltage, best first.

    Examples
    --------
    >>> import jetruler as jr
    >>> len(jr.choose_reference(0.2, 2.3, [1.1, 2.5, 3.3]).candidates) > 1
    True
    """

    low: float
    """Lower end of the signal, in V."""
    high: float
    """Upper end of the signal, in V."""
    candidates: tuple[Reference, ...]
    """One for each reference voltage, best first."""

    @property
    def best(self) -> Reference | None:
        """The best one; None where every one saturates."""
        return None if self.candidates[0].saturates else self.candidates[0]

    @property
    def table(self) -> dict[str, list[float]]:
        """All candidates, a list a column."""
        names = ("vref", "used", "margin", "resolution", "lost_above", "lost_below")
        return {name: [getattr(c, name) for c in self.candidates] for name in names}

    @property
    def headline(self) -> str:
        return str(self.content[-1])

    @property
    def content(self) -> Content:
        rows = [
            [
                shown(c.vref, "V"),
                f"{c.used:.1%}",
                shown(significant(c.margin, 3), "V"),
                f"{c.margin / c.vref:.1%}".replace("-", "−"),
                f"{number(1e3 * c.resolution, 3)} mV",
                f"saturates: {c.lost_above:.1%} of the signal lost" if c.saturates else "",
            ]
            for c in self.candidates
        ]
        heading = ["reference", "counts", "margin", "", "one count", ""]
        signal = f"the signal goes from {number(self.low)} to {shown(self.high, 'V')}"
        best = f"take {shown(self.best.vref, 'V')}" if self.best else "every one saturates"
        if below := self.candidates[0].lost_below:
            best += f"; {below:.1%} of the signal lies below 0 V, where every one of them loses it"
        return [signal, "", TextTable(heading, rows), "", best]


@refuses
def choose_reference(
    low: float, high: float, references: Sequence[float], *, bits: int = 12
) -> ReferenceChoice:
    """Which reference voltage uses most of the range for a signal from low to high, in V, without
    saturating. Raises `ParameterError`. Source: the transfer function of an ideal converter.

    Parameters
    ----------
    low : float
        Lower end of the signal, in V.
    high : float
        Upper end of the signal, in V.
    references : Sequence[float]
        Voltages to choose from, in V.
    bits : int, default 12
        Bits of the converter.

    Returns
    -------
    ReferenceChoice
        All candidates, best first.

    Examples
    --------
    >>> import jetruler as jr
    >>> choice = jr.choose_reference(0.2, 2.3, [1.1, 2.5, 3.3])
    >>> choice.candidates[0].vref  # the best one
    2.5
    """
    if not low < high:
        raise ParameterError("from", low, f"a voltage below {number(high)} V")
    if not references or not all(0 < v < math.inf for v in references):
        raise ParameterError("of", tuple(references), "voltages above 0 V")
    found = []
    for vref in dict.fromkeys(references):
        resolution = vref / (2**bits - 1)
        used = (min(high, vref) - min(max(low, 0.0), vref)) / vref
        above, below = (max(0.0, part) / (high - low) for part in (high - vref, -low))
        found.append(Reference(float(vref), used, vref - high, resolution, above, lost_below=below))
    found.sort(key=lambda c: (c.saturates, -c.used, -c.vref))
    return ReferenceChoice(low, high, tuple(found))


def pin_volts(channel: Channel, low: float, high: float) -> tuple[float, float]:
    """The smallest and largest volts at the pin for a channel's values from low to high.

    Raises `JetRulerError` for a ratiometric channel, whose signal follows the reference, and for
    values that no volts give.
    """
    adc = channel.chain.converter
    if adc is None or adc.full_count is None:
        raise JetRulerError(f"{channel.name} is in counts: its volts are not known")
    if adc.gives == FRACTION:
        raise JetRulerError(
            f"{channel.name} is ratiometric: its signal follows the reference, whichever it is"
        )
    y = np.linspace(low, high, 101)
    with np.errstate(all="ignore"):
        for law in reversed(channel.chain.laws[1:]):
            y = law.inverse(y)
    if not np.all(np.isfinite(y)):
        raise JetRulerError(
            f"{channel.name}: no volts give every value from {number(low)} to "
            f"{shown(high, channel.unit)}"
        )
    return float(y.min()), float(y.max())
