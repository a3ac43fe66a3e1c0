"""The `[stream]`, `[trip.<name>]` and `[drive.<name>]` tables of a bench file."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping
from typing import Any, TypeVar

from ..core.decide.conditions import Condition
from ..core.decide.drives import Drive
from ..core.decide.pattern_drives import pattern_drives
from ..core.decide.trips import Trip
from ..core.error_types import ParameterError, ParameterErrors
from ..core.model.channel import Channel
from ..core.model.from_table import from_table, frozen
from ..core.model.quantity import seconds
from ..core.model.stream import Stream
from ..core.model.text import nearest

Made = TypeVar("Made")

#: What is wrong: its place below the table, then the error.
Report = Callable[[ParameterError], None]


def stream_of(table: Mapping[str, Any], report: Report) -> Stream | None:
    """The `[stream]` table."""
    return _made(Stream, table, {}, report)


def trip_of(
    name: str, table: Mapping[str, Any], channels: Collection[str], report: Report
) -> Trip | None:
    """A `[trip.<name>]` table: `any = [ … ]` or `all = [ … ]`, and how long."""
    joins = [key for key in ("any", "all") if key in table]
    if len(joins) != 1:
        found = " and ".join(joins) or None
        report(ParameterError("any", found, "a list of conditions under any, or under all"))
        return None
    join = joins[0]
    listed = table[join]
    if not isinstance(listed, list) or not all(isinstance(entry, dict) for entry in listed):
        right = 'a list of tables is right, as in [{ channel = "bean", above = 225 }]'
        report(ParameterError(join, listed, right))
        return None
    conditions = []
    for i, entry in enumerate(listed, start=1):
        inside = _inside(report, f"{join}[{i}]")
        made = _made(Condition, entry, {}, inside)
        known = isinstance(entry.get("channel"), str) and entry["channel"] in channels
        if "channel" in entry and not known:
            right = nearest(str(entry["channel"]), channels)
            inside(ParameterError("channel", entry["channel"], f"the bench has none; {right}"))
        elif made is not None:
            conditions.append(made)
    rest = {key: value for key, value in table.items() if key != join}
    if len(conditions) < len(listed):
        conditions = []  # the errors in the list are told already
        return None
    return _made(Trip, rest, {"name": name, "conditions": tuple(conditions), "join": join}, report)


def drive_of(
    name: str,
    table: Mapping[str, Any],
    channels: Collection[str],
    trips: Collection[str],
    report: Report,
) -> Drive | None:
    """A `[drive.<name>]` table; what it follows is `from`, in words a channel or a trip."""
    rest = dict(table)
    source = rest.pop("from", None)
    if source is None:
        report(ParameterError("from", None, "a drive follows a channel or a trip"))
    elif not isinstance(source, str):
        report(ParameterError("from", source, 'a name is right, as in "bean"'))
        return None
    elif source not in channels and source not in trips:
        right = f"no channel or trip has this name; {nearest(str(source), [*channels, *trips])}"
        report(ParameterError("from", source, right))
    for trip in rest.get("safe_when", ()) if isinstance(rest.get("safe_when"), list) else ():
        if not isinstance(trip, str) or trip not in trips:
            report(ParameterError("safe_when", trip, f"no such trip; {nearest(str(trip), trips)}"))
    if source in trips and "marks" not in rest:
        from ..core.decide.drives import RANGES

        kind = rest.get("range", "duty8")
        ends = RANGES[kind][:2] if isinstance(kind, str) and kind in RANGES else kind
        if isinstance(ends, list | tuple) and len(ends) == 2:
            rest["marks"] = [[0, ends[0]], [1, ends[1]]]
    return _made(Drive, rest, {"name": name, "source": source}, report)


def pattern_of(
    name: str, table: Mapping[str, Any], channels: Mapping[str, Channel], report: Report
) -> dict[str, Drive]:
    """A `[drive.<name>]` table with `outputs`: a drive for each place of a zone's pattern."""
    rest = dict(table)
    source, outputs, safe = rest.pop("from", None), rest.pop("outputs"), rest.pop("safe", None)
    for key, value in rest.items():
        report(ParameterError(key, value, "beside outputs, only from and safe are right"))
    if not isinstance(source, str) or source not in channels:
        right = f"a channel with patterns is right; {nearest(str(source), channels)}"
        report(ParameterError("from", source, right))
        return {}
    if not isinstance(outputs, list) or not all(isinstance(each, str) for each in outputs):
        report(ParameterError("outputs", outputs, "a list of names is right"))
        return {}
    if safe is not None and (not isinstance(safe, list) or not all(map(_number, safe))):
        report(ParameterError("safe", safe, "a list of commands is right, one for each output"))
        return {}
    try:
        return pattern_drives(name, channels[source], outputs, safe)
    except ParameterError as error:
        report(error)
        return {}


def output_errors(drives: Mapping[str, Drive]) -> Iterator[tuple[str, ParameterError]]:
    """Two drives on one output."""
    taken: dict[str, str] = {}
    for name, drive in drives.items():
        if drive.output in taken:
            right = f"drive.{taken[drive.output]} has this output already"
            yield name, ParameterError("output", drive.output, right)
        taken.setdefault(drive.output, name)


def _inside(report: Report, place: str) -> Report:
    return lambda m: report(ParameterError(f"{place}.{m.name}", m.found, m.right))


def _made(
    kind: type[Made], table: Mapping[str, Any], given: Mapping[str, Any], report: Report
) -> Made | None:
    """The object that a table describes, or a report of every error in it."""
    try:
        return from_table(kind, table, f"a {kind.__name__.lower()}", read=_read, given=given)
    except ParameterErrors as wrong:
        for error in wrong.errors:
            report(error)
        return None


_TEXTS = {"about", "channel", "format", "delimiter", "timestamp", "time_unit", "output"}
_TEXTS |= {"wire", "line_end"}
_TIMES = {"hold", "stay", "within", "stale"}
_NUMBERS = {"safe", "dead_band", "off", "slew"}
_PAIRS = {"clamp"}
_LISTS = {"columns", "safe_when", "safe_flags"}


def _read(key: str, value: Any) -> Any:
    """A parameter of the right kind; lists come back as tuples."""
    if key in _TEXTS and not isinstance(value, str):
        raise ParameterError(key, value, "a text is right")
    if key in _NUMBERS and not _number(value):
        raise ParameterError(key, value, "a number is right")
    if key in _TIMES and not (seconds(value) == seconds(value)):
        raise ParameterError(key, value, 'a time is right, as in 2 or "200 ms"')
    if key in _LISTS:
        if not isinstance(value, list) or not all(isinstance(v, str) for v in value):
            raise ParameterError(key, value, "a list of names is right")
        return tuple(value)
    if key == "marks":
        if not isinstance(value, list) or not all(_pair(pair) for pair in value):
            right = "pairs [value, command] are right, as in [[0, 1000], [100, 2000]]"
            raise ParameterError(key, value, right)
        return frozen(value)
    if key in _PAIRS or (key == "range" and not isinstance(value, str)):
        if not _pair(value):
            raise ParameterError(key, value, "two numbers are right, the low one first")
        return tuple(value)
    if key == "whole" and not isinstance(value, bool):
        raise ParameterError(key, value, "true or false is right")
    return frozen(value)


def _number(value: Any) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and abs(value) < 1e300


def _pair(value: Any) -> bool:
    return isinstance(value, list) and len(value) == 2 and all(map(_number, value))
