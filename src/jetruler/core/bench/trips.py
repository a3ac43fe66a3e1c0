"""Trips turn something on and off."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Literal

import numpy as np

from ..error_types import ParameterError
from ..numerics import Array, Truths
from ..result import refuses_fields
from ..ruler.quantity import Quantityish, seconds
from ..ruler.reading import Reading
from ..ruler.units import number
from .channel import Channel
from .conditions import TINY, Condition, Conditioner


@refuses_fields
@dataclass(frozen=True)
class Trip:
    """A condition that turns on and off.

    Parameters
    ----------
    name : str
        A name of letters, digits and _ that begins with a letter.
    conditions : tuple[Condition, ...]
        The conditions, combined by `join`.
    join : {"any", "all"}, default "any"
        "any" or "all" of the conditions.
    hold : float | str, default 0.0
        Time in seconds for which they must be true before the trip turns on.
    stay : float | str, default 0.0
        Shortest time in seconds for which the trip stays on.
    about : str, default ""
        A description for people.

    Raises
    ------
    ParameterError
        For parameters that make no sense.

    Examples
    --------
    >>> import jetruler as jr
    >>> trip = jr.Trip("hot", (jr.Condition("bean", above=225),))
    >>> trip.name
    'hot'
    """

    name: str
    """A name of letters, digits and _ that begins with a letter."""
    conditions: tuple[Condition, ...]
    """The conditions, combined by `join`."""
    join: Literal["any", "all"] = "any"
    """"any" or "all" of the conditions."""
    hold: float | str = 0.0
    """Time in seconds for which they must be true before the trip turns on."""
    stay: float | str = 0.0
    """Shortest time in seconds for which the trip stays on."""
    about: str = ""
    """A description for people."""

    if TYPE_CHECKING:  # a list of conditions is one, too

        def __init__(
            self,
            name: str,
            conditions: Sequence[Condition],
            join: Literal["any", "all"] = "any",
            hold: Quantityish = 0.0,
            stay: Quantityish = 0.0,
            about: str = "",
        ) -> None: ...

    def __post_init__(self) -> None:
        object.__setattr__(self, "conditions", tuple(self.conditions))
        for error in self.errors():
            raise error

    def errors(self) -> Iterator[ParameterError]:
        """The errors among the parameters."""
        if not self.conditions:
            yield ParameterError(self.join, None, "at least one condition")
        for key in ("hold", "stay"):
            if not 0 <= seconds(getattr(self, key)) < math.inf:
                expected = 'a time of 0 or more, as in "2 s"'
                yield ParameterError(key, getattr(self, key), expected)

    @property
    def channels(self) -> tuple[str, ...]:
        """The channels that it looks at, each once."""
        return tuple(dict.fromkeys(c.channel for c in self.conditions))

    def in_units(self, unit_of: Callable[[str], str | None]) -> Trip:
        """The same with the texts of its conditions read. unit_of: the unit of a channel.
        Raises `ParameterError`."""
        read = tuple(c.in_unit(unit_of(c.channel)) for c in self.conditions)
        return self if read == self.conditions else replace(self, conditions=read)

    @property
    def measured(self) -> tuple[str, ...]:
        """The channels whose values it judges: without a value, it cannot."""
        return tuple(dict.fromkeys(c.channel for c in self.conditions if c.flagged is None))

    def __str__(self) -> str:
        text = f" {'or' if self.join == 'any' else 'and'} ".join(map(str, self.conditions))
        text += f", held {number(seconds(self.hold))} s" if seconds(self.hold) else ""
        return text + (f", stays {number(seconds(self.stay))} s" if seconds(self.stay) else "")


class Tripper:
    """A trip at work: batches of times and readings in, on or off out."""

    def __init__(self, trip: Trip, channels: Mapping[str, Channel] | None = None) -> None:
        self.trip = trip
        known = channels or {}
        self._conditions = [Conditioner(c, known.get(c.channel)) for c in trip.conditions]
        self._since = math.nan  # since when the conditions have held
        self._until = -math.inf  # it stays on until then
        self.on = False

    def add(
        self,
        times: Array,
        readings: Mapping[str, Reading],
        clock_faults: Truths | None = None,
    ) -> Truths:
        """Whether it is on at each sample. times: s, never going back. clock_faults: where the
        source's clock is of no use."""
        if not times.size:
            return np.zeros(0, np.bool_)
        seen = [readings[c.condition.channel] for c in self._conditions]
        each = [
            c.add(times, reading.value, reading.flags, clock_faults)
            for c, reading in zip(self._conditions, seen, strict=True)
        ]
        joined = np.logical_or if self.trip.join == "any" else np.logical_and
        on = self._stayed(times, self._counted(times, joined.reduce(each)))
        self.on = bool(on[-1])
        return on

    def restart(self) -> None:
        """Time starts again: what held so far must hold for its time again."""
        self._since = math.nan
        for condition in self._conditions:
            condition.restart()

    def _counted(self, times: Array, holds: Truths) -> Truths:
        """What has held for long enough."""
        hold = seconds(self.trip.hold)
        if not hold:
            return holds
        before = np.concatenate(([not math.isnan(self._since)], holds[:-1]))
        starts = np.where(holds & ~before, np.arange(1, holds.size + 1), 0)
        since = np.concatenate(([self._since], times))[np.maximum.accumulate(starts)]
        self._since = float(since[-1]) if holds[-1] else math.nan
        with np.errstate(invalid="ignore"):
            return holds & (times - since >= hold - TINY)

    def _stayed(self, times: Array, counted: Truths) -> Truths:
        """On while it counts, and for so long at least from the moment it turned on."""
        stay = seconds(self.trip.stay)
        if not stay:
            return counted
        out = counted.copy()
        i = 0
        on = self.on
        while i < out.size:
            if not on:  # the next sample that turns it on
                ahead = np.flatnonzero(counted[i:])
                if not ahead.size:
                    break
                i += int(ahead[0])
                on, self._until = True, float(times[i]) + stay
            # On until its time is over and it counts no more.
            over = max(i, int(np.searchsorted(times, self._until - TINY)))
            ends = np.flatnonzero(~counted[over:])
            end = over + int(ends[0]) if ends.size else out.size
            out[i:end] = True
            i, on = end, end == out.size
        return out


@dataclass(frozen=True)
class TripEvent:
    """A trip that turned on or off. sample: its place in the batch, from 0."""

    sample: int
    trip: Trip
    on: bool


def events(trip: Trip, was_on: bool, on: Truths) -> list[TripEvent]:
    """Where a trip turned on or off in a batch. was_on: its state before."""
    changes = np.flatnonzero(on != np.concatenate(([was_on], on[:-1])))
    return [TripEvent(i, trip, bool(on[i])) for i in changes.tolist()]
