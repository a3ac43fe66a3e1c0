"""The time column of a recorded stream, found by the rule that logs have."""

from __future__ import annotations

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
    if stream.format != "csv":
        return stream, None
    whole = head[: head.rfind(b"\n") + 1]  # the line that is still being written says nothing yet
    lines = whole.decode("utf-8", "replace").splitlines()
    cells = [line.split(stream.delimiter) for line in lines if line.strip() and line[0] != "#"]
    wanted = [channel.column for channel in bench.channels.values()]
    names = list(stream.columns or (cells.pop(0) if cells else ()))
    names = [name.strip().strip('"') for name in names]
    if not any(column in names for column in wanted) or not cells:
        return stream, None  # no header of this bench's
    rows = [row for row in cells if len(row) == len(names)][:HEAD_ROWS]
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
