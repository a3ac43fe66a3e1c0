"""What samples look like when they go out (as CSV, in aligned columns, as JSON); and commands to an
actuator's wire: whatever happens, the last ones are the safe values."""

from __future__ import annotations

import json
import math
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from functools import wraps
from typing import Any, Protocol, TypeVar, cast

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..core.bench.bench import LINE_ENDS, Bench, LineEnd
from ..core.bench.channel import Channel
from ..core.bench.conditions import CLOCK
from ..core.ruler.reading import flag_names
from ..core.ruler.units import for_column
from ..logs.conversion import decided_columns
from ..logs.texts import CellTexts, DecidedTexts, FlagTexts
from ..samples.cells import Samples, quote, text_scalar, texts_to_arrow, to_arrow
from .sources import Source, SourceGone
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
        return pc.if_else(to_arrow(faults), self._texts((*also, CLOCK)).gather(codes), found)

    def _texts(self, also: tuple[str, ...]) -> FlagTexts:
        if also not in self._flags:
            names = [channel.name for channel in self.channels]
            self._flags[also] = FlagTexts(names, ",", b"\n", also=also)
        return self._flags[also]

    def __call__(self, batch: LiveBatch) -> bytes:
        columns = [c.cast(pa.binary()) for c in self.columns(batch)]
        columns.append(self.flags(batch).cast(pa.binary()))
        # The texts of a joined column are one behind the other: they are the lines.
        joined = pc.binary_join_element_wise(*columns, text_scalar(b","))
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


Method = TypeVar("Method", bound=Callable[..., Any])

#: Seconds without trying again after a wire took nothing.
REST = 1.0
#: Seconds between attempts to send what must be sent.
RETRY = 0.1


def _locked(method: Method) -> Method:
    """One thread at a time: the loop's, and that which watches over it."""

    @wraps(method)
    def alone(self: Sender, *args: Any, **kwargs: Any) -> Any:
        with self.lock:
            return method(self, *args, **kwargs)

    return cast(Method, alone)


class Sender:
    """Sends the lines of commands. Unless armed nothing is sent, whatever is asked.

    wire: where to; None where nothing takes commands, and nothing can be armed. reopens: whether a
    wire that fails is opened again, as one is that nobody else looks after."""

    def __init__(
        self,
        bench: Bench,
        wire: Source | None,
        armed: bool = False,
        line_end: LineEnd = "lf",
        *,
        reopens: bool = False,
    ) -> None:
        self.bench, self.wire, self._reopens = bench, wire, reopens
        self.lock = threading.RLock()
        self._opening: threading.Thread | None = None
        self._is_new = False
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
        self._closed = threading.Event()
        self._wires: dict[str, str] = {}
        self._before: list[str] = []
        self._after: list[str] = []

    @_locked
    def arm(self) -> None:
        """Send from now on: set-up lines, then the safe values."""
        self.armed = self.wire is not None
        self.begin()

    @_locked
    def begin(self) -> None:
        """The other side knows nothing: set-up lines, then the safe value of every drive."""
        self._before = self._setup
        self.safe()

    @property
    def _setup(self) -> list[str]:
        return [] if self.bench.wire is None else list(self.bench.wire.setup)

    @_locked
    def speak(self, output: str, wire: str) -> None:
        """Send an output's commands by another line from now on; the last one is sent again."""
        if self._wires.get(output, self._drives[output].wire) != wire:
            self.sent.pop(output, None)
        self._wires[output] = wire

    @_locked
    def say(self, line: str) -> None:
        """Send a line once, behind the commands that are due."""
        if self.armed:
            self._after.append(line)
            self._send({})

    def disarm(self, seconds: float = 0.0) -> None:
        """Send the safe values, tried for this many seconds, and nothing from then on."""
        self.safe()
        self.insist(seconds)
        self.armed, self.failure, self._before, self._after = False, "", [], []

    @_locked
    def change(self, bench: Bench) -> None:
        """Go on with a bench that was changed; an output that is no longer driven goes to safe."""
        gone = {d.output: d.safe for d in self.bench.drives.values()}
        for drive in bench.drives.values():
            gone.pop(drive.output, None)
        self._send(gone)
        for output in gone:
            self._wanted.pop(output)
        self.bench, self._wires = bench, {}
        self._drives = {drive.output: drive for drive in bench.drives.values()}

    @_locked
    def send(self, commands: Mapping[str, float]) -> None:
        """Send what changed. commands: by drive."""
        self._send({self.bench.drives[name].output: value for name, value in commands.items()})

    @_locked
    def forget(self) -> None:
        """The other side is new: it has taken nothing yet."""
        self.sent, self._rest_until = {}, 0.0

    @_locked
    def safe(self) -> None:
        """The safe value of every drive, whatever was sent before."""
        self.forget()
        self._send({drive.output: drive.safe for drive in self.bench.drives.values()})

    def insist(self, seconds: float) -> None:
        """Try for so long what could not be sent, until it is taken whole."""
        until = time.monotonic() + seconds
        while self.failure and time.monotonic() < until:
            time.sleep(min(RETRY, seconds))
            with self.lock:
                self._rest_until = 0.0
                self._send({})

    @_locked
    def try_again(self) -> None:
        """Send what could not be sent before."""
        if self.failure:
            self._send({})

    def _line(self, output: str, command: float) -> str:
        drive = self._drives.get(output)
        if drive is not None and output in self._wires:
            drive = replace(drive, wire=self._wires[output], modes=())
        text = f"{output}={command:.10g}" if drive is None else drive.line(command)
        return text + self._end

    def _send(self, commands: Mapping[str, float]) -> None:
        self._wanted.update(commands)
        if self.wire is None or not self.armed or self._opening or not self._rested:
            return
        if self._is_new:  # it knows nothing of what was sent before
            self._before = self._setup
            self._is_new = not self._write({d.output: d.safe for d in self.bench.drives.values()})
        new = {out: value for out, value in self._wanted.items() if self.sent.get(out) != value}
        if (new or self._before or self._after) and not self._is_new:
            self._write(new)

    @property
    def _rested(self) -> bool:
        return time.monotonic() >= self._rest_until

    def _write(self, new: Mapping[str, float]) -> bool:
        """Send these; whether they were taken whole."""
        assert self.wire is not None
        commands = [self._line(out, value) for out, value in new.items()]
        before, after = (
            [line + self._end for line in each] for each in (self._before, self._after)
        )
        lines = "".join([*before, *commands, *after])
        if self._torn:  # what was cut off before must not join with what comes now
            lines = self._end + lines
        try:
            self.wire.write(lines.encode())
        except OSError as error:
            self.unsent += len(new) + len(after)
            self._after = []  # what somebody asked for then is not sent late
            self.failure = error.strerror or str(error)
            self._rest_until = time.monotonic() + REST
            self._torn = True
            if self._reopens and self._opening is None:
                self._opening = threading.Thread(
                    target=self._reopen, name="jetruler-sink", daemon=True
                )
                self._opening.start()
            return False
        self.sent.update(new)
        self.failure, self._torn, self._before, self._after = "", False, [], []
        return True

    def _reopen(self) -> None:
        """Open a wire that failed, in a thread of its own, until that works."""
        assert self.wire is not None
        while not self._closed.wait(RETRY):
            try:
                self.wire.open()
            except SourceGone:
                self._closed.wait(REST)
                continue
            break
        with self.lock:
            self._opening, self._rest_until = None, 0.0
            self.sent, self._is_new = {}, True

    def close(self) -> None:
        """Send nothing any more, and let go of a wire of one's own."""
        self._closed.set()
        if self._reopens and self.wire is not None:
            self.wire.close()


#: Seconds that the loop may be busy with something before its drives are made safe.
LATE = 1.0


class Watchdog:
    """Makes drives safe, from a thread of its own, when the loop that decides is late."""

    def __init__(self, sender: Sender) -> None:
        self._sender = sender
        self._beat = math.inf
        self._acted = False
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._work, name="jetruler-watchdog", daemon=True)
        self._thread.start()

    def beat(self) -> bool:
        """The loop is alive. Whether it was late, and drives were made safe meanwhile."""
        self._beat = time.monotonic()
        acted, self._acted = self._acted, False
        return acted

    def rest(self) -> None:
        """The loop rests on purpose, with its drives safe."""
        self._beat = math.inf

    def close(self) -> None:
        """Watch no more."""
        self._stop.set()

    def _work(self) -> None:
        while not self._stop.wait(0.1):
            if time.monotonic() - self._beat > LATE and not self._acted:
                self._acted = True
                self._sender.safe()
