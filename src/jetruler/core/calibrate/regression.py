"""Weighted least squares in the units of the result."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ..error_types import JetRulerError
from ..numerics import Array
from ..ruler.base_law import FitModel
from ..ruler.ruler import Ruler


class SingularError(JetRulerError):
    """Marks that cannot tell the parameters apart."""


@dataclass(frozen=True)
class Problem:
    """A model and what is behind it: y = then(link(design(x) · θ))."""

    model: FitModel
    downstream: Ruler | None

    @property
    def is_straight(self) -> bool:
        """Whether predictions are surely straight in θ: no link, and nothing behind it."""
        return self.downstream is None and type(self.model).link is FitModel.link

    def predicted(self, theta: Array, x: Array) -> Array:
        """What x reads as."""
        y = self.model.link(self._eta(theta, x))
        return y if self.downstream is None else np.asarray(self.downstream(y), dtype=np.float64)

    def jacobian(self, theta: Array, x: Array) -> Array:
        """Its derivative by θ: shape (n, p)."""
        eta = self._eta(theta, x)
        slope = self.model.link_slope(eta)
        if self.downstream is not None:
            slope = slope * self.downstream.slope(self.model.link(eta))
        return slope[:, None] * self.model.design(x)

    def _eta(self, theta: Array, x: Array) -> Array:
        eta: Array = self.model.design(x) @ theta + self.model.fixed(x)
        return eta

    def straight(self, y: Array) -> Array:
        """Results taken back to the straight side."""
        return self.model.unlink(y if self.downstream is None else self.downstream.inverse(y))


@dataclass(frozen=True, eq=False)
class Solution:
    """θ at the least squares; `inverse` is (JᵀWJ)⁻¹, `leverage` the diagonal of the hat matrix,
    `common` what θ moves by when the truths of all marks move by one."""

    problem: Problem
    theta: Array
    inverse: Array = field(repr=False)
    leverage: Array = field(repr=False)
    common: Array = field(repr=False)


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
        common, inverse, leverage = _least_squares(
            weight[:, None] * problem.jacobian(theta, x), weight
        )
    return Solution(problem, theta, inverse, leverage, common)


def _start(problem: Problem, x: Array, y: Array, weight: Array) -> Array:
    """The straight problem, weighted so that it represents errors of the result."""
    eta = problem.straight(y)
    slope = problem.model.link_slope(eta)
    if problem.downstream is not None:
        slope = slope * problem.downstream.slope(problem.model.link(eta))
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


def accounted(square: float, dof: int, chance: float) -> bool:
    """Whether uncertainties account for errors, of which this is the sum of squares in units of
    those: it would be larger with more than this chance. Source: the chi-square test of a fit."""
    from scipy.special import chdtrc

    return not dof or bool(chdtrc(dof, square) >= chance)
