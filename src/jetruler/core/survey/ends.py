"""The marks that a sweep through the travel supports."""

from __future__ import annotations

import math
from dataclasses import dataclass

from ..arrays import AnyArray
from ..errors import JetRulerError, ParameterError
from ..laws.linear import Line
from ..model.channel import Channel
from ..model.text import number
from .survey import Survey, survey


class NothingMovedError(JetRulerError):
    """A log in which nothing moved has no ends.

    Examples
    --------
    >>> import jetruler as jr
    >>> try:
    ...     jr.find_ends([7, 7, 7])
    ... except jr.NothingMovedError as error:
    ...     print(error)
    nothing moved: the samples span 0 counts, noise 0; move the sensor from end to end while logging
    """


@dataclass(frozen=True)
class Ends:
    """The raw ends of a travel, drawn in by a margin so that both are really reached.

    Attributes
    ----------
    low, high : int
        Whole counts.
    margin : float
        By how much each was drawn in.
    rests_at_both : bool
        Whether the samples dwell at both ends, as they do when a knob is turned from stop to
        stop.

    Examples
    --------
    >>> import jetruler as jr
    >>> import numpy as np
    >>> jr.find_ends(np.linspace(200, 3900, 500).round()).marks(0, 100)
    ((201, 0), (3899, 100))
    """

    low: int
    high: int
    margin: float
    rests_at_both: bool

    def marks(self, at_low: float, at_high: float) -> tuple[tuple[float, float], ...]:
        """The two marks, in ascending counts: `((low, at_low), (high, at_high))`."""
        return ((self.low, at_low), (self.high, at_high))

    def line(self, at_low: float, at_high: float) -> str:
        """A ready line for a bench file."""
        pairs = (f"[{low}, {number(true)}]" for low, true in self.marks(at_low, at_high))
        return f"marks = [{', '.join(pairs)}]".replace("−", "-")


def ends_of(found: Survey, margin: float | None = None) -> Ends:
    """The ends that a survey supports. margin: counts by which each end is drawn in; by default
    three times the noise, at least one count.

    Raises `NothingMovedError` where the samples span no more than their noise explains, and
    `ParameterError` for a margin below 0 or of half the travel.
    """
    noise = 0.0 if math.isnan(found.noise) else found.noise
    if margin is None:
        margin = max(1.0, 3.0 * noise)
    span = found.high_end - found.low_end
    if not margin >= 0:
        raise ParameterError("margin", margin, "0 counts or more is right")
    if not span > max(8.0 * noise, 8.0 * found.lsb):
        moved = (
            "there is no sample" if math.isnan(span) else f"the samples span {number(span)} counts"
        )
        raise NothingMovedError(
            f"nothing moved: {moved}, noise {noise:.2g}; move the sensor from end to end while "
            "logging"
        )
    if span <= 2.0 * margin:
        raise ParameterError(
            "margin", margin, f"less than half the travel of {number(span)} is right"
        )
    low, high = _plateau(found, margin)
    return Ends(
        math.ceil(low + margin), math.floor(high - margin), margin, _rests(found, low, high, margin)
    )


def _plateau(found: Survey, margin: float) -> tuple[float, float]:
    """Where the travel ends: the middle of what is dwelt on at the end, else the robust end."""
    counts, often = found.histogram.pairs()
    ends = []
    for end, inward in ((found.low_end, 1), (found.high_end, -1)):
        near = (counts >= min(end, end + inward * 2 * margin)) & (
            counts <= max(end, end + inward * 2 * margin)
        )
        dwelt = often[near].sum() > 0.01 * found.samples
        ends.append(float((counts[near] @ often[near]) / often[near].sum()) if dwelt else end)
    return ends[0], ends[1]


def _rests(found: Survey, low: float, high: float, margin: float) -> bool:
    counts, often = found.histogram.pairs()
    shares = [often[abs(counts - end) <= 2 * margin].sum() / found.samples for end in (low, high)]
    return bool(min(shares) > 0.01)


def true_ends(channel: Channel | None) -> tuple[float, float]:
    """What the ends of a channel's travel stand for: those of the marks it has, else 0 and 100."""
    for law in channel.chain.laws if channel is not None else ():
        if isinstance(law, Line) and law.marks is not None:
            trues = [true for _, true in law.marks]
            return min(trues), max(trues)
    return 0.0, 100.0


def find_ends(
    counts: AnyArray, bits: int = 16, signed: bool = False, margin: float | None = None
) -> Ends:
    """The ends of a travel from an array of counts that sweeps it: see `ends_of`.

    Parameters
    ----------
    counts : array
        Whole counts of a sweep from end to end, shape (n,).
    bits : int, default 16
        Bits of the converter.
    signed : bool, default False
        Whether it gives two's complement.
    margin : float, optional
        By how many counts each end is drawn in; from the noise if None.

    Returns
    -------
    Ends
        The two ends.

    Raises
    ------
    NothingMovedError
        For parameters that make no sense.

    Examples
    --------
    >>> import jetruler as jr
    >>> import numpy as np
    >>> ends = jr.find_ends(np.linspace(200, 3900, 500).round())
    >>> round(ends.low), round(ends.high)
    (201, 3899)
    """
    return ends_of(survey(counts, bits, signed), margin)
