"""Checking a bench against a log: the rules between them, and what `look` finds."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from os import PathLike

from ..core.check.facts import Facts
from ..core.check.rules import applied
from ..core.check.triggers import flickering_trip, short_window, slow_smoothing
from ..core.check.with_log import RULES, Logged, swapped_columns
from ..core.model.channel import Bench
from ..core.survey.finding import Finding, Findings, Severity
from ..core.survey.floating import FLOATING_REMEDY
from .batches import Progress
from .formats.opening import open_log
from .look_at_log import look
from .replay import changes_of_trips
from .source import ColumnError, LogFormat

#: What is missing, by channel.
Missing = dict[str, Finding]


def missing_column(log: str | PathLike[str], bench: Bench, form: LogFormat | None) -> Missing:
    """A channel whose column the log does not have.

    Nothing can be said about it, and no row of it is converted.
    """
    found = {}
    with open_log(log, form) as reader:
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


def check_log(
    log: str | PathLike[str],
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
    log : path
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
    gone = missing_column(log, bench, form)
    found = applied(missing_column, gone.values())
    there = {name: c for name, c in bench.channels.items() if name not in gone}
    if not there:
        return Findings.of(found)
    looked = look(log, replace(bench, channels=there), form=form, progress=progress)
    own = set(listed)
    logged = {
        name: Logged(Facts(there[name], name in own), each.survey, each.floating)
        for name, each in looked.columns.items()
    }
    timing = looked.time
    if timing is not None and timing.interval > 0:
        found += applied(slow_smoothing, slow_smoothing(bench, timing.interval))
        found += applied(short_window, short_window(bench, timing.interval))
    trips = {n: t for n, t in bench.trips.items() if not gone.keys() & set(t.channels)}
    if trips:
        seen = changes_of_trips(log, replace(bench, channels=there, trips=trips, drives={}), form)
        found += applied(flickering_trip, flickering_trip(bench, seen))
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
