"""`spot_check`: what a channel reads at marks, without any fit."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..bench.channel import Channel, channel_of
from ..error_types import JetRulerError
from ..numerics import Array, coverage_factor
from ..result import Content, Result, Title, refuses
from ..ruler.quantity import amount
from ..ruler.ruler import Law, Ruler
from ..ruler.units import many, number, shown
from .adjust import MarkedLaws, points, read_at, records
from .fit_result import error_shown
from .in_channel import on_rails
from .marks import Marks


@dataclass(frozen=True, eq=False, repr=False)
class SpotCheck(Result):
    """What a channel reads at marks, against their truth.

    Attributes
    ----------
    channel : Channel
        The channel.
    marks : Marks
        The marks, with true values in the unit of the comparison.
    read : array of float64
        What the channel reads, shape (n,); NaN where it has no value.
    error : array of float64
        Read − true, shape (n,).
    within : float | None
        The error that is allowed.
    saturated : tuple[str, ...]
        Sentences on marks that are on a rail.

    Examples
    --------
    >>> import jetruler as jr
    >>> knob = jr.Channel("knob", jr.Counts(12) >> jr.Line(0.1), "ch0")
    >>> print(jr.spot_check(knob, [(500, 50.4)], within=1).headline)
    knob is within 1 at the mark: off by −0.4
    """

    channel: Channel
    """The channel."""
    marks: Marks
    """The marks, with true values in the unit of the comparison."""
    read: Array
    """What the channel reads, shape (n,); NaN where it has no value."""
    error: Array
    """Read − true, shape (n,)."""
    within: float | None
    """The error that is allowed."""
    saturated: tuple[str, ...]
    """Sentences on marks that are on a rail."""

    @property
    def known_to(self) -> Array:
        """Half-width of the 95 % interval of each truth, 0 if it has none."""
        own = 0.0 if self.marks.u_true is None else self.marks.u_true
        half: Array = coverage_factor(math.inf) * np.hypot(own, self.marks.u_common)
        return np.broadcast_to(half, self.error.shape)

    @property
    def is_within(self) -> bool | None:
        """Whether all errors are within what is allowed; None where that is not said, or where the
        truth is not known well enough."""
        if self.within is None:
            return None
        off = np.abs(self.error)
        if np.any(np.isnan(off)) or np.any(off - self.known_to > self.within):
            return False
        return True if np.all(off + self.known_to <= self.within) else None

    @property
    def headline(self) -> str:
        name, unit, n = self.channel.name, self.marks.true_unit, len(self.marks)
        off = np.abs(self.error)
        if np.any(gone := np.isnan(off)):
            names = ", ".join(
                m for m, is_gone in zip(self.marks.names, gone, strict=True) if is_gone
            )
            return f"{name} has no value at {names}"
        worst = int(np.argmax(off))
        size = error_shown(float(self.error[worst]), self.marks.true, unit)
        where = "the mark" if n == 1 else f"all {n} marks"
        at = "" if n == 1 else f" at {self.marks.names[worst]}"
        by = f"off by {size}{at}" if n == 1 else f"the largest error is {size}{at}"
        if self.within is None:
            return f"{name}: {by}"
        allowed = shown(self.within, unit)
        if self.is_within:
            return f"{name} is within {allowed} at {where}: {by}"
        if self.is_within is None:
            known = error_shown(float(self.known_to.max()), self.marks.true, unit)
            return (
                f"it cannot be decided whether {name} is within {allowed}: {by}, and the true "
                f"value has an uncertainty of {known} (95 %)"
            )
        out = int(np.count_nonzero(off - self.known_to > self.within))
        at_which = "the mark" if n == 1 else f"{out} of {many(n, 'mark')}"
        return f"{name} is not within {allowed} at {at_which}: {by}"

    @property
    def untested(self) -> str:
        """What these marks leave open."""
        different = np.unique(self.marks.true)
        if different.size == 1:
            return "one point cannot separate an offset from a gain error"
        unit = self.marks.true_unit
        ends = f"{number(different[0])} to {shown(float(different[-1]), unit)}"
        text = f"the marks cover {ends}: nothing is tested beyond"
        limits = self.channel.limits
        if limits is not None and unit == self.channel.unit:
            text += f", and the limits reach from {number(limits[0])} to {shown(limits[1], unit)}"
        return text

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        return {
            "mark": self.marks.names,
            "raw": self.marks.raw.tolist(),
            "true": self.marks.true.tolist(),
            "read": self.read.tolist(),
            "error": self.error.tolist(),
        }

    @property
    def content(self) -> Content:
        return [
            points(self.marks, self.read, self.error),
            *self.saturated,
            "",
            Title(self.headline),
            self.untested,
        ]

    def _fields(self) -> Mapping[str, Any]:
        return {
            "channel": self.channel.name,
            "unit": self.marks.true_unit,
            "points": records(self),
            "within": self.within,
            "is_within": self.is_within,
            "sentence": self.headline,
            "untested": self.untested,
            "saturated": self.saturated,
        }


@refuses
def spot_check(
    channel: Channel | Ruler | Law,
    marks: Marks | Sequence[Sequence[float]] | Array,
    within: float | None = None,
) -> SpotCheck:
    """Check what a channel reads at one or several marks, without a fit.

    Parameters
    ----------
    channel : Channel | Ruler | Law
        The channel; a ruler or a law is one without a name.
    marks : Marks | Sequence[Sequence[float]] | Array
        As for `adjust`.
    within : float, optional
        The error that is allowed, in the unit of true.

    Returns
    -------
    SpotCheck
        What it reads at each mark, and whether that is near enough.

    Raises
    ------
    MarksError
        For marks in units that the channel has not.

    Examples
    --------
    >>> import jetruler as jr
    >>> knob = jr.Channel("knob", jr.Counts(12) >> jr.Line(0.1), "ch0")
    >>> jr.spot_check(knob, [(500, 50.4), (1000, 102)], within=1).is_within
    False
    """
    channel = channel_of(channel)
    used = MarkedLaws.of(channel, Marks.of(marks))
    allowed = amount("within", within, used.marks.true_unit, difference=True)
    if allowed is not None and not allowed > 0:
        raise JetRulerError(f"within: expected a difference above 0, found {allowed:g}")
    read = read_at(used.ruler, used.marks)
    saturated = tuple(on_rails(channel, used.marks))
    return SpotCheck(
        channel,
        used.marks,
        read,
        error=read - used.marks.true,
        within=allowed,
        saturated=saturated,
    )
