"""What follows from a count alone, exact by construction: flags, patterns, thresholds."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ..bench.bench import Bench
from ..bench.channel import Channel
from ..bench.conditions import Condition
from ..laws.shape import zones_of
from ..numerics import AnyArray, Truths
from ..ruler.reading import Flag
from ..ruler.ruler import TABLE_BITS
from ..ruler.units import number, symbol
from .exported import Exported, ExportError
from .forms import STEPS, compared, outside
from .program import LARGEST, Program
from .reference import ReferenceValues

#: A decision that leaves things as they are.
AS_IT_WAS = 2


#: What a channel's counts give: whole numbers, one for each.
OutputOf = Callable[[ReferenceValues], AnyArray]


def by_count(w: ReferenceValues, output_of: OutputOf, name: str, beyond: int) -> Program:
    """A whole number for each count: comparisons where there are few changes, else a table.

    beyond: the output for counts that cannot come.
    """
    w = w.refined(output_of)
    return of_counts(w.counts, output_of(w), name, beyond)


def by_number(outputs: AnyArray, name: str) -> Program:
    """A whole number for each of 0, 1, 2, …; 0 for any other."""
    return of_counts(np.arange(outputs.size), outputs, name, 0)


def of_counts(counts: AnyArray, outputs: AnyArray, name: str, beyond: int) -> Program:
    """counts: ascending, with both sides of every change."""
    low, high = int(counts[0]), int(counts[-1])
    arith = counting(low, high)
    head = outside(low, high, arith, beyond)
    edges = np.flatnonzero(np.diff(outputs)) + 1
    if edges.size <= 2 * STEPS:
        each = [int(outputs[i]) for i in (0, *edges.tolist())]
        return Program(name, "\n".join([*head, *compared(counts[edges], each)]), {}, arith)
    if high - low == counts.size - 1:
        place = f"n - {low}" if low > 0 else f"n + {-low}" if low else "n"
        body = [*head, f"return {name}_of[{place}]"]
        return Program(name, "\n".join(body), {f"{name}_of": tuple(map(int, outputs))}, arith)
    starts = (0, *edges.tolist())
    tables = {
        f"{name}_of": tuple(int(outputs[i]) for i in starts),
        f"{name}_from": tuple(int(counts[i]) for i in starts),
    }
    search = _LOOKED_UP.format(name=name, after=len(starts))
    return Program(name, "\n".join([*head, search]), tables, arith)


_LOOKED_UP = """\
i = 0
j = {after}
while j - i > 1:
    h = (i + j) // 2
    if n >= {name}_from[h]:
        i = h
    else:
        j = h
return {name}_of[i]"""


def counting(low: int, high: int) -> str:
    """The arithmetic that holds counts from a lowest to a highest."""
    return "int32" if max(-low - 1, high) <= LARGEST["int32"] else "int64"


def machine_arith(w: ReferenceValues) -> str:
    """The arithmetic of a machine that adds up counts."""
    return "int32" if w.every <= 2**TABLE_BITS else "int64"


def flags_program(w: ReferenceValues, name: str) -> Program:
    """The flags of every count."""
    return by_count(w, lambda w: w.flags, f"{name}_flags", int(Flag.OFF_SCALE))


def has_value(w: ReferenceValues, name: str) -> Program:
    """Whether a count has a value: 1 or 0."""
    return by_count(w, lambda w: ~np.isnan(w.values) * 1, f"{name}_has_value", 0)


def decision(on: Truths, off: Truths) -> AnyArray:
    """1 for on, 0 for off, `AS_IT_WAS` for neither."""
    return np.where(on, 1, np.where(off, 0, AS_IT_WAS))


def pattern_programs(e: Exported) -> list[Program]:
    """The outputs of a channel's zones as functions of the zone, 0 for none; empty for zones that
    are no patterns of whole numbers."""
    found = zones_of(e.channel.ruler.laws)
    if found is None or e.channel.ruler.label(0.0) is None:
        return []
    zones = found[1]
    patterns = [value for value in zones.values if isinstance(value, tuple)]
    whole = all(isinstance(v, int | float) and v == int(v) for pattern in patterns for v in pattern)
    if len(patterns) < len(zones.values) or not whole:
        return []
    outputs = np.array(patterns, dtype=np.float64).T
    named = [f"{e.name}_output{i}" for i in range(1, len(outputs) + 1)]
    return [by_number(output, name) for name, output in zip(named, outputs, strict=True)]


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
    above, under = (None, value) if below else (value, None)
    condition = Condition(channel.name, above=above, below=under, release=release)
    size = channel.ruler.sizes[-1]
    every = ReferenceValues.of(channel, 1, 1.0)
    w = every.refined(lambda w: decision(*condition.decides(w.values, size)))
    values = w.values[w.valid]
    on, off = condition.decides(values, size)
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
        raise ExportError(f"{channel.name}: it turns back, so no single count gives {value}")
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
    arith = counting(int(w.counts[0]), int(w.counts[-1]))
    body_text, called = "\n".join(body), f"{name}_{side}_{text}"
    program = Program(called, body_text, {}, arith, arguments=("was",))
    return Threshold(program, edge, back, rising, about)


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
