"""`budget`: the sources of a reading's uncertainty, and what each does."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import replace

import numpy as np

from ..bench.channel import Channel, raw_at, ruler_of
from ..bench.derived import DerivedChannel
from ..error_types import KindError, ParameterError
from ..numerics import Array, coverage_factors
from ..result import old_keywords, refuses
from ..ruler.base_law import FRACTION
from ..ruler.quantity import Quantityish
from ..ruler.ruler import Law, Ruler
from ..ruler.units import rounded, spelled, symbol
from .budget_result import Budget, budget_of_rows, combine, on_rail
from .contributions import Conditions, conditions_of, contributions
from .derived_budget import budget_of_derived


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
