"""The raw readings of one channel in a log, one after another, for statistics of their order."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from ..core.arrays import Array
from ..core.decide.channel_reader import read_flagged
from ..core.model.channel import Channel
from ..core.model.log_format import LogFormat
from ..samples.batches import Progress, SampleBatch
from ..samples.passes import EveryPass, walk
from ..samples.reader import LogReader
from ..samples.source import Log

#: Of a longer log only so many are kept: eight megabytes.
MOST = 1 << 20


@dataclass(frozen=True, eq=False)
class RawReadings:
    """values: raw values in the channel's own raw unit, those without a value left out.
    interval: seconds between two, None without times. rows: that were read."""

    values: Array
    interval: float | None
    rows: int


class RawPass(EveryPass):
    """The first readings of a channel in a log."""

    def __init__(self, channel: Channel) -> None:
        self.channel, self.rows = channel, 0
        self._parts: list[Array] = []
        self._interval: float | None = None

    def begin(self, reader: LogReader) -> Iterable[int]:
        """The position of its column."""
        self._reader = reader
        self._place = reader.position(self.channel.column)
        self.integers = [self._place]
        return self.integers

    def add(self, batch: SampleBatch) -> None:
        """The next rows."""
        found = batch.samples(self._place)
        reading = read_flagged(self.channel, found.counts, found.missing)
        values = np.asarray(found.counts, dtype=np.float64)
        self._parts.append(values[np.isfinite(reading.value)])
        self._interval = self._interval if self.rows else batch.interval
        self.rows += len(batch)
        self.done = self.rows >= MOST

    def found(self) -> RawReadings:
        """Its readings. Raises `LogError` where the log has none."""
        values = np.concatenate(self._parts)
        if not values.size:
            raise self._reader.nothing_read([self.channel.column])
        return RawReadings(values, self._interval, self.rows)


def read_raw(
    log: Log,
    channel: Channel,
    *,
    form: LogFormat | None = None,
    progress: Progress | None = None,
) -> RawReadings:
    """Return the first readings of a channel. Raises `LogError`."""
    one = RawPass(channel)
    walk(log, one, form=form, wanted=[channel.column], progress=progress)
    return one.found()
