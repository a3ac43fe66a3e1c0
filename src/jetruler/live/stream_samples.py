"""A stream from Python: readings, trips and commands, sample by sample, as they come."""

from __future__ import annotations

import warnings
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import Any

from ..core.model.channel import Bench
from ..core.model.log_format import LogFormat
from ..core.model.reading import Flag
from .parts import parts_for
from .session import Session
from .station import LiveBatch


@dataclass(frozen=True)
class LiveSample:
    """One line of a stream, read and decided on.

    Attributes
    ----------
    time : str
        As the source says it, or seconds since the start; the sample's number in a log without a
        clock.
    values : dict[str, float]
        By channel; NaN where there is none.
    flags : dict[str, Flag]
        By channel.
    trips : dict[str, bool]
        On or off, by trip.
    commands : dict[str, float]
        What each drive would be sent; nothing is sent.
    turned : tuple[str, ...]
        The trips that turned on or off with this sample.
    by_hand : dict[str, str]
        Drives that are "held", "fed" from elsewhere or "gate_off", as `jr.Live` does it.

    Examples
    --------
    >>> import jetruler as jr
    >>> knob = jr.Bench("Desk", [jr.Channel("knob", jr.Counts(12) >> jr.Line(0.1), 1)])
    >>> next(jr.stream(["5000"], knob)).flags["knob"].name
    'OFF_SCALE'
    """

    time: str
    values: dict[str, float]
    flags: dict[str, Flag]
    trips: dict[str, bool]
    commands: dict[str, float]
    turned: tuple[str, ...] = ()
    by_hand: dict[str, str] = field(default_factory=dict)


def stream(
    source: str | Iterable[str],
    bench: Bench,
    *,
    form: LogFormat | None = None,
    follow: bool = False,
    duration: float | None = None,
) -> Iterator[LiveSample]:
    """Read a stream of raw values, sample by sample, as they come.

    Smoothing, zones, trips and drives remember, as in `jetruler live`; no command is sent.

    Parameters
    ----------
    source : str | Iterable[str]
        As for the tool: a file, a port, `socket://…`, "-" for standard input, "demo"; or anything
        that yields lines.
    bench : Bench
        Whose channels are read.
    form : LogFormat, optional
        How its lines are written; as the bench says, and found out, if left out.
    follow : bool, default False
        Whether to wait at a file's end for more.
    duration : float, optional
        Seconds after which it stops; when the source ends if left out.

    Yields
    ------
    LiveSample
        One for each line that is a sample.

    Raises
    ------
    JetRulerError
        For a source that cannot be opened, or lines that do not fit the bench.

    Notes
    -----
    At the end a warning tells how many lines were no samples, and why.

    Examples
    --------
    >>> import jetruler as jr
    >>> bench = jr.load_bench("bench.toml")
    >>> next(sample.time for sample in jr.stream("roast.csv", bench) if sample.turned)
    '44.0'
    >>> knob = jr.Bench("Desk", [jr.Channel("knob", jr.Counts(12) >> jr.Line(0.1), 1)])
    >>> [sample.values["knob"] for sample in jr.stream(["100", "200"], knob)]
    [10.0, 20.0]
    """
    parts = parts_for(source, bench, form, follow=follow)
    session = Session(parts)
    for batch in session.batches(duration):
        yield from samples_of(batch)
    if session.skipped:
        warnings.warn(f"{parts.source.name}: {session.skipped}", stacklevel=2)


def samples_of(batch: LiveBatch) -> Iterator[LiveSample]:
    """A batch, sample by sample."""
    values = {name: reading.value.tolist() for name, reading in batch.readings.items()}
    flags = {name: reading.flags.tolist() for name, reading in batch.readings.items()}
    trips = {name: on.tolist() for name, on in batch.decided.trips.items()}
    commands = {name: each.tolist() for name, each in batch.decided.drives.items()}
    turned: dict[int, list[str]] = {}
    for event in batch.decided.events:
        turned.setdefault(event.sample, []).append(event.trip.name)

    def at(i: int, table: dict[str, list[Any]]) -> dict[str, Any]:
        return {name: column[i] for name, column in table.items()}

    for i, time in enumerate(batch.times.to_pylist()):
        yield LiveSample(
            time,
            values=at(i, values),
            flags={name: Flag(flag) for name, flag in at(i, flags).items()},
            trips=at(i, trips),
            commands=at(i, commands),
            turned=tuple(turned.get(i, ())),
            by_hand=batch.by_hand,
        )
