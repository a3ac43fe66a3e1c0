"""What every count should read, as a target must give it: scaled, with its bound."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from ..arrays import AnyArray, Array
from ..errors import ParameterError
from ..model.channel import Channel
from ..model.ruler import TABLE_BITS


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
        tables = channel.ruler.compiled()
        if tables is None:
            bits = channel.ruler.converter.bits if channel.ruler.converter is not None else None
            right = f"a converter of up to {TABLE_BITS} bits: every count is run through"
            raise ParameterError(f"{channel.name}.bits", bits, right)
        values, low = tables[0].values, tables[0].lowest
        if inside_limits and channel.limits is not None:
            values = np.clip(values, *channel.limits)
        counts = np.arange(low, low + values.size)
        return cls(
            channel, counts, values=values, flags=tables[1].values, scale=scale, within=within
        )

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

    def errors(self, outputs: AnyArray) -> Array:
        """How far outputs are off, in the channel's unit; NaN where there is no value."""
        return outputs / self.scale - self.values
