"""Rules about converters, references and the resistors round a sensor."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from itertools import combinations

import numpy as np

from ..bench.bench import Bench
from ..laws.circuit import Attenuator
from ..laws.preferred import preferred
from ..result import Finding, Severity
from ..ruler.base_law import FRACTION, Role, as_array
from ..ruler.units import number, shown, significant
from .changes import BenchChange, law_changed, law_inserted, together
from .facts import Facts

#: A fixed resistor further away from its sensor than this wastes the converter's range.
FAR = 30.0
#: So near to its sensor a resistor would be, if it were 1000 times as large or as small.
NEAR = 5.0
#: Self-heating that is worth a word, in kelvin.
HEATING = 0.1


def above_reference(c: Facts) -> Iterator[Finding]:
    """A source that can exceed the reference.

    Every voltage above the reference reads as the top count. The value stops where it matters most,
    and the pin may be damaged.
    """
    adc = c.volts_converter
    if adc is None or adc.gives == FRACTION or adc.vref is None:
        return
    vref = adc.vref
    for i, law in enumerate(c.laws[1:], start=1):
        # The points of a datasheet's curve may go further than the sensor does.
        if not law.pairs or c.channel.chain.units[1] != "V" or (i > 1 and law.marks is None):
            continue
        # A mark in mA, or behind an amplifier, is a voltage at the pin too.
        raws = np.array([float(x) for x, _ in law.pairs])
        volts = c.at_pin(i, raws)
        if np.any(volts > vref * 1.0001):
            worst = int(np.nanargmax(volts))
            mark = shown(float(raws[worst]), c.channel.chain.units[i])
            means = "" if i == 1 else f"{mark} are "
            yield c.found(
                Severity.ERROR,
                c.place(i, law.pairs_key),
                f"{means}{shown(significant(float(volts[worst]), 4), 'V')} at the pin, and the "
                f"reference is {shown(vref, 'V')}: everything above reads "
                f"{c.channel.shown(c.channel.chain(adc.highest))}",
                "Divide the voltage down in front of the pin, or take a larger reference"
                if i == 1
                else "Take a smaller resistor or gain in front of the pin, or a larger reference",
                _lowered(c, float(np.nanmax(volts))),
            )
            return
        break
    volts = c.back(1)
    if c.inside.any() and np.any(volts > vref * 1.0001):
        worst = int(np.nanargmax(volts))
        limit = c.channel.shown((c.channel.limits or (0.0, 0.0))[worst])
        yield c.found(
            Severity.ERROR,
            c.place(1) if len(c.laws) > 1 else c.key("limits"),
            f"{limit} means {shown(float(volts[worst]), 'V')} at the pin, and the reference is "
            f"{shown(vref, 'V')}",
            "Divide the voltage down in front of the pin, or take a larger reference",
            _lowered(c, float(np.nanmax(volts))),
        )
        return
    for i, law in c.dividers:
        supply = c.supply(law)
        if supply is not None and supply > vref * 1.0001:
            yield c.found(
                Severity.WARNING,
                c.place(i, "supply"),
                f"{shown(supply, 'V')} feed the divider, and the reference is {shown(vref, 'V')}: "
                "an open or shorted sensor puts all of it on the pin",
                "Feed the divider from the reference, which then cancels too",
                law_changed(c, i, supply=None),
            )


def _lowered(c: Facts, volts: float) -> list[BenchChange]:
    """What brings this many volts at the pin below the reference: less of the circuit in front of
    it, two resistors, or a larger reference."""
    adc = c.volts_converter
    if adc is None or adc.vref is None:
        return []
    found = []
    for i, law in enumerate(c.laws[1:], start=1):
        found += [law_changed(c, i, **less) for less in (law.with_less(adc.vref / volts),) if less]
    lower = 10e3
    upper = preferred("E24", *(lower * (volts / adc.vref - 1) * x for x in (1.0, 12.0)))[0]
    found.append(law_inserted(c, 1, Attenuator(float(upper), lower)))
    for vref in (5.0, 10.0):
        if volts <= vref:
            found.append(law_changed(c, 0, vref=vref))
    return [change for changes in found for change in changes]


def top_counts_disagree(bench: Bench) -> Iterator[Finding]:
    """Channels of one converter with different top counts.

    Either 2ⁿ − 1 or 2ⁿ counts mean the reference. This is a property of the converter, so two of
    its channels cannot differ. The error is one count in 2ⁿ at the top.
    """
    converters = [
        (c, c.chain.converter, c.chain.converter.full_count)
        for c in bench.own_channels
        if c.chain.converter
    ]
    counted = [(c, converter, full) for c, converter, full in converters if full is not None]
    for (one, a, full_a), (other, b, full_b) in combinations(counted, 2):
        apart = abs(full_a - full_b)
        if a.bits == b.bits and 0 < apart <= 1:
            value = float(b.highest)
            off = abs(float(other.chain.slope(value))) * apart
            much = f", {shown(significant(off, 2), other.unit)}" if off > 0 else ""
            yield Finding(
                Severity.WARNING,
                f"channel.{other.name}.converter.count_at_vref",
                f"{number(full_b)} counts are the reference here, and "
                f"{number(full_a)} in channel.{one.name}: {apart / full_b:.3%} at the "
                f"top{much}",
                "Set count_at_vref once, in [converter], from the datasheet",
                _changes=tuple(law_changed(Facts(other), 0, count_at_vref=full_a)),
            )
            return


def other_reference(bench: Bench) -> Iterator[Finding]:
    """A channel with another reference than the shared converter.

    A converter has one reference. With another one in its law, every value of the channel is wrong
    by the same factor, which looks like a wrong gain of the sensor.
    """
    shared = bench.converter
    if shared is None or shared.vref is None:
        return
    for channel in bench.own_channels:
        own = channel.chain.converter
        if own is None or own.vref is None or own.bits != shared.bits:
            continue
        if abs(own.vref - shared.vref) > 1e-3 * shared.vref:
            facts = Facts(channel)
            yield Finding(
                Severity.WARNING,
                f"channel.{channel.name}.converter.vref",
                f"{shown(own.vref, 'V')} here and {shown(shared.vref, 'V')} in [converter]: values "
                f"differ by {abs(own.vref / shared.vref - 1):.0%}",
                "Remove vref here, or set the bits of the other converter",
                _changes=tuple(law_changed(facts, 0, vref=shared.vref)),
            )


def reference_would_cancel(c: Facts) -> Iterator[Finding]:
    """A divider with the reference's voltage as supply, but not ratiometric.

    If the converter's own reference supplies the divider, it cancels: its tolerance, drift and
    noise have no effect. As a separate voltage it does not cancel.
    """
    for i, law in c.dividers:
        if law.supply is None or c.volts_converter is None:
            continue
        vref = c.volts_converter.vref
        if vref is not None and abs(law.supply - vref) <= 0.01 * vref:
            yield c.found(
                Severity.WARNING,
                c.place(i, "supply"),
                f"the supply is {shown(law.supply, 'V')} and the reference {shown(vref, 'V')}",
                "If they are the same, remove supply; if not, feed the divider from the reference",
                law_changed(c, i, supply=None),
            )


def unit_slip(c: Facts) -> Iterator[Finding]:
    """A resistor that is wrong by a factor of 1000.

    4.7 Ω instead of 4.7 kΩ, or a sensor of 10 Ω instead of 10 kΩ at 25 °C, gives values that are
    far off but look plausible.
    """
    if (found := c.ohms()) is None:
        return
    i, divider, low, high = found
    known = float(divider.known)
    ratio = known / math.sqrt(low * high)
    for slip, word in ((1000.0, "k"), (0.001, "m")):
        if not 1 / FAR < ratio < FAR and 1 / NEAR < ratio * slip < NEAR:
            right = shown(known * slip, "ohm")
            yield c.found(
                Severity.ERROR,
                c.place(i, "known"),
                f"{shown(known, 'ohm')} beside a sensor of {shown(low, 'ohm')} to "
                f"{shown(high, 'ohm')}",
                f"{right} would fit: write the prefix, as in "
                f'"{number(known)} {word if slip > 1 else ""}ohm"; or correct the sensor\'s r0',
                [*law_changed(c, i, known=known * slip), *_rescaled(c, (1 / slip,))],
            )


def far_resistor(c: Facts) -> Iterator[Finding]:
    """A fixed resistor more than 30 times larger or smaller than its sensor, over the limits.

    The voltage at the pin hardly changes: most counts are never used, and each of the others is
    worth much.
    """
    if (found := c.ohms()) is None or any(unit_slip(c)):
        return
    i, divider, low, high = found
    known = float(divider.known)
    middle = math.sqrt(low * high)
    if not 1 / FAR <= known / middle <= FAR:
        yield c.found(
            Severity.WARNING,
            c.place(i, "known"),
            f"{shown(known, 'ohm')} beside a sensor of {shown(low, 'ohm')} to {shown(high, 'ohm')}",
            f"About {shown(significant(middle, 2), 'ohm')} would be suitable; "
            f"jetruler choose resistor {c.channel.name} finds the best",
            _other_resistor(c, i, middle),
        )


def _cooler(c: Facts, i: int) -> list[BenchChange]:
    """Larger fixed resistors; or such a resistor beside a sensor of ten times as many ohms."""
    known = float(c.dividers[0][1].known)
    larger = [
        change
        for ohms in preferred("E12", known * 1.01, known * 1000)
        for change in law_changed(c, i, known=float(ohms))
    ]
    both = [
        together(one, other)
        for times in (10.0, 100.0)
        for one in law_changed(c, i, known=known * times)
        for other in _rescaled(c, (times,))
    ]
    return larger + both


def _rescaled(c: Facts, factors: Sequence[float], *names: str) -> list[BenchChange]:
    """The sensor's curve with a number that is this many times as large: its r0, or others."""
    found = []
    for i, law in c.of(Role.CURVE):
        for name in names or ("r0",):
            value = getattr(law, name, None)
            if isinstance(value, float | int):
                for times in factors:
                    found += law_changed(c, i, **{name: significant(value * times, 9)})
    return found


def _other_resistor(c: Facts, i: int, middle: float) -> list[BenchChange]:
    """Fixed resistors that can be bought, the one nearest the sensor's first."""
    values = preferred("E24", middle / 3, middle * 3)
    near = sorted(values, key=lambda ohms: abs(math.log(ohms / middle)))
    return [change for ohms in near[::4] for change in law_changed(c, i, known=float(ohms))]


def _slips(c: Facts, i: int) -> list[BenchChange]:
    """What a thermistor's numbers may have been: the point moved, or two of them swapped."""
    law, found = c.laws[i], []
    beta, r0 = getattr(law, "beta", None), getattr(law, "r0", None)
    if beta and r0 and beta > r0:
        found += law_changed(c, i, beta=r0, r0=beta)
    for name in ("beta", "r0"):
        found += _rescaled(c, (10.0, 0.1, 100.0, 0.01, 1000.0, 0.001), name)
    a, b, third = (getattr(law, name, None) for name in "abc")
    if a is not None and b is not None and third is not None:
        found += law_changed(c, i, a=b, b=a)
        for name, value in (("a", a), ("b", b), ("c", third)):
            for times in (10.0, 0.1, 100.0, 0.01, 1000.0, 0.001):
                found += law_changed(c, i, **{name: significant(value * times, 9)})
    return found


def self_heating(c: Facts) -> Iterator[Finding]:
    """A sensor that its own current warms by more than 0.1 K.

    It measures its own temperature: too warm, and more so in still air.
    """
    found = c.ohms()
    if found is None or c.channel.dissipation is None:
        return
    i, divider, low, high = found
    supply = c.supply(divider)
    if supply is None:
        return
    ohms = np.geomspace(low, high, 200)
    known = float(divider.known)
    watts = (supply / (ohms + known)) ** 2 * ohms
    kelvin = float(watts.max()) / c.channel.dissipation
    if kelvin > HEATING:
        where = c.channel.shown(_behind(c, i + 1, float(ohms[int(np.argmax(watts))])))
        yield c.found(
            Severity.WARNING,
            c.key("dissipation"),
            f"{number(1e3 * float(watts.max()), 3)} mW warm it by {number(kelvin, 2)} K at {where}",
            "Take a larger fixed resistor, or switch the divider on for the reading only",
            _cooler(c, i),
        )


def _behind(c: Facts, law: int, x: float) -> float:
    y = as_array(x)
    with np.errstate(all="ignore"):
        for one in c.laws[law:]:
            y = one.forward(y)
    return float(y[0])


def unlikely_thermistor(c: Facts) -> Iterator[Finding]:
    """A Beta or coefficients that no real thermistor has.

    Parts have a Beta of 2000 to 6000 K, and 1 Ω to 10 MΩ at 25 °C. Anything else is a mistake: a
    Beta in the wrong place, or coefficients in another unit or order.
    """
    for i, law in c.of(Role.CURVE):
        if law.sensor_kind != "thermistor":
            continue
        kelvin = np.array([297.15, 298.15, 299.15])
        unit = str(getattr(law, "unit", "degC"))
        shown_at = {"K": kelvin, "degC": kelvin - 273.15, "degF": (kelvin - 273.15) * 1.8 + 32}
        with np.errstate(all="ignore"):
            ohms = law.inverse(shown_at[unit])
            beta = math.log(ohms[0] / ohms[2]) / (1 / kelvin[0] - 1 / kelvin[2])
        if not (2000 <= beta <= 6000 and 1 <= ohms[1] <= 1e7):
            field = "beta" if hasattr(law, "beta") else ""
            yield c.found(
                Severity.WARNING,
                c.place(i, field),
                f"it means {shown(float(ohms[1]), 'ohm')} at 25 °C and a Beta of {number(beta)} K "
                "there",
                "Compare with the datasheet: order, powers of ten, and ln R in Ω",
                _slips(c, i),
            )


BENCH_RULES = (top_counts_disagree, other_reference)
RULES = (
    reference_would_cancel,
    above_reference,
    unit_slip,
    far_resistor,
    self_heating,
    unlikely_thermistor,
)
