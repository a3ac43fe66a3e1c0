"""A log as envelopes to be drawn: raw counts and values of some channels over time."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from os import PathLike

import numpy as np

from ..core.arrays import Array
from ..core.decide.follower import read_flagged
from ..core.model.channel import Channel
from ..core.survey.envelope import Envelope
from .cells import read_samples
from .convert_log import Progress
from .followers import Followers
from .formats.opening import open_log
from .source import LogError, LogFormat
from .times import read_times, time_column


@dataclass
class Series:
    """One channel over a whole log."""

    channel: Channel
    raw: Envelope = field(default_factory=Envelope)
    value: Envelope = field(default_factory=Envelope)
    at: Array = field(default_factory=lambda: np.empty(0))
    """Time (or, without a time column, sample number) of each stretch."""
    time_name: str = "sample"


def read_series(
    log: str | PathLike[str],
    channels: Sequence[Channel],
    *,
    form: LogFormat | None = None,
    progress: Progress | None = None,
) -> list[Series]:
    """Read a log once, in constant memory. Raises `LogError`."""
    series = [Series(channel) for channel in channels]
    times = Envelope()
    with open_log(log, form) as reader:
        places = [reader.position(channel.column) for channel in channels]
        followers = Followers(reader, channels)
        place: int | None = None
        for batch in reader.batches(places):
            if not times.samples:
                place = time_column(reader, batch, set(places))
            if place is None:
                times.add(np.arange(times.samples, times.samples + batch.rows, dtype=np.float64))
            else:
                times.add(read_times(batch.columns[place], reader.form.decimal))
            for i, (one, column) in enumerate(zip(series, places, strict=True)):
                found = read_samples(batch.columns[column], reader.form.decimal, batch.torn)
                reading = read_flagged(one.channel, found.counts, found.missing)
                raw = found.counts.astype(np.float64)
                if found.missing is not None:
                    raw[found.missing] = np.nan
                one.raw.add(raw, reading.flags)
                _, reading = followers.of(i, batch).add(found.counts, found.missing)
                one.value.add(reading.value, reading.flags)
            if progress:
                progress(*reader.progress)
        if not times.samples:
            raise LogError(f"{reader.name}: the log has a header but no rows")
        name = "sample" if place is None else reader.columns[place].strip()
    at = times.finished().low
    for one in series:
        one.raw.finished()
        one.value.finished()
        one.at, one.time_name = at, name
    return series
