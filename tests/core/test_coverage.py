"""Coverage factors against the published table, and for many degrees of freedom at once."""

from __future__ import annotations

import math

import numpy as np
import pytest

from jetruler.core.numerics import coverage_factor, coverage_factors

# JCGM 100:2008, table G.2: level, degrees of freedom, t.
PUBLISHED = [
    (0.95, 1, 12.71),
    (0.95, 10, 2.23),
    (0.95, 19, 2.09),
    (0.99, 16, 2.92),
    (0.95, math.inf, 1.960),
    (0.99, 1, 63.66),
    (0.99, 10, 3.17),
    (0.99, math.inf, 2.576),
]


@pytest.mark.parametrize(("level", "dof", "t"), PUBLISHED)
def test_published_factors(level: float, dof: float, t: float) -> None:
    assert coverage_factor(dof, level) == pytest.approx(t, rel=2e-3)


def test_many_degrees_of_freedom_at_once() -> None:
    dof = np.array([1.0, 2.5, 1e7, math.inf, 0.0])
    each = [coverage_factor(float(d)) for d in dof]
    np.testing.assert_array_equal(coverage_factors(dof), each)
    assert math.isnan(each[-1])
    assert each[2] == pytest.approx(each[3], rel=1e-6)  # many tell as much as all
