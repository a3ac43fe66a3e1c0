"""The trips of a bench on a recorded log: where each turned on and off."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from ..core.decide.decisions import Decisions
from ..core.decide.timed import timed_parts, without_clock
from ..core.model.channel import Bench
from ..core.model.reading import Reading
from ..samples.batches import SampleBatch
from ..samples.source import LogError
from .event_rows import EVENT_COLUMNS, csv_line, event_row


class EventWriter:
    """Writes `time, trip, state, values` for each change of a trip, as the log is read.

    write: takes the bytes. Raises `LogError` for a bench without trips, a log without a time
    column, and a trip whose channels are not converted.
    """

    def __init__(self, write: Callable[[bytes], object], bench: Bench, log: str) -> None:
        if not bench.trips:
            raise LogError("the bench has no trips, so there are no events; add a [trip.<name>]")
        self.bench, self._log = bench, log
        self._decisions = Decisions(bench)
        self._write_bytes = write

    @property
    def jumps(self) -> int:
        """How often the log's time went back or leapt."""
        return self._decisions.clock.jumps

    def add(self, batch: SampleBatch, readings: Mapping[str, Reading]) -> None:
        """Decide on a batch and write what changed."""
        if not batch.first:
            self._begin(batch, readings)
        for event in self._decisions.add(batch.times, readings).events:
            row = event_row(self.bench, event, readings)
            self._write_bytes(csv_line(batch.time_cell(event.sample), *row))

    def _begin(self, batch: SampleBatch, readings: Mapping[str, Reading]) -> None:
        for trip in self.bench.trips.values():
            for name in trip.channels:
                if name not in readings:
                    raise LogError(f"trip.{trip.name} looks at {name}, which is not converted")
        asking = timed_parts(self.bench, drives=False)
        if not batch.clock.is_known and asking:
            raise LogError(f"{self._log}: {without_clock(asking)}")
        column = batch.time_column
        name = batch.clock.label if column is None else column.name
        self._write_bytes(csv_line(name, *EVENT_COLUMNS))
