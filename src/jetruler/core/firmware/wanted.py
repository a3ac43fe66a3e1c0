"""What every count should read, as a target must give it: scaled, with its bound."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from ..arrays import AnyArray, Array
from ..error_types import ParameterError
from ..model.channel import Channel
from ..model.ruler import TABLE_BITS
from ..model.text import shown
from ..survey.survey import stepped


def _raw_of(channel: Channel, counts: AnyArray) -> AnyArray:
    edge = channel.ruler.edge
    if edge is None or channel.ruler.converter is not None:
        return counts
    return np.asarray(stepped(counts, edge.lsb))


def everything(channel: Channel) -> tuple[AnyArray, Array, AnyArray]:
    """Everything that comes in, as whole numbers, with what it reads and its flags."""
    edge, tables = channel.ruler.edge, channel.ruler.compiled()
    if tables is not None:
        low, values = tables[0].lowest, tables[0].values
        return np.arange(low, low + values.size), values, tables[1].values
    converter = channel.ruler.converter
    if edge is not None and converter is None and edge.is_bounded and edge.lsb:
        low, high = math.ceil(edge.lowest / edge.lsb - 1e-6), edge.highest / edge.lsb + 1e-6
        if high - low < 2**TABLE_BITS:
            counts = np.arange(low, math.floor(high) + 1)
            reading = channel.read(_raw_of(channel, counts))
            return counts, np.asarray(reading.value), np.asarray(reading.flags)
    if converter is None:
        right = f"a resolution and a range of up to {2**TABLE_BITS} steps: each is run through"
        raise ParameterError(f"{channel.name}.input", channel.ruler.takes, right)
    right = f"a converter of up to {TABLE_BITS} bits: every count is run through"
    raise ParameterError(f"{channel.name}.bits", converter.bits, right)


@dataclass(frozen=True)
class ExactValues:
    """The values of a channel over all its counts, and how near a program must come.

    counts: ascending, without a gap. values: in the channel's unit, NaN for none. flags: `Flag`
    bits. scale: output steps for one unit. within: the largest error, in the channel's unit.
    """

    channel: Channel
    counts: AnyArray
    values: Array
    flags: AnyArray
    scale: int
    within: float

    @classmethod
    def of(
        cls, channel: Channel, scale: int, within: float, inside_limits: bool = False
    ) -> ExactValues:
        """Of a channel. inside_limits: beyond its limits, the value is held at them.
        Raises `ParameterError` for a channel without a finite number of counts."""
        counts, values, flags = everything(channel)
        if inside_limits and channel.limits is not None:
            values = np.clip(values, *channel.limits)
        return cls(channel, counts, values=values, flags=flags, scale=scale, within=within)

    @property
    def raw(self) -> AnyArray:
        """The raw values: the counts, or the steps of the input's resolution in its unit."""
        return _raw_of(self.channel, self.counts)

    @property
    def raw_name(self) -> str:
        """What the function is called with."""
        edge = self.channel.ruler.edge
        if edge is None or self.channel.ruler.converter is not None:
            return "the count"
        return f"the input in steps of {shown(edge.lsb, edge.takes)}"

    @cached_property
    def target(self) -> Array:
        """The values in output steps."""
        return self.values * self.scale

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

    @cached_property
    def valid(self) -> AnyArray:
        """Where there is a value."""
        return np.flatnonzero(~np.isnan(self.values))

    @property
    def has_holes(self) -> bool:
        """Whether counts without a value stand between counts with one."""
        v = self.valid
        return bool(v.size) and bool(v[-1] - v[0] + 1 != v.size)

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

    def errors(self, outputs: AnyArray) -> Array:
        """How far outputs are off, in the channel's unit; NaN where there is no value."""
        return outputs / self.scale - self.values
