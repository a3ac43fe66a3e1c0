"""A log as envelopes to be drawn: raw counts and values of some channels over time."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

import numpy as np

from ..core.arrays import Array
from ..core.decide.channel_reader import read_flagged
from ..core.model.channel import Channel
from ..core.model.log_format import LogFormat
from ..core.survey.envelope import Envelope
from ..samples.batches import Progress, SampleBatch
from ..samples.passes import ChannelsPass, walk
from ..samples.reader import LogReader
from ..samples.source import Log


@dataclass
class Series:
    """One channel over a whole log."""

    channel: Channel
    raw: Envelope = field(default_factory=Envelope)
    value: Envelope = field(default_factory=Envelope)
    at: Array = field(default_factory=lambda: np.empty(0))
    """Time in seconds (or, without a time column, sample number) of each stretch."""
    time_name: str = "sample"


class SeriesPass(ChannelsPass):
    """Channels of a log as envelopes, in constant memory."""

    def __init__(self, channels: Sequence[Channel]) -> None:
        super().__init__(channels)
        self._series = [Series(channel) for channel in channels]
        self._times = Envelope()

    def begin(self, reader: LogReader) -> Iterable[int]:
        """The positions of their columns."""
        self._reader = reader
        return super().begin(reader)

    def add(self, batch: SampleBatch) -> None:
        """The next rows."""
        self._times.add(batch.times)
        self._name = batch.clock.label
        for one, place, reading in zip(
            self._series, self.places, self.readings(batch), strict=True
        ):
            found = batch.samples(place)
            raw = found.counts.astype(np.float64)
            if found.missing is not None:
                raw[found.missing] = np.nan
            one.raw.add(raw, read_flagged(one.channel, found.counts, found.missing).flags)
            one.value.add(reading.value, reading.flags)

    def found(self) -> list[Series]:
        """A series a channel. Raises `LogError` where the log has no number for them."""
        if all(np.isnan(one.raw.finished().low).all() for one in self._series):
            raise self._reader.nothing_read(channel.column for channel in self.channels)
        at = self._times.finished().low
        for one in self._series:
            one.value.finished()
            one.at, one.time_name = at, self._name
        return self._series


def read_series(
    log: Log,
    channels: Sequence[Channel],
    *,
    form: LogFormat | None = None,
    progress: Progress | None = None,
) -> list[Series]:
    """Read a log once, in constant memory. Raises `LogError`."""
    one = SeriesPass(channels)
    walk(log, one, form=form, wanted=[c.column for c in channels], progress=progress)
    return one.found()
