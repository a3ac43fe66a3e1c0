"""The raw readings of one channel in a log, one after another, for statistics of their order."""

from __future__ import annotations

from dataclasses import dataclass
from os import PathLike

import numpy as np

from ..core.arrays import Array
from ..core.decide.channel_reader import read_flagged
from ..core.model.channel import Channel
from ..core.model.stream import Stream
from .batches import Progress, sample_batches
from .formats.opening import open_log
from .source import LogFormat

#: Of a longer log only so many are kept: eight megabytes.
MOST = 1 << 20


@dataclass(frozen=True, eq=False)
class RawReadings:
    """values: raw values in the channel's own raw unit, those without a value left out.
    interval: seconds between two, None without times. rows: that were read."""

    values: Array
    interval: float | None
    rows: int


def read_raw(
    log: str | PathLike[str],
    channel: Channel,
    *,
    form: LogFormat | None = None,
    stream: Stream | None = None,
    progress: Progress | None = None,
) -> RawReadings:
    """Return the first readings of a channel. Raises `LogError`."""
    parts: list[Array] = []
    interval, rows = None, 0
    with open_log(log, form) as reader:
        place = reader.position(channel.column)
        for batch in sample_batches(reader, [place], stream=stream, progress=progress):
            found = batch.samples(place)
            reading = read_flagged(channel, found.counts, found.missing)
            values = np.asarray(found.counts, dtype=np.float64)
            parts.append(values[np.isfinite(reading.value)])
            interval = batch.interval if not rows else interval
            rows += len(batch)
            if rows >= MOST:
                break
        values = np.concatenate(parts)
        if not values.size:
            raise reader.nothing_read([channel.column])
    return RawReadings(values, interval, rows)
