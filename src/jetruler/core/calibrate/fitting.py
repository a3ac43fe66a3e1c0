"""The fit itself: a law of a wanted kind from marks in the right units; outliers, and whether a law
with more parameters is worth them."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import partial
from itertools import combinations
from math import comb
from typing import Any, cast

import numpy as np

from ..error_types import ParameterError
from ..laws import law_named
from ..numerics import AnyArray, Array, coverage_factor
from ..ruler.base_law import OF_RESULT, FitInput
from ..ruler.reading import flag_names
from ..ruler.ruler import Law, Ruler
from ..ruler.units import number
from .fit_result import Fit, FittedParameter, coverage
from .marks import Marks, MarksError
from .regression import Problem, SingularError, Solution, accounted, solve

#: Chance that the search by uncertainties names a mark where all are sound.
_NAMED_BY_CHANCE = 0.01


def against_uncertainty(problem: Problem, x: Array, y: Array, weight: Array) -> AnyArray | None:
    """Which marks are further off than their uncertainties (1/weight) allow.

    The mark whose error is the most of its own standard deviations is set aside, and the law fitted
    to the others, until none is too far off. None where the rest is too far off then as well: then
    the uncertainties are too small, or the law is another. At most half of the marks that a fit can
    spare are set aside.
    Source: standardized residuals with known variances, Cook and Weisberg, Residuals and Influence
    in Regression, ch. 2.
    """
    from scipy.special import ndtri

    n, p = problem.model.design(x).shape
    limit = -float(ndtri(_NAMED_BY_CHANCE / (2 * n)))
    out: AnyArray = np.zeros(n, np.bool_)
    for _ in range((n - p) // 2 + 1):
        kept = solve(problem, x[~out], y[~out], weight[~out])
        off = weight[~out] * (problem.predicted(kept.theta, x[~out]) - y[~out])
        own = np.abs(off) / np.sqrt(np.maximum(1 - kept.leverage, 1e-9))
        if own.max() <= limit:
            spare = off.size - p
            return out if accounted(float(off @ off), spare, _NAMED_BY_CHANCE) else None
        out[np.flatnonzero(~out)[int(np.argmax(own))]] = True
    return None


#: Suspects are this many times further off than the worst of the others.
GAP = 3.0
_SUBSETS = 3000


def against_majority(problem: Problem, x: Array, y: Array, weight: Array, floor: Array) -> AnyArray:
    """Which marks do not go with the majority.

    The law is laid through as few marks as it needs, in every way there is (in 3000 of them, if
    there are more); the one whose median error over all marks is smallest shows what the majority
    says. Marks beyond the widest gap among its errors are suspects; they are then judged by the fit
    to the others, and come back one by one, the nearest first, unless only one sound mark in a
    thousand would be as far off. floor: errors that are no reason to suspect a mark.
    Source: least median of squares, Rousseeuw, JASA 79 (1984) 871.
    """
    n, p = problem.model.design(x).shape
    eta = problem.straight(y) - problem.model.fixed(x)
    design = problem.model.design(x)
    chosen = _subsets(n, p)
    with np.errstate(all="ignore"):
        # One column a subset; a pseudo-inverse, so that marks of one raw value do no harm.
        thetas = np.einsum("kij,kj->ik", np.linalg.pinv(design[chosen]), eta[chosen])
        straight = design @ thetas + problem.model.fixed(x)[:, None]
        reads = problem.model.link(straight)
        if problem.downstream is not None:
            reads = np.asarray(problem.downstream(reads), dtype=np.float64)
        off = np.abs(weight[:, None] * (reads - y[:, None]))
    medians = np.sort(off, axis=0)[(n + p + 1) // 2 - 1]
    if not np.any(np.isfinite(medians)):
        raise SingularError("the marks lie so that they cannot tell the parameters apart")
    which = int(np.nanargmin(medians))
    best = off[:, which]
    # The suspects lie beyond the widest gap among the errors of the minority: a majority can agree
    # by chance far better than it is, so that its own spread would be too narrow a gate.
    order = np.argsort(best)
    majority = (n + p + 1) // 2
    sizes = np.maximum(
        best[order], 1e-9 * float(np.max(weight * np.abs(y))) + (weight * floor)[order]
    )
    gaps = sizes[majority:] / sizes[majority - 1 : -1]
    if not gaps.size or gaps.max() < GAP:
        return np.zeros(n, np.bool_)
    out: AnyArray = np.zeros(n, np.bool_)
    out[order[majority + int(np.argmax(gaps)) :]] = True
    for _ in range(n):
        kept = solve(problem, x[~out], y[~out], weight[~out])
        off = weight * np.abs(problem.predicted(kept.theta, x) - y)
        spare = int(np.count_nonzero(~out)) - p
        if spare < 1:
            return out
        scatter = np.sqrt(np.sum(off[~out] ** 2) / spare)
        rows = weight[:, None] * problem.jacobian(kept.theta, x)
        reach = np.sqrt(1 + np.abs(np.einsum("ij,jk,ik->i", rows, kept.inverse, rows)))
        limit = np.maximum(_doubt(spare) * scatter * reach, weight * floor)
        back = out & (off <= limit)
        if not back.any():
            return out
        nearest = int(np.argmin(np.where(back, off, np.inf)))  # one at a time: it tells the next
        out[nearest] = False
    return out


def _doubt(dof: int) -> float:
    """Student's factor that one sound mark in a thousand exceeds."""
    return coverage_factor(dof, 0.999)


def _subsets(n: int, p: int) -> AnyArray:
    """Places of p marks out of n, a row a choice: all of them, or 3000 at random."""
    if comb(n, p) <= _SUBSETS:
        return np.array(list(combinations(range(n), p)))
    random = np.random.RandomState(1)
    return np.array([random.choice(n, p, replace=False) for _ in range(_SUBSETS)])


#: Errors so small against the truth are rounding of the arithmetic.
_ROUNDING = 1e-11


def is_exact(fit: Fit) -> bool:
    """Whether nothing but the rounding of the arithmetic is left of the errors."""
    return fit.largest <= _ROUNDING * float(np.max(np.abs(fit.marks.true), initial=0.0))


def as_uncertain(fit: Fit, chance: float = 0.05) -> bool:
    """Whether the uncertainties of the marks account for the errors, where they are given."""
    known = fit.marks.u_true is not None
    return not known or accounted(fit.dof * fit.scatter**2, fit.dof, chance)


def predicts_better(simple: Fit, rich: Fit, chance: float) -> bool:
    """Whether a law predicts marks that it has not seen better than a simpler one, and its
    parameters reduce the squares by more than those of any law would with this chance.

    Both are fitted to the same marks. Where the uncertainties of the marks account for the errors
    of the rich law, the reduction is judged by them (chi-square), else by those errors (F).
    Source: the extra sum of squares, Draper and Smith, Applied Regression Analysis, ch. 6.
    """
    from scipy.special import chdtrc, fdtrc

    more = simple.dof - rich.dof
    if is_exact(simple) or more < 1 or not rich.dof:
        return False
    if not rich.rms_left_out < simple.rms_left_out:
        return False
    if is_exact(rich):
        return True
    squares = [fit.dof * fit.scatter**2 for fit in (simple, rich)]
    gained = squares[0] - squares[1]
    if rich.marks.u_true is not None and as_uncertain(rich):
        return bool(chdtrc(more, max(gained, 0.0)) < chance)
    ratio = gained / more / rich.scatter**2
    return bool(fdtrc(more, rich.dof, max(ratio, 0.0)) < chance)


#: The fit of a line whose gain stays.
OFFSET = "offset"


@dataclass(frozen=True)
class FitRequest:
    """What is to be fitted: the law, its fixed parameters, and where it is."""

    law: str
    degree: int | None
    robust: bool
    unit: str | None
    """Unit that the law says it gives; None where it keeps the one that comes in."""
    gives: str | None
    """Unit that it gives, said or kept."""
    takes: str | None
    like: Law | None
    upstream: Ruler | None
    downstream: Ruler | None

    @property
    def kind(self) -> type[Law]:
        """The class of the law."""
        return law_named("line" if self.law == OFFSET else self.law)

    @property
    def title(self) -> str:
        """The law's name, with its degree."""
        return f"{self.law} of degree {self.degree}" if self.degree else self.law

    def asked(self, marks: Marks, x: Array) -> FitInput:
        """What the law takes and should give at the marks."""
        y = (
            marks.true
            if self.downstream is None
            else np.asarray(self.downstream.inverse(marks.true))
        )
        stays = self.law == OFFSET
        return FitInput(
            x,
            y,
            unit=self.unit,
            takes=self.takes,
            like=self.like,
            degree=self.degree,
            gain_stays=stays,
        )


def behind(upstream: Ruler | None, marks: Marks) -> Array:
    """What the law gets of each mark. Raises `MarksError` where that is nothing."""
    if upstream is None:
        return marks.raw
    edge = upstream.edge
    if edge is not None:
        for i in np.flatnonzero((marks.raw < edge.lowest) | (marks.raw > edge.highest)):
            runs = "its counts run" if upstream.converter else "it goes"
            raise MarksError(
                f"{marks.shown(int(i))}: outside the {edge.noun}; {runs} from "
                f"{number(edge.lowest)} to {number(edge.highest)}"
            )
    reading = upstream.read(marks.raw)
    for i in np.flatnonzero(~np.isfinite(reading.value)):
        names = ", ".join(flag_names(int(reading.flags[i]))) or "faulty"
        raise MarksError(f"{marks.shown(int(i))}: the laws before have no value there ({names})")
    x: Array = reading.value
    return x


def _check(wanted: FitRequest, asked: FitInput, marks: Marks, needs: int) -> None:
    """Whether there are marks enough."""
    different = np.unique(asked.x).size
    if different < needs:
        raise MarksError(
            f"{wanted.title}: expected marks at {needs} different raw values or more, found "
            f"{different}"
        )
    if wanted.law != OFFSET and np.ptp(marks.true) <= SAME * np.max(np.abs(marks.true)):
        raise MarksError(
            f"{wanted.title}: expected marks with different true values, found "
            f"{marks.shown(0)} and {len(marks) - 1} more with the same one"
        )


#: True values that differ by less than this fraction are the same.
SAME = 1e-12


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
    problem = Problem(model, wanted.downstream)
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
        raise MarksError(f"{wanted.law}: {error}; take marks further apart") from None
    except ParameterError as error:
        raise MarksError(f"{wanted.law}: these marks describe none: {error}") from None


def _set_aside(
    problem: Problem, wanted: FitRequest, marks: Marks, x: Array, weight: Array
) -> AnyArray:
    free = len(problem.model.names)
    if x.size < free + 2:
        raise MarksError(
            f"robust: expected {free + 2} marks or more, to name an outlier of {wanted.law}, found "
            f"{x.size}"
        )
    rounding = np.zeros(x.size)
    if (
        wanted.upstream is not None
        and wanted.upstream.edge is not None
        and wanted.upstream.edge.lsb
    ):
        # What the counts alone may do to a mark: one of them, through the slope.
        start = solve(problem, x, marks.true, weight)
        rows = wanted.upstream.slope(marks.raw) * wanted.upstream.edge.lsb
        h = 1e-6 * (np.ptp(x) or 1.0)
        near = problem.predicted(start.theta, x + h) - problem.predicted(start.theta, x - h)
        rounding = np.nan_to_num(np.abs(near / (2 * h) * rows))
    if marks.u_true is None:
        return against_majority(problem, x, marks.true, weight, rounding)
    known = 1 / np.hypot(marks.u_true, rounding / np.sqrt(12))
    named = against_uncertainty(problem, x, marks.true, known)
    if named is not None:
        return named
    floor = np.hypot(2.0 * marks.u_true, rounding)
    return against_majority(problem, x, marks.true, weight, floor)


def with_raw_uncertainty(wanted: FitRequest, marks: Marks, x: Array) -> Marks:
    """Marks whose u_true holds what the uncertainty of their raw values comes to, through the slope
    of the law that they give. Source: effective variance, Orear, Am. J. Phys. 50 (1982) 912."""
    if marks.u_raw is None:
        return marks
    used = marks
    for _ in range(3):
        slope = np.nan_to_num(fitted(wanted, used, x).ruler.slope(marks.raw))
        both = np.hypot(0.0 if marks.u_true is None else marks.u_true, slope * marks.u_raw)
        used = replace(marks, u_true=np.maximum(both, 1e-12 * np.max(both, initial=1e-300)))
    return used


def _errors_left_out(
    error: Array, out: AnyArray, solution: Solution, x: Array, true: Array, weight: Array
) -> Array:
    """The error of each mark when it is left out; of outliers, the one that they have."""
    errors = error.copy()
    errors[~out] = _each_left_out(solution, x[~out], true[~out], weight[~out])
    return errors


def _result(
    wanted: FitRequest, marks: Marks, x: Array, solution: Solution, out: AnyArray, weight: Array
) -> Fit:
    problem, theta = solution.problem, solution.theta
    with np.errstate(all="ignore"):  # parameters out of all bounds are refused by the law
        values = problem.model.values(theta)
    model = problem.model
    law = cast(Law, model.exact(wanted.asked(marks, x)) or model.law(values))
    read = problem.predicted(theta, x)
    error = read - marks.true
    dof = int(np.count_nonzero(~out)) - theta.size
    square = float(np.sum((weight * error)[~out] ** 2))
    scatter = float(np.sqrt(square / dof)) if dof else float("nan")
    given = marks.u_true is not None
    widened = 1.0 if given and accounted(square, dof, doubt(dof)) else scatter

    rows = problem.model.values_slope(theta)
    own = widened**2 * rows @ solution.inverse @ rows.T
    common = marks.u_common * rows @ solution.common
    covariance = own + np.outer(common, common)
    known = given and widened == 1.0
    factors = coverage(dof, known, np.diag(own), np.diag(covariance))
    deviations = np.sqrt(np.diag(covariance))
    units = [wanted.gives if unit == OF_RESULT else unit for unit in problem.model.units]
    numbers = np.stack([values, deviations, factors * deviations], axis=1).tolist()
    each = zip(problem.model.names, numbers, units, strict=True)
    parameters = tuple(FittedParameter(n, v, u, half, unit) for n, (v, u, half), unit in each)
    return Fit(
        law,
        _ruler(wanted, law),
        parameters=parameters,
        covariance=covariance,
        marks=marks,
        x=x,
        read=read,
        error=error,
        outliers=tuple(np.flatnonzero(out).tolist()),
        dof=dof,
        scatter=scatter,
        _each_left_out=partial(
            _errors_left_out, error, out, solution, x=x, true=marks.true, weight=weight
        ),
        _before=wanted.upstream,
        _solution=solution,
        _widened=widened,
    )


def doubt(dof: int) -> float:
    """The chance with which sound uncertainties are doubted: a half for up to two spare marks, a
    quarter of it for each more, and at least 5 %. Few spare marks hardly show uncertainties that
    are too small: with less doubt, the intervals hold the truth in 83 % instead of 95 % of the
    cases where the uncertainties are a half of what they should be."""
    return float(min(max(4.0 ** (1.5 - dof), 0.05), 0.5))


#: A bent law is fitted again without each mark, up to this many marks.
_AGAIN = 200


def _each_left_out(solution: Solution, x: Array, y: Array, weight: Array) -> Array:
    """The error of each mark when the law is fitted to the others; NaN for one that the fit needs.
    By the hat matrix, e/(1 − h), which is exact for a straight law; a bent law of up to 200 marks
    is fitted again."""
    problem = solution.problem
    spare = 1.0 - solution.leverage
    needed = spare <= 1e-9
    with np.errstate(all="ignore"):
        error = (problem.predicted(solution.theta, x) - y) / np.where(needed, np.nan, spare)
    if problem.is_straight or x.size > _AGAIN:
        return error
    for i in np.flatnonzero(~needed):
        others = np.arange(x.size) != i
        try:
            without = solve(problem, x[others], y[others], weight[others])
            error[i] = (problem.predicted(without.theta, x[i : i + 1]) - y[i])[0]
        except SingularError:
            error[i] = np.nan
    return error


def _ruler(wanted: FitRequest, law: Law) -> Ruler:
    parts = [part for part in (wanted.upstream, law, wanted.downstream) if part is not None]
    return Ruler.of(*parts)


#: Marks of a straight truth are taken for a curve no more often than this.
_BENT_BY_CHANCE = 0.04


def _lowest_good_degree(wanted: FitRequest, marks: Marks, x: Array) -> Fit:
    """The lowest degree that no higher one beats beyond chance."""
    highest = max(1, min(wanted.kind.fit_degrees, np.unique(x).size - 2))
    chosen, *higher = (fitted(replace(wanted, degree=d), marks, x) for d in range(1, highest + 1))
    for fit in higher:
        if predicts_better(chosen, fit, _BENT_BY_CHANCE / len(higher)):
            chosen = fit
    return chosen


def _joined(wanted: FitRequest, asked: FitInput, marks: Marks) -> Fit:
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
    behind_law = Ruler.of(law, *([wanted.downstream] if wanted.downstream is not None else []))
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
        outliers=(),
        dof=0,
        scatter=float("nan"),
        _each_left_out=lambda: left_out,
        _before=wanted.upstream,
    )
