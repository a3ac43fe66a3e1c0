"""A log of raw counts into a log of engineering values, in constant memory."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Iterable
from contextlib import ExitStack
from os import PathLike
from typing import TYPE_CHECKING

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.channel import Bench, Channel
from ..core.reading import Reading
from .cells import quote, read_samples
from .followers import Followers
from .output import Output
from .reader import Batch, LogReader
from .source import LogError, LogFormat, Source
from .summary import FIRST_FEW, ChannelSummary, Summary
from .texts import CellTexts, FlagTexts, width_texts

if TYPE_CHECKING:
    from .events import EventWriter

FLAGS_COLUMN = "flags"

#: Called after each batch with the bytes read and, where it is known, the bytes in all.
Progress = Callable[[int, int | None], None]


def convert(
    log: str | PathLike[str],
    bench: Bench,
    out: str | PathLike[str],
    *,
    form: LogFormat | None = None,
    only: Iterable[str] = (),
    keep_raw: bool = False,
    uncertainty: bool = False,
    events: str | PathLike[str] | None = None,
    progress: Progress | None = None,
) -> Summary:
    """Convert a CSV log of counts through a bench and write the result.

    The result has the columns that no channel uses, untouched, then a column
    `<channel>_<unit>` a channel, then `flags`. It is written as the log is: same delimiter,
    decimal mark and line ends, header or none. "-" is standard input or output.

    only: names of the channels to convert; all if empty. keep_raw: keep the raw columns too.
    uncertainty: behind each channel that has numbers, a column `<channel>_<unit>_u` with the
    expanded uncertainty at 95 % of every row. events: a CSV file for where the bench's trips turned
    on and off.
    Raises `LogError`; the output then is as it was before.
    """
    channels = _chosen(bench, only)
    with Source(log) as source:
        reader = LogReader(source, form)
        conversion = _Conversion(reader, channels, keep_raw, uncertainty)
        with ExitStack() as files:
            output = files.enter_context(Output(out, log))
            if events is not None:
                from .events import EventWriter

                if str(events) == "-":
                    raise LogError("events need a file: standard output takes the values")
                out_of_trips = files.enter_context(Output(events, log))
                conversion.events = EventWriter(out_of_trips.write, bench, reader)
            if reader.form.header:
                output.write(conversion.header())
            for batch in reader.batches(conversion.integers):
                output.write(conversion.converted(batch))
                if progress:
                    progress(source.bytes_read, source.bytes_total)
            return conversion.finished()


def _chosen(bench: Bench, only: Iterable[str]) -> list[Channel]:
    names = list(only) or list(bench.channels)
    for name in names:
        if name not in bench.channels:
            has = ", ".join(bench.channels)
            raise LogError(f"the bench has no channel {name!r}; it has: {has}")
    return [bench[name] for name in names]


class _Conversion:
    """What stays the same from batch to batch: which column goes where, and the texts."""

    def __init__(
        self, reader: LogReader, channels: list[Channel], keep_raw: bool, uncertainty: bool
    ) -> None:
        self.reader = reader
        self.places = [reader.position(channel.column) for channel in channels]
        used = set() if keep_raw else set(self.places)
        self.integers = used
        self.passed = [i for i in range(len(reader.columns)) if i not in used]
        self.followers = Followers(reader, channels)
        self.events: EventWriter | None = None
        self.eol = b"\r\n" if reader.crlf else b"\n"
        self.flag_texts = FlagTexts([c.name for c in channels], reader.delimiter, self.eol)
        self.summary = Summary({c.name: ChannelSummary(c) for c in channels})
        self.channels = channels
        widths = [width_texts(c, reader.form.decimal) if uncertainty else None for c in channels]
        self.texts = [
            CellTexts(channel, reader.form.decimal, reader.delimiter, width)
            for channel, width in zip(channels, widths, strict=True)
        ]
        added = [name for texts in self.texts for name in texts.names] + [FLAGS_COLUMN]
        kept = [reader.columns[i] for i in self.passed]
        for name in added:
            if name in kept and reader.form.header:
                raise LogError(
                    f"{reader.name}: its column {name!r} has the name of a result; rename the "
                    "column, or the channel"
                )
        self.names = kept + added

    def header(self) -> bytes:
        """The header line of the result."""
        line = io.StringIO()
        csv.writer(line, delimiter=self.reader.delimiter, lineterminator="").writerow(self.names)
        return line.getvalue().encode("utf-8", "surrogateescape") + self.eol

    def converted(self, batch: Batch) -> pa.Buffer:
        """A batch as bytes of the result."""
        delimiter = self.reader.delimiter
        columns = [batch.columns[i] for i in self.passed]
        if batch.quoted:
            columns = [quote(column, delimiter) for column in columns]
        flags = np.empty((batch.rows, len(self.channels)), np.uint8)
        samples = {
            place: read_samples(batch.columns[place], self.reader.form.decimal, batch.torn)
            for place in set(self.places)
        }
        readings: dict[str, Reading] = {}
        for i, (channel, place) in enumerate(zip(self.channels, self.places, strict=True)):
            found, follower = samples[place], self.followers.of(i, batch)
            counts, reading = follower.add(found.counts, found.missing)
            flags[:, i] = reading.flags
            columns.append(self.texts[i].gather(counts, reading, follower))
            readings[channel.name] = reading
            self.summary.channels[channel.name].add(found, reading, batch.lines)
        self.summary.rows += batch.rows
        self.summary.torn_rows += batch.torn.size
        room = FIRST_FEW - len(self.summary.torn_lines)
        self.summary.torn_lines += batch.lines[batch.torn[:room]].tolist()
        columns.append(self.flag_texts.gather(flags))
        if self.events is not None:
            self.events.add(batch, readings)
        # The texts of a joined column stand one behind the other: they are the file's bytes.
        joined = pc.binary_join_element_wise(
            *(column.cast(pa.binary()) for column in columns), delimiter.encode()
        )
        return joined.buffers()[2]

    def finished(self) -> Summary:
        """The summary; raises `LogError` if there was nothing to convert."""
        summary, name = self.summary, self.reader.name
        summary.comments, summary.blank_lines = self.reader.comments, self.reader.blank_lines
        for channel_name, note in self.followers.notes.items():
            summary.channels[channel_name].smoothing = note
        if not summary.rows:
            raise LogError(f"{name}: the log has a header but no rows")
        if all(c.empty + c.unreadable == c.rows for c in summary.channels.values()):
            columns = ", ".join(str(channel.column) for channel in self.channels)
            hint = "; is the decimal mark a comma?" if self._looks_like_decimal_comma() else ""
            raise LogError(f"{name}: not one count can be read in column {columns}{hint}")
        return summary

    def _looks_like_decimal_comma(self) -> bool:
        return self.reader.form.decimal == "." and self.reader.delimiter != ","
