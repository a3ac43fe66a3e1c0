"""The trips of a bench over a log, for whoever wants to hear where they turn."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from ..core.decide.decisions import Decisions
from ..core.decide.timed import without_times
from ..core.decide.trips import TripEvent
from ..core.model.channel import Bench
from ..core.model.reading import Reading
from ..samples.batches import SampleBatch
from ..samples.passes import ChannelsPass

#: Called for each trip that turns, with the batch and the readings of all channels.
Turned = Callable[[SampleBatch, TripEvent, Mapping[str, Reading]], None]


class TripsPass(ChannelsPass):
    """The trips of a bench over a log. Without a clock only those that ask for no time turn."""

    def __init__(self, bench: Bench, turned: Turned) -> None:
        super().__init__(list(bench.channels.values()))
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
