"""A log as envelopes to be drawn: raw counts and values of some channels over time."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from os import PathLike

import numpy as np

from ..core.arrays import Array
from ..core.decide.channel_reader import read_flagged
from ..core.model.channel import Channel
from ..core.model.stream import Stream
from ..core.survey.envelope import Envelope
from .batches import Progress, sample_batches
from .channel_readers import ChannelReaders
from .formats.opening import open_log
from .source import LogFormat


@dataclass
class Series:
    """One channel over a whole log."""

    channel: Channel
    raw: Envelope = field(default_factory=Envelope)
    value: Envelope = field(default_factory=Envelope)
    at: Array = field(default_factory=lambda: np.empty(0))
    """Time in seconds (or, without a time column, sample number) of each stretch."""
    time_name: str = "sample"


def read_series(
    log: str | PathLike[str],
    channels: Sequence[Channel],
    *,
    form: LogFormat | None = None,
    stream: Stream | None = None,
    progress: Progress | None = None,
) -> list[Series]:
    """Read a log once, in constant memory. Raises `LogError`."""
    series = [Series(channel) for channel in channels]
    times = Envelope()
    with open_log(log, form) as reader:
        places = [reader.position(channel.column) for channel in channels]
        readers = ChannelReaders(channels)
        for batch in sample_batches(reader, places, stream=stream, progress=progress):
            times.add(batch.times)
            for i, (one, place) in enumerate(zip(series, places, strict=True)):
                found = batch.samples(place)
                reading = read_flagged(one.channel, found.counts, found.missing)
                raw = found.counts.astype(np.float64)
                if found.missing is not None:
                    raw[found.missing] = np.nan
                one.raw.add(raw, reading.flags)
                _, reading = readers.of(i, batch).add(found.counts, found.missing)
                one.value.add(reading.value, reading.flags)
        name = "sample" if batch.time_column is None else batch.time_column.label
        if all(np.isnan(one.raw.finished().low).all() for one in series):
            raise reader.nothing_read(channel.column for channel in channels)
    at = times.finished().low
    for one in series:
        one.value.finished()
        one.at, one.time_name = at, name
    return series
