"""A bench at work on a stream: lines in; readings, decisions and what was seen out, with a history
as thin as a picture needs it."""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
import pyarrow as pa

from ..core.bench.bench import Bench, LogFormat
from ..core.bench.channel import Channel
from ..core.bench.channel_reader import ChannelReader
from ..core.bench.conditions import CLOCK, faults_of
from ..core.bench.decisions import (
    Decided,
    Decisions,
    looked_at,
    timed_parts,
    without_clock,
)
from ..core.bench.derived import DerivedChannel
from ..core.error_types import LogError
from ..core.numerics import AnyArray, Array, FlagArray
from ..core.ruler.quantity import quantity
from ..core.ruler.reading import Flag, Reading, flag_names
from ..samples.cells import Samples
from ..samples.shapes import Noise
from ..samples.stream_lines import StreamLines, Taken
from .overrides import Overrides

#: Steps between samples that tell the usual one, and samples that are waited for at most.
ENOUGH, MOST = 8, 4096


def joined(parts: Sequence[Taken]) -> Taken:
    """Several as one."""
    if len(parts) == 1:
        return parts[0]
    columns = []
    for each in zip(*(part.columns for part in parts), strict=True):
        gaps = [np.zeros(len(c.counts), np.bool_) if c.missing is None else c.missing for c in each]
        columns.append(Samples(np.concatenate([c.counts for c in each]), np.concatenate(gaps)))
    return Taken(
        np.concatenate([part.at for part in parts]),
        pa.concat_arrays([part.texts for part in parts]),
        np.concatenate([part.times for part in parts]),
        columns,
    )


@dataclass
class SampleRateEstimator:
    """The usual time between samples: the median of the first steps, however they came in.

    interval: seconds, None while unknown; NaN where samples have no time of their own."""

    interval: float | None = None
    _steps: list[float] = field(default_factory=list)
    _last: float = float("nan")
    _seen: int = 0

    def add(self, times: Array) -> int:
        """The place from which on the pace is known, or as many as there are."""
        for index, time in enumerate(times.tolist()):
            if time > self._last:
                self._steps.append(time - self._last)
            self._last = time
            self._seen += 1
            if len(self._steps) == ENOUGH or self._seen > MOST:
                self.settle()
                return index
        return len(times)

    def settle(self) -> None:
        """Make do with what has been seen."""
        self.interval = float(np.median(self._steps)) if self._steps else float("nan")


#: Seconds of one piece, and how many pieces are kept: ten minutes.
PIECE, PIECES = 0.05, 12_000
#: This many raw samples are kept to find ends in; older ones go.
RAW = 2**20


@dataclass(frozen=True)
class Window:
    """A stretch of time in columns: lowest and highest value in each (NaN: none), and its flags."""

    low: Array
    high: Array
    flags: FlagArray


@dataclass
class History:
    """The lowest and highest value and the flags of each twentieth of a second; and the raw samples
    since the ends were last looked for again."""

    _low: Array = field(default_factory=lambda: np.full(PIECES, np.nan))
    _high: Array = field(default_factory=lambda: np.full(PIECES, np.nan))
    _flags: FlagArray = field(default_factory=lambda: np.zeros(PIECES, np.uint8))
    _last: int = -1
    _raw: list[AnyArray] = field(default_factory=list)
    _raw_size: int = 0

    def add(self, at: Array, raw: AnyArray | None, reading: Reading) -> None:
        """A batch. at: seconds since the start, never going back. raw: the samples that indicate
        ends; None while the channel is held."""
        pieces = np.maximum((at / PIECE).astype(np.int64), self._last)
        starts = np.flatnonzero(np.diff(pieces, prepend=pieces[0] - 1))
        low = np.fmin.reduceat(reading.value, starts)
        high = np.fmax.reduceat(reading.value, starts)
        flags = np.bitwise_or.reduceat(np.asarray(reading.flags, np.uint8), starts)
        for piece, lowest, highest, flag in zip(
            pieces[starts].tolist(), low.tolist(), high.tolist(), flags.tolist(), strict=True
        ):
            self._clear_up_to(piece)
            index = piece % PIECES
            self._low[index] = np.fmin(self._low[index], lowest)
            self._high[index] = np.fmax(self._high[index], highest)
            self._flags[index] |= flag
        if raw is not None:
            self._raw.append(raw)
            self._raw_size += raw.size
        while self._raw_size > RAW:
            self._raw_size -= self._raw.pop(0).size

    def _clear_up_to(self, piece: int) -> None:
        """Nothing came between the last piece and this one."""
        if piece - self._last >= PIECES:
            self._low[:] = self._high[:] = np.nan
            self._flags[:] = 0
        else:
            gone = np.arange(self._last + 1, piece + 1) % PIECES
            self._low[gone] = self._high[gone] = np.nan
            self._flags[gone] = 0
        self._last = piece

    @property
    def raw(self) -> AnyArray:
        """The raw samples since `forget`."""
        return np.concatenate(self._raw) if self._raw else np.empty(0)

    def forget(self) -> None:
        """Look for ends again."""
        self._raw, self._raw_size = [], 0

    def window(self, now: float, span: float, columns: int) -> Window:
        """The last `span` seconds before `now`, in this many columns."""
        edges = np.linspace((now - span) / PIECE, now / PIECE, columns + 1)
        first, last = math.floor(edges[0] + 1e-6), math.ceil(edges[-1] - 1e-6)
        pieces = np.arange(max(first, 0, self._last - PIECES + 1), min(last, self._last + 1))
        low, high = np.full(columns, np.nan), np.full(columns, np.nan)
        flags = np.zeros(columns, np.uint8)
        if pieces.size:
            column = np.clip(np.searchsorted(edges, pieces, "right") - 1, 0, columns - 1)
            starts = np.flatnonzero(np.diff(column, prepend=-1))
            at, indices = column[starts], pieces % PIECES
            low[at] = np.fmin.reduceat(self._low[indices], starts)
            high[at] = np.fmax.reduceat(self._high[indices], starts)
            flags[at] = np.bitwise_or.reduceat(self._flags[indices], starts)
        return Window(low, high, flags)


@dataclass
class SeenRange:
    """What has been seen of a channel: the last sample, and the ends of all that had a value."""

    count: float = float("nan")
    value: float = float("nan")
    flags: int = 0
    lowest: float = float("inf")
    highest: float = float("-inf")
    flagged: int = 0

    def add(self, raw: AnyArray, reading: Reading) -> None:
        """A batch, as it came in and as it was read. What is held shows no end of a travel."""
        there = not reading.flags[-1] & Flag.MISSING
        self.count, self.value = float(raw[-1]) if there else math.nan, float(reading.value[-1])
        self.flags = int(reading.flags[-1])
        self.flagged += int(np.count_nonzero(reading.flags))
        good = raw[~np.isnan(reading.value)]
        if good.size and not self.flags & Flag.HELD:
            self.lowest = min(self.lowest, float(good.min()))
            self.highest = max(self.highest, float(good.max()))


@dataclass(frozen=True)
class LiveBatch:
    """Some samples, read and decided on. times: as the source says them, or seconds since the
    start. at: when the last of them came, in seconds since the start. readers: what each channel's
    text follows from."""

    rows: int
    at: float
    times: pa.Array
    counts: list[AnyArray]
    readings: dict[str, Reading]
    readers: list[ChannelReader]
    decided: Decided
    raw: list[Samples] = field(default_factory=list)
    """The samples of each channel as they came, or are held."""
    by_hand: dict[str, str] = field(default_factory=dict)
    """What is unlike the bench about a drive: it is "held", "fed" from elsewhere, "gate_off"."""


@dataclass
class StreamProcessor:
    """The memory of everything that runs: smoothing, zones, trips, drives, the ends seen.

    holds: the first samples wait until smoothing over a time knows how often they come, as for a
    recorded log; otherwise it averages what is there until then. keeps: what the channels did in
    the last minutes is kept to be shown."""

    bench: Bench
    form: LogFormat
    overrides: Overrides = field(default_factory=Overrides)
    noise: Noise = field(default_factory=Noise)
    holds: bool = False
    arrives: bool = True
    """Whether the time of arrival is a clock."""
    name: str = "the stream"
    stale_after: float = math.inf
    """Seconds after which a drive whose channel gave no value is sent to safe."""
    rows: int = 0
    keeps: bool = False

    def __post_init__(self) -> None:
        self.decisions = Decisions(self.bench)
        self.sample_rate = SampleRateEstimator()
        channels = self.bench.every_channel
        self.readers = {name: _PendingSmoother(c) for name, c in channels.items()}
        self.seen = {name: SeenRange() for name in channels}
        self.fresh: dict[str, float] = dict.fromkeys(channels, 0.0)
        """When each channel gave a value last, in seconds since the start."""
        self.history = {name: History() for name in channels} if self.keeps else {}
        self.turns: deque[tuple[float, str, bool]] = deque(maxlen=1000)
        """When trips turned on or off, in seconds since the start."""
        self.on_since: dict[str, float] = {}
        """When each trip turned on last, by the clock of the decisions."""
        self._held: list[Taken] = []
        self.lines = self._lines()
        self._began = False

    def _lines(self) -> StreamLines:
        columns = [channel.column for channel in self.bench.channels.values()]
        return StreamLines(self.form, columns, self.name, self.arrives, self.noise)

    def prime(self, head: bytes) -> None:
        """The first bytes, which come again: they show the form, and how often samples come."""
        self.lines.prime(head)

    def _begin(self) -> None:
        """The form of the lines is known. Raises `LogError` where times are needed and nobody knows
        any."""
        self._began = True
        if not self.lines.has_clock and (why := timed_parts(self.bench)):
            raise LogError(f"{self.name}: {without_clock(why)}")
        if self.lines.interval is not None:
            self.sample_rate.interval = self.lines.interval
            self._settle()

    def take_over(self, bench: Bench) -> None:
        """Go on with a bench that was changed: what it left as it was keeps its memory. Raises
        `LogError` where it does not fit the stream; then all stays as it was."""
        old, fresh = (
            self.bench,
            StreamProcessor(bench, self.form, keeps=self.keeps, arrives=self.arrives),
        )
        wanted = [c.column for c in bench.channels.values()]
        same_columns = [c.column for c in old.channels.values()] == wanted
        lines = self.lines if same_columns else self.lines.rewanted(wanted)
        if self._began and not lines.has_clock and (why := timed_parts(bench)):
            raise LogError(f"{self.name}: {without_clock(why)}")
        for name, channel in bench.every_channel.items():
            if name not in old:
                continue
            if old[name] == channel:
                fresh.readers[name] = self.readers[name]
            fresh.seen[name], fresh.fresh[name] = self.seen[name], self.fresh[name]
            if name in self.history and old[name].ruler == channel.ruler:
                fresh.history[name] = self.history[name]
        fresh.sample_rate = self.sample_rate
        fresh._settle()
        if not same_columns:  # what is held has the columns of before
            self._held = []
        self.decisions, self.lines = self.decisions.taken_over(bench), lines
        self.bench, self.readers, self.seen = bench, fresh.readers, fresh.seen
        self.fresh, self.history = fresh.fresh, fresh.history

    def take(self, block: bytes, arrivals: Array, start: float) -> list[LiveBatch]:
        """Whole lines, with the time that each arrived."""
        return self._batches(self.lines.add(block, arrivals - start))

    def settle(self, final: bool = True) -> list[LiveBatch]:
        """What the lines that are kept back are, though no more come to tell by."""
        return self._batches(self.lines.settle(final))

    def _batches(self, taken: list[Taken]) -> list[LiveBatch]:
        if taken and not self._began:
            self._begin()
        return [batch for samples in taken for batch in self._paced(samples)]

    def _paced(self, samples: Taken) -> list[LiveBatch]:
        if not self._waits():
            return [self._batch(samples)]
        index = self.sample_rate.add(samples.times)
        known = self.sample_rate.interval is not None
        if self.holds:
            self._held.append(samples)
            return self.flush() if known else []
        early, rest = samples.part(0, index), samples.part(index, len(samples))
        batches = [self._batch(early)] if index else []
        if known:
            self._settle()
            batches.append(self._batch(rest))
        return batches

    def flush(self) -> list[LiveBatch]:
        """What is held, with what is known of the pace."""
        if not self._held:
            return []
        if self.sample_rate.interval is None:
            self.sample_rate.settle()
        self._settle()
        samples, self._held = joined(self._held), []
        return [self._batch(samples)]

    def _waits(self) -> bool:
        """Whether the pace matters and is still unknown."""
        return self.sample_rate.interval is None and any(f.waiting for f in self.readers.values())

    def _settle(self) -> None:
        if self.sample_rate.interval is not None:
            for settling in self.readers.values():
                settling.settle(self.sample_rate.interval)

    def _batch(self, samples: Taken) -> LiveBatch:
        counts: list[AnyArray] = []
        raw: list[Samples] = []
        readers: list[ChannelReader] = []
        readings: dict[str, Reading] = {}
        times = samples.times if self.lines.has_clock else None
        for name, column in zip(self.bench.channels, samples.columns, strict=True):
            settling, held = self.readers[name], self.overrides.held.get(name)
            if held is not None:
                column = held.column(samples.at)
            found, reading, reader = settling.add(column, times)
            if held is not None:
                reading = replace(reading, flags=reading.flags | np.uint8(Flag.HELD))
            readings[name] = reading
            counts.append(found)
            raw.append(column)
            readers.append(reader)
            self._saw(name, samples.at, column, reading, held is not None)
        for name, channel in self.bench.derived.items():
            made, reading, reader = self.readers[name].add_from(channel, readings, times)
            readings[name] = reading
            counts.append(made.counts)
            readers.append(reader)
            self._saw(name, samples.at, made, reading)
        self.rows += len(samples)
        stale = {*self.stale_drives(float(samples.at[-1])), *self.overrides.gates_off}
        arrivals = samples.at if self.arrives else None
        commands = self.overrides.commands
        decided = self.decisions.add(
            samples.times,
            readings,
            stale,
            commands,
            arrivals=arrivals,
            modes=self.overrides.modes,
        )
        self._note(decided)
        for event in decided.events:
            self.turns.append((float(samples.at[event.sample]), event.trip.name, event.on))
        return LiveBatch(
            len(samples),
            at=float(samples.at[-1]),
            times=samples.texts,
            counts=counts,
            readings=readings,
            readers=readers,
            decided=decided,
            raw=raw,
            by_hand=self.overrides.words,
        )

    def _saw(
        self, name: str, at: Array, column: Samples, reading: Reading, held: bool = False
    ) -> None:
        """Keep what a channel did in a batch."""
        self.seen[name].add(column.counts, reading)
        if self.keeps:
            self.history[name].add(at, None if held else column.present, reading)
        there = np.flatnonzero(~np.isnan(reading.value))
        if there.size:
            self.fresh[name] = float(at[there[-1]])

    def stale_drives(self, now: float) -> tuple[str, ...]:
        """The drives one of whose channels gave no value for too long. now: s since the start."""
        if math.isinf(self.stale_after):
            return ()
        return tuple(
            name
            for name, drive in self.bench.drives.items()
            if any(now - self.fresh[c] > self.stale_after for c in looked_at(drive, self.bench))
        )

    def silent(self, seconds: float) -> Decided:
        """Nothing comes: decide without readings. seconds: since the last decision."""
        decided = self.decisions.silent(seconds)
        self._note(decided)
        return decided

    def _note(self, decided: Decided) -> None:
        if self.decisions.clock.jumps:
            self.noise.counts["jumps of its clock"] = self.decisions.clock.jumps
        for event in decided.events:
            if event.on:
                self.on_since[event.trip.name] = float(decided.times[event.sample])

    def why_safe(self, name: str) -> str:
        """Why a drive is at its safe value, in words; empty where it is not."""
        driver = self.decisions.drivers[name]
        drive, bench = driver.drive, self.bench
        if not driver.safe:
            return ""
        if name in self.overrides.gates_off:
            return "its gate is off"
        if CLOCK in drive.safe_flags and self.decisions.clock.why:
            return f"the source's time {self.decisions.clock.why}"
        for trip in drive.safe_when:
            if self.decisions.trippers[trip].on:
                return f"trip {trip}"
        for channel in looked_at(drive, self.decisions.bench):
            seen = self.seen[channel]
            flags = seen.flags & faults_of(drive.safe_flags, bench[channel])
            if flags or math.isnan(seen.value):
                return f"{channel} {'+'.join(flag_names(flags)) or 'without a value'}"
        return "nothing comes"

    def forget_ends(self) -> None:
        """Look for the ends again."""
        for seen in self.seen.values():
            seen.lowest, seen.highest = float("inf"), float("-inf")
        for history in self.history.values():
            history.forget()


class _PendingSmoother:
    """A reader whose smoothing over a time is settled when the pace is known.

    Until then it averages what is there; those samples are then gone through again.
    """

    def __init__(self, channel: Channel) -> None:
        self.channel = channel
        smooth = channel.smooth
        self.waiting = smooth is not None and isinstance(smooth.over, str)
        if self.waiting and smooth is not None:
            smooth = replace(smooth, over=ENOUGH)
        self._reader = ChannelReader(channel, smooth)
        self._past: list[tuple[Samples, Array | None]] = []

    def add(self, column: Samples, times: Array | None) -> tuple[AnyArray, Reading, ChannelReader]:
        if self.waiting:
            self._past.append((column, times))
        counts, reading = self._reader.add(column.counts, column.missing, times)
        return counts, reading, self._reader

    def add_from(
        self, channel: DerivedChannel, readings: Mapping[str, Reading], times: Array | None
    ) -> tuple[Samples, Reading, ChannelReader]:
        """The same for a channel that is computed from others."""
        raw, reading = channel.read_from(readings, self._reader, times)
        column = Samples(raw, np.isnan(raw))
        if self.waiting:
            self._past.append((column, times))
        return column, reading, self._reader

    def settle(self, interval: float) -> None:
        """The pace is known; NaN: samples have no time of their own, and each counts as one."""
        smooth = self.channel.smooth
        if not self.waiting or smooth is None:
            return
        if math.isnan(interval):
            interval = quantity(str(smooth.over), "s")
        self._reader = ChannelReader(self.channel, smooth.settled(interval))
        for past, times in self._past:
            self._reader.add(past.counts, past.missing, times)
        self.waiting, self._past = False, []
