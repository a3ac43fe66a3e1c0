"""The time column of a log: which one it is, and its times in seconds."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Protocol

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.arrays import Array, steps_of
from ..core.model.stream import Stream, time_factor
from .arrow import floats_of
from .cells import read_samples
from .reader import RowBatch
from .source import LogFormat

#: The first rows of a log that show its time column and the time between two samples: few enough
#: to be in its first batch, however large batches are, so that the result does not depend on that.
HEAD_ROWS = 256

_TIME_NAME = re.compile(r"(time|date|stamp|clock|\bt\b|\bt_|^ts$|^ms$|^s$)", re.IGNORECASE)


@dataclass(frozen=True)
class TimeColumn:
    """The time column of a log: its place, its name, and the seconds of one unit of it."""

    place: int
    name: str
    factor: float
    decimal: str = "."

    def seconds(self, cells: pa.Array) -> Array:
        """Return the times of some cells in seconds, NaN where a cell is no time."""
        times = _read_times(cells, self.decimal)
        return times if self.factor == 1.0 else times * self.factor

    @property
    def label(self) -> str:
        """Its name, with the unit that its times are given in where the name says another."""
        return self.name if self.factor == 1.0 else f"{self.name}, in s"

    def interval(self, cells: pa.Array) -> float | None:
        """Return the usual time between two of some cells in seconds, None if time never grows."""
        steps = steps_of(_read_times(cells, self.decimal))
        steps = steps[steps > 0]
        return float(np.median(steps)) * self.factor if steps.size else None


class Named(Protocol):
    """What has columns by name and a format: a log, or the first lines of a stream."""

    @property
    def columns(self) -> list[str]: ...

    @property
    def form(self) -> LogFormat: ...


def find_time_column(
    reader: Named, batch: RowBatch, used: set[int], stream: Stream | None = None
) -> TimeColumn | None:
    """Find the time column of a log by its first rows.

    Parameters
    ----------
    batch : first batch of the log.
    used : positions of the columns that hold counts, and so no times.
    stream : what the bench says of its stream; the timestamp that it names comes first, in the
        unit that it names.

    Returns
    -------
    The first other column that a name or steady growth shows to be time, None if there is none.
    Its unit is that in its name (`t_ms`, `time (min)`), and the second without one.
    """
    names = [name.strip() for name in reader.columns]
    decimal = reader.form.decimal
    if stream is not None and stream.timestamp in names:
        place = names.index(stream.timestamp)
        return TimeColumn(place, stream.timestamp, stream.time_factor, decimal)
    head = batch.head(HEAD_ROWS)
    for place, name in enumerate(names):
        if place in used:
            continue
        times = _read_times(head.columns[place], decimal)
        steps = steps_of(times[~np.isnan(times)])
        if steps.size < 1 or np.isnan(times).mean() > 0.5:
            continue
        grows = np.mean(steps >= 0) > 0.9 and np.mean(steps > 0) > 0.5
        if _TIME_NAME.search(name) or (grows and place == 0 and len(names) > 1):
            return TimeColumn(place, name, time_factor(name), decimal)
    return None


def _read_times(cells: pa.Array, decimal: str) -> Array:
    """Times as they stand in the column, dates in seconds; NaN for what is neither."""
    if pa.types.is_floating(cells.type):
        return floats_of(cells.cast(pa.float64()))
    for target in (pa.float64(), pa.timestamp("us"), pa.timestamp("us", tz="UTC")):
        try:
            text = cells.cast(pa.string())
            if decimal == ",":
                text = pc.replace_substring(text, ",", ".")
            found = text.cast(target)
        except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
            continue
        if target == pa.float64():
            return floats_of(found)
        return floats_of(found.cast(pa.int64()).cast(pa.float64())) / 1e6
    samples = read_samples(cells, decimal, np.empty(0, np.int64))
    times = samples.counts.astype(np.float64)
    if samples.missing is not None:
        times[samples.missing] = np.nan
    return times
