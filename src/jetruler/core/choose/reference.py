"""The reference voltage that uses most of a converter's range without saturating."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ..error_types import JetRulerError, ParameterError
from ..laws.adc import Adc
from ..model.channel import Channel
from ..model.law import FRACTION
from ..model.result import Content, Result, TextTable
from ..model.text import number, shown


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


@dataclass(frozen=True, repr=False)
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
    high: float
    candidates: tuple[Reference, ...]

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
                shown(float(f"{c.margin:.3g}"), "V"),
                f"{c.margin / c.vref:.1%}".replace("-", "−"),
                f"{1e3 * c.resolution:.3g} mV",
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
    >>> choice.best.vref
    2.5
    """
    if not low < high:
        raise ParameterError("from", low, f"a voltage below {number(high)} V is right")
    if not references or not all(0 < v < math.inf for v in references):
        raise ParameterError("of", tuple(references), "voltages above 0 V are right")
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
    if not isinstance(adc, Adc):
        raise JetRulerError(f"{channel.name} stands on counts: no volts are known there")
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
