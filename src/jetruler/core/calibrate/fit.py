"""`fit`: a law from marks, what to mind about it, and whether a simpler law would do as well."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np

from ..error_types import JetRulerError, KindError
from ..laws import law_named, law_names
from ..numerics import Array
from ..result import old_keywords, refuses
from ..ruler.ruler import Law, Ruler
from ..ruler.units import nearest, number, shown, symbol, with_uncertainty
from .fit_result import Fit
from .fitting import (
    OFFSET,
    FitRequest,
    as_uncertain,
    behind,
    fitted,
    is_exact,
    predicts_better,
    with_raw_uncertainty,
)
from .marks import Marks, MarksError

#: A law's left-out error may be so much larger, and it still does as well.
AS_WELL = 1.15
#: How the errors of two laws are compared.
LEFT_OUT = "with each mark left out in turn"
#: Chance that a richer law is said to fit better where it does not.
FITS = 0.01


def advised(result: Fit, wanted: FitRequest, limits: tuple[float, float] | None) -> Fit:
    """The fit, which tells its notes and its sentence on simpler laws when they are asked for."""
    return replace(result, _advise=partial(_notes_on, wanted, limits))


def _notes_on(
    wanted: FitRequest, limits: tuple[float, float] | None, fit: Fit
) -> tuple[tuple[str, ...], str]:
    notes = [*_of_marks(fit), *_repeated(fit), *_outliers(fit), *_of_model(fit)]
    notes += _richer(fit, wanted, fit.marks, fit.x)
    notes += _missing(fit)
    notes += _suspects(fit, wanted, fit.marks, fit.x)
    notes += _turns(fit)
    notes += _extrapolates(fit, limits)
    return tuple(notes), _simpler(fit, wanted, fit.marks, fit.x)


def _of_marks(result: Fit) -> list[str]:
    """What the uncertainties of the marks represent, and what was not included."""
    marks, notes = result.marks, []
    if marks.unused:
        notes.append(f"not used: {', '.join(marks.unused)}")
    if marks.u_raw is not None:
        notes.append("u_raw counts through the slope of the law")
    if marks.u_common:
        size = result.shown(1.96 * marks.u_common)
        notes.append(
            f"all marks may share an error of {size} (95 %): the uncertainties include it, and no "
            "residual shows it"
        )
    return notes


def _repeated(result: Fit) -> list[str]:
    marks, notes = result.marks, []
    for raw in marks.repeats()[:3]:
        true = marks.true[marks.raw == raw]
        ends = f"{number(true.min())} to {shown(float(true.max()), marks.true_unit)}"
        notes.append(f"raw {number(raw)} was noted {true.size} times, as {ends}: averaged")
    more = len(marks.repeats()) - 3
    return [*notes, f"so were {more} other raw values"] if more > 0 else notes


def _outliers(result: Fit) -> list[str]:
    notes = []
    for i in result.outliers:
        off = result.shown(abs(float(result.error[i])))
        times = abs(float(result.error[i])) / (result.rms or np.inf)
        ratio = f", {times:.0f} times the others' rms error" if 1 < times < 1e6 else ""
        notes.append(f"outlier: {result.marks.shown(i)} is off by {off}{ratio}; it is excluded")
    return notes


def _suspects(result: Fit, wanted: FitRequest, marks: Marks, x: Array) -> list[str]:
    """Marks that a robust fit would set aside, where it was not asked for."""
    if wanted.robust or not result.parameters or x.size < len(result.parameters) + 4:
        return []
    try:
        found = fitted(replace(wanted, robust=True), marks, x).outliers
    except JetRulerError:
        return []
    names = ", ".join(marks.names[i] for i in found)
    return [f"does not fit the other marks: {names}; a robust fit excludes it"] if found else []


def _richer(result: Fit, wanted: FitRequest, marks: Marks, x: Array) -> list[str]:
    """Errors beyond what the marks' uncertainties say, and the law with more parameters that has
    not got them."""
    widened = result.marks.u_true is not None and result._widened != 1.0
    sure = widened and not as_uncertain(result)
    better: Fit | None = None
    for law, degree in type(result.law).richer_fits(len(result.parameters)):
        try:
            other = fitted(replace(wanted, law=law, degree=degree, like=None), marks, x)
        except JetRulerError:
            continue
        if other.outliers == result.outliers and predicts_better(better or result, other, FITS):
            better = other
    parts = []
    if widened:
        chance = "" if sure else ", which may be chance"
        parts.append(
            f"the marks scatter {number(result.scatter, 2)} times as much as their uncertainties "
            f"say{chance}; those of the parameters are widened by that"
        )
    if better is not None:
        own, its = result.shown(result.rms_left_out), better.shown(better.rms_left_out)
        parts.append(f"{fit_name(better)} fits better: {its} rms {LEFT_OUT}, instead of {own}")
    elif sure and result.parameters:
        parts.append(
            "no law with more parameters fits better: the uncertainties or some marks are wrong"
        )
    return parts


def fit_name(fit: Fit) -> str:
    """What people call a fit: `a polynomial of degree 3`."""
    kind = type(fit.law)
    degree = f" of degree {len(fit.parameters) - 1}" if kind.fit_degrees else ""
    return f"{kind.fitted_name}{degree}"


def _missing(result: Fit) -> list[str]:
    """Parameters that the marks do not tell from those of a law that has not got them."""
    solution = result._solution
    if solution is None or is_exact(result):
        return []
    neutral = solution.problem.model.neutral
    fitted = {p.name: p for p in result.parameters if p.name in neutral and p.half_width > 0}
    neutral_names = [
        name for name, p in fitted.items() if not abs(p.value - neutral[name]) > p.half_width
    ]
    if (
        len(fitted) > 1
        and len(fitted) == len(result.parameters)
        and len(neutral_names) == len(fitted)
    ):
        names, values = (
            " and ".join(parts)
            for parts in (neutral_names, [f"{number(neutral[n])}" for n in neutral_names])
        )
        return [f"{names} do not differ significantly from {values}: no correction is needed"]
    shown = (
        (
            fitted[name],
            with_uncertainty(fitted[name].value, fitted[name].half_width, fitted[name].unit),
        )
        for name in neutral_names
    )
    return [
        f"{p.name}, {text}, does not differ significantly from {number(neutral[p.name])}"
        for p, text in shown
    ]


def _of_model(result: Fit) -> list[str]:
    solution = result._solution
    return list(solution.problem.model.notes) if solution is not None else []


def _turns(result: Fit) -> list[str]:
    """A curve that turns back between its marks reads two ways."""
    from ..numerics import turning_point

    if not result.parameters or np.ptp(result.law.slope(result.x)) == 0:
        return []
    turn = turning_point(result.law.forward, float(result.x.min()), float(result.x.max()))
    if turn is None:
        return []
    return [f"it turns back at x = {number(turn)}, between the marks: a lower degree would not"]


def _extrapolates(result: Fit, limits: tuple[float, float] | None) -> list[str]:
    """Where the limits reach beyond the marks, and how far the law can be trusted there."""
    marks = result.marks
    true = marks.true[result.kept]
    low, high = float(true.min()), float(true.max())
    unit = marks.true_unit
    text = f"the marks cover {number(low)} to {shown(high, unit)}"
    if limits is None:
        return [text]
    room = 0.02 * (limits[1] - limits[0])
    beyond = [
        e for e, out in zip(limits, (low - limits[0], limits[1] - high), strict=True) if out > room
    ]
    if not beyond:
        return [text]
    parts = []
    for end in beyond:
        try:
            half_width = float(result.interval(result.ruler.inverse(end))[0])
        except JetRulerError:
            half_width = float("nan")
        known = f"± {result.shown(half_width)} (95 %) " if np.isfinite(half_width) else ""
        parts.append(f"{known}at {shown(end, unit)}")
    limit = f"the limits are {number(limits[0])} to {shown(limits[1], unit)}"
    known = "its uncertainty is" if any("±" in p for p in parts) else "its uncertainty is unknown"
    return [f"{text}, {limit}: beyond the marks it extrapolates; {known} {' and '.join(parts)}"]


def _simpler(result: Fit, wanted: FitRequest, marks: Marks, x: Array) -> str:
    """The simplest law that predicts left-out marks as well; else what the next simpler costs."""
    own = result.rms_left_out
    ladder = type(result.law).simpler_fits(len(result.parameters))
    if wanted.law == OFFSET or (wanted.like is not None or not _keeps_unit(wanted)):
        ladder = [(law, deg) for law, deg in ladder if law != OFFSET]
    found = []
    for law, deg in ladder:
        try:
            other = fitted(replace(wanted, law=law, degree=deg, like=None), marks, x)
        except JetRulerError:
            continue
        if np.isfinite(other.rms_left_out):
            name = "an offset alone" if law == OFFSET else law_named(law).fitted_name
            name += f" of degree {deg}" if deg else ""
            found.append((name, other.rms_left_out))
    if not found or not np.isfinite(own):
        if ladder and not np.isfinite(own):
            return "too few marks to decide whether a simpler law fits as well"
        return ""
    shown_own = result.shown(own)
    tiny = 1e-9 * float(np.max(np.abs(marks.true)))
    for name, error in found:
        if error <= max(AS_WELL * own, tiny):
            return (
                f"{name} fits as well: {result.shown(error)} rms {LEFT_OUT}, instead of {shown_own}"
            )
    name, error = min(found, key=lambda pair: pair[1])
    return (
        f"no simpler law fits as well: {name} has {result.shown(error)} rms {LEFT_OUT}, "
        f"instead of {shown_own}"
    )


def _keeps_unit(wanted: FitRequest) -> bool:
    return wanted.upstream is not None and wanted.upstream.gives == wanted.gives


@refuses
@old_keywords(before="upstream", then="downstream")
def fit(
    marks: Marks | Any,
    law: str | type[Law] = "line",
    *,
    upstream: Ruler | Law | None = None,
    downstream: Ruler | Law | None = None,
    degree: int | None = None,
    robust: bool = False,
    unit: str | None = None,
    like: Law | None = None,
    limits: tuple[float, float] | None = None,
) -> Fit:
    """Fit a law to marks by least squares of its errors, in the unit of its result.

    Parameters
    ----------
    marks : Marks | Sequence[Sequence[float]] | Array
        `Marks`, pairs (raw, true) or triples with the standard uncertainty of true, by which
        they are then weighted.
    law : str, default "line"
        "line", "offset" (the gain stays), "polynomial", "power", "table", "beta",
        "steinhart-hart" (c stays 0, or as it was, with two marks) or "steinhart-hart-extended".
    upstream, downstream : Ruler | Law, optional
        The laws between raw and this law, and between this law and true.
    degree : int, optional
        Degree of a polynomial; None takes the lowest that none beats: one that predicts left-out
        marks better and reduces the squares of the errors beyond chance (4 % in all).
    robust : bool, default False
        Exclude outliers and name them. They are found by the marks' uncertainties if given, else
        by the majority of the marks.
    unit : str, optional
        Unit of the result.
    like : Law, optional
        A law of the same kind whose other parameters stay (t0, x0, c, gain, unit).
    limits : tuple[float, float], optional
        Limits of the result, to warn of extrapolation.

    Returns
    -------
    Fit
        The law, its parameters with their uncertainties, and the errors at the marks.

    Raises
    ------
    MarksError
        For marks that cannot give this law.
    JetRulerError
        For one that cannot be fitted.

    Notes
    -----
    Parameters' uncertainties come from the marks' own, where given (widened if the marks scatter
    more than that, by a chi-square test at 5 %), else from the scatter.

    Source: JCGM 100:2008, H.3; Gauss and Newton's method.

    Examples
    --------
    >>> import jetruler as jr
    >>> found = jr.fit([(198, 0), (2050, 49.6), (3904, 100)])
    >>> found.law.name, round(found.parameters[1].value, 5)
    ('line', -5.4671)
    """
    upstream = None if upstream is None else Ruler.of(upstream)
    downstream = None if downstream is None else Ruler.of(downstream)
    law = _name_of(law)
    kind = kind_of_fit(law)
    if degree is not None and not kind.fit_degrees:
        raise JetRulerError(f"degree: expected none, as only a polynomial has one, found {degree}")
    if degree is not None and not 1 <= degree <= kind.fit_degrees:
        raise JetRulerError(f"degree: expected 1 to {kind.fit_degrees}, found {degree}")
    used = Marks.of(marks)
    takes = upstream.gives if upstream else None
    if kind.fit_takes is not None and takes not in (None, kind.fit_takes):
        given = f"the laws before it give {symbol(takes)}"
        raise MarksError(f"{law} takes {symbol(kind.fit_takes)}, but {given}")
    if kind.fit_gives:
        found = unit or getattr(like, "unit", None) or used.true_unit
        unit = found if found in kind.fit_gives else kind.fit_gives[0]
    elif downstream is None:
        unit = unit or used.true_unit
    gives = (downstream.gives if downstream is not None else None) or unit
    used = used.in_units((upstream.takes if upstream else used.raw_unit,), gives)
    own_takes = getattr(like, "takes", None) if kind.fit_takes is None else None
    declared_unit = None if not kind.fit_gives and unit == takes else unit
    wanted = FitRequest(
        law,
        degree,
        robust=robust,
        unit=declared_unit,
        gives=unit,
        takes=own_takes,
        like=like,
        upstream=upstream,
        downstream=downstream,
    )
    x = behind(upstream, used)
    used = with_raw_uncertainty(wanted, used, x)
    result = fitted(wanted, used, x)
    return advised(result, wanted, limits)


def _name_of(law: str | type[Law]) -> str:
    """The name of a law that is given by it, or by its class."""
    if isinstance(law, type) and issubclass(law, Law):
        return law.name
    if not isinstance(law, str):
        kind = type(law).__name__
        raise KindError(f"law: expected the name of a law, or its class, found {kind}")
    return law


def fitted_laws() -> list[str]:
    """The names of the laws that can be fitted."""
    return [*(name for name in law_names() if law_named(name).fitted_name), OFFSET]


def kind_of_fit(law: str) -> type[Law]:
    """The class of the law of this name. Raises `JetRulerError` for one that has no fit."""
    try:
        if (kind := law_named("line" if law == OFFSET else law)).fitted_name:
            return kind
    except KeyError:  # none of that name
        pass
    known = fitted_laws()
    raise JetRulerError(
        f"law: expected a law that can be fitted, found {law!r}: {nearest(law, known)}"
    )
