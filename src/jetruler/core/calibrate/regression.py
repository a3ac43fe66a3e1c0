"""Weighted least squares in the units of the result, and the search for outliers."""

from __future__ import annotations

from dataclasses import dataclass, field
from itertools import combinations
from math import comb

import numpy as np

from ..arrays import AnyArray, Array
from ..errors import JetRulerError
from ..model.fit_model import FitModel
from ..model.ruler import Ruler


class SingularError(JetRulerError):
    """Marks that cannot tell the parameters apart."""


@dataclass(frozen=True)
class Problem:
    """A model and what stands behind it: y = then(link(design(x) · θ))."""

    model: FitModel
    then: Ruler | None = None

    def predicted(self, theta: Array, x: Array) -> Array:
        """What x reads as."""
        y = self.model.link(self._eta(theta, x))
        return y if self.then is None else np.asarray(self.then(y), dtype=np.float64)

    def jacobian(self, theta: Array, x: Array) -> Array:
        """Its derivative by θ: shape (n, p)."""
        eta = self._eta(theta, x)
        slope = self.model.link_slope(eta)
        if self.then is not None:
            slope = slope * self.then.slope(self.model.link(eta))
        return slope[:, None] * self.model.design(x)

    def _eta(self, theta: Array, x: Array) -> Array:
        eta: Array = self.model.design(x) @ theta + self.model.fixed(x)
        return eta

    def straight(self, y: Array) -> Array:
        """Results taken back to the straight side."""
        return self.model.unlink(y if self.then is None else self.then.inverse(y))


@dataclass(frozen=True, eq=False)
class Solution:
    """θ at the least squares; `inverse` is (JᵀWJ)⁻¹, `leverage` the diagonal of the hat matrix."""

    problem: Problem
    theta: Array
    inverse: Array = field(repr=False)
    leverage: Array = field(repr=False)


def solve(problem: Problem, x: Array, y: Array, weight: Array) -> Solution:
    """The least squares of weight · (predicted − y): Gauss and Newton's steps by QR, halved where
    they would lead uphill. weight: 1/standard uncertainty. Raises `SingularError`."""
    with np.errstate(all="ignore"):
        theta = _start(problem, x, y, weight)
        rest = weight * (y - problem.predicted(theta, x))
        for _ in range(60):
            step, _, _ = _least_squares(weight[:, None] * problem.jacobian(theta, x), rest)
            for _ in range(30):
                following = weight * (y - problem.predicted(theta + step, x))
                if following @ following <= rest @ rest * (1 + 1e-12):
                    break
                step = step / 2
            else:
                break
            theta, rest = theta + step, following
            if np.all(np.abs(step) <= 4e-16 * np.abs(theta)):
                break
            if np.all(np.abs(step) <= 1e-14 * (np.abs(theta) + np.abs(theta).max())):
                break
        _, inverse, leverage = _least_squares(weight[:, None] * problem.jacobian(theta, x), rest)
    return Solution(problem, theta, inverse, leverage)


def _start(problem: Problem, x: Array, y: Array, weight: Array) -> Array:
    """The straight problem, weighted so that it stands for errors of the result."""
    eta = problem.straight(y)
    slope = problem.model.link_slope(eta)
    if problem.then is not None:
        slope = slope * problem.then.slope(problem.model.link(eta))
    weight = np.abs(weight * slope)
    rows = weight[:, None] * problem.model.design(x)
    theta, _, _ = _least_squares(rows, weight * (eta - problem.model.fixed(x)))
    return theta


def _least_squares(rows: Array, right: Array) -> tuple[Array, Array, Array]:
    """θ, (RᵀR)⁻¹ and the leverages, by QR of columns scaled to length 1."""
    if rows.shape[0] < rows.shape[1]:
        raise SingularError("there are fewer marks than parameters")
    scale = np.linalg.norm(rows, axis=0)
    if not (np.all(np.isfinite(rows)) and np.all(np.isfinite(right)) and np.all(scale > 0)):
        raise SingularError("the marks leave a parameter undetermined")
    q, r = np.linalg.qr(rows / scale)
    diagonal = np.abs(np.diag(r))
    if diagonal.min() < 1e-13 * diagonal.max():
        raise SingularError("the marks lie so that they cannot tell the parameters apart")
    back = np.linalg.inv(r) / scale[:, None]
    theta: Array = back @ (q.T @ right)
    leverage: Array = np.minimum(np.sum(q * q, axis=1), 1.0)
    return theta, back @ back.T, leverage


#: Suspects are so many times further off than the worst of the others.
GAP = 3.0
_SUBSETS = 3000


def outliers(problem: Problem, x: Array, y: Array, weight: Array, floor: Array) -> AnyArray:
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
    from scipy.special import stdtrit

    return float(stdtrit(degrees, 0.9995))


def _subsets(n: int, p: int) -> AnyArray:
    """Places of p marks out of n, a row a choice: all of them, or 3000 at random."""
    if comb(n, p) <= _SUBSETS:
        return np.array(list(combinations(range(n), p)))
    random = np.random.RandomState(1)
    return np.array([random.choice(n, p, replace=False) for _ in range(_SUBSETS)])
