"""A log from its first row to its last, once, for everybody who wants something of it."""

from __future__ import annotations

import logging
from collections.abc import Iterable, Sequence
from typing import Protocol

from ..core.model.channel import Bench, Channel
from ..core.model.log_format import LogFormat
from ..core.model.reading import Reading
from .ahead import Workers
from .batches import Progress, SampleBatch, sample_batches
from .channel_readers import ChannelReaders
from .opening import BLOCK_BYTES, open_log
from .reader import LogReader
from .source import Log

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
    """What passes share: all columns of samples may come as integers, times are wanted, and the log
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
) -> None:
    """Read a log once. wanted: columns that the bench asks for. Raises `LogError`."""
    with open_log(log, form, block_bytes, wanted) as reader:
        used = {place for one in passes for place in one.begin(reader)}
        for batch in sample_batches(
            reader,
            used,
            timed=any(one.timed for one in passes),
            integers={place for one in passes for place in one.integers},
            workers=workers,
        ):
            for one in passes:
                if not one.done:
                    one.add(batch)
            if progress:
                progress(*reader.progress)
            if all(one.done for one in passes):
                break
    for text in reader.remarks:
        LOGGER.info("%s: %s", reader.name, text)


def columns_of(bench: Bench | None) -> tuple[str | int, ...]:
    """The columns that a bench asks for."""
    return () if bench is None else tuple(c.column for c in bench.channels.values())


class ChannelsPass(EveryPass):
    """Some channels of a log as a bench reads them: smoothed, batch by batch."""

    def __init__(self, channels: Sequence[Channel]) -> None:
        self.channels = list(channels)

    def begin(self, reader: LogReader) -> Iterable[int]:
        """The positions of their columns."""
        self._readers = ChannelReaders(self.channels)
        self.places = [reader.position(channel.column) for channel in self.channels]
        self.integers = self.places
        return self.places

    def readings(self, batch: SampleBatch) -> list[Reading]:
        """The next reading of each channel."""
        found = []
        for i, place in enumerate(self.places):
            samples = batch.samples(place)
            reader = self._readers.of(i, batch)
            found.append(reader.add(samples.counts, samples.missing, batch.clock_times)[1])
        return found
