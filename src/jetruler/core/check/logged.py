"""Rules between a bench and a log."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, fields
from itertools import permutations

import numpy as np

from ..bench.bench import Bench
from ..bench.channel import Channel
from ..bench.conditions import travel
from ..bench.covariance import is_measure
from ..laws.interval import Expect
from ..result import Finding, Severity
from ..ruler.reading import Flag
from ..ruler.ruler import Law
from ..ruler.units import number, shown, significant
from ..survey.blocks import FLOATING_REMEDY, Floating, floating_text
from ..survey.survey import Survey
from .chains import marks_of
from .changes import BenchChange, channel_changed, law_changed, law_inserted, together
from .facts import Facts
from .ranges import narrow_zones

#: A clamp may hold so much of a log before it hides something.
HIDDEN = 0.01


#: An end may be missed by so much of the travel.
MISSED = 0.02


#: A knob that is turned from stop to stop rests at each for so much of a log.
RESTS = 0.1


#: A log that shows less of the travel was not moved from stop to stop.
COVERED = 0.8


@dataclass(frozen=True)
class Logged:
    """A channel's facts beside what its column does in a log."""

    facts: Facts
    survey: Survey
    floating: Floating | None


def clamp_hides(s: Logged) -> Iterator[Finding]:
    """A clamp that acts on more than one sample in a hundred.

    The clamped values may come from a knob at rest or from a broken sensor; they look the same.
    """
    c = s.facts
    if not c.clamps or not s.survey.samples:
        return
    counts, occurrences = s.survey.pairs()
    flags = c.channel.chain.read(counts).flags
    found = marks_of(c)
    raws = [float(end) for end in travel(c.channel) or ()]
    raws = sorted(raw for raw, _ in found[1]) if found is not None else raws
    # What rests at a stop lies a little beyond the mark that was drawn in from there.
    travelled = raws[-1] - raws[0] if raws else 0.0
    room = max(MISSED * travelled, min(5.0 * s.survey.noise, 0.05 * travelled))
    room = max(room, 2.0 * s.survey.lsb)
    for flag, word in ((Flag.BELOW, "below"), (Flag.ABOVE, "above")):
        held = (flags & int(flag)) != 0
        if raws:
            held &= (counts < raws[0] - room) | (counts > raws[-1] + room)
        samples = int(occurrences[held].sum())
        if samples > HIDDEN * s.survey.samples:
            place, _ = c.clamps[-1]
            fraction = f"{samples / s.survey.samples:.1%}"
            yield c.found(
                Severity.WARNING,
                c.place(place),
                f"it clamps {samples} of {s.survey.samples} samples ({fraction}) {word} it",
                "If the travel ends there, move the marks inward: jetruler look --ends; if not, an "
                "`expect` in front of it detects a broken wire",
                _at_ends(s),
            )


def unreached_marks(s: Logged) -> Iterator[Finding]:
    """Marks of a knob, clamped to them, that the log never reaches.

    A knob that stops short of its mark never reads 0 % or 100 %: the actuator never quite closes.
    """
    found = marks_of(s.facts)
    v = s.survey
    if found is None or s.facts.labelled or not s.facts.clamps:
        return  # only what is kept within its marks is a knob
    place, marks = found
    raws = sorted(raw for raw, _ in marks)
    room = MISSED * (raws[-1] - raws[0])
    if v.high_end - v.low_end < COVERED * (raws[-1] - raws[0]) or not _rests(v):
        return  # not moved from stop to stop
    for raw, end, short in (
        (raws[0], v.low_end, v.low_end - raws[0]),
        (raws[-1], v.high_end, raws[-1] - v.high_end),
    ):
        if short > room:
            true = s.facts.channel.shown(float(s.facts.channel.chain(raw)))
            yield s.facts.found(
                Severity.WARNING,
                s.facts.place(place, "marks"),
                f"the mark at {number(raw)} ({true}) is never reached: the log ends at "
                f"{number(end)}",
                "Move it from stop to stop while logging; then jetruler look --ends --write",
                _at_ends(s),
            )


def _at_ends(s: Logged) -> list[BenchChange]:
    """The marks of a knob at the ends that the log shows; an `expect` round those that it has."""
    found = marks_of(s.facts)
    if found is None:
        return []
    place, marks = found
    (low, at_low), (high, at_high) = sorted(marks)
    ends = ((float(s.survey.low_end), at_low), (float(s.survey.high_end), at_high))
    changes = law_changed(s.facts, place, marks=ends)
    room = 0.05 * (high - low)
    sound = Expect(significant(low - room, 4), significant(high + room, 4))
    return changes + law_inserted(s.facts, place, sound)


def _rests(v: Survey) -> bool:
    """Whether the samples rest at both ends, longer than a wave stays near its turning points."""
    values, occurrences = v.pairs()
    near = max(0.01 * (v.high_end - v.low_end), 4.0 * v.noise)
    at = [occurrences[np.abs(values - end) <= near].sum() for end in (v.low_end, v.high_end)]
    return bool(min(at) >= RESTS * v.samples)


def wrong_converter(s: Logged) -> Iterator[Finding]:
    """Counts that do not fit this converter.

    Above its top code there is no value. Far below it, or with a full scale that no code reaches,
    every value is wrong by a factor.
    """
    edge, v = s.facts.channel.chain.converter, s.survey
    if edge is None or not v.rows:
        return
    full = float(edge.highest if edge.full_count is None else edge.full_count)
    top = f"0 to {edge.highest}" if edge.lowest == 0 else f"{edge.lowest} to {edge.highest}"
    what = ""
    off = v.off_scale
    beyond = off is not None and not edge.lowest <= off.furthest <= edge.highest
    if off is not None and beyond and off.samples > HIDDEN * v.rows:
        far = number(off.furthest)
        what = f"the log has counts up to {far}, and the converter gives {top}"
    elif full > edge.highest + 1:
        what = f"{number(full)} counts are the reference, and the converter gives {top}"
    elif v.largest < 0.1 * edge.highest and _is_top(v):
        what = f"the counts end at {number(v.largest)}, the top of fewer bits, of {top}"
    if what:
        yield s.facts.found(
            Severity.ERROR,
            s.facts.key("converter"),
            what,
            "Set the bits and the count_at_vref of the board's converter",
            _other_converter(s),
        )


def _other_converter(s: Logged) -> list[BenchChange]:
    """The bits that the counts of a log need; the full scale that they represent."""
    found = law_changed(s.facts, 0, count_at_vref=None) if s.facts.volts_converter else []
    off = s.survey.off_scale
    furthest = abs(float(s.survey.largest if off is None else off.furthest))
    for bits in range(max(1, int(furthest).bit_length()), 33):
        found += law_changed(s.facts, 0, bits=bits)
        break
    return found


def _is_top(v: Survey) -> bool:
    """Whether counts pile up at a number that is the largest of some converter."""
    top = int(v.largest) + 1
    if top < 64 or top & (top - 1) or v.distinct <= 8:
        return False
    values, occurrences = v.pairs()
    return bool(occurrences[-1] > 4 * np.median(occurrences[values > 0.5 * v.largest]))


def floating_input(s: Logged) -> Iterator[Finding]:
    """An input that is not connected: it hums with the mains, or wanders without a pattern.

    An open pin picks up signals from its surroundings; its values mean nothing, but look real.
    """
    if s.floating is not None:
        what = floating_text(s.floating)
        yield s.facts.found(Severity.ERROR, s.facts.key("column"), what, FLOATING_REMEDY)


def noisy_zones(s: Logged) -> Iterator[Finding]:
    """Zones narrower than the noise in the log.

    The zone changes from reading to reading although nothing else does: it flickers.
    """
    if not s.facts.channel.noise and s.survey.noise > 0 and s.facts.has_ends:
        yield from narrow_zones(Facts(s.facts.channel, noise=s.survey.noise))


def other_noise(s: Logged) -> Iterator[Finding]:
    """A noise in the bench file that differs from that of the log.

    Budgets, zones and averages are then computed for a quieter or noisier sensor.
    """
    stated, seen = s.facts.channel.noise, s.survey.noise
    least = s.survey.step * 0.5
    if not stated or not seen > 0 or s.survey.samples < 100:
        return
    if max(stated, seen) > OTHER_NOISE * max(min(stated, seen), least):
        unit = s.facts.channel.chain.takes
        yield s.facts.found(
            Severity.WARNING,
            s.facts.key("noise"),
            f"{shown(significant(seen, 2), unit)} in the log, and {shown(stated, unit)} are stated",
            f"Set noise = {significant(seen, 2):g}, or find the disturbance",
            channel_changed(s.facts.channel, "noise", significant(seen, 2)),
        )


def slipped_number(s: Logged) -> Iterator[Finding]:
    """A number that is wrong by a power of ten, or a sensor in the other leg of its divider, as the
    log and the limits show.

    The samples are outside the limits with it, and inside with the other value.
    """
    channel, v = s.facts.channel, s.survey
    if channel.limits is None or not v.samples or _fits(channel, v) > MISFIT:
        return
    bench, found = Bench("", {channel.name: channel}), []
    for i, law in enumerate(s.facts.laws):
        for change, text in (*_tens(s.facts, i, law), *_other_leg(s.facts, i)):
            if (fits := _fits(change.apply(bench)[channel.name], v)) > WELL:
                found.append((i, fits, text, change))
    if found:
        texts = ", or with ".join(text for _, _, text, _ in found[:3])
        yield s.facts.found(
            Severity.ERROR,
            s.facts.place(found[0][0]),
            f"{_fits(channel, v):.0%} of the log lie within the limits, and {found[0][1]:.0%} with "
            f"{texts}",
            "Compare with the part and the wiring",
            [change for *_, change in found],
        )


def _tens(c: Facts, i: int, law: Law) -> Iterator[tuple[BenchChange, str]]:
    for one in fields(law):  # type: ignore[arg-type]
        if is_measure(law, one.name, ()) and getattr(law, one.name):
            for times in (10.0, 0.1, 1000.0, 0.001, 100.0, 0.01):
                value = significant(getattr(law, one.name) * times, 9)
                for change in law_changed(c, i, **{one.name: value}):
                    yield change, f"{one.name} = {number(value)}"


def _other_leg(c: Facts, i: int) -> Iterator[tuple[BenchChange, str]]:
    for at, divider in c.dividers:
        other = "lower" if divider.sensor == "upper" else "upper"
        for change in law_changed(c, i, sensor=other) if at == i else ():
            yield change, f"the sensor as the {other} leg"


#: Of a log's samples, so few within the limits are a wrong number; this many, a right one.
MISFIT, WELL = 0.5, 0.95


#: A noise that is this many times another is not the same.
OTHER_NOISE = 4.0


def swapped_columns(logged: Mapping[str, Logged]) -> Iterator[Finding]:
    """Two channels with swapped columns: each fits the other's column better.

    Every value is a plausible number of the wrong sensor.
    """
    names = [name for name, s in logged.items() if s.facts.channel.limits and s.survey.samples]
    for one, other in permutations(names, 2):
        if one > other:
            continue
        a, b = logged[one].facts.channel, logged[other].facts.channel
        own = min(_fits(a, logged[one].survey), _fits(b, logged[other].survey))
        crossed = min(_fits(a, logged[other].survey), _fits(b, logged[one].survey))
        if own < 0.5 and crossed > 0.95:
            yield Finding(
                Severity.ERROR,
                f"channel.{one}.column",
                f"{_fits(a, logged[one].survey):.0%} of it lie within the limits of {one}, and "
                f"{_fits(a, logged[other].survey):.0%} of the column of {other}",
                f"Swap the columns of {one} and {other}: {b.column!r} and {a.column!r}",
                _changes=tuple(
                    together(*pair)
                    for pair in zip(
                        channel_changed(a, "column", b.column),
                        channel_changed(b, "column", a.column),
                        strict=True,
                    )
                ),
            )


def _fits(channel: Channel, survey: Survey) -> float:
    """The fraction of a column's samples that reads within a channel's limits."""
    counts, occurrences = survey.pairs()
    low, high = channel.limits or (-np.inf, np.inf)
    values = np.asarray(channel.chain(counts), dtype=np.float64)
    with np.errstate(invalid="ignore"):
        return float(
            occurrences[(values >= low) & (values <= high)].sum() / max(1, occurrences.sum())
        )


#: Every rule about a channel and its column in a log.
LOG_RULES = (
    slipped_number,
    wrong_converter,
    clamp_hides,
    unreached_marks,
    floating_input,
    noisy_zones,
    other_noise,
)
