"""Time columns: which one it is, and its times in seconds."""

from __future__ import annotations

import re

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.arrays import Array
from .arrow import floats_of
from .cells import read_samples
from .reader import Batch, LogReader

_TIME_NAME = re.compile(r"(time|date|stamp|clock|\bt\b|\bt_|^ts$|^ms$|^s$)", re.IGNORECASE)


def time_column(reader: LogReader, batch: Batch, used: set[int]) -> int | None:
    """The column that a name or steady growth shows to be time."""
    for place, name in enumerate(reader.columns):
        if place in used:
            continue
        times = read_times(batch.columns[place], reader.form.decimal)
        steps = np.diff(times[~np.isnan(times)])
        if steps.size < 1 or np.isnan(times).mean() > 0.5:
            continue
        grows = np.mean(steps >= 0) > 0.9 and np.mean(steps > 0) > 0.5
        if _TIME_NAME.search(name) or (grows and place == 0 and len(reader.columns) > 1):
            return place
    return None


def read_times(cells: pa.Array, decimal: str) -> Array:
    """Times in seconds (or the column's own unit) from numbers or ISO dates; NaN for neither."""
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
            times = floats_of(found)
        else:
            times = floats_of(found.cast(pa.int64()).cast(pa.float64())) / 1e6
        return times
    samples = read_samples(cells, decimal, np.empty(0, np.int64))
    times = samples.counts.astype(np.float64)
    if samples.missing is not None:
        times[samples.missing] = np.nan
    return times


def time_factor(name: str) -> float:
    """Seconds for one step of a time column whose name ends in its unit: `t_ms`, `time (min)`."""
    unit = re.search(r"(?:^|[_\s(\[])(us|µs|ms|min|h)[)\]]?$", name.strip())
    return {"us": 1e-6, "µs": 1e-6, "ms": 1e-3, "min": 60.0, "h": 3600.0}[unit[1]] if unit else 1.0


def usual_interval(reader: LogReader, batch: Batch, used: set[int]) -> float | None:
    """The usual time between two samples of a batch; None without a time column."""
    place = time_column(reader, batch, used)
    if place is None:
        return None
    steps = np.diff(read_times(batch.columns[place], reader.form.decimal))
    steps = steps[steps > 0]
    factor = time_factor(reader.columns[place])
    return float(np.median(steps)) * factor if steps.size else None
