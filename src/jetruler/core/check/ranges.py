"""Rules about ranges: marks, clamps, limits, and how much of the converter is used."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ..laws.interval import Clamp
from ..laws.linear import Line
from ..model.law import Law, Role
from ..model.text import number, shown
from ..survey.finding import Finding, Severity
from .facts import Facts

#: Less of the converter's range than this is worth a better part.
QUARTER = 0.25


def few_counts(c: Facts) -> Iterator[Finding]:
    """Less than a quarter of the converter's range in use over the limits.

    Each count is then worth four times as much as it could be: resolution that was paid for and
    is thrown away.
    """
    if c.channel.chain.converter is None or c.channel.limits is None:
        return
    if c.labelled or c.of("attenuator"):
        return  # a supply rail is watched near one value: its range is not its sensor's
    used = c.counts[c.inside]
    fraction = float(np.ptp(used) / np.ptp(c.counts)) if used.size else 0.0
    if 0 < fraction < QUARTER:
        low, high = (number(float(end)) for end in (used.min(), used.max()))
        low_limit, high_limit = c.channel.limits
        limits = f"{number(low_limit)} to {shown(high_limit, c.channel.unit)}"
        yield c.found(
            Severity.WARNING,
            c.key("limits"),
            f"{limits} use counts {low} to {high}, {fraction:.0%} of the range",
            "Another fixed resistor, a smaller reference or an amplifier uses more: see jetruler "
            "choose",
        )


def marks_on_rails(c: Facts) -> Iterator[Finding]:
    """A mark that stands on a rail of the converter.

    A sensor that goes further than the converter sees reads the same there: the mark then says
    only that its truth is that or more, and a line through it is wrong everywhere.
    """
    converter = c.channel.chain.converter
    found = marks_of(c)
    if converter is None or found is None or c.channel.rails is not None:
        return
    place, law = found
    rails = (converter.lowest, converter.highest)
    on = [mark for mark in law.marks or () if mark[0] in rails]
    # A line that gives volts for the counts is the converter's own, and knows its ends.
    if on and law.unit != "V":
        raw, true = on[-1]
        yield c.found(
            Severity.NOTE,
            c.place(place, "marks"),
            f"the mark [{number(raw)}, {number(true)}] stands on a rail of the converter",
            'Take marks further inside (jetruler look --ends), or say rails = "ends" if that is so',
        )


def outside_marks(c: Facts) -> Iterator[Finding]:
    """Marks at counts that the converter does not have.

    An end that no count reaches is never read: the knob stops at 99 %, or the scale is that of
    another converter.
    """
    converter = c.channel.chain.converter
    for i, law in c.of("line"):
        marks = getattr(law, "marks", None)
        if converter is None or marks is None or c.channel.chain.units[i] != "count":
            continue
        out = [mark for mark in marks if not converter.lowest <= mark[0] <= converter.highest]
        if out and i == 1:
            raw, true = out[0]
            yield c.found(
                Severity.ERROR,
                c.place(i, "marks"),
                f"the count {number(raw)} for {shown(true, law.gives)} lies outside "
                f"{converter.lowest} to {converter.highest}",
                "Turn the sensor to its ends and take the counts that are there: jetruler look "
                "--ends",
            )


def misplaced_clamp(c: Facts) -> Iterator[Finding]:
    """A clamp that holds almost everything: its range is not that of the marks before it.

    Marks were reversed, or scaled, and the clamp was not: the value then rests at one end.
    """
    for i, law in c.of("clamp"):
        before = c.joints[i][np.isfinite(c.joints[i])]
        if not before.size:
            continue
        low, high = _reach(c, i) or (float(before.min()), float(before.max()))
        kept = max(0.0, min(high, _high(law)) - max(low, _low(law)))
        held = 1.0 - kept / (high - low) if high > low else 0.0
        if held > 0.9:
            ends = f"{number(low)} to {number(high)}"
            yield c.found(
                Severity.ERROR,
                c.place(i),
                f"what comes in goes from {ends}; the clamp holds {held:.0%} of it",
                "Give the clamp the ends of the marks, the low one first",
            )


def clamp_too_early(c: Facts) -> Iterator[Finding]:
    """A clamp before a law that moves the range again.

    The clamp then holds something else than the result, which can leave the range all the same.
    """
    for i, _ in c.of("clamp"):
        for later in c.laws[i + 1 :]:
            if later.role in (Role.HOLD, Role.ROUND, Role.LABEL, Role.UNIT):
                continue
            if _is_scaled(c, i, later):
                break
            yield c.found(
                Severity.WARNING,
                c.place(i),
                f"{later.name} stands behind the clamp and moves the value again",
                "Put the clamp last",
            )
            break


def limits_out_of_reach(c: Facts) -> Iterator[Finding]:
    """Limits that the chain can never reach, or always exceeds.

    A limit that cannot be crossed never warns; limits that everything exceeds always do.
    """
    values = c.values[np.isfinite(c.values)]
    if c.channel.limits is None or c.labelled or not values.size:
        return
    low, high = c.channel.limits
    smallest, largest = float(values.min()), float(values.max())
    reads = f"the counts read {number(smallest)} to {shown(largest, c.channel.unit)}"
    if not c.inside.any():
        yield c.found(
            Severity.ERROR,
            c.key("limits"),
            f"{reads}: none lies within {number(low)} to {number(high)}",
            "Correct the laws, or the unit of the limits",
        )
    elif (low < smallest or high > largest) and not c.of("clamp"):
        end = low if low < smallest else high
        yield c.found(
            Severity.WARNING,
            c.key("limits"),
            f"{reads}: {shown(end, c.channel.unit)} is never crossed",
            "Take limits that a fault would cross, or another part that reaches them",
        )


def turns_back(c: Facts) -> Iterator[Finding]:
    """A chain that is not monotone within its limits.

    Two different counts then read the same, and somewhere a rising input makes a falling value:
    coefficients are wrong, or a fitted curve bends between its marks.
    """
    values = c.values[c.inside]
    if c.labelled or c.of("magnitude") or values.size < 3:
        return
    steps = np.diff(values)
    if np.any(steps > 0) and np.any(steps < 0):
        rising = np.sign(values[-1] - values[0])
        turn = int(np.flatnonzero(np.sign(steps) == -rising)[0])
        yield c.found(
            Severity.ERROR,
            c.key("laws"),
            f"the value turns back at count {number(float(c.counts[c.inside][turn]))}, where it "
            f"reads {c.channel.shown(float(values[turn]))}",
            "Compare the coefficients with their source, or narrow the limits",
        )


def _is_scaled(c: Facts, i: int, later: Law) -> bool:
    """Whether what the clamp i holds is only scaled to something else: its ends are then those of
    the result."""
    clamp, marks = c.laws[i], getattr(later, "marks", None)
    if marks and later is c.laws[i + 1]:
        raws = sorted(float(raw) for raw, _ in marks)
        room = 1e-9 * (raws[-1] - raws[0])
        return _low(clamp) >= raws[0] - room and _high(clamp) <= raws[-1] + room
    return not marks and later.gives not in (None, c.channel.chain.units[i + 1])


def _reach(c: Facts, i: int) -> tuple[float, float] | None:
    """What comes to law i between the marks of the line before it; None without marks."""
    for j in range(i - 1, 0, -1):
        if marks := getattr(c.laws[j], "marks", None):
            x = np.array([float(true) for _, true in marks])
            for law in c.laws[j + 1 : i]:
                x = law.forward(x)
            return (float(x.min()), float(x.max())) if np.isfinite(x).all() else None
    return None


def _low(law: object) -> float:
    assert isinstance(law, Clamp)
    return -np.inf if law.low is None else law.low


def _high(law: object) -> float:
    assert isinstance(law, Clamp)
    return np.inf if law.high is None else law.high


def marks_of(c: Facts) -> tuple[int, Line] | None:
    """A line through marks that stands on the counts themselves."""
    for i, law in c.of("line"):
        if i == 1 and isinstance(law, Line) and law.marks and c.channel.chain.units[1] == "count":
            return i, law
    return None


RULES = (
    few_counts,
    outside_marks,
    marks_on_rails,
    misplaced_clamp,
    clamp_too_early,
    limits_out_of_reach,
    turns_back,
)
