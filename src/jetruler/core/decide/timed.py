"""What in a bench asks for times, and so for a log with a clock."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from ..model.channel import Bench
from ..model.quantity import seconds


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
    known = {*bench.channels, *trips}
    drives = {
        name: drive
        for name, drive in bench.drives.items()
        if ("drive", name) not in asking and {drive.source, *drive.safe_when} <= known
    }
    return replace(bench, trips=trips, drives=drives)
