"""A channel's memory: its smoothing, and the zone it was in."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from ..laws.shape import Zones, zones_of
from ..numerics import AnyArray, Array
from ..ruler.quantity import quantity
from ..ruler.reading import Flag, Reading
from ..ruler.ruler import Ruler
from .channel import Channel
from .conditions import Latch
from .smoothing import Smoother, Smoothing

#: Stands in for a missing cell among integer counts: outside every converter.
NO_COUNT = np.iinfo(np.int64).min


def read_flagged(channel: Channel, counts: AnyArray, missing: AnyArray | None) -> Reading:
    """The reading of a batch; a missing sample is flagged missing, not off_scale."""
    reading = channel.read(counts)
    if missing is not None:
        reading.flags[missing], reading.value[missing] = Flag.MISSING, np.nan
    return reading


@dataclass
class ChannelReader:
    """One channel's memory: its smoothing (settled, if it has one) and the zone it was in."""

    channel: Channel
    smoothing: Smoothing | None = None
    _smoother: Smoother | None = field(init=False, default=None)
    _zoning: _Zoning | None = field(init=False, default=None)

    def __post_init__(self) -> None:
        if self.smoothing is not None:
            over = None if self.channel.smooth is None else self.channel.smooth.over
            seconds = float(quantity(over, "s")) if isinstance(over, str) else None
            self._smoother = Smoother(self.smoothing, seconds)
        found = zones_that_hold(self.channel)
        self._zoning = None if found is None else _Zoning(*found)

    @property
    def by_count(self) -> bool:
        """Whether a value follows from its count alone, so that a table has it."""
        return self._zoning is None

    @property
    def plain(self) -> bool:
        """Whether it remembers nothing."""
        return self.by_count and self.smoothing is None

    def add(
        self, counts: AnyArray, missing: AnyArray | None = None, times: Array | None = None
    ) -> tuple[AnyArray, Reading]:
        """The counts that the values represent, and the reading. times: in seconds, where there is
        a clock."""
        reading = read_flagged(self.channel, counts, missing)
        smoother = self._smoother
        if smoother is not None and smoother.smoothing.where == "counts":
            counts, reading = _smoothed_counts(self.channel, smoother, counts, reading, times)
        if self._zoning is not None:
            reading = replace(reading, value=self._zoning.add(counts, reading))
        if smoother is not None and smoother.smoothing.where == "values":
            counts = smoother.add(reading.value, np.isnan(reading.value), times)
            reading = replace(reading, value=counts)
        return counts, reading


def _smoothed_counts(
    channel: Channel,
    smoother: Smoother,
    counts: AnyArray,
    reading: Reading,
    times: Array | None,
) -> tuple[AnyArray, Reading]:
    """A batch through a smoother, before the laws.

    A sample without a value (an open wire, a faulty loop, a cell that is missing) is left out of
    the smoothing and keeps its own flags: nothing of it is spread over its neighbours.
    """
    without = np.isnan(reading.value)
    smooth = smoother.add(counts, without, times)
    counts_or_whole: Any = smooth
    if channel.ruler.converter is not None:  # medians of counts go back to the table
        whole = np.where(without, NO_COUNT, np.rint(np.nan_to_num(smooth))).astype(np.int64)
        counts_or_whole = whole if np.all((smooth == whole) | without) else smooth
    again = channel.read(counts_or_whole)
    again.flags[without] = reading.flags[without]
    return counts_or_whole, again


class _Zoning:
    """Zones with hysteresis: each edge is a threshold that holds until it is clearly passed."""

    def __init__(self, before: Ruler | None, zones: Zones, behind: Ruler | None) -> None:
        self.before, self.zones, self.behind = before, zones, behind
        self._edges: list[Latch] | None = None

    def add(self, counts: AnyArray, reading: Reading) -> AnyArray:
        x = np.asarray(counts, np.float64) if self.before is None else self.before(counts)
        x = np.where(np.isnan(reading.value), np.nan, x)
        edges = [float(edge) for edge in self.zones.edges]
        far, size = self.zones.hysteresis, 0.0 if self.before is None else self.before.sizes[-1]
        x = self.zones.on_edges(x, size)
        if self._edges is None:
            known = x[~np.isnan(x)]
            if not known.size:
                return np.asarray(reading.value)
            self._edges = [Latch(bool(known[0] >= edge)) for edge in edges]
        over = [
            held.add(x >= edge + far, x < edge - far)
            for held, edge in zip(self._edges, edges, strict=True)
        ]
        value = self.zones.values_of(np.sum(over, axis=0), x)
        return value if self.behind is None else np.asarray(self.behind(value))


def zones_that_hold(channel: Channel) -> tuple[Ruler | None, Zones, Ruler | None] | None:
    """The zones of a channel that hold, with the laws before and behind them."""
    laws = channel.ruler.laws
    found = zones_of(laws)
    if found is None or not found[1].hysteresis > 0:
        return None
    i, zones = found
    before = Ruler(laws[:i]) if i else None
    return before, zones, Ruler(laws[i + 1 :]) if laws[i + 1 :] else None
