"""Batches of raw rows into readings: what must go in order, what any thread can do, what may be
asked of it, and what is where in the result."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import count

import numpy as np

from ..core.bench.bench import Bench, LogFormat
from ..core.bench.channel import Channel, CodeTable
from ..core.bench.channel_reader import ChannelReader, read_flagged
from ..core.bench.decisions import (
    Decided,
    Decisions,
    timed_parts,
    without_clock,
)
from ..core.bench.derived import DerivedChannel
from ..core.bench.derived import in_order as sources_first
from ..core.error_types import LogError
from ..core.numerics import Array, FlagArray
from ..core.result import refuses_fields
from ..core.ruler.reading import Reading
from ..core.ruler.units import nearest
from ..samples.cells import Samples, name_text
from ..samples.passes import ChannelReaders, SampleBatch, remembers
from ..samples.source import KINDS, LogReader
from ..samples.times import LogClock
from .summary import FIRST_FEW, BatchStats, ChannelSummary, ConvertedColumn, Summary


@dataclass(frozen=True, eq=False)
class StatefulBatch:
    """A batch in which the channels that remember earlier samples are converted."""

    batch: SampleBatch
    columns: dict[int, ConvertedColumn]
    decided: Decided | None = None


@dataclass(frozen=True, eq=False)
class Converted:
    """A batch with all its channels, and what is to be counted of it."""

    batch: SampleBatch
    columns: list[ConvertedColumn]
    stats: list[BatchStats]
    decided: Decided | None = None

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
        # What is computed from others is behind them, and they are converted for it.
        self._all = sources_first(channels)
        self._place = {channel.name: i for i, channel in enumerate(self._all)}
        self.indices = [
            None if isinstance(c, DerivedChannel) else reader.position(c.column) for c in self._all
        ]
        self.every = [CodeTable.of(channel) for channel in self._all]
        self.summary = Summary(
            {c.name: ChannelSummary(c, self.every[self._place[c.name]]) for c in channels},
            counted=reader.counted,
        )
        self._readers = ChannelReaders(self._all)
        wanted = [c for c in self._all if remembers(c) or c.name in in_order]
        names = {c.name for c in sources_first(wanted)}
        self._in_order = [i for i, c in enumerate(self._all) if c.name in names]

    @property
    def remembers(self) -> bool:
        """Whether what a row reads depends on those before it."""
        return any(remembers(channel) for channel in self._all)

    def readers_for(self, batch: SampleBatch) -> dict[int, ChannelReader]:
        """What converts in order, by the channel's number; batch: the first rows of the log."""
        return {i: self._readers.of(i, batch) for i in self._in_order}

    def followed(
        self, batch: SampleBatch, readers: Mapping[int, ChannelReader] | None = None
    ) -> StatefulBatch:
        """The part that must be done batch after batch, by the log's readers or others."""
        if readers is None:
            readers = self.readers_for(batch)
        columns: dict[int, ConvertedColumn] = {}
        for i in self._in_order:
            reader, index = readers[i], self.indices[i]
            if index is None:
                columns[i] = self._derived(i, columns, reader, batch.clock_times)
                continue
            found = batch.samples(index)
            counts, reading = reader.add(found.counts, found.missing, batch.clock_times)
            every = self.every[i]
            if every is not None and reader.plain and counts.dtype.kind in "iu":
                columns[i] = ConvertedColumn(every, every.indices(counts, found.missing))
            else:
                columns[i] = ConvertedColumn.following(every, counts, reading, reader)
        return StatefulBatch(batch, columns)

    def decided(self, followed: StatefulBatch, decisions: Decisions) -> StatefulBatch:
        """With what trips and drives make of a batch."""
        if not len(followed.batch):
            return followed
        decided = decisions.add(followed.batch.times, self.readings(followed))
        return replace(followed, decided=decided)

    def readings(self, followed: StatefulBatch) -> dict[str, Reading]:
        """The readings of the channels that are converted in order, by name."""
        return {
            self._all[i].name: Reading(column.values, column.flags, self._all[i].unit)
            for i, column in sorted(followed.columns.items())
        }

    def converted(self, followed: StatefulBatch) -> Converted:
        """The part that no other batch has to do with."""
        batch = followed.batch
        found: dict[int, ConvertedColumn] = dict(followed.columns)
        stats: dict[int, BatchStats] = {}
        for i, index in enumerate(self.indices):
            if index is None:
                if i not in found:
                    found[i] = self._derived(i, found, ChannelReader(self._all[i]), None)
                samples = Samples(found[i].values, None)
            else:
                samples = batch.samples(index)
                found[i] = found.get(i) or self._column(i, samples)
            stats[i] = BatchStats.of(samples, batch.rows.lines, found[i])
        places = [self._place[channel.name] for channel in self.channels]
        columns = [found[i] for i in places]
        return Converted(batch, columns, [stats[i] for i in places], followed.decided)

    def _derived(
        self,
        i: int,
        columns: Mapping[int, ConvertedColumn],
        reader: ChannelReader,
        times: Array | None,
    ) -> ConvertedColumn:
        """The column of a channel that is computed from others."""
        channel = self._all[i]
        assert isinstance(channel, DerivedChannel)
        places = {source.name: self._place[source.name] for source in channel.sources}
        sources = {n: Reading(columns[p].values, columns[p].flags) for n, p in places.items()}
        raw, reading = channel.read_from(sources, reader, times)
        measured = {one.name: columns[self._place[one.name]] for one in channel.measured}
        return ConvertedColumn(
            None, None, raw, reading, smoothing=reader.smoothing, measured=measured
        )

    def count(self, converted: Converted) -> None:
        """Add a batch to the summary."""
        batch, summary = converted.batch.rows, self.summary
        for each, stats in zip(summary.channels.values(), converted.stats, strict=True):
            each.add(stats)
        summary.rows += batch.rows
        summary.torn_rows += batch.torn.size
        room = FIRST_FEW - len(summary.torn_lines)
        summary.torn_lines += batch.lines[batch.torn[:room]].tolist()

    def finished(self) -> Summary:
        """The summary of all batches."""
        summary, reader = self.summary, self.reader
        summary.comments, summary.blank_lines = reader.comments, reader.blank_lines
        summary.line_format, summary.noise = reader.line_format, reader.noise.words
        summary.late = dict(reader.late)
        summary.quotes = list(reader.quotes)
        for name, note in self._readers.notes.items():
            summary.channels[name].smoothing = note
        return summary

    def _column(self, i: int, found: Samples) -> ConvertedColumn:
        every = self.every[i]
        if every is not None and found.counts.dtype.kind in "iu":
            return ConvertedColumn(every, every.indices(found.counts, found.missing))
        reading = read_flagged(self._all[i], found.counts, found.missing)
        return ConvertedColumn(every, None, found.counts, reading)


def decisions_of(
    bench: Bench, channels: Iterable[Channel], clock: LogClock, log: str, drives: bool
) -> Decisions:
    """The trips of a bench at work on a log, and its drives if they are needed too.

    Raises `LogError` for a bench that has none, for a channel that they look at and nobody
    converts, and for a log without the times that they ask for.
    """
    if not bench.trips and not (drives and bench.drives):
        kinds = "no trips and no drives" if drives else "no trips"
        raise LogError(f"expected a bench that decides, found {kinds} (add a [trip.<name>])")
    there = {channel.name for channel in channels}
    looked_at = {f"trip.{name} looks at": trip.channels for name, trip in bench.trips.items()}
    if drives:
        looked_at |= {
            f"drive.{name} follows": (drive.source,)
            for name, drive in bench.drives.items()
            if drive.source not in bench.trips
        }
    for who, names in looked_at.items():
        for name in names:
            if name not in there:
                raise LogError(f"{who} {name}, which is not converted")
    asking = timed_parts(bench, drives=drives)
    if asking and not clock.is_known:
        raise LogError(f"{log}: {without_clock(asking)}")
    return Decisions(bench if drives else replace(bench, drives={}))


#: MB that the batches under way may take, beside the programme itself.
MEMORY_MB = 128


@dataclass(frozen=True)
class ResultOptions:
    """The columns of a converted log or frame.

    Parameters
    ----------
    only : names of the channels to convert, or one name; all of them if empty.
    keep_raw : whether the raw columns stay beside the values.
    uncertainty : whether each channel with numbers has a column `<channel>_<unit>_u` behind it:
        the expanded uncertainty of every row at 95 %, in the channel's unit.
    commands : whether a column for each trip (on or off) and a column of commands for each drive
        are before `flags`, as in a stream.
    """

    only: str | Sequence[str] = ()
    keep_raw: bool = False
    uncertainty: bool = False
    commands: bool = False

    def __post_init__(self) -> None:
        names = (self.only,) if isinstance(self.only, str) else self.only
        object.__setattr__(self, "only", tuple(names))


@refuses_fields
@dataclass(frozen=True)
class ConvertOptions(ResultOptions):
    """How a log is converted: the keywords of `convert` and `convert_all`.

    Parameters
    ----------
    only, keep_raw, uncertainty, commands : the columns of the result; see above.
    form : how the log is written; found out from the log if None.
    out_kind : "csv", "jsonl" or "parquet"; None goes by the result's name, and on standard
        output by the log.
    threads : how many read, convert and write at once; one a core if None.
    memory : MB that the batches under way may take. The result is the same whatever the threads
        and the memory are.

    Raises
    ------
    LogError : for a format that is none, and memory that is not above 0.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.ConvertOptions(only=["bean"]).only
    ('bean',)
    """

    form: LogFormat | None = None
    out_kind: str | None = None
    threads: int | None = None
    memory: float = MEMORY_MB

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.out_kind not in (None, *KINDS):
            raise LogError(f"format: expected one of {', '.join(KINDS)}, found {self.out_kind!r}")
        if not 0 < self.memory < math.inf:
            raise LogError(f"memory: expected more than 0, found {self.memory:g} MB")


FLAGS_COLUMN = "flags"


@dataclass(frozen=True, eq=False)
class Layout:
    """The columns of a result.

    pass_through: positions of the log's columns that are kept, as they are. counts: positions of
    the columns that any channel of the bench reads. uncertainty: whether each channel that has
    numbers has its expanded uncertainty behind it. commands: whether trips and drives have columns.
    """

    reader: LogReader
    bench: Bench
    channels: list[Channel]
    indices: list[int]
    pass_through: list[int]
    counts: set[int]
    uncertainty: bool
    commands: bool

    @classmethod
    def of(
        cls,
        reader: LogReader,
        bench: Bench,
        options: ResultOptions,
    ) -> Layout:
        """Of some of a bench's channels, all if `only` is empty. Raises `LogError`."""
        channels = chosen(bench, options.only)
        measured = [c for c in sources_first(channels) if not isinstance(c, DerivedChannel)]
        indices = [reader.position(channel.column) for channel in measured]
        used = set() if options.keep_raw else set(indices)
        pass_through = [i for i in range(len(reader.columns)) if i not in used]
        counts = reader.positions(channel.column for channel in bench.channels.values())
        return cls(
            reader,
            bench,
            channels=channels,
            indices=indices,
            pass_through=pass_through,
            counts=counts,
            uncertainty=options.uncertainty,
            commands=options.commands,
        )

    @property
    def decided(self) -> list[str]:
        """Names of the columns of trips and drives."""
        return decided_columns(self.bench) if self.commands else []

    @cached_property
    def kept(self) -> list[str]:
        """Names of the columns that pass through, each another one."""
        renamed = self.renamed
        return [renamed.get(i, self.reader.columns[i]) for i in self.pass_through]

    @cached_property
    def renamed(self) -> dict[int, str]:
        """New names, by position, of columns whose own one is empty or is there before."""
        names = self.reader.columns
        taken = {names[i] for i in self.indices} | {FLAGS_COLUMN, *names}
        taken |= {channel.output_column for channel in self.channels} | {*self.decided}
        seen: set[str] = set()
        found: dict[int, str] = {}
        for i in self.pass_through:
            base = name_text(names[i])
            if base.strip() and base not in seen:
                seen.add(base)
                continue
            stem = base if base.strip() else "column"
            new = (f"{stem}_{n}" for n in count(2 if base.strip() else i + 1))
            found[i] = next(name for name in new if name not in taken)
            taken.add(found[i])
        return found

    def names(self, added: Iterable[str]) -> list[str]:
        """Names of all columns. added: those of the channels. Raises `LogError` where two are the
        same."""
        kept, added = self.kept, [*added, *self.decided, FLAGS_COLUMN]
        for name in added:
            if name in kept and self.reader.has_header:
                raise LogError(
                    f"{self.reader.name}: its column {name!r} has the name of a result; rename "
                    "the column, or the channel"
                )
        return kept + added


def decided_columns(bench: Bench) -> list[str]:
    """Names of the columns of trips, then of drives."""
    return [*bench.trips, *(drive.output_column for drive in bench.drives.values())]


def chosen(bench: Bench, only: Iterable[str]) -> list[Channel]:
    """Some channels of a bench by name; all if none are named. Raises `LogError`."""
    names = list(only) or list(bench)
    for name in names:
        if name not in bench:
            why = nearest(name, bench)
            raise LogError(f"only: expected a channel of the bench, found {name!r}: {why}")
    return [bench[name] for name in names]
