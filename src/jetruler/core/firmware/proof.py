"""What every count should read, as a target must give it, and the proof: a program run over every
count that exists, held against the ruler."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from ..bench.channel import Channel
from ..error_types import ParameterError
from ..numerics import AnyArray, Array
from ..ruler.rounding import nearest
from ..ruler.ruler import TABLE_BITS
from ..ruler.units import number, shown, significant
from ..survey.survey import stepped
from .program import LARGEST, Program, ProgramModel


def _raw_of(channel: Channel, counts: AnyArray) -> AnyArray:
    edge = channel.ruler.edge
    if edge is None or channel.ruler.converter is not None:
        return counts
    return np.asarray(stepped(counts, edge.lsb))


def everything(channel: Channel) -> tuple[AnyArray, Array, AnyArray]:
    """Everything that comes in, as whole numbers, with what it reads and its flags."""
    edge, tables = channel.ruler.edge, channel.ruler.compiled()
    if tables is not None:
        low, values = tables[0].lowest, tables[0].values
        return np.arange(low, low + values.size), values, tables[1].values
    converter = channel.ruler.converter
    if edge is not None and converter is None and edge.is_bounded and edge.lsb:
        low, high = math.ceil(edge.lowest / edge.lsb - 1e-6), edge.highest / edge.lsb + 1e-6
        if high - low < 2**TABLE_BITS:
            counts = np.arange(low, math.floor(high) + 1)
            reading = channel.read(_raw_of(channel, counts))
            return counts, np.asarray(reading.value), np.asarray(reading.flags)
    if converter is None:
        expected = f"a resolution and a range of up to {2**TABLE_BITS} steps"
        why = "each is run through"
        raise ParameterError(f"{channel.name}.input", channel.ruler.takes, expected, why)
    expected, why = f"a converter of up to {TABLE_BITS} bits", "every count is run through"
    raise ParameterError(f"{channel.name}.bits", converter.bits, expected, why)


@dataclass(frozen=True)
class ReferenceValues:
    """The values of a channel over all its counts, and how near a program must come.

    counts: ascending, without a gap. values: in the channel's unit, NaN for none. flags: `Flag`
    bits. scale: output steps for one unit. within: the largest error, in the channel's unit.
    """

    channel: Channel
    counts: AnyArray
    values: Array
    flags: AnyArray
    scale: int
    within: float

    @classmethod
    def of(
        cls, channel: Channel, scale: int, within: float, inside_limits: bool = False
    ) -> ReferenceValues:
        """Of a channel. inside_limits: beyond its limits, the value is held at them.
        Raises `ParameterError` for a channel without a finite number of counts."""
        counts, values, flags = everything(channel)
        if inside_limits and channel.limits is not None:
            values = np.clip(values, *channel.limits)
        return cls(channel, counts, values=values, flags=flags, scale=scale, within=within)

    @property
    def raw(self) -> AnyArray:
        """The raw values: the counts, or the steps of the input's resolution in its unit."""
        return _raw_of(self.channel, self.counts)

    @property
    def raw_name(self) -> str:
        """What the function is called with."""
        edge = self.channel.ruler.edge
        if edge is None or self.channel.ruler.converter is not None:
            return "the count"
        return f"the input in steps of {shown(edge.lsb, edge.takes)}"

    @cached_property
    def target(self) -> Array:
        """The values in output steps."""
        return self.values * self.scale

    @cached_property
    def rounded(self) -> Array:
        """The values in whole output steps, half away from zero, as they are shown."""
        return nearest(self.target, self.channel.ruler.sizes[-1] * self.scale)

    @cached_property
    def low(self) -> Array:
        """The smallest whole output that is near enough at each count."""
        return np.ceil(self.target - self.reach)

    @cached_property
    def high(self) -> Array:
        """The largest whole output that is near enough at each count."""
        return np.floor(self.target + self.reach)

    @property
    def reach(self) -> float:
        """The bound in output steps."""
        return self.within * self.scale * (1 + 1e-12) + 1e-9

    @cached_property
    def valid(self) -> AnyArray:
        """Where there is a value."""
        return np.flatnonzero(~np.isnan(self.values))

    @property
    def has_holes(self) -> bool:
        """Whether counts without a value stand between counts with one."""
        v = self.valid
        return bool(v.size) and bool(v[-1] - v[0] + 1 != v.size)

    @property
    def is_whole(self) -> bool:
        """Whether every value is a whole number of units: an output of any scale can equal it."""
        return self.on_steps_of(1)

    @property
    def is_exact_possible(self) -> bool:
        """Whether outputs can equal every value."""
        return self.within > 0 and self.on_steps_of(self.scale)

    def on_steps_of(self, scale: int) -> bool:
        """Whether every value is a whole number of steps at a scale."""
        target = self.values[self.valid] * scale
        return bool(np.all(np.abs(target - np.rint(target)) <= 1e-9))

    def errors(self, outputs: AnyArray) -> Array:
        """How far outputs are off, in the channel's unit; NaN where there is no value."""
        return outputs / self.scale - self.values


@dataclass(frozen=True)
class Proof:
    """What running every count has shown.

    counts: how many were run. worst: the largest error, in the channel's unit, `at` that count.
    monotone: whether the output never turns back ("rising", "falling", or "" for neither).
    exact_at_marks: whether it meets the marks of a line, rounded; None without marks. widest: the
    largest whole intermediate. no_value: counts without a value.
    """

    counts: int
    worst: float
    at: int
    within: float
    monotone: str
    exact_at_marks: bool | None
    widest: int
    no_value: int

    @property
    def holds(self) -> bool:
        """Whether the bound is kept."""
        return self.worst <= self.within * (1 + 1e-9) + 1e-12

    def lines(self, unit: str, noun: str = "count") -> list[str]:
        """For people; noun: what was run, a count or a step of the input."""
        worst = f"worst error {number(significant(self.worst, 3))} {unit}".rstrip()
        worst += f" at {noun} {self.at} (bound {number(self.within)})"
        found = [
            f"all {self.counts} {noun}s were run: {worst if self.worst else 'each is equal'}",
            f"{self.monotone} throughout" if self.monotone else "not monotone",
        ]
        if self.exact_at_marks is not None:
            found.append(("" if self.exact_at_marks else "not ") + "exact at the marks")
        if self.widest:
            found.append(f"no overflow: the widest intermediate is {self.widest}")
        if self.no_value:
            found.append(f"{self.no_value} {noun}s have no value")
        return found


def prove(
    program: Program, w: ReferenceValues, kind: type[np.floating[Any]] = np.float32
) -> Proof | None:
    """Run every count. None if the program and the ruler do not agree on what has a value.
    Raises `TooWideError` where an intermediate does not fit."""
    model = ProgramModel(program, kind)
    outputs = model.run(w.counts)
    whole = program.arith != "float"
    none = outputs == -LARGEST[program.arith] - 1 if whole else np.isnan(outputs)
    if not np.array_equal(none, np.isnan(w.values)):
        return None
    scale = w.scale if whole else 1
    errors = np.where(none, 0.0, np.abs(outputs.astype(np.float64) / scale - w.values))
    worst = int(np.argmax(np.nan_to_num(errors, nan=np.inf)))
    return Proof(
        int(w.counts.size),
        float(errors[worst]),
        at=int(w.counts[worst]),
        within=w.within,
        monotone=_monotone(outputs[~none]),
        exact_at_marks=_at_marks(outputs, w, whole),
        widest=model.widest,
        no_value=int(np.count_nonzero(none)),
    )


def _monotone(outputs: AnyArray) -> str:
    steps = np.diff(outputs)
    if not steps.size or np.all(steps >= 0):
        return "rising"
    return "falling" if np.all(steps <= 0) else ""


def _at_marks(outputs: AnyArray, w: ReferenceValues, whole: bool) -> bool | None:
    laws = w.channel.ruler.laws
    marks = laws[1].marks if len(laws) > 1 else None
    if marks is None:
        return None
    if w.channel.ruler.units[1] != "count":
        return None
    raws = [int(raw) for raw, _ in marks if raw == int(raw)]
    places = [raw - int(w.counts[0]) for raw in raws if w.counts[0] <= raw <= w.counts[-1]]
    step = 1.0 / w.scale if whole else 0.0
    off = [abs(float(outputs[p]) / (w.scale if whole else 1) - w.values[p]) for p in places]
    return all(o <= 0.5 * step + 1e-6 * max(1.0, abs(o)) for o in off)
