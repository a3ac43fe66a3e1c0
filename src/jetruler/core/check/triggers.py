"""Rules about trips: what they look for against what their channels can show."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

import numpy as np

from ..bench.bench import Bench, LogFormat
from ..bench.conditions import rail_faults, travel
from ..bench.decisions import looked_at
from ..result import Finding, Severity
from ..ruler.quantity import seconds
from ..ruler.reading import Flag
from ..ruler.units import number, shown, significant
from .changes import channel_changed, condition_changed, drive_changed, smoothing_changed, together
from .facts import Facts
from .ranges import NARROW, RELEASE


def slow_smoothing(bench: Bench, interval: float | None = None) -> Iterator[Finding]:
    """Smoothing that is slower than the change for which a trip waits.

    Smoothing spreads the change over a longer time than the trip allows, so the trip never turns
    on.
    """
    for trip in bench.trips.values():
        for i, c in enumerate(trip.conditions, start=1):
            # With the seconds between two samples, as a log shows them, smoothing over a number
            # of samples is judged; without, smoothing over a time.
            smooth = bench[c.channel].smooth
            if c.within is None or smooth is None or smooth.kind == "spikes":
                continue
            timed = isinstance(smooth.over, str)
            if timed == (interval is not None):  # the other way of asking tells
                continue
            over = seconds(smooth.over) if timed else (smooth.samples - 1) * (interval or 0.0)
            if over > seconds(c.within):
                yield Finding(
                    Severity.WARNING,
                    f"trip.{trip.name}.{trip.join}[{i}].within",
                    f"{c.channel} is smoothed over {number(over)} s, and the trip needs a "
                    f"change within {number(seconds(c.within))} s",
                    "Smooth over less, or look for a change over more time",
                    _changes=(
                        *(smoothing_changed(bench[c.channel], str(c.within)) if timed else ()),
                        *condition_changed(trip, i, within=f"{number(significant(over, 3))} s"),
                    ),
                )


def slow_drive(bench: Bench, interval: float | None = None) -> Iterator[Finding]:
    """Smoothing that is slower than the drive behind it.

    The drive follows old values: older than the silence after which it goes to its safe value, or
    slower than its slew limit, which then has no effect.
    """
    silence = seconds(bench.log.stale if bench.log is not None else LogFormat().stale)
    for drive in bench.drives.values():
        channel = bench.channels.get(drive.source)
        smooth = channel.smooth if channel is not None else None
        if channel is None or smooth is None or smooth.kind == "spikes":
            continue
        timed = isinstance(smooth.over, str)
        if timed == (interval is not None):  # the other way of asking tells
            continue
        over = seconds(smooth.over) if timed else (smooth.samples - 1) * (interval or 0.0)
        allowed, why = silence, f"a silence of {number(silence)} s makes it safe"
        if drive.slew is not None:
            whole_way = (drive.bounds[1] - drive.bounds[0]) / drive.slew
            if whole_way < allowed:
                allowed, why = whole_way, f"its slew takes {number(whole_way)} s"
        if over > allowed:
            less = f"{significant(allowed, 2):g} s"
            yield Finding(
                Severity.WARNING,
                f"channel.{channel.name}.smooth",
                f"{channel.name} is smoothed over {number(significant(over, 3))} s, drive "
                f"{drive.name} follows it, and {why}",
                "Smooth over less, or smooth the command by its slew",
                _changes=tuple(smoothing_changed(channel, less)),
            )


def short_window(bench: Bench, interval: float) -> Iterator[Finding]:
    """A change within less time than passes between two samples.

    No two samples are within this time, so nothing is compared and the trip never turns on.
    """
    for trip in bench.trips.values():
        for i, c in enumerate(trip.conditions, start=1):
            if c.within is not None and seconds(c.within) < interval * (1 - 1e-6):
                yield Finding(
                    Severity.ERROR,
                    f"trip.{trip.name}.{trip.join}[{i}].within",
                    f"it needs a change within {number(seconds(c.within))} s, and the log has "
                    f"a sample every {number(significant(interval, 3))} s",
                    "Look for a change over several samples, or log more often",
                    _changes=tuple(
                        condition_changed(trip, i, within=f"{significant(interval * 5, 3):g} s")
                    ),
                )


def unreachable_threshold(bench: Bench) -> Iterator[Finding]:
    """A threshold that no count of the channel reaches.

    The trip never turns on, or never turns off.
    """
    for trip in bench.trips.values():
        for i, c in enumerate(trip.conditions, start=1):
            threshold = c.above if c.above is not None else c.below
            facts = Facts(bench[c.channel])
            values = facts.values if facts.has_ends else np.empty(0)
            values = values[np.isfinite(values)]
            if threshold is None or not values.size:
                continue
            low, high = float(values.min()), float(values.max())
            if not low < threshold <= high:
                channel = bench[c.channel]
                yield Finding(
                    Severity.ERROR,
                    f"trip.{trip.name}.{trip.join}[{i}].{c.kind}",
                    f"the threshold is {shown(threshold, channel.unit)}, and {c.channel} reads "
                    f"from {channel.shown(low)} to {channel.shown(high)}",
                    "Move the threshold into the range, or check the channel's laws",
                    _changes=tuple(
                        change
                        for part in ((0.05, 0.1) if threshold > low else (0.95, 0.9))
                        for change in condition_changed(
                            trip, i, **{c.kind: significant(high - (high - low) * part, 3)}
                        )
                    ),
                )


def flickering_threshold(bench: Bench) -> Iterator[Finding]:
    """A threshold whose release point is closer than the noise.

    Near the threshold, the trip turns on and off from reading to reading.
    """
    for trip in bench.trips.values():
        for i, c in enumerate(trip.conditions, start=1):
            threshold = c.above if c.above is not None else c.below
            channel = bench[c.channel]
            if threshold is None or not channel.noise or trip.hold or trip.stay:
                continue
            try:
                slope = float(channel.chain.slope(channel.chain.inverse(threshold)))
            except ValueError:  # a curve that turns back has no inverse
                continue
            noise = abs(slope) * channel.noise
            apart = abs(threshold - (threshold if c.release is None else c.release))
            if noise > 0 and apart < NARROW * noise:
                hold = shown(significant(RELEASE * noise, 2), channel.unit)
                yield Finding(
                    Severity.WARNING,
                    f"trip.{trip.name}.{trip.join}[{i}].{'release' if c.release else c.kind}",
                    f"its release point is {shown(apart, channel.unit)} away, and one reading has "
                    f"a noise of {shown(significant(noise, 2), channel.unit)}",
                    f"Set a release point {hold} away, or a hold time",
                    _changes=tuple(
                        condition_changed(
                            trip,
                            i,
                            release=significant(
                                threshold
                                + significant(RELEASE * noise, 2)
                                * (1 if c.below is not None else -1),
                                6,
                            ),
                        )
                    ),
                )


def stop_or_wire(bench: Bench) -> Iterator[Finding]:
    """A drive whose channel cannot distinguish its stop from a broken wire.

    The travel reaches a rail of the converter, so a rail is not a fault: with a broken wire, the
    drive goes to the end and stays there.
    """
    for drive in bench.drives.values():
        channel = bench.channels.get(drive.source)
        if channel is None or channel.rails is not None or channel.chain.edge is None:
            continue
        ends = ~rail_faults(channel) & int(Flag.LOW_RAIL | Flag.HIGH_RAIL)
        if ends:
            edge = channel.chain.edge
            rail = edge.lowest if ends & int(Flag.LOW_RAIL) else edge.highest
            yield Finding(
                Severity.WARNING,
                f"channel.{channel.name}.rails",
                f"its travel reaches {number(float(rail))}, which a broken wire gives too, and "
                f"drive {drive.name} follows it",
                "Add a small resistor at each end of the knob, and take new marks "
                '(jetruler look --ends); or set rails = "faults", or "ends" if it is wired so',
                _changes=tuple(channel_changed(channel, "rails", "ends")),
            )


def unstated_ends(bench: Bench) -> Iterator[Finding]:
    """A drive whose channel does not state how far its travel goes.

    A sample on a rail is then a fault, and the drive goes to its safe value. This is right for a
    broken wire, and surprising for a knob at its stop.
    """
    for drive in bench.drives.values():
        unknown = []
        for name in looked_at(drive, bench):
            channel = bench.channels.get(name)
            if channel is None or channel.rails is not None or channel.chain.edge is None:
                continue
            edge = channel.chain.edge
            ends = [end for end in (edge.lowest, edge.highest) if np.isfinite(end)]
            reads = [end for end in ends if np.isfinite(channel.chain(float(end)))]
            if reads and travel(channel) is None:
                unknown.append((channel, float(reads[-1])))
        if not unknown:
            continue
        channel, end = unknown[0]
        others = "".join(f", as does {other.name}" for other, _ in unknown[1:])
        faults = [channel_changed(other, "rails", "faults") for other, _ in unknown]
        yield Finding(
            Severity.WARNING,
            f"channel.{channel.name}.rails",
            f"it reads {channel.shown(float(channel.chain(end)))} at {number(end)}{others}, which "
            f"may be its stop or a broken wire; drive {drive.name} goes to its safe value there",
            'Say rails = "faults" or "ends", or its travel: marks, a clamp, or limits',
            _changes=(together(*(change for one in faults for change in one)),),
        )


def range_of_another(bench: Bench) -> Iterator[Finding]:
    """A drive whose marks do not have the range of its channel.

    Marks in counts for a channel in percent, or the reverse: the command hardly leaves one end, or
    reaches the other end after a part of the travel.
    """
    for drive in bench.drives.values():
        channel = bench.channels.get(drive.source)
        if channel is None or len(drive.marks) < 2:
            continue
        facts = Facts(channel)
        if facts.labelled or not facts.has_ends:
            continue
        values = facts.values[facts.inside & np.isfinite(facts.values)]
        kept = [ends for _, ends in facts.clamps]
        low, high = (float(values.min()), float(values.max())) if values.size else (0.0, 0.0)
        if kept:
            low, high = max(low, kept[-1][0]), min(high, kept[-1][1])
        first, *_, last = sorted(float(x) for x, _ in drive.marks)
        met = min(high, last) - max(low, first)
        if high <= low or last <= first:
            continue
        if met < LITTLE * (last - first) or (kept and met < LITTLE * (high - low)):
            yield Finding(
                Severity.ERROR,
                f"drive.{drive.name}.marks",
                f"its marks go from {number(first)} to {number(last)}, and {channel.name} reads "
                f"{number(low)} to {shown(high, channel.unit)}",
                f"Give it marks in the unit of {channel.name}, as in "
                f"marks = [[{number(low)}, {number(drive.bounds[0])}], "
                f"[{number(high)}, {number(drive.bounds[1])}]]".replace("−", "-"),
                _changes=tuple(
                    drive_changed(
                        drive,
                        marks=(
                            (significant(low, 6), drive.bounds[0]),
                            (significant(high, 6), drive.bounds[1]),
                        ),
                    )
                ),
            )


#: Less of a range than this is that of something else.
LITTLE = 0.1


@dataclass(frozen=True)
class Changes:
    """How often a trip changed its state over a log, and how many of these states lasted no more
    than a few samples."""

    all: int
    short: int


def flickering_trip(bench: Bench, changes: Mapping[str, Changes]) -> Iterator[Finding]:
    """A trip that flickers in the log: it turns on and off within a few samples, repeatedly.

    Whatever it switches wears out, and its events are useless.
    """
    for name, seen in changes.items():
        if seen.short < FLICKERS:
            continue
        trip = bench.trips[name]
        i, c = next(
            ((i, c) for i, c in enumerate(trip.conditions, start=1) if c.release is None),
            (1, trip.conditions[0]),
        )
        held = c.release is not None or trip.hold or trip.stay
        yield Finding(
            Severity.WARNING,
            f"trip.{name}.{trip.join}[{i}].{c.kind}",
            f"it changes {seen.all} times in the log, {seen.short} of them within {SHORT} samples "
            "of the change before",
            "Move its release point further away, or hold it longer"
            if held
            else "Set a release point beyond the noise, or a hold time",
        )


#: A state that lasts this many samples is short; this many short ones are a flicker.
SHORT, FLICKERS = 3, 3
RULES = (
    slow_smoothing,
    slow_drive,
    unreachable_threshold,
    flickering_threshold,
    stop_or_wire,
    unstated_ends,
    range_of_another,
)
