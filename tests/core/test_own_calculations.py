"""Calculations of core done again, plainly, from what their docstrings and sources say."""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import t as student

import jetruler as jr
from jetruler import Adc, Channel, Counts, Expect, Formula, JetRulerError, Line
from jetruler.benchfile.load import parse_bench
from jetruler.core.calibrate.fit_result import decimals
from jetruler.core.calibrate.in_channel import calibration_title
from jetruler.core.firmware.exported import ExportError
from jetruler.core.firmware.forms import forms, full, staircase
from jetruler.core.firmware.program import ProgramModel
from jetruler.core.firmware.reference import ReferenceValues
from jetruler.core.firmware.selection import export
from jetruler.core.ruler.ruler import Ruler
from jetruler.errors import ParameterError

T = jr.Toleranced


def set_aside(x: Any, y: Any) -> tuple[int, ...]:
    """Which points do not go with the majority, for a line and marks of equal weight: least median
    of squares over all pairs (Rousseeuw 1984), the widest gap of 3 or more, and then back come
    those that one sound mark in a thousand would exceed."""
    n = x.size
    half = (n + 2 + 1) // 2
    best: Any = None
    for i, j in itertools.combinations(range(n), 2):
        slope = (y[j] - y[i]) / (x[j] - x[i])
        off = np.abs(y[i] + slope * (x - x[i]) - y)
        if best is None or np.sort(off)[half - 1] < np.sort(best)[half - 1]:
            best = off
    order = np.argsort(best)
    sizes = np.maximum(best[order], 1e-9 * np.abs(y).max())
    gaps = [sizes[i] / sizes[i - 1] for i in range(half, n)]
    if not gaps or max(gaps) < 3:
        return ()
    out = set(order[half + int(np.argmax(gaps)) :].tolist())
    while out:
        kept = [i for i in range(n) if i not in out]
        if len(kept) < 3:
            break
        gain, offset = np.polyfit(x[kept], y[kept], 1)
        off = np.abs(gain * x + offset - y)
        scatter = np.sqrt(np.sum(off[kept] ** 2) / (len(kept) - 2))
        middle, spread = np.mean(x[kept]), np.sum((x[kept] - np.mean(x[kept])) ** 2)
        reach = np.sqrt(1 + 1 / len(kept) + (x - middle) ** 2 / spread)
        limit = student.ppf(0.9995, len(kept) - 2) * scatter * reach
        back = [i for i in out if off[i] <= limit[i]]
        if not back:
            break
        out.remove(min(back, key=lambda i: off[i]))
    return tuple(sorted(out))


@pytest.mark.parametrize("seed", range(60))
def test_outliers_by_the_words_of_their_search(seed: int) -> None:
    random = np.random.RandomState(seed)
    n = int(random.randint(5, 13))
    x = np.sort(random.choice(np.arange(100, 4000, 10), n, replace=False)).astype(float)
    y = 0.05 * x - 3 + 0.2 * random.standard_normal(n)
    for i in random.choice(n, int(random.randint(0, 3)), replace=False):
        y[i] += random.choice([-1, 1]) * random.uniform(0.5, 8)
    found = jr.fit(np.stack([x, y], axis=1), "line", robust=True)
    assert found.outliers == set_aside(x, y)


def test_the_search_finds_some_and_leaves_some() -> None:
    """The cases above are of both kinds; three marks are too few to name one."""
    x = np.arange(6.0)
    assert set_aside(x, 2 * x + np.array([0, 0.1, -0.1, 5, 0.1, 0])) == (3,)
    with pytest.raises(
        JetRulerError, match="robust: expected 4 marks or more, to name an outlier of line"
    ):
        jr.fit([(0, 0), (1, 1), (2, 5)], "line", robust=True)


@pytest.mark.parametrize(
    ("errors", "places"),
    [([0.0213, -0.03, 0.05], 3), ([0.31, -0.2], 2), ([4.2, 3.0], 1), ([42.0], 0), ([4200.0], 0)],
)
def test_errors_are_shown_to_two_digits(errors: list[float], places: int) -> None:
    assert decimals(np.array(errors), np.array([100.0])) == places


def test_what_is_simpler_is_named_from_the_simplest_up() -> None:
    x = np.linspace(0, 10, 12)
    noise = 0.01 * np.random.RandomState(2).standard_normal(x.size)
    bent = np.stack([x, 1 + 2 * x + 0.3 * x**2 + noise], axis=1)
    for degree in (3, 4):
        found = jr.fit(bent, "polynomial", degree=degree)
        assert found.simpler.startswith("a polynomial of degree 2 fits as well")
    assert "no simpler law fits as well: a line" in jr.fit(bent, "table").simpler or (
        "a polynomial of degree 2 fits as well" in jr.fit(bent, "table").simpler
    )
    two = jr.fit(bent, "polynomial", degree=2)
    assert two.simpler.startswith("no simpler law fits as well: a line")
    straight = np.stack([x, 1 + 2 * x + noise], axis=1)
    assert jr.fit(straight, "polynomial", degree=2).simpler.startswith("a line fits as well")
    power = np.stack([x[1:], 3 * x[1:] ** 2], axis=1)
    assert jr.fit(power, "power").simpler.startswith("no simpler law fits as well: a line")


def test_where_the_limits_reach_beyond_the_marks() -> None:
    """By the line's own prediction interval at each end."""
    x = np.array([10.0, 20, 30, 40, 50])
    y = 2 * x + np.array([0.3, -0.2, 0.1, -0.4, 0.2])
    gain, offset = np.polyfit(x, y, 1)
    scatter = np.sqrt(np.sum((gain * x + offset - y) ** 2) / 3)
    spread = np.sum((x - 30) ** 2)

    def half(true: float) -> float:
        at = (true - offset) / gain
        return float(student.ppf(0.975, 3) * scatter * np.sqrt(1 / 5 + (at - 30) ** 2 / spread))

    found = jr.fit(np.stack([x, y], axis=1), "line", limits=(0, 200))
    note = next(n for n in found.notes if "extrapolates" in n)
    told = re.findall(r"± ([\d.]+) \(95 %\) at (\d+)", note)
    assert [float(end) for _, end in told] == [0, 200]
    assert [float(width) for width, _ in told] == pytest.approx([half(0), half(200)], rel=0.01)
    inside = jr.fit(np.stack([x, y], axis=1), "line", limits=(20, 100))
    assert not [n for n in inside.notes if "extrapolates" in n]


def test_a_constant_has_the_unit_of_the_result_and_a_slope_has_none() -> None:
    marks = [(1, 3.0), (2, 5.1), (3, 6.9), (4, 9.0)]
    for law, degree, constant in (("line", None, "offset"), ("polynomial", 2, "c0")):
        found = jr.fit(marks, law, unit="bar", degree=degree)
        units = {p.name: p.unit for p in found.parameters}
        assert units.pop(constant) == "bar"
        assert set(units.values()) == {None}


def test_too_few_marks_name_the_law_and_its_degree() -> None:
    with pytest.raises(
        JetRulerError, match="polynomial of degree 3: expected marks at 4 different"
    ):
        jr.fit([(1, 1), (2, 2), (3, 3)], "polynomial", degree=3)
    with pytest.raises(JetRulerError, match=r"^line: expected marks at 2 different raw values"):
        jr.fit([(1, 1), (1, 2)], "line")


CALIBRATED = """
[converter]
bits = 12
vref = 3.3
[channel.a]
column = "x"
laws = [{ law = "line", gain = "0.01 ± 5 %", unit = "bar" }]
calibration = "± 0.3 bar (k=2)"
noise = 2
"""


def test_a_calibration_is_drawn_too() -> None:
    """By hand: 0.15 bar from the calibration; noise of 2 counts and rounding of one, through the
    slope; the 5 % of the gain are in the calibration."""
    channel = parse_bench(CALIBRATED)["a"]
    run = jr.simulate(channel, 2000, draws=40_000)
    count = 0.01
    assert run.standard == pytest.approx(np.hypot(0.15, count * np.hypot(2, 12**-0.5)), rel=0.03)
    assert run.mean == pytest.approx(2000 * count, abs=0.01)


def test_the_step_of_a_converter_in_its_budget() -> None:
    found = jr.budget(Adc(12, 3.3, error_lsb=1.5) >> Line(10), 1000)
    sizes = {row.source: row.size for row in found.rows}
    assert sizes["converter resolution"] == "± 0.5 count"
    assert sizes["converter error"] == "± 1.5 count"
    wide = jr.budget(Adc(16, 3.3, count_at_vref=65520) >> Line(10), 16000)
    assert {row.source: row.size for row in wide.rows}["converter resolution"] == "± 8 count"


def test_one_reading_has_its_own_spread() -> None:
    ruler = Adc(12, 4.095) >> Line(1000)
    assert jr.propagate(ruler, 100, 3).standard_uncertainty == pytest.approx(3)
    assert jr.propagate(ruler, 100, 3, 9).standard_uncertainty == pytest.approx(1)
    assert jr.propagate(ruler, 100, 3, 9, order=1).standard_deviation == pytest.approx(3)


@pytest.mark.parametrize("bad", [-1.0, -0.5, -1e-9])
def test_a_converters_error_is_none_or_positive(bad: float) -> None:
    with pytest.raises(ParameterError, match="error_lsb"):
        Adc(12, 3.3, error_lsb=bad)


@pytest.mark.parametrize(
    ("expression", "x", "slope"),
    [
        ("(x - 5)**2", 3.0, -4.0),
        ("(x - 5)**3", 3.0, 12.0),
        ("2**x", 3.0, 8 * np.log(2)),
        ("x**x", 2.0, 4 * (np.log(2) + 1)),
        ("2**-x", 1.0, -0.5 * np.log(2)),
    ],
)
def test_slopes_of_powers(expression: str, x: float, slope: float) -> None:
    assert Formula(expression).slope(np.array([x]))[0] == pytest.approx(slope)


def test_limits_say_on_which_side_a_value_is() -> None:
    law = jr.Limits(0, 10)
    assert law.formula(5.0).endswith("within the limits")
    for outside in (-1.0, 11.0):
        assert law.formula(outside).endswith("outside the limits")


def test_a_conversion_of_units_needs_to_know_its_source() -> None:
    with pytest.raises(JetRulerError, match="the unit before it is not known; give source"):
        Ruler.of(Line(2.0), jr.To("bar"))
    assert Ruler.of(Line(2.0), jr.To("bar", "Pa"))(50_000.0) == pytest.approx(1.0)


@pytest.mark.parametrize("wrong", [(np.nan, 1.0), (1.0, np.inf), (1.0, 0.0), (0.0,)])
def test_polynomials_of_no_degree(wrong: tuple[float, ...]) -> None:
    with pytest.raises(ParameterError, match="coefficients"):
        jr.Polynomial(wrong)


HOLES = Counts(8) >> Formula("40 / (x - 60.5) + 100") >> Expect(low=60, high=160)


@pytest.mark.parametrize("arith", ["int32", "int16"])
def test_every_form_has_values_and_holes_where_the_ruler_has(arith: Any) -> None:
    """A curve with a hole in its middle, in every form there is, and in a full table."""
    channel = Channel("h", HOLES, "x")
    wanted = ReferenceValues.of(channel, 10, 0.3)
    counts = wanted.counts
    values = HOLES(counts.astype(float))
    assert np.isnan(values).any()
    none = -(2**31) if arith == "int32" else -(2**15)
    table = full(wanted, 0, counts.size - 1, (), "h", arith)
    for form in [*forms(wanted, "h", arith), table]:
        got = ProgramModel(form.program).run(counts)
        holes = got == none
        assert np.array_equal(holes, np.isnan(values)), form.kind
        near = np.abs(got[~holes] / 10 - values[~holes])
        assert near.max() <= 0.3 + 1e-9 or "straight" in form.kind or "shift" in form.kind


STEPS = Counts(8) >> Line(0.1) >> jr.Whole()


def test_a_staircase_turns_at_its_edges() -> None:
    made = export(Channel("s", STEPS, "x"), "s", scale=1, within=0.5)
    counts = np.arange(256)
    assert np.abs(ProgramModel(made.program).run(counts) - counts / 10).max() <= 0.5 + 1e-9
    few, short = np.arange(64), Counts(6) >> Line(0.1) >> jr.Whole()
    form = staircase(ReferenceValues.of(Channel("s", short, "x"), 1, 0.5), "s", "int32")
    assert form is not None
    assert ProgramModel(form.program).run(few).tolist() == short(few).tolist()


@pytest.mark.parametrize(("scale", "good"), [(10**6, True), (10**6 + 1, False), (0, False)])
def test_scales_go_to_a_million(scale: int, good: bool) -> None:
    channel = Channel("a", Counts(8) >> Line(1.0), "x")
    if good:
        assert export(channel, "a", scale=scale).proof.holds
    else:
        with pytest.raises(JetRulerError, match="scale"):
            export(channel, "a", scale=scale)


@pytest.mark.parametrize(
    ("gain", "says"),
    [(100.0, "--scale 1 fits"), (40.0, "--scale 3 fits"), (300.0, "no scale does")],
)
def test_the_largest_scale_that_fits_is_named(gain: float, says: str) -> None:
    channel = Channel("a", Counts(8) >> Line(gain), "x")
    with pytest.raises(ExportError, match="int16 does not hold; " + says):
        export(channel, "a", "int16", scale=10)


POINTS = st.lists(
    st.tuples(st.integers(-50, 50), st.floats(-1e3, 1e3)), min_size=2, max_size=8,
    unique_by=lambda point: point[0],
)  # fmt: skip


@pytest.mark.parametrize("method", ["linear", "smooth"])
@given(points=POINTS)
def test_a_table_meets_its_points_and_stays_between_them(method: Any, points: Any) -> None:
    law = jr.Table(tuple(points), method)
    x, y = np.array(sorted(points), dtype=float).T
    assert law(x).tolist() == y.tolist()
    for (x0, y0), (x1, y1) in itertools.pairwise(zip(x, y, strict=True)):
        between = law(np.linspace(x0, x1, 33))
        assert between.min() >= min(y0, y1)
        assert between.max() <= max(y0, y1)


SLOPES: dict[str, Callable[[float], float]] = {
    "log(x)": lambda x: 1 / x,
    "log10(x)": lambda x: 1 / (x * np.log(10)),
    "log2(x)": lambda x: 1 / (x * np.log(2)),
    "exp(x)": np.exp,
    "sqrt(x)": lambda x: 0.5 / np.sqrt(x),
    "abs(-x)": lambda x: 1.0,
    "sin(x)": np.cos,
    "cos(x)": lambda x: -np.sin(x),
    "tan(x)": lambda x: 1 / np.cos(x) ** 2,
    "asin(x)": lambda x: 1 / np.sqrt(1 - x * x),
    "acos(x)": lambda x: -1 / np.sqrt(1 - x * x),
    "atan(x)": lambda x: 1 / (1 + x * x),
    "sinh(x)": np.cosh,
    "cosh(x)": np.sinh,
    "tanh(x)": lambda x: 1 / np.cosh(x) ** 2,
    "x * x": lambda x: 2 * x,
    "1 / x": lambda x: -1 / x**2,
    "x / (1 + x)": lambda x: 1 / (1 + x) ** 2,
    "-x + 3 - 2*x": lambda x: -3.0,
    "sin(x)**2": lambda x: 2 * np.sin(x) * np.cos(x),
}


@pytest.mark.parametrize("expression", SLOPES)
@pytest.mark.parametrize("x", [0.2, 0.7])
def test_the_slope_of_every_function(expression: str, x: float) -> None:
    """By the textbook, and in the truth of the value: both signs, two places."""
    found = Formula(expression).slope(np.array([x]))[0]
    assert found == pytest.approx(SLOPES[expression](x), rel=1e-12)


def test_the_work_of_a_loaded_divider() -> None:
    """By hand: the lower leg is 4700 · 1 / (3.3 − 1) Ω, and 10 kΩ beside the sensor."""
    law = jr.Divider(4700, "lower", 3.3, 10e3)
    leg = 4700 / 2.3
    line = law.formula(1.0)
    assert f"{leg:.6g} Ω" in line
    assert f"{leg * 10e3 / (10e3 - leg):.6g} Ω" in line


def test_an_outlier_says_how_many_times_it_is_off() -> None:
    x = np.arange(8.0)
    y = 2 * x + np.array([0.1, -0.1, 0.1, -0.1, 9.0, -0.1, 0.1, -0.1])
    found = jr.fit(np.stack([x, y], axis=1), "line", robust=True)
    times = abs(found.error[4]) / found.rms
    note = next(n for n in found.notes if n.startswith("outlier"))
    assert f", {times:.0f} times the others' rms error" in note


def test_a_calibration_says_what_it_replaces() -> None:
    bench = jr.load_bench(Path(jr.__file__).parent / "demo" / "bench.toml")
    marks = jr.read_marks(Path(jr.__file__).parent / "demo" / "bath.csv")
    again = jr.calibrate(bench["bean"], marks)
    other = jr.calibrate(bench["bean"], marks, law="steinhart-hart")
    assert calibration_title(again) == "bean: beta, fitted again"
    assert calibration_title(other) == "bean: steinhart-hart instead of beta"


@pytest.mark.parametrize(
    ("noise", "target", "says"),
    [(0.5, 1.0, "one reading is enough"), (4.0, 1.0, "17 readings"), (0.01, 0.001, "no number of")],
)
def test_how_many_readings_in_words(noise: float, target: float, says: str) -> None:
    found = jr.how_many(noise, target)
    assert str(found).startswith(says)
    if found.readings not in (None, 1):
        assert found.readings == int(np.ceil((noise**2 + 1 / 12) / target**2))


@pytest.mark.parametrize(
    ("kind", "n", "averaged"),
    [("mean", 9, 9.0), ("median", 1, 1.0), ("median", 9, 1 / 0.1661)],
)
def test_readings_that_a_smoothing_is_worth(kind: Any, n: int, averaged: float) -> None:
    """A median of normal readings is worth 2/π of a mean's; of one reading, that reading."""
    assert jr.Smoothing(kind, n).averaged == pytest.approx(averaged, rel=5e-3)


@pytest.mark.parametrize("seed", range(12))
@pytest.mark.parametrize("n", [3, 5, 8])
def test_spikes_by_the_words_of_their_gate(n: int, seed: int) -> None:
    """A sample further off the median of the last n than four robust deviations, and than
    `beyond`, is replaced by it; 1.4826 makes median deviations of normal noise standard ones."""
    random = np.random.RandomState(seed)
    x = 100 + 3 * random.standard_normal(80)
    x[random.choice(80, 12, replace=False)] += random.uniform(-40, 40, 12)
    wanted, replaced = [], 0
    for i, value in enumerate(x):
        window = x[max(0, i - n + 1) : i + 1]
        median = np.median(window)
        robust = 1.4826 * np.median(np.abs(window - median))
        spike = abs(value - median) > 2.0 and abs(value - median) > 4 * robust
        replaced += spike
        wanted.append(median if spike else value)
    found = jr.smooth(x, jr.Smoothing("spikes", n, beyond=2.0))
    assert found.tolist() == wanted
    assert 0 < replaced < 40


def test_defaults_of_the_spike_gate() -> None:
    """Four counts off are no spike, whatever the noise; more than four are one."""
    for off, kept in ((4.0, True), (4.01, False), (3.5, True)):
        x = np.array([100.0] * 6 + [100.0 + off])
        found = jr.smooth(x, jr.Smoothing("spikes", 5))
        assert bool(found[-1] == x[-1]) is kept


@pytest.mark.parametrize(("interval", "samples"), [(0.2, 10), (1.0, 2), (4.0, 1), (100.0, 1)])
def test_a_time_is_at_least_one_sample(interval: float, samples: int) -> None:
    assert jr.Smoothing("mean", "2 s").settled(interval).samples == samples


@pytest.mark.parametrize(
    "wrong",
    [
        lambda: jr.Trip("hot", ()),
        lambda: jr.Condition("bean"),
        lambda: jr.Condition("bean", above=1, release=2),
        lambda: jr.Condition("bean", below=1, release=0),
        lambda: jr.Drive("d", "bean", ((0, 0), (0, 255)), safe=0),
        lambda: jr.Drive("d", "bean", ((0, 0), (1, 255)), safe=999),
    ],
    ids=["no condition", "nothing asked", "above", "below", "one raw value", "safe"],
)
def test_decisions_that_make_no_sense(wrong: Callable[[], object]) -> None:
    with pytest.raises(ParameterError):
        wrong()


def test_nothing_is_the_magnitude_of_nothing() -> None:
    assert jr.Magnitude().inverse(np.array([0.0, 2.0])).tolist() == [0.0, 2.0]
    assert "no" not in jr.Magnitude().inverse_formula(0.0).split("=")[-1]


def test_a_correction_goes_in_front_of_what_shapes_a_result() -> None:
    """Behind the curve, before clamp, steps and zones, whatever stands there."""
    ruler = Counts(12) >> Line(0.1, unit="%") >> jr.Clamp(0, 400) >> jr.Whole()
    channel = Channel("a", ruler, "x")
    found = jr.calibrate(channel, [(100, 11.0), (1000, 101.0)], correction=True)
    names = [law.name for law in found.calibrated.ruler.laws]
    assert names == ["counts", "line", "line", "clamp", "whole"]
    assert found.calibrated.ruler(2000) == 201
