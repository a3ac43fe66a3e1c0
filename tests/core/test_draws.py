"""Draws through the real law, smoothing by a median, and uncertainties stated too small, each
against draws made here from the definitions."""

from __future__ import annotations

import math
import re
from typing import Any

import numpy as np
import pytest

import jetruler as jr
from jetruler.core.calibrate.fitting import SAME
from jetruler.core.uncertainty.contributions import fitted_parameters, toleranced, with_value
from tests.helpers.sizes import few, soak, thinned

Array = np.ndarray[tuple[int, ...], np.dtype[np.float64]]


def five_percent(value: float) -> jr.Toleranced:
    return jr.Toleranced(value, abs(0.05 * value))


def few_percent(*values: float) -> Any:
    return tuple(jr.Toleranced(value, abs(0.02 * value)) for value in values)


#: Laws whose parameters have large tolerances, each with a reading.
TOLERANCED = {
    "line": (jr.Line(five_percent(2.0), five_percent(3.0)), 800.0),
    "line by marks": (jr.Line(marks=((0, jr.Toleranced(0, 0.1)), (100, five_percent(5)))), 30.0),
    "polynomial": (jr.Polynomial(tuple(map(five_percent, (1.0, 0.05, -4e-6)))), 800.0),
    "power": (jr.PowerLaw(five_percent(2e3), five_percent(-0.8)), 800.0),
    "beta": (jr.Beta(five_percent(1e4), five_percent(3435)), 8e3),
    "steinhart-hart": (
        jr.SteinhartHart(five_percent(1.1384e-3), five_percent(2.3245e-4), five_percent(9.489e-8)),
        8e3,
    ),
    "extended": (
        jr.SteinhartHartExtended(
            five_percent(1e4), to_kelvin=few_percent(3.354e-3, 2.57e-4, 2.6e-6, 6.3e-8)
        ),
        8e3,
    ),
    "a cubic that turns": (jr.SteinhartHart(*few_percent(1e-3, 3.7e-4, -3.6e-7)), 8e3),
    "table": (jr.Table(((0, 0), (jr.Toleranced(50, 2), five_percent(3)), (100, 9))), 30.0),
    "longer table": (
        jr.Table(((0, 0), (jr.Toleranced(30, 2), 3), (jr.Toleranced(60, 2), 5), (100, 9))), 61.0,
    ),
}  # fmt: skip


def own_draws(law: jr.Law, at: float, n: int, random: np.random.RandomState) -> Array:
    """One law after another, each built from its own numbers."""
    found = np.empty(n)
    for i in range(n):
        one = law
        for parameter in toleranced(jr.Ruler.of(law)):
            value = parameter.value
            ends = value - value.half_width, value + value.half_width
            one = with_value(one, parameter, float(random.uniform(*ends)))
        found[i] = one.forward(np.array([at]))[0]
    return found


@soak
@pytest.mark.parametrize("name", thinned(TOLERANCED, 3))
def test_draws_of_tolerances(name: str) -> None:
    law, at = TOLERANCED[name]
    run = jr.simulate(law, at, draws=60_000)
    own = own_draws(law, at, 4000, np.random.RandomState(3))
    assert np.isnan(own).mean() == pytest.approx(run.lost / 60_000, abs=0.01)
    assert run.standard == pytest.approx(np.nanstd(own), rel=0.03)
    ends = np.nanquantile(own, [0.025, 0.975])
    assert run.interval == pytest.approx(tuple(ends), abs=0.06 * np.nanstd(own))


FITS = {
    "line": (jr.Line(0.05, 3.0), np.linspace(100, 4000, 8), 2.0),
    "polynomial": (jr.Polynomial((1.0, 0.05, -4e-6)), np.linspace(100, 4000, 8), 2.0),
    "power": (jr.PowerLaw(2e3, -0.8), np.geomspace(50, 3000, 8), 0.5),
    "beta": (jr.Beta(1e4, 3435), np.geomspace(1e3, 5e4, 8), 0.5),
    "steinhart-hart": (
        jr.SteinhartHart(1.1384e-3, 2.3245e-4, 9.489e-8),
        np.geomspace(1e3, 5e4, 8),
        0.5,
    ),
    "steinhart-hart-extended": (
        jr.SteinhartHartExtended(1e4, to_kelvin=(3.354e-3, 2.57e-4, 2.6e-6, 6.3e-8)),
        np.geomspace(1e3, 5e4, 8),
        0.5,
    ),
}


@pytest.mark.parametrize("name", thinned(FITS, 3))
def test_draws_of_a_fit(name: str) -> None:
    """The parameters of a fit, drawn together from their covariance."""
    law, x, noise = FITS[name]
    random = np.random.RandomState(6)
    marks = np.stack([x, np.asarray(law(x)), np.full(x.size, noise)], axis=1)
    channel = jr.Channel("c", jr.Ruler.of(law), "c")
    fitted = jr.calibrate(
        channel, jr.Marks.of(marks), name, degree=2 if name == "polynomial" else None
    ).calibrated
    fit = fitted.calibration
    assert isinstance(fit, jr.FitCovariance)
    assert math.isinf(fit.dof)
    at = float(x[0] * 1.1)
    run = jr.simulate(fitted, at, draws=60_000)
    parameters = fitted_parameters(fitted.chain, fit)
    middle = [float(p.value) for p in parameters]
    size = np.array([p.value.standard for p in parameters])
    root = np.linalg.cholesky(np.array(fit.covariance) / np.outer(size, size))
    drawn = middle + size * (random.standard_normal((6000, size.size)) @ root.T)
    own = []
    for values in drawn:
        one = fitted.chain.laws[0]
        for parameter, value in zip(parameters, values, strict=True):
            one = with_value(one, parameter, float(value))
        own.append(one.forward(np.array([at]))[0])
    assert run.standard == pytest.approx(np.std(own), rel=0.03)
    assert run.mean == pytest.approx(np.mean(own), abs=0.06 * np.std(own))


@few
@pytest.mark.parametrize(("dof", "gain", "why"), [
    (3, jr.Line(1000), "few degrees of freedom"),
    (5, jr.Line(jr.Toleranced(1000, 30)), "one uniform tolerance dominates"),
    (math.inf, jr.PowerLaw(1.0, jr.Toleranced(3.0, 1.0)), "too nonlinear"),
])  # fmt: skip
def test_why_the_first_order_will_not_do(dof: float, gain: jr.Law, why: str) -> None:
    run = jr.simulate(jr.Adc(12, 3.3) >> gain, 2000, noise=2, dof=dof)
    assert not run.first_order
    assert why in str(run.content[-1])


@pytest.mark.parametrize("noise", [0.1, 0.4, 1.0, 3.0])
@pytest.mark.parametrize("over", [3, 4, 7, 16, 51])
def test_a_median_of_counts(over: int, noise: float) -> None:
    """What a budget promises after a median, against medians of whole counts."""
    random = np.random.RandomState(over)
    level = random.uniform(100, 200, 8000)
    counts = np.round(level[:, None] + noise * random.standard_normal((8000, over)))
    rms = float(np.sqrt(np.mean((np.median(counts, axis=1) - level) ** 2)))
    smoothing = jr.Smoothing("median", over)
    channel = jr.Channel("c", jr.Counts(12) >> jr.Line(1.0), "c", noise=noise, smooth=smoothing)
    assert rms / jr.budget(channel, 150).combined == pytest.approx(1.0, abs=0.05)
    assert jr.simulate(channel, 150, draws=50_000).standard == pytest.approx(rms, rel=0.05)


@pytest.mark.parametrize("r", [1.0, 0.5])
@pytest.mark.parametrize("even", [True, False])
def test_draws_of_several_that_are_off_together(r: float, even: bool) -> None:
    """Three coefficients: the variance of a sum, with each correlation; the matrix of wholly
    correlated ones is singular."""
    size = np.array([3.0, 0.02, 1e-4])
    values = [
        jr.Toleranced(value, half_width, None if even else 1.0)
        for value, half_width in zip((9.0, 0.5, 0.001), size.tolist(), strict=True)
    ]
    together = jr.Correlation(tuple(f"coefficients[{i}]" for i in (1, 2, 3)), r)
    ruler = jr.Counts(8) >> jr.Polynomial(tuple(values))
    run = jr.simulate(jr.Channel("c", ruler, 1, correlated=(together,)), 200, draws=60_000)
    each = size * np.array([1.0, 200.0, 200.0**2]) / (math.sqrt(3) if even else 1.0)
    matrix = np.where(np.eye(3) == 1, 1.0, r)
    rounding = (0.5 + 2 * 0.001 * 200) / math.sqrt(12)
    assert run.lost == 0
    assert run.standard == pytest.approx(math.sqrt(each @ matrix @ each + rounding**2), rel=0.02)


def test_the_ends_of_draws_and_how_well_they_are_known() -> None:
    """The standard error of a quantile is √(q (1 − q) / n) over the density there."""
    run = jr.simulate(jr.Adc(16, 3.3) >> jr.Line(1000), 20_000, noise=300, draws=40_000)
    z = 1.959964
    density = math.exp(-z * z / 2) / math.sqrt(2 * math.pi) / run.standard
    wanted = math.sqrt(0.025 * 0.975 / 40_000) / density
    assert run.end_error == pytest.approx(wanted, rel=0.25)
    low, high = np.quantile(run.values, [0.025, 0.975])
    assert run.interval == pytest.approx((low, high), abs=0.2 * run.end_error)
    row = {key: column[0] for key, column in run.table.items()}
    assert (row["low"], row["high"], row["mean"]) == (*run.interval, run.mean)
    assert (row["draws"], row["standard"], row["end error"]) == (
        40_000,
        run.standard,
        run.end_error,
    )


@pytest.mark.parametrize("noise", [0.05, 0.2, 0.4, 2.0])
@pytest.mark.parametrize("readings", [2, 9, 64])
def test_what_rounding_leaves_in_a_mean(noise: float, readings: int) -> None:
    """Noise and rounding of a mean of whole counts, against such means."""
    random = np.random.RandomState(readings)
    level = random.uniform(100, 200, 20_000)
    counts = np.round(level[:, None] + noise * random.standard_normal((20_000, readings)))
    rms = float(np.sqrt(np.mean((counts.mean(axis=1) - level) ** 2)))
    found = jr.budget(jr.Counts(12) >> jr.Line(1.0), 150, noise=noise, readings=readings)
    assert found.combined == pytest.approx(rms, rel=0.04)
    kinds = {row.source: (row.random, row.stays) for row in found.rows}
    assert kinds["resolution, mean"] == kinds["noise"] == (True, False)
    assert kinds.get("converter resolution", (False, True)) == (False, True)
    shares = [float(cell.split()[0]) for cell in re.findall(r"[\d.]+ %", str(found))]
    assert sum(found.fraction(row) for row in found.rows) == pytest.approx(1.0)
    assert any(sum(shares[i:j]) == pytest.approx(100, abs=0.2)
               for i in range(len(shares)) for j in range(i + 1, len(shares) + 1))  # fmt: skip


def test_readings_are_told_with_three_digits() -> None:
    found = jr.budget(jr.Counts(12) >> jr.Line(1.0), 150, noise=0.4, readings=12.3456)
    assert "resolution in the mean of 12.3 readings" in str(found)
    assert "0.4 count / √12.3 " in str(found)


@soak
@few
@pytest.mark.parametrize("factor", [1.0, 2.0, 3.0, 5.0])
def test_two_spare_marks_and_uncertainties_stated_too_small(factor: float) -> None:
    random = np.random.RandomState(4)
    x = np.linspace(0, 100, 4)
    held = []
    for _ in range(500):
        y = 2 * x + 5 + factor * random.standard_normal(4)
        found = jr.fit(np.stack([x, y, np.ones(4)], axis=1))
        held.append(abs(found.law(30.0) - 65.0) <= found.interval(30.0)[0])
    assert np.mean(held) >= 0.92  # 93 % and two standard errors of 500 cases


@pytest.mark.parametrize("law", ["line", "polynomial", "power", "table", "beta", "steinhart-hart"])
@pytest.mark.parametrize("apart", [0.0, 0.1 * SAME])
def test_equal_truths_are_refused_and_named(law: str, apart: float) -> None:
    marks = [(1000, 25.0), (2000, 25.0 * (1 + apart)), (3000, 25.0)]
    with pytest.raises(jr.errors.MarksError, match=r"different true values.*mark 1 .*2 more"):
        jr.fit(marks, law)
    assert jr.fit(marks, "offset").parameters


def test_a_straight_law_has_no_turning_point() -> None:
    for marks, law in (([(5, 5.2)], "offset"), ([(0, 1.0), (1, 1.1), (2, 0.9)], "line")):
        assert not any("turns back" in note for note in jr.fit(marks, law).notes)
