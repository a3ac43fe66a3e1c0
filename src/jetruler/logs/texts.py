"""Results as text: each possible value, each combination of flags and each uncertainty is written
once."""

from __future__ import annotations

import sys
from collections.abc import Callable, Sequence
from threading import Lock

import numpy as np
import pyarrow as pa

from ..core.bench.bench import Bench
from ..core.bench.channel import Channel, CodeTable
from ..core.bench.channel_reader import ChannelReader
from ..core.bench.decisions import Decided
from ..core.bench.derived import DerivedChannel
from ..core.bench.drives import Drive
from ..core.bench.smoothing import Smoothing
from ..core.numerics import AnyArray, Array, FlagArray
from ..core.ruler.reading import Reading, flag_names
from ..core.ruler.rounding import to_decimals
from ..core.ruler.units import rounded
from ..core.uncertainty.budget import expanded_of_derived, expanded_uncertainty
from ..core.uncertainty.contributions import conditions_of
from ..samples.cells import Encode, quote, texts_to_arrow, to_arrow
from .summary import ConvertedColumn


def as_label(text: str) -> str:
    """A label as a cell of CSV: one that a spreadsheet would take for a formula begins with an
    apostrophe, which makes it a text there."""
    return f"'{text}" if text[:1] in ("=", "+", "-", "@", "\t", "\r") else text


class CellTexts:
    """A channel's values as text: for a compiled ruler, each possible one is written once.

    With `uncertainties`, each value has its uncertainty behind it, as a column of its own. encode:
    makes of a column's name and a text what is in the file (the text itself if None); number
    texts then have a decimal point.
    """

    def __init__(
        self,
        channel: Channel,
        decimal: str = ".",
        delimiter: str = ",",
        uncertainties: UncertaintyTexts | None = None,
        encode: Encode | None = None,
    ) -> None:
        self.channel, self.decimal, self.delimiter = channel, decimal, delimiter
        self.uncertainties, self.encode = uncertainties, encode
        self.labels = channel.ruler.label(0.0) is not None
        self.names = [channel.output_column] + (
            [] if uncertainties is None else [uncertainties.column]
        )
        self.every = CodeTable.of(channel)
        size = 0 if self.every is None else self.every.values.size
        #: Where the text of each place is (−1: not written yet), and the texts.
        self._known = np.full(size, -1, np.int32), texts_to_arrow([])
        self._lock = Lock()

    @property
    def quoted(self) -> bool:
        """Whether a text of the table has quotes."""
        if not self.labels or self.every is None:
            return self.labels
        return any('"' in text for text in self._different(self.every))

    @property
    def longest(self) -> int:
        """Characters of the longest text; of a ruler without a table, what would do."""
        if self.every is None:
            return 10
        return max(map(len, self._different(self.every)))

    def _different(self, every: CodeTable) -> list[str]:
        """Every text that may come up."""
        written = self._written(np.unique(every.values).tolist())
        texts: list[str] = written.cast(pa.string()).to_pylist()
        return texts

    def _at(self, every: CodeTable, indices: AnyArray) -> pa.Array:
        """The texts at some places of the table of all counts. Those that come up for the first
        time are written; all of them, once half of them have come up."""
        slots, texts = self._known
        wanted = slots[indices]
        if wanted.size and wanted.min() < 0:
            with self._lock:
                slots, texts = self._known
                new = np.unique(indices[slots[indices] < 0])
                if 2 * (len(texts) + new.size) > slots.size:
                    new = np.flatnonzero(slots < 0)
                slots = slots.copy()
                slots[new] = np.arange(len(texts), len(texts) + new.size, dtype=np.int32)
                written = self._written(every.values[new].tolist())
                texts = pa.concat_arrays([texts.cast(written.type), written])
                self._known = slots, texts
            wanted = slots[indices]
        return texts.take(to_arrow(wanted))

    def _written(self, values: list[float]) -> pa.Array:
        cells = self.channel.cells(values)
        if self.encode is not None:
            return texts_to_arrow([self.encode(self.names[0], cell) for cell in cells])
        if self.labels:
            cells = [as_label(cell) for cell in cells]
        if self.decimal == "," and not self.labels:
            cells = [cell.replace(".", ",") for cell in cells]
        texts = texts_to_arrow(cells)
        return quote(texts, self.delimiter) if self.labels else texts

    def gather(self, counts: AnyArray, reading: Reading, reader: ChannelReader) -> pa.Array:
        """The text of every sample. counts: what its value represents."""
        return self._of(ConvertedColumn.following(self.every, counts, reading, reader))

    def of(self, column: ConvertedColumn) -> list[pa.Array]:
        """The text of every row of a column; behind it that of its uncertainty, if wanted."""
        return [self._of(column)] + (
            [] if self.uncertainties is None else [self.uncertainties.of(column)]
        )

    def _of(self, column: ConvertedColumn) -> pa.Array:
        counts, indices = column.counts, column.indices
        if counts is not None and counts.dtype.kind in "iu" and not column.held:
            indices = self.every.indices(counts) if self.every is not None else None
        if indices is None or self.every is None:
            return self._each(column.values)
        return self._at(self.every, indices)

    def _each(self, values: Array) -> pa.Array:
        """Values that come from no table of counts."""
        if (decimals := self.channel.decimals) is not None and not self.labels:
            values = to_decimals(values, decimals, self.channel.ruler.sizes[-1])
        kinds, index = np.unique(values, return_inverse=True)
        return self._written(kinds.tolist()).take(to_arrow(index))


class FlagTexts:
    """The flags of each row in words: `bean:high_rail;rail:below`.

    end: what is behind them. encode: makes of the words what is in the file. also: words
    that every row has behind its own.
    """

    def __init__(
        self,
        names: Sequence[str],
        delimiter: str,
        end: bytes = b"",
        encode: Callable[[str], str] | None = None,
        also: Sequence[str] = (),
    ) -> None:
        self.names, self.delimiter, self.end, self.encode = names, delimiter, end, encode
        self.also = list(also)
        self._texts: dict[int | bytes, bytes] = {}

    def gather(self, codes: FlagArray) -> pa.Array:
        """The flags of each row in words: each combination is written once."""
        found = self.encoded(codes)
        return found.dictionary.take(found.indices)

    def encoded(self, codes: FlagArray) -> pa.DictionaryArray:
        """The same as a dictionary of the combinations that come up. codes: rows × channels."""
        rows, width = codes.shape
        if width <= 8:
            # Eight bytes are one number, and numbers are distinguished faster than bytes.
            wide = np.zeros((rows, 8), np.uint8)
            wide[:, :width] = codes
            packed = to_arrow(wide.view(np.uint64).reshape(-1)).dictionary_encode()
        else:
            whole = pa.py_buffer(np.ascontiguousarray(codes))
            packed = pa.FixedSizeBinaryArray.from_buffers(
                pa.binary(width), rows, [None, whole]
            ).dictionary_encode()
        texts = texts_to_arrow([self._text(key) for key in packed.dictionary.to_pylist()])
        return pa.DictionaryArray.from_arrays(packed.indices, texts)

    def _text(self, key: int | bytes) -> bytes:
        if key not in self._texts:
            codes = key if isinstance(key, bytes) else key.to_bytes(8, sys.byteorder)
            words = [
                f"{channel}:{name}"
                for channel, code in zip(self.names, codes, strict=False)
                for name in flag_names(code)
            ]
            text = ";".join(words + self.also)
            if self.encode is not None:
                text = self.encode(text)
            elif self.delimiter in text:
                text = f'"{text}"'
            self._texts[key] = text.encode() + self.end
        return self._texts[key]


class DecidedTexts:
    """Trips (0 or 1) and commands of drives as text. encode: makes of a column's name and a text
    what is in the file; trips are then true and false."""

    def __init__(self, bench: Bench, decimal: str = ".", encode: Encode | None = None) -> None:
        self.bench, self.decimal, self.encode = bench, decimal, encode
        words = ("0", "1") if encode is None else ("false", "true")
        self._bits = {name: self._written(name, words) for name in bench.trips}

    def of(self, decided: Decided | None) -> list[pa.Array]:
        """The texts of each trip, then of each drive, in every row."""
        if decided is None:
            return []
        trips = [
            bits.take(to_arrow(decided.trips[n].view(np.uint8))) for n, bits in self._bits.items()
        ]
        return trips + [self._commands(d, decided.drives[n]) for n, d in self.bench.drives.items()]

    def _commands(self, drive: Drive, values: Array) -> pa.Array:
        kinds, index = np.unique(values, return_inverse=True)
        texts = [drive.text(value).replace(".", self.decimal) for value in kinds.tolist()]
        return self._written(drive.output_column, texts).take(to_arrow(index))

    def _written(self, name: str, texts: Sequence[str]) -> pa.Array:
        return texts_to_arrow(
            list(texts) if self.encode is None else [self.encode(name, text) for text in texts]
        )


def uncertainty_texts(
    channel: Channel, decimal: str, encode: Encode | None = None
) -> UncertaintyTexts | None:
    """The uncertainties of a channel; a zone has none."""
    if channel.ruler.label(0.0) is not None:
        return None
    kind = DerivedUncertaintyTexts if isinstance(channel, DerivedChannel) else UncertaintyTexts
    return kind(channel, decimal, encode)


class UncertaintyTexts:
    """A channel's expanded uncertainties at 95 %, to two digits: each written once.

    Noise is averaged as much as the channel's smoothing averages it. Empty where there is no
    value, or where a law holds the value at an end.
    """

    def __init__(self, channel: Channel, decimal: str = ".", encode: Encode | None = None) -> None:
        self.channel, self.decimal, self.encode = channel, decimal, encode
        self._every = CodeTable.of(channel)
        self._uncertainties: Array | None = None
        self._texts: pa.Array | None = None
        self._ready = False

    @property
    def column(self) -> str:
        """Name of the column."""
        return f"{self.channel.output_column}_u"

    def of(self, column: ConvertedColumn) -> pa.Array:
        """The text of every row; an averaged count has that of the nearest whole one."""
        self._prepare(column.smoothing)
        if self._uncertainties is not None:
            indices = self._indices(_counts(column)) if column.indices is None else column.indices
            if self._texts is None and indices.size < self._uncertainties.size:  # a short log
                return self._written(self._uncertainties[indices])
            if self._texts is None:
                self._texts = self._written(self._uncertainties)
            return self._texts.take(to_arrow(indices))
        kinds, index = np.unique(_counts(column), return_inverse=True)
        return self._written(self._expanded(kinds)).take(to_arrow(index))

    def values(self, column: ConvertedColumn) -> Array:
        """The expanded uncertainty of every row of a column, as numbers; NaN for none."""
        self._prepare(column.smoothing)
        if self._uncertainties is None:
            kinds, index = np.unique(_counts(column), return_inverse=True)
            found: Array = self._expanded(kinds)[index]
            return found
        indices = self._indices(_counts(column)) if column.indices is None else column.indices
        return np.take(self._uncertainties, indices, mode="clip")

    def _indices(self, counts: AnyArray) -> AnyArray:
        assert self._every is not None
        without = np.isnan(counts)
        whole = np.rint(np.where(without, 0, counts))
        beyond = 2.0**40  # far outside every converter that has a table
        return self._every.indices(np.clip(whole, -beyond, beyond).astype(np.int64), without)

    def _prepare(self, smoothing: Smoothing | None) -> None:
        if self._ready:
            return
        readings = None if smoothing is None else smoothing.averaged
        self._given = conditions_of(self.channel, readings=readings)
        if self._every is not None:
            low = self._every.lowest
            uncertainties = self._expanded(np.arange(low, low + self._every.values.size - 3))
            self._uncertainties = np.concatenate(([np.nan], uncertainties, [np.nan, np.nan]))
        self._ready = True

    def _expanded(self, counts: AnyArray) -> Array:
        return expanded_uncertainty(self.channel, counts.astype(np.float64), self._given)

    def _written(self, uncertainties: Array) -> pa.Array:
        # A straight law has one width at all counts: each is written once.
        kinds, index = np.unique(uncertainties, return_inverse=True)
        texts = ["" if np.isnan(u) else rounded(u, u)[1] for u in kinds.tolist()]
        if self.encode is not None:
            texts = [self.encode(self.column, text) for text in texts]
        elif self.decimal == ",":
            texts = [text.replace(".", ",") for text in texts]
        return texts_to_arrow(texts).take(to_arrow(index))


class DerivedUncertaintyTexts(UncertaintyTexts):
    """Those of a channel that is computed from others, by the raw values of the others."""

    def of(self, column: ConvertedColumn) -> pa.Array:
        """The text of every row."""
        return self._written(self.values(column))

    def values(self, column: ConvertedColumn) -> Array:
        """The expanded uncertainty of every row; equal rows are computed once."""
        assert column.measured is not None
        assert isinstance(self.channel, DerivedChannel)
        names = list(column.measured)
        table = np.stack([column.measured[name].raws for name in names], axis=1)
        kinds, index = np.unique(table, axis=0, return_inverse=True)
        readings = {
            name: one.smoothing.averaged
            for name, one in column.measured.items()
            if one.smoothing is not None
        }
        raws = {name: kinds[:, i] for i, name in enumerate(names)}
        found = expanded_of_derived(self.channel, raws, readings)
        return found[index.reshape(-1)]


def _counts(column: ConvertedColumn) -> AnyArray:
    assert column.counts is not None
    return column.counts
