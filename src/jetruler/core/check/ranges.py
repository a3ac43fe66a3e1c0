"""Rules about ranges and digits: limits, how much of the converter is used, steps, noise, zones."""

from __future__ import annotations

import math
from collections.abc import Iterator
from itertools import pairwise

import numpy as np

from ..laws.circuit import Attenuator
from ..laws.preferred import preferred
from ..laws.shape import zones_of
from ..numerics import Array
from ..result import Finding, Severity
from ..ruler.base_law import Role
from ..ruler.quantity import quantity
from ..ruler.raw_range import raw_ends
from ..ruler.units import factor_and_offset, number, shown, significant
from ..uncertainty.contributions import resolution_of
from .changes import BenchChange, channel_changed, law_changed
from .facts import Facts

#: Less of the converter's range than this is worth a better part.
FIFTH = 0.2


def few_counts(c: Facts) -> Iterator[Finding]:
    """Less than a fifth of the converter's range in use over the limits, so that one count is worth
    more than the reading needs.

    One count is worth five times as much as it could be: the resolution is lost. A reading needs
    the decimals that it shows, or a thousandth of its limits. Counts that a clamp keeps at its ends
    are not in use.
    """
    if c.channel.chain.converter is None or c.channel.limits is None:
        return
    if c.labelled or any(isinstance(law, Attenuator) for law in c.laws):
        return  # a supply rail is watched near one value: its range is not its sensor's
    used = c.counts[c.inside]
    if used.size < 3:  # between the counts that are looked at
        used = _at_limits(c)
    fraction = float(np.ptp(used) / np.ptp(c.counts)) if used.size else 0.0
    if 0 < fraction < FIFTH and _step(c) > 2 * _needed(c):
        low, high = (number(float(end)) for end in (used.min(), used.max()))
        low_limit, high_limit = c.channel.limits
        limits = f"{number(low_limit)} to {shown(high_limit, c.channel.unit)}"
        yield c.found(
            Severity.WARNING,
            c.key("limits"),
            f"{limits} use counts {low} to {high}, {fraction:.0%} of the range",
            "Another fixed resistor, a smaller reference or an amplifier uses more: see jetruler "
            "choose; or set the decimals that the reading needs",
            _finer(c),
        )


def _at_limits(c: Facts) -> Array:
    """The counts that read the two limits, if there are any."""
    try:
        counts = np.array([float(c.channel.chain.inverse(end)) for end in c.channel.limits or ()])
    except ValueError:  # the chain turns back
        return np.empty(0)
    low, high = raw_ends(c.channel.chain)
    there = bool(counts.size and np.isfinite(counts).all() and np.ptp(counts) > 0)
    return counts if there and low <= counts.min() and counts.max() <= high else np.empty(0)


def _finer(c: Facts) -> list[BenchChange]:
    """What uses more of the range: another resistor; or the decimals that there are."""
    found = []
    if (beside := c.ohms()) is not None:
        i, _, low, high = beside
        middle = math.sqrt(low * high)
        for ohms in preferred("E12", middle / 4, middle * 4):
            found += law_changed(c, i, known=float(ohms))
        found.sort(key=lambda change: abs(math.log(_ohms(change) / middle)))
    return found + _fewer_decimals(c)


def _ohms(change: BenchChange) -> float:
    return quantity((change.edits[0].value or "").strip('"'), "ohm")


def _fewer_decimals(c: Facts) -> list[BenchChange]:
    """As many decimals as there are, and fewer."""
    most = 3 if c.channel.decimals is None else c.channel.decimals - 1
    return [
        change
        for decimals in range(most, -1, -1)
        for change in channel_changed(c.channel, "decimals", decimals)
    ]


def _needed(c: Facts) -> float:
    """The step that a reading needs."""
    if c.channel.decimals is not None:
        return float(10.0**-c.channel.decimals)
    low, high = c.channel.limits or (-np.inf, np.inf)
    return (high - low) / 1000


def _step(c: Facts) -> float:
    """What a count is worth within the limits, but for the few places where it is worth most."""
    counts, values = c.counts[c.inside], c.values[c.inside]
    if counts.size < 3:
        counts, values = _at_limits(c), np.array(c.channel.limits or (), dtype=np.float64)
    if counts.size < 2:
        return np.inf
    steps = np.sort(np.abs(np.diff(values) / np.diff(counts))) * resolution_of(c.channel.chain)
    return float(steps[int(USUAL * (steps.size - 1))])


def limits_out_of_reach(c: Facts) -> Iterator[Finding]:
    """Limits that the chain never reaches, or always exceeds.

    A limit that cannot be crossed never warns; a limit that everything exceeds always warns.
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
            _other_limits(c, smallest, largest),
        )
    elif (
        low < smallest - _step_at(c, smallest) or high > largest + _step_at(c, largest)
    ) and not c.clamps:
        end = low if low < smallest - _step_at(c, smallest) else high
        yield c.found(
            Severity.WARNING,
            c.key("limits"),
            f"{reads}: {shown(end, c.channel.unit)} is never crossed",
            "Set limits that a fault would cross, or use another part that reaches them",
            _other_limits(c, smallest, largest),
        )


def _other_limits(c: Facts, smallest: float, largest: float) -> list[BenchChange]:
    """The limits in another unit that they may have been meant in; those within reach, a fiftieth
    of the way inside."""
    found, unit = [], c.channel.unit
    for i, law in enumerate(c.laws):
        if law.with_less(0.5) and hasattr(law, "upper") and hasattr(law, "lower"):
            found += law_changed(c, i, upper=law.lower, lower=law.upper)
    limits = c.channel.limits or (smallest, largest)
    for other in OTHER_UNITS.get(unit or "", ()):
        times, shift = factor_and_offset(other, unit or "")
        meant = tuple(significant(end * times + shift, 9) for end in limits)
        if smallest <= meant[0] and meant[1] <= largest:
            found += channel_changed(c.channel, "limits", meant, unit)
    room = 0.02 * (largest - smallest)
    low, high = limits
    if not smallest <= low < largest:
        low = significant(smallest + room, 3)
    if not low < high <= largest:
        high = significant(largest - room, 3)
    return found + channel_changed(c.channel, "limits", (low, high))


#: What a limit may have been meant in.
OTHER_UNITS = {
    "degC": ("degF", "K"),
    "degF": ("degC", "K"),
    "bar": ("psi", "kPa", "mbar", "Pa"),
    "V": ("mV",),
    "mV": ("V",),
    "A": ("mA",),
    "mA": ("A",),
    "kg": ("g",),
    "g": ("kg",),
    "m": ("cm", "mm"),
    "cm": ("mm", "m"),
    "mm": ("cm", "m"),
}


def _step_at(c: Facts, value: float) -> float:
    """How far the neighbours of a value are that are looked at: an end between them is met."""
    place = int(np.flatnonzero(c.values == value)[0])
    beside = c.values[max(0, place - 1) : place + 2]
    return float(np.abs(beside[np.isfinite(beside)] - value).max(initial=0.0))


def wide_hysteresis(c: Facts) -> Iterator[Finding]:
    """A zone that is narrower than the hysteresis of its edges.

    It can be entered only from one side, or never: a value that leaves one neighbour is in the
    other at once.
    """
    if (zones := zones_of(c.laws)) is None:
        return
    i, law = zones
    for low, high in zip(law.edges, law.edges[1:], strict=False):
        if high - low <= law.hysteresis:
            unit = c.channel.chain.units[i]
            yield c.found(
                Severity.ERROR,
                c.place(i, "hysteresis"),
                f"the zone from {number(low)} to {shown(high, unit)} is {number(high - low)} wide, "
                f"and its edges have a hysteresis of {shown(law.hysteresis, unit)}",
                f"Use a hysteresis below {shown(significant((high - low) / 2, 2), unit)}",
                [
                    change
                    for part in (0.5, 0.2)
                    for change in law_changed(c, i, hysteresis=significant((high - low) * part, 2))
                ],
            )
            return


def turns_back(c: Facts) -> Iterator[Finding]:
    """A chain that is not monotone within its limits.

    Two different counts read the same, and somewhere a rising input gives a falling value: the
    coefficients are wrong, or a fitted curve bends between its marks.
    """
    values = c.values[c.inside]
    if c.labelled or c.of(Role.FOLD) or values.size < 3:
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
            _one_way(c),
        )


def _one_way(c: Facts) -> list[BenchChange]:
    """Limits round the longest stretch over which the value goes one way."""
    values = c.values
    signs = np.sign(np.diff(values))
    turns = np.flatnonzero(np.diff(signs))
    edges = [0, *(int(turn) + 1 for turn in turns), values.size - 1]
    first, last = max(pairwise(edges), key=lambda ends: ends[1] - ends[0])
    low, high = sorted((float(values[first]), float(values[last])))
    # Another stretch may read the same as a part of this one: that part is left out.
    outside = np.concatenate((values[: max(0, first - 1)], values[last + 2 :]))
    same = outside[(outside > low) & (outside < high)]
    found = []
    for ends in ((float(same.max(initial=low)), high), (low, float(same.min(initial=high)))):
        room = 0.02 * (ends[1] - ends[0])
        within = (significant(ends[0] + room, 4), significant(ends[1] - room, 4))
        found += channel_changed(c.channel, "limits", within) if within[0] < within[1] else []
    return found


#: A step of this many last decimals makes them a fiction.
COARSE = 20.0


#: A zone narrower than this many standard deviations flickers; this release distance holds.
NARROW, RELEASE = 4.0, 6.0


#: So much of a channel's span has steps no coarser than the one that is judged.
USUAL = 0.98


def coarse_step(c: Facts) -> Iterator[Finding]:
    """A count that is worth far more than the last decimal shown.

    The last digits jump. They look like noise or like precision, and are neither.
    """
    decimals = c.channel.decimals
    if not decimals or c.labelled or c.channel.limits is None:
        return
    counts, values = c.counts[c.inside], c.values[c.inside]
    if counts.size < 3:
        return
    steps = np.abs(np.diff(values) / np.diff(counts)) * resolution_of(c.channel.chain)
    # A law that leaps at one place, as a dead band does, is not coarse.
    worst = int(np.argsort(steps)[int(USUAL * (steps.size - 1))])
    if steps[worst] > COARSE * 10.0**-decimals:
        yield c.found(
            Severity.WARNING,
            c.key("decimals"),
            f"one count is worth {shown(significant(steps[worst], 2), c.channel.unit)} at "
            f"{c.channel.shown(float(values[worst]))}, and {decimals} decimals are shown",
            "Show fewer decimals, or use more of the range: see jetruler choose",
            _fewer_decimals(c),
        )


def narrow_zones(c: Facts) -> Iterator[Finding]:
    """Zones narrower than the noise.

    The zone changes from reading to reading although nothing else does: it flickers.
    """
    if not c.noise:
        return
    if (zones := zones_of(c.laws)) is not None:
        i, law = zones
        before, counts = c.joints[i], c.counts
        for low, high in zip(law.edges, law.edges[1:], strict=False):
            here = np.flatnonzero((before >= low) & (before <= high))
            near = (
                int(here[here.size // 2])
                if here.size
                else int(np.nanargmin(np.abs(before - 0.5 * (low + high))))
            )
            near = min(max(near, 1), counts.size - 2)
            slope = abs(before[near + 1] - before[near - 1]) / (counts[near + 1] - counts[near - 1])
            noise = float(slope) * c.noise
            if high - low < NARROW * noise and law.hysteresis < 0.95 * RELEASE * noise:
                unit = c.channel.chain.units[i]
                hold = shown(significant(RELEASE * noise, 2), unit)
                yield c.found(
                    Severity.WARNING,
                    c.place(i, "edges"),
                    f"the zone from {number(low)} to {shown(high, unit)} is {number(high - low)} "
                    f"wide, and one reading has a noise of {shown(significant(noise, 2), unit)}",
                    f"Widen it, average first, or set a hysteresis of {hold}",
                    _calmer_zones(c, i, significant(RELEASE * noise, 2)),
                )


def _calmer_zones(c: Facts, i: int, hold: float) -> list[BenchChange]:
    """Zones whose edges hold; or fewer of them, each as wide as that."""
    law = zones_of(c.laws)
    if law is None:
        return []
    edges, values = [law[1].edges[0]], [law[1].values[0]]
    for edge, value in zip(law[1].edges[1:], law[1].values[1:-1], strict=True):
        if edge - edges[-1] > 2 * hold:
            edges.append(edge)
            values.append(value)
    values.append(law[1].values[-1])
    fewer = law_changed(c, i, edges=tuple(edges), values=tuple(values))
    return law_changed(c, i, hysteresis=hold) + fewer


RULES = (few_counts, wide_hysteresis, limits_out_of_reach, turns_back, coarse_step, narrow_zones)
