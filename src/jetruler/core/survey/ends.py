"""The marks that a sweep through the travel supports, and the mean of a resting column."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..bench.channel import Channel
from ..containers import as_samples
from ..error_types import JetRulerError, ParameterError
from ..numerics import AnyArray, Array
from ..result import Result, public_fields, refuses
from ..ruler.units import number, symbol
from .survey import Survey, stepped
from .surveyor import Surveyor, survey


class NothingMovedError(JetRulerError):
    """A log in which nothing moved has no ends.

    Examples
    --------
    >>> import jetruler as jr
    >>> try:
    ...     jr.find_ends([7, 7, 7])
    ... except jr.errors.NothingMovedError as error:
    ...     print(error)
    nothing moved: the samples span 0 counts, noise 0; move the sensor from end to end while logging
    """


@dataclass(frozen=True, eq=False, repr=False)
class Ends(Result):
    """The raw ends of a travel, drawn in by a margin so that both are really reached.

    Attributes
    ----------
    low, high : float
        Whole counts, or multiples of the resolution.
    margin : float
        Margin by which each end was moved inward.
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

    low: float
    """Whole counts, or multiples of the resolution."""
    high: float
    """Whole counts, or multiples of the resolution."""
    margin: float
    """Margin by which each end was moved inward."""
    rests_at_both: bool
    """Whether the samples dwell at both ends, as they do when a knob is turned from stop to
    stop."""

    @property
    def headline(self) -> str:
        return f"{number(self.low)} … {number(self.high)}, drawn in by {number(self.margin, 2)}"

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        return {name: [value] for name, value in public_fields(self).items()}

    def marks(self, at_low: float, at_high: float) -> tuple[tuple[float, float], ...]:
        """The two marks, in ascending counts: `((low, at_low), (high, at_high))`."""
        return ((self.low, at_low), (self.high, at_high))

    def line(self, at_low: float, at_high: float) -> str:
        """A ready line for a bench file."""
        pairs = (f"[{number(low)}, {number(true)}]" for low, true in self.marks(at_low, at_high))
        return f"marks = [{', '.join(pairs)}]".replace("−", "-")


def ends_of(found: Survey, margin: float | None = None) -> Ends:
    """Return the ends that a survey supports.

    Parameters
    ----------
    found : survey of a sweep from end to end.
    margin : by how much each end is drawn in, in the unit of the raw values; by default `RESTS`
        times the noise at that end, and at least one resolution step.

    Raises
    ------
    NothingMovedError
        If the samples span no more than their noise explains.
    ParameterError
        For a margin below 0, or of half the travel.
    """
    noise = 0.0 if math.isnan(found.noise) else found.noise
    span = found.high_end - found.low_end
    if margin is not None and not margin >= 0:
        raise ParameterError("margin", margin, "0 or more")
    if not span > max(8.0 * noise, 8.0 * found.lsb):
        nothing = "there is no sample"
        unit = "counts" if found.unit == "count" else symbol(found.unit)
        moved = nothing if math.isnan(span) else f"the samples span {number(span)} {unit}".rstrip()
        raise NothingMovedError(
            f"nothing moved: {moved}, noise {number(noise, 2)}; move the sensor from end to end "
            "while logging"
        )
    ends = [_end_of(found, max(found.lsb, 3.0 * noise), side) for side in (1, -1)]
    margins = [max(found.lsb, RESTS * end.noise) if margin is None else margin for end in ends]
    if span <= 2.0 * max(margins):
        expected = f"less than half the travel of {number(span)}"
        raise ParameterError("margin", max(margins), expected)
    low, high = ends[0].at + margins[0], ends[1].at - margins[1]
    rests = min(end.fraction for end in ends) > 0.01
    return Ends(_whole(low, found, math.ceil), _whole(high, found, math.floor), max(margins), rests)


#: An end is drawn in by this many standard deviations of what rests there: none of a few thousand
#: samples is further off.
RESTS = 5.0


@dataclass(frozen=True)
class _End:
    """Where a travel ends: what is dwelt on most there, the noise seen there, and the fraction of
    all samples that dwell."""

    at: float
    noise: float
    fraction: float


def _end_of(found: Survey, room: float, side: int) -> _End:
    """The end of a travel: at the low side (1) or the high one (−1)."""
    raw, occurrences = found.pairs()
    end = found.low_end if side > 0 else found.high_end
    off = side * (raw - end)  # how far inside the robust end
    span = found.high_end - found.low_end
    at_once = occurrences[(off > 0.1 * span) & (off < 0.9 * span)]
    usual = float(np.median(at_once)) if at_once.size else 0.0  # where it only passes
    while True:
        near = (off >= -room) & (off <= 2.0 * room)
        fraction = float(occurrences[near].sum()) / found.samples
        top = int(np.argmax(np.where(near, occurrences, -1)))
        if fraction > 0.01 and occurrences[top] >= 4.0 * usual:
            break
        room *= 2.0  # the noise of the two ends may differ: look further in for what rests
        if room > 0.02 * span:
            return _End(end, 0.0, min(fraction, 0.01))
    at = float(raw[top])
    inward = side * (raw - at)
    # A wave that turns has no bell there: none that its noise explains, or one-sided.
    most = math.inf if math.isnan(found.noise) else 4.0 * found.noise + found.lsb
    while 6.0 * room <= max(span, 6.0 * found.lsb):  # until the window holds all of the bell
        inner, outer = _half_bells(inward, occurrences - 2.0 * usual, occurrences, 3.0 * room)
        noise = max(inner, outer)
        is_bell = outer == 0.0 or inner <= 2.0 * outer + found.lsb
        if 3.0 * noise <= room and noise <= most and is_bell:
            return _End(at, noise, fraction)
        room *= 2.0
    return _End(end, 0.0, min(fraction, 0.01))


def _half_bells(
    inward: Array, clear: Array, occurrences: AnyArray, reach: float
) -> tuple[float, float]:
    """The noise of what rests, from its inner side less what passes there, and from its outer
    side: the mean square of half a bell is that of the whole one."""
    found = []
    for there, more in ((inward >= 0, clear), (inward <= 0, occurrences)):
        there = there & (abs(inward) <= reach) & (more > 0)
        # At a stop or a rail all that would lie beyond piles up in the middle: it counts no more
        # than its neighbours do.
        middle, beside = inward[there] == 0, float(np.max(more[there & (inward != 0)], initial=0.0))
        weight = np.where(middle, 0.5 * np.minimum(more[there], beside), more[there])
        square = float(inward[there] ** 2 @ weight)
        found.append(math.sqrt(square / weight.sum()) if weight.sum() > 0 else 0.0)
    return found[0], found[1]


def _whole(end: float, found: Survey, rounded: Callable[[float], int]) -> float:
    """An end on a raw value that can be: whole counts, or multiples of the resolution."""
    if found.unit == "count" and found.step == 1.0:
        return rounded(round(end / found.lsb, 6)) * int(found.lsb)
    return float(stepped(rounded(round(end / found.step, 6)), found.step))


def true_ends(channel: Channel | None) -> tuple[float, float]:
    """What the ends of a channel's travel represent: those of the marks it has, else 0 and 100."""
    for law in channel.chain.laws if channel is not None else ():
        if law.marks is not None:
            trues = [true for _, true in law.marks]
            return min(trues), max(trues)
    return 0.0, 100.0


@refuses
def find_ends(
    counts: Any, bits: int | None = None, signed: bool = False, margin: float | None = None
) -> Ends:
    """The ends of a travel from an array of counts that sweeps it: see `ends_of`.

    Parameters
    ----------
    counts : array, masked array, Series or sequence
        Counts of a sweep from end to end, shape (n,); what is missing is left out.
    bits : int, optional
        Bits of the converter; left out, any count may be.
    signed : bool, default False
        Whether it gives two's complement.
    margin : float, optional
        Counts by which each end is moved inward; by default from the noise.

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
    if bits is not None:
        return ends_of(survey(counts, bits, signed), margin)
    surveyor = Surveyor()
    surveyor.add(*as_samples(counts))
    return ends_of(surveyor.survey(), margin)


@dataclass(frozen=True)
class UnitMean:
    """A column in its channel's unit. samples: those that have a value; half_width: of the 95 %
    interval of the mean."""

    samples: int
    mean: float
    standard_deviation: float
    half_width: float


def unit_mean(survey: Survey, channel: Channel) -> UnitMean | None:
    """Mean and deviation of the values themselves: each count's, as often as it came up. The
    interval widens as the deviation does. None for a channel that reads zones."""
    if channel.ruler.label(0.0) is not None:
        return None
    raw, occurrences = survey.pairs()
    values = np.asarray(channel.read(raw).value)
    there = np.isfinite(values)
    values, occurrences = values[there], occurrences[there].astype(np.float64)
    n = int(occurrences.sum())
    if n < 2:
        return UnitMean(n, math.nan, math.nan, math.nan)
    mean = float(values @ occurrences) / n
    deviation = math.sqrt(float((values - mean) ** 2 @ occurrences) / (n - 1))
    per_raw = deviation / survey.standard_deviation if survey.standard_deviation else math.nan
    return UnitMean(n, mean, deviation, survey.known.half_width * per_raw)
