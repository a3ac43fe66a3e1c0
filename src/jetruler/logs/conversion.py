"""Batches of raw rows into readings: what must go in order, and what any thread can do."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from ..core.arrays import FlagArray
from ..core.decide.channel_reader import ChannelReader, read_flagged
from ..core.model.channel import Channel
from ..core.model.every_count import EveryCount
from ..core.model.reading import Reading
from ..samples.batches import SampleBatch
from ..samples.cells import Samples
from ..samples.channel_readers import ChannelReaders, remembers
from ..samples.reader import LogReader
from .column import ConvertedColumn
from .summary import FIRST_FEW, ChannelSummary, Summary, Tally


@dataclass(frozen=True, eq=False)
class Followed:
    """A batch in which the channels that remember earlier samples are converted."""

    batch: SampleBatch
    columns: dict[int, ConvertedColumn]


@dataclass(frozen=True, eq=False)
class Converted:
    """A batch with all its channels, and what is to be counted of it."""

    batch: SampleBatch
    columns: list[ConvertedColumn]
    tallies: list[Tally]

    def flags(self) -> FlagArray:
        """The flags of all channels: rows × channels."""
        return np.stack([column.flags for column in self.columns], axis=1)


class Conversion:
    """The channels of a log at work.

    in_order: channels that are to be converted in order, beside those that remember.
    """

    def __init__(
        self, reader: LogReader, channels: Sequence[Channel], in_order: Sequence[str] = ()
    ) -> None:
        self.reader, self.channels = reader, list(channels)
        self.places = [reader.position(channel.column) for channel in channels]
        self.every = [EveryCount.of(channel) for channel in channels]
        self.summary = Summary(
            {
                c.name: ChannelSummary(c, every)
                for c, every in zip(channels, self.every, strict=True)
            },
            counted=reader.counted,
        )
        self._readers = ChannelReaders(channels)
        self._in_order = [
            i for i, c in enumerate(self.channels) if remembers(c) or c.name in in_order
        ]

    @property
    def remembers(self) -> bool:
        """Whether what a row reads depends on those before it."""
        return any(remembers(channel) for channel in self.channels)

    def readers_for(self, batch: SampleBatch) -> dict[int, ChannelReader]:
        """What converts in order, by the channel's number; batch: the first rows of the log."""
        return {i: self._readers.of(i, batch) for i in self._in_order}

    def followed(
        self, batch: SampleBatch, readers: Mapping[int, ChannelReader] | None = None
    ) -> Followed:
        """The part that must be done batch after batch, by the log's readers or others."""
        if readers is None:
            readers = self.readers_for(batch)
        columns = {}
        for i in self._in_order:
            found, reader = batch.samples(self.places[i]), readers[i]
            counts, reading = reader.add(found.counts, found.missing, batch.clock_times)
            every = self.every[i]
            if every is not None and reader.plain and counts.dtype.kind in "iu":
                columns[i] = ConvertedColumn(every, every.places(counts, found.missing))
            else:
                columns[i] = ConvertedColumn.following(every, counts, reading, reader)
        return Followed(batch, columns)

    def readings(self, followed: Followed) -> dict[str, Reading]:
        """The readings of the channels that are converted in order, by name."""
        return {
            self.channels[i].name: Reading(column.values, column.flags, self.channels[i].unit)
            for i, column in sorted(followed.columns.items())
        }

    def converted(self, followed: Followed) -> Converted:
        """The part that no other batch has to do with."""
        batch = followed.batch
        columns, tallies = [], []
        for i, place in enumerate(self.places):
            found = batch.samples(place)
            column = followed.columns.get(i) or self._column(i, found)
            columns.append(column)
            tallies.append(Tally.of(found, batch.rows.lines, column))
        return Converted(batch, columns, tallies)

    def count(self, converted: Converted) -> None:
        """Add a batch to the summary."""
        batch, summary = converted.batch.rows, self.summary
        for each, tally in zip(summary.channels.values(), converted.tallies, strict=True):
            each.add(tally)
        summary.rows += batch.rows
        summary.torn_rows += batch.torn.size
        room = FIRST_FEW - len(summary.torn_lines)
        summary.torn_lines += batch.lines[batch.torn[:room]].tolist()

    def finished(self) -> Summary:
        """The summary of all batches."""
        summary, reader = self.summary, self.reader
        summary.comments, summary.blank_lines = reader.comments, reader.blank_lines
        summary.said, summary.noise = reader.said, reader.noise.words
        summary.late = dict(reader.late)
        summary.quotes = list(reader.quotes)
        for name, note in self._readers.notes.items():
            summary.channels[name].smoothing = note
        return summary

    def _column(self, i: int, found: Samples) -> ConvertedColumn:
        every = self.every[i]
        if every is not None and found.counts.dtype.kind in "iu":
            return ConvertedColumn(every, every.places(found.counts, found.missing))
        reading = read_flagged(self.channels[i], found.counts, found.missing)
        return ConvertedColumn(every, None, found.counts, reading)
