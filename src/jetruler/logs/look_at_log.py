"""Looking at a log before anything is converted: one pass, constant memory."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from functools import partial
from math import inf
from typing import Any

import numpy as np
import numpy.typing as npt

from ..core.model.channel import Bench, Channel
from ..core.model.converter import Converter, RawInput
from ..core.model.log_format import LogFormat
from ..core.survey.findings import Subject, findings, time_findings
from ..core.survey.floating import Blocks
from ..core.survey.survey import FURTHEST, Survey, Surveyor
from ..core.survey.timing import TimeSurveyor
from ..samples.ahead import Workers
from ..samples.batches import Progress, SampleBatch
from ..samples.cells import Samples
from ..samples.passes import EveryPass, columns_of, walk
from ..samples.reader import LogReader
from ..samples.source import Log, LogError
from ..samples.times import TimeColumn
from .look_result import ColumnLook, Look

#: Bits that converters have; the smallest that holds all counts is taken where no bench says.
_USUAL_BITS = (8, 10, 12, 14, 16, 18, 20, 24, 32)


@dataclass
class _Column:
    """A column while it is looked at."""

    name: str
    place: int
    channel: Channel | None
    surveyor: Surveyor = field(default_factory=Surveyor)
    blocks: Blocks = field(default_factory=Blocks)
    empty: int = 0
    unreadable: int = 0
    fractional: int = 0

    step: float = 0.0

    @property
    def edge(self) -> RawInput | None:
        """The raw edge of its channel."""
        return self.channel.chain.edge if self.channel is not None else None

    @property
    def unit(self) -> str:
        """Unit of its raw values; "1" for a column that nobody knows and that is no counts."""
        if self.edge is not None:
            return str(self.edge.takes)
        return "count" if self.channel is None and self.step == 1.0 else "1"

    def add(self, batch: SampleBatch) -> None:
        self.take(batch.samples(self.place))

    def take(self, found: Samples) -> None:
        """The next samples."""
        counts: npt.NDArray[Any] = found.counts
        if not self.step:
            self.step = self._step(counts)
        if counts.dtype.kind == "f" or self.step != 1.0:
            self.fractional += found.fractional
            with np.errstate(over="ignore"):
                steps = counts.astype(np.float64) / self.step
            counts = np.rint(np.clip(np.nan_to_num(steps), -FURTHEST, FURTHEST)).astype(np.int64)
        self.surveyor.add(counts, found.missing)
        self.blocks.add(counts, found.missing)
        self.empty += 0 if found.empty is None else found.empty.size
        self.unreadable += 0 if found.unreadable is None else found.unreadable.size

    def _step(self, values: npt.NDArray[Any]) -> float:
        """What the survey counts in: the input's resolution, or the last decimal that there is."""
        known = self.edge.lsb if self.edge is not None else 0.0
        if known and not isinstance(self.edge, Converter) and _are_multiples(values, known):
            return float(known)
        digits = (10.0**-d for d in range(9) if _are_multiples(values, 10.0**-d))
        return next(digits, 1e-9)

    def looked(self, column: str, interval: float | None) -> ColumnLook:
        histogram, step, edge = self.surveyor.histogram, self.step or 1.0, self.edge
        bits = edge.bits if isinstance(edge, Converter) else None
        lowest, highest = (edge.lowest, edge.highest) if edge is not None else (-inf, inf)
        if edge is None and step == 1.0:
            low, high = histogram.smallest or 0, histogram.largest or 0
            signed = low < 0
            fits = (b for b in _USUAL_BITS if -low <= 2 ** (b - 1) and high < 2 ** (b - signed))
            bits = next(fits, 32)
            lowest = -(2 ** (bits - 1)) * signed
            highest = lowest + 2**bits - 1
        return ColumnLook(
            self.name,
            column,
            channel=self.channel,
            survey=self.surveyor.survey(lowest, highest, step, self.unit),
            bits=bits,
            bits_guessed=edge is None,
            empty=self.empty,
            unreadable=self.unreadable,
            fractional=self.fractional,
            floating=self.blocks.floating((highest - lowest) / step, interval)
            if self.unit == "count"
            else None,
            place=self.place,
        )


def _are_multiples(values: npt.NDArray[Any], step: float) -> bool:
    with np.errstate(over="ignore", invalid="ignore"):  # a misread number may be of any size
        steps = values[np.isfinite(values)] / step if values.dtype.kind == "f" else values / step
        off = np.abs(steps - np.rint(steps))
        return bool(np.all(off <= 1e-6 * np.maximum(1.0, 1e-6 * abs(steps))))


def survey_of(channel: Channel, raw: npt.NDArray[Any]) -> Survey:
    """Survey raw values of a channel, as `look` does those of a log."""
    column = _Column(channel.name, 0, channel)
    column.take(Samples(raw))
    return column.looked(str(channel.column), None).survey


class _Rows:
    """On which line a row stands, for the few rows that anybody asks for."""

    def __init__(self) -> None:
        self._starts: list[tuple[int, int]] = []
        self.rows = 0

    def add(self, lines: npt.NDArray[np.int64]) -> None:
        jumps = np.flatnonzero(np.diff(lines) != 1) + 1
        for i in (0, *jumps.tolist()):
            offset = int(lines[i]) - (self.rows + i)
            if not self._starts or self._starts[-1][1] != offset:
                self._starts.append((self.rows + i, offset))
        self.rows += lines.size

    def line(self, row: int) -> int:
        """The line of a row, counted from 0."""
        return row + next((o for start, o in reversed(self._starts) if start <= row), 0)


def look(
    log: Log,
    bench: Bench | None = None,
    *,
    form: LogFormat | None = None,
    progress: Progress | None = None,
) -> Look:
    """Look at a CSV log: every column of counts, the time column, and findings in plain words.

    With a bench, its channels' columns are looked at and findings speak in their units; without
    one, every column that mostly holds whole numbers.

    Parameters
    ----------
    log : path, bytes or open file
        The log; "-" is standard input.
    bench : Bench, optional
        Whose channels are looked at; without one, every column that mostly holds whole numbers.
    form : LogFormat, optional
        How the log is written; found out if None.
    progress : Progress, optional
        Is called after each batch.

    Returns
    -------
    Look
        Surveys and findings.

    Raises
    ------
    LogError
        For a log that cannot be read, or that has no column of counts.

    Examples
    --------
    >>> import jetruler as jr
    >>> bench = jr.load_bench("bench.toml")
    >>> jr.look("roast.csv", bench).findings[0].severity.name
    'ERROR'
    """
    form = form or (bench.log if bench is not None else None)
    with Workers() as workers:
        one = LookPass(bench, workers)
        walk(log, one, form=form, wanted=columns_of(bench), progress=progress)
    return one.found()


class LookPass(EveryPass):
    """Every column of a log, or those of a bench, while they are looked at."""

    def __init__(self, bench: Bench | None, workers: Workers | None = None) -> None:
        self.bench, self._workers = bench, workers or Workers(1)
        self._columns: list[_Column] = []
        self._time: TimeSurveyor | None = None
        self._time_column: TimeColumn | None = None
        self._rows, self._torn = _Rows(), 0
        self._interval: float | None = None

    def begin(self, reader: LogReader) -> Iterable[int]:
        """The positions of the channels' columns."""
        self._reader = reader
        if self.bench is not None:
            for channel in self.bench.channels.values():
                place = reader.position(channel.column)
                self._columns.append(_Column(channel.name, place, channel))
        return [column.place for column in self._columns]

    def add(self, batch: SampleBatch) -> None:
        """The next rows."""
        if not batch.first:
            self._begin(batch)
        self._rows.add(batch.rows.lines)
        self._torn += batch.rows.torn.size
        # Each column by itself: NumPy and PyArrow let other threads run while they compute.
        list(self._workers.in_order(self._columns, partial(_Column.add, batch=batch)))
        if self._time is not None:
            self._time.add(batch.times)

    def _begin(self, batch: SampleBatch) -> None:
        self._time_column, self._interval = batch.clock.column, batch.clock.step
        if self._time_column is not None:
            self._time = TimeSurveyor(self._time_column.name)
        self._columns = self._columns or _of_log(self._reader, batch)
        times = () if self._time_column is None else (self._time_column.place,)
        self._reader.ask((column.place for column in self._columns), times)

    def found(self) -> Look:
        """What was seen. Raises `LogError` where no column holds counts."""
        reader, columns, rows = self._reader, self._columns, self._rows
        if not columns:
            raise LogError(f"{reader.name}: no column holds counts; it has: {_names(reader)}")
        timing = self._time.survey() if self._time is not None else None
        interval = self._interval
        if timing is not None and timing.interval > 0:
            interval = timing.interval
        looks = {c.name: c.looked(reader.columns[c.place].strip(), interval) for c in columns}
        found = [
            finding
            for name, each in looks.items()
            for finding in findings(
                Subject(
                    name, each.survey, each.channel, interval, rows.line, floating=each.floating
                )
            )
        ]
        if timing is not None:
            found += time_findings(timing, rows.line)
        used = {column.place for column in columns}
        used |= set() if self._time_column is None else {self._time_column.place}
        return Look(
            rows.rows,
            looks,
            time=timing,
            findings=tuple(sorted(found, key=lambda finding: finding.severity)),
            torn_rows=self._torn,
            left_out=tuple(name for i, name in enumerate(reader.columns) if i not in used),
            said=reader.said,
            noise=reader.noise.words,
            unnamed=reader.unnamed,
        )


def _of_log(reader: LogReader, batch: SampleBatch) -> list[_Column]:
    """Every column of the first batch of which at least half the cells are numbers."""
    columns = []
    for place, name in enumerate(reader.columns):
        if batch.time_column is not None and place == batch.time_column.place:
            continue
        found = batch.samples(place)
        missing = 0 if found.missing is None else int(found.missing.sum())
        if len(batch) - missing >= 0.5 * len(batch):
            columns.append(_Column(name.strip() or str(place + 1), place, None))
    return columns


def _names(reader: LogReader) -> str:
    return ", ".join(reader.columns[:30])
