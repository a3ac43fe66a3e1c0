"""`--events`: trips that turn, and what somebody did by hand, each with its time."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable

from ..core.model.channel import Bench
from .station import LiveBatch


class LiveEvents:
    """Writes `time, trip, state, values` as `convert --events` does, a line for each change."""

    def __init__(self, write: Callable[[bytes], object], time_name: str) -> None:
        self._write = write
        self._row(time_name, "trip", "state", "values")

    def add(self, bench: Bench, batch: LiveBatch) -> None:
        """The trips that turned in a batch."""
        for event in batch.decided.events:
            values = [
                f"{name}={bench[name].cell(float(batch.readings[name].value[event.sample]))}"
                for name in event.trip.channels
            ]
            time = batch.times[event.sample].as_py()
            self._row(time, event.trip.name, "on" if event.on else "off", ";".join(values))

    def note(self, time: str, name: str, what: str, value: str) -> None:
        """Something that was done by hand. time: that of the last sample."""
        self._row(time, name, what, value)

    def _row(self, *cells: object) -> None:
        line = io.StringIO()
        csv.writer(line, lineterminator="\n").writerow(cells)
        self._write(line.getvalue().encode())
