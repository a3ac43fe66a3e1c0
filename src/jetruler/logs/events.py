"""The trips of a bench on a recorded log: where each turned on and off."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Mapping

from ..core.decide.decisions import Decisions
from ..core.model.channel import Bench
from ..core.model.reading import Reading
from .followers import HEAD_ROWS
from .reader import Batch, LogReader
from .source import LogError
from .times import read_times, time_column, time_factor


class EventWriter:
    """Writes `time, trip, state, values` for each change of a trip, as the log is read.

    write: takes the bytes. Raises `LogError` for a bench without trips, a log without a time
    column, and a trip whose channels are not converted.
    """

    def __init__(self, write: Callable[[bytes], object], bench: Bench, reader: LogReader) -> None:
        if not bench.trips:
            raise LogError("the bench has no trips, so there are no events; add a [trip.<name>]")
        self.bench, self.reader = bench, reader
        self._decisions = Decisions(bench)
        self._write_bytes = write
        self._place: int | None = None

    def add(self, batch: Batch, readings: Mapping[str, Reading]) -> None:
        """Decide on a batch and write what changed."""
        if self._place is None:
            self._place = self._begin(batch, readings)
        cells = batch.columns[self._place]
        factor = time_factor(self.reader.columns[self._place])
        decided = self._decisions.add(
            read_times(cells, self.reader.form.decimal) * factor, readings
        )
        for event in decided.events:
            values = [
                f"{name}={self.bench[name].cell(float(readings[name].value[event.sample]))}"
                for name in event.trip.channels
            ]
            state = "on" if event.on else "off"
            self._write(cells[event.sample].as_py(), event.trip.name, state, ";".join(values))

    def _begin(self, batch: Batch, readings: Mapping[str, Reading]) -> int:
        for trip in self.bench.trips.values():
            for name in trip.channels:
                if name not in readings:
                    raise LogError(f"trip.{trip.name} looks at {name}, which is not converted")
        used = {self.reader.position(c.column) for c in self.bench.channels.values()}
        stream = self.bench.stream
        names = [name.strip() for name in self.reader.columns]
        if stream is not None and stream.timestamp in names:
            place: int | None = names.index(stream.timestamp)
        else:
            place = time_column(self.reader, batch.head(HEAD_ROWS), used)
        if place is None:
            raise LogError(f"{self.reader.name}: no time column is found; events need one")
        self._write(names[place], "trip", "state", "values")
        return place

    def _write(self, *cells: object) -> None:
        line = io.StringIO()
        csv.writer(line, lineterminator="\n").writerow(cells)
        self._write_bytes(line.getvalue().encode())
