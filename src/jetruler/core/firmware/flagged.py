"""Flags and thresholds of a channel in counts: a chip compares whole numbers, and no more."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..arrays import Truths
from ..model.channel import Bench, Channel
from ..model.reading import Flag
from ..model.text import number
from ..model.units import symbol
from .forms import STEPS, compared
from .program import Program
from .selection import ExportError
from .wanted import ExactValues


def flags_program(w: ExactValues, name: str) -> Program:
    """The flags of every count, by comparisons where there are few changes."""
    edges = np.flatnonzero(np.diff(w.flags)) + 1
    off = f"if n < {w.counts[0]} or n > {w.counts[-1]}:\n    return {int(Flag.OFF_SCALE)}"
    if edges.size > 2 * STEPS:
        start = int(w.counts[0])
        body = [
            off,
            f"return {name}_flags_of[n - {start}]" if start else f"return {name}_flags_of[n]",
        ]
        tables = {f"{name}_flags_of": tuple(w.flags.tolist())}
        return Program(f"{name}_flags", "\n".join(body), tables)
    outputs = [int(w.flags[i]) for i in (0, *edges.tolist())]
    return Program(f"{name}_flags", "\n".join([off, *compared(w.counts[edges], outputs)]))


@dataclass(frozen=True)
class Threshold:
    """A threshold in counts. on: from this count on (`rising`), or down to it, the value is at or
    above the threshold. off: where it is released."""

    program: Program
    on: int
    off: int
    rising: bool
    about: str


def threshold(
    bench: Bench, channel: Channel, name: str, value: float, release: float | None
) -> Threshold:
    """The counts of a threshold. release: that of the bench's trip with this threshold, or the
    threshold itself, if left out. Raises `ExportError`."""
    release = _release(bench, channel, value) if release is None else release
    if release > value:
        raise ExportError(
            f"{channel.name}: the release point {number(release)} is above {number(value)}"
        )
    w = ExactValues.of(channel, 1, 1.0)
    valid = w.valid
    values = w.values[valid]
    on, off = values >= value, values < release
    rising = bool(values[-1] > values[0])
    if not on.any() or on.all():
        low, high = channel.shown(float(values.min())), channel.shown(float(values.max()))
        shown = f"{number(value)} {symbol(channel.unit)}".rstrip()
        raise ExportError(f"{channel.name}: no count passes {shown}; it reads from {low} to {high}")
    if not (_one_end(on, rising) and _one_end(off, not rising)):
        raise ExportError(f"{channel.name}: it turns back, so no single count stands for {value}")
    edge = int(w.counts[valid[np.argmax(on) if rising else np.flatnonzero(on)[-1]]])
    if not off.any():
        back = edge - 1 if rising else edge + 1
    else:
        back = int(w.counts[valid[np.flatnonzero(off)[-1] if rising else np.argmax(off)]])
    text = number(value).replace("−", "minus_").replace(".", "_")
    title = f"{name}_from_{text}"
    low, high = w.counts[valid[0]], w.counts[valid[-1]]
    sides = (">=", "<=") if rising else ("<=", ">=")
    body = [
        f"if n < {low} or n > {high}:\n    return was",
        f"if n {sides[0]} {edge}:\n    return 1",
        f"if n {sides[1]} {back}:\n    return 0",
        "return was",
    ]
    unit = symbol(channel.unit)
    about = (
        f"1 from {number(value)} {unit} (count {edge}) on, 0 below {number(release)} {unit} (count "
        f"{back}), else as it was"
    )
    return Threshold(Program(title, "\n".join(body)), edge, back, rising, about)


def _one_end(which: Truths, last: bool) -> bool:
    """Whether it holds from some place to one end, and nowhere else."""
    changes = int(np.count_nonzero(which[1:] != which[:-1]))
    return not which.any() or (changes <= 1 and bool(which[-1 if last else 0]))


def _release(bench: Bench, channel: Channel, value: float) -> float:
    for trip in bench.trips.values():
        for c in trip.conditions:
            if c.channel == channel.name and c.above == value and c.release is not None:
                return c.release
    return value
