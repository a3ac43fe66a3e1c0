"""The search for outliers: by the uncertainties of the marks, or by what the majority says."""

from __future__ import annotations

from itertools import combinations
from math import comb

import numpy as np

from ..arrays import AnyArray, Array
from ..coverage import coverage_factor
from .regression import Problem, SingularError, accounted, solve

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


#: Suspects are so many times further off than the worst of the others.
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
        if problem.then is not None:
            reads = np.asarray(problem.then(reads), dtype=np.float64)
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


def _doubt(degrees: int) -> float:
    """Student's factor that one sound mark in a thousand exceeds."""
    return coverage_factor(degrees, 0.999)


def _subsets(n: int, p: int) -> AnyArray:
    """Places of p marks out of n, a row a choice: all of them, or 3000 at random."""
    if comb(n, p) <= _SUBSETS:
        return np.array(list(combinations(range(n), p)))
    random = np.random.RandomState(1)
    return np.array([random.choice(n, p, replace=False) for _ in range(_SUBSETS)])
