"""The time column of a recorded stream, found by the rule that logs have."""

from __future__ import annotations

import contextlib
import json
from dataclasses import dataclass, field, replace

import numpy as np
import pyarrow as pa

from ..core.model.channel import Bench
from ..core.model.stream import TIME_UNITS, Stream
from ..logs.reader import Columns, RowBatch
from ..logs.source import LogFormat
from ..logs.times import HEAD_ROWS, find_time_column


@dataclass(frozen=True)
class _Head:
    """The first lines of a stream in the place of a log."""

    columns: list[str]
    form: LogFormat = field(default_factory=LogFormat)


def timed(stream: Stream, bench: Bench, head: bytes) -> tuple[Stream, float | None]:
    """Return the stream with the time column that its first lines show, if it names none itself,
    and the usual time between two samples, as a log shows it; None without a time column.

    Parameters
    ----------
    head : the first bytes of the stream, whole lines and perhaps a part of one.
    """
    whole = head[: head.rfind(b"\n") + 1]  # the line that is still being written says nothing yet
    lines = [line for line in whole.decode("utf-8", "replace").splitlines() if line.strip()]
    wanted = [channel.column for channel in bench.channels.values()]
    names, rows = _table(stream, lines)
    rows = [row for row in rows if len(row) == len(names)][:HEAD_ROWS]
    if not any(column in names for column in wanted) or not rows:
        return stream, None  # no header of this bench's
    columns = Columns(len(names), lambda i: pa.array([row[i].strip() for row in rows], pa.string()))
    batch = RowBatch(columns, np.arange(len(rows)))
    used = {names.index(column) for column in wanted if column in names}
    used |= {column - 1 for column in wanted if isinstance(column, int)}
    found = find_time_column(_Head(names), batch, used, stream)
    if found is None:
        return stream, None
    interval = found.interval(columns[found.place])
    if stream.timestamp is not None:
        return stream, interval
    unit = next(unit for unit, size in TIME_UNITS.items() if size == found.factor)
    return replace(stream, timestamp=found.name, time_unit=unit), interval


def _table(stream: Stream, lines: list[str]) -> tuple[list[str], list[list[str]]]:
    """Names and cells of some lines; nothing for a format that no log has."""
    if stream.format == "csv":
        cells = [line.split(stream.delimiter) for line in lines if line[0] != "#"]
        names = list(stream.columns or (cells.pop(0) if cells else ()))
        return [name.strip().strip('"') for name in names], cells
    objects = []
    for line in lines if stream.format == "json" else ():
        with contextlib.suppress(ValueError, RecursionError):
            found = json.loads(line)
            objects += [found] if isinstance(found, dict) else []
    names = list(dict.fromkeys(name for found in objects for name in found))
    return names, [[str(found.get(name, "")) for name in names] for found in objects]
