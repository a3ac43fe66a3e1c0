"""A channel of a log beside another one, or beside a reference column: values in pairs."""

from __future__ import annotations

from dataclasses import dataclass
from os import PathLike

import numpy as np

from ..core.arrays import Array
from ..core.calibrate.series import aligned
from ..core.decide.channel_reader import read_flagged
from ..core.model.channel import Channel
from ..core.model.stream import Stream
from ..core.model.text import nearest
from ..core.model.unit_registry import factor_and_offset
from .batches import Progress, SampleBatch, sample_batches
from .formats.opening import open_log
from .reader import LogReader
from .source import LogError, LogFormat


@dataclass(frozen=True, eq=False)
class Pairs:
    """Values of two series at the same times, in the first one's unit.

    at: time in seconds, or sample number. left_out: samples of each that had a flag (a rail, a
    clamp, a fault, or nothing there). interval: the usual time between two pairs, NaN without
    time. in_time: whether one of them was interpolated to the other's times.
    """

    at: Array
    a: Array
    b: Array
    left_out: tuple[int, int]
    interval: float
    in_time: bool
    time_name: str


@dataclass(frozen=True, eq=False)
class _Read:
    at: Array | None
    values: list[Array]
    time_name: str


def read_pairs(
    log: str | PathLike[str],
    channel: Channel,
    other: Channel | str,
    *,
    other_log: str | PathLike[str] | None = None,
    unit: str | None = None,
    form: LogFormat | None = None,
    stream: Stream | None = None,
    progress: Progress | None = None,
) -> Pairs:
    """Read a channel and another one (or a column of values, by its name) from a log.

    Unsmoothed, without flagged samples.

    Parameters
    ----------
    log : path
        The log.
    channel : Channel
        The first one.
    other : Channel | str
        The second one: a channel, or a column of values by its name.
    other_log : path, optional
        Where the other one stands, if elsewhere; the two are then paired by time.
    unit : str, optional
        That of the column, if it is not the channel's.
    form : LogFormat, optional
        How the logs are written; found out if None.
    stream : Stream, optional
        The bench's, which may name the time column.
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
        Where no time has both.

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
    for one in (channel, other):
        if isinstance(one, Channel) and one.ruler.label(0.0) is not None:
            raise LogError(f"{one.name} reads zones; values are wanted to compare")
    if other_log is None:
        read = _read(log, [channel, other], form, stream, progress)
        (a, b), at, at_b = read.values, read.at, read.at
    else:
        first, second = (
            _read(path, [one], form, stream, progress)
            for path, one in ((log, channel), (other_log, other))
        )
        read, (a,), (b,), at, at_b = first, first.values, second.values, first.at, second.at
        if at is None or at_b is None:
            raise LogError(f"{other_log}: two logs are paired by time, and one has no time column")
    b = _converted(b, other, channel, unit)
    left_out = (int(np.isnan(a).sum()), int(np.isnan(b).sum()))
    in_time = other_log is not None
    if not in_time:
        both = ~np.isnan(a) & ~np.isnan(b)
        sparser = min(a.size - left_out[0], b.size - left_out[1])
        in_time = bool(2 * np.count_nonzero(both) < sparser) and at is not None
    if in_time and at is not None and at_b is not None:
        times, a, b = aligned(at, a, at_b, b)
    else:
        times = np.arange(a.size, dtype=np.float64) if at is None else at
        times, a, b = times[both], a[both], b[both]
    steps = np.diff(times) if at is not None else np.empty(0)
    interval = float(np.median(steps)) if steps.size else float("nan")
    return Pairs(
        times,
        a,
        b=b,
        left_out=left_out,
        interval=interval,
        in_time=in_time,
        time_name=read.time_name,
    )


def _converted(values: Array, other: Channel | str, channel: Channel, unit: str | None) -> Array:
    """The other's values in the channel's unit."""
    own = other.unit if isinstance(other, Channel) else unit or channel.unit
    if own == channel.unit or own is None or channel.unit is None:
        return values
    factor, offset = factor_and_offset(own, channel.unit)
    return values * factor + offset


def _read(
    log: str | PathLike[str],
    wanted: list[Channel | str],
    form: LogFormat | None,
    stream: Stream | None,
    progress: Progress | None,
) -> _Read:
    """Times and values of some channels or columns; NaN for what is flagged."""
    parts: list[list[Array]] = [[] for _ in wanted]
    times: list[Array] = []
    with open_log(log, form) as reader:
        places = [_place(reader, one) for one in wanted]
        for batch in sample_batches(reader, places, stream=stream, progress=progress):
            times.append(batch.times)
            for part, one, place in zip(parts, wanted, places, strict=True):
                part.append(_values(one, batch, place))
        time_column = batch.time_column
    at = None if time_column is None else np.concatenate(times)
    name = "sample" if time_column is None else time_column.label
    return _Read(at, [np.concatenate(part) for part in parts], name)


def _values(one: Channel | str, batch: SampleBatch, place: int) -> Array:
    """Values of a channel, or of a column as they stand there; NaN for what is flagged."""
    found = batch.samples(place)
    if isinstance(one, Channel):
        reading = read_flagged(one, found.counts, found.missing)
        # Limits say nothing against a value; what a law held or flagged does.
        flags = one.chain.read(found.counts).flags if one.limits else reading.flags
        return np.where((flags == 0) & (reading.flags < 16), reading.value, np.nan)
    values = found.counts.astype(np.float64)
    if found.missing is not None:
        values[found.missing] = np.nan
    return values


def _place(reader: LogReader, one: Channel | str) -> int:
    if isinstance(one, Channel):
        return reader.position(one.column)
    names = [name.strip() for name in reader.columns]
    if one not in names:
        raise LogError(f"{reader.name}: no channel or column {one!r}; {nearest(one, names)}")
    return names.index(one)
