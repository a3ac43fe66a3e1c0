"""What moves an answer: toleranced parameters, the converter, resolution, fits; each with its size
and, at every count, its effect."""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ..bench.channel import Channel
from ..bench.covariance import Correlation, FitCovariance, number_in, path_of, with_number
from ..error_types import JetRulerError, ParameterError
from ..numerics import ROUNDING, Array, lasting_rounding, median_rounding
from ..ruler.base_law import hint_unit, parameters
from ..ruler.chain import slope_of
from ..ruler.quantity import Toleranced, standard_of
from ..ruler.ruler import Law, Ruler
from ..ruler.units import number, shown, significant, symbol


@dataclass(frozen=True)
class UncertainParameter:
    """A parameter that carries a tolerance: which law's, which field, where inside a list, and
    what people call it: `r0 of beta`, `marks[1][2] of line`."""

    law: int
    field: str
    inside: tuple[int, ...]
    value: Toleranced
    unit: str | None
    name: str


def toleranced(ruler: Ruler) -> list[UncertainParameter]:
    """Every toleranced parameter of a ruler, law by law."""
    found = []
    for i, law in enumerate(ruler.laws):
        hints = parameters(type(law))
        for field in dataclasses.fields(law):  # type: ignore[arg-type]
            unit = hint_unit(hints[field.name])
            for inside, value in _within(getattr(law, field.name)):
                symbol = None if unit is None else unit.symbol
                name = f"{_called(law, field.name, inside)} of {law.name}"
                found.append(
                    UncertainParameter(
                        i, field.name, inside=inside, value=value, unit=symbol, name=name
                    )
                )
    return found


def fitted_parameters(ruler: Ruler, fit: FitCovariance) -> list[UncertainParameter]:
    """The parameters of a fit in a channel's ruler."""
    index, found = fit.index(ruler.laws), []
    for name in fit.parameters:
        field, inside = path_of(name)
        value = Toleranced(
            float(number_in(ruler.laws[index], field, inside)), fit.standard(name), 1.0
        )
        called = f"{name} of {fit.law}"
        found.append(
            UncertainParameter(index, field, inside=inside, value=value, unit=None, name=called)
        )
    return found


def _called(law: Law, field: str, inside: tuple[int, ...]) -> str:
    """A field and the place in it; a constant of a formula by its own name."""
    if field == law.open_ended:
        return str(getattr(law, field)[inside[0]][0])
    return field + "".join(f"[{i + 1}]" for i in inside)


def _within(
    value: Any, inside: tuple[int, ...] = ()
) -> Iterator[tuple[tuple[int, ...], Toleranced]]:
    if isinstance(value, Toleranced):
        yield inside, value
    elif isinstance(value, tuple):
        for i, part in enumerate(value):
            yield from _within(part, (*inside, i))


def with_value(law: Law, parameter: UncertainParameter, value: Any) -> Law:
    """The law with another value (or an array of values) for a parameter, unchecked."""
    return with_number(law, parameter.field, parameter.inside, value)


#: Step of a difference quotient, as a fraction of the tolerance: the curve hardly bends in it.
_STEP = 1e-3


def sensitivity(ruler: Ruler, parameter: UncertainParameter, x: Array) -> Array:
    """Units of the result per unit of a parameter, at every x.

    That is the derivative of its own law to it times the slopes of the laws behind: of a law that
    rounds, that of its trend. A law that gives no derivative (a table, a formula of one's own) is
    moved by a little itself; no difference is taken across what rounds or holds.
    """
    i, law = parameter.law, ruler.laws[parameter.law]
    joints = ruler.joints(x)
    with np.errstate(all="ignore"):
        own = law.slope_to(parameter.field, parameter.inside, joints[i])
    if own is not None:
        return own * slope_of(ruler.laws[i + 1 :], joints[i + 1 :])
    step = _STEP * parameter.value.half_width or 1e-6 * abs(parameter.value) or 1e-6
    low, high = float(parameter.value) - step, float(parameter.value) + step
    with np.errstate(all="ignore"):
        ends = [with_value(law, parameter, end).forward(joints[i]) for end in (low, high)]
    quotient: Array = (ends[1] - ends[0]) / (high - low)
    return quotient * slope_of(ruler.laws[i + 1 :], joints[i + 1 :])


#: Beyond it a square does not fit a float.
HUGE = 1e100


@dataclass(frozen=True)
class Conditions:
    """How a reading is taken.

    noise: standard deviation of one reading in counts; dof: degrees of freedom of that figure.
    readings: how many are averaged. calibration: standard uncertainty that a calibration left, in
    the unit of the result; it replaces the tolerances and the converter's error, which the
    calibration saw. fit: how well it knows a law's parameters. level: of the expanded uncertainty.
    median_of: this many readings, if their median is taken, else 0. correlated: parameters that are
    off together.
    """

    noise: float = 0.0
    dof: float = math.inf
    readings: float = 1.0
    calibration: float = 0.0
    level: float = 0.95
    fit: FitCovariance | None = None
    median_of: int = 0
    correlated: tuple[Correlation, ...] = ()

    def roundings(self, resolution: float) -> tuple[float, float]:
        """What rounding to this resolution leaves in the result, root mean square: what lasts,
        and what is noise by now, since noise made the readings fall on different steps."""
        if not resolution:
            return 0.0, 0.0
        if self.median_of:
            return resolution * median_rounding(self.noise / resolution, self.median_of), 0.0
        if self.readings == 1:
            return resolution * ROUNDING, 0.0
        lasting = lasting_rounding(self.noise / resolution)
        dithered = math.sqrt(max(0.0, ROUNDING**2 - lasting**2)) / math.sqrt(self.readings)
        return resolution * lasting, resolution * dithered

    @property
    def calibrated(self) -> bool:
        """Whether there was a calibration, which replaces the sources that it saw."""
        return self.calibration > 0 or self.fit is not None

    def __post_init__(self) -> None:
        for name, least in (("noise", 0.0), ("readings", 1.0), ("calibration", 0.0)):
            if not least <= getattr(self, name) < HUGE:
                expected = f"{number(least)} or more, and less than {number(HUGE)}"
                raise ParameterError(name, getattr(self, name), expected)
        if not self.dof > 0:
            raise ParameterError("dof", self.dof, "more than 0")
        if not 0 < self.level < 1:
            raise ParameterError("level", self.level, "a fraction between 0 and 1")


@dataclass(frozen=True, eq=False)
class Contribution:
    """One source of uncertainty.

    source: what it is; size: as it is known, in words. standard: its standard uncertainty, in
    `unit`; sensitivity: units of the result per `unit`; effect: the product, without its sign.
    NaN where it is another at each count, namely the effect itself.
    random: averaging reduces it; else only calibration does. dof: degrees of freedom. note: why,
    where it is worth a word.
    `sensitivity` and `effect` are arrays over the counts, floats in a `Budget`.
    """

    source: str
    size: str
    standard: float
    unit: str | None
    sensitivity: Array
    effect: Array
    random: bool = False
    dof: float = math.inf
    note: str = ""
    #: Whether it stays beside a calibration, which sees every systematic source but this.
    stays: bool = False


def conditions_of(
    what: Ruler | Law | Channel,
    noise: float | None = None,
    dof: float | None = None,
    readings: float | None = None,
    calibration: float | None = None,
    level: float = 0.95,
) -> Conditions:
    """What is said, and what a channel knows where nothing is said: its noise, how many readings
    its smoothing averages, what its calibration left."""
    fit: FitCovariance | None = None
    median_of = 0
    correlated: tuple[Correlation, ...] = ()
    if isinstance(what, Channel):
        correlated = what.correlated
        noise = what.noise if noise is None else what.raw_difference("noise", noise)
        left = what.calibration
        if calibration is None and isinstance(left, FitCovariance):
            fit, calibration = left, left.left
        elif calibration is None and not isinstance(left, FitCovariance):
            calibration = left
        if readings is None and what.smooth is not None and isinstance(what.smooth.over, int):
            readings = what.smooth.averaged
            median_of = what.smooth.over if what.smooth.kind == "median" else 0
    return Conditions(
        float(noise or 0.0),
        dof=math.inf if dof is None else dof,
        readings=1.0 if readings is None else readings,
        calibration=0.0 if calibration is None else float(standard_of(calibration)),
        level=level,
        fit=fit,
        median_of=median_of,
        correlated=correlated,
    )


def contributions(ruler: Ruler, x: Array, given: Conditions) -> list[Contribution]:
    """Every source of uncertainty of a ruler at counts x (float64), in the order of the chain.
    Raises `JetRulerError` for a ruler that ends in zones."""
    if ruler.label(0.0) is not None:
        raise JetRulerError("a zone is no number: its budget is that of the laws before it")
    slope = np.asarray(ruler.slope(x), dtype=np.float64)
    rows = []
    rows += _of_edge(ruler, x, slope, given)
    together = groups(ruler, given)
    alone = [p for p in toleranced(ruler) if not any(p in group for group, _ in together)]
    rows += [_of_parameter(ruler, p, x) for p in alone]
    rows += [_of_group(ruler, group, correlation, x) for group, correlation in together]
    if given.calibrated:
        rows = [_calibrated(row) for row in rows]
    rows += _roundings(ruler, x)
    if given.fit is not None:
        rows.append(_of_fit(ruler, given.fit, x))
    if given.calibration:
        ones = np.ones_like(x)
        size = f"{shown(given.calibration, ruler.gives)} standard"
        rows.append(_row("calibration", size, given.calibration, ruler.gives, ones))
    return rows


def _row(
    source: str,
    size: str,
    standard: float,
    unit: str | None,
    sensitivity: Array,
    random: bool = False,
    dof: float = math.inf,
    note: str = "",
) -> Contribution:
    effect = np.abs(sensitivity) * standard
    return Contribution(
        source,
        size,
        standard=standard,
        unit=unit,
        sensitivity=sensitivity,
        effect=effect,
        random=random,
        dof=dof,
        note=note,
    )


def _calibrated(row: Contribution) -> Contribution:
    """A row after a calibration: what the calibration saw is in its own row."""
    if row.random or row.stays:
        return row
    return replace(row, effect=0.0 * row.effect, note=row.note or "is in the calibration")


def _of_fit(ruler: Ruler, fit: FitCovariance, x: Array) -> Contribution:
    """The parameters of a fitted law, which move the result together: √(J Σ Jᵀ).
    Source: JCGM 100:2008, 5.2.2, with correlated input quantities."""
    fitted = fitted_parameters(ruler, fit)
    effects = np.array([sensitivity(ruler, parameter, x) for parameter in fitted])
    square = np.einsum("ik,ij,jk->k", effects, np.array(fit.covariance), effects)
    effect = np.sqrt(np.maximum(square, 0.0))
    parts = [
        f"u({_called(ruler.laws[p.law], p.field, p.inside)}) = {number(p.value.standard, 3)}"
        for p in fitted
    ]
    return Contribution(
        f"fit of {fit.law}",
        ", ".join(parts),
        standard=math.nan,
        unit=ruler.gives,
        sensitivity=np.ones_like(effect),
        effect=effect,
        dof=fit.dof,
        note="includes the covariance of its parameters",
    )


def _of_edge(ruler: Ruler, x: Array, slope: Array, given: Conditions) -> list[Contribution]:
    """Resolution, error and noise of the raw edge: all come in through the slope of the chain."""
    rows = []
    edge, unit, resolution = ruler.edge, ruler.takes, resolution_of(ruler)
    noun = edge.noun if edge is not None else "input"
    if resolution:
        rows += _of_resolution(f"{noun} resolution", resolution, unit, slope, given)
    for error in edge.own_errors if edge is not None else ():
        if not error.half_width:
            continue
        name, standard = f"{noun} {error.name}", error.half_width / math.sqrt(3)
        if error.grows:
            size = f"± {number(100 * error.half_width)} %"
            rows.append(_row(name, size, standard, None, slope * x))
        else:
            rows.append(_row(name, f"± {_amount(error.half_width, unit)}", standard, unit, slope))
    if given.noise:
        size = _amount(significant(given.noise, 3), unit)
        if given.readings != 1:
            size += f" / √{number(given.readings, 3)}"
        standard = given.noise / math.sqrt(given.readings)
        noise = _row("noise", size, standard, unit, slope, random=True, dof=given.dof)
        rows.append(noise)
    return rows


def _of_resolution(
    source: str, resolution: float, unit: str | None, slope: Array, given: Conditions
) -> list[Contribution]:
    rows = []
    lasting, dithered = given.roundings(resolution)
    size = f"± {_amount(resolution / 2, unit)}"
    if lasting > 1e-6 * resolution:
        rows.append(replace(_row(source, size, lasting, unit, slope), stays=True))
    if dithered:
        note = (
            f"is what remains of the resolution in the mean of {number(given.readings, 3)} readings"
        )
        mean = _row("resolution, mean", size, dithered, unit, slope, random=True, note=note)
        rows.append(mean)
    return rows


def _amount(value: float, unit: str | None) -> str:
    return f"{number(value)} {unit}" if unit == "count" else shown(value, unit)


def resolution_of(ruler: Ruler) -> float:
    """The smallest difference that the raw edge can show, in its unit: an LSB of a converter, the
    resolution of an input; 0 where it is not known."""
    return float(ruler.edge.lsb) if ruler.edge is not None else 0.0


def _of_parameter(ruler: Ruler, parameter: UncertainParameter, x: Array) -> Contribution:
    law, value = ruler.laws[parameter.law], parameter.value
    note = ""
    if law.cancels(parameter.field):
        per_unit = np.where(np.isnan(ruler.slope(x)), np.nan, 0.0)
        note = "cancels: the divider is fed from the same reference"
    else:
        per_unit = sensitivity(ruler, parameter, x)
    return _row(
        parameter.name,
        _size(value, parameter.unit),
        value.standard,
        parameter.unit,
        per_unit,
        note=note,
    )


def groups(ruler: Ruler, given: Conditions) -> list[tuple[list[UncertainParameter], Correlation]]:
    """The parameters that are off together."""
    known = {(p.law, p.field, p.inside): p for p in toleranced(ruler)}
    return [([known[at] for at in one.places(ruler.laws)], one) for one in given.correlated]


def _of_group(
    ruler: Ruler, group: list[UncertainParameter], correlation: Correlation, x: Array
) -> Contribution:
    """Parameters that are off together: √(J R J) of their signed effects.
    Source: JCGM 100:2008, 5.2.2, with correlated input quantities."""
    each = [_of_parameter(ruler, parameter, x) for parameter in group]
    signed = np.array([row.sensitivity * row.standard for row in each])
    square = np.einsum("ik,ij,jk->k", signed, correlation.matrix, signed)
    effect = np.sqrt(np.maximum(square, 0.0))
    return Contribution(
        " with ".join(row.source for row in each),
        f"{'; '.join(row.size for row in each)}; r = {number(correlation.r)}",
        standard=math.nan,
        unit=ruler.gives,
        sensitivity=np.ones_like(effect),
        effect=effect,
        note="have correlated errors",
    )


def _size(value: Toleranced, unit: str | None) -> str:
    """`100000 Ω ± 3 %`, `3.3 V ± 0.033 V (k=2)`."""
    k = "" if value.k is None else f" (k={number(value.k)})"
    fraction = 100 * value.half_width / abs(value) if value else math.inf
    in_percent = (
        f"{number(fraction, 3)} %" if fraction < 100 and unit not in ("degC", "degF") else ""
    )
    return f"{shown(float(value), unit)} ± {in_percent or shown(value.half_width, unit)}{k}"


def _roundings(ruler: Ruler, x: Array) -> list[Contribution]:
    """A law that rounds adds half a resolution of its own."""
    rows = []
    for i, law in enumerate(ruler.laws):
        if (resolution := law.rounds_to) is not None:
            slope = slope_of(ruler.laws[i + 1 :], ruler.joints(x)[i + 1 :])
            unit = ruler.units[i + 1]
            size, standard, note = f"± {number(resolution / 2)}", ROUNDING * resolution, ""
            if law.cuts:
                # Even over 0 … 1 steps: a mean of half a step, and that squared with the spread.
                size, standard = f"0 … {number(resolution)}", resolution / math.sqrt(3)
                note = f"always rounds one way, by {number(resolution / 2)} on average (included)"
            size = f"{size} {symbol(unit)}".rstrip()
            rows.append(_row(f"rounding of {law.name}", size, standard, unit, slope, note=note))
    return rows
