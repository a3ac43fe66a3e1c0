"""Fits against other people's solvers, and properties that every fit has."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.optimize import curve_fit

import jetruler as jr
from jetruler import Adc, Beta, Divider, Line, Marks, PowerLaw, SteinhartHart, To, fit
from jetruler.errors import MarksError

Array = Any


def marks(x: Array, y: Array, u: Array | None = None) -> Marks:
    return Marks(np.asarray(x, float), np.asarray(y, float), u)


def beta(x: Array, r0: float, b: float) -> Array:
    return 1 / (1 / 298.15 + np.log(x / r0) / b) - 273.15


def cubic(x: Array, a: float, b: float, c: float) -> Array:
    log = np.log(x)
    return 1 / (a + b * log + c * log**3) - 273.15


def power(x: Array, a: float, b: float) -> Array:
    return a * x**b


OHMS = np.geomspace(500, 90e3, 12)
CURVES: list[tuple[str, Any, list[float], Array]] = [
    ("beta", beta, [100e3, 3950], OHMS),
    ("steinhart-hart", cubic, [6.7e-4, 2.2e-4, 1e-7], OHMS),
    ("power", power, [2500.0, -0.8], np.linspace(300, 3000, 12)),
]


@pytest.mark.parametrize(("law", "function", "truth", "x"), CURVES, ids=[c[0] for c in CURVES])
@pytest.mark.parametrize("weighted", [True, False])
def test_bent_laws_against_another_solver(
    law: str, function: Any, truth: list[float], x: Array, weighted: bool
) -> None:
    """Both minimise the errors of the result: the same parameters and the same covariance."""
    random = np.random.RandomState(12)
    y = function(x, *truth)
    u = 0.003 * float(np.ptp(y)) * (1 + np.arange(x.size) % 4)
    noisy = y + u * random.standard_normal(x.size)
    found = fit(marks(x, noisy, u if weighted else None), law)
    scale = np.array(truth)

    def scaled(x: Array, *p: float) -> Array:
        return function(x, *(np.array(p) * scale))

    best, covariance = curve_fit(
        scaled,
        x,
        noisy,
        np.ones(len(truth)),
        sigma=u if weighted else None,
        absolute_sigma=weighted,
        xtol=1e-14,
        ftol=1e-14,
        gtol=1e-14,
    )
    values = np.array([p.value for p in found.parameters])
    assert values / scale == pytest.approx(best, rel=1e-6)
    theirs = covariance * np.outer(scale, scale)
    assert np.abs(found.covariance / theirs - 1).max() < 2e-3
    grid = np.geomspace(x[0], x[-1], 9)
    h = 1e-6
    jacobian = np.stack(
        [(scaled(grid, *(best + h * e)) - scaled(grid, *(best - h * e))) / (2 * h)
         for e in np.eye(len(truth))],
        axis=1,
    )  # fmt: skip
    spread = np.sqrt(np.einsum("ij,jk,ik->i", jacobian, covariance, jacobian))
    factor = (
        1.959964
        if weighted
        else float(found.parameters[0].half_width) / float(found.parameters[0].uncertainty)
    )
    assert found.interval(grid) == pytest.approx(factor * spread, rel=1e-3)


@pytest.mark.parametrize("degree", [1, 2, 3, 5])
def test_polynomials_against_numpy(degree: int) -> None:
    random = np.random.RandomState(degree)
    x = np.linspace(-3, 8, 20)
    u = 0.1 + 0.2 * random.uniform(size=20)
    y = np.polynomial.polynomial.polyval(x, random.uniform(-2, 2, degree + 1))
    y = y + u * random.standard_normal(20)
    points = marks(x, y, u)
    found = fit(points) if degree == 1 else fit(points, "polynomial", degree=degree)
    theirs, covariance = np.polyfit(x, y, degree, w=1 / u, cov="unscaled")
    order = slice(None) if degree == 1 else slice(None, None, -1)
    assert [p.value for p in found.parameters] == pytest.approx(theirs[order].tolist(), rel=1e-8)
    if not any("uncertainties say" in note for note in found.notes):
        own = np.sqrt(np.diag(found.covariance))
        assert own == pytest.approx(np.sqrt(np.diag(covariance))[order], rel=1e-8)


def test_marks_that_scatter_too_much_widen_everything() -> None:
    x = np.linspace(0, 9, 10)
    y = 2 * x + np.where(np.arange(10) % 2, 1.0, -1.0)
    tight = fit(marks(x, y, np.full(10, 0.1)))
    loose = fit(marks(x, y, np.full(10, 1.1)))
    free = fit(marks(x, y))
    assert any("the marks scatter 1" in note for note in tight.notes)
    assert not any("scatter" in note for note in loose.notes)
    for p, q in zip(tight.parameters, free.parameters, strict=True):
        assert p.uncertainty == pytest.approx(q.uncertainty, rel=1e-9)
        assert p.half_width == pytest.approx(q.half_width, rel=1e-9)


FINITE = st.floats(-100, 100).map(lambda v: round(v, 3))


@given(
    gain=FINITE.filter(lambda v: abs(v) > 0.01),
    offset=FINITE,
    raw=st.lists(st.integers(0, 4095), min_size=3, max_size=12, unique=True),
)
def test_exact_marks_give_the_law_back(gain: float, offset: float, raw: list[int]) -> None:
    x = np.array(raw, dtype=float)
    found = fit(marks(x, gain * x + offset))
    assert found.parameters[0].value == pytest.approx(gain, rel=1e-9, abs=1e-9)
    assert found.largest <= 1e-9 * (abs(gain) * 4095 + abs(offset))
    assert found.covers == (min(raw), max(raw))
    assert found.law.name == "line"


@given(
    seed=st.integers(0, 10**6),
    n=st.integers(7, 14),
    bad=st.integers(1, 2),
    law=st.sampled_from(["line", "beta"]),
)
def test_robust_finds_what_was_falsified(seed: int, n: int, bad: int, law: str) -> None:
    random = np.random.RandomState(seed)
    x = np.sort(random.choice(np.arange(300, 3900, 60), n, replace=False)).astype(float)
    chain = Adc(12) >> Divider(4700) >> Beta(100e3, 3950)
    true = 0.05 * x if law == "line" else np.asarray(chain(x))
    true = true + 0.02 * random.standard_normal(n)
    out = random.choice(n, bad, replace=False)
    true[out] += np.where(random.uniform(size=bad) < 0.5, 15.0, -15.0)
    before = None if law == "line" else Adc(12) >> Divider(4700)
    found = fit(marks(x, true), law, upstream=before, robust=True)
    assert set(out.tolist()) <= set(found.outliers)
    assert len(found.outliers) <= bad + 1
    assert found.rms < 0.1


def test_behind_and_in_front_of_other_laws() -> None:
    """Errors are those of the result: a law behind the fitted one is seen through."""
    before, then = Adc(12) >> Divider(4700), To("degF")
    truth = Beta(97e3, 3990)
    x = np.linspace(400, 3900, 9)
    y = np.asarray((before >> truth >> then)(x))
    found = fit(
        marks(x, y), "beta", upstream=before, downstream=Line(1.8, 32.0, unit="degF", takes="degC")
    )
    assert [p.value for p in found.parameters] == pytest.approx([97e3, 3990], rel=1e-9)
    assert found.ruler(1880) == pytest.approx((before >> truth >> then)(1880), abs=1e-9)
    fahrenheit = fit(marks(x, y), "beta", upstream=before, unit="degF")
    assert fahrenheit.law.gives == "degF"
    assert [p.value for p in fahrenheit.parameters] == pytest.approx([97e3, 3990], rel=1e-9)


def test_what_stays_of_the_law_that_was_there() -> None:
    x = np.linspace(300, 3000, 8)
    like = PowerLaw(1.0, -1.0, x0=100.0, c=3.0)
    truth = PowerLaw(5000.0, -0.7, x0=100.0, c=3.0)
    found = fit(marks(x, truth(x)), "power", like=like)
    assert [p.value for p in found.parameters] == pytest.approx([5000.0, -0.7], rel=1e-9)
    negative = fit(marks(x, -truth(x) + 6.0), "power", like=like)
    assert negative.parameters[0].value == pytest.approx(-5000.0, rel=1e-9)
    two = fit([(1e3, 80.0), (1e4, 25.0)], "steinhart-hart", like=SteinhartHart(1e-3, 2e-4, 1.5e-7))
    assert isinstance(two.law, SteinhartHart)
    assert two.law.c == 1.5e-7
    assert two.largest < 1e-9
    warm = fit([(1e3, 353.15), (1e4, 298.15)], "beta", unit="K", like=Beta(1e4, 3000, 300.0))
    assert isinstance(warm.law, Beta)
    assert (warm.law.t0, warm.law.gives) == (300.0, "K")


def test_tables_average_and_interpolate() -> None:
    found = fit([(0, 0), (10, 20), (10, 22), (30, 50)], "table")
    assert found.ruler(10) == 21
    assert found.ruler(20) == pytest.approx(35.5)
    assert np.isnan(found.ruler(31))
    assert found.error.tolist() == [0, 1, -1, 0]
    # Left out, 10 is read off the line from 0 to 30, and the ends off the next stretch.
    assert found.left_out[1] == pytest.approx(50 / 3 - 20)
    assert found.left_out[3] == pytest.approx(21 + 21 / 10 * 20 - 50)


LEVELS = [(0.5, 0.6745), (0.95, 1.96), (0.99, 2.5758)]


@pytest.mark.parametrize(("level", "factor"), LEVELS)
def test_levels_of_the_interval(level: float, factor: float) -> None:
    x = np.linspace(0, 10, 6)
    found = fit(marks(x, 2 * x + 1, np.full(6, 0.3)))
    # By hand, at the middle: u / √n.
    assert found.interval(5.0, level)[0] == pytest.approx(factor * 0.3 / np.sqrt(6), rel=1e-4)
    for bad in (0.0, 1.0, 95.0):
        with pytest.raises(jr.JetRulerError, match="a fraction between 0 and 1"):
            found.interval(5.0, bad)


def test_marks_together_and_averaged() -> None:
    a, b = Marks.of([(1, 2, 0.1), (3, 4, 0.1)]), Marks.of([(1, 3, 0.2)])
    both = a.together(b)
    assert len(both) == 3
    assert both.repeats() == (1.0,)
    once = both.averaged()
    assert once.raw.tolist() == [1, 3]
    assert once.true[0] == pytest.approx((2 / 0.01 + 3 / 0.04) / (1 / 0.01 + 1 / 0.04))
    assert once.u_true is not None
    assert once.u_true[0] == pytest.approx((1 / 0.01 + 1 / 0.04) ** -0.5)
    with pytest.raises(MarksError, match="some have an uncertainty"):
        a.together(Marks.of([(1, 2)]))
    with pytest.raises(MarksError, match="one unit"):
        a.together(Marks(b.raw, b.true, b.u_true, "V"))
