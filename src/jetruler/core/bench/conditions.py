"""One condition of a trip: a threshold with a release point, a change within a time, a flag.
Holding a decision, and which rails are faults."""

from __future__ import annotations

import contextlib
import math
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from ..error_types import JetRulerError, ParameterError, QuantityError
from ..numerics import AnyArray, Array, FlagArray, Truths
from ..result import refuses_fields
from ..ruler.base_law import Role
from ..ruler.quantity import Quantityish, amount, as_typed, quantity, seconds
from ..ruler.reading import FLAG_NAMES, NO_FAULTS, Flag
from ..ruler.rounding import on_edges
from ..ruler.ruler import LOOKED_AT, Ruler
from ..ruler.units import nearest, number
from .channel import Channel


@dataclass
class Latch:
    """A yes or no that stays until something decides otherwise."""

    state: bool = False

    def add(self, on: Truths, off: Truths) -> Truths:
        """The state at each sample: what the last sample that decided anything said."""
        if not on.size:
            return on
        decided = np.where(on | off, np.arange(1, on.size + 1), 0)
        reading: Truths = np.concatenate(([self.state], on))[np.maximum.accumulate(decided)]
        self.state = bool(reading[-1])
        return reading


#: A rail within so much of the travel beyond its end is the end itself.
NEAR = 0.02


def travel(channel: Channel) -> tuple[float, float] | None:
    """Return the raw ends that a channel spans: those of the marks on its raw edge, else of a
    clamp or of its limits; None where it has none of them."""
    laws = channel.chain.laws
    for i, law in enumerate(laws[1:], start=1):
        if law.marks and all(one.role is Role.UNIT for one in laws[1:i]):
            raws = [float(Ruler(laws[:i]).inverse(raw)) for raw, _ in law.marks]
            return min(raws), max(raws)
    for i, law in enumerate(laws[1:], start=1):
        if law.role is Role.HOLD and law.corners:
            return _raw_ends(Ruler(laws[:i]), law.corners)
    return _raw_ends(channel.chain, channel.limits) if channel.limits is not None else None


def _raw_ends(before: Ruler, ends: tuple[float, ...]) -> tuple[float, float] | None:
    with contextlib.suppress(JetRulerError):
        raw = np.asarray(before.inverse(np.array(ends, dtype=np.float64)))
        raw = raw[np.isfinite(raw)]
        if raw.size == len(ends):
            return float(raw.min()), float(raw.max())
    edge = before.edge
    if edge is None or not edge.is_bounded:
        return None
    raw = edge.samples(LOOKED_AT)
    values = np.asarray(before(raw))
    with np.errstate(invalid="ignore"):
        raw = raw[(values >= min(ends)) & (values <= max(ends))]
    return (float(raw.min()), float(raw.max())) if raw.size else None


def rail_faults(channel: Channel) -> int:
    """Return the rail flags, as bits, that indicate a fault of this channel.

    A rail is a fault where the laws have no value there, or where it lies clearly beyond what the
    channel spans; it is an end where the channel's own travel reaches it. `Channel.rails` says so
    outright. Where nothing tells, a rail is a fault.
    """
    both = Flag.LOW_RAIL | Flag.HIGH_RAIL
    if channel.rails is not None or channel.chain.edge is None:
        return 0 if channel.rails == "ends" else int(both)
    edge, span = channel.chain.edge, travel(channel)
    if span is None:
        return int(both)
    room = max(2.0 * edge.lsb, NEAR * (span[1] - span[0]))
    faults = 0
    for flag, rail, beyond in (
        (Flag.LOW_RAIL, edge.lowest, span[0] - edge.lowest),
        (Flag.HIGH_RAIL, edge.top_code, edge.top_code - span[1]),
    ):
        if not np.isfinite(channel.chain(float(rail))) or beyond > room:
            faults |= int(flag)
    return faults


def alarm_mask(channel: Channel) -> int:
    """Return the flags, as bits, that are drawn in an alarm colour: all but rails that are ends,
    and what a clamp holds at the ends of a travel for which no limits are set."""
    ends = int(Flag.LOW_RAIL | Flag.HIGH_RAIL) & ~rail_faults(channel)
    if channel.limits is None and any(law.keeps_within for law in channel.chain.laws):
        ends |= int(Flag.BELOW | Flag.ABOVE)
    return int(sum(Flag)) & ~ends


def fault_mask(channel: Channel) -> int:
    """Return the flags, as bits, that indicate a fault of this channel: all but a value below or
    above a limit, and a rail that is only an end."""
    all_flags = sum(Flag)
    ends = int(Flag.LOW_RAIL | Flag.HIGH_RAIL) & ~rail_faults(channel)
    return int(all_flags) & ~int(NO_FAULTS) & ~ends


#: Flags that indicate a fault.
FAULTS = tuple(name for flag, name in FLAG_NAMES.items() if not flag & NO_FAULTS)

#: Conditions that look for a movement within a time.
MOVES = ("rises_by", "falls_by", "changes_by")
THRESHOLDS = ("above", "below")
#: The conditions, exactly one of which is given.
KINDS = (*THRESHOLDS, *MOVES, "flagged")
#: What may be a text with a unit.
WITH_UNITS = ("above", "below", "release", *MOVES)


#: The name, among those of flags, of a source's clock that is of no use: no flag of a channel.
CLOCK = "clock"

#: Seconds that make no difference: 0.1 + 0.2 s are 0.3 s.
TINY = 1e-6


def mask_of(names: tuple[str, ...]) -> int:
    """The bits of flags named."""
    return sum(flag for flag, name in FLAG_NAMES.items() if name in names)


def faults_of(names: tuple[str, ...] | bool | None, channel: Channel | None) -> int:
    """Return the flags that count as a fault of a channel, as bits: those that are named, else
    all that indicate one."""
    if names is not True and names != FAULTS:
        return mask_of(names or ())
    if channel is None:
        return mask_of(FAULTS)
    if not channel.sources:
        return fault_mask(channel)
    mask = 0  # flags come from the sources: an end of theirs is no fault of what follows from it
    for source in channel.sources:
        mask |= faults_of(names, source)
    return mask


def flag_errors(key: str, names: object) -> Iterator[ParameterError]:
    """The errors in a list of flag names."""
    if not isinstance(names, tuple | bool | None):
        yield ParameterError(key, names, "a tuple of the names of flags")
    for name in names if isinstance(names, tuple) else ():
        if name not in (*FLAG_NAMES.values(), CLOCK):
            known = nearest(str(name), [*FLAG_NAMES.values(), CLOCK])
            yield ParameterError(key, name, "the name of a flag", known)


def _unread(key: str, text: str) -> Iterator[ParameterError]:
    """The error of a text that is no quantity in any unit."""
    try:
        quantity(text)
    except QuantityError as error:
        yield ParameterError(key, text, error.expected, error.why)


@refuses_fields
@dataclass(frozen=True)
class Condition:
    """A condition on one channel, of exactly one kind.

    Parameters
    ----------
    channel : str
        Name of the channel.
    above : float, optional
        On from this value up, until below `release`; in the channel's unit, or with a unit: "225
        degC".
    below : float, optional
        On below this value, until `release` or more.
    release : float, optional
        The value at which it turns off again.
    rises_by, falls_by, changes_by : float, optional
        On while the value is this much above the smallest value of the last `within` seconds. On
        while the value is this much below the largest value of the last `within` seconds. On while
        either of the two is true.
    within : float | str, optional
        Time for a rise, a fall or a change: seconds, or a text such as "5 s".
    flagged : bool | tuple[str, ...], optional
        On while the channel has one of these flags; true means any flag of a fault.

    Raises
    ------
    ParameterError
        For parameters that make no sense.

    Examples
    --------
    >>> import jetruler as jr
    >>> hot = jr.Condition("bean", above=225, release=220)
    >>> hot.above, hot.release
    (225, 220)
    """

    channel: str
    """Name of the channel."""
    above: float | None = None
    """On from this value up, until below `release`; in the channel's unit, or with a unit: "225
    degC"."""
    below: float | None = None
    """On below this value, until `release` or more."""
    release: float | None = None
    """The value at which it turns off again."""
    rises_by: float | None = None
    """On while the value is this much above the smallest value of the last `within` seconds."""
    falls_by: float | None = None
    """On while the value is this much below the largest value of the last `within` seconds."""
    changes_by: float | None = None
    """On while either of the two is true."""
    within: float | str | None = None
    """Time for a rise, a fall or a change: seconds, or a text such as "5 s"."""
    flagged: bool | tuple[str, ...] | None = None
    """On while the channel has one of these flags; true means any flag of a fault."""

    if TYPE_CHECKING:  # texts and quantities are read

        def __init__(
            self,
            channel: str,
            above: Quantityish | None = None,
            below: Quantityish | None = None,
            release: Quantityish | None = None,
            rises_by: Quantityish | None = None,
            falls_by: Quantityish | None = None,
            changes_by: Quantityish | None = None,
            within: Quantityish | None = None,
            flagged: bool | tuple[str, ...] | None = None,
        ) -> None: ...

    def __post_init__(self) -> None:
        for key in WITH_UNITS:
            object.__setattr__(self, key, as_typed(getattr(self, key)))
        for error in self.errors():
            raise error

    @property
    def kind(self) -> str:
        """Which kind of condition it is."""
        return next(k for k in KINDS if getattr(self, k) is not None)

    def decides(self, values: Array, size: float) -> tuple[Truths, Truths]:
        """Where a threshold turns on, and where it turns off. size: see `on_edges`."""
        point = self.above if self.above is not None else self.below or 0.0
        release = point if self.release is None else self.release
        values = on_edges(values, (point, release), size)
        if self.above is not None:
            return values >= point, values < release
        return values < point, values >= release

    def errors(self) -> Iterator[ParameterError]:
        """The errors among the parameters."""
        reading = [kind for kind in KINDS if getattr(self, kind) is not None]
        if len(reading) != 1:
            found = " and ".join(reading) or None
            yield ParameterError("condition", found, f"exactly one of {', '.join(KINDS)}")
            return
        kind = reading[0]
        for name in ("above", "below", "release", "rises_by", "falls_by", "changes_by"):
            value = getattr(self, name)
            if isinstance(value, str) and name in WITH_UNITS:
                yield from _unread(name, value)
                return  # the rest is told by the bench, which knows the channel's unit
            if value is not None and (
                isinstance(value, bool)
                or not isinstance(value, int | float)
                or not math.isfinite(value)
            ):
                yield ParameterError(name, value, "a finite number")
                return
        yield from self._errors_of(kind)

    def in_unit(self, unit: str | None) -> Condition:
        """The same with its texts read in the unit of its channel. Raises `ParameterError`."""
        given = {key: getattr(self, key) for key in WITH_UNITS}
        texts = {key: text for key, text in given.items() if isinstance(text, str)}
        read = {key: amount(key, text, unit, key in MOVES) for key, text in texts.items()}
        return replace(self, **read) if read else self

    def _errors_of(self, kind: str) -> Iterator[ParameterError]:
        moves = kind in MOVES
        if self.release is not None:
            if kind not in ("above", "below"):
                yield ParameterError(
                    "release", self.release, "none", f"{kind} has no release point"
                )
            elif kind == "above" and self.above is not None and self.release > self.above:
                yield ParameterError("release", self.release, f"at most {number(self.above)}")
            elif kind == "below" and self.below is not None and self.release < self.below:
                yield ParameterError("release", self.release, f"at least {number(self.below)}")
        if moves and not getattr(self, kind) > 0:
            yield ParameterError(kind, getattr(self, kind), "an amount above 0")
        if moves and not 0 < seconds(self.within) < math.inf:
            yield ParameterError("within", self.within, 'a time above 0, as in "5 s"')
        elif not moves and self.within is not None:
            yield ParameterError("within", self.within, "none", f"{kind} has no time")
        if self.flagged is False or not isinstance(self.flagged, bool | tuple | None):
            expected = 'true, or a list of flags, as in ["missing", "high_rail"]'
            yield ParameterError("flagged", self.flagged, expected)
        yield from flag_errors("flagged", self.flagged)

    def __str__(self) -> str:
        kind = self.kind
        if kind == "flagged":
            names = FAULTS if self.flagged is True else self.flagged or ()
            return f"{self.channel} flagged" + ("" if names == FAULTS else f" {', '.join(names)}")
        text = f"{self.channel} {kind.replace('_', ' ')} {_in_words(getattr(self, kind))}"
        if kind in MOVES:
            return f"{text} within {number(seconds(self.within))} s"
        return text if self.release is None else f"{text}, release {_in_words(self.release)}"


def _in_words(value: Any) -> str:
    return value if isinstance(value, str) else number(value)


class Conditioner:
    """A condition at work: batches of times, values and flags in, yes or no out."""

    def __init__(self, condition: Condition, channel: Channel | None = None) -> None:
        self.condition, self.channel = condition, channel
        self._held = Latch()
        self._size = 0.0 if channel is None else channel.ruler.sizes[-1]
        self._highs, self._lows = _Window(), _Window()

    def add(
        self, times: Array, values: Array, flags: FlagArray, clock_faults: Truths | None = None
    ) -> Truths:
        """Whether it holds at each sample. times: s, never going back. clock_faults: where the
        source's clock is of no use."""
        c = self.condition
        if c.flagged is not None:
            on: Truths = (flags & np.uint8(faults_of(c.flagged, self.channel))) != 0
            named = isinstance(c.flagged, tuple) and CLOCK in c.flagged
            return on | clock_faults if named and clock_faults is not None else on
        if c.kind not in MOVES:
            return self._held.add(*c.decides(values, self._size))
        known = ~np.isnan(values)
        moved = np.zeros(values.size, np.bool_)
        moved[known] = self._moved(times[known], values[known])
        return self._held.add(moved, known & ~moved)

    def restart(self) -> None:
        """Time starts again: nothing is remembered of a change under way."""
        self._highs, self._lows = _Window(), _Window()

    def _moved(self, t: Array, x: Array) -> Truths:
        c, within = self.condition, seconds(self.condition.within)
        moved = np.zeros(x.size, np.bool_)
        if (down := c.falls_by or c.changes_by) is not None:
            fall = self._highs.largest(t, x, within) - x
            moved |= (
                on_edges(fall, [down], max(self._size, float(np.max(np.abs(x), initial=0.0))))
                >= down
            )
        if (up := c.rises_by or c.changes_by) is not None:
            rise = self._lows.largest(t, -x, within) + x
            moved |= (
                on_edges(rise, [up], max(self._size, float(np.max(np.abs(x), initial=0.0)))) >= up
            )
        return moved


@dataclass
class _Window:
    """The largest value within a time. Only samples that can still become the
    largest are kept: those larger than everything after them."""

    _t: Array = field(default_factory=lambda: np.empty(0))
    _x: Array = field(default_factory=lambda: np.empty(0))

    def largest(self, t: Array, x: Array, within: float) -> Array:
        if not x.size:
            return x
        times, values = np.concatenate((self._t, t)), np.concatenate((self._x, x))
        first = np.searchsorted(times, t - within - TINY)
        last = np.arange(self._x.size, times.size)
        result = _largest_between(values, first, last)
        kept = times >= times[-1] - within - TINY
        times, values = times[kept], values[kept]
        after = np.maximum.accumulate(values[::-1])[::-1]
        kept = np.append(values[:-1] > after[1:], True)
        self._t, self._x = times[kept], values[kept]
        return result


def _largest_between(values: Array, first: AnyArray, last: AnyArray) -> Array:
    """The largest of values[first … last] for each pair: two overlapping stretches whose length
    is a power of two cover each (maxima of all such stretches are made by doubling)."""
    length = last - first + 1
    result = np.empty(first.size)
    size, stretch = values, 1
    while True:
        here = (length >= stretch) & (length < 2 * stretch)
        result[here] = np.maximum(size[first[here]], size[last[here] - stretch + 1])
        if 2 * stretch > length.max():
            return result
        size = np.maximum(size[:-stretch], size[stretch:])
        stretch *= 2
