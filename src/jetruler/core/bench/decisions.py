"""A bench at work, batch by batch: its channels smoothed and with zones that do not flicker, its
trips and drives."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np

from ..numerics import AnyArray, Array, Truths
from ..result import refuses_fields
from ..ruler.quantity import seconds
from ..ruler.reading import Flag, Reading
from .bench import Bench
from .clock import Clock
from .conditions import CLOCK, faults_of
from .driver import Driver
from .drives import Drive
from .modes import places
from .trips import TripEvent, Tripper, events


@dataclass(frozen=True)
class Decided:
    """What was decided at each sample of a batch.

    Attributes
    ----------
    times : array of float64
        Times in s, never decreasing.
    trips : dict[str, Truths]
        Whether each trip is on, by name.
    drives : dict[str, Array]
        Commands.
    safe : dict[str, Truths]
        Where a drive's command is its safe value.
    events : list[TripEvent]
        Where trips turned on or off, in order of time.
    clock_faults : Truths
        Where the source's clock was invalid: it stops, jumps, or cannot be read.

    Examples
    --------
    >>> import jetruler as jr
    >>> import numpy as np
    >>> knob = jr.Channel("knob", jr.Counts(12) >> jr.Line(1), "k")
    >>> trip = jr.Trip("high", (jr.Condition("knob", above=5),))
    >>> bench = jr.Bench("Desk", {"knob": knob}, {"high": trip})
    >>> readings = {"knob": knob.read(np.array([1, 9]))}
    >>> decided = jr.Decisions(bench).add(np.arange(2.0), readings)
    >>> [event.trip.name for event in decided.events]
    ['high']
    """

    times: Array
    """Times in s, never decreasing."""
    trips: dict[str, Truths]
    """Whether each trip is on, by name."""
    drives: dict[str, Array]
    """Commands."""
    safe: dict[str, Truths]
    """Where a drive's command is its safe value."""
    events: list[TripEvent]
    """Where trips turned on or off, in order of time."""
    clock_faults: Truths
    """Where the source's clock was invalid: it stops, jumps, or cannot be read."""


def looked_at(drive: Drive, bench: Bench) -> tuple[str, ...]:
    """The channels whose flags make a drive safe: what it follows, or what its trip does."""
    if drive.source in bench.trips:
        return tuple(bench.trips[drive.source].measured)
    return (drive.source,)


@refuses_fields
class Decisions:
    """The trips and drives of a bench: readings in, decisions out. State carries across.

    Parameters
    ----------
    bench : Bench
        The bench whose trips and drives decide.

    Examples
    --------
    >>> import jetruler as jr
    >>> import numpy as np
    >>> knob = jr.Channel("knob", jr.Counts(12) >> jr.Line(1), "k")
    >>> trip = jr.Trip("high", (jr.Condition("knob", above=5),))
    >>> bench = jr.Bench("Desk", {"knob": knob}, {"high": trip})
    >>> readings = {"knob": knob.read(np.array([1, 9, 9]))}
    >>> decided = jr.Decisions(bench).add(np.arange(3.0), readings)
    >>> decided.trips["high"].tolist()
    [False, True, True]
    """

    def __init__(self, bench: Bench) -> None:
        self.bench = bench
        self.trippers = {
            name: Tripper(trip, bench.every_channel) for name, trip in bench.trips.items()
        }
        self.drivers = {name: Driver(drive) for name, drive in bench.drives.items()}
        self.clock = Clock()

    def add(
        self,
        times: AnyArray | list[float],
        readings: Mapping[str, Reading],
        stale: Collection[str] = (),
        by_hand: Mapping[str, float] | None = None,
        arrivals: AnyArray | list[float] | None = None,
        modes: Mapping[str, str] | None = None,
    ) -> Decided:
        """Decide on a batch. times: s. readings: of the channels, arrays of the same length.
        arrivals: when each sample came, in s, where that is known.
        stale: drives that have not heard of their channel for too long, or whose gate is off; they
        go to safe. by_hand: commands that somebody wants, by drive; modes: those that somebody
        chose."""
        clock, restarts = self.clock.add(times, arrivals)
        faults = self.clock.faults
        trips, found = {}, []
        for name, tripper in self.trippers.items():
            was_on = tripper.on
            trips[name] = self._tripped(tripper, clock, restarts, readings, faults)
            found += events(tripper.trip, was_on, trips[name])
        drives, safe = {}, {}
        for name, driver in self.drivers.items():
            wanted = None if by_hand is None else by_hand.get(name)
            values, unsafe = self._source(driver.drive, readings, trips)
            if wanted is not None:  # it follows the hand: of what makes it safe, the trips are left
                unsafe = np.zeros_like(unsafe)
                for trip in driver.drive.safe_when:
                    unsafe = unsafe | trips[trip]
            if CLOCK in driver.drive.safe_flags:
                unsafe = unsafe | faults
            if name in stale:
                unsafe = np.ones_like(unsafe)
            if not driver.drive.modes:
                drives[name], safe[name] = driver.add(clock, values, unsafe, wanted)
                continue
            chosen = None if modes is None else modes.get(name)
            at = places(driver.drive.modes, trips, chosen, clock.size)
            drives[name], safe[name] = driver.add_in_modes(clock, values, unsafe, wanted, at)
        ordered = sorted(found, key=lambda event: event.sample)
        return Decided(clock, trips, drives, safe, ordered, clock_faults=faults)

    @staticmethod
    def _tripped(
        tripper: Tripper,
        clock: Array,
        restarts: Truths,
        readings: Mapping[str, Reading],
        faults: Truths,
    ) -> Truths:
        """A trip over a batch; where time restarts, so does what it counts."""
        if not restarts.any():
            return tripper.add(clock, readings, faults)
        on = []
        bounds = [0, *np.flatnonzero(restarts).tolist(), clock.size]
        for first, end in pairwise(bounds):
            part = slice(first, end)
            if first < clock.size and restarts[first]:
                tripper.restart()
            seen = {
                name: replace(readings[name], value=reading.value[part], flags=reading.flags[part])
                for name, reading in readings.items()
            }
            on.append(tripper.add(clock[part], seen, faults[part]))
        return np.concatenate(on)

    def silent(self, seconds: float) -> Decided:
        """Decide while nothing comes: all channels are missing. seconds: since the last
        decision."""
        missing = Reading(np.full(1, np.nan), np.full(1, np.uint8(Flag.MISSING)))
        now, arrived = self.clock.later(seconds)
        readings = dict.fromkeys(self.bench, missing)
        return self.add([now], readings, stale=self.drivers, arrivals=arrived)

    def taken_over(self, bench: Bench) -> Decisions:
        """The decisions of a bench that was changed: what it left as it was goes on as it was, and
        a drive that was changed starts from where it is."""
        new = Decisions(bench)
        new.clock = self.clock
        for name, tripper in self.trippers.items():
            if bench.trips.get(name) == tripper.trip:
                new.trippers[name] = tripper
        standing = {driver.drive.output: driver for driver in self.drivers.values()}
        for name, driver in new.drivers.items():
            before = standing.get(driver.drive.output)
            if before is not None and before.drive == driver.drive:
                new.drivers[name] = before
            elif before is not None:
                driver.start_at(before.command)
        return new

    def _source(
        self, drive: Drive, readings: Mapping[str, Reading], trips: Mapping[str, Truths]
    ) -> tuple[Array, Truths]:
        """What a drive follows, and where it must not."""
        if drive.source in readings:
            reading = readings[drive.source]
            values, flagged = reading.value, self._is_flagged(drive, drive.source, reading)
        else:
            on = trips[drive.source]
            values, flagged = on.astype(np.float64), np.zeros(on.size, np.bool_)
            for channel in looked_at(drive, self.bench):
                flagged = flagged | self._is_flagged(drive, channel, readings[channel])
        for name in drive.safe_when:
            flagged = flagged | trips[name]
        return values, flagged

    def _is_flagged(self, drive: Drive, name: str, reading: Reading) -> Truths:
        """Where a channel has a flag that makes a drive safe."""
        mask = faults_of(drive.safe_flags, self.bench[name])
        flagged: Truths = (reading.flags & np.uint8(mask)) != 0
        return flagged


def timed_parts(bench: Bench, drives: bool = True) -> list[str]:
    """The keys of trips and drives that ask for times, as a bench file has them."""
    found = []
    for name, trip in bench.trips.items():
        keys = [key for key in ("hold", "stay") if seconds(getattr(trip, key)) > 0]
        keys += [key for c in trip.conditions for key in _CHANGES if getattr(c, key) is not None]
        found += [f"trip.{name}.{key}" for key in dict.fromkeys(keys)]
    for name, drive in bench.drives.items() if drives else ():
        found += [f"drive.{name}.slew"] if drive.slew is not None else []
    return found


_CHANGES = ("rises_by", "falls_by", "changes_by")


def without_clock(parts: Sequence[str]) -> str:
    """What is wrong with a log without a clock, and what helps."""
    named = " and ".join(parts)
    return (
        f"no clock, which {named} ask{'s' * (len(parts) == 1)} for; name its time column with "
        "--time, or the time between two samples with --interval"
    )


def without_times(bench: Bench) -> Bench:
    """The bench without the trips and drives that ask for times."""
    asking = {tuple(part.split(".")[:2]) for part in timed_parts(bench)}
    trips = {name: trip for name, trip in bench.trips.items() if ("trip", name) not in asking}
    known = {*bench, *trips}
    drives = {
        name: drive
        for name, drive in bench.drives.items()
        if ("drive", name) not in asking and {drive.source, *drive.safe_when} <= known
    }
    return replace(bench, trips=trips, drives=drives)
