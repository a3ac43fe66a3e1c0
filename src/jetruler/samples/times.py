"""The time column of a log: which one it is, and its times in seconds."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Protocol

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.bench.bench import TIME_UNITS, LogFormat, time_factor
from ..core.numerics import Array, step_decimals, steps_of
from ..core.ruler.units import stated_unit, usual
from .cells import DATE, as_text, cast_of, floats_of, no_value, read_samples, text_scalar, truths_of
from .source import RowBatch

#: The column of a record that has the times of arrival.
RECEIVED = "received"
DAY = 86_400.0

#: The first rows of a log that show its time column and the time between two samples: few enough
#: to be in its first batch, however large batches are, so that the result does not depend on that.
HEAD_ROWS = 256
_TIME_NAME = re.compile(
    r"(?i:time|date|stamp|clock|elapsed|millis|micros|^(?:milli|micro)?sec(?:ond)?s?$|\bt_|^ts$|^ms$)"
    r"|^[ts]$|\bt\b"
)
#: Names of what numbers the samples, and tells no time.
_NUMBER_NAME = re.compile(r"(?i)#|i|n|(?:no|nr)\.?|idx|index|id|row|line|seq|samples?|count(?:er)?")
#: Numbers from here on are no seconds since 1970, which would be the year 5138: they are
#: milliseconds, and so on.
_EPOCHS = ((1e17, 1e-9), (1e14, 1e-6), (1e11, 1e-3))


@dataclass(frozen=True)
class TimeColumn:
    """The time column of a log: its place, its name, and the seconds of one unit of it."""

    index: int
    name: str
    factor: float
    decimal: str = "."
    is_of_day: bool = False
    dates: int | None = None
    """The place of the column of dates beside times of day, if there is one."""

    @property
    def indices(self) -> tuple[int, ...]:
        """The places of all that tells the time."""
        return (self.index,) if self.dates is None else (self.dates, self.index)

    def seconds(self, rows: RowBatch) -> Array:
        """Return the times of some rows in seconds, NaN where a cell is no time."""
        times = self._in_units(rows)
        return times if self.factor == 1.0 else times * self.factor

    def _in_units(self, rows: RowBatch) -> Array:
        times = _read_times(rows.numbers(self.index), self.decimal)
        if self.dates is None:
            return times
        return _read_times(rows.columns[self.dates], self.decimal) + times

    def texts(self, rows: RowBatch) -> pa.Array:
        """Return the times of some rows as the log has them."""
        if self.dates is None:
            return as_text(rows.columns[self.index])
        parts = [as_text(rows.columns[i]).cast(pa.binary()) for i in self.indices]
        return pc.binary_join_element_wise(*parts, text_scalar(b" "))

    @property
    def label(self) -> str:
        """Its name, with the unit that its times are given in where the name says another."""
        return self.name if self.factor == 1.0 else f"{self.name}, in s"

    def interval(self, rows: RowBatch) -> float | None:
        """Return the usual time between two of some rows in seconds, None if time never grows."""
        times = self._in_units(rows)
        steps = steps_of(times)
        steps = steps[steps > 0]
        if not steps.size:
            return None
        return round(float(np.median(steps)), step_decimals(times)) * self.factor


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
        times = self.column.seconds(rows)
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
        return self.column.interval(rows)


class Named(Protocol):
    """What has columns by name and a format: a log, a frame, or the first lines of a stream."""

    @property
    def columns(self) -> list[str]: ...

    @property
    def form(self) -> LogFormat: ...

    @property
    def units(self) -> Mapping[str, str]: ...


@dataclass(frozen=True)
class Names:
    """The columns that the first lines of a stream show, with the units beside their names."""

    columns: list[str]
    form: LogFormat
    units: Mapping[str, str]


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
    in its name (`t_ms`, `time (min)`); without one, numbers since 1970 show theirs, and others are
    seconds. Dates in one column and times of day in another are one time.
    """
    names = [name.strip() for name in reader.columns]
    form, decimal = reader.form, reader.form.decimal
    named = form.time - 1 if isinstance(form.time, int) else None
    if form.time in names:
        named = names.index(str(form.time))
    head = batch.head(HEAD_ROWS)

    def found(index: int, unit: float | None = None) -> TimeColumn:
        cells = head.numbers(index)
        base, size = usual(reader.units.get(reader.columns[index], "")) or ("", 1.0)
        factor = unit or (size if base == "s" else None) or time_factor(names[index])
        factor = factor or _epoch(_read_times(cells, decimal))
        of_day = _are_of_day(cells)
        return _with_date(TimeColumn(index, names[index], factor, decimal, of_day), names, head)

    if named is not None and named < len(names):
        return found(named, TIME_UNITS[form.time_unit] if form.time_unit else None)
    is_record = RECEIVED in names
    grown = None
    for index, name in enumerate(names):
        unit = stated_unit(name, reader.units.get(reader.columns[index], ""))
        kind = (usual(unit or "s") or ("",))[0]
        if index in used or name == RECEIVED or kind not in ("s", "count"):
            continue  # a sweep of volts grows like a time, and T_degC has the name of one
        times = _read_times(head.numbers(index), decimal)
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
                    even = np.ptp(steps) <= min(2e-9, 1e-3 * float(np.median(steps)))
                grows = bool(even and np.all(steps > 0)) and not numbers_samples(name, times)
            grows &= kind != "count"
            # With no other numbers beside it, it is what the log is about.
            grows &= any(_has_numbers(head, i, decimal) for i in range(len(names)) if i != index)
        if len(name) == 1 and steps.size and not np.mean(steps > 0) > 0.5:
            named_so = False  # T may be a temperature
        if named_so:
            return found(index)
        shown = _are_of_day(head.columns[index]) or _are_dates(head.columns[index])
        shown &= index == 0 or bool(steps.size and np.all(steps >= 0) and np.any(steps > 0))
        if grown is None and (grows or shown):
            grown = index  # a later one may have the name of a time
    if grown is not None:
        return found(grown)
    return TimeColumn(names.index(RECEIVED), RECEIVED, 1.0) if is_record else None


def numbers_samples(name: str, counts: Array) -> bool:
    """Whether a column only numbers the samples."""
    return _NUMBER_NAME.fullmatch(name) is not None and bool(np.all(np.diff(counts) == 1))


def _epoch(times: Array) -> float:
    """The seconds of the unit that numbers since 1970 are in, as their size shows."""
    largest = np.fmax.reduce(np.abs(times), initial=0.0)
    return next((factor for least, factor in _EPOCHS if largest >= least), 1.0)


def _has_numbers(batch: RowBatch, index: int, decimal: str) -> bool:
    found = read_samples(batch.numbers(index), decimal, np.empty(0, np.int64))
    return found.missing is None or not bool(found.missing.all())


def _with_date(found: TimeColumn, names: list[str], head: RowBatch) -> TimeColumn:
    """A time with the date, or a date with the times of day, that stands in another column."""
    if found.is_of_day:
        for i in range(len(names)):
            if _are_dates(head.columns[i], alone=True):
                return replace(found, is_of_day=False, dates=i)
    elif _are_dates(head.columns[found.index], alone=True):
        for i, name in enumerate(names):
            if _are_of_day(head.columns[i]):
                return replace(found, index=i, name=name, factor=1.0, dates=found.index)
    return found


def _are_dates(cells: pa.Array, alone: bool = False) -> bool:
    """Whether the first is a date; alone: without a time of day."""
    return re.match(DATE + (r"\Z" if alone else ""), _first(cells)) is not None


def _are_of_day(cells: pa.Array) -> bool:
    """Whether times are times of day, which begin again at midnight."""
    return re.match(r"\d{1,2}:\d\d", _first(cells)) is not None


def _first(cells: pa.Array) -> str:
    """The first cell that is not empty, as text."""
    for start in range(0, len(cells), HEAD_ROWS):
        for cell in cells.slice(start, HEAD_ROWS).to_pylist():
            if cell:
                text = cell.decode("latin-1") if isinstance(cell, bytes) else str(cell)
                return text.strip()
    return ""


def _read_times(cells: pa.Array, decimal: str) -> Array:
    """Times as they stand in the column, dates in seconds; NaN for what is neither."""
    if pa.types.is_floating(cells.type):
        return floats_of(cells.cast(pa.float64()))
    texts = cast_of(cells, pa.string())
    if texts is not None:
        texts = pc.utf8_trim_whitespace(texts)
        if decimal == ",":
            texts = pc.replace_substring(texts, ",", ".")
        if re.match(DATE, _first(cells)):
            texts = pc.replace_substring_regex(texts, r"^(\d{4})/(\d\d)/(\d\d)", r"\1-\2-\3")
            texts = pc.replace_substring_regex(texts, r"^(\d\d)\.(\d\d)\.(\d{4})", r"\3-\2-\1")
            # One cell that is no date does not take the time of all others.
            is_date = pc.match_substring_regex(texts, r"^\d{4}-\d\d-\d\d")
            texts = pc.if_else(is_date, texts, no_value())
        for kind in (pa.float64(), pa.timestamp("us"), pa.timestamp("us", tz="UTC")):
            found = cast_of(texts, kind)
            if found is not None and kind == pa.float64():
                return floats_of(found)
            if found is not None:
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
    pattern = (
        r"^\s*(?P<h>\d{1,2}):(?P<m>\d\d)(?::(?P<s>\d\d(?:[.,]\d+)?))?\s*(?P<half>[AaPp]?)[Mm]?\s*$"
    )
    parts = pc.extract_regex(cells.cast(pa.binary()).cast(pa.string()), pattern)
    half = pc.utf8_lower(pc.struct_field(parts, 3))
    after_noon = truths_of(pc.equal(half, text_scalar("p")))
    halves = after_noon | truths_of(pc.equal(half, text_scalar("a")))
    seconds = np.zeros(len(cells))
    for index, size in enumerate((3600.0, 60.0, 1.0)):
        text = pc.replace_substring(pc.struct_field(parts, index), ",", ".")
        text = pc.if_else(pc.equal(text, text_scalar("")), text_scalar("0"), text)
        numbers = floats_of(text.cast(pa.float64()))
        if index == 0 and halves.any():  # 12 AM is midnight
            numbers = np.where(halves, numbers % 12.0, numbers) + 12.0 * after_noon
        seconds += numbers * size
    return seconds
