"""`--events`: trips that turn, and what somebody did by hand, each with its time."""

from __future__ import annotations

from collections.abc import Callable

from ..core.model.channel import Bench
from ..logs.event_rows import EVENT_COLUMNS, csv_line, event_row
from .station import LiveBatch


class LiveEvents:
    """Writes `time, trip, state, values` as `convert --events` does, a line for each change, below
    a header once it is known what times there are."""

    def __init__(self, write: Callable[[bytes], object]) -> None:
        self._write = write
        self._begun = False

    def begin(self, time_name: str) -> None:
        """Write the header, once."""
        if not self._begun:
            self._write(csv_line(time_name, *EVENT_COLUMNS))
        self._begun = True

    def add(self, bench: Bench, batch: LiveBatch) -> None:
        """The trips that turned in a batch."""
        for event in batch.decided.events:
            row = event_row(bench, event, batch.readings)
            self._write(csv_line(batch.times[event.sample].as_py(), *row))

    def note(self, time: str, name: str, what: str, value: str) -> None:
        """Something that was done by hand. time: that of the last sample."""
        self._write(csv_line(time, name, what, value))
