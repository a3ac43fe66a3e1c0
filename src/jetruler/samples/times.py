"""The time column of a log: which one it is, and its times in seconds."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.bench.bench import TIME_UNITS, LogFormat, time_factor
from ..core.numerics import Array, steps_of
from .cells import floats_of, read_samples
from .source import RowBatch

#: The column of a record that has the times of arrival.
RECEIVED = "received"
DAY = 86_400.0

#: The first rows of a log that show its time column and the time between two samples: few enough
#: to be in its first batch, however large batches are, so that the result does not depend on that.
HEAD_ROWS = 256
_TIME_NAME = re.compile(r"(?i:time|date|stamp|clock|\bt_|^ts$|^ms$)|^[ts]$|\bt\b")


@dataclass(frozen=True)
class TimeColumn:
    """The time column of a log: its place, its name, and the seconds of one unit of it."""

    index: int
    name: str
    factor: float
    decimal: str = "."
    is_of_day: bool = False

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


@dataclass
class LogClock:
    """When each sample of a log was taken: by its time column, else by the interval that somebody
    names; else nobody knows, and samples are numbered."""

    column: TimeColumn | None = None
    step: float | None = None
    _day: float = field(default=0.0, repr=False)
    _last: float = field(default=float("-inf"), repr=False)

    @property
    def is_known(self) -> bool:
        """Whether samples have times."""
        return self.column is not None or self.step is not None

    @property
    def label(self) -> str:
        """What its times are, as the name of an axis or a column."""
        if self.column is not None:
            return self.column.label
        return "sample" if self.step is None else "time_s"

    def times(self, rows: RowBatch, first: int) -> Array:
        """Times of some rows in seconds, in order; numbers of rows if it is unknown."""
        if self.column is None:
            numbers = np.arange(first, first + rows.rows, dtype=np.float64)
            return numbers if self.step is None else numbers * self.step
        times = self.column.seconds(rows.columns[self.column.index])
        if rows.torn.size:  # what is there need not be the time
            times = times.copy()
            times[rows.torn] = np.nan
        return self._beyond_midnight(times) if self.column.is_of_day else times

    def _beyond_midnight(self, times: Array) -> Array:
        """Times of day go on after midnight."""
        before = np.concatenate([[self._last], times])
        days = np.cumsum(np.diff(before) < -DAY / 2) * DAY + self._day
        known = times[~np.isnan(times)]
        if known.size:
            self._last, self._day = float(known[-1]), float(days[-1])
        return times + days

    def interval(self, rows: RowBatch) -> float | None:
        """The usual time between two of some rows, in seconds; None if it is unknown."""
        if self.column is None:
            return self.step
        return self.column.interval(rows.columns[self.column.index])


class Named(Protocol):
    """What has columns by name and a format: a log, a frame, or the first lines of a stream."""

    @property
    def columns(self) -> list[str]: ...

    @property
    def form(self) -> LogFormat: ...


def clock_of(reader: Named, batch: RowBatch, used: set[int]) -> LogClock:
    """The clock of a log, by its first rows; used: positions of columns that hold counts."""
    step = reader.form.seconds_between
    return LogClock(find_time_column(reader, batch, used), step)


def find_time_column(
    reader: Named, batch: RowBatch, used: set[int], *, by_name: bool = False
) -> TimeColumn | None:
    """Find the time column of a log by its first rows.

    Parameters
    ----------
    batch : first batch of the log.
    used : positions of the columns that hold counts, and so no times.
    by_name : whether a name is needed: too few rows are known to tell by growth.

    Returns
    -------
    The column that the format names; else the first other column that a name or steady growth shows
    to be time; else when a record's lines were received. None if there is none. Its unit is that
    in its name (`t_ms`, `time (min)`), and the second without one.
    """
    names = [name.strip() for name in reader.columns]
    form, decimal = reader.form, reader.form.decimal
    named = form.time - 1 if isinstance(form.time, int) else None
    if form.time in names:
        named = names.index(str(form.time))
    head = batch.head(HEAD_ROWS)
    if named is not None and named < len(names):
        unit = TIME_UNITS[form.time_unit] if form.time_unit else time_factor(names[named])
        of_day = _are_of_day(head.columns[named])
        return TimeColumn(named, names[named], unit, decimal, of_day)
    is_record = RECEIVED in names
    for index, name in enumerate(names):
        if index in used or name == RECEIVED:
            continue
        times = _read_times(head.columns[index], decimal)
        steps = steps_of(times[~np.isnan(times)])
        named_so = _TIME_NAME.search(name) is not None
        few = steps.size < 1 and not ((by_name or named_so) and times.size)
        if few or np.isnan(times).mean() > 0.5:
            continue
        grows = False
        if steps.size and index == 0 and len(names) > 1 and not by_name and not is_record:
            grows = bool(np.mean(steps >= 0) > 0.9 and np.mean(steps > 0) > 0.5)
            if not name.isdecimal():  # it has a name, which is not that of a time
                with np.errstate(over="ignore", invalid="ignore"):  # misread ones, of any size
                    even = np.ptp(steps) <= 2e-9
                grows = bool(even and np.all(steps > 0))
            # With no other numbers beside it, it is what the log is about.
            grows &= any(_has_numbers(head, i, decimal) for i in range(len(names)) if i != index)
        if len(name) == 1 and steps.size and not np.mean(steps > 0) > 0.5:
            named_so = False  # T may be a temperature
        of_day = _are_of_day(head.columns[index])
        if named_so or grows or ((of_day or _are_dates(head.columns[index])) and index == 0):
            return TimeColumn(index, name, time_factor(name), decimal, of_day)
    return TimeColumn(names.index(RECEIVED), RECEIVED, 1.0) if is_record else None


def _has_numbers(batch: RowBatch, index: int, decimal: str) -> bool:
    found = read_samples(batch.columns[index], decimal, np.empty(0, np.int64))
    return found.missing is None or not bool(found.missing.all())


def _are_dates(cells: pa.Array) -> bool:
    first = next((str(cell) for cell in cells.to_pylist() if cell), "")
    return re.match(r"(b')?\d{4}-\d\d-\d\d", first) is not None


def _are_of_day(cells: pa.Array) -> bool:
    """Whether times are times of day, which begin again at midnight."""
    first = next((str(cell) for cell in cells.to_pylist() if cell), "")
    return re.match(r"(b')?\d{1,2}:\d\d", first) is not None


def _read_times(cells: pa.Array, decimal: str) -> Array:
    """Times as they stand in the column, dates in seconds; NaN for what is neither."""
    if pa.types.is_floating(cells.type):
        return floats_of(cells.cast(pa.float64()))
    for target in (pa.float64(), pa.timestamp("us"), pa.timestamp("us", tz="UTC")):
        try:
            text = pc.utf8_trim_whitespace(cells.cast(pa.string()))
            if decimal == ",":
                text = pc.replace_substring(text, ",", ".")
            found = text.cast(target)
        except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
            continue
        if target == pa.float64():
            return floats_of(found)
        return floats_of(found.cast(pa.int64()).cast(pa.float64())) / 1e6
    if _are_of_day(cells):
        return _of_day(cells)
    samples = read_samples(cells, decimal, np.empty(0, np.int64))
    times = samples.counts.astype(np.float64)
    if samples.missing is not None:
        times[samples.missing] = np.nan
    return times


def _of_day(cells: pa.Array) -> Array:
    """Times of day in seconds since midnight."""
    pattern = r"^\s*(?P<h>\d{1,2}):(?P<m>\d\d)(?::(?P<s>\d\d(?:[.,]\d+)?))?\s*$"
    parts = pc.extract_regex(cells.cast(pa.binary()).cast(pa.string()), pattern)
    seconds = np.zeros(len(cells))
    for index, size in enumerate((3600.0, 60.0, 1.0)):
        text = pc.replace_substring(pc.struct_field(parts, index), ",", ".")
        text = pc.if_else(pc.equal(text, ""), "0", text)
        seconds += floats_of(text.cast(pa.float64())) * size
    return seconds
