"""What every count should read, as a target must give it: all counts of a converter of up to 16
bits, and of a wider one those that matter, every edge from both sides."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import cached_property, partial
from itertools import pairwise

import numpy as np

from ..bench.channel import Channel
from ..error_types import ParameterError
from ..numerics import AnyArray, Array, Truths
from ..ruler.raw_range import law_corners
from ..ruler.rounding import nearest
from ..ruler.units import shown
from ..survey.survey import stepped

#: Counts of this many bits are all looked at.
DENSE_BITS = 16
#: Counts that a wider converter is looked at, beside its edges and corners.
GRID = 2**14
GOLDEN = (5**0.5 - 1) / 2
#: A channel of so few values, or of whole ones in so wide a range, stops between its edges,
#: which are all found.
FEW_VALUES, WHOLE_VALUES = 256, 2**16
#: Counts of a curve that bends, at most.
MOST_POINTS = 2**16
#: So large a part of the bound values may bend between two of those counts.
BEND = 1 / 32
#: The widest counts.
WIDEST_BITS = 32

#: What counts read: values, and flags.
ReadAt = Callable[[AnyArray], tuple[Array, AnyArray]]


def takes_counts(channel: Channel) -> bool:
    """Whether it is called with counts, and not with the steps of an input."""
    return channel.ruler.edge is None or channel.ruler.converter is not None


def raw_of(channel: Channel, counts: AnyArray) -> AnyArray:
    """The raw values: the counts, or the steps of the input's resolution in its unit."""
    edge = channel.ruler.edge
    if edge is None or takes_counts(channel):
        return counts
    return np.asarray(stepped(counts, edge.lsb))


def ends_of(channel: Channel) -> tuple[int, int]:
    """The lowest and the highest count, or step of an input. Raises `ParameterError`."""
    edge, converter = channel.ruler.edge, channel.ruler.converter
    if converter is not None:
        return converter.lowest, converter.highest
    if edge is not None and edge.is_bounded and edge.lsb:
        low = math.ceil(edge.lowest / edge.lsb - 1e-6)
        high = math.floor(edge.highest / edge.lsb + 1e-6)
        if high - low < 2**WIDEST_BITS:
            return low, high
    expected = f"a resolution and a range of up to 2^{WIDEST_BITS} steps"
    raise ParameterError(f"{channel.name}.input", channel.ruler.takes, expected)


def reads_at(channel: Channel) -> ReadAt:
    """What counts of a channel read."""
    return partial(_read_at, channel)


def _read_at(channel: Channel, counts: AnyArray) -> tuple[Array, AnyArray]:
    reading = channel.read(raw_of(channel, counts))
    return np.asarray(reading.value, dtype=np.float64), np.asarray(reading.flags)


def everything(channel: Channel) -> tuple[AnyArray, Array, AnyArray]:
    """The counts of a channel with what they read and their flags: all, or those that matter.
    Raises `ParameterError`."""
    tables = channel.ruler.compiled()
    if tables is not None:
        low, values = tables[0].lowest, tables[0].values
        return np.arange(low, low + values.size), values, tables[1].values
    low, high = ends_of(channel)
    read = reads_at(channel)
    if high - low < 2**DENSE_BITS:
        counts = np.arange(low, high + 1)
        return counts, *read(counts)
    counts = with_edges(_grid(channel, low, high), lambda n: _kind(*read(n)))
    values, flags = read(counts)
    if _stands_still(channel, values):
        counts = with_edges(counts, lambda n: read(n)[0])
        values, flags = read(counts)
    return counts, values, flags


def _stands_still(channel: Channel, values: Array) -> bool:
    """Whether the values are stairs: few, or not too many whole ones or multiples of the step to
    which a law rounds."""
    found = values[~np.isnan(values)]
    if np.unique(found).size <= FEW_VALUES:
        return True
    steps = [law.rounds_to for law in channel.ruler.laws[-2:] if law.rounds_to]
    stairs = found / (steps[-1] if steps else 1.0)
    off = np.abs(stairs - np.rint(stairs))
    return bool(np.all(off <= 1e-9) and np.ptp(stairs) <= WHOLE_VALUES)


def _kind(values: Array, flags: AnyArray) -> AnyArray:
    return flags.astype(np.int64) * 2 + np.isnan(values)


def _grid(channel: Channel, low: int, high: int) -> AnyArray:
    """Counts all over the range, with those on both sides of every corner of a law."""
    edge = channel.ruler.edge
    step = 1.0 if edge is None or takes_counts(channel) else edge.lsb
    # At uneven distances: values that change by almost a whole step from one to the next would be
    # far from every output for long.
    uneven = np.arange(GRID) + (np.arange(GRID) * GOLDEN) % 1.0
    counts = low + np.floor(uneven * ((high - low) / GRID)).astype(np.int64)
    corners = np.floor(law_corners(channel.ruler) / step).astype(np.int64)
    beside = np.concatenate([corners + by for by in (-1, 0, 1, 2)])
    ends = np.array([low, low + 1, high - 1, high])
    found = np.unique(np.concatenate((counts, beside, ends)))
    return found[(found >= low) & (found <= high)]


def with_edges(counts: AnyArray, kind: Callable[[AnyArray], AnyArray]) -> AnyArray:
    """Counts with both sides of every edge between two of them that are not alike.

    kind: a number for each count. Gaps between counts that differ in it are halved, all at once,
    until every change is between two neighbours.
    """
    kinds, asked = kind(counts), np.ones(counts.size, np.bool_)
    while True:
        differs = ~_equal(kinds[1:], kinds[:-1])
        apart = np.flatnonzero(differs & (np.diff(counts) > 1))
        if not apart.size:
            # What was only passed on the way to an edge is left out again.
            beside = np.append(differs, False) | np.insert(differs, 0, False)
            return counts[asked | beside]
        middle = counts[apart] + (counts[apart + 1] - counts[apart]) // 2
        kinds = np.insert(kinds, apart + 1, kind(middle))
        counts = np.insert(counts, apart + 1, middle)
        asked = np.insert(asked, apart + 1, False)


def with_bends(
    counts: AnyArray, value_of: Callable[[AnyArray], Array], tolerance: float
) -> AnyArray:
    """Counts with as many more as values need to lie within a tolerance of the chord between two
    neighbours, halfway; up to `MOST_POINTS` in all."""
    values = value_of(counts)
    unsure = np.flatnonzero(np.diff(counts) > 1)
    while unsure.size and counts.size < MOST_POINTS:
        low, high = counts[unsure], counts[unsure + 1]
        middle = low + (high - low) // 2
        found = value_of(middle)
        part = (middle - low) / (high - low)
        chord = values[unsure] + part * (values[unsure + 1] - values[unsure])
        bent = np.abs(found - chord) > tolerance
        if not bent.any():
            break
        counts = np.concatenate((counts, middle[bent]))
        values = np.concatenate((values, found[bent]))
        order = np.argsort(counts)
        counts, values = counts[order], values[order]
        fresh = np.searchsorted(counts, middle[bent])
        unsure = np.unique(np.concatenate((fresh - 1, fresh)))
        unsure = unsure[np.diff(counts)[unsure] > 1]
    return counts


def _equal(a: AnyArray, b: AnyArray) -> Truths:
    same: Truths = (a == b) | ((a != a) & (b != b))
    return same


@dataclass(frozen=True)
class ReferenceValues:
    """The values of a channel over its counts, and how near a program must come.

    counts: ascending; without a gap but for a converter of more than 16 bits, of which there are
    both sides of every edge, and some thousand between them. values: in the channel's unit, NaN
    for none. flags: `Flag` bits. scale: output steps for one unit. within: the largest error, in
    the channel's unit. reads: what other counts read.
    """

    channel: Channel
    counts: AnyArray
    values: Array
    flags: AnyArray
    scale: int
    within: float
    reads: ReadAt = field(compare=False)
    most: int = 2**24
    """This many counts are all run; more are proven piece by piece."""

    @classmethod
    def of(
        cls, channel: Channel, scale: int, within: float, inside_limits: bool = False
    ) -> ReferenceValues:
        """Of a channel. inside_limits: beyond its limits, the value is held at them.
        Raises `ParameterError` for a channel without a finite number of counts."""
        found, read = everything(channel), reads_at(channel)
        w = cls(channel, *found, scale=scale, within=within, reads=read)
        if inside_limits and channel.limits is not None:
            low, high = channel.limits
            w = w.replaced(lambda values, flags: np.clip(values, low, high))
        if w.is_dense:
            return w
        steps = [law.rounds_to or 0.0 for law in channel.ruler.laws]
        tolerance = max(BEND * within / 4, *steps)
        return w.bent(tolerance)

    def replaced(self, value_of: Callable[[Array, AnyArray], Array]) -> ReferenceValues:
        """Other values at the same counts, made from values and flags."""
        read = self.reads

        def other(counts: AnyArray) -> tuple[Array, AnyArray]:
            values, flags = read(counts)
            return value_of(values, flags), flags

        return replace(self, values=value_of(self.values, self.flags), reads=other)

    def bent(self, tolerance: float) -> ReferenceValues:
        """With as many counts as the values need to lie within a tolerance of their chords."""
        if self.is_dense:
            return self
        bent = with_bends(self.counts, lambda n: self.reads(n)[0], tolerance)
        beside = [end + by for one in self.valued for end in one for by in (-2, -1, 1, 2)]
        inside = [n for n in beside if self.counts[0] <= n <= self.counts[-1]]
        return self._at(np.union1d(bent, np.array(inside, dtype=np.int64)))

    def refined(self, output_of: Callable[[ReferenceValues], AnyArray]) -> ReferenceValues:
        """With both sides of every count at which an output changes."""
        if self.is_dense:
            return self

        def kind(counts: AnyArray) -> AnyArray:
            return output_of(self._at(counts))

        return self._at(with_edges(self.counts, kind))

    def _at(self, counts: AnyArray) -> ReferenceValues:
        values, flags = self.reads(counts)
        return replace(self, counts=counts, values=values, flags=flags)

    @property
    def is_dense(self) -> bool:
        """Whether all counts are there."""
        return int(self.counts[-1] - self.counts[0]) == self.counts.size - 1

    @property
    def every(self) -> int:
        """How many counts there are in all."""
        return int(self.counts[-1] - self.counts[0]) + 1

    @property
    def raw(self) -> AnyArray:
        """The raw values: the counts, or the steps of the input's resolution in its unit."""
        return raw_of(self.channel, self.counts)

    @property
    def raw_name(self) -> str:
        """What the function is called with."""
        edge = self.channel.ruler.edge
        if edge is None or takes_counts(self.channel):
            return "the count"
        return f"the input in steps of {shown(edge.lsb, edge.takes)}"

    @cached_property
    def target(self) -> Array:
        """The values in output steps."""
        return self.values * self.scale

    @cached_property
    def rounded(self) -> Array:
        """The values in whole output steps, half away from zero, as they are shown."""
        return nearest(self.target, self.channel.ruler.sizes[-1] * self.scale)

    @cached_property
    def low(self) -> Array:
        """The smallest whole output that is near enough at each count."""
        return np.ceil(self.target - self.reach)

    @cached_property
    def high(self) -> Array:
        """The largest whole output that is near enough at each count."""
        return np.floor(self.target + self.reach)

    @property
    def reach(self) -> float:
        """The bound in output steps."""
        return self.within * self.scale * (1 + 1e-12) + 1e-9

    def strip(self, reach: float) -> tuple[Array, Array]:
        """Where a line must lie that is rounded to whole outputs: from half a step below the first
        of these to half a step above the second, at each count.

        Where all counts are there, it need only round to an output that is near enough. Between
        the counts that are there it is half a step off wherever it is rounded, and the values may
        bend; unless outputs are to equal the values, which only running all counts can show.
        """
        if self.is_dense or not self.within:
            return np.ceil(self.target - reach), np.floor(self.target + reach)
        # Where the values stop between two counts, a line is furthest off at one of them.
        apart = (np.diff(self.counts) > 1) & (np.diff(self.target) != 0)
        beside = np.append(apart, False) | np.insert(apart, 0, False)
        room, target = reach * (1 - BEND) - 1.0, self.target
        low = np.where(beside, target - room, np.ceil(target - reach))
        return low, np.where(beside, target + room, np.floor(target + reach))

    @cached_property
    def valid(self) -> AnyArray:
        """Where there is a value."""
        return np.flatnonzero(~np.isnan(self.values))

    @property
    def has_holes(self) -> bool:
        """Whether counts without a value are between counts with one."""
        v = self.valid
        return bool(v.size) and bool(v[-1] - v[0] + 1 != v.size)

    @property
    def valued(self) -> list[tuple[int, int]]:
        """The stretches of counts with a value, each from its first to its last."""
        there = np.concatenate(([False], ~np.isnan(self.values), [False]))
        edges = np.flatnonzero(there[1:] != there[:-1]).tolist()
        return [
            (int(self.counts[first]), int(self.counts[after - 1]))
            for first, after in list(pairwise(edges))[::2]
        ]

    @property
    def is_whole(self) -> bool:
        """Whether every value is a whole number of units: an output of any scale can equal it."""
        return self.on_steps_of(1)

    @property
    def is_exact_possible(self) -> bool:
        """Whether outputs can equal every value."""
        return self.within > 0 and self.on_steps_of(self.scale)

    def on_steps_of(self, scale: int) -> bool:
        """Whether every value is a whole number of steps at a scale."""
        target = self.values[self.valid] * scale
        return bool(np.all(np.abs(target - np.rint(target)) <= 1e-9))
