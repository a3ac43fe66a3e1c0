"""The fit itself: a law of a wanted kind from marks in the right units."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ..arrays import AnyArray, Array
from ..errors import ParameterError
from ..laws import law_named
from ..model.fit_model import OF_RESULT, FitAsked
from ..model.law import Law
from ..model.reading import flag_names
from ..model.ruler import Ruler
from ..model.text import number
from .marks import Marks, MarksError
from .regression import Problem, SingularError, Solution, outliers, solve
from .result import Fit, FittedParameter, coverage

#: The fit of a line whose gain stays.
OFFSET = "offset"


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

    @property
    def kind(self) -> type[Law]:
        """The class of the law."""
        return law_named("line" if self.law == OFFSET else self.law)

    @property
    def title(self) -> str:
        """The law's name, with its degree."""
        return f"{self.law} of degree {self.degree}" if self.degree else self.law

    def asked(self, marks: Marks, x: Array) -> FitAsked:
        """What the law takes and should give at the marks."""
        y = marks.true if self.then is None else np.asarray(self.then.inverse(marks.true))
        stays = self.law == OFFSET
        return FitAsked(
            x,
            y,
            unit=self.unit,
            takes=self.takes,
            like=self.like,
            degree=self.degree,
            gain_stays=stays,
        )


def behind(before: Ruler | None, marks: Marks) -> Array:
    """What the law gets of each mark. Raises `MarksError` where that is nothing."""
    if before is None:
        return marks.raw
    edge = before.edge
    if edge is not None:
        for i in np.flatnonzero((marks.raw < edge.lowest) | (marks.raw > edge.highest)):
            runs = "its counts run" if before.converter else "it goes"
            raise MarksError(
                f"{marks.shown(int(i))}: outside the {edge.noun}; {runs} from "
                f"{number(edge.lowest)} to {number(edge.highest)}"
            )
    reading = before.read(marks.raw)
    for i in np.flatnonzero(~np.isfinite(reading.value)):
        names = ", ".join(flag_names(int(reading.flags[i]))) or "faulty"
        raise MarksError(f"{marks.shown(int(i))}: the laws before have no value there ({names})")
    x: Array = reading.value
    return x


def _check(wanted: FitRequest, asked: FitAsked, marks: Marks, needs: int) -> None:
    """Whether there are marks enough."""
    different = np.unique(asked.x).size
    if different < needs:
        raise MarksError(
            f"{wanted.title} needs marks at {needs} different raw values or more; found {different}"
        )


def fitted(wanted: FitRequest, marks: Marks, x: Array) -> Fit:
    """The fit itself, without advice. Raises `MarksError`."""
    asked = wanted.asked(marks, x)
    if wanted.kind.fit_degrees and wanted.degree is None:
        return _lowest_good_degree(wanted, marks, x)
    model = wanted.kind.fit_model(asked)
    _check(wanted, asked, marks, 2 if model is None else len(model.names))
    if model is None:
        return _joined(wanted, asked, marks)
    for places, why in model.refuse(asked, wanted.robust):
        raise MarksError(f"{' against '.join(map(marks.shown, places))}: {why}")
    problem = Problem(model, wanted.then)
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
        return _result(wanted, marks, x=x, solution=solution, out=out, weight=weight)
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
    if wanted.before is not None and wanted.before.edge is not None and wanted.before.edge.lsb:
        # What rounding to counts alone may do to a mark: half a count, through the slope.
        start = solve(problem, x, marks.true, weight)
        rows = wanted.before.slope(marks.raw) * wanted.before.edge.lsb
        h = 1e-6 * (np.ptp(x) or 1.0)
        near = problem.predicted(start.theta, x + h) - problem.predicted(start.theta, x - h)
        floor = np.hypot(floor, np.nan_to_num(np.abs(near / (2 * h) * rows)))
    return outliers(problem, x, marks.true, weight, floor)


def _result(
    wanted: FitRequest, marks: Marks, x: Array, solution: Solution, out: AnyArray, weight: Array
) -> Fit:
    problem, theta = solution.problem, solution.theta
    with np.errstate(all="ignore"):  # parameters out of all bounds are refused by the law
        values = problem.model.values(theta)
    law = problem.model.law(values)
    law = problem.model.exact(wanted.asked(marks, x)) or law
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
    deviations = np.sqrt(np.diag(covariance)).tolist()
    units = [wanted.gives if unit == OF_RESULT else unit for unit in problem.model.units]
    each = zip(problem.model.names, values.tolist(), deviations, units, strict=True)
    parameters = tuple(FittedParameter(n, v, u, factor * u, unit) for n, v, u, unit in each)
    return Fit(
        law,
        _ruler(wanted, law),
        parameters=parameters,
        covariance=covariance,
        marks=marks,
        x=x,
        read=read,
        error=error,
        left_out=left_out,
        outliers=tuple(np.flatnonzero(out).tolist()),
        degrees=degrees,
        scatter=scatter,
        _before=wanted.before,
        _solution=solution,
        _widened=widened,
    )


def _too_much(square: float, degrees: int) -> bool:
    """Whether the marks scatter more than their uncertainties say, at 5 %."""
    from scipy.special import chdtrc

    return bool(chdtrc(degrees, square) < 0.05)


def _ruler(wanted: FitRequest, law: Law) -> Ruler:
    parts = [part for part in (wanted.before, law, wanted.then) if part is not None]
    return Ruler.of(*parts)


def _lowest_good_degree(wanted: FitRequest, marks: Marks, x: Array) -> Fit:
    """The lowest degree whose leave-one-out error is within a tenth of the best."""
    highest = max(1, min(wanted.kind.fit_degrees, np.unique(x).size - 2))
    fits = [fitted(replace(wanted, degree=d), marks, x) for d in range(1, highest + 1)]
    errors = [f.rms_left_out for f in fits]
    if all(np.isnan(errors)):
        return fits[0]
    best = np.nanmin(errors)
    return next(f for f, e in zip(fits, errors, strict=True) if e <= 1.1 * best)


def _joined(wanted: FitRequest, asked: FitAsked, marks: Marks) -> Fit:
    """The marks themselves, joined: repeated ones averaged."""
    if wanted.robust:
        raise MarksError(
            f"robust: {wanted.kind.fitted_name} goes through every mark; fit a law that need not"
        )
    x = asked.x
    once = Marks(x, asked.y, marks.u_true).averaged()
    points = tuple(zip(once.raw.tolist(), once.true.tolist(), strict=True))
    law: Any = wanted.kind.joining(points, asked)
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
        parameters=(),
        covariance=np.empty((0, 0)),
        marks=marks,
        x=x,
        read=read,
        error=read - marks.true,
        left_out=left_out,
        outliers=(),
        degrees=0,
        scatter=float("nan"),
        _before=wanted.before,
    )
