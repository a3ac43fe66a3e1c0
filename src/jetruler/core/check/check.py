"""The rules by name, each a function of a channel's facts, told by its docstring; those between a
bench and a log."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from itertools import permutations

import numpy as np

from ..bench.bench import Bench
from ..bench.channel import Channel
from ..bench.conditions import travel
from ..result import Finding, Findings, Severity, applied
from ..ruler.reading import Flag
from ..ruler.units import number, shown, significant
from ..survey.blocks import FLOATING_REMEDY, Floating, floating_text
from ..survey.survey import Survey
from . import circuits, ranges, triggers
from .facts import Facts
from .ranges import marks_of, narrow_zones

Rule = Callable[[Facts], Iterator[Finding]]
BenchRule = Callable[[Bench], Iterator[Finding]]


def unknown_range(c: Facts) -> Iterator[Finding]:
    """An input whose range is not said.

    What its laws make of all that it can give cannot be looked at.
    """
    if c.has_ends:
        return
    yield c.found(
        Severity.NOTE,
        c.key("input"),
        "its range is not known: its laws are not checked",
        "Say it, as in range = [0, 10]",
    )


#: Every rule about one channel; about a bench as a whole.
CHANNEL_RULES: tuple[Rule, ...] = (unknown_range, *circuits.RULES, *ranges.RULES)
BENCH_RULES: tuple[BenchRule, ...] = (circuits.top_counts_disagree, *triggers.RULES)


def check(bench: Bench, listed: Iterable[str] = ()) -> Findings:
    """All that the rules find in a bench, the most serious first.

    Parameters
    ----------
    bench : Bench
        The bench.
    listed : Iterable[str], default ()
        Names of the channels whose converter stands in their own list of laws, so that places
        count as the bench file does.

    Returns
    -------
    Findings
        Findings; empty if nothing was found.

    Notes
    -----
    Where nothing was found it is empty.

    Examples
    --------
    >>> import jetruler as jr
    >>> ruler = jr.Adc(12, 3.3) >> jr.Divider(4700) >> jr.Beta(100e3, 3950)
    >>> sensor = jr.Channel("t", ruler, "ch0", limits=(20, 250))
    >>> print(jr.check(jr.Bench("Desk", {"t": sensor})))
    nothing found
    """
    own = set(listed)
    found = [finding for rule in BENCH_RULES for finding in applied(rule, bench)]
    for channel in bench.channels.values():
        facts = Facts(channel, channel.name in own)
        for rule in CHANNEL_RULES if facts.has_ends else (unknown_range,):
            found += applied(rule, facts)
    return Findings.of(found, unjudged(bench))


def unjudged(bench: Bench, logged: bool = False) -> dict[str, str]:
    """What the rules cannot judge of each channel, for want of a number that the bench does not
    say; channels with nothing of this kind are left out. logged: whether a log shows the noise."""
    found = {}
    for channel in bench.channels.values():
        facts, wants = Facts(channel), []
        if not facts.has_ends:
            continue  # a finding of its own
        if channel.limits is None and not facts.labelled and not facts.clamps:
            fits = " and whether its resistor fits" if facts.dividers else ""
            wants.append(f"limits: whether it reaches them, how much of the range is used{fits}")
        decides = facts.labelled or any(
            c.channel == channel.name and (c.above is not None or c.below is not None)
            for trip in bench.trips.values()
            for c in trip.conditions
        )
        if decides and not channel.noise and not logged:
            wants.append("noise: whether its decisions flicker")
        if wants:
            found[channel.name] = "; ".join(wants)
    return found


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
    floating: Floating | None = None


def clamp_hides(s: Logged) -> Iterator[Finding]:
    """A clamp that hides more than one sample in a hundred.

    What it holds at an end may be a knob at rest, or a sensor that is broken: the value looks
    sound either way.
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
                f"it holds {samples} of {s.survey.samples} samples ({fraction}) that are {word} it",
                "If that is the end of a travel, draw the marks in: jetruler look --ends; if not, "
                "an `expect` in front of it tells a broken wire",
            )


def unreached_marks(s: Logged) -> Iterator[Finding]:
    """Marks of a knob (a clamp keeps it within them) that the log never reaches.

    A knob that stops short of its mark never reads 0 % or 100 %: what it drives never quite
    closes.
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
            )


def _rests(v: Survey) -> bool:
    """Whether the samples rest at both ends, longer than a wave stays near its turning points."""
    values, occurrences = v.pairs()
    near = max(0.01 * (v.high_end - v.low_end), 4.0 * v.noise)
    at = [occurrences[np.abs(values - end) <= near].sum() for end in (v.low_end, v.high_end)]
    return bool(min(at) >= RESTS * v.samples)


def wrong_converter(s: Logged) -> Iterator[Finding]:
    """Counts that are not those of this converter.

    Beyond its top code nothing has a value; far below it, or with a full scale that no code
    reaches, every value is wrong by a factor.
    """
    edge, v = s.facts.channel.chain.converter, s.survey
    if edge is None or not v.rows:
        return
    full = float(edge.highest if edge.full_count is None else edge.full_count)
    top = f"0 to {edge.highest}" if edge.lowest == 0 else f"{edge.lowest} to {edge.highest}"
    what = ""
    off = v.off_scale
    if off is not None and off.samples > HIDDEN * v.rows:
        far = number(off.furthest)
        what = f"the log has counts as far as {far}, and the converter gives {top}"
    elif full > edge.highest + 1:
        what = f"{number(full)} counts stand for the reference, and the converter gives {top}"
    elif v.largest < 0.1 * edge.highest and _is_top(v):
        what = f"the counts end at {number(v.largest)}, the top of fewer bits, of {top}"
    if what:
        yield s.facts.found(
            Severity.ERROR,
            s.facts.key("converter"),
            what,
            "Say the bits, and the count at vref, that the board's converter has",
        )


def _is_top(v: Survey) -> bool:
    """Whether counts pile up at a number that is the largest of some converter."""
    top = int(v.largest) + 1
    if top < 64 or top & (top - 1) or v.distinct <= 8:
        return False
    values, occurrences = v.pairs()
    return bool(occurrences[-1] > 4 * np.median(occurrences[values > 0.5 * v.largest]))


def floating_input(s: Logged) -> Iterator[Finding]:
    """An input that nothing is connected to: it hums with the mains, or wanders without a pattern.

    A pin that floats picks up whatever is near it; its values mean nothing, and look alive.
    """
    if s.floating is not None:
        what = floating_text(s.floating)
        yield s.facts.found(Severity.ERROR, s.facts.key("column"), what, FLOATING_REMEDY)


def noisy_zones(s: Logged) -> Iterator[Finding]:
    """Zones narrower than the noise that the log shows.

    The zone then changes from reading to reading although nothing else does: it flickers.
    """
    if not s.facts.channel.noise and s.survey.noise > 0 and s.facts.has_ends:
        yield from narrow_zones(Facts(s.facts.channel, noise=s.survey.noise))


def other_noise(s: Logged) -> Iterator[Finding]:
    """A noise that is stated, and another one in the log.

    Budgets, zones and averages are then made for a calmer or a noisier sensor than this one.
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
            f"Say noise = {significant(seen, 2):g}, or find what disturbs it",
        )


#: A noise that is so many times another is not the same.
OTHER_NOISE = 4.0


def swapped_columns(logged: Mapping[str, Logged]) -> Iterator[Finding]:
    """Two channels whose columns are swapped: each fits the other's column better.

    Every value is then a plausible number of the wrong thing.
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
    clamp_hides,
    unreached_marks,
    wrong_converter,
    floating_input,
    noisy_zones,
    other_noise,
)
