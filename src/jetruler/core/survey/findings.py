"""Plain-language findings from a survey, most serious first, each with what to do."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from ..bench.channel import Channel
from ..bench.conditions import rail_faults
from ..error_types import ParameterError
from ..result import Finding, Severity, applied
from ..ruler.reading import Flag
from ..ruler.units import many, number, shown, significant, symbol
from .blocks import FLOATING_REMEDY, Floating, floating_text
from .distribution import LEAST
from .ends import Ends, NothingMovedError, ends_of
from .how_many import how_many
from .running_statistics import GAP, TimeSurvey
from .survey import Survey


def repeats_bits(found: Survey, codes: int) -> bool:
    """Whether counts are codes of so few bits whose high bits are repeated below."""
    bits = int(found.highest - found.lowest + 1).bit_length() - 1
    if found.distribution.shift:
        return False
    low = (1 << (bits - codes)) - 1
    return bool((found.pairs()[0].astype(np.int64) & low).any())


def code_bits(found: Survey) -> int:
    """Return the bits of the codes that all counts are made of: fewer than the converter's where
    results are shifted to the left, or their high bits are repeated below."""
    bits = int(found.highest - found.lowest + 1).bit_length() - 1 if found.unit == "count" else 0
    if found.unit != "count" or found.step != 1.0 or found.distinct < 8 or bits > 32:
        return bits
    counts = found.pairs()[0].astype(np.int64)
    for codes in range(6, bits):
        low = (1 << (bits - codes)) - 1
        shifted = found.lsb % (low + 1) == 0
        repeated = found.lowest == 0 and bits <= 2 * codes and not found.distribution.shift
        if shifted or (repeated and np.array_equal(counts & low, counts >> codes)):
            return codes
    return bits


@dataclass(frozen=True)
class Subject:
    """What is looked at: a column's survey, its channel if the bench has one, the time between
    samples if that is known, and where a row is: `line 7`, or `row 6` of a frame."""

    name: str
    survey: Survey
    channel: Channel | None
    interval: float | None
    at: Callable[[int], str]
    floating: Floating | None = None

    def lasting(self, samples: float) -> str:
        """A number of samples, as time too where that is known."""
        text = many(round(samples), "sample")
        return f"{text} ({number(samples * self.interval)} s)" if self.interval else text

    def amount(self, value: float, digits: int = 2) -> str:
        """A difference of raw values, with its unit."""
        text = significant(value, digits)
        is_count = self.survey.unit == "count"
        if is_count:
            return "1 count" if text == 1 else f"{number(text)} counts"
        return shown(text, self.survey.unit)

    def valued(self, raw: float) -> str:
        """A raw value, with what it reads where that is known and another one."""
        text = number(raw) if self.survey.unit == "count" else shown(raw, self.survey.unit)
        if self.channel is None or math.isnan(raw):
            return text
        reads = self.channel.shown(self.channel.ruler(raw))
        return text if self.is_own_unit else f"{text} ({reads})"

    @property
    def is_own_unit(self) -> bool:
        """Whether the channel only passes its raw values on."""
        return (
            self.channel is not None
            and len(self.channel.chain.laws) == 1
            and (self.channel.unit == self.survey.unit != "count")
        )

    @property
    def noun(self) -> str:
        """What people call the raw edge."""
        edge = self.channel.chain.edge if self.channel is not None else None
        return edge.noun if edge is not None else "converter"

    @property
    def unit_noise(self) -> float:
        """Noise in the channel's unit, at the median count; NaN without a channel."""
        if self.channel is None or self.channel.ruler.label(0.0) is not None:
            return math.nan
        return float(abs(self.channel.ruler.slope(self.survey.median)) * self.survey.noise)


def findings(subject: Subject) -> list[Finding]:
    """Everything worth saying about one column."""
    return [finding for rule in RULES for finding in applied(rule, subject)]


def _nothing(s: Subject) -> Iterator[Finding]:
    if not s.survey.samples:
        yield Finding(
            Severity.ERROR,
            s.name,
            "not one sample can be read",
            "Look at the logger and the column",
        )
    elif s.survey.distinct == 1 and s.survey.samples > 1:
        yield Finding(
            Severity.WARNING,
            s.name,
            f"every sample is {s.valued(s.survey.smallest)}",
            "Move the sensor while logging; if nothing changes, look for a dead input",
        )


def _floating(s: Subject) -> Iterator[Finding]:
    if s.floating is not None:
        yield Finding(Severity.ERROR, s.name, floating_text(s.floating, s.at), FLOATING_REMEDY)


def _missing(s: Subject) -> Iterator[Finding]:
    v = s.survey
    if v.missing and v.samples:
        yield Finding(
            Severity.WARNING,
            s.name,
            f"{v.missing} of {v.rows} samples are missing ({v.missing / v.rows:.2%})",
            "Look for a loose logger cable or a full buffer; converted rows are flagged missing",
        )


def _off_scale(s: Subject) -> Iterator[Finding]:
    off, v = s.survey.off_scale, s.survey
    if off is None:
        return
    known = math.isfinite(v.lowest) or math.isfinite(v.highest)
    of = f"{number(v.lowest)} to {number(v.highest)}"
    where = f"of the {s.noun} ({of})" if known else "that all others show"
    far = number(off.furthest) if v.unit == "count" else shown(off.furthest, v.unit)
    yield Finding(
        Severity.ERROR if off.samples > 0.01 * v.rows else Severity.WARNING,
        s.name,
        f"{many(off.samples, 'sample')} beyond the range {where}, as far as {far} in "
        f"{s.at(off.row)}: excluded from all statistics",
        "Look at these lines: two joined lines, or another converter's",
    )


def _rails(s: Subject) -> Iterator[Finding]:
    v = s.survey
    if v.distinct < 2 or (v.smallest >= 0 and v.largest <= 1 and v.step == 1.0):
        return  # nothing moves, or only on and off
    faults = rail_faults(s.channel) if s.channel is not None else -1
    for flag, fraction, rail, count, sudden, meaning in (
        (
            *(Flag.LOW_RAIL, v.on_low_rail, "low", v.lowest, v.sudden[0]),
            "a short to ground, or a value below what can be measured",
        ),
        (
            *(Flag.HIGH_RAIL, v.on_high_rail, "high", v.largest, v.sudden[1]),
            "an open wire, or a source above the reference",
        ),
    ):
        if not fraction or not faults & int(flag):
            continue
        samples = round(fraction * v.samples)
        longest = v.rail_stretch
        where = ""
        if longest is not None and longest.count == count:
            place = f"from {s.at(longest.row)}"
            one = longest.length == samples
            where = (
                f", {place}"
                if one
                else f", the longest stretch {s.lasting(longest.length)} {place}"
            )
        severity = Severity.NOTE if s.channel is None else Severity.WARNING
        remedy = f"That is {meaning}"
        if sudden:
            alone = longest is None or longest.length == 1
            severity = Severity.WARNING if alone else Severity.ERROR
            remedy += ": if it comes and goes, a loose connector"
        elif s.channel is None:
            remedy += ", or the stop of a knob that turns as far"
        else:
            remedy += '; set rails = "ends" if its travel goes there'
        yield Finding(
            severity,
            s.name,
            f"is on its {rail} rail ({number(count)}) for {s.lasting(samples)}{where}",
            remedy
            if v.unit == "count"
            else "The end of the input's range: nothing is there, or the signal goes beyond it",
        )


def _limits(s: Subject) -> Iterator[Finding]:
    if s.channel is None or s.channel.limits is None or not s.survey.samples:
        return
    counts, occurrences = s.survey.pairs()
    reading = s.channel.read(counts)
    values = np.asarray(reading.value)
    sound = reading.flags & int(Flag.FAULTY) == 0
    for end, word in ((0, "falls below"), (1, "rises above")):
        bound = s.channel.limits[end]
        # The values themselves: a clamp's flags say that it holds them, and not where.
        hit = sound & (values < bound if end == 0 else values > bound)
        samples = int(occurrences[hit].sum())
        if samples:
            worst = float(values[hit].min() if end == 0 else values[hit].max())
            yield Finding(
                Severity.WARNING,
                s.name,
                f"{word} its limit of {shown(bound, s.channel.unit)} for {s.lasting(samples)}, as "
                f"far as {s.channel.shown(worst)}",
                "A supply that sags or a process that runs away: look at that stretch",
            )


def _faults(s: Subject) -> Iterator[Finding]:
    if s.channel is None or not s.survey.samples:
        return
    counts, occurrences = s.survey.pairs()
    faulty = s.channel.read(counts).flags & int(Flag.FAULTY) != 0
    if samples := int(occurrences[faulty].sum()):
        yield Finding(
            Severity.ERROR,
            s.name,
            f"has values that no working sensor gives, for {s.lasting(samples)}",
            "Check the wiring: a broken or shorted loop",
        )


def _scaled(s: Subject) -> Iterator[Finding]:
    v = s.survey
    codes = code_bits(v)
    bits = int(v.highest - v.lowest + 1).bit_length() - 1 if v.unit == "count" else 0
    if codes < bits:
        edge = s.channel.chain.edge if s.channel is not None else None
        known = edge is not None and edge.lsb == 2 ** (bits - codes)
        size = 2 ** (bits - codes)
        how = (
            f"all codes are multiples of {size}" if v.lsb == size else "the high bits are repeated"
        )
        yield Finding(
            Severity.NOTE,
            s.name,
            f"{how}: results of {codes} bits, left-scaled to {bits} bits",
            f"Nothing is lost; one LSB is {size} counts"
            + ("" if known else f": set codes = {codes} beside bits = {bits}"),
        )


def _range(s: Subject) -> Iterator[Finding]:
    v = s.survey
    if v.unit != "count":
        return  # no part that could be chosen
    if v.samples >= LEAST and v.distinct > 1 and v.range_fraction < 0.25:
        part = f"{v.range_fraction:.0%}" if v.range_fraction >= 0.01 else "less than 1%"
        yield Finding(
            Severity.NOTE,
            s.name,
            f"uses {part} of the {s.noun}'s range ({number(v.low_end)} to {number(v.high_end)})",
            "If this log covers all that the sensor does, another fixed resistor, reference or an "
            "amplifier would use more",
        )


def _travel(s: Subject) -> Iterator[Finding]:
    if s.channel is not None and not any(law.keeps_within for law in s.channel.chain.laws):
        return  # not a travel from end to end
    try:
        ends = ends_of(s.survey)
    except (NothingMovedError, ParameterError):
        return
    v = s.survey
    if not ends.rests_at_both or (v.smallest <= v.lowest and v.largest >= v.highest):
        return
    if s.channel is not None and _drawn_in(s.channel, ends, v):
        return
    rails = f", not at {number(v.lowest)} and {number(v.highest)}" if v.range_fraction >= 0 else ""
    yield Finding(
        Severity.NOTE,
        s.name,
        f"its travel ends at {number(v.low_end)} and {number(v.high_end)}{rails}",
        f"Use marks that reach both ends: {_marks_line(ends)}",
    )


def _drawn_in(channel: Channel, ends: Ends, v: Survey) -> bool:
    """Whether a channel's marks reach both ends already."""
    room = max(3.0 * ends.margin, 0.01 * (v.high_end - v.low_end))
    for law in channel.chain.laws:
        if law.marks is not None and channel.chain.laws.index(law) <= 1:
            raws = sorted(raw for raw, _ in law.marks)
            return abs(raws[0] - ends.low) <= room and abs(raws[-1] - ends.high) <= room
    return False


def _marks_line(ends: Ends) -> str:
    return ends.line(0, 100)


def _spikes(s: Subject) -> Iterator[Finding]:
    if s.survey.spikes:
        row = s.survey.spike_row
        first = "" if row is None else f", the first in {s.at(row)}"
        yield Finding(
            Severity.WARNING,
            s.name,
            many(s.survey.spikes, "isolated spike") + f" of one sample{first}",
            'Look for bad contacts; smooth = { kind = "spikes", over = 5 } takes them out and '
            "leaves the rest as it is",
        )


#: A stretch at one value is none below this many samples; a live sensor shows a longer one with no
#: more than this chance.
STUCK, CHANCE = 20, 1e-4
#: What moves has a travel of more than this many noises: noise alone leaves no stop to lie against.
TRAVEL = 10.0


def _stuck(s: Subject) -> Iterator[Finding]:
    v = s.survey
    stretch, noise = v.stuck, v.calm_noise / v.lsb
    if stretch is None or not noise > 0.2:
        return
    travels = v.largest - v.smallest > TRAVEL * v.calm_noise
    if travels and stretch.count in (v.smallest, v.largest):
        return  # at an end it is the stop that holds it
    # A live sample is its neighbour's like this often at most: when no movement helps.
    same = math.erf(0.5 / noise / math.sqrt(2.0))
    if stretch.length >= max(STUCK, 2.0 * math.log(v.samples / CHANCE) / -math.log(same)):
        of = s.amount(v.calm_noise)
        yield Finding(
            Severity.WARNING,
            s.name,
            f"stuck at {s.valued(stretch.count)} for {s.lasting(stretch.length)} from "
            f"{s.at(stretch.row)}, though its noise is {of}",
            "A frozen logger or sensor: with this noise, a working one varies",
        )


def _noise(s: Subject) -> Iterator[Finding]:
    v = s.survey
    if v.distinct < 2 or s.floating is not None:
        return
    if math.isnan(v.noise):
        if v.samples >= LEAST:
            yield Finding(
                Severity.NOTE,
                s.name,
                "its noise cannot be separated from its signal: it moves fast, or hums",
                "Log it at rest",
            )
        return
    noise = s.amount(v.noise)
    if not math.isnan(s.unit_noise) and s.channel is not None and not s.is_own_unit:
        noise += f" ({number(s.unit_noise, 2)} {symbol(s.channel.unit)})"
    if v.noise < 0.5 * v.lsb:
        yield Finding(
            Severity.NOTE,
            s.name,
            f"is quiet: its noise of {noise} is below half "
            + ("an LSB" if v.unit == "count" else "its resolution"),
            "It needs no averaging, and averaging would gain nothing: there is no noise to "
            "average out",
        )
    else:
        yield Finding(
            Severity.NOTE,
            s.name,
            f"its noise is {noise}"
            + (f"; {v.effective_bits:.1f} bits are effective" if v.effective_bits > 0 else ""),
            _averaging(s),
        )


def _averaging(s: Subject) -> str:
    """How many readings hold the last decimal that is shown still."""
    known = s.survey.known
    if s.channel is None or s.channel.decimals is None or not s.unit_noise > 0:
        if known.independent < 0.99 * s.survey.samples:
            return (
                "At rest, and as far as it is independent from sample to sample, averaging n "
                "readings divides it by √n"
            )
        return "Averaging n readings divides it by √n"
    target = 0.5 * 10.0**-s.channel.decimals
    per_count = s.unit_noise / s.survey.noise
    needed = how_many(s.unit_noise, target, per_count * s.survey.lsb).readings
    place = f"its last decimal steady (to {shown(target, s.channel.unit)})"
    correlation_length = s.survey.samples / known.independent
    if known.half_width == known.half_width and correlation_length > 2:
        # The readings are at rest, and neighbours know of one another.
        deviation = per_count * s.survey.standard_deviation
        many = math.ceil(correlation_length * (deviation / target) ** 2)
        if (
            needed is not None and needed < many <= s.survey.samples / 10
        ):  # beyond, it is one movement or two
            as_much = f"{correlation_length:.0f} of them are worth one"
            return f"{many} averaged readings keep {place}: {as_much}"
    if needed is None:
        return f"No number of readings keeps {place}: with so little noise, rounding leaves more"
    return (
        f"One reading keeps {place}" if needed == 1 else f"{needed} averaged readings keep {place}"
    )


RULES = (
    _nothing,
    _faults,
    _floating,
    _off_scale,
    _rails,
    _limits,
    _missing,
    _stuck,
    _spikes,
    _range,
    _travel,
    _scaled,
    _noise,
)


def time_findings(time: TimeSurvey, at: Callable[[int], str]) -> list[Finding]:
    """Everything worth saying about a time column."""
    found = []
    if time.first_back is not None:
        occurrences = many(time.steps_back, "time")
        what = f"time steps back {occurrences}, first at {at(time.first_back)}"
        found.append(
            Finding(Severity.ERROR, time.name, what, "Two logs in one, or a clock that was set")
        )
    if time.first_gap is not None:
        what = (
            f"{many(time.gaps, 'gap')} of more than {GAP} usual intervals, the longest "
            f"{number(time.longest_gap)} s, first at {at(time.first_gap)}"
        )
        found.append(
            Finding(Severity.WARNING, time.name, what, "Samples were lost, or logging was paused")
        )
    if time.repeats:
        found.append(
            Finding(
                Severity.WARNING,
                time.name,
                f"{many(time.repeats, 'sample')} with the time of the one before",
                "The clock is too coarse for this rate, or rows were written twice",
            )
        )
    return found
