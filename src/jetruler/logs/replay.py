"""The trips of a bench over a recorded log: how often each changed, for `check`."""

from __future__ import annotations

from os import PathLike

from ..core.check.triggers import SHORT, Changes
from ..core.decide.decisions import Decisions
from ..core.model.channel import Bench
from .batches import sample_batches
from .channel_readers import ChannelReaders
from .formats.opening import open_log
from .source import LogFormat


def changes_of_trips(
    log: str | PathLike[str], bench: Bench, form: LogFormat | None
) -> dict[str, Changes]:
    """Return how often each trip changed its state; nothing for a log without times. Raises
    `LogError`."""
    decisions, channels = Decisions(bench), list(bench.channels.values())
    seen = dict.fromkeys(bench.trips, Changes(0, 0))
    last: dict[str, int] = {}
    with open_log(log, form) as reader:
        readers = ChannelReaders(channels)
        places = [reader.position(channel.column) for channel in channels]
        for batch in sample_batches(reader, places, stream=bench.stream):
            if batch.time_column is None:
                return {}
            readings = {}
            for i, (channel, place) in enumerate(zip(channels, places, strict=True)):
                found = batch.samples(place)
                _, readings[channel.name] = readers.of(i, batch).add(found.counts, found.missing)
            for event in decisions.add(batch.times, readings).events:
                name, row = event.trip.name, batch.first + event.sample
                short = name in last and row - last[name] <= SHORT
                seen[name] = Changes(seen[name].all + 1, seen[name].short + short)
                last[name] = row
    return seen
