"""The budget of a channel that is computed from others: what they have in common is taken once."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from ..bench.channel import Channel
from ..bench.derived import DerivedChannel
from ..numerics import Array
from ..ruler.quantity import Quantityish
from ..ruler.reading import Flag
from .budget_result import Budget, budget_of_rows, on_rail
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
    raws = channel.raws_of(at)
    values = {m.name: float(m.ruler(raws[m.name])) for m in channel.measured}
    raw, value, slopes = _followed(channel, values)
    given = Conditions(level=level)
    smooth = channel.smooth
    averaged = smooth.averaged if smooth is not None and isinstance(smooth.over, int) else 1.0
    rows: list[Contribution] = []
    common: dict[tuple[object, str], list[Contribution]] = {}
    unsure = ""
    for measured in channel.measured:
        x, factor = np.array([raws[measured.name]]), slopes[measured.name]
        if on_rail(measured.ruler, x)[0]:
            unsure = f"has {measured.name} on a rail: the true value may be anywhere beyond it"
        for row in contributions(measured.ruler, x, conditions_of(measured)):
            less = math.sqrt(averaged) if row.random else 1.0
            moved = replace(
                row,
                source=f"{row.source} ({measured.name})",
                sensitivity=row.sensitivity * factor / less,
                effect=row.effect * abs(factor) / less,
            )
            if row.source in SHARED and not measured.lists_edge and not math.isnan(row.standard):
                edge: Any = measured.ruler.laws[0]
                common_edge = (
                    replace(edge, ratiometric=False) if hasattr(edge, "ratiometric") else edge
                )
                common.setdefault((common_edge, row.source), []).append(moved)
                continue
            rows.append(moved)
    rows += [_together(each, name) for (_, name), each in common.items()]
    rows += contributions(channel.ruler, np.array([raw]), given)
    why = "has no value" if math.isnan(value) else unsure
    if not why and float(channel.ruler.slope(x)[0]) == 0:
        why = "is held at an end by one of its laws"
    return budget_of_rows(rows, raw, value, unit=channel.unit, given=given, why=why)


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
    channel: DerivedChannel, values: Mapping[str, float]
) -> tuple[float, float, dict[str, float]]:
    """What its laws take, its value, and its derivative to each measured channel."""
    found: dict[str, float] = dict(values)
    slopes: dict[str, dict[str, float]] = {name: {name: 1.0} for name in values}

    def follow(one: Channel) -> float:
        """The raw value of a derived channel, its value and slopes noted."""
        assert isinstance(one, DerivedChannel)
        for source in one.sources:
            if source.name not in found:
                follow(source)
        given: list[Array] = [np.array([found[source.name]]) for source in one.sources]
        raw = one.combined.of(given)
        own = float(one.ruler.slope(raw)[0])
        total: dict[str, float] = {}
        for source, slope in zip(one.sources, one.combined.slopes(given), strict=True):
            for name, inner in slopes[source.name].items():
                total[name] = total.get(name, 0.0) + own * float(slope[0]) * inner
        reading = one.ruler.read(raw)
        off = int(reading.flags[0]) & int(Flag.MISSING | Flag.OFF_SCALE)
        found[one.name] = math.nan if off else float(reading.value[0])
        slopes[one.name] = total
        return float(raw[0])

    raw = follow(channel)
    return raw, found[channel.name], slopes[channel.name]
