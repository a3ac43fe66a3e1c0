"""The memory of a bench in whole numbers: what its smoothing, trips and drives are made of.

Values are a channel's scaled whole numbers, times are milliseconds. The same parameters serve
every target.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

from ..decide.conditions import Condition, faults_of
from ..decide.drives import Drive
from ..decide.trips import Trip
from ..model.channel import Bench
from ..model.quantity import seconds
from .names import safe_name
from .selection import Exported

#: Samples that a window of changes remembers at most.
WINDOW = 64
#: The largest intermediate of a drive.
LIMIT = 2**31 - 1


@dataclass(frozen=True)
class Smoothed:
    """A channel whose counts are smoothed before they are converted."""

    name: str
    kind: str
    samples: int
    arith: str


@dataclass(frozen=True)
class Tested:
    """One condition in whole numbers. kind: "above", "below", "moves", "flagged". on, off: the
    values where it begins and ends. up, down: the amounts of a change, None for none. window:
    milliseconds. mask: flags."""

    channel: str
    kind: str
    on: int = 0
    off: int = 0
    up: int | None = None
    down: int | None = None
    window: int = 0
    mask: int = 0


@dataclass(frozen=True)
class Tripping:
    """A trip in whole numbers: hold and stay in milliseconds."""

    trip: Trip
    name: str
    tested: tuple[Tested, ...]
    channels: tuple[str, ...]
    hold: int
    stay: int


@dataclass(frozen=True)
class Driving:
    """A drive in whole numbers. fraction: the parts of a command that it computes in. x, y: its
    marks, y in those parts. slew: parts a second, 0 for no limit."""

    drive: Drive
    name: str
    x: tuple[int, ...]
    y: tuple[int, ...]
    fraction: int
    slew: int
    dead: int
    mask: int
    source: str
    """Name of the channel that it follows; empty for a trip."""


@dataclass(frozen=True)
class Machines:
    """All of them, and what could not be taken along."""

    smoothed: tuple[Smoothed, ...]
    trips: tuple[Tripping, ...]
    drives: tuple[Driving, ...]
    notes: tuple[str, ...]


def machines_of(bench: Bench, exported: Sequence[Exported], interval: float | None) -> Machines:
    """What firmware needs to behave as the live view does. interval: seconds between samples, for
    smoothing over a time."""
    done = {e.channel.name: e for e in exported if e.program.arith != "float"}
    notes: list[str] = []
    smoothed = list(_smoothed(done, interval, notes))
    trips = []
    for trip in bench.trips.values():
        if set(trip.channels) <= set(done):
            trips.append(_trip(trip, done))
        else:
            notes.append(
                f"trip {trip.name}: it looks at a channel that is not exported as integers"
            )
    known = {t.trip.name for t in trips}
    drives = []
    for drive in bench.drives.values():
        if drive.source not in known and drive.source not in done:
            notes.append(f"drive {drive.name}: what it follows is not exported as integers")
        elif not drive.whole:
            notes.append(f"drive {drive.name}: its commands are no whole numbers")
        else:
            e = None if drive.source in known else done[drive.source]
            made = _drive(drive, 1, None) if e is None else _drive(drive, e.wanted.scale, e)
            drives += [made] if made is not None else []
            notes += [] if made is not None else [f"drive {drive.name}: too wide for int32"]
    return Machines(tuple(smoothed), tuple(trips), tuple(drives), tuple(notes))


def _smoothed(
    done: Mapping[str, Exported], interval: float | None, notes: list[str]
) -> Iterator[Smoothed]:
    for name, e in done.items():
        smooth = e.channel.smooth
        if smooth is None:
            continue
        if isinstance(smooth.over, str):
            if interval is None:
                notes.append(f"{name}: smoothing over {smooth.over} needs --interval")
                continue
            smooth = smooth.settled(interval)
        if smooth.kind == "spikes" or smooth.blocks or smooth.where == "values":
            notes.append(f"{name}: this smoothing has no firmware form")
        elif smooth.samples > 255:
            notes.append(f"{name}: smoothing over {smooth.samples} samples, more than 255")
        else:
            yield Smoothed(e.name, smooth.kind, smooth.samples, e.program.arith)


def _trip(trip: Trip, done: Mapping[str, Exported]) -> Tripping:
    tested = tuple(_tested(c, done[c.channel]) for c in trip.conditions)
    channels = tuple(done[c].name for c in trip.channels)
    hold, stay = (round(1000 * seconds(t)) for t in (trip.hold, trip.stay))
    return Tripping(
        trip, safe_name(trip.name), tested=tested, channels=channels, hold=hold, stay=stay
    )


def _tested(c: Condition, e: Exported) -> Tested:
    scale = e.wanted.scale

    def up(value: float) -> int:
        return math.ceil(value * scale - 1e-9)

    if c.above is not None:
        release = c.above if c.release is None else c.release
        return Tested(e.name, "above", up(c.above), up(release))
    if c.below is not None:
        release = c.below if c.release is None else c.release
        return Tested(e.name, "below", up(c.below), up(release))
    if c.flagged is not None:
        return Tested(e.name, "flagged", mask=faults_of(c.flagged, e.channel))
    rises, falls = c.rises_by or c.changes_by, c.falls_by or c.changes_by
    window = round(1000 * seconds(c.within))
    return Tested(
        e.name, "moves", up=None if rises is None else up(rises),
        down=None if falls is None else up(falls), window=window,
    )  # fmt: skip


def _drive(drive: Drive, scale: int, source: Exported | None) -> Driving | None:
    pairs = sorted((round(raw * scale), command) for raw, command in drive.marks)
    spans = [(b[0] - a[0]) * abs(b[1] - a[1]) for a, b in pairwise(pairs)]
    widest = max(*spans, max(abs(c) for c in drive.bounds), (drive.slew or 0.0) * 60, 1.0)
    fraction = next((f for f in (256, 64, 16, 4, 1) if 2 * f * widest < LIMIT), 0)
    if not fraction:
        return None
    return Driving(
        drive,
        safe_name(drive.name),
        x=tuple(raw for raw, _ in pairs),
        y=tuple(round(command * fraction) for _, command in pairs),
        fraction=fraction,
        slew=round((drive.slew or 0.0) * fraction),
        dead=math.floor(drive.dead_band * fraction),
        mask=faults_of(drive.safe_flags, source.channel if source else None),
        source=source.name if source else "",
    )
