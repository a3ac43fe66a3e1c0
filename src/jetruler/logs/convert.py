"""A log of raw counts into a log of engineering values, in constant memory."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Iterable
from dataclasses import replace
from os import PathLike
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from ..core.channel import Bench, Channel
from ..core.reading import Flag, Reading, flag_names
from ..core.signal import Smoother, Smoothing
from .cells import NO_COUNT, Samples, quote, read_samples
from .output import Output
from .reader import Batch, LogReader
from .smoothers import Smoothers
from .source import LogError, LogFormat, Source
from .summary import FIRST_FEW, ChannelSummary, Summary

if TYPE_CHECKING:
    from .uncertain import WidthTexts

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
    progress: Progress | None = None,
) -> Summary:
    """Convert a CSV log of counts through a bench and write the result.

    The result has the columns that no channel uses, untouched, then a column
    `<channel>_<unit>` a channel, then `flags`. It is written as the log is: same delimiter,
    decimal mark and line ends, header or none. "-" is standard input or output.

    only: names of the channels to convert; all if empty. keep_raw: keep the raw columns too.
    uncertainty: behind each channel that has numbers, a column `<channel>_<unit>_u` with the
    expanded uncertainty at 95 % of every row.
    Raises `LogError`; the output then is as it was before.
    """
    channels = _chosen(bench, only)
    with Source(log) as source:
        reader = LogReader(source, form)
        conversion = _Conversion(reader, channels, keep_raw, uncertainty)
        with Output(out, log) as output:
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
        self.smoothers = Smoothers(reader, channels)
        self.flag_texts: dict[bytes, bytes] = {}
        self.eol = b"\r\n" if reader.crlf else b"\n"
        self.summary = Summary({c.name: ChannelSummary(c) for c in channels})
        self.channels = channels
        widths = [_widths(c, reader.form.decimal) if uncertainty else None for c in channels]
        self.texts = [
            _CellTexts(channel, reader.form.decimal, reader.delimiter, width)
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
        for i, (channel, place) in enumerate(zip(self.channels, self.places, strict=True)):
            found = samples[place]
            reading = read_flagged(channel, found)
            smoother = self.smoothers.of(i, batch)
            if smoother is not None:
                found, reading = smoothed(channel, smoother, found, reading)
            flags[:, i] = reading.flags
            smoothing = smoother.smoothing if smoother is not None else None
            columns.append(self.texts[i].gather(found, reading, smoothing))
            self.summary.channels[channel.name].add(found, reading, batch.lines)
        self.summary.rows += batch.rows
        self.summary.torn_rows += batch.torn.size
        room = FIRST_FEW - len(self.summary.torn_lines)
        self.summary.torn_lines += batch.lines[batch.torn[:room]].tolist()
        columns.append(self._flags_column(flags))
        # The texts of a joined column stand one behind the other: they are the file's bytes.
        joined = pc.binary_join_element_wise(
            *(column.cast(pa.binary()) for column in columns), delimiter.encode()
        )
        return joined.buffers()[2]

    def _flags_column(self, codes: npt.NDArray[np.uint8]) -> pa.Array:
        """The flags of each row in words, with the line end: each combination written once."""
        rows, width = codes.shape
        packed = pa.FixedSizeBinaryArray.from_buffers(
            pa.binary(width), rows, [None, pa.py_buffer(codes)]
        ).dictionary_encode()
        texts = [self._flag_text(code) for code in packed.dictionary.to_pylist()]
        return pa.array(texts, pa.binary()).take(packed.indices)

    def _flag_text(self, codes: bytes) -> bytes:
        if codes not in self.flag_texts:
            text = ";".join(
                f"{channel.name}:{name}"
                for channel, code in zip(self.channels, codes, strict=True)
                for name in flag_names(code)
            )
            if self.reader.delimiter in text:
                text = f'"{text}"'
            self.flag_texts[codes] = text.encode() + self.eol
        return self.flag_texts[codes]

    def finished(self) -> Summary:
        """The summary; raises `LogError` if there was nothing to convert."""
        summary, name = self.summary, self.reader.name
        summary.comments, summary.blank_lines = self.reader.comments, self.reader.blank_lines
        for channel_name, note in self.smoothers.notes.items():
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


def _widths(channel: Channel, decimal: str) -> WidthTexts | None:
    """The uncertainties of a channel; a zone has none."""
    if channel.ruler.described(0.0) is not None:
        return None
    from .uncertain import WidthTexts

    return WidthTexts(channel, decimal)


def read_flagged(channel: Channel, found: Samples) -> Reading:
    """The reading of a batch; a missing cell is flagged missing, not off_scale."""
    reading = channel.read(found.counts)
    if found.missing is not None:
        reading.flags[found.missing] = Flag.MISSING
    return reading


def smoothed(
    channel: Channel, smoother: Smoother, found: Samples, reading: Reading
) -> tuple[Samples, Reading]:
    """A batch through a smoother, on counts or on values.

    A sample without a value (an open wire, a faulty loop, a cell that is missing) is left out of
    the smoothing and keeps its own flags: nothing of it is spread over its neighbours.
    """
    without = np.isnan(reading.value)
    if smoother.smoothing.where == "values":
        value = smoother.add(reading.value, without)
        return replace(found, counts=value), replace(reading, value=value)
    counts = smoother.add(found.counts, without)
    whole = np.where(without, NO_COUNT, np.rint(np.nan_to_num(counts))).astype(np.int64)
    # As medians of counts are: back to the table.
    counts_or_whole: Any = whole if np.all((counts == whole) | without) else counts
    again = channel.read(counts_or_whole)
    again.flags[without] = reading.flags[without]
    return replace(found, counts=counts_or_whole), again


class _CellTexts:
    """A channel's values as text: for a compiled ruler, each possible one is written once.

    With `widths`, each value has its uncertainty behind it, as a column of its own.
    """

    def __init__(
        self, channel: Channel, decimal: str, delimiter: str, widths: WidthTexts | None
    ) -> None:
        self.channel, self.decimal, self.delimiter = channel, decimal, delimiter
        self.widths = widths
        self.names = [channel.output_column] + ([] if widths is None else [widths.column])
        self._both: pa.Array | None = None
        tables = channel.ruler.compiled()
        self.texts: pa.Array | None = None
        if tables is not None:
            self.lowest = tables[0].lowest
            self.texts = self._written([np.nan, *tables[0].values.tolist(), np.nan])

    def _written(self, values: list[float]) -> pa.Array:
        cells = [self.channel.cell(value) for value in values]
        labels = self.channel.ruler.described(0.0) is not None
        if self.decimal == "," and not labels:
            cells = [cell.replace(".", ",") for cell in cells]
        texts = pa.array(cells, pa.string())
        return quote(texts, self.delimiter) if labels else texts

    def gather(
        self, samples: Samples, reading: Reading, smoothing: Smoothing | None = None
    ) -> pa.Array:
        """The text of every sample."""
        counts: npt.NDArray[Any] = samples.counts
        if self.texts is not None and counts.dtype.kind == "i":
            # Clipped first: the shift of a very large count would overflow.
            low, high = self.lowest - 1, self.lowest + len(self.texts) - 2
            texts = self._with_widths(smoothing)
            return texts.take(pa.array(np.clip(counts, low, high) - low))
        values = self._each(reading.value)
        if self.widths is None:
            return values
        return self._joined(values, self.widths.gather(samples, smoothing))

    def _with_widths(self, smoothing: Smoothing | None) -> pa.Array:
        """The text of every count, with its uncertainty if that is wanted."""
        if self.widths is None:
            return self.texts
        if self._both is None:
            self._both = self._joined(self.texts, self.widths.table(smoothing))
        return self._both

    def _joined(self, values: pa.Array, widths: pa.Array) -> pa.Array:
        return pc.binary_join_element_wise(values, widths, self.delimiter)

    def _each(self, values: npt.NDArray[np.float64]) -> pa.Array:
        """Values that come from no table of counts."""
        if self.channel.decimals is not None and self.channel.ruler.described(0.0) is None:
            values = _near(values, self.channel.decimals)
        kinds, which = np.unique(values, return_inverse=True)
        return self._written(kinds.tolist()).take(pa.array(which))


def _near(values: npt.NDArray[np.float64], decimals: int) -> npt.NDArray[np.float64]:
    """Values so near what they are rounded to that each text is written once; those near a tie
    stay as they are, to be rounded from their exact value."""
    scaled = values * 10.0**decimals
    whole = np.rint(scaled)
    clear = np.abs(np.abs(scaled - whole) - 0.5) > 1e-6
    return np.where(clear, whole / 10.0**decimals, values)
