"""The budget of a channel that is computed from others: what they have in common is taken once."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ..bench.channel import Channel
from ..bench.derived import DerivedChannel
from ..numerics import Array, Truths
from ..ruler.quantity import Quantityish
from ..ruler.reading import Flag
from .budget_result import Budget, budget_of_rows, combine, on_rail
from .contributions import Conditions, Contribution, conditions_of, contributions

#: Rows of the raw edge that channels of one converter share: its reference, and what it adds and
#: multiplies with. The place of a reading on its curve is independent for each.
SHARED = ("vref of adc", "count_at_vref of adc", "converter gain error", "converter offset error")


def budget_of_derived(
    channel: DerivedChannel, at: Mapping[str, Quantityish], level: float = 0.95
) -> Budget:
    """The uncertainty budget of a derived channel.

    at: the raw value of each measured channel, by name. Every source of those is a row, carried on
    by the derivative of the result to its channel. A source that several channels have in common
    (one reference, one converter) is one row: its effects add up with their signs.
    Source: JCGM 100:2008, 5.1.2 and 5.2.2.
    """
    raws = {name: np.array([raw]) for name, raw in channel.raws_of(at).items()}
    given = Conditions(level=level)
    found = _Sources.of(channel, raws, {})
    value, slope = float(found.value[0]), float(channel.ruler.slope(found.raw)[0])
    why = ""
    if math.isnan(value):
        why = "has no value"
    elif found.on_rail:
        name = found.on_rail[0]
        why = f"has {name} on a rail: the true value may be anywhere beyond it"
    elif slope == 0:
        why = "is held at an end by one of its laws"
    return budget_of_rows(
        found.rows, float(found.raw[0]), value, unit=channel.unit, given=given, why=why
    )


def expanded_of_derived(
    channel: DerivedChannel, raws: Mapping[str, Array], readings: Mapping[str, float]
) -> Array:
    """The expanded uncertainty at 95 % of every row, from the raw values of each measured channel:
    what the budget says there, all at once. NaN where it has none. readings: how many of a channel
    are averaged, if that is not its own smoothing."""
    found = _Sources.of(channel, raws, readings)
    given = Conditions()
    combined, _, coverage_factor = combine(found.rows, found.raw, given)
    unknown = np.isnan(found.value) | (channel.ruler.slope(found.raw) == 0) | found.rails
    half_width: Array = np.where(unknown, np.nan, coverage_factor * combined)
    return half_width


@dataclass
class _Sources:
    """What makes a derived channel uncertain, in rows of n readings. rails: where a measured
    channel is on a rail; on_rail: the names of those."""

    raw: Array
    value: Array
    rows: list[Contribution]
    rails: Truths
    on_rail: list[str]

    @classmethod
    def of(
        cls, channel: DerivedChannel, raws: Mapping[str, Array], readings: Mapping[str, float]
    ) -> _Sources:
        """The sources of measured channels, carried on; shared ones once; then its own."""
        values = {m.name: np.asarray(m.ruler(raws[m.name]), float) for m in channel.measured}
        raw, value, slopes = _followed(channel, values)
        smooth = channel.smooth
        averaged = smooth.averaged if smooth is not None and isinstance(smooth.over, int) else 1.0
        rows: list[Contribution] = []
        common: dict[tuple[object, str], list[Contribution]] = {}
        rails, on = np.zeros(raw.shape, bool), []
        for measured in channel.measured:
            x, factor = raws[measured.name], slopes[measured.name]
            here = on_rail(measured.ruler, x)
            rails |= here
            on += [measured.name] if here.any() else []
            given = conditions_of(measured, readings=readings.get(measured.name))
            for row in contributions(measured.ruler, x, given):
                moved = _moved(row, measured.name, factor, averaged)
                if (
                    row.source in SHARED
                    and not measured.lists_edge
                    and not math.isnan(row.standard)
                ):
                    edge: Any = measured.ruler.laws[0]
                    if hasattr(edge, "ratiometric"):
                        edge = replace(edge, ratiometric=False)
                    common.setdefault((edge, row.source), []).append(moved)
                else:
                    rows.append(moved)
        rows += [_together(each, name) for (_, name), each in common.items()]
        rows += contributions(channel.ruler, raw, Conditions())
        return cls(raw, value, rows, rails, on)


def _moved(row: Contribution, name: str, factor: Array, averaged: float) -> Contribution:
    """A source of a measured channel, by the derivative of the result to that."""
    less = math.sqrt(averaged) if row.random else 1.0
    return replace(
        row,
        source=f"{row.source} ({name})",
        sensitivity=row.sensitivity * factor / less,
        effect=row.effect * np.abs(factor) / less,
    )


def _together(rows: list[Contribution], name: str) -> Contribution:
    """One row for what several channels share: signed effects add up before they are squared."""
    if len(rows) == 1:
        return rows[0]
    sensitivity = np.sum([row.sensitivity for row in rows], axis=0)
    effect = np.abs(np.sum([row.sensitivity * row.standard for row in rows], axis=0))
    note = "is common to all channels of this converter: it is counted once"
    first = rows[0]
    return replace(first, source=name, sensitivity=sensitivity, effect=effect, note=note)


def _followed(
    channel: DerivedChannel, values: Mapping[str, Array]
) -> tuple[Array, Array, dict[str, Array]]:
    """What its laws take, its values, and its derivatives to each measured channel."""
    found: dict[str, Array] = dict(values)
    slopes: dict[str, dict[str, Array]] = {n: {n: np.ones_like(v)} for n, v in values.items()}

    def follow(one: Channel) -> Array:
        """The raw values of a derived channel, its values and slopes noted."""
        assert isinstance(one, DerivedChannel)
        for source in one.sources:
            if source.name not in found:
                follow(source)
        given = [found[source.name] for source in one.sources]
        raw = one.combined.of(given)
        own = one.ruler.slope(raw)
        total: dict[str, Array] = {}
        for source, slope in zip(one.sources, one.combined.slopes(given), strict=True):
            for name, inner in slopes[source.name].items():
                total[name] = total.get(name, 0.0) + own * slope * inner
        reading = one.ruler.read(raw)
        off = (np.asarray(reading.flags) & int(Flag.MISSING | Flag.OFF_SCALE)) != 0
        found[one.name] = np.where(off, np.nan, np.asarray(reading.value, float))
        slopes[one.name] = total
        return np.asarray(raw, float)

    raw = follow(channel)
    return raw, found[channel.name], slopes[channel.name]
