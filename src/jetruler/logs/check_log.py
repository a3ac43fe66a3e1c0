"""Checking a bench against a log: the rules between them, and what `look` finds."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from ..core.check.facts import Facts
from ..core.check.rules import applied
from ..core.check.triggers import SHORT, Changes, flickering_trip, short_window, slow_smoothing
from ..core.check.with_log import RULES, Logged, swapped_columns
from ..core.decide.trips import TripEvent
from ..core.model.channel import Bench
from ..core.model.log_format import LogFormat
from ..core.survey.finding import Finding, Findings, Severity
from ..core.survey.floating import FLOATING_REMEDY
from ..samples.batches import Progress, SampleBatch
from ..samples.passes import EveryPass, columns_of, walk
from ..samples.reader import LogReader
from ..samples.source import ColumnError, Log
from .look_at_log import LookPass
from .trips_pass import TripsPass

#: What is missing, by channel.
Missing = dict[str, Finding]


def missing_column(reader: LogReader, bench: Bench) -> Missing:
    """A channel whose column the log does not have.

    Nothing can be said about it, and no row of it is converted.
    """
    found = {}
    for channel in bench.channels.values():
        try:
            reader.position(channel.column)
        except ColumnError as error:
            found[channel.name] = Finding(
                Severity.ERROR,
                f"channel.{channel.name}.column",
                error.found,
                "Name a column that is there, or log that channel too",
            )
    return found


class CheckPass(EveryPass):
    """All that is to be found between a bench and a log, in one walk."""

    def __init__(self, bench: Bench, listed: Iterable[str] = ()) -> None:
        self.bench, self.listed = bench, set(listed)
        self.gone: Missing = {}
        self._passes: list[LookPass | TripsPass] = []
        self._seen = dict.fromkeys(bench.trips, Changes(0, 0))
        self._last: dict[str, int] = {}

    def begin(self, reader: LogReader) -> Iterable[int]:
        """The positions of the columns that are there."""
        self.gone = missing_column(reader, self.bench)
        there = {n: c for n, c in self.bench.channels.items() if n not in self.gone}
        self._looked = LookPass(replace(self.bench, channels=there, trips={}, drives={}))
        self._passes = [self._looked] if there else []
        self.done = not there
        trips = {
            n: t for n, t in self.bench.trips.items() if not self.gone.keys() & set(t.channels)
        }
        if trips:
            some = replace(self.bench, channels=there, trips=trips, drives={})
            self._passes.append(TripsPass(some, self._turned))
        return {place for one in self._passes for place in one.begin(reader)}

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

    def found(self) -> Findings:
        """The findings, the most serious first."""
        bench, found = self.bench, applied(missing_column, self.gone.values())
        if not self._passes:
            return Findings.of(found)
        looked = self._looked.found()
        logged = {
            name: Logged(Facts(bench[name], name in self.listed), each.survey, each.floating)
            for name, each in looked.columns.items()
        }
        timing = looked.time
        if timing is not None and timing.interval > 0:
            found += applied(slow_smoothing, slow_smoothing(bench, timing.interval))
            found += applied(short_window, short_window(bench, timing.interval))
        found += applied(flickering_trip, flickering_trip(bench, self._seen))
        found += applied(swapped_columns, swapped_columns(logged))
        for each in logged.values():
            for rule in RULES:
                found += applied(rule, rule(each))
        found += [
            replace(finding, rule="look")
            for finding in looked.findings
            if finding.severity < Severity.NOTE and finding.remedy != FLOATING_REMEDY
        ]
        return Findings.of(found)


def check_log(
    log: Log,
    bench: Bench,
    listed: Iterable[str] = (),
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
    listed : Iterable[str], default ()
        As for `check`.
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
    one = CheckPass(bench, listed)
    walk(log, one, form=form or bench.log, wanted=columns_of(bench), progress=progress)
    return one.found()
