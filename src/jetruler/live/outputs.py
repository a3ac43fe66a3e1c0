"""What goes out: rows and events in a thread of their own, and commands to an actuator's wire."""

from __future__ import annotations

import json
import threading
import time
from collections import deque
from collections.abc import Callable, Mapping, Sequence
from io import RawIOBase
from typing import Protocol

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.bench.bench import LINE_ENDS, Bench, LineEnd
from ..core.bench.channel import Channel
from ..core.bench.trips_and_drives import Drive
from ..core.numerics import AnyArray
from ..core.ruler.reading import flag_names
from ..core.ruler.units import for_column
from ..logs.check_log import EVENT_COLUMNS, csv_line, event_row
from ..logs.texts import CellTexts, FlagTexts
from ..samples.cells import Samples, quote, texts_to_arrow
from .sources import Source
from .stream_processor import LiveBatch

#: Bytes that wait at most to be written.
ROOM = 1 << 22

#: Bytes that are written at once at most.
AT_ONCE = 1 << 16

#: Seconds until whoever waits looks whether a signal has come.
HEARING = 0.2

#: Seconds until a full pipe is tried again.
FULL = 0.01


class OutputWriter:
    """Bytes to a raw file. lossless: the source waits too, so that nothing need be dropped;
    otherwise what finds no room is dropped whole, and its rows are counted in `dropped`.

    taken: rows that it was given. abandoned: rows that were on their way when it was closed; the
    last few thousand of them may have reached the reader."""

    def __init__(self, file: RawIOBase, lossless: bool) -> None:
        self.taken = self.dropped = self.abandoned = 0
        self.error: OSError | None = None
        self._file, self._lossless = file, lossless
        self._pieces: deque[tuple[bytes, int]] = deque()
        self._under_way = memoryview(b"")
        self._waiting = 0
        self._closing = False
        self._change = threading.Condition()
        self._thread = threading.Thread(target=self._work, name="jetruler-writer", daemon=True)
        self._thread.start()

    def put(self, data: bytes, rows: int) -> None:
        """Write these rows. Raises `OSError` where writing failed."""
        with self._change:
            while self._lossless and self._waiting > ROOM and self.error is None:
                self._change.wait(0.1)
            if self.error is not None:
                raise self.error
            self.taken += rows
            if self._waiting and self._waiting + len(data) > ROOM:
                self.dropped += rows
                return
            self._pieces.append((data, rows))
            self._waiting += len(data)
            self._change.notify_all()

    def drain(self) -> None:
        """Wait until all is written, however long the reader takes. Raises `OSError` where writing
        failed."""
        with self._change:
            while self._waiting and self.error is None:
                self._change.wait(HEARING)
            if self.error is not None:
                raise self.error

    def close(self, timeout: float) -> bool:
        """Write what waits; whether that was done in time. Rows that were not are `abandoned`."""
        with self._change:
            self._closing = True
            self._change.notify_all()
        self._thread.join(timeout)
        with self._change:
            left, self._under_way = bytes(self._under_way), memoryview(b"")
            self.abandoned += left.count(b"\n") + sum(rows for _, rows in self._pieces)
            self._pieces.clear()
        return not self._thread.is_alive()

    def _work(self) -> None:
        while True:
            with self._change:
                while not (self._pieces or self._closing):
                    self._change.wait()
                if not self._pieces:
                    return
                rows = b"".join(data for data, _ in self._pieces)
                self._pieces.clear()
                view = self._under_way = memoryview(rows)
            try:
                while view:
                    self._under_way = view
                    written = self._file.write(view[:AT_ONCE])
                    if written is None:  # a pipe that never waits, and is full
                        time.sleep(FULL)
                    view = view[written or 0 :]
            except OSError as error:
                with self._change:
                    self.error = error
                    self._change.notify_all()
                return
            with self._change:
                self._under_way = memoryview(b"")
                self._waiting -= len(rows)
                self._change.notify_all()


class Rows(Protocol):
    """Turns batches into bytes."""

    def header(self) -> bytes: ...

    def __call__(self, batch: LiveBatch) -> bytes: ...


class CsvRows:
    """A line a sample: time, channels, trips (0 or 1), drives (commands), flags."""

    def __init__(self, bench: Bench, time_name: str, keep_raw: bool = False) -> None:
        self._keeps_raw = keep_raw
        self.channels, self.drives = list(bench.channels.values()), list(bench.drives.values())
        self.texts = [CellTexts(channel) for channel in self.channels]
        self._flags: dict[tuple[str, ...], FlagTexts] = {}
        values = [c.output_column for c in self.channels]
        drives = [drive.output_column for drive in bench.drives.values()]
        raw = [raw_column(channel) for channel in self.channels] if keep_raw else []
        self.names = [time_name, *raw, *values, *bench.trips, *drives, "flags"]

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
        cells += [_bits(on) for on in batch.decided.trips.values()]
        cells += [_commands(d, batch.decided.drives[d.name]) for d in self.drives]
        return cells

    def flags(self, batch: LiveBatch) -> pa.Array:
        """The flags of each sample in words, and behind them what was done to drives by hand."""
        also = tuple(f"{name}:{word}" for name, word in batch.by_hand.items())
        if also not in self._flags:
            names = [channel.name for channel in self.channels]
            self._flags[also] = FlagTexts(names, ",", b"\n", also=also)
        codes = np.stack([batch.readings[c.name].flags for c in self.channels], axis=1)
        return self._flags[also].gather(np.ascontiguousarray(codes))

    def __call__(self, batch: LiveBatch) -> bytes:
        columns = [c.cast(pa.binary()) for c in self.columns(batch)]
        columns.append(self.flags(batch).cast(pa.binary()))
        # The texts of a joined column stand one behind the other: they are the lines.
        joined = pc.binary_join_element_wise(*columns, b",")
        start = joined.offset
        offsets = np.frombuffer(joined.buffers()[1], np.int32)
        data: bytes = joined.buffers()[2][
            offsets[start] : offsets[start + len(joined)]
        ].to_pybytes()
        return data


class AlignedRows:
    """The same, in columns that stand below each other, encoded as whoever shows them wants."""

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
        raw = [5] * len(widest) if keep_raw else []
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
        self.labels = {name: c.ruler.label(0.0) is not None for name, c in bench.channels.items()}

    def header(self) -> bytes:
        """Names stand in every line."""
        return b""

    def __call__(self, batch: LiveBatch) -> bytes:
        times = batch.times.to_pylist()
        return b"".join(self._row(batch, i, time) for i, time in enumerate(times))

    def _row(self, batch: LiveBatch, i: int, time: str) -> bytes:
        row: dict[str, object] = {self.time_name: _json_time(time)}
        flags: dict[str, list[str]] = {}
        for name, channel in self.bench.channels.items():
            reading = batch.readings[name]
            cell = channel.cell(float(reading.value[i]))
            row[name] = (cell if self.labels[name] else float(cell)) if cell else None
            if reading.flags[i]:
                flags[name] = flag_names(int(reading.flags[i]))
        if self._keeps_raw:
            row["raw"] = {
                name: None if samples.missing is not None and samples.missing[i] else value
                for name, samples in zip(self.bench.channels, batch.raw, strict=True)
                for value in [samples.counts[i].item()]
            }
        row["trips"] = {name: bool(on[i]) for name, on in batch.decided.trips.items()}
        row["drives"] = {
            name: json.loads(self.bench.drives[name].text(float(values[i])))
            for name, values in batch.decided.drives.items()
        }
        row["flags"] = flags | {name: [word] for name, word in batch.by_hand.items()}
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


def _bits(on: AnyArray) -> pa.Array:
    return pa.array([b"0", b"1"], pa.binary()).take(pa.array(on.view(np.uint8)))


def _commands(drive: Drive, values: AnyArray) -> pa.Array:
    kinds, index = np.unique(values, return_inverse=True)
    texts = [drive.text(value) for value in kinds.tolist()]
    return pa.array(texts, pa.string()).take(pa.array(index))


def _text(cell: str | bytes) -> str:
    return cell.decode() if isinstance(cell, bytes) else cell


def _json_time(text: str) -> float | str:
    try:
        return int(text) if text.isdecimal() else float(text)
    except ValueError:
        return text


class LiveEvents:
    """Writes `time, trip, state, values` as `convert --events` does, a line for each change, below
    a header once it is known what times there are."""

    def __init__(self, write: Callable[[bytes], object]) -> None:
        self._write = write
        self._begun = False

    def begin(self, time_name: str) -> None:
        """Write the header, once."""
        if not self._begun:
            self._write(csv_line(time_name, *EVENT_COLUMNS))
        self._begun = True

    def add(self, bench: Bench, batch: LiveBatch) -> None:
        """The trips that turned in a batch."""
        for event in batch.decided.events:
            row = event_row(bench, event, batch.readings)
            self._write(csv_line(batch.times[event.sample].as_py(), *row))

    def note(self, time: str, name: str, what: str, value: str) -> None:
        """Something that was done by hand. time: that of the last sample."""
        self._write(csv_line(time, name, what, value))


#: Seconds without trying again after a wire took nothing.
REST = 1.0
#: Seconds between attempts to send what must be sent.
RETRY = 0.1


class Sender:
    """Sends the lines of commands. Unless armed nothing is sent, whatever is asked.

    wire: where to; None where nothing takes commands, and nothing can be armed."""

    def __init__(
        self, bench: Bench, wire: Source | None, armed: bool = False, line_end: LineEnd = "lf"
    ) -> None:
        self.bench, self.wire = bench, wire
        self.armed = armed and wire is not None
        """Whether anything is sent at all."""
        self._end = LINE_ENDS[line_end]
        self._drives = {drive.output: drive for drive in bench.drives.values()}
        self.sent: dict[str, float] = {}
        """What each output has taken last."""
        self.failure = ""
        self.unsent = 0
        self._wanted: dict[str, float] = {}
        self._rest_until = 0.0
        self._torn = False

    def arm(self) -> None:
        """Send from now on, the safe values first."""
        self.armed = self.wire is not None
        self.safe()

    def disarm(self, seconds: float = 0.0) -> None:
        """Send the safe values, tried for so many seconds, and nothing from then on."""
        self.safe()
        self.insist(seconds)
        self.armed, self.failure = False, ""

    def change(self, bench: Bench) -> None:
        """Go on with a bench that was changed; an output that is no longer driven goes to safe."""
        gone = {d.output: d.safe for d in self.bench.drives.values()}
        for drive in bench.drives.values():
            gone.pop(drive.output, None)
        self._send(gone)
        for output in gone:
            self._wanted.pop(output)
        self.bench = bench
        self._drives = {drive.output: drive for drive in bench.drives.values()}

    def send(self, commands: Mapping[str, float]) -> None:
        """Send what changed. commands: by drive."""
        self._send({self.bench.drives[name].output: value for name, value in commands.items()})

    def forget(self) -> None:
        """The other side is new: it has taken nothing yet."""
        self.sent, self._rest_until = {}, 0.0

    def safe(self) -> None:
        """The safe value of every drive, whatever was sent before."""
        self.forget()
        self._send({drive.output: drive.safe for drive in self.bench.drives.values()})

    def insist(self, seconds: float) -> None:
        """Try for so long what could not be sent, until it is taken whole."""
        until = time.monotonic() + seconds
        while self.failure and time.monotonic() < until:
            time.sleep(min(RETRY, seconds))
            self._rest_until = 0.0
            self._send({})

    def try_again(self) -> None:
        """Send what could not be sent before."""
        if self.failure:
            self._send({})

    def _line(self, output: str, command: float) -> str:
        drive = self._drives.get(output)
        text = f"{output}={command:.10g}" if drive is None else drive.line(command)
        return text + self._end

    def _send(self, commands: Mapping[str, float]) -> None:
        self._wanted.update(commands)
        new = {out: value for out, value in self._wanted.items() if self.sent.get(out) != value}
        if self.wire is None or not self.armed or not new or time.monotonic() < self._rest_until:
            return
        lines = "".join(self._line(out, value) for out, value in new.items())
        if self._torn:  # what was cut off before must not join with what comes now
            lines = self._end + lines
        try:
            self.wire.write(lines.encode())
        except OSError as error:
            self.unsent += len(new)
            self.failure = error.strerror or str(error)
            self._rest_until = time.monotonic() + REST
            self._torn = True
            return
        self.sent.update(new)
        self.failure, self._torn = "", False
