"""All machines of a bench: its smoothing, holding zones, trips and drives, and what has no form."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ..decide.decisions import looked_at
from ..decide.smoothing import Smoothing
from ..model.channel import Bench
from .drive_machine import drive_machine
from .machine import Machine
from .selection import Exported
from .smooth_machine import smooth_machine, zone_machine
from .trip_machine import trip_machine


@dataclass(frozen=True)
class Machines:
    """All of them, and what could not be taken along."""

    machines: tuple[Machine, ...]
    notes: tuple[str, ...]


def machines_of(bench: Bench, exported: Sequence[Exported], interval: float | None) -> Machines:
    """What firmware needs to behave as the live view does; what cannot is left out, and said, with
    all that depends on it. interval: seconds between samples, for smoothing over a time."""
    done = {e.channel.name: e for e in exported}
    found: list[Machine] = []
    notes: list[str] = []
    for name, e in list(done.items()):
        made = _smoothing(e, e.channel.smooth, interval)
        if isinstance(made, str):
            notes.append(f"{name}: {made}")
            del done[name]
            continue
        zones = zone_machine(e)
        found += [m for m in (made, zones) if m is not None]
    known = set()
    for trip in bench.trips.values():
        missing = [c for c in trip.channels if c not in done]
        machine = _left_out(missing) if missing else trip_machine(trip, done)
        if isinstance(machine, str):
            notes.append(f"trip {trip.name}: {machine}")
        else:
            found.append(machine)
            known.add(trip.name)
    for drive in bench.drives.values():
        needed = [drive.source, *drive.safe_when, *looked_at(drive, bench)]
        missing = [name for name in dict.fromkeys(needed) if name not in done and name not in known]
        machine = _left_out(missing) if missing else drive_machine(drive, bench, done)
        if isinstance(machine, str):
            notes.append(f"drive {drive.name}: {machine}")
        else:
            found.append(machine)
    return Machines(tuple(found), tuple(notes))


def holding_of(exported: Sequence[Exported]) -> Machines:
    """The zones that hold among channels that are exported without the rest of their bench."""
    found = [m for e in exported if (m := zone_machine(e)) is not None]
    smoothed = [e.channel.name for e in exported if e.channel.smooth is not None]
    return Machines(
        tuple(found), tuple(f"{n}: its smoothing, which --all brings" for n in smoothed)
    )


def _left_out(missing: Sequence[str]) -> str:
    return f"{', '.join(missing)}, on which it depends, could not be taken along"


def _smoothing(
    e: Exported, smooth: Smoothing | None, interval: float | None
) -> Machine | str | None:
    if smooth is None:
        return None
    if isinstance(smooth.over, str):
        if interval is None:
            return f"smoothing over {smooth.over} needs --interval"
        smooth = smooth.settled(interval)
    return smooth_machine(e, smooth)
