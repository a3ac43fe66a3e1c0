"""Rules about what is in a chain and in which order: marks, clamps, `expect`, whole numbers."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import numpy as np

from ..result import Finding, Severity
from ..ruler.base_law import Role
from ..ruler.raw_range import raw_ends
from ..ruler.ruler import Law
from ..ruler.units import number, shown, significant
from ..uncertainty.contributions import resolution_of
from .changes import BenchChange, channel_changed, law_changed, law_left_out, law_moved, together
from .facts import Facts, Marked


def marks_of_another(c: Facts) -> Iterator[Finding]:
    """Marks from 0 to the top count of a converter with another number of bits.

    A scale of 0 to 1023 belongs to 10 bits. With more bits, the value leaves its range after a part
    of the travel (and a clamp hides it); with fewer bits, it never gets far.
    """
    converter = c.channel.chain.converter
    found = marks_of(c)
    if converter is None or found is None or converter.lowest != 0:
        return
    place, marks = found
    yield from _volts_as_counts(c, place, marks)
    low, high = sorted(raw for raw, _ in marks)
    tops = {2**bits - 1: bits for bits in range(8, 25, 2)}
    for top in (high, high - 1):
        if low == 0 and top in tops and tops[top] < converter.bits:
            yield c.found(
                Severity.WARNING,
                c.place(place, "marks"),
                f"the marks go from 0 to {number(high)}, the range of {tops[top]} bits, and the "
                f"converter has {converter.bits}",
                f"Use the counts of the log (jetruler look --ends), or set bits = {tops[top]}",
                _marks_at(c, place, {high: float(converter.highest)}),
            )
            return


def marks_on_rails(c: Facts) -> Iterator[Finding]:
    """A mark on a rail of the converter.

    A sensor beyond the converter's range reads the same count. The mark then only says that the
    true value is there or beyond, and a line through it is wrong everywhere.
    """
    converter = c.channel.chain.converter
    found = marks_of(c)
    if converter is None or found is None or c.channel.rails is not None:
        return
    place, marks = found
    rails = (converter.lowest, converter.highest)
    on = [mark for mark in marks if mark[0] in rails]
    # A line that gives volts for the counts is the converter's own, and knows its ends.
    if on and c.laws[place].gives != "V":
        raw, true = on[-1]
        yield c.found(
            Severity.NOTE,
            c.place(place, "marks"),
            f"the mark [{number(raw)}, {number(true)}] is on a rail of the converter",
            "Use marks further inside (jetruler look --ends), or set "
            'rails = "ends" if the travel ends there',
            channel_changed(c.channel, "rails", "ends"),
        )


def outside_marks(c: Facts) -> Iterator[Finding]:
    """Marks at counts that the converter does not have.

    An end that no count reaches is never shown: the knob stops at 99 %, or the scale belongs to
    another converter.
    """
    converter = c.channel.chain.converter
    for i, law, marks in c.marked:
        if converter is None and i == 1:
            yield from _outside_input(c, marks)
        if converter is None or c.channel.chain.units[i] != "count":
            continue
        out = [mark for mark in marks if not converter.lowest <= mark[0] <= converter.highest]
        if out and i == 1:
            raw, true = out[0]
            yield c.found(
                Severity.ERROR,
                c.place(i, "marks"),
                f"the count {number(raw)} for {shown(true, law.gives)} lies outside "
                f"{converter.lowest} to {converter.highest}",
                "Turn the sensor to its ends and use those counts: jetruler look --ends",
                _marks_at(c, i, {raw: float(np.clip(raw, converter.lowest, converter.highest))}),
            )


def _outside_input(c: Facts, marks: Marked) -> Iterator[Finding]:
    """Marks beyond the range that an input has."""
    low, high = raw_ends(c.channel.chain)
    out = [raw for raw, _ in marks if not low - (high - low) <= raw <= high + (high - low)]
    if out:
        unit, ((_, y0), (_, y1)) = c.channel.chain.takes, marks
        yield c.found(
            Severity.ERROR,
            c.place(1, "marks"),
            f"the mark at {shown(out[0], unit)} lies far outside {number(low)} to "
            f"{shown(high, unit)}",
            "Use marks that the input reaches: jetruler look --ends",
            law_changed(c, 1, marks=((low, y0), (high, y1))),
        )


def _volts_as_counts(c: Facts, place: int, marks: Marked) -> Iterator[Finding]:
    """Marks in volts that are on counts."""
    converter = c.channel.chain.converter
    raws = sorted(raw for raw, _ in marks)
    fits = converter is not None and raws[0] >= 0 and raws[1] < 0.01 * converter.highest
    if converter is None or not fits or all(raw.is_integer() for raw in map(float, raws)):
        return
    yield c.found(
        Severity.ERROR,
        c.place(place, "marks"),
        f"the marks are at {number(raws[0])} and {number(raws[1])} counts of {converter.highest}",
        f'If they are volts, write the unit: marks = [["{number(marks[0][0])} V", '
        f'{number(marks[0][1])}], ["{number(marks[1][0])} V", {number(marks[1][1])}]]',
        law_changed(c, place, marks=marks, takes="V"),
    )


def _marks_at(c: Facts, i: int, moved: Mapping[float, float]) -> list[BenchChange]:
    """The marks of law i with other raw values for some."""
    marks = c.laws[i].marks or ()
    found = law_changed(c, i, marks=tuple((moved.get(x, x), y) for x, y in marks))
    at_ends = channel_changed(c.channel, "rails", "ends")
    return found + [together(one, other) for one in found for other in at_ends]


def misplaced_clamp(c: Facts) -> Iterator[Finding]:
    """A clamp that clamps almost everything, or nothing: its range is not that of the marks.

    The marks were reversed or scaled, and the clamp was not. The value stays at one end, or leaves
    its range.
    """
    for i, (lowest, highest) in c.clamps:
        before = c.joints[i][np.isfinite(c.joints[i])]
        if not before.size:
            continue
        reach = _reach(c, i)
        low, high = reach or (float(before.min()), float(before.max()))
        kept = max(0.0, min(high, highest) - max(low, lowest))
        held = 1.0 - kept / (high - low) if high > low else 0.0
        if reach is None:  # a bent law spends most of its span on few counts
            held = float(np.mean((before < lowest) | (before > highest)))
        if reach is not None and highest - lowest > IDLE * (high - low) > 0:
            yield c.found(
                Severity.WARNING,
                c.place(i),
                f"its input goes from {number(low)} to {number(high)}, and the clamp from "
                f"{number(lowest)} to {number(highest)}: it never holds",
                "Give the clamp the ends of the marks, the low one first",
                law_changed(c, i, low=significant(low, 9), high=significant(high, 9)),
            )
        elif held > 0.9:
            ends = f"{number(low)} to {number(high)}"
            yield c.found(
                Severity.ERROR,
                c.place(i),
                f"its input goes from {ends}; {held:.0%} of that is clamped",
                "Give the clamp the ends of the marks, the low one first",
                law_changed(c, i, low=significant(low, 9), high=significant(high, 9)),
            )


def clamp_too_early(c: Facts) -> Iterator[Finding]:
    """A clamp before a law that changes the range again.

    The clamp does not limit the result, which can still leave its range.
    """
    for i, ends in c.clamps:
        for later in c.laws[i + 1 :]:
            if later.role in (Role.HOLD, Role.ROUND, Role.LABEL, Role.UNIT):
                continue
            if _is_scaled(c, i, ends, later):
                break
            yield c.found(
                Severity.WARNING,
                c.place(i),
                f"{later.name} is behind the clamp and changes the value again",
                "Put the clamp last",
                _moved_back(c, i),
            )
            break


def _moved_back(c: Facts, i: int) -> list[BenchChange]:
    """Law i as the last one, but for zones: with its ends, or with those of the marks."""
    to = next((j for j, law in c.of(Role.LABEL)), len(c.laws))
    found = law_moved(c, i, to)
    if c.laws[i].keeps_within is not None and (reach := _reach(c, to)) is not None:
        found += law_moved(c, i, to, low=reach[0], high=reach[1])
    # The marks are on the counts then, and may be on the rails.
    at_ends = channel_changed(c.channel, "rails", "ends")
    return found + [together(one, other) for one in found for other in at_ends]


def excludes_marks(c: Facts) -> Iterator[Finding]:
    """An `expect` that treats values as faults which the marks before it use.

    Its ends belong to another place in the chain, such as milliamperes behind a line in bar.
    """
    for i, law in enumerate(c.laws):
        if law.role is not Role.HOLD or law.keeps_within is not None:
            continue
        if (marked := _reach(c, i)) is not None:
            came = np.linspace(*marked, 201)
        else:  # all that can come
            came = c.joints[i][np.isfinite(c.joints[i])]
        if not came.size:
            continue
        reach = float(came.min()), float(came.max())
        ends = np.array([getattr(law, "low", None), getattr(law, "high", None)], dtype=np.float64)
        with np.errstate(all="ignore"):
            gone = float(np.mean(np.isnan(law.forward(came))))
        if gone > EXCLUDED if marked else gone == 1:
            unit = c.channel.chain.units[i]
            between = " to ".join(number(float(end)) for end in ends if np.isfinite(end))
            before = "the marks before it read" if marked else "its input is"
            yield c.found(
                Severity.ERROR,
                c.place(i),
                f"{before} {number(reach[0])} to {shown(reach[1], unit)}, and it "
                f"expects {between}: {gone:.0%} of that counts as a fault",
                "Put it in front of the line, in the unit of its ends, or give it the ends "
                "of the marks with some room",
                _expected_before(c, i, reach),
            )


def _expected_before(c: Facts, i: int, reach: tuple[float, float]) -> list[BenchChange]:
    """The `expect` in front of each law with marks before it; the ends of the marks with room."""
    found = []
    for j in range(i - 1, 0, -1):
        if c.laws[j].marks:
            takes = c.laws[j].takes
            found += law_moved(c, i, j, unit=None if takes == "count" else takes)
    low, high = getattr(c.laws[i], "low", None), getattr(c.laws[i], "high", None)
    for times in (1e-3, 1e3):  # milliamperes for amperes
        ends_then = (("low", low), ("high", high))
        small = {key: significant(end * times, 9) for key, end in ends_then if end is not None}
        if all(reach[0] <= end <= reach[1] for end in small.values()):
            found += law_changed(c, i, **small)
    room = 0.05 * (reach[1] - reach[0])
    ends = {"low": significant(reach[0] - room, 4), "high": significant(reach[1] + room, 4)}
    return found + law_changed(c, i, **ends)


def rounded_too_early(c: Facts) -> Iterator[Finding]:
    """A rounding before a law that scales or bends.

    The result has the steps of the rounded number times the slope behind it, however fine the
    converter is.
    """
    for i, law in c.of(Role.ROUND):
        later = [one for one in c.laws[i + 1 :] if not one.role.shapes]
        if later and law.changes_value:
            yield c.found(
                Severity.WARNING,
                c.place(i),
                f"{later[0].name} is behind it and scales its steps",
                "Put the rounding last",
                [*_moved_back(c, i), *law_left_out(c, i)],
            )
            return


def _is_scaled(c: Facts, i: int, ends: tuple[float, float], later: Law) -> bool:
    """Whether what the clamp i holds is only scaled to something else: its ends are then those of
    the result."""
    marks = later.marks
    if marks and later is c.laws[i + 1]:
        raws = sorted(float(raw) for raw, _ in marks)
        room = 1e-9 * (raws[-1] - raws[0])
        covered = (ends[1] - ends[0]) / (raws[-1] - raws[0])
        return ends[0] >= raws[0] - room and ends[1] <= raws[-1] + room and covered > HALF
    return not marks and later.gives not in (None, c.channel.chain.units[i + 1])


def _reach(c: Facts, i: int) -> tuple[float, float] | None:
    """What comes to law i between the marks of the line before it; None without marks."""
    for j in range(i - 1, 0, -1):
        if marks := c.laws[j].marks:
            x = np.array([float(true) for _, true in marks])
            for law in c.laws[j + 1 : i]:
                x = law.forward(x)
            return (float(x.min()), float(x.max())) if np.isfinite(x).all() else None
    return None


def marks_of(c: Facts) -> tuple[int, Marked] | None:
    """The marks of a law that is on the counts themselves, and its index."""
    for i, _, marks in c.marked:
        if i == 1 and c.channel.chain.units[1] == "count":
            return i, marks
    return None


def rounding_misses_top(c: Facts) -> Iterator[Finding]:
    """A rounding that never reaches the top value.

    Rounded down, 100 % needs the very last count: with a real sensor, the display stops at 99.
    """
    for i, law in c.of(Role.ROUND):
        if getattr(law, "rounding", "nearest") not in ("down", "toward zero"):
            continue
        before, after = c.joints[i], c.joints[i + 1]
        there = np.isfinite(before)
        if not there.any():
            continue
        top = float(before[there].max())
        at_top = np.count_nonzero(after[there] >= np.floor(top))
        if float(top).is_integer() and at_top <= 2:
            yield c.found(
                Severity.WARNING,
                c.place(i, "rounding"),
                f"only {at_top} of {int(there.sum())} counts read {number(top)}",
                'Round to the nearest: rounding = "nearest", with the clamp in front of it',
                law_changed(c, i, rounding="nearest"),
            )


def skipped_numbers(c: Facts) -> Iterator[Finding]:
    """A whole output in steps larger than one.

    Some numbers never appear, however slowly the input moves: an actuator then moves in jerks.
    """
    for i, _ in c.of(Role.ROUND):
        steps = np.abs(np.diff(c.joints[i + 1]) / np.diff(c.counts))
        steps = steps[np.isfinite(steps)] * resolution_of(c.channel.chain)
        if steps.size and np.max(steps) > 1.5:
            usual = float(np.median(steps[steps > 0])) if np.any(steps > 0) else 0.0
            yield c.found(
                Severity.NOTE,
                c.place(i),
                f"one step moves the result by {number(significant(max(usual, steps.max()), 2))}",
                "A converter with more bits, or averaging, gives values between them",
                law_left_out(c, i),
            )


def one_number(c: Facts) -> Iterator[Finding]:
    """A rounding that gives the same number for everything.

    Rounding to whole numbers removes everything below one: if the whole range is less than one, the
    result is always 0.
    """
    for i, law in c.of(Role.ROUND):
        before, after = c.joints[i], c.joints[i + 1]
        there = np.isfinite(after)
        if not there.any() or np.ptp(after[there]) or not np.ptp(before[there]):
            continue
        low, high = (number(float(end)) for end in (before[there].min(), before[there].max()))
        rounding = getattr(law, "rounding", "nearest")
        yield c.found(
            Severity.ERROR,
            c.place(i),
            f"its input goes from {low} to {high}, and rounded ({rounding}) all of it is "
            f"{number(float(after[there][0]))}",
            "Multiply before the rounding: a larger unit step, as tenths or thousandths",
            law_left_out(c, i),
        )


def overflowing_product(c: Facts) -> Iterator[Finding]:
    """A product that overflows 16 or 32 bits in firmware.

    Whole numbers are multiplied before they are divided, and the product must fit its type.
    Otherwise it wraps, and a rising input reads as a falling or negative one.
    """
    if not c.of(Role.ROUND):
        return
    for i, _, ((_, y0), (_, y1)) in c.marked:
        if c.channel.chain.units[i] != "count":
            continue
        span = abs(y1 - y0) * 10.0 ** (c.channel.decimals or 0)
        product = float(np.ptp(c.counts)) * span
        for bits, limit in ((32, 2.0**31 - 1), (16, 2.0**15 - 1)):
            if product > limit:
                yield c.found(
                    Severity.NOTE,
                    c.place(i, "marks"),
                    f"{number(float(np.ptp(c.counts)))} counts times {number(span)} is "
                    f"{number(product, 4)}: more than {bits} bits hold ({limit:.0f})",
                    f"Compute it in {2 * bits} bits, or divide by a common factor first",
                )
                break


#: A clamp that is this many times as wide as what comes in is that of something else.
IDLE = 10.0
#: A clamp that leaves less of the marks behind it has the ends of something else.
HALF = 0.5


#: So much of what marks call sound may be a fault to an `expect` behind them.
EXCLUDED = 0.05


RULES = (
    outside_marks,
    marks_of_another,
    excludes_marks,
    rounded_too_early,
    marks_on_rails,
    clamp_too_early,
    misplaced_clamp,
    rounding_misses_top,
    skipped_numbers,
    one_number,
    overflowing_product,
)
