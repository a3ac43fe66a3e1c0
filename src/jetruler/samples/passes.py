"""A log as batches of samples with their times, from its first row to its last, once, for everybody
who wants something of it."""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cached_property
from typing import Protocol

from ..core.bench.bench import Bench, LogFormat
from ..core.bench.channel import Channel
from ..core.bench.channel_reader import ChannelReader
from ..core.bench.derived import DerivedChannel, in_order
from ..core.error_types import LogError, ParameterError
from ..core.numerics import Array
from ..core.ruler.reading import Reading
from .cells import Samples, read_samples
from .opening import BLOCK_BYTES, open_log
from .source import Log, LogReader, RowBatch
from .threads import Workers
from .times import HEAD_ROWS, LogClock, TimeColumn, clock_of

#: Called after each batch with how much is read and, where it is known, of how much.
Progress = Callable[[int, int | None], None]


class SampleBatch:
    """Some rows of a log: their times, and the samples of any column.

    Attributes
    ----------
    rows : the rows as the log has them.
    clock : when each row was sampled.
    first : number of rows before these.
    """

    def __init__(self, rows: RowBatch, clock: LogClock, first: int = 0, decimal: str = ".") -> None:
        self.rows, self.clock, self.first = rows, clock, first
        self._decimal = decimal
        self._samples: dict[int, Samples] = {}

    def __len__(self) -> int:
        return self.rows.rows

    @property
    def time_column(self) -> TimeColumn | None:
        """The log's time column, None if it has none."""
        return self.clock.column

    @cached_property
    def times(self) -> Array:
        """Time of each row in seconds; the number of the row where the log has no clock."""
        return self.clock.times(self.rows, self.first)

    @property
    def clock_times(self) -> Array | None:
        """The times; None where the log has no clock."""
        return self.times if self.clock.is_known else None

    @cached_property
    def interval(self) -> float | None:
        """The usual time between two samples in these rows, in seconds; None without a clock."""
        return self.clock.interval(self.rows)

    def samples(self, index: int) -> Samples:
        """Return the counts in a column, read once."""
        if index not in self._samples:
            cells = self.rows.numbers(index)
            self._samples[index] = read_samples(cells, self._decimal, self.rows.torn)
        return self._samples[index]

    def head(self, rows: int) -> SampleBatch:
        """Return the first rows."""
        return SampleBatch(self.rows.head(rows), self.clock, self.first, self._decimal)

    def time_cell(self, row: int) -> object:
        """Return the time of a row as the log has it, else in seconds, else its number from 1."""
        if self.time_column is None:
            return f"{self.times[row]:.6g}" if self.clock.is_known else self.first + row + 1
        cells = [self.rows.columns[i][row].as_py() for i in self.time_column.indices]
        return cells[0] if len(cells) == 1 else " ".join(map(str, cells))


def sample_batches(
    reader: LogReader,
    used: Iterable[int],
    *,
    timed: bool = True,
    integers: Iterable[int] | None = None,
    workers: Workers | None = None,
    progress: Progress | None = None,
) -> Iterator[SampleBatch]:
    """Yield a log's batches of samples with their times.

    Parameters
    ----------
    used : positions of the columns that hold counts; the time column is another one.
    timed : whether anybody asks for times; a log may have many columns to look through.
    integers : positions of the columns that need not stay as they are written; `used` if None.
    workers : what reads ahead.
    progress : is called after each batch.

    Raises
    ------
    LogError : if the log has no rows, or is damaged.
    """
    used = set(used)
    clock = LogClock(step=reader.form.seconds_between)
    first = 0
    for batch in reader.batches(used if integers is None else integers, workers):
        if timed and not first:
            clock = clock_of(reader, batch, used)
        found = SampleBatch(batch, clock, first, reader.form.decimal)
        if clock.column is not None and clock.column.is_of_day:
            _ = found.times  # in order, for the midnights
        yield found
        first += batch.rows
        if progress:
            progress(*reader.progress)
    if not first and any(reader.noise.counts.values()):
        raise reader.nothing_read(reader.columns[index].strip() for index in sorted(used))
    if not first:
        raise LogError(f"{reader.name}: expected rows below the header, found none")


def remembers(channel: Channel) -> bool:
    """Whether what a sample reads depends on those before it."""
    return channel.smooth is not None or not ChannelReader(channel).by_count


class ChannelReaders:
    """Makes a reader a channel. Raises `LogError` where a smoothing over a time meets a log
    without a time column."""

    def __init__(self, channels: Sequence[Channel]) -> None:
        self._channels = channels
        self._made: dict[int, ChannelReader] = {}
        self._interval: float | None = None
        self.notes: dict[str, str] = {}
        """What each smoothing does, by channel, with its lag."""

    def of(self, i: int, batch: SampleBatch) -> ChannelReader:
        """The reader of a channel; batch: the first rows of the log, if it is new."""
        if i not in self._made:
            self._made[i] = self._reader(self._channels[i], batch)
        return self._made[i]

    def _reader(self, channel: Channel, batch: SampleBatch) -> ChannelReader:
        if channel.smooth is None:
            return ChannelReader(channel)
        if self._interval is None:
            self._interval = batch.head(HEAD_ROWS).interval
        try:
            settled = channel.smooth.settled(self._interval)
        except ParameterError as error:
            raise LogError(f"{channel.name}.smooth.{error}") from None
        self.notes[channel.name] = settled.summary(self._interval)
        return ChannelReader(channel, settled)


#: Hears how the lines of each log were read, and which were no samples.
LOGGER = logging.getLogger("jetruler.samples")


class Pass(Protocol):
    """What wants the samples of a log. integers: positions of columns that need not stay text."""

    integers: Iterable[int]
    timed: bool
    done: bool

    def begin(self, reader: LogReader) -> Iterable[int]:
        """The log is open: positions of the columns that are read as samples."""

    def add(self, batch: SampleBatch) -> None:
        """The next rows."""


class EveryPass:
    """What passes share: all columns of samples may come as integers, times are needed, and the log
    is read to its end."""

    integers: Iterable[int] = ()
    timed = True
    done = False


def walk(
    log: Log,
    *passes: Pass,
    form: LogFormat | None = None,
    wanted: Sequence[str | int] = (),
    block_bytes: int = BLOCK_BYTES,
    workers: Workers | None = None,
    progress: Progress | None = None,
    silent: bool = False,
) -> None:
    """Read a log once. wanted: columns that the bench asks for. silent: whether how its lines were
    read is not said. Raises `LogError`."""
    with open_log(log, form, block_bytes, wanted) as reader:
        used = {index for one in passes for index in one.begin(reader)}
        for batch in sample_batches(
            reader,
            used,
            timed=any(one.timed for one in passes),
            integers={index for one in passes for index in one.integers},
            workers=workers,
        ):
            for one in passes:
                if not one.done:
                    one.add(batch)
            if progress:
                progress(*reader.progress)
            if all(one.done for one in passes):
                break
    for text in () if silent else reader.remarks:
        LOGGER.info("%s: %s", reader.name, text)


def columns_of(bench: Bench | None) -> tuple[str | int, ...]:
    """The columns that a bench asks for."""
    return () if bench is None else tuple(c.column for c in bench.channels.values())


def columns_read(wanted: Iterable[Channel | str]) -> list[str | int]:
    """The columns of a log that channels are read from, those of their sources too; beside them,
    columns by their names."""
    channels = in_order(one for one in wanted if isinstance(one, Channel))
    measured = [one.column for one in channels if not one.sources]
    return [*measured, *(one for one in wanted if isinstance(one, str))]


class ChannelsPass(EveryPass):
    """Some channels of a log as a bench reads them: smoothed, batch by batch."""

    def __init__(self, channels: Sequence[Channel]) -> None:
        self.channels = list(channels)
        self._all = in_order(self.channels)

    def begin(self, reader: LogReader) -> Iterable[int]:
        """The positions of their columns."""
        self._readers = ChannelReaders(self._all)
        self.index = {
            channel.name: reader.position(channel.column)
            for channel in self._all
            if not isinstance(channel, DerivedChannel)
        }
        self.integers = list(self.index.values())
        return self.integers

    def readings(self, batch: SampleBatch) -> list[Reading]:
        """The next reading of each channel."""
        found: dict[str, Reading] = {}
        for i, channel in enumerate(self._all):
            reader, times = self._readers.of(i, batch), batch.clock_times
            if isinstance(channel, DerivedChannel):
                found[channel.name] = channel.read_from(found, reader, times)[1]
                continue
            samples = batch.samples(self.index[channel.name])
            found[channel.name] = reader.add(samples.counts, samples.missing, times)[1]
        return [found[channel.name] for channel in self.channels]
