"""A channel of a log beside another one, or beside a reference column: values in pairs."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ..core.arrays import Array, steps_of
from ..core.calibrate.series import PairsError, aligned
from ..core.error_types import UnitError
from ..core.model.channel import Channel
from ..core.model.column_unit import column_unit
from ..core.model.log_format import LogFormat
from ..core.model.result import Result
from ..core.model.text import nearest
from ..core.model.unit_registry import factor_and_offset
from ..samples.batches import Progress, SampleBatch
from ..samples.passes import ChannelsPass, EveryPass, walk
from ..samples.reader import LogReader
from ..samples.source import Log, LogError, name_of
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
        The unit that the other one's values stood in.

    Examples
    --------
    >>> import jetruler as jr
    >>> bench = jr.load_bench("bench.toml")
    >>> pairs = jr.read_pairs("rest.csv", bench["bean"], bench["bean2"])
    >>> print(pairs)
    600 pairs; left out 0 and 0 flagged samples
    """

    at: Array
    a: Array
    b: Array
    left_out: tuple[int, int]
    missing: int
    interval: float
    in_time: bool
    time_name: str
    unit_of_other: str | None

    @property
    def headline(self) -> str:
        flagged, flagged_too = self.left_out
        return f"{self.a.size} pairs; left out {flagged} and {flagged_too} flagged samples"

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        return {self.time_name: self.at.tolist(), "a": self.a.tolist(), "b": self.b.tolist()}


@dataclass(frozen=True, eq=False)
class _Read:
    at: Array | None
    values: list[Array]
    time_name: str


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
        Where the other one stands, if elsewhere; the two are then paired by time.
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
            f"{name_of(other_log)}: two logs are paired by time, and one has no time column"
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
            raise LogError(f"{one.name} reads zones; values are wanted to compare")
    at, at_b = read.at, (second or read).at
    a, b = read.values[0], (second or read).values[-1]
    own = other.unit if isinstance(other, Channel) else unit or _said(other, channel)
    b = _converted(b, own, channel.unit)
    left_out = (int(np.isnan(a).sum()), int(np.isnan(b).sum()))
    missing = 0
    in_time = second is not None
    if not in_time:
        both = ~np.isnan(a) & ~np.isnan(b)
        sparser = min(a.size - left_out[0], b.size - left_out[1])
        in_time = bool(2 * np.count_nonzero(both) < sparser) and at is not None
    if in_time and at is not None and at_b is not None:
        times, a, b = aligned(at, a, at_b, b)
    else:
        missing = int(np.count_nonzero(np.isnan(a) & ~np.isnan(b)))
        times = np.arange(a.size, dtype=np.float64) if at is None else at
        times, a, b = times[both], a[both], b[both]
    steps = steps_of(times) if at is not None else np.empty(0)
    interval = float(np.median(steps)) if steps.size else float("nan")
    return Pairs(
        times,
        a,
        b=b,
        left_out=left_out,
        missing=missing,
        interval=interval,
        in_time=in_time,
        time_name=read.time_name,
        unit_of_other=own,
    )


def _said(column: str, channel: Channel) -> str | None:
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
        self._channels.begin(reader)
        self._places = [_place(reader, one) for one in self.wanted]
        self.integers = self._places
        return self._places

    def add(self, batch: SampleBatch) -> None:
        """The next rows."""
        self._times.append(batch.times)
        self._clock = batch.clock
        readings = iter(self._channels.readings(batch))
        for part, one, place in zip(self._parts, self.wanted, self._places, strict=True):
            if isinstance(one, Channel):
                reading = next(readings)
                part.append(np.where(reading.flags == 0, reading.value, np.nan))
                continue
            found = batch.samples(place)
            values = found.counts.astype(np.float64)
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
    asked = [w.column if isinstance(w, Channel) else w for w in wanted]
    walk(log, one, form=form, wanted=asked, progress=progress)
    return one.found()


def _place(reader: LogReader, one: Channel | str) -> int:
    if isinstance(one, Channel):
        return reader.position(one.column)
    names = [name.strip() for name in reader.columns]
    if one not in names:
        raise LogError(f"{reader.name}: no channel or column {one!r}; {nearest(one, names)}")
    return names.index(one)
