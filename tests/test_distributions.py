"""Quantiles and tails against SciPy's, which are computed another way."""

from __future__ import annotations

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from jetruler.core.distributions import (
    MANY,
    chi_square_tail,
    f_tail,
    normal_quantile,
    student_quantile,
)

PROBABILITIES = st.floats(1e-12, 1 - 1e-9)
DEGREES = st.floats(0.5, 1e7)


@given(PROBABILITIES)
def test_normal(p: float) -> None:
    assert normal_quantile(p) == pytest.approx(stats.norm.ppf(p), rel=1e-13, abs=1e-15)


@given(DEGREES, st.floats(1e-6, 1 - 1e-6))
def test_student(degrees: float, p: float) -> None:
    found = student_quantile(degrees, p)
    assert found == pytest.approx(stats.t.ppf(p, degrees), rel=1e-9, abs=1e-12)


@given(DEGREES, st.floats(0, 1e7))
def test_chi_square(degrees: float, x: float) -> None:
    assert chi_square_tail(degrees, x) == pytest.approx(stats.chi2.sf(x, degrees), rel=1e-6)


@given(st.floats(0.5, 50), st.floats(0.5, 5000), st.floats(-1, 1e4))
def test_f(above: float, below: float, x: float) -> None:
    expected = stats.f.sf(x, above, below)
    assert f_tail(above, below, x) == pytest.approx(expected, rel=1e-8, abs=1e-300)


@pytest.mark.parametrize("p", [0.6, 0.975, 0.9995, 1e-5])
def test_both_ways_to_student_meet(p: float) -> None:
    near = [student_quantile(MANY * side, p) for side in (1 - 1e-9, 1 + 1e-9)]
    assert near[0] == pytest.approx(near[1], rel=1e-9)


def test_published_factors() -> None:
    """JCGM 100:2008, table G.2: t at 95 and 99 % for 1, 10 and infinite degrees of freedom."""
    for degrees, level, factor in (
        (1, 0.95, 12.71),
        (10, 0.95, 2.23),
        (math.inf, 0.95, 1.960),
        (1, 0.99, 63.66),
        (10, 0.99, 3.17),
        (math.inf, 0.99, 2.576),
    ):
        assert student_quantile(degrees, 0.5 + level / 2) == pytest.approx(factor, rel=2e-3)
    assert math.isnan(student_quantile(0, 0.975))
