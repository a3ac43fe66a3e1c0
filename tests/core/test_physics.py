"""The demo's roast was made by physics that knows nothing of the laws: do they get it back?"""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.optimize import brentq

import jetruler as jr
from jetruler import Bench, Flag, load_bench, smooth
from jetruler.core.numerics import solve_monotone, turning_point
from jetruler.demo import generate


@pytest.fixture
def bench(home: Path) -> Bench:
    return load_bench(home / "bench.toml")


@pytest.fixture
def log(home: Path) -> pd.DataFrame:
    return pd.read_csv(home / "roast.csv")


def truth(name: str, t: Any) -> Any:
    """What the generator says the channel is, before noise and rounding."""
    bean = generate.bean_temperature(t)
    knob = generate.knob_fraction(t)
    return {
        "bean": bean,
        "exhaust": generate.exhaust_temperature(t, bean),
        "damper": 100 * knob,
        "draught": 12 + 150 * (0.35 + 0.65 * knob) * generate.blower(t),
        "rail": generate.rail_volts(t),
        "hopper": generate.hopper_grams(t),
    }[name]


@pytest.mark.parametrize(
    ("name", "within"),
    [
        ("bean", 1.2),  # °C: five times the noise of the sensor and of the counts
        ("exhaust", 0.6),
        ("damper", 0.25),
        ("draught", 2.5),
        ("rail", 0.03),
        ("hopper", 6.0),
    ],
)
def test_the_laws_get_the_physics_back(
    bench: Bench, log: pd.DataFrame, name: str, within: float
) -> None:
    channel = bench[name]
    reading = channel.read(log[str(channel.column)])
    error = reading.value - truth(name, log["time_s"].to_numpy())
    sound = (reading.flags & ~np.uint8(Flag.BELOW)) == 0
    assert np.abs(error[sound]).max() < within
    assert abs(error[sound].mean()) < within / 10  # and without a bias


def test_the_light_is_in_the_zone_that_it_should_be(bench: Bench, log: pd.DataFrame) -> None:
    tray = bench["tray"]
    light = 0.35 + 2.3 * generate.chaff_light(log["time_s"].to_numpy())
    percent = (light / 3.3 * 4095 - 434) / (3300 - 434) * 100
    expected = np.digitize(percent, [15, 60])
    clear = np.min(np.abs(percent[:, None] - [15, 60]), axis=1) > 0.1
    np.testing.assert_array_equal(tray.read(log["ch6"]).value[clear], expected[clear])


def test_the_loose_connector_is_a_rail_and_nothing_else(bench: Bench, log: pd.DataFrame) -> None:
    reading = bench["bean"].read(log["ch0"])
    loose = log["time_s"].between(412.0, 413.8)
    assert reading.value[loose].isna().all()
    assert (reading.flags[loose] == Flag.HIGH_RAIL).all()
    assert reading.value[~loose].notna().all()
    assert (reading.flags[~loose] == 0).all()


def test_smoothing_brings_the_reading_nearer_to_the_physics(
    bench: Bench, log: pd.DataFrame
) -> None:
    """Where nothing moves quickly, nine readings leave about a third of the error of one."""
    still = slice(1200, 3000)
    true = truth("draught", log["time_s"].to_numpy())
    smoothing = bench["hopper"].smooth
    assert smoothing is not None
    values = bench["draught"].ruler(log["ch4"].to_numpy())
    ignore_fp_warnings = np.abs(np.gradient(true)) < 1e-9
    ignore_fp_warnings &= np.convolve(ignore_fp_warnings, np.ones(25), "same") == 25
    alone = np.std((values - true)[still][ignore_fp_warnings[still]])
    together = np.std(
        (smooth(values, smoothing.settled(0.2)) - true)[still][ignore_fp_warnings[still]]
    )
    assert together == pytest.approx(alone / np.sqrt(10), rel=0.15)


@given(st.floats(0.1, 5), st.floats(0.0, 3), st.floats(-2, 2), st.floats(0.01, 0.99), st.booleans())
def test_inverse_solver_against_brent(
    a: float, b: float, c: float, fraction: float, falling: bool
) -> None:
    sign = -1.0 if falling else 1.0

    def curve(x: Any) -> Any:
        return sign * (a * x + b * x**3 + np.arctan(c * c * x))

    def slope(x: Any) -> Any:
        return sign * (a + 3 * b * x**2 + c * c / (1 + (c * c * x) ** 2))

    low, high = -3.0, 4.0
    y = curve(low) + fraction * (curve(high) - curve(low))
    found = solve_monotone(curve, slope, np.array([y, np.nan, 1e9]), np.array(low), np.array(high))
    assert found[0] == pytest.approx(
        brentq(lambda x: curve(x) - y, low, high, xtol=1e-15, rtol=1e-15), rel=1e-12, abs=1e-12
    )
    assert np.isnan(found[1:]).all()


@pytest.mark.parametrize(
    ("curve", "low", "high", "turn"),
    [
        (lambda x: x**2, 0.0, 5.0, None),
        (lambda x: x**2, -1.0, 5.0, 0.0),
        (lambda x: np.minimum(x, 2.0), 0.0, 5.0, 2.0),
        (np.log, 1e-6, 1e6, None),
        (lambda x: 0 * x, 0.0, 1.0, 0.0),
    ],
)
def test_turning_points(curve: Any, low: float, high: float, turn: float | None) -> None:
    found = turning_point(curve, low, high)
    if turn is None:
        assert found is None
    else:
        assert found == pytest.approx(turn, abs=(high - low) / 1000)


@pytest.mark.parametrize(
    ("expression", "y", "found"),
    [
        ("x**3 - 3*x", 5.0, 2.279018786),  # Cardano: turns at −1 and 1, where it is 2 and −2
        ("x**3 - 3*x", 0.5, "−1.64178, −0.168254 and 1.81004 all give it"),
        ("x**2", 4.0, "−2 and 2 all give it"),
        ("x**2", 0.0, 0.0),
        ("x**2", -1.0, None),
        ("1/x", -4.0, -0.25),  # a pole is no turn
        ("exp(-x)", 0.5, math.log(2)),  # far from where the search begins
        ("x*exp(x)", -0.2, "−2.54264 and −0.259171 all give it"),  # both branches of Lambert's W
        ("x*exp(x)", math.e, 1.0),
        ("sin(x)", 0.5, "0.523599, 2.61799 and others all give it"),
        ("sqrt(x)", 3.0, 9.0),
    ],
)
def test_a_formula_has_one_inverse_or_says_how_many(
    expression: str, y: float, found: float | str | None
) -> None:
    ruler = jr.Ruler.of(jr.Formula(expression))
    if isinstance(found, str):
        with pytest.raises(jr.JetRulerError, match=found):
            ruler.inverse(y)
    else:
        assert ruler.inverse(y) == pytest.approx(math.nan if found is None else found, nan_ok=True)


def test_a_domain_tells_which_root_is_meant() -> None:
    assert jr.Formula("x**2", domain=(0, 10)).inverse(np.array([4.0]))[0] == 2.0
    assert jr.Formula("x**2", domain=(-10, 0)).inverse(np.array([4.0]))[0] == -2.0
