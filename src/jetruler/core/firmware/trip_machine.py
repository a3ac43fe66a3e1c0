"""A trip for firmware: counts and the time in, on or off out."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from ..decide.channel_reader import zones_that_hold
from ..decide.conditions import TINY, Condition, faults_of
from ..decide.trips import Trip
from ..model.quantity import seconds
from .by_count import by_count, decided, has_value
from .machine import Machine, indented
from .names import safe_name
from .program import LARGEST, Program
from .selection import Exported
from .smooth_machine import values_of_zones
from .wanted import ExactValues

#: Samples that a window of changes remembers at most.
WINDOW = 64


def trip_machine(trip: Trip, done: Mapping[str, Exported]) -> Machine | str:
    """A trip; or why it has no form for firmware. done: the exported channels."""
    name = safe_name(trip.name)
    parts = [_Part(c, i, name, done[c.channel]) for i, c in enumerate(trip.conditions, start=1)]
    problem = next((p.problem for p in parts if p.problem), "")
    hold, stay = (math.ceil(1000 * (seconds(t) - TINY)) for t in (trip.hold, trip.stay))
    if problem or max(hold, stay) > LARGEST["int32"]:
        return problem or "times beyond 24 days have no firmware form"
    inputs = dict.fromkeys(["now", *(p.reads for p in parts)])
    held = [f"s.held{p.place}" for p in parts]
    counts = " + ".join(held) if len(held) > 1 else held[0]
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

    def __init__(self, c: Condition, place: int, trip: str, e: Exported) -> None:
        self.place, self.about, self.problem = place, "", ""
        self.programs: list[Program] = []
        self.state: dict[str, int] = {}
        self.times: set[str] = set()
        self.calls: dict[str, str] = {}
        self.reads, self.body = f"{e.name}_count", ""
        name = f"{trip}_if{place}"
        w = ExactValues.of(e.channel, 1, 1.0)
        if c.flagged is not None:
            on = (w.flags & faults_of(c.flagged, e.channel)) != 0
            self.programs = [by_count(w.counts, on * 1, name, 1)]
            self.body = f"s.held{place} = {name}({self.reads})"
        elif c.kind.endswith("_by"):
            self._moves(c, e, w)
        else:
            self._passes(c, e, w, name)

    def _passes(self, c: Condition, e: Exported, w: ExactValues, name: str) -> None:
        zones, counts, values = zones_that_hold(e.channel), w.counts, w.values
        if zones is not None:
            self.reads = f"{e.name}_zone"
            values = values_of_zones(zones[1], zones[2])
            counts = np.arange(values.size)
        point = c.above if c.above is not None else c.below or 0.0
        release = point if c.release is None else c.release
        on, off = (
            (values >= point, values < release)
            if c.above is not None
            else (values < point, values >= release)
        )
        outside = replace(w, counts=counts, values=values)
        self.programs = [decided(outside, name, on, off)]
        test = f"if {name}({self.reads}) < 2:"
        self.body = f"{test}\n    s.held{self.place} = {name}({self.reads})"

    def _moves(self, c: Condition, e: Exported, w: ExactValues) -> None:
        if e.program.arith == "float" or zones_that_hold(e.channel) is not None:
            what = "zones that hold" if e.program.arith != "float" else "a value in floats"
            self.problem = f"a change of {what} has no firmware form"
            return
        scale, within = e.wanted.scale, math.floor(1000 * (seconds(c.within) + TINY))
        by = {"-": c.falls_by or c.changes_by, "": c.rises_by or c.changes_by}
        if within >= LARGEST["int32"]:
            self.problem = "times beyond 24 days have no firmware form"
            return
        body = [f"v = {e.name}({self.reads})", f"s.held{self.place} = 0"]
        for sign, key, amount in (("", "hi", by["-"]), ("-", "lo", by[""])):
            if amount is None:
                continue
            k = f"{self.place}{key}"
            self.state |= {f"n{k}": 0, f"t{k}": WINDOW, f"v{k}": WINDOW}
            self.times.add(f"t{k}")
            body.append(
                _WINDOW.format(
                    sign=sign, k=k, window=WINDOW, most=within + 1, within=within,
                    by=math.ceil(amount * scale - 1e-9), place=self.place,
                )
            )  # fmt: skip
        self.calls[e.name] = e.program.arith
        self.programs = [has_value(w, e.name)]
        statements = indented("\n".join(body))
        self.body = f"if {e.name}_has_value({self.reads}) == 1:\n{statements}"
        unit = e.channel.unit or ""
        off = 2 * max(e.proof.worst, 0.5 / scale)
        self.about = (
            f"changes of {c.channel} are judged in steps of 1/{scale} {unit}: one within {off:.3g} "
            f"{unit} of its amount may be judged otherwise".replace(" :", ":")
        )
