"""Smoothing, trips and drives as text: structs and functions in C, classes in Python."""

from __future__ import annotations

from collections.abc import Sequence

from ..core.firmware.machine import Machines, machines_of
from ..core.firmware.selection import Exported
from ..core.model.channel import Bench
from . import machines_c, machines_python


def machines(
    bench: Bench, exported: Sequence[Exported], target: str, interval: float | None
) -> tuple[list[str], tuple[str, ...]]:
    """The text of each machine, and notes on what could not be taken along."""
    found: Machines = machines_of(bench, exported, interval)
    if target == "st":
        many = len(found.smoothed) + len(found.trips) + len(found.drives)
        note = ("smoothing, trips and drives are written for C and Python only",) if many else ()
        return [], note
    room = machines_c if target == "c" else machines_python
    texts = [room.smoothing(s) for s in found.smoothed]
    texts += [room.trip(t) for t in found.trips]
    texts += [room.drive(d) for d in found.drives]
    return texts, found.notes
