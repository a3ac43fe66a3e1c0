"""A bench against a log: the rules between them, and where its trips turn."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from difflib import get_close_matches

from ..core.bench.bench import Bench, BenchLike, LogFormat, bench_of
from ..core.bench.channel import Channel
from ..core.bench.decisions import Decisions, without_times
from ..core.bench.derived import in_order
from ..core.bench.trips import TripEvent
from ..core.check.changes import channel_changed
from ..core.check.check import by_cause, not_used, unjudged
from ..core.check.facts import Facts
from ..core.check.injected import injected
from ..core.check.logged import LOG_RULES, Logged, swapped_columns
from ..core.check.triggers import (
    SHORT,
    Changes,
    flickering_trip,
    short_window,
    slow_drive,
    slow_smoothing,
)
from ..core.result import Finding, Findings, Severity, applied, refuses
from ..core.ruler.reading import Reading
from ..samples.passes import ChannelsPass, EveryPass, Progress, SampleBatch, columns_of, walk
from ..samples.source import ColumnError, Log, LogReader
from .look_at import Look, LookPass

#: Called for each trip that turns, with the batch and the readings of all channels.
Turned = Callable[[SampleBatch, TripEvent, Mapping[str, Reading]], None]


class TripsPass(ChannelsPass):
    """The trips of a bench over a log. Without a clock only those that ask for no time turn."""

    def __init__(self, bench: Bench, turned: Turned) -> None:
        super().__init__(list(bench.every_channel.values()))
        self.bench, self._turned = bench, turned
        self._decisions: Decisions | None = None

    def add(self, batch: SampleBatch) -> None:
        """Decide on the next rows."""
        if self._decisions is None:
            known = self.bench if batch.clock.is_known else without_times(self.bench)
            self._decisions = Decisions(known)
        names = [channel.name for channel in self.channels]
        readings = dict(zip(names, self.readings(batch), strict=True))
        for event in self._decisions.add(batch.times, readings).events:
            self._turned(batch, event, readings)


class TripStretches(TripsPass):
    """From when to when the trips are on that look at some channels of a bench."""

    def __init__(self, bench: Bench, channels: Sequence[Channel]) -> None:
        names = {channel.name for channel in channels}
        trips = {name: t for name, t in bench.trips.items() if set(t.channels) <= names}
        used = {channel.name for channel in in_order(channels)}
        super().__init__(bench.narrowed(used, trips=trips, drives={}), self._note)
        self._stretches: dict[str, list[tuple[float, float]]] = {name: [] for name in trips}
        self._begun: dict[str, float] = {}

    def _note(self, batch: SampleBatch, event: TripEvent, _: object) -> None:
        name, time = event.trip.name, float(batch.times[event.sample])
        if event.on:
            self._begun[name] = time
        elif name in self._begun:
            self._stretches[name].append((self._begun.pop(name), time))

    def found(self, end: float) -> dict[str, list[tuple[float, float]]]:
        """The stretches of each trip, up to the end of the log; a trip that asks for times, which
        the log has not, is named so."""
        for name, time in self._begun.items():
            self._stretches[name].append((time, end))
        decided = self.bench.trips if self._decisions is None else self._decisions.bench.trips
        return {
            name if name in decided else f"{name} (no clock)": stretches
            for name, stretches in self._stretches.items()
        }


def missing_column(
    gone: Mapping[str, ColumnError], bench: Bench, free: Sequence[str]
) -> Iterator[Finding]:
    """A channel whose column is not in the log.

    The channel cannot be checked, and none of its rows can be converted.
    """
    for name, error in gone.items():
        yield Finding(
            Severity.ERROR,
            f"channel.{name}.column",
            error.found,
            "Name a column of the log, or log that channel too",
            _changes=tuple(
                change
                for column in get_close_matches(str(bench[name].column), free, cutoff=0.0)
                for change in channel_changed(bench[name], "column", column)
            ),
        )


class CheckPass(EveryPass):
    """All that is to be found between a bench and a log, in one walk."""

    def __init__(self, bench: Bench) -> None:
        self.bench = bench
        self.gone: dict[str, ColumnError] = {}
        self._passes: list[LookPass | TripsPass] = []
        self._seen = dict.fromkeys(bench.trips, Changes(0, 0))
        self._last: dict[str, int] = {}
        self._look: Look | None = None
        self._free: list[str] = []

    def begin(self, reader: LogReader) -> Iterable[int]:
        """The positions of the columns that are there."""
        for name, channel in self.bench.channels.items():
            try:
                reader.position(channel.column)
            except ColumnError as error:
                self.gone[name] = error
        used = [
            reader.position(c.column) for n, c in self.bench.channels.items() if n not in self.gone
        ]
        self._free = [name for i, name in enumerate(reader.columns) if i not in used]
        there = {n: c for n, c in self.bench.channels.items() if n not in self.gone}
        self._looked = LookPass(self.bench.narrowed(there, trips={}, drives={}))
        self._passes = [self._looked] if there else []
        self.done = not there
        known = self.bench.narrowed(there, trips={}, drives={})
        trips = {n: t for n, t in self.bench.trips.items() if {*t.channels} <= {*known}}
        if trips:
            self._passes.append(TripsPass(replace(known, trips=trips), self._turned))
        return {index for one in self._passes for index in one.begin(reader)}

    def add(self, batch: SampleBatch) -> None:
        """The next rows."""
        for one in self._passes:
            one.add(batch)

    def _turned(self, batch: SampleBatch, event: TripEvent, _: object) -> None:
        name, row = event.trip.name, batch.first + event.sample
        short = name in self._last and row - self._last[name] <= SHORT
        before = self._seen[name]
        self._seen[name] = Changes(before.all + 1, before.short + short)
        self._last[name] = row

    def look(self) -> Look:
        """What `look` finds, in the same walk."""
        if self._look is None:
            self._look = self._looked.found()
        return self._look

    def found(self) -> Findings:
        """The findings, the most serious first."""
        found = by_cause(self.bench, self._findings(self.bench), self._findings)
        if self._passes:
            found += [
                replace(finding, rule="look")
                for finding in self.look().findings
                if finding.severity < Severity.NOTE and finding.rule != "floating"
            ]
        return Findings.of(found, unjudged(self.bench, logged=True), injected(self.bench))

    def _findings(self, bench: Bench) -> list[Finding]:
        """What the rules find between this log and a bench: this one, or what a change makes of
        it. The columns are those that were looked at."""
        gone = {n: e for n, e in self.gone.items() if bench[n].column == self.bench[n].column}
        found = applied(missing_column, gone, bench, self._free)
        if not self._passes:
            return found
        looked = self.look()
        by_column = {self.bench[name].column: each for name, each in looked.columns.items()}
        logged = {
            name: Logged(Facts(channel), looked_at.survey, looked_at.floating)
            for name, channel in bench.channels.items()
            if (looked_at := by_column.get(channel.column)) is not None
        }
        timing = looked.time
        if timing is not None and timing.interval > 0:
            for rule_in_time in (slow_smoothing, slow_drive, short_window):
                found += applied(rule_in_time, bench, timing.interval)
        found += applied(flickering_trip, bench, self._seen)
        found += applied(swapped_columns, logged)
        for each in logged.values():
            for rule in LOG_RULES:
                found += applied(rule, each)
        return found


@refuses
def check_log(
    log: Log,
    bench: BenchLike,
    listed: Iterable[str] | None = None,
    *,
    form: LogFormat | None = None,
    progress: Progress | None = None,
) -> Findings:
    """All findings between a bench and a log, the most serious first: the rules of `check` with a
    log, and the errors and warnings of `look`. Raises `LogError`.

    Parameters
    ----------
    log : path, bytes or open file
        The log.
    bench : Bench
        The bench.
    listed : Iterable[str], optional
        Not used any more.
    form : LogFormat, optional
        How the log is written; found out if None.
    progress : Progress, optional
        Is called after each batch.

    Returns
    -------
    Findings
        The most serious first.

    Examples
    --------
    >>> import jetruler as jr
    >>> bench = jr.load_bench("bench.toml")
    >>> jr.check_log("roast.csv", bench)[0].where
    'bean'
    """
    bench = bench_of(bench)
    not_used(listed)
    one = CheckPass(bench)
    walk(log, one, form=form or bench.log, wanted=columns_of(bench), progress=progress)
    return one.found()


#: What is in a row behind its time.
EVENT_COLUMNS = ("trip", "state", "values")


def event_row(bench: Bench, event: TripEvent, readings: Mapping[str, Reading]) -> tuple[str, ...]:
    """The trip's name, "on" or "off", and what its channels read."""
    values = [
        f"{name}={bench[name].cell(float(readings[name].value[event.sample]))}"
        for name in event.trip.channels
    ]
    return event.trip.name, "on" if event.on else "off", ";".join(values)


def csv_line(*cells: object) -> bytes:
    """A line of CSV."""
    line = io.StringIO()
    csv.writer(line, lineterminator="\n").writerow(cells)
    return line.getvalue().encode()


class EventWriter:
    """Writes `time, trip, state, values` for each change of a trip, as the log is read.

    write: takes the bytes.
    """

    def __init__(self, write: Callable[[bytes], object], bench: Bench) -> None:
        self.bench, self._write_bytes = bench, write

    def add(
        self, batch: SampleBatch, events: Iterable[TripEvent], readings: Mapping[str, Reading]
    ) -> None:
        """Write what changed in a batch."""
        if not batch.first:
            self._begin(batch)
        for event in events:
            row = event_row(self.bench, event, readings)
            self._write_bytes(csv_line(batch.time_cell(event.sample), *row))

    def _begin(self, batch: SampleBatch) -> None:
        column = batch.time_column
        name = batch.clock.label if column is None else column.name
        self._write_bytes(csv_line(name, *EVENT_COLUMNS))
