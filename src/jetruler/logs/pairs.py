"""Channels of a log one beside another: in pairs for a comparison, as envelopes for a picture, and
one after another for statistics of their order."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from ..core.bench.bench import Bench, LogFormat
from ..core.bench.channel import Channel
from ..core.bench.channel_reader import read_flagged
from ..core.calibrate.compare import compare, relevant_difference
from ..core.calibrate.comparison import Comparison, PairsError, aligned
from ..core.error_types import LogError, UnitError
from ..core.numerics import Array, steps_of
from ..core.result import Result, refuses
from ..core.ruler.units import column_unit, factor_and_offset, many, nearest, symbol
from ..core.survey.running_statistics import Envelope
from ..core.uncertainty.budget import bias_note, tolerated
from ..samples.passes import ChannelsPass, EveryPass, Progress, SampleBatch, columns_read, walk
from ..samples.source import Log, LogReader, name_of
from ..samples.times import LogClock


@dataclass(frozen=True, eq=False, repr=False)
class Pairs(Result):
    """Values of two series at the same times, in the first one's unit.

    Attributes
    ----------
    at : array of float64
        Time in seconds, or sample number, shape (n,).
    a, b : array of float64
        The values, shape (n,).
    left_out : tuple[int, int]
        Samples of each that had a flag (a rail, a clamp, a fault, or nothing there).
    missing : int
        Samples of the second beside which the first had none.
    interval : float
        The usual time between two pairs, NaN without time.
    in_time : bool
        Whether one of them was interpolated to the other's times.
    time_name : str
        Name of the time column, or "sample".
    unit_of_other : str | None
        The unit of the other one's values before the conversion.

    Examples
    --------
    >>> import jetruler as jr
    >>> bench = jr.load_bench("bench.toml")
    >>> pairs = jr.read_pairs("rest.csv", bench["bean"], bench["bean2"])
    >>> print(pairs)
    598 pairs; left out 0 and 0 flagged samples
    """

    at: Array
    """Time in seconds, or sample number, shape (n,)."""
    a: Array
    """The values, shape (n,)."""
    b: Array
    """The values, shape (n,)."""
    left_out: tuple[int, int]
    """Samples of each that had a flag (a rail, a clamp, a fault, or nothing there)."""
    missing: int
    """Samples of the second beside which the first had none."""
    interval: float
    """The usual time between two pairs, NaN without time."""
    in_time: bool
    """Whether one of them was interpolated to the other's times."""
    time_name: str
    """Name of the time column, or "sample"."""
    unit_of_other: str | None
    """The unit of the other one's values before the conversion."""

    @property
    def headline(self) -> str:
        flagged, flagged_too = self.left_out
        return f"{many(self.a.size, 'pair')}; left out {flagged} and {flagged_too} flagged samples"

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        return {self.time_name: self.at.tolist(), "a": self.a.tolist(), "b": self.b.tolist()}


@dataclass(frozen=True, eq=False)
class _Read:
    at: Array | None
    values: list[Array]
    time_name: str


@refuses
def read_pairs(
    log: Log,
    channel: Channel,
    other: Channel | str,
    *,
    other_log: Log | None = None,
    unit: str | None = None,
    form: LogFormat | None = None,
    progress: Progress | None = None,
) -> Pairs:
    """Read a channel and another one (or a column of values, by its name) from a log.

    Smoothed as `convert` does, without flagged samples.

    Parameters
    ----------
    log : path, bytes or open file
        The log.
    channel : Channel
        The first one.
    other : Channel | str
        The second one: a channel, or a column of values by its name.
    other_log : path, optional
        Where the other one is, if elsewhere; the two are then paired by time.
    unit : str, optional
        That of the column, if it is neither the channel's nor what its name says (`ref_degF`).
    form : LogFormat, optional
        How the logs are written; found out if None.
    progress : Progress, optional
        Is called after each batch.

    Returns
    -------
    Pairs
        Values of both, in the channel's unit.

    Raises
    ------
    LogError
        For parameters that make no sense.
    PairsError
        Where no time has both; for a column that says another kind of unit.

    Notes
    -----
    Values that stand in the same rows are pairs; where fewer than half of the sparser one's rows
    hold both, they are paired by time, in a straight line between two samples of the denser one.

    Examples
    --------
    >>> import jetruler as jr
    >>> bench = jr.load_bench("bench.toml")
    >>> pairs = jr.read_pairs("rest.csv", bench["bean"], bench["bean2"])
    >>> len(pairs.a) == len(pairs.b)
    True
    """
    if other_log is None:
        read = _read(log, [channel, other], form, progress)
        return pairs_of(read, channel, other, unit=unit)
    first, second = (
        _read(path, [one], form, progress) for path, one in ((log, channel), (other_log, other))
    )
    if first.at is None or second.at is None:
        raise LogError(
            f"{name_of(other_log)}: expected a time column to pair two logs by, found none"
        )
    return pairs_of(first, channel, other, unit=unit, second=second)


def pairs_of(
    read: _Read,
    channel: Channel,
    other: Channel | str,
    *,
    unit: str | None = None,
    second: _Read | None = None,
) -> Pairs:
    """The pairs in what was read of a log, or of two; see `read_pairs`."""
    for one in (channel, other):
        if isinstance(one, Channel) and one.ruler.label(0.0) is not None:
            raise LogError(f"compare: expected values, found {one.name}, which reads zones")
    at, at_b = read.at, (second or read).at
    a, b = read.values[0], (second or read).values[-1]
    own = other.unit if isinstance(other, Channel) else unit or _declared_unit(other, channel)
    b = _converted(b, own, channel.unit)
    left_out = (int(np.isnan(a).sum()), int(np.isnan(b).sum()))
    missing = 0
    in_time = second is not None
    if not in_time:
        both = ~np.isnan(a) & ~np.isnan(b)
        sparser = min(a.size - left_out[0], b.size - left_out[1])
        in_time = bool(2 * np.count_nonzero(both) < sparser) and at is not None
    lags = [_lag(one, where) for one, where in ((channel, at), (other, at_b))]
    if in_time and at is not None and at_b is not None:
        times, a, b = aligned(
            at - lags[0] * _interval(at), a, at_b=at_b - lags[1] * _interval(at_b), b=b
        )
    else:
        a, b = _earlier(a, lags[0]), _earlier(b, lags[1])
        both = ~np.isnan(a) & ~np.isnan(b)
        missing = int(np.count_nonzero(np.isnan(a) & ~np.isnan(b)))
        times = np.arange(a.size, dtype=np.float64) if at is None else at
        times, a, b = times[both], a[both], b[both]
    return Pairs(
        times,
        a,
        b=b,
        left_out=left_out,
        missing=missing,
        interval=_interval(times) if at is not None else float("nan"),
        in_time=in_time,
        time_name=read.time_name,
        unit_of_other=own,
    )


def _interval(times: Array) -> float:
    """The usual time between two samples, NaN for a single one."""
    steps = steps_of(times)
    return float(np.median(steps)) if steps.size else float("nan")


def _lag(one: Channel | str, times: Array | None) -> float:
    """By how many samples a channel's own smoothing is late."""
    if isinstance(one, str) or one.smooth is None:
        return 0.0
    interval = None if times is None else _interval(times)
    return one.smooth.settled(interval).lag


def _earlier(values: Array, by: float) -> Array:
    """Values this many samples earlier, between two samples on a straight line; NaN at the end."""
    whole = int(by)
    padded = np.concatenate((values[whole:], np.full(whole + 1, np.nan)))
    part = by - whole
    moved: Array = padded[:-1] if not part else (1 - part) * padded[:-1] + part * padded[1:]
    return moved


def _declared_unit(column: str, channel: Channel) -> str | None:
    try:
        return column_unit(column, channel.unit) or channel.unit
    except UnitError as error:
        raise PairsError(str(error)) from None


def _converted(values: Array, unit: str | None, wanted: str | None) -> Array:
    """Values in the wanted unit."""
    if unit in (wanted, None) or wanted is None:
        return values
    factor, offset = factor_and_offset(unit, wanted)
    return values * factor + offset


#: A number as large is none that anybody measured: 64 bits hold no larger ones.
LARGEST = 2.0**62


class PairsPass(EveryPass):
    """Times and values of some channels or columns of a log, smoothed as `convert` does; NaN for
    what is flagged. Limits say nothing against a value; what a law held or flagged does."""

    def __init__(self, wanted: Sequence[Channel | str]) -> None:
        self.wanted = [replace(w, limits=None) if isinstance(w, Channel) else w for w in wanted]
        self._channels = ChannelsPass([one for one in self.wanted if isinstance(one, Channel)])
        self._parts: list[list[Array]] = [[] for _ in wanted]
        self._times: list[Array] = []
        self._clock = LogClock()

    def begin(self, reader: LogReader) -> Iterable[int]:
        """The positions of the columns."""
        self._columns = {one: _index(reader, one) for one in self.wanted if isinstance(one, str)}
        self.integers = [*self._channels.begin(reader), *self._columns.values()]
        return self.integers

    def add(self, batch: SampleBatch) -> None:
        """The next rows."""
        self._times.append(batch.times)
        self._clock = batch.clock
        readings = iter(self._channels.readings(batch))
        for part, one in zip(self._parts, self.wanted, strict=True):
            if isinstance(one, Channel):
                reading = next(readings)
                part.append(np.where(reading.flags == 0, reading.value, np.nan))
                continue
            found = batch.samples(self._columns[one])
            values = found.counts.astype(np.float64)
            values[np.abs(values) >= LARGEST] = np.nan
            if found.missing is not None:
                values[found.missing] = np.nan
            part.append(values)

    def found(self) -> _Read:
        """What the log had."""
        at = np.concatenate(self._times) if self._clock.is_known else None
        return _Read(at, [np.concatenate(part) for part in self._parts], self._clock.label)


def _read(
    log: Log,
    wanted: Sequence[Channel | str],
    form: LogFormat | None,
    progress: Progress | None,
) -> _Read:
    one = PairsPass(wanted)
    walk(log, one, form=form, wanted=columns_read(wanted), progress=progress)
    return one.found()


def _index(reader: LogReader, one: str) -> int:
    names = [name.strip() for name in reader.columns]
    if one not in names:
        raise LogError(
            f"{reader.name}: expected a channel or column, found {one!r}: {nearest(one, names)}"
        )
    return names.index(one)


def compare_pairs(
    bench: Bench,
    channel: Channel,
    other: str,
    pairs: Pairs,
    *,
    within: float | None = None,
    u_common: Any = 0.0,
) -> Comparison:
    """Compare a channel with another one, or with a column of the log, by their pairs."""
    found = compare(
        pairs.a,
        pairs.b,
        unit=channel.unit,
        within=within,
        resolution=relevant_difference(channel, pairs.a),
        interval=pairs.interval,
        missing=pairs.missing,
        u_common=u_common,
        names=(channel.name, other),
    )
    notes = list(found.notes)
    for name, count in zip((channel.name, other), pairs.left_out, strict=True):
        if count:
            notes.append(f"{many(count, 'sample')} of {name} excluded: missing or flagged")
    if other not in bench and pairs.unit_of_other != channel.unit:
        notes.append(f"{other} is in {symbol(pairs.unit_of_other)} and was converted")
    smoothed = [c.name for c in (channel, bench.every_channel.get(other)) if c and c.smooth]
    if smoothed:
        names = " and ".join(smoothed)
        notes.append(f"{names} smoothed as the bench says; its lag is compensated")
    both = [(channel, float(np.mean(pairs.a)))] if pairs.a.size else []
    if other in bench and pairs.b.size:
        both.append((bench[other], float(np.mean(pairs.b))))
    if both and (note := bias_note(found.bias, tolerated(both, channel.unit), channel.unit)):
        notes.append(note)
    if pairs.in_time:
        notes.append("paired in time, interpolated linearly between two samples")
    return dataclasses.replace(found, notes=tuple(notes))


#: Of a longer log only this many are kept: eight megabytes.
MOST = 1 << 20


@dataclass(frozen=True, eq=False)
class RawReadings:
    """values: raw values in the channel's own raw unit, those without a value left out.
    interval: seconds between two, None without times. rows: that were read."""

    values: Array
    interval: float | None
    rows: int


class RawPass(EveryPass):
    """The first readings of a channel in a log."""

    def __init__(self, channel: Channel) -> None:
        self.channel, self.rows = channel, 0
        self._parts: list[Array] = []
        self._interval: float | None = None

    def begin(self, reader: LogReader) -> Iterable[int]:
        """The position of its column."""
        self._reader = reader
        self._index = reader.position(self.channel.column)
        self.integers = [self._index]
        return self.integers

    def add(self, batch: SampleBatch) -> None:
        """The next rows."""
        found = batch.samples(self._index)
        reading = read_flagged(self.channel, found.counts, found.missing)
        values = np.asarray(found.counts, dtype=np.float64)
        self._parts.append(values[np.isfinite(reading.value)])
        self._interval = self._interval if self.rows else batch.interval
        self.rows += len(batch)
        self.done = self.rows >= MOST

    def found(self) -> RawReadings:
        """Its readings. Raises `LogError` where the log has none."""
        values = np.concatenate(self._parts)
        if not values.size:
            raise self._reader.nothing_read([self.channel.column])
        return RawReadings(values, self._interval, self.rows)


def read_raw(
    log: Log,
    channel: Channel,
    *,
    form: LogFormat | None = None,
    progress: Progress | None = None,
) -> RawReadings:
    """Return the first readings of a channel. Raises `LogError`."""
    one = RawPass(channel)
    walk(log, one, form=form, wanted=[channel.column], progress=progress)
    return one.found()


@dataclass
class Series:
    """One channel over a whole log."""

    channel: Channel
    raw: Envelope = field(default_factory=Envelope)
    value: Envelope = field(default_factory=Envelope)
    at: Array = field(default_factory=lambda: np.empty(0))
    """Time in seconds (or, without a time column, sample number) of each stretch."""
    time_name: str = "sample"


class SeriesPass(ChannelsPass):
    """Channels of a log as envelopes, in constant memory."""

    def __init__(self, channels: Sequence[Channel]) -> None:
        super().__init__(channels)
        self._series = [Series(channel) for channel in channels]
        self._times = Envelope()

    def begin(self, reader: LogReader) -> Iterable[int]:
        """The positions of their columns."""
        self._reader = reader
        return super().begin(reader)

    def add(self, batch: SampleBatch) -> None:
        """The next rows."""
        self._times.add(batch.times)
        self._name = batch.clock.label
        for one, reading in zip(self._series, self.readings(batch), strict=True):
            one.value.add(reading.value, reading.flags)
            if one.channel.sources:
                continue  # it has no raw values of its own
            found = batch.samples(self.index[one.channel.name])
            raw = found.counts.astype(np.float64)
            if found.missing is not None:
                raw[found.missing] = np.nan
            one.raw.add(raw, read_flagged(one.channel, found.counts, found.missing).flags)

    def found(self) -> list[Series]:
        """A series a channel. Raises `LogError` where the log has no number for them."""
        seen = [one.value if one.channel.sources else one.raw for one in self._series]
        if all(np.isnan(one.finished().low).all() for one in seen):
            raise self._reader.nothing_read(columns_read(self.channels))
        at = self._times.finished().low
        for one in self._series:
            one.value.finished()
            one.at, one.time_name = at, self._name
        return self._series


def read_series(
    log: Log,
    channels: Sequence[Channel],
    *,
    form: LogFormat | None = None,
    progress: Progress | None = None,
) -> list[Series]:
    """Read a log once, in constant memory. Raises `LogError`."""
    one = SeriesPass(channels)
    walk(log, one, form=form, wanted=columns_read(channels), progress=progress)
    return one.found()
