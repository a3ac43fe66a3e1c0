"""Looking at a log before anything is converted: one pass, constant memory; a survey a column, the
time column, findings."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from math import isfinite
from typing import Any

import numpy as np
import numpy.typing as npt

from ..core.bench.bench import Bench, BenchLike, LogFormat, bench_of
from ..core.bench.channel import Channel
from ..core.error_types import LogError
from ..core.result import Content, Finding, Findings, Result, TextTable, refuses
from ..core.ruler.converter import Converter, RawInput
from ..core.ruler.units import (
    many,
)
from ..core.survey.blocks import floating
from ..core.survey.distribution import LEAST
from ..core.survey.findings import Subject, findings, time_findings
from ..core.survey.running_statistics import TimeSurvey, TimeSurveyor
from ..core.survey.survey import FIGURES, SURVEY_HEADINGS, Survey
from ..core.survey.surveyor import Surveyor
from ..samples.cells import Samples
from ..samples.passes import EveryPass, Progress, SampleBatch, columns_of, walk
from ..samples.shapes import why_no_numbers
from ..samples.source import Log, LogReader
from ..samples.threads import Workers
from ..samples.times import TimeColumn, numbers_samples
from .column_look import MEANS, ColumnLook

#: Columns that a narrow window leaves out.
LEFT_OUT = (1, 2, 4)


@dataclass(frozen=True, eq=False, repr=False)
class Look(Result):
    """What a log shows: its columns, its time, and the findings, most serious first.

    Attributes
    ----------
    rows : int
        Rows of the log.
    columns : dict[str, ColumnLook]
        What was found in each column of counts, by channel or column.
    time : TimeSurvey | None
        What its time column does; None without one.
    findings : tuple[Finding, ...]
        Most serious first.
    torn_rows : int
        Rows with too few or too many fields.
    left_out : tuple[str, ...]
        Columns that hold neither counts nor time.
    line_format : str, default ""
        How the log's lines were read, if it was not given.
    noise : str, default ""
        How many lines were no samples, with the first of each kind.
    unnamed : bool, default False
        Whether its columns have numbers for names.
    computed : tuple[str, ...], default ()
        Channels of the bench that are computed from others: they have no raw values to survey.
    units : dict[str, str]
        The units that the log states beside its names: behind values, or in a row of their own.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.look("roast.csv").rows
    4200
    """

    rows: int
    """Rows of the log."""
    columns: dict[str, ColumnLook]
    """What was found in each column of counts, by channel or column."""
    time: TimeSurvey | None
    """What its time column does; None without one."""
    findings: tuple[Finding, ...]
    """Most serious first."""
    torn_rows: int
    """Rows with too few or too many fields."""
    left_out: tuple[str, ...]
    """Columns that hold neither counts nor time."""
    line_format: str = ""
    """How the log's lines were read, if it was not given."""
    noise: str = ""
    """How many lines were no samples, with the first of each kind."""
    unnamed: bool = False
    """Whether its columns have numbers for names."""
    computed: tuple[str, ...] = ()
    """Channels of the bench that are computed from others: they have no raw values to survey."""
    units: dict[str, str] = field(default_factory=dict)
    """The units that the log states beside its names: behind values, or in a row of their own."""

    @property
    def remarks(self) -> list[str]:
        """How the lines were read, and which were no samples."""
        line_format = f"reading lines as: {self.line_format}" if self.line_format else ""
        return [text for text in (line_format, self.noise) if text]

    @property
    def headline(self) -> str:
        worst = f"; {self.findings[0]}" if self.findings else ""
        return f"{many(self.rows, 'row')}, {many(len(self.findings), 'finding')}{worst}"

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        surveys = {name: each.survey for name, each in self.columns.items()}
        table: dict[str, Sequence[Any]] = {"channel": list(surveys)}
        for name in FIGURES:
            table[name.replace("_", " ")] = [getattr(v, name) for v in surveys.values()]
        return table

    @property
    def content(self) -> Content:
        """A row a column, what a lab report asks for, the time column, then the findings."""
        columns = self.columns.values()
        lines: list[Any] = [
            many(self.rows, "row"),
            *self.remarks,
            TextTable(SURVEY_HEADINGS, [each.row() for each in columns], optional=LEFT_OUT),
            "",
            TextTable(MEANS, [each.mean_row() for each in columns]),
        ]
        reasons: dict[str, list[str]] = {}
        for each in columns:
            reasons.setdefault(each.survey.known.reason, []).append(each.name)
        lines += [
            f"no 95 % interval of the mean of {', '.join(names)}: {reason}"
            for reason, names in reasons.items()
            if reason
        ]
        if self.time is not None:
            lines.append(str(self.time))
        if self.torn_rows:
            lines.append(f"{many(self.torn_rows, 'row')} with too few or too many fields")
        if self.left_out:
            lines.append(f"ignored, not counts: {', '.join(self.left_out)}")
        if self.computed:
            lines.append(f"computed from others, so without raw values: {', '.join(self.computed)}")
        return [*lines, "", *(finding.item for finding in self.findings)]

    def _fields(self) -> Mapping[str, Any]:
        return {
            "rows": self.rows,
            "line_format": self.line_format,
            "noise": self.noise,
            "torn_rows": self.torn_rows,
            "columns": {name: each.figures() for name, each in self.columns.items()},
            "left_out": self.left_out,
            "computed": self.computed,
            "time": self.time,
            "findings": self.findings,
        }


#: Bits that converters have; the smallest that holds all counts is taken where no bench says.
_USUAL_BITS = (8, 10, 12, 14, 16, 18, 20, 24, 32)


@dataclass
class _Column:
    """A column while it is looked at."""

    name: str
    index: int
    channel: Channel | None
    surveyor: Surveyor = field(default_factory=Surveyor)
    empty: int = 0
    unreadable: int = 0
    fractional: int = 0

    def __post_init__(self) -> None:
        edge = self.edge
        if edge is not None:
            lsb = float(edge.lsb or 0.0)
            known = 0.0 if isinstance(edge, Converter) else lsb
            self.surveyor = Surveyor(edge.lowest, edge.highest, known, lsb)

    @property
    def edge(self) -> RawInput | None:
        """The raw edge of its channel."""
        return self.channel.chain.edge if self.channel is not None else None

    @property
    def unit(self) -> str:
        """Unit of its raw values; "1" for a column that is unknown and that is no counts."""
        if self.edge is not None:
            return str(self.edge.takes)
        return "count" if self.channel is None and self.surveyor.step == 1.0 else "1"

    def add(self, batch: SampleBatch) -> None:
        self.take(batch.samples(self.index))

    def take(self, found: Samples) -> None:
        """The next samples."""
        self.fractional += found.fractional
        self.surveyor.add(found.counts, found.missing)
        self.empty += 0 if found.empty is None else found.empty.size
        self.unreadable += 0 if found.unreadable is None else found.unreadable.size

    def looked(self, column: str, interval: float | None) -> ColumnLook:
        surveyor, edge = self.surveyor, self.edge
        bits = edge.bits if isinstance(edge, Converter) else None
        ends = None
        if self.unit == "count" and edge is None:
            # The least usual converter that has all but what is apart from all others.
            low, high = (end if isfinite(end) else 0.0 for end in surveyor.core)
            if surveyor.distribution.total < LEAST:
                low, high = surveyor.distribution.smallest or 0, surveyor.distribution.largest or 0
            signed = low < 0
            fits = (b for b in _USUAL_BITS if -low <= 2 ** (b - 1) and high < 2 ** (b - signed))
            bits = next(fits, 32)
            lowest = -(2 ** (bits - 1)) * signed
            ends = lowest, lowest + 2**bits - 1
        found = surveyor.survey(ends, self.unit, None if edge is None else edge.top_code)
        span = (found.highest - found.lowest) / found.step
        return ColumnLook(
            self.name,
            column,
            channel=self.channel,
            survey=found,
            bits=bits,
            bits_guessed=edge is None,
            empty=self.empty,
            unreadable=self.unreadable,
            fractional=self.fractional,
            floating=floating(surveyor.blocks, span, interval) if self.unit == "count" else None,
            index=self.index,
        )


def survey_of(channel: Channel, raw: npt.NDArray[Any]) -> Survey:
    """Survey raw values of a channel, as `look` does those of a log."""
    column = _Column(channel.name, 0, channel)
    column.take(Samples(raw))
    return column.looked(str(channel.column), None).survey


class _Rows:
    """On which line a row is, for the few rows that anybody asks for."""

    def __init__(self) -> None:
        self._starts: list[tuple[int, int]] = []
        self.rows = 0

    def add(self, lines: npt.NDArray[np.int64]) -> None:
        # Lines ascend: with none left out, the last says so.
        whole = int(lines[-1]) - int(lines[0]) == lines.size - 1
        jumps: list[int] = [] if whole else (np.flatnonzero(np.diff(lines) != 1) + 1).tolist()
        for i in (0, *jumps):
            offset = int(lines[i]) - (self.rows + i)
            if not self._starts or self._starts[-1][1] != offset:
                self._starts.append((self.rows + i, offset))
        self.rows += lines.size

    def line(self, row: int) -> int:
        """The line of a row, counted from 0."""
        return row + next((o for start, o in reversed(self._starts) if start <= row), 0)


@refuses
def look(
    log: Log,
    bench: BenchLike | None = None,
    *,
    form: LogFormat | None = None,
    progress: Progress | None = None,
) -> Look:
    """Look at a CSV log: every column of counts, the time column, and findings in plain words.

    With a bench, its channels' columns are looked at and findings speak in their units; without
    one, every column that mostly holds whole numbers.

    Parameters
    ----------
    log : path, bytes, open file, frame, Series or array
        The log; "-" is standard input. Frames are pandas', Polars' or PyArrow's; an array of shape
        (n,) or (n, columns) has numbers for names.
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
    bench = None if bench is None else bench_of(bench)
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
        self._first_cells: list[str] = []

    def begin(self, reader: LogReader) -> Iterable[int]:
        """The positions of the channels' columns."""
        self._reader = reader
        if self.bench is None and len(reader.columns) > MOST_COLUMNS:
            many = len(reader.columns)
            expected = f"expected a bench that says which of its {many} columns to look at"
            raise LogError(
                f"{reader.name}: {expected} (up to {MOST_COLUMNS} need none), found none"
            )
        if self.bench is not None:
            for channel in self.bench.own_channels:
                index = reader.position(channel.column)
                self._columns.append(_Column(channel.name, index, channel))
        return [column.index for column in self._columns]

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
        if not self._columns:
            firsts = (cells[0].as_py() for cells in batch.rows.columns if len(cells))
            self._first_cells = [cell for cell in firsts if isinstance(cell, str)]
        times = () if self._time_column is None else self._time_column.indices
        self._reader.ask((column.index for column in self._columns), times)

    def found(self) -> Look:
        """What was seen. Raises `LogError` where no column holds counts."""
        reader, columns, rows = self._reader, self._columns, self._rows
        if not columns:
            hint = why_no_numbers(self._first_cells, reader.form.decimal)
            none = f"found none among {_names(reader)}{hint}"
            raise LogError(f"{reader.name}: expected a column of counts, {none}")
        timing = self._time.survey() if self._time is not None else None
        interval = self._interval

        def at(row: int) -> str:
            return f"{reader.counted} {rows.line(row)}"

        if timing is not None and timing.interval > 0:
            interval = timing.interval
        looks = {c.name: c.looked(reader.columns[c.index].strip(), interval) for c in columns}
        found = [
            finding
            for name, each in looks.items()
            for finding in findings(
                Subject(name, each.survey, each.channel, interval, at, floating=each.floating)
            )
        ]
        if timing is not None:
            found += time_findings(timing, at)
        used = {column.index for column in columns}
        used |= set() if self._time_column is None else {*self._time_column.indices}
        return Look(
            rows.rows,
            looks,
            time=timing,
            findings=Findings.of(found),
            torn_rows=self._torn,
            left_out=tuple(
                name.strip() or f"column {i + 1}"
                for i, name in enumerate(reader.columns)
                if i not in used
            ),
            line_format=reader.line_format,
            noise=reader.noise.words,
            unnamed=reader.unnamed,
            computed=() if self.bench is None else tuple(self.bench.derived),
            units={name.strip(): unit for name, unit in reader.units.items()},
        )


#: Columns that are looked at without a bench; more would be no log that anybody reads.
MOST_COLUMNS = 2000


def _of_log(reader: LogReader, batch: SampleBatch) -> list[_Column]:
    """Every column of the first batch of which at least half the cells are numbers."""
    columns = []
    times = () if batch.time_column is None else batch.time_column.indices
    named = {reader.columns[i].strip() for i in times}
    for index, name in enumerate(map(str.strip, reader.columns)):
        found = batch.samples(index)
        missing = 0 if found.missing is None else int(found.missing.sum())
        unlike = index in times or numbers_samples(name, found.counts.astype(np.float64))
        if not unlike and len(batch) - missing >= 0.5 * len(batch):
            only = name and name not in named
            columns.append(_Column(name if only else f"column {index + 1}", index, None))
            named.add(name)
    for column in columns:
        column.surveyor.keep_less(len(columns))
    return columns


def _names(reader: LogReader) -> str:
    return ", ".join(reader.columns[:30])
