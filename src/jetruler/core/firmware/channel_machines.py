"""What remembers: smoothing, holding zones, trips."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping

import numpy as np

from ..bench.channel_reader import zones_that_hold
from ..bench.conditions import MOVES, TINY, Condition, faults_of
from ..bench.smoothing import Smoothing
from ..bench.trips import Trip
from ..laws.shape import Zones
from ..numerics import AnyArray
from ..ruler.quantity import seconds
from ..ruler.ruler import Ruler
from .count_programs import (
    AS_IT_WAS,
    by_count,
    by_number,
    decision,
    has_value,
    machine_arith,
    of_counts,
)
from .exported import Exported
from .names import safe_name
from .program import LARGEST, Machine, Program, indented
from .reference import ReferenceValues

#: The longest list of past counts; an exponential mean keeps none.
LONGEST = 255
LONGEST_EXPONENTIAL = 2**14
_ROUNDED = """\
if {sum} < 0:
    return -((-{sum} + {n} // 2) // {n})
return ({sum} + {n} // 2) // {n}"""
_LAST = """\
s.past[s.at] = n
s.at = s.at + 1
if s.at == {many}:
    s.at = 0
if s.filled < {many}:
    s.filled = s.filled + 1"""
_MEAN = """\
if s.filled == {many}:
    s.sum = s.sum - s.past[s.at]
s.sum = s.sum + n
{last}
{rounded}"""

#: Sorted by insertion; an even median is the mean of the two in the middle.
_MEDIAN = """\
{last}
i = 0
while i < s.filled:
    s.order[i] = s.past[i]
    j = i
    while j > 0:
        one = s.order[j - 1]
        if one > s.order[j]:
            s.order[j - 1] = s.order[j]
            s.order[j] = one
            j = j - 1
        else:
            j = 0
    i = i + 1
step = s.order[(s.filled - 1) // 2] + s.order[s.filled // 2]
{rounded}"""

#: In 256ths of a count; what a division leaves is kept for the next one, so that nothing sticks.
_EXPONENTIAL = """\
if s.filled == 0:
    s.filled = 1
    s.level = n * 256
else:
    s.rest = s.rest + (n * 256 - s.level) * 2
    if s.rest < 0:
        step = -(-s.rest // {over})
    else:
        step = s.rest // {over}
    s.level = s.level + step
    s.rest = s.rest - step * {over}
{rounded}"""


def smooth_machine(e: Exported, smooth: Smoothing) -> Machine | str:
    """A channel's smoothing, to the nearest count; or why it has no form for firmware."""
    many = smooth.samples
    if smooth.kind == "spikes" or smooth.blocks or smooth.where == "values":
        return "this smoothing has no firmware form"
    most = LONGEST_EXPONENTIAL if smooth.kind == "exponential" else LONGEST
    if many > most:
        return f"smoothing over {many} samples, more than {most}"
    last = _LAST.format(many=many)
    state = {"past": many, "at": 0, "filled": 0}
    if smooth.kind == "mean":
        rounded = _ROUNDED.format(sum="s.sum", n="s.filled")
        body = _MEAN.format(many=many, last=last, rounded=rounded)
        state["sum"] = 0
    elif smooth.kind == "median":
        body = _MEDIAN.format(last=last, rounded=_ROUNDED.format(sum="step", n="2"))
        state["order"] = many
    else:
        body = _EXPONENTIAL.format(over=many + 1, rounded=_ROUNDED.format(sum="s.level", n="256"))
        state = {"filled": 0, "level": 0, "rest": 0}
    w = ReferenceValues.of(e.channel, 1, 1.0)
    near = "to the nearest count" if smooth.kind != "exponential" else "within one count"
    left_out = "a count without a value is skipped and returned unchanged"
    return Machine(
        name=f"{e.name}_smoothing",
        update=f"{e.name}_smooth",
        about=(f"{e.channel.name}: the {smooth.kind} of {many} counts, {near}; {left_out}",),
        inputs=("n",),
        state=state,
        body=f"if {e.name}_has_value(n) == 0:\n    return n\n{body}",
        programs=(has_value(w, e.name),),
        arith=machine_arith(w),
    )


def values_of_zones(zones: Zones, behind: Ruler | None) -> AnyArray:
    """What each zone of a channel represents, in its unit."""
    numbers = np.arange(len(zones.values))
    values = zones.values_of(numbers, np.zeros(numbers.size))
    return values if behind is None else np.asarray(behind(values))


def zone_machine(e: Exported) -> Machine | None:
    """The zones of a channel that hold: a zone is left when its edge is clearly passed."""
    found = zones_that_hold(e.channel)
    if found is None:
        return None
    before, zones, behind = found
    w = ReferenceValues.of(e.channel, 1, 1.0)
    edges, far = np.array(zones.edges, dtype=np.float64), zones.hysteresis

    def zone(name: str, over: Callable[[AnyArray], AnyArray]) -> Program:
        def outputs(w: ReferenceValues) -> AnyArray:
            raw = np.asarray(w.raw, dtype=np.float64)
            x = raw if before is None else np.asarray(before(raw))
            x = zones.on_edges(x, 0.0 if before is None else before.sizes[-1])
            return np.asarray(over(x[:, None]).sum(axis=1))

        return by_count(w, outputs, f"{e.name}_{name}", 0)

    programs = [
        has_value(w, e.name),
        zone("zone_at", lambda x: x >= edges),
        zone("zone_from", lambda x: x >= edges + far),  # at least this zone
        zone("zone_to", lambda x: x >= edges - far),  # at most this zone
    ]
    values = np.rint(values_of_zones(zones, behind) * e.wanted.scale)
    programs.append(by_number(values, f"{e.name}_of_zone"))
    body = f"""\
if {e.name}_has_value(n) == 0:
    return -1
if s.begun == 0:
    s.begun = 1
    s.zone = {e.name}_zone_at(n)
if s.zone < {e.name}_zone_from(n):
    s.zone = {e.name}_zone_from(n)
if s.zone > {e.name}_zone_to(n):
    s.zone = {e.name}_zone_to(n)
return s.zone"""
    about = f"{e.channel.name}: its zone from 0 up, held until an edge is clearly passed; -1: none"
    return Machine(
        name=f"{e.name}_holding",
        update=f"{e.name}_zone",
        about=(about, f"{e.name}_of_zone: what a zone represents, as {e.name} gives it"),
        inputs=("n",),
        state={"begun": 0, "zone": 0},
        body=body,
        programs=tuple(programs),
        arith=machine_arith(w),
    )


#: Samples that a window of changes remembers, unless fewer are asked for.
WINDOW = 64


def trip_machine(trip: Trip, done: Mapping[str, Exported], window: int) -> Machine | str:
    """A trip; or why it has no form for firmware. done: the exported channels. window: samples
    that a change within a time remembers at most."""
    name = safe_name(trip.name)
    each = enumerate(trip.conditions, start=1)
    parts = [_Part(c, i, name, done[c.channel], window) for i, c in each]
    problem = next((p.problem for p in parts if p.problem), "")
    hold, stay = (math.ceil(1000 * (seconds(t) - TINY)) for t in (trip.hold, trip.stay))
    if problem or max(hold, stay) > LARGEST["int32"]:
        return problem or "times beyond 24 days have no firmware form"
    inputs = dict.fromkeys(["now", *(p.reads for p in parts)])
    held = [f"s.held{p.place}" for p in parts]
    counts = " + ".join(held)
    enough = 1 if trip.join == "any" else len(held)
    state = {f"held{p.place}": 0 for p in parts} | {"on": 0}
    times: set[str] = set()
    body = [p.body for p in parts]
    body.append(f"counts = 0\nif {counts} >= {enough}:\n    counts = 1")
    if hold:
        state |= {"holding": 0, "since": 0}
        times.add("since")
        body.append(_HELD.format(hold=hold))
    if stay:
        state |= {"staying": 0, "turned": 0}
        times.add("turned")
    body.append((_STAYS if stay else "s.on = counts").format(stay=stay))
    body.append("return s.on")
    for p in parts:
        state |= p.state
        times |= p.times
    if not times:
        del inputs["now"]
    about = [str(trip)] + [p.about for p in parts if p.about]
    return Machine(
        name=name,
        update=f"{name}_update",
        about=tuple(about),
        inputs=tuple(inputs),
        state=state,
        body="\n".join(body),
        times=frozenset(times),
        programs=tuple(program for p in parts for program in p.programs),
        calls={e: a for p in parts for e, a in p.calls.items()},
        arith="int64" if any(p.arith == "int64" for p in parts) else "int32",
    )


#: 1 while they hold, 2 once they have held for long enough: a clock that wraps undoes neither.
_HELD = """\
if counts == 0:
    s.holding = 0
elif s.holding == 0:
    s.holding = 1
    s.since = now
if s.holding == 1:
    if elapsed(now, s.since, {hold}) >= {hold}:
        s.holding = 2
    else:
        counts = 0"""
_STAYS = """\
if s.on == 0:
    if counts == 1:
        s.on = 1
        s.staying = 1
        s.turned = now
else:
    if s.staying == 1:
        if elapsed(now, s.turned, {stay}) >= {stay}:
            s.staying = 0
    if counts == 0:
        if s.staying == 0:
            s.on = 0"""

#: Only samples that can still become the largest are remembered, the oldest first; where there is
#: no room, the newest but one gives way.
_WINDOW = """\
x = {sign}v
go = 1
while go == 1:
    go = 0
    if s.n{k} > 0:
        if s.v{k}[s.n{k} - 1] <= x:
            s.n{k} = s.n{k} - 1
            go = 1
if s.n{k} == {window}:
    s.n{k} = {window} - 1
s.t{k}[s.n{k}] = now
s.v{k}[s.n{k}] = x
s.n{k} = s.n{k} + 1
drop = 0
while elapsed(now, s.t{k}[drop], {most}) > {within}:
    drop = drop + 1
if drop > 0:
    i = 0
    while i + drop < s.n{k}:
        s.t{k}[i] = s.t{k}[i + drop]
        s.v{k}[i] = s.v{k}[i + drop]
        i = i + 1
    s.n{k} = s.n{k} - drop
if s.v{k}[0] - x >= {by}:
    s.held{place} = 1"""


class _Part:
    """One condition: what it reads, its statements, and what they need."""

    def __init__(self, c: Condition, place: int, trip: str, e: Exported, window: int) -> None:
        self.place, self.about, self.problem, self.window = place, "", "", window
        self.programs: list[Program] = []
        self.state: dict[str, int] = {}
        self.times: set[str] = set()
        self.calls: dict[str, str] = {}
        self.reads, self.body = f"{e.name}_count", ""
        name = f"{trip}_if{place}"
        w = ReferenceValues.of(e.channel, 1, 1.0)
        self.arith = machine_arith(w)
        if c.flagged is not None:
            faults = faults_of(c.flagged, e.channel)
            self.programs = [by_count(w, lambda w: ((w.flags & faults) != 0) * 1, name, 1)]
            self.body = f"s.held{place} = {name}({self.reads})"
        elif c.kind in MOVES:
            self._moves(c, e, w)
        else:
            self._passes(c, e, w, name)

    def _passes(self, c: Condition, e: Exported, w: ReferenceValues, name: str) -> None:
        zones, size = zones_that_hold(e.channel), e.channel.ruler.sizes[-1]
        if zones is not None:
            self.reads = f"{e.name}_zone"
            values = values_of_zones(zones[1], zones[2])
            decided = decision(*c.decides(values, size))
            self.programs = [of_counts(np.arange(values.size), decided, name, AS_IT_WAS)]
        else:
            self.programs = [
                by_count(w, lambda w: decision(*c.decides(w.values, size)), name, AS_IT_WAS)
            ]
        test = f"if {name}({self.reads}) < 2:"
        self.body = f"{test}\n    s.held{self.place} = {name}({self.reads})"

    def _moves(self, c: Condition, e: Exported, w: ReferenceValues) -> None:
        if e.program.arith == "float" or zones_that_hold(e.channel) is not None:
            what = "zones that hold" if e.program.arith != "float" else "a value in floats"
            self.problem = f"a change of {what} has no firmware form"
            return
        scale, within = e.wanted.scale, math.floor(1000 * (seconds(c.within) + TINY))
        by = {"-": c.falls_by or c.changes_by, "": c.rises_by or c.changes_by}
        if within >= LARGEST["int32"]:
            self.problem = "times beyond 24 days have no firmware form"
            return
        body = [f"v = {e.program.name}({self.reads})", f"s.held{self.place} = 0"]
        for sign, key, amount in (("", "hi", by["-"]), ("-", "lo", by[""])):
            if amount is None:
                continue
            k = f"{self.place}{key}"
            self.state |= {f"n{k}": 0, f"t{k}": self.window, f"v{k}": self.window}
            self.times.add(f"t{k}")
            body.append(
                _WINDOW.format(
                    sign=sign, k=k, window=self.window, most=within + 1, within=within,
                    by=math.ceil(amount * scale - 1e-9), place=self.place,
                )
            )  # fmt: skip
        self.calls[e.program.name] = e.program.arith
        if e.program.arith == "int64":
            self.arith = "int64"
        self.programs = [has_value(w, e.name)]
        statements = indented("\n".join(body))
        self.body = f"if {e.name}_has_value({self.reads}) == 1:\n{statements}"
        unit = e.channel.unit or ""
        off = 2 * max(e.proof.worst, 0.5 / scale)
        self.about = (
            f"changes of {c.channel} are judged in steps of 1/{scale} {unit}: one within {off:.3g} "
            f"{unit} of its amount may be judged otherwise".replace(" :", ":")
        )
