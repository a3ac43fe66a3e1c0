"""The fit itself: a law of a wanted kind from marks in the right units."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ..arrays import AnyArray, Array
from ..errors import ParameterError
from ..model.law import Law
from ..model.reading import flag_names
from ..model.ruler import Ruler
from ..model.text import number, shown
from .marks import Marks, MarksError
from .models import (
    BetaModel,
    FitModel,
    OffsetModel,
    PolynomialModel,
    PowerModel,
    SteinhartHartModel,
)
from .regression import Problem, SingularError, Solution, outliers, solve
from .result import Fit, FittedParameter, coverage

#: The laws that can be fitted.
LAWS = ("line", "offset", "polynomial", "power", "table", "beta", "steinhart-hart")
HIGHEST_DEGREE = 6


@dataclass(frozen=True)
class FitRequest:
    """What is to be fitted: the law, its fixed parameters, and where it stands."""

    law: str
    degree: int | None = None
    robust: bool = False
    unit: str | None = None
    """Unit that the law says it gives; None where it keeps the one that comes in."""
    gives: str | None = None
    """Unit that it gives, said or kept."""
    takes: str | None = None
    like: Law | None = None
    before: Ruler | None = None
    then: Ruler | None = None


def behind(before: Ruler | None, marks: Marks) -> Array:
    """What the law gets of each mark. Raises `MarksError` where that is nothing."""
    if before is None:
        return marks.raw
    converter = before.converter
    if converter is not None:
        for i in np.flatnonzero((marks.raw < converter.lowest) | (marks.raw > converter.highest)):
            raise MarksError(
                f"{marks.shown(int(i))}: outside the converter; its counts run from "
                f"{converter.lowest} to {converter.highest}"
            )
    reading = before.read(marks.raw)
    for i in np.flatnonzero(~np.isfinite(reading.value)):
        names = ", ".join(flag_names(int(reading.flags[i]))) or "faulty"
        raise MarksError(f"{marks.shown(int(i))}: the laws before have no value there ({names})")
    x: Array = reading.value
    return x


def check_numbers(wanted: FitRequest, marks: Marks, x: Array) -> None:
    """Whether there are marks enough, and on the right side of 0."""
    different, law = np.unique(x).size, wanted.law
    needs = {"offset": 1, "polynomial": (wanted.degree or 1) + 1}.get(law, 2)
    if different < needs:
        name = f"{law} of degree {wanted.degree}" if wanted.degree else law
        raise MarksError(
            f"{name} needs marks at {needs} different raw values or more; found {different}"
        )
    if law in ("beta", "steinhart-hart"):
        for i in np.flatnonzero(x <= 0):
            raise MarksError(f"{marks.shown(int(i))}: {shown(x[i], 'ohm')} is no thermistor's")
        if not wanted.robust:
            _falling(marks, x)


def _falling(marks: Marks, x: Array) -> None:
    """A thermistor's temperature falls as its ohms rise; small steps back may be noise."""
    order = np.argsort(x)
    true = marks.true[order]
    room = 0.05 * np.ptp(true) if x.size > 3 else 0.0
    for i in range(1, x.size):
        first, second = order[i - 1], order[i]
        if x[second] > x[first] and true[i] - true[i - 1] > room:
            raise MarksError(
                f"{marks.shown(int(second))} against {marks.shown(int(first))}: from "
                f"{shown(x[first], 'ohm')} to {shown(x[second], 'ohm')} the temperature rises; "
                "a thermistor's falls"
            )


def fitted(wanted: FitRequest, marks: Marks, x: Array) -> Fit:
    """The fit itself, without advice. Raises `MarksError`."""
    if wanted.law == "table":
        return _table(wanted, marks, x)
    if wanted.law == "polynomial" and wanted.degree is None:
        return _lowest_good_degree(wanted, marks, x)
    problem = Problem(_model(wanted, marks, x), wanted.then)
    with np.errstate(all="ignore"):
        sound = np.isfinite(problem.straight(marks.true))
    for i in np.flatnonzero(~sound).tolist():
        raise MarksError(f"{marks.shown(i)}: no {wanted.law} gives that value")
    weight = np.ones(x.size) if marks.u_true is None else 1 / marks.u_true
    try:
        out = np.zeros(x.size, np.bool_)
        if wanted.robust:
            out = _set_aside(problem, wanted, marks, x, weight)
        solution = solve(problem, x[~out], marks.true[~out], weight[~out])
        return _result(wanted, marks, x, solution, out, weight)
    except SingularError as error:
        raise MarksError(f"{wanted.law}: {error}; marks further apart are right") from None
    except ParameterError as error:
        raise MarksError(f"{wanted.law}: these marks describe none: {error}") from None


def _set_aside(
    problem: Problem, wanted: FitRequest, marks: Marks, x: Array, weight: Array
) -> AnyArray:
    free = len(problem.model.names)
    if x.size < free + 2:
        raise MarksError(
            f"robust: {free + 2} marks or more can name an outlier of {wanted.law}; found {x.size}"
        )
    floor = np.zeros(x.size) if marks.u_true is None else 2.0 * marks.u_true
    if wanted.before is not None and wanted.before.converter is not None:
        # What rounding to counts alone may do to a mark: half a count, through the slope.
        start = solve(problem, x, marks.true, weight)
        rows = wanted.before.slope(marks.raw)
        h = 1e-6 * (np.ptp(x) or 1.0)
        near = problem.predicted(start.theta, x + h) - problem.predicted(start.theta, x - h)
        floor = np.hypot(floor, np.nan_to_num(np.abs(near / (2 * h) * rows)))
    return outliers(problem, x, marks.true, weight, floor)


def _model(wanted: FitRequest, marks: Marks, x: Array) -> FitModel:
    law, like = wanted.law, wanted.like
    if law in ("line", "polynomial"):
        degree = 1 if law == "line" else wanted.degree or 1
        return PolynomialModel(x, degree, wanted.unit, wanted.takes)
    if law == "offset":
        gain = float(getattr(like, "gain", None) or 1.0)
        return OffsetModel(gain, wanted.unit, wanted.takes)
    if law == "beta":
        return BetaModel(x, getattr(like, "t0", 298.15), wanted.unit or "degC")
    if law == "steinhart-hart":
        stays = float(getattr(like, "c", 0.0)) if np.unique(x).size == 2 else None
        return SteinhartHartModel(wanted.unit or "degC", stays)
    x0, c = float(getattr(like, "x0", 0.0)), float(getattr(like, "c", 0.0))
    for i in np.flatnonzero(x <= x0):
        right = f"a power law needs what it is raised from above x0 = {number(x0)}"
        raise MarksError(f"{marks.shown(int(i))}: x is {number(x[i])}; {right}")
    target = marks.true if wanted.then is None else np.asarray(wanted.then.inverse(marks.true))
    negative = bool(np.median(target) < c)
    return PowerModel(x, x0, c, negative, wanted.unit, wanted.takes)


def _result(
    wanted: FitRequest, marks: Marks, x: Array, solution: Solution, out: AnyArray, weight: Array
) -> Fit:
    problem, theta = solution.problem, solution.theta
    with np.errstate(all="ignore"):  # parameters out of all bounds are refused by the law
        values = problem.model.values(theta)
    law = problem.model.law(values)
    if wanted.law == "line" and x.size == 2 and wanted.unit is not None:
        law = _through(wanted, marks, x)
    read = problem.predicted(theta, x)
    error = read - marks.true
    degrees = int(np.count_nonzero(~out)) - theta.size
    square = float(np.sum((weight * error)[~out] ** 2))
    scatter = float(np.sqrt(square / degrees)) if degrees else float("nan")
    given = marks.u_true is not None
    widened = 1.0 if given else scatter
    if given and degrees and _too_much(square, degrees):
        widened = scatter
    left_out = error.copy()
    spare = 1.0 - solution.leverage
    with np.errstate(all="ignore"):
        left_out[~out] = np.where(spare > 1e-9, error[~out] / spare, np.nan)
    rows = problem.model.values_slope(theta)
    covariance = widened**2 * rows @ solution.inverse @ rows.T
    factor = coverage(degrees, given and widened == 1.0)
    parameters = tuple(
        FittedParameter(
            name, float(value), float(u), factor * float(u), unit or _unit(name, wanted)
        )
        for name, value, u, unit in zip(
            problem.model.names,
            values,
            np.sqrt(np.diag(covariance)),
            problem.model.units,
            strict=True,
        )
    )
    if wanted.law == "line":
        parameters, covariance = parameters[::-1], covariance[::-1, ::-1]
    return Fit(
        law,
        _ruler(wanted, law),
        parameters,
        covariance,
        marks,
        x,
        read,
        error,
        left_out,
        tuple(np.flatnonzero(out).tolist()),
        degrees,
        scatter,
        _before=wanted.before,
        _solution=solution,
        _widened=widened,
    )


def _unit(name: str, wanted: FitRequest) -> str | None:
    """A constant has the unit of the result."""
    return wanted.gives if name in ("offset", "c0") else None


def _too_much(square: float, degrees: int) -> bool:
    """Whether the marks scatter more than their uncertainties say, at 5 %."""
    from scipy.special import chdtrc

    return bool(chdtrc(degrees, square) < 0.05)


def _through(wanted: FitRequest, marks: Marks, x: Array) -> Law:
    """A line through two marks is kept as the marks."""
    from ..laws.linear import Line

    target = marks.true if wanted.then is None else np.asarray(wanted.then.inverse(marks.true))
    (x0, x1), (y0, y1) = x.tolist(), target.tolist()
    return Line.through((x0, y0), (x1, y1), wanted.unit, wanted.takes)


def _ruler(wanted: FitRequest, law: Law) -> Ruler:
    parts = [part for part in (wanted.before, law, wanted.then) if part is not None]
    return Ruler.of(*parts)


def _lowest_good_degree(wanted: FitRequest, marks: Marks, x: Array) -> Fit:
    """The lowest degree whose leave-one-out error is within a tenth of the best."""
    highest = max(1, min(HIGHEST_DEGREE, np.unique(x).size - 2))
    fits = [fitted(replace(wanted, degree=d), marks, x) for d in range(1, highest + 1)]
    errors = [f.rms_left_out for f in fits]
    if all(np.isnan(errors)):
        return fits[0]
    best = np.nanmin(errors)
    return next(f for f, e in zip(fits, errors, strict=True) if e <= 1.1 * best)


def _table(wanted: FitRequest, marks: Marks, x: Array) -> Fit:
    """The marks themselves, joined: repeated ones averaged."""
    from ..laws.curve import Table

    if wanted.robust:
        raise MarksError("robust: a table goes through every mark; fit a law that need not")
    target = marks.true if wanted.then is None else np.asarray(wanted.then.inverse(marks.true))
    once = Marks(x, target, marks.u_true).averaged()
    points = tuple(zip(once.raw.tolist(), once.true.tolist(), strict=True))
    law = Table(points, "linear", "flag", wanted.unit, wanted.takes)
    ruler = _ruler(wanted, law)
    behind_law = Ruler.of(law, *([wanted.then] if wanted.then is not None else []))
    read = np.asarray(behind_law(x), dtype=np.float64)
    left_out = np.full(x.size, np.nan)
    if len(points) > 2:
        for i in range(x.size):
            others = tuple(point for point in points if point[0] != x[i])
            rest: Any = Ruler.of(replace(law, points=others, ends="extend"), *behind_law.laws[1:])
            left_out[i] = rest(float(x[i])) - marks.true[i]
    return Fit(
        law,
        ruler,
        (),
        np.empty((0, 0)),
        marks,
        x,
        read,
        read - marks.true,
        left_out,
        (),
        0,
        float("nan"),
        _before=wanted.before,
    )
