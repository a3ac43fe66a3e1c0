"""Rules about digits: steps, noise, whole numbers, and what firmware would make of them."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ..laws.linear import Line
from ..laws.zones import Zones
from ..model.text import number, shown
from ..survey.finding import Finding, Severity
from ..uncertainty.contributions import resolution_of
from .facts import Facts

#: A step of so many last decimals makes them a fiction.
COARSE = 20.0
#: A zone narrower than so many standard deviations flickers; this release distance holds.
NARROW, RELEASE = 4.0, 6.0


def coarse_step(c: Facts) -> Iterator[Finding]:
    """A step of one count that is far coarser than the decimals shown.

    The last digits jump and look like noise or like precision; they are neither.
    """
    decimals = c.channel.decimals
    if decimals is None or c.labelled or c.channel.limits is None:
        return
    counts, values = c.counts[c.inside], c.values[c.inside]
    if counts.size < 3:
        return
    steps = np.abs(np.diff(values) / np.diff(counts)) * resolution_of(c.channel.chain)
    worst = int(np.argmax(steps))
    if steps[worst] > COARSE * 10.0**-decimals:
        yield c.found(
            Severity.WARNING,
            c.key("decimals"),
            f"one count is worth {shown(float(f'{steps[worst]:.2g}'), c.channel.unit)} at "
            f"{c.channel.shown(float(values[worst]))}, and {decimals} decimals are shown",
            "Show fewer decimals, or use more of the range: see jetruler choose",
        )


def narrow_zones(c: Facts) -> Iterator[Finding]:
    """Zones narrower than the noise.

    The zone then changes from reading to reading although nothing else does: it flickers.
    """
    if not c.noise:
        return
    for i, law in c.of("zones"):
        if not isinstance(law, Zones):
            continue
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
                hold = shown(float(f"{RELEASE * noise:.2g}"), unit)
                yield c.found(
                    Severity.WARNING,
                    c.place(i, "edges"),
                    f"the zone from {number(low)} to {shown(high, unit)} is {number(high - low)} "
                    f"wide, and one reading has a noise of {shown(float(f'{noise:.2g}'), unit)}",
                    f"Widen it, average first, or let each edge hold: a hysteresis of {hold}",
                )


def rounding_misses_top(c: Facts) -> Iterator[Finding]:
    """A rounding that never reaches the top value.

    Rounded down, 100 % needs the very last count: with a real sensor the display stops at 99.
    """
    for i, law in c.of("whole"):
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
            )


def skipped_numbers(c: Facts) -> Iterator[Finding]:
    """An output of whole numbers in coarser steps than one.

    Some numbers are then never given, however slowly the input moves: steps that an actuator
    shows as jerks.
    """
    for i, _ in c.of("whole"):
        steps = np.abs(np.diff(c.joints[i + 1]) / np.diff(c.counts))
        steps = steps[np.isfinite(steps)]
        if steps.size and np.max(steps) * resolution_of(c.channel.chain) > 1.5:
            usual = float(np.median(steps[steps > 0])) if np.any(steps > 0) else 0.0
            yield c.found(
                Severity.NOTE,
                c.place(i),
                f"one count moves the result by {number(float(f'{max(usual, steps.max()):.2g}'))}",
                "A converter of more bits, or an average, gives the numbers between",
            )


def one_number(c: Facts) -> Iterator[Finding]:
    """A rounding that makes one number of everything.

    Whole numbers cut off what is below one: a gain that makes less than one of the whole range
    gives 0, whatever the input does.
    """
    for i, law in c.of("whole"):
        before, after = c.joints[i], c.joints[i + 1]
        there = np.isfinite(after)
        if not there.any() or np.ptp(after[there]) or not np.ptp(before[there]):
            continue
        low, high = (number(float(end)) for end in (before[there].min(), before[there].max()))
        rounding = getattr(law, "rounding", "nearest")
        yield c.found(
            Severity.ERROR,
            c.place(i),
            f"what comes in goes from {low} to {high}, and rounded ({rounding}) all of it is "
            f"{number(float(after[there][0]))}",
            "Multiply before the rounding: a larger unit step, as tenths or thousandths",
        )


def overflowing_product(c: Facts) -> Iterator[Finding]:
    """A product that overflows 16 or 32 bits in firmware arithmetic.

    Whole numbers are multiplied before they are divided, and the product must fit: beyond its
    type it wraps, and a rising input reads as a falling one, or a negative one.
    """
    if not c.of("whole"):
        return
    for i, law in c.of("line"):
        if not isinstance(law, Line) or law.marks is None or c.channel.chain.units[i] != "count":
            continue
        (_, y0), (_, y1) = law.marks
        span = abs(y1 - y0) * 10.0 ** (c.channel.decimals or 0)
        product = float(np.ptp(c.counts)) * span
        for bits, limit in ((32, 2.0**31 - 1), (16, 2.0**15 - 1)):
            if product > limit:
                yield c.found(
                    Severity.WARNING if bits == 32 else Severity.NOTE,
                    c.place(i, "marks"),
                    f"{number(float(np.ptp(c.counts)))} counts times {number(span)} is "
                    f"{product:.4g}: more than {bits} bits hold ({limit:.0f})",
                    f"Compute it in {2 * bits} bits, or divide by a common factor first",
                )
                break


RULES = (
    coarse_step,
    narrow_zones,
    rounding_misses_top,
    skipped_numbers,
    one_number,
    overflowing_product,
)
