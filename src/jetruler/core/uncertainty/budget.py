"""`budget`: the sources of a reading's uncertainty, and what each does. In that of
a computed channel, what its sources have in common is counted once."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ..bench.channel import Channel, raw_at, ruler_of
from ..bench.derived import DerivedChannel
from ..error_types import KindError, ParameterError
from ..numerics import Array, Truths, coverage_factors
from ..result import old_keywords, refuses
from ..ruler.base_law import FRACTION
from ..ruler.quantity import Quantityish
from ..ruler.ruler import Law, Ruler
from ..ruler.units import rounded, spelled, symbol
from .budget_result import Budget, budget_of_rows, combine, on_rail
from .contributions import Conditions, Contribution, conditions_of, contributions

#: Rows of the raw edge that channels of one converter share: its reference, and what it adds and
#: multiplies with. The place of a reading on its curve is independent for each.
SHARED = ("vref of adc", "count_at_vref of adc", "converter gain error", "converter offset error")


def budget_of_derived(
    channel: DerivedChannel, at: Mapping[str, Quantityish], level: float
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
        found[one.name] = np.asarray(one.ruler(raw), float)
        slopes[one.name] = total
        return np.asarray(raw, float)

    raw = follow(channel)
    return raw, found[channel.name], slopes[channel.name]


@refuses
@old_keywords(degrees="dof")
def budget(
    what: Ruler | Law | Channel,
    at: Quantityish | Mapping[str, Quantityish],
    *,
    noise: float | None = None,
    dof: float | None = None,
    readings: float | None = None,
    calibration: float | None = None,
    level: float = 0.95,
    joint: str | None = None,
) -> Budget:
    """The uncertainty budget of a reading.

    Parameters
    ----------
    what : Ruler | Law | Channel
        A ruler, or a channel, which also knows its noise, its smoothing and its calibration.
    at : float, text or quantity
        The count, or what represents it: `"1.5 V"` at the pin. Of a channel that is computed from
        others a mapping, the raw value of each measured one by its name.
    noise : float, optional
        Standard deviation of one reading in counts.
    dof : float, optional
        Degrees of freedom of the noise (n − 1 for n readings); infinite by default.
    readings : float, optional
        How many are averaged.
    calibration : float, optional
        Standard uncertainty that a calibration left, in the result's unit.
    level : float, default 0.95
        Level of confidence of the expanded uncertainty.
    joint : str, optional
        Unit of a joint, `"V"` or `"ohm"`: the budget of what is there in place of the result.

    Returns
    -------
    Budget
        The rows and what they combine to.

    Raises
    ------
    ParameterError
        For a noise, a number of readings or a level that makes no sense.
    JetRulerError
        For a ruler that ends in zones.

    Notes
    -----
    Contributions are taken as independent. Tolerances are rectangular unless they say k or sigma.

    Source: JCGM 100:2008, 5.1.2 (first order) and G.4.1 (Welch and Satterthwaite).

    Examples
    --------
    >>> import jetruler as jr
    >>> upper, lower = jr.Toleranced(33e3, 330), jr.Toleranced(10e3, 100)
    >>> rail = jr.Adc(12, 3.3) >> jr.Attenuator(upper, lower)
    >>> found = jr.budget(rail, 3400)
    >>> round(found.value, 3), round(found.expanded_uncertainty, 3)
    (11.782, 0.145)
    """
    if isinstance(what, DerivedChannel) or isinstance(at, Mapping):
        return _of_derived(what, at, level, (noise, dof, readings, calibration, joint))
    ruler = ruler_of(what)
    given = conditions_of(
        what, noise, dof=dof, readings=readings, calibration=calibration, level=level
    )
    x = raw_at(what, at)
    if joint is not None:
        ruler = up_to(ruler, joint)
        # What a calibration left is known of the result alone.
        given = replace(given, calibration=0.0, fit=None, correlated=())
    return budget_under(ruler, x, given)


def _of_derived(what: object, at: object, level: float, others: tuple[object, ...]) -> Budget:
    if not isinstance(what, DerivedChannel):
        raise KindError("at: expected one raw value, found several")
    if not isinstance(at, Mapping):
        names = ", ".join(channel.name for channel in what.measured)
        raise KindError(f"at: expected a raw value for each of {names}, found {at!r}")
    if any(other is not None for other in others):
        expected = "them at the channels it is computed from"
        raise ParameterError("noise, dof, readings, calibration, joint", None, expected)
    return budget_of_derived(what, at, level)


def tolerated(channels: Iterable[tuple[Channel, float]], unit: str | None) -> float:
    """How far the readings of some channels may be off for all that their parts' tolerances allow,
    at 95 %, each where it reads a value: the systematic parts of their budgets together. NaN where
    one has no budget."""
    square = 0.0
    for channel, value in channels:
        if channel.sources:
            return math.nan  # it depends on what each of them reads there
        raw = float(np.asarray(channel.ruler.inverse(value)))
        if not math.isfinite(raw) or channel.unit != unit or channel.ruler.label(0.0) is not None:
            return math.nan
        found = budget_under(channel.ruler, raw, conditions_of(channel))
        square += found.systematic**2 if math.isfinite(found.combined) else math.nan
    return float(coverage_factors(np.array([math.inf]), 0.95)[0]) * math.sqrt(square)


def bias_note(bias: float, allowed: float, unit: str | None) -> str:
    """Whether a bias is one that the parts' tolerances allow, in a sentence; empty where that is
    not known."""
    if not (math.isfinite(allowed) and math.isfinite(bias) and allowed > 0):
        return ""
    size = f"± {rounded(allowed, allowed)[1]} {symbol(unit)}".rstrip()
    within = abs(bias) <= allowed
    end = "this bias is smaller" if within else "this bias is larger: look for another cause"
    return f"the tolerances in the bench allow {size}; {end}"


def up_to(ruler: Ruler, joint: str) -> Ruler:
    """The laws up to the joint with a unit, the last of several. Raises `ParameterError`."""
    found = {before.gives: before for before in (*ruler.from_the_pin, ruler) if before.gives}
    wanted = spelled(joint)
    if wanted not in found:
        others = ("1", FRACTION, ruler.takes)
        units = ", ".join(symbol(unit) for unit in found if unit not in others)
        raise ParameterError("joint", joint, f"one of {units}")
    return found[wanted]


def budget_under(ruler: Ruler, at: float, given: Conditions) -> Budget:
    """The budget of a reading that is taken under these conditions."""
    x = np.array([float(at)])
    rows = contributions(ruler, x, given)
    value = float(ruler.direct(x)[0])
    why = ""
    if math.isnan(value):
        why = "has no value"
    elif float(ruler.slope(x)[0]) == 0:
        why = "is held at an end by one of its laws"
    elif on_rail(ruler, x)[0]:
        why = "is on a rail: the true value may be anywhere beyond it"
    return budget_of_rows(rows, float(at), value, unit=ruler.gives, given=given, why=why)


def expanded_uncertainty(
    what: Ruler | Law | Channel, counts: Array, given: Conditions | None = None
) -> Array:
    """The expanded uncertainty at every count: what `budget` says there, all at once; NaN where
    there is no value, or a law holds it at an end."""
    ruler = ruler_of(what)
    given = given or conditions_of(what)
    x = np.asarray(counts, dtype=np.float64)
    combined, _, coverage_factor = combine(contributions(ruler, x, given), x, given)
    unknown = (ruler.slope(x) == 0) | np.isnan(ruler.direct(x)) | on_rail(ruler, x)
    half_width: Array = np.where(unknown, np.nan, coverage_factor * combined)
    return half_width
