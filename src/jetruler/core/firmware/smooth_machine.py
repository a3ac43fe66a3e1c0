"""Smoothing and holding zones for firmware: a count in; a smoothed count, or a zone, out."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ..arrays import AnyArray
from ..decide.channel_reader import zones_that_hold
from ..decide.smoothing import Smoothing
from ..laws.zones import Zones
from ..model.ruler import Ruler
from .by_count import by_count, has_value
from .machine import Machine
from .program import Program
from .selection import Exported
from .wanted import ExactValues

#: The longest list of past counts.
LONGEST = 255

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
    if many > (2**14 if smooth.kind == "exponential" else LONGEST):
        return f"smoothing over {many} samples, more than {LONGEST}"
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
    w = ExactValues.of(e.channel, 1, 1.0)
    near = "to the nearest count" if smooth.kind != "exponential" else "within one count"
    left_out = "what has no value is left out and comes back as it is"
    return Machine(
        name=f"{e.name}_smoothing",
        update=f"{e.name}_smooth",
        about=(f"{e.channel.name}: the {smooth.kind} of {many} counts, {near}; {left_out}",),
        inputs=("n",),
        state=state,
        body=f"if {e.name}_has_value(n) == 0:\n    return n\n{body}",
        programs=(has_value(w, e.name),),
    )


def values_of_zones(zones: Zones, behind: Ruler | None) -> AnyArray:
    """What each zone of a channel stands for, in its unit."""
    numbers = np.arange(len(zones.values))
    values = zones.values_of(numbers, np.zeros(numbers.size))
    return values if behind is None else np.asarray(behind(values))


def zone_machine(e: Exported) -> Machine | None:
    """The zones of a channel that hold: a zone is left when its edge is clearly passed."""
    found = zones_that_hold(e.channel)
    if found is None:
        return None
    before, zones, behind = found
    w = ExactValues.of(e.channel, 1, 1.0)
    raw = np.asarray(w.raw, dtype=np.float64)
    x = raw if before is None else np.asarray(before(raw))
    edges, far = np.array(zones.edges, dtype=np.float64), zones.hysteresis

    def zone(name: str, over: Callable[[AnyArray], AnyArray]) -> Program:
        return by_count(w.counts, over(x[:, None]).sum(axis=1), f"{e.name}_{name}", 0)

    programs = [
        has_value(w, e.name),
        zone("zone_at", lambda x: x >= edges),
        zone("zone_from", lambda x: x >= edges + far),  # at least this zone
        zone("zone_to", lambda x: x >= edges - far),  # at most this zone
    ]
    values = np.rint(values_of_zones(zones, behind) * e.wanted.scale)
    programs.append(by_count(np.arange(values.size), values, f"{e.name}_of_zone", 0))
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
        about=(about, f"{e.name}_of_zone: what a zone stands for, as {e.name} gives it"),
        inputs=("n",),
        state={"begun": 0, "zone": 0},
        body=body,
        programs=tuple(programs),
    )
