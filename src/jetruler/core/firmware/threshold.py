"""A threshold in counts: a chip compares whole numbers, and no more."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..arrays import Truths
from ..model.channel import Bench, Channel
from ..model.text import number
from ..model.units import symbol
from .program import Program
from .selection import ExportError
from .wanted import ExactValues


@dataclass(frozen=True)
class Threshold:
    """A threshold in counts. on: from this count on (`rising`), or down to it, it is on. off: the
    count from which it is released."""

    program: Program
    on: int
    off: int
    rising: bool
    about: str


def threshold(
    bench: Bench, channel: Channel, name: str, value: float, release: float | None
) -> Threshold:
    """The counts of a threshold: on from `value` up and off below `release`; or, with a release
    above it, on below `value` and off from `release` up. release: that of the bench's trip with
    this threshold, or the threshold itself, if left out. Raises `ExportError`."""
    below, release = _release(bench, channel, value, release)
    w = ExactValues.of(channel, 1, 1.0)
    values = w.values[w.valid]
    on, off = (values < value, values >= release) if below else (values >= value, values < release)
    unit = symbol(channel.unit)
    low, high = channel.shown(float(values.min())), channel.shown(float(values.max()))
    for which, point, does in ((on, value, "turn on"), (off, release, "turn off")):
        if not which.any():
            shown = f"{number(point)} {unit}".rstrip()
            reads = f"it reads from {low} to {high}"
            raise ExportError(
                f"{channel.name}: no count passes {shown}; {reads}, so it would never {does}"
            )
    # Where counts rise with the values, a threshold from above is reached from below.
    rising = bool(values[-1] > values[0]) != below
    if not (_one_end(on, rising) and _one_end(off, not rising)):
        raise ExportError(f"{channel.name}: it turns back, so no single count stands for {value}")
    counts = w.counts[w.valid]
    edge = int(counts[np.argmax(on) if rising else np.flatnonzero(on)[-1]])
    back = int(counts[np.flatnonzero(off)[-1] if rising else np.argmax(off)])
    side = "below" if below else "from"
    text = number(value).replace("−", "minus_").replace(".", "_")
    sides = (">=", "<=") if rising else ("<=", ">=")
    body = [
        f"if n < {counts[0]} or n > {counts[-1]}:\n    return was",
        f"if n {sides[0]} {edge}:\n    return 1",
        f"if n {sides[1]} {back}:\n    return 0",
        "return was",
    ]
    first, second = ("below", "from") if below else ("from", "below")
    about = (
        f"1 {first} {number(value)} {unit} (count {edge}) on, 0 {second} {number(release)} {unit} "
        f"(count {back}){' on' if below else ''}, else as it was"
    )
    return Threshold(Program(f"{name}_{side}_{text}", "\n".join(body)), edge, back, rising, about)


def _one_end(which: Truths, last: bool) -> bool:
    """Whether it holds from some place to one end, and nowhere else."""
    changes = int(np.count_nonzero(which[1:] != which[:-1]))
    return not which.any() or (changes <= 1 and bool(which[-1 if last else 0]))


def _release(
    bench: Bench, channel: Channel, value: float, release: float | None
) -> tuple[bool, float]:
    """Whether it is on below, and where it is released; from the bench's trip if not said."""
    if release is not None:
        return release > value, release
    for trip in bench.trips.values():
        for c in trip.conditions:
            if c.channel == channel.name and value in (c.above, c.below):
                return c.below is not None, value if c.release is None else c.release
    return False, value
