"""All machines of a bench: its smoothing, holding zones, trips and drives, and what has no form for
a chip."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from ..bench.bench import Bench
from ..bench.channel_reader import zones_that_hold
from ..bench.conditions import faults_of
from ..bench.decisions import looked_at
from ..bench.driver import Driver
from ..bench.drives import Drive
from ..bench.smoothing import Smoothing
from ..numerics import AnyArray, Array, Truths
from .channel_machines import WINDOW, smooth_machine, trip_machine, values_of_zones, zone_machine
from .count_programs import by_count, machine_arith
from .exported import Exported
from .names import safe_name
from .program import LARGEST, Machine, Program
from .reference import ReferenceValues
from .selection import form_or_none, whole_form

#: A table of commands larger than this makes way for a form that is off by up to one command.
LARGE = 1024
#: Commands from end to end, of which every step is found; counts that are all run for a drive.
FEW, MOST = 2**17, 2**18


def drive_machine(drive: Drive, bench: Bench, done: Mapping[str, Exported]) -> Machine | str:
    """A drive; or why it has no form for firmware. done: the exported channels."""
    if not drive.whole:
        return "its commands are no whole numbers"
    name, safe = safe_name(drive.name), round(drive.safe)
    units = _units(drive)
    if not units:
        return "too wide for int32"
    followed = done.get(drive.source)
    read = [done[name] for name in looked_at(drive, bench)] + ([followed] if followed else [])
    wide = any(machine_arith(ReferenceValues.of(e.channel, 1, 1.0)) == "int64" for e in read)
    arith = "int64" if wide else "int32"
    inputs, programs = ["now"], []
    about = [f"{drive.name}: {drive.about or 'follows ' + drive.source}; safe {drive.safe:g}"]
    if followed is not None:
        goal, reads, off = _goals(drive, followed, name)
        inputs += reads
        programs += goal
        about += [off] if off else []
        head = f"goal = {name}_goal({reads[-1]})"
    else:
        inputs.append(f"{safe_name(drive.source)}_on")
        resting, acting = _commands(drive, np.array([0.0, 1.0]), np.zeros(2, np.bool_)).tolist()
        head = f"goal = {resting:.0f}\nif {inputs[-1]} != 0:\n    goal = {acting:.0f}"
    for channel in looked_at(drive, bench):
        e = done[channel]
        if followed is None or zones_that_hold(e.channel) is not None:
            fault, count = f"{name}_fault_{e.name}", f"{e.name}_count"
            programs.append(_faults(drive, e, fault))
            inputs.append(count)
            head += f"\nif {fault}({count}) == 1:\n    goal = NONE"
    if drive.safe_when:
        about.append(f"unsafe: {' or '.join(drive.safe_when)} is on")
        inputs.append("unsafe")
        head += "\nif unsafe != 0:\n    goal = NONE"
    state: dict[str, int] = {}
    body = f"{head}\nif goal == NONE:\n    return {safe}\nreturn goal"
    if drive.slew is not None:
        step = round(drive.slew * units / 1000)
        state = {"begun": 0, "time": 0, "level": 0}
        low, high = drive.bounds
        most = math.ceil((high - low + 1) * units / step)
        body = _SLEWED.format(
            head=head, safe=safe, units=units, step=step, most=most, half=units // 2
        )
        rate, wanted = f"{step * 1000 / units:.6g}", f"{drive.slew:.6g}"
        if rate != wanted:
            about.append(f"moves by {rate} a second, for {wanted}")
        if followed is not None:
            about.append("while it moves, a command may be 1 beside the live one; at rest, none is")
    inputs = list(dict.fromkeys(inputs))
    if drive.slew is None:
        inputs.remove("now")
    return Machine(
        name=name,
        update=f"{name}_update",
        about=tuple(about),
        inputs=tuple(inputs),
        state=state,
        body=body,
        times=frozenset({"time"} & set(state)),
        programs=tuple(programs),
        arith=arith,
    )


#: The level in parts of a command, so fine that a millisecond's way is a whole number of them:
#: nothing is lost at any rate and in any loop.
_SLEWED = """\
{head}
if s.begun == 0:
    s.begun = 1
    s.level = {safe} * {units}
    s.time = now
most = elapsed(now, s.time, {most}) * {step}
s.time = now
if goal == NONE:
    s.level = {safe} * {units}
    return {safe}
goal = goal * {units}
if goal > s.level + most:
    goal = s.level + most
if goal < s.level - most:
    goal = s.level - most
s.level = goal
if goal < 0:
    return -((-goal + {half} - 1) // {units})
return (goal + {half}) // {units}"""


def _units(drive: Drive) -> int:
    """The parts of a command that a slewing level is counted in; 0 if none fits."""
    low, high = drive.bounds
    widest = 1000 * (max(abs(low), abs(high)) + 2 * (high - low + 2))
    most = int(LARGEST["int32"] // widest)
    if drive.slew is None:
        return 1000
    found = next(
        (f for f in range(1, min(most, 4096) + 1) if (drive.slew * f) % 1 in (0.0, 1.0)), most
    )
    return 1000 * found if round(drive.slew * found) >= 1 else 0


def _commands(drive: Drive, values: AnyArray, unsafe: Truths) -> AnyArray:
    """What the live drive commands, without its slew limit."""
    resting = Driver(replace(drive, slew=None))
    return resting.add(np.zeros(values.size), values, unsafe)[0]


def _faulty(drive: Drive, e: Exported, flags: AnyArray) -> Truths:
    found: Truths = (flags & faults_of(drive.safe_flags, e.channel)) != 0
    return found


def _faults(drive: Drive, e: Exported, name: str) -> Program:
    w = ReferenceValues.of(e.channel, 1, 1.0)
    return by_count(w, lambda w: _faulty(drive, e, w.flags) * 1, name, 1)


def _goals(drive: Drive, e: Exported, name: str) -> tuple[list[Program], list[str], str]:
    """The command that belongs to each count (or each zone that is held), what is read for it, and
    how far it is off, where it is."""
    w = ReferenceValues.of(e.channel, 1, 1.0)
    zones, arith = zones_that_hold(e.channel), machine_arith(w)

    def commanded(values: Array, flags: AnyArray) -> Array:
        unsafe = _faulty(drive, e, flags) if zones is None else np.zeros(values.size, np.bool_)
        commands = _commands(drive, values, unsafe)
        return np.where(unsafe | np.isnan(values), np.nan, commands)

    if zones is not None:
        values = values_of_zones(zones[1], zones[2])
        flags = np.zeros(values.size, np.uint8)
        counts, commands = np.arange(values.size), commanded(values, flags)
        wanted = replace(w, counts=counts, values=commands, flags=flags, within=0.0)
    else:
        wanted = replace(w.replaced(commanded), within=0.0)
        wanted = wanted.refined(lambda w: np.isnan(w.values) * 1)
        few = np.ptp(wanted.values[wanted.valid]) <= FEW if wanted.valid.size else False
        wanted = wanted.refined(lambda w: w.values) if few else wanted.bent(1.0)
        wanted = replace(wanted, most=MOST)
    reads = [f"{e.name}_{'count' if zones is None else 'zone'}"]
    if not wanted.valid.size:
        return [Program(f"{name}_goal", "return NONE")], reads, ""
    goal = f"{name}_goal"
    found = form_or_none(wanted, goal, arith, explained=False)
    if found is None:
        found = _near_goal(wanted, goal, arith)
        return [found.program], reads, _off(found)
    if found.program.table_bytes > LARGE:
        nearly = whole_form(replace(wanted, within=1.0), goal, arith)
        if 2 * nearly.program.table_bytes < found.program.table_bytes:
            return [nearly.program], reads, _off(nearly)
    return [found.program], reads, ""


def _near_goal(wanted: ReferenceValues, goal: str, arith: str) -> Exported:
    """Commands of more counts than are all compared."""
    for by in (1.0, 2.0):
        found = form_or_none(replace(wanted, within=by), goal, arith, explained=False)
        if found is not None:
            return found
    return whole_form(replace(wanted, within=4.0), goal, arith)


def _off(found: Exported) -> str:
    return f"commands are off by up to {found.proof.worst:.3g}"


@dataclass(frozen=True)
class Machines:
    """All of them, and what could not be exported."""

    machines: tuple[Machine, ...]
    notes: tuple[str, ...]


def machines_of(
    bench: Bench, exported: Sequence[Exported], interval: float | None, window: int = WINDOW
) -> Machines:
    """What firmware needs to behave as the live view does; what cannot is left out, and said, with
    all that depends on it. interval: seconds between samples, for smoothing over a time. window:
    samples that a change within a time remembers at most."""
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
        machine = _left_out(missing) if missing else trip_machine(trip, done, window)
        if isinstance(machine, str):
            notes.append(f"trip {trip.name}: {machine}")
        else:
            found.append(machine)
            known.add(trip.name)
    for drive in bench.drives.values():
        needed = [drive.source, *drive.safe_when, *looked_at(drive, bench)]
        missing = [name for name in dict.fromkeys(needed) if name not in done and name not in known]
        machine = _left_out(missing) if missing else drive_machine(drive, bench, done)
        if drive.modes:
            machine = "its modes, which are chosen while it runs"
        if isinstance(machine, str):
            notes.append(f"drive {drive.name}: {machine}")
        else:
            found.append(machine)
    return Machines(tuple(found), tuple(notes))


def holding_of(exported: Sequence[Exported]) -> Machines:
    """The zones that hold among channels that are exported without the rest of their bench."""
    found = [m for e in exported if not e.defaults and (m := zone_machine(e)) is not None]
    notes = [
        f"{e.channel.name}: its smoothing, which needs --all"
        for e in exported
        if e.channel.smooth is not None
    ]
    notes += [
        f"{e.channel.name}: its zones do not hold, since their edges move with the arguments"
        for e in exported
        if e.defaults and zones_that_hold(e.channel) is not None
    ]
    return Machines(tuple(found), tuple(notes))


def _left_out(missing: Sequence[str]) -> str:
    return f"{', '.join(missing)}, on which it depends, could not be exported"


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
