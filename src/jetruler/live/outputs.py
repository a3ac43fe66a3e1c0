"""What samples look like when they go out: as CSV, in aligned columns, as JSON."""

from __future__ import annotations

import json
import math
from collections.abc import Callable, Sequence
from typing import Protocol

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.bench.bench import Bench
from ..core.bench.channel import Channel
from ..core.bench.conditions import CLOCK
from ..core.ruler.reading import flag_names
from ..core.ruler.units import for_column
from ..logs.conversion import decided_columns
from ..logs.texts import CellTexts, DecidedTexts, FlagTexts
from ..samples.cells import Samples, quote, texts_to_arrow
from .stream_processor import LiveBatch


class Rows(Protocol):
    """Turns batches into bytes."""

    def header(self) -> bytes: ...

    def __call__(self, batch: LiveBatch) -> bytes: ...


class CsvRows:
    """A line a sample: time, channels, trips (0 or 1), drives (commands), flags."""

    def __init__(self, bench: Bench, time_name: str, keep_raw: bool = False) -> None:
        self._keeps_raw = keep_raw
        self.channels, self.decided = list(bench.every_channel.values()), DecidedTexts(bench)
        self.texts = [CellTexts(channel) for channel in self.channels]
        self._flags: dict[tuple[str, ...], FlagTexts] = {}
        values = [c.output_column for c in self.channels]
        measured = bench.channels.values()
        raw = [raw_column(channel) for channel in measured] if keep_raw else []
        self.names = [time_name, *raw, *values, *decided_columns(bench), "flags"]

    def header(self) -> bytes:
        """The names of the columns."""
        return (",".join(self.names) + "\n").encode()

    def columns(self, batch: LiveBatch) -> list[pa.Array]:
        """The cells, all but the flags."""
        cells = [quote(batch.times, ",") if batch.rows < 50 else batch.times]
        if self._keeps_raw:
            cells += [_raw_texts(samples) for samples in batch.raw]
        for texts, counts, reader in zip(self.texts, batch.counts, batch.readers, strict=True):
            cells.append(texts.gather(counts, batch.readings[texts.channel.name], reader))
        return cells + self.decided.of(batch.decided)

    def flags(self, batch: LiveBatch) -> pa.Array:
        """The flags of each sample in words, and behind them what was done to drives by hand."""
        also = tuple(f"{name}:{word}" for name, word in batch.by_hand.items())
        codes = np.stack([batch.readings[c.name].flags for c in self.channels], axis=1)
        codes, faults = np.ascontiguousarray(codes), batch.decided.clock_faults
        found = self._texts(also).gather(codes)
        if not faults.any():
            return found
        return pc.if_else(pa.array(faults), self._texts((*also, CLOCK)).gather(codes), found)

    def _texts(self, also: tuple[str, ...]) -> FlagTexts:
        if also not in self._flags:
            names = [channel.name for channel in self.channels]
            self._flags[also] = FlagTexts(names, ",", b"\n", also=also)
        return self._flags[also]

    def __call__(self, batch: LiveBatch) -> bytes:
        columns = [c.cast(pa.binary()) for c in self.columns(batch)]
        columns.append(self.flags(batch).cast(pa.binary()))
        # The texts of a joined column are one behind the other: they are the lines.
        joined = pc.binary_join_element_wise(*columns, b",")
        start = joined.offset
        offsets = np.frombuffer(joined.buffers()[1], np.int32)
        data: bytes = joined.buffers()[2][
            offsets[start] : offsets[start + len(joined)]
        ].to_pybytes()
        return data


class AlignedRows:
    """The same, in columns that are below each other, encoded as whoever shows them wants."""

    def __init__(
        self,
        bench: Bench,
        time_name: str,
        encode: Callable[[str], bytes] = str.encode,
        keep_raw: bool = False,
    ) -> None:
        self._encode = encode
        self.csv = CsvRows(bench, time_name, keep_raw)
        widest = [texts.longest for texts in self.csv.texts]
        drives = [
            max(len(drive.text(end)) for end in drive.bounds) for drive in bench.drives.values()
        ]
        raw = [5] * len(bench.channels) if keep_raw else []
        rooms = [9, *raw, *widest, *(1 for _ in bench.trips), *drives]
        self.widths = [max(len(n), w) for n, w in zip(self.csv.names, rooms, strict=False)]

    def header(self) -> bytes:
        """The names of the columns."""
        return self._line(self.csv.names[:-1], "flags")

    def _line(self, cells: Sequence[str], flags: str) -> bytes:
        text = "  ".join(f"{cell:>{w}}" for cell, w in zip(cells, self.widths, strict=True))
        return self._encode(f"{text}  {flags}".rstrip()) + b"\n"

    def __call__(self, batch: LiveBatch) -> bytes:
        columns = [column.to_pylist() for column in self.csv.columns(batch)]
        flags = self.csv.flags(batch).to_pylist()
        rows = zip(*columns, strict=True)
        return b"".join(
            self._line([_text(cell) for cell in row], _text(flag).strip())
            for row, flag in zip(rows, flags, strict=True)
        )


class JsonRows:
    """A JSON object a sample: channels by name (a number, label or null), trips, drives, flags."""

    def __init__(self, bench: Bench, time_name: str, keep_raw: bool = False) -> None:
        self.bench, self.time_name, self._keeps_raw = bench, time_name, keep_raw
        channels = bench.every_channel.items()
        self.labels = {name: c.ruler.label(0.0) is not None for name, c in channels}

    def header(self) -> bytes:
        """Names stand in every line."""
        return b""

    def __call__(self, batch: LiveBatch) -> bytes:
        times = batch.times.to_pylist()
        return b"".join(self._row(batch, i, time) for i, time in enumerate(times))

    def _row(self, batch: LiveBatch, i: int, time: str) -> bytes:
        row: dict[str, object] = {self.time_name: _json_time(time)}
        flags: dict[str, list[str]] = {}
        for name, channel in self.bench.every_channel.items():
            reading = batch.readings[name]
            cell = channel.cell(float(reading.value[i]))
            row[name] = (cell if self.labels[name] else finite(float(cell))) if cell else None
            if reading.flags[i]:
                flags[name] = flag_names(int(reading.flags[i]))
        if self._keeps_raw:
            row["raw"] = {
                name: None if samples.missing is not None and samples.missing[i] else finite(value)
                for name, samples in zip(self.bench.channels, batch.raw, strict=True)
                for value in [samples.counts[i].item()]
            }
        row["trips"] = {name: bool(on[i]) for name, on in batch.decided.trips.items()}
        row["drives"] = {
            name: json.loads(self.bench.drives[name].text(float(values[i])))
            for name, values in batch.decided.drives.items()
        }
        flags |= {name: [word] for name, word in batch.by_hand.items()}
        row["flags"] = flags | ({CLOCK: [CLOCK]} if batch.decided.clock_faults[i] else {})
        return json.dumps(row, ensure_ascii=False).encode() + b"\n"


def raw_column(channel: Channel) -> str:
    """The name of a channel's raw column, with the unit of its input."""
    unit = channel.ruler.takes
    word = "count" if unit == "count" else for_column(unit)
    return f"{channel.name}_raw_{word}" if word else f"{channel.name}_raw"


def _raw_texts(samples: Samples) -> pa.Array:
    texts = [repr(value) for value in samples.counts.tolist()]
    if samples.missing is not None:
        gone = samples.missing.tolist()
        texts = ["" if no else text for no, text in zip(gone, texts, strict=True)]
    return texts_to_arrow(texts)


def _text(cell: str | bytes) -> str:
    return cell.decode() if isinstance(cell, bytes) else cell


def finite(value: float) -> float | None:
    """None for what JSON has no number for."""
    return value if math.isfinite(value) else None


def _json_time(text: str) -> float | str:
    try:
        value = int(text) if text.isdecimal() else float(text)
    except ValueError:
        return text
    return value if math.isfinite(value) else text
