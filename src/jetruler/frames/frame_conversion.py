"""One frame through a bench: the same readings as a log's, as columns of the like frame."""

from __future__ import annotations

import copy
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa

from ..core.decide.channel_reader import ChannelReader
from ..core.decide.decisions import Decisions
from ..core.model.channel import Bench, Channel
from ..core.model.log_format import LogFormat
from ..core.model.reading import Reading
from ..logs.column import ConvertedColumn
from ..logs.conversion import Conversion, Followed
from ..logs.layout import FLAGS_COLUMN, Layout
from ..logs.options import FrameOptions
from ..logs.parquet_writer import labelled
from ..logs.texts import FlagTexts, uncertainty_texts
from ..samples.ahead import Workers
from ..samples.arrow import to_arrow
from ..samples.batches import SampleBatch
from ..samples.reader import Columns, LogReader, RowBatch
from ..samples.source import LogError
from ..samples.times import LogClock, find_time_column
from .kinds import Kind, NewColumn, kind_of


@dataclass
class Memory:
    """What a conversion remembers from frame to frame: smoothing, zones that hold, trips."""

    readers: dict[int, ChannelReader] = field(default_factory=dict)
    decisions: Decisions | None = None
    clock: LogClock = field(default_factory=LogClock)


class _FrameReader(LogReader):
    """A frame in the place of a log: all of it is one batch."""

    counted = "row"

    def __init__(self, kind: Kind, frame: Any, form: LogFormat | None) -> None:
        super().__init__("the frame", form or LogFormat())
        self.kind, self.frame = kind, frame
        self.own = kind.names(frame)
        self.beside = kind.beside(frame)
        beside = [] if self.beside is None else [self.beside[0]]
        self.columns = [str(name) for name in [*self.own, *beside]]

    def batches(
        self, integers: Iterable[int] = (), workers: Workers | None = None
    ) -> Iterator[RowBatch]:
        """One batch."""
        yield self.batch()

    def batch(self) -> RowBatch:
        """All rows; a column is fetched when it is asked for."""
        rows = self.kind.rows(self.frame)
        return RowBatch(Columns(len(self.columns), self._fetched), np.arange(1, rows + 1))

    def _fetched(self, place: int) -> pa.Array:
        if place < len(self.own):
            return self.kind.column(self.frame, self.own[place])
        assert self.beside is not None
        return self.beside[1]()


class FrameConversion:
    """One frame (or one partition of many) through a bench."""

    def __init__(self, bench: Bench, frame: Any, options: FrameOptions) -> None:
        self.bench, self.frame, self.options = bench, frame, options
        self.kind = kind_of(frame)
        self.reader = _FrameReader(self.kind, frame, bench.log)
        self.layout = Layout.of(self.reader, bench, options)
        self._judged = _judged(bench, options, self.layout.channels)
        self.conversion = Conversion(self.reader, self.layout.channels, self._judged)

    @property
    def remembers(self) -> bool:
        """Whether what a row reads depends on those before it."""
        return self.options.decide or self.conversion.remembers

    def first(self) -> Memory:
        """The memory before the first row, settled by the frame's first rows."""
        rows = self.reader.batch()
        if not rows.rows:
            return Memory({}, Decisions(self.bench) if self.options.decide else None)
        clock = LogClock()
        if self.remembers:
            clock = LogClock(find_time_column(self.reader, rows, self.layout.counts))
        readers = self.conversion.readers_for(SampleBatch(rows, clock))
        if not self.options.decide:
            return Memory(readers)
        if not clock.is_known:
            raise LogError("no time column is found; trips and drives need one")
        return Memory(readers, Decisions(self.bench), clock)

    def after(self, memory: Memory) -> Memory:
        """The memory behind the frame's last row."""
        memory = copy.deepcopy(memory)
        self._followed(memory)
        return memory

    def converted(self, memory: Memory | None = None) -> Any:
        """The frame with values; memory: what came before its first row."""
        memory = self.first() if memory is None else copy.deepcopy(memory)
        followed, decided = self._followed(memory)
        converted = self.conversion.converted(followed)
        new: dict[str, NewColumn] = {}
        for channel, column in zip(self.layout.channels, converted.columns, strict=True):
            new |= self._columns(channel, column)
        new |= decided
        texts = FlagTexts([c.name for c in self.layout.channels], "", encode=str)
        new[FLAGS_COLUMN] = sorted_dictionary(texts.encoded(converted.flags()))
        self.layout.names(list(new)[:-1])  # no name twice
        used = [] if self.options.keep_raw else self.layout.places
        left_out = list(dict.fromkeys(self.reader.own[place] for place in used))
        return self.kind.changed(self.frame, left_out, new)

    def _columns(self, channel: Channel, column: ConvertedColumn) -> dict[str, NewColumn]:
        labels = channel.ruler.label(0.0) is not None
        values = sorted_dictionary(labelled(channel, column)) if labels else column.values
        found: dict[str, NewColumn] = {channel.output_column: values}
        if (
            self.options.uncertainty
            and (uncertainties := uncertainty_texts(channel, ".")) is not None
        ):
            found[uncertainties.column] = uncertainties.values(column)
        return found

    def _followed(self, memory: Memory) -> tuple[Followed, dict[str, NewColumn]]:
        batch = SampleBatch(self.reader.batch(), memory.clock)
        if not len(batch):
            return Followed(batch, {}), self._nothing_decided()
        followed = self.conversion.followed(batch, memory.readers)
        if memory.decisions is None or not memory.clock.is_known:
            return followed, {}
        readings: dict[str, Reading] = self.conversion.readings(followed)
        decided = memory.decisions.add(batch.times, readings)
        found: dict[str, NewColumn] = dict(decided.trips)
        for name, commands in decided.drives.items():
            found[self.bench.drives[name].output_column] = commands
        return followed, found

    def _nothing_decided(self) -> dict[str, NewColumn]:
        if not self.options.decide:
            return {}
        trips: dict[str, NewColumn] = dict.fromkeys(self.bench.trips, np.empty(0, np.bool_))
        return trips | {drive.output_column: np.empty(0) for drive in self.bench.drives.values()}


def _judged(bench: Bench, options: FrameOptions, channels: list[Channel]) -> tuple[str, ...]:
    """The channels that trips and drives look at: all of the bench."""
    if not options.decide:
        return ()
    there = {channel.name for channel in channels}
    missing = [name for name in bench.channels if name not in there]
    if missing:
        raise LogError(f"trips and drives need all channels; {missing[0]} is left out")
    if not bench.trips and not bench.drives:
        raise LogError("the bench has no trips and no drives; add a [trip.<name>]")
    return tuple(there)


def sorted_dictionary(texts: pa.DictionaryArray) -> pa.DictionaryArray:
    """The same with its texts in order, so that no order of rows shows in it."""
    order = sorted(range(len(texts.dictionary)), key=lambda i: texts.dictionary[i].as_py())
    ranks = np.empty(len(order), np.int32)
    ranks[order] = np.arange(len(order))
    indices = to_arrow(ranks).take(texts.indices)
    return pa.DictionaryArray.from_arrays(
        indices, texts.dictionary.take(to_arrow(np.array(order, np.int64)))
    )
