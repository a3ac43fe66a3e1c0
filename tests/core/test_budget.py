"""Budgets against the guides' worked examples, closed forms, Monte Carlo, and through the tool."""

from __future__ import annotations

import json
import math
from collections.abc import Callable
from pathlib import Path
from statistics import NormalDist
from typing import Any

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

import jetruler as jr
from jetruler import Adc, Beta, Divider, Formula, JetRulerError, Line, Ruler, Smoothing, To
from jetruler.benchfile.load import parse_bench
from jetruler.core.numerics import lasting_rounding
from jetruler.core.uncertainty.budget import expanded_uncertainty
from jetruler.core.uncertainty.budget_result import effective_degrees
from tests.conftest import Cli
from tests.helpers.sizes import few, fewer, soak

T = jr.Toleranced
ROOT3 = math.sqrt(3.0)


@pytest.fixture
def bean(home: Path) -> jr.Channel:
    return jr.load_bench(home / "bench.toml")["bean"]


def rows(found: jr.results.Budget) -> dict[str, float]:
    return {row.source: float(row.effect) for row in found.rows}


# JCGM 100:2008, G.4.1: 0.25 % (9 degrees), 0.57 % (4), 0.82 % (14): 19.0 degrees, u = 1.03 %,
# t95 = 2.09. H.1: 25, 9.7, 2.9 and 16.6 nm (18, 25.6, 50, 2): 16.7 degrees; t99(16) = 2.92.
WELCH = [
    ([0.25, 0.57, 0.82], [9.0, 4.0, 14.0], 1.03, 19.0),
    ([25.0, 9.7, 2.9, 16.6], [18.0, 25.6, 50.0, 2.0], 31.7, 16.7),
]


@pytest.mark.parametrize(("effects", "degrees", "combined", "free"), WELCH)
def test_effective_degrees_of_the_guide(
    effects: list[float], degrees: list[float], combined: float, free: float
) -> None:
    parts = [np.array([effect]) for effect in effects]
    square = np.array([sum(effect**2 for effect in effects)])
    assert math.sqrt(square[0]) == pytest.approx(combined, rel=5e-3)
    assert effective_degrees(parts, degrees, square)[0] == pytest.approx(free, abs=0.07)


# JCGM 101:2008, 9.2: y = x1 + x2 + x3 + x4 (tables 2, 3 and 4): all normal; all rectangular; one
# rectangular ten times as wide. Combined, first-order interval, simulated one, first order holds.
ADDED = [
    ((T(0, 1, 1),) * 4, 2.0, 3.92, 3.92, True),
    ((T(0, ROOT3),) * 4, 2.0, 3.92, 3.88, True),
    ((*(T(0, ROOT3),) * 3, T(0, 10 * ROOT3)), 10.1, 19.9, 17.0, False),
]


@pytest.mark.parametrize(("parts", "combined", "first", "drawn", "holds"), ADDED)
def test_additive_model_of_the_guide(
    parts: tuple[T, ...], combined: float, first: float, drawn: float, holds: bool
) -> None:
    a, b, c, d = parts
    ruler = Ruler.of(Formula("x + a + b + c + d", a=a, b=b, c=c, d=d))
    found = jr.budget(ruler, 0)
    assert found.combined == pytest.approx(combined, abs=0.06)
    assert found.expanded_uncertainty == pytest.approx(first, abs=0.06)
    run = jr.simulate(ruler, 0, draws=1_000_000)
    assert run.standard == pytest.approx(combined, rel=0.01)
    assert run.interval == pytest.approx((-drawn, drawn), abs=0.04)
    assert run.first_order is holds
    assert ("one uniform tolerance dominates" in str(run)) is not holds


def test_mass_calibration_of_the_guide() -> None:
    """JCGM 101:2008, 9.3 (table 7): where first order misses what only products bring in."""
    model = "(x + m + d) * (1 + (a - 1.2) * (1/w - 1/r)) - 100000"
    masses = {"m": T(0, 0.05, 1), "d": T(1.234, 0.02, 1)}
    air = {"a": T(1.2, 0.1), "w": T(8e3, 1e3), "r": T(8e3, 50.0)}
    ruler = Ruler.of(Formula(model, domain=None, unit="mg", takes=None, **masses, **air))
    found = jr.budget(ruler, 100_000)
    assert found.combined == pytest.approx(0.0539, abs=5e-5)
    run = jr.simulate(ruler, 100_000, draws=1_000_000)
    assert run.mean == pytest.approx(1.2341, abs=3e-4)
    assert run.standard == pytest.approx(0.0754, abs=2e-4)
    assert run.interval == pytest.approx((1.0834, 1.3825), abs=2e-3)
    assert not run.first_order
    assert "the chain is too nonlinear" in str(run)


@few
@pytest.mark.parametrize("draws", [None, 1000, 20_000])
def test_a_straight_chain_with_noise_is_of_first_order(draws: int | None) -> None:
    """Whatever the size of the noise and the number of draws: their own error is no bend."""
    chain = Adc(16, 3.3) >> Line(1000)
    for seed, size in enumerate(np.geomspace(0.5, 500, 12)):
        run = jr.simulate(chain, 20_000, noise=50 + size, seed=seed, draws=draws)
        assert run.first_order
        assert "it is good enough" in str(run)
        if draws is None:
            assert run.decided


def test_draws_without_a_value_are_told(cli: Cli) -> None:
    for draws in ("2000", "stable"):
        done = cli("explain", "bean", "--at", "70000", "--budget", "--draws", draws)
        assert (done.returncode, done.stderr) == (0, "")
        assert "draws has a value" in done.stdout


@soak
@pytest.mark.parametrize("level", [0.683, 0.95, 0.99])
def test_draws_go_on_until_the_ends_are_known(level: float) -> None:
    """The standard error that a run tells is the scatter of the ends of many runs; normal ends
    are those of the table."""
    chain = Adc(16, 3.3) >> Line(1000)
    runs = [jr.simulate(chain, 20_000, noise=70, level=level, seed=s) for s in range(8)]
    assert all(run.stable for run in runs)
    wanted = NormalDist().inv_cdf(0.5 + level / 2) * runs[0].budget.combined
    ends = np.array([run.interval[1] - run.budget.value for run in runs])
    errors = np.array([run.end_error for run in runs])
    assert np.all(np.abs(ends - wanted) < 5 * errors)
    few = [jr.simulate(chain, 20_000, noise=70, level=level, seed=s, draws=4000) for s in range(60)]
    scatter = float(np.std([run.interval[1] for run in few], ddof=1))
    assert np.mean([run.end_error for run in few]) == pytest.approx(scatter, rel=0.35)
    assert not few[0].stable
    assert "use more draws" in str(few[0])


def test_ohms_of_a_divider_in_closed_form() -> None:
    """Sensor in the lower leg: u(R) = supply · known / (supply − v)² · u(v)."""
    supply, known, vref = 5.0, 4700.0, T(3.3, 0.02, 2)
    chain = Adc(12, vref) >> Divider(known, supply=supply)
    for at in (300, 1880, 3900):
        found = jr.budget(chain, at, noise=2.5)
        volts = at / 4095 * 3.3
        per_volt = supply * known / (supply - volts) ** 2
        assert rows(found)["noise"] == pytest.approx(per_volt * 2.5 * 3.3 / 4095, rel=1e-12)
        assert rows(found)["vref of adc"] == pytest.approx(per_volt * at / 4095 * 0.01, rel=1e-6)
        step = per_volt * 3.3 / 4095 / math.sqrt(12)
        assert rows(found)["converter resolution"] == pytest.approx(step, rel=1e-12)
        together = math.sqrt(sum(effect**2 for effect in rows(found).values()))
        assert found.combined == pytest.approx(together, rel=1e-12)


def test_thermistor_in_closed_form(bean: jr.Channel) -> None:
    """dT = T²/B · dR/R for r0 and known; dT = T² (1/T − 1/T0)/B · dB for Beta."""
    for at in (3912, 400):
        found = rows(jr.budget(bean, at))
        kelvin = bean.ruler(at) + 273.15
        assert found["r0 of beta"] == pytest.approx(kelvin**2 / 3950 * 0.03 / ROOT3, rel=1e-5)
        assert found["known of divider"] == pytest.approx(kelvin**2 / 3950 * 0.01 / ROOT3, rel=1e-5)
        by_beta = kelvin**2 * abs(1 / kelvin - 1 / 298.15) * 0.01 / ROOT3
        assert found["beta of beta"] == pytest.approx(by_beta, rel=1e-3)
        assert found["vref of adc"] == 0


def test_what_dominates_differs(bean: jr.Channel) -> None:
    cold, hot = jr.budget(bean, 3912), jr.budget(bean, 400)
    assert cold.dominant is not None
    assert hot.dominant is not None
    assert (cold.dominant.source, hot.dominant.source) == ("r0 of beta", "beta of beta")
    assert sum(cold.fraction(row) for row in cold.rows) == pytest.approx(1)


SHARES = st.floats(1e-4, 4e-3)


@fewer(1)
@given(
    at=st.integers(400, 3700),
    tolerances=st.tuples(*[SHARES] * 5),
    noise=st.floats(0, 4),
    readings=st.sampled_from([1, 4, 25]),
    kind=st.sampled_from(["beta", "line", "loop"]),
    k=st.sampled_from([None, 1.0, 2.0]),
)
def test_first_order_against_monte_carlo(
    at: int,
    tolerances: tuple[float, ...],
    noise: float,
    readings: int,
    kind: str,
    k: float | None,
) -> None:
    a, b, c, d, e = tolerances

    def part(value: float, fraction: float) -> T:
        return T(value, fraction * value, k)

    adc = Adc(12, part(3.3, a), error_lsb=1.0)
    if kind == "beta":
        thermistor = Beta(part(100e3, c), part(3950, d))
        chain = adc >> Divider(part(4700, b), supply=part(5, e)) >> thermistor >> To("degF")
    elif kind == "line":
        chain = Ruler.of(
            adc, jr.Attenuator(part(33e3, b), part(10e3, c)), Line(part(2, d), T(1, e))
        )
    else:
        marks = ((part(4e-3, b), 0.0), (part(20e-3, c), part(250, d)))
        chain = Ruler.of(adc, jr.Shunt(part(150, e)), Line(marks=marks))
    found = jr.budget(chain, at, noise=noise, readings=readings)
    run = jr.simulate(chain, at, noise=noise, readings=readings, draws=40_000)
    assert run.standard == pytest.approx(found.combined, rel=0.03)
    assert run.mean == pytest.approx(found.value, abs=0.1 * found.combined)
    assert run.lost == 0


@soak
def test_a_law_that_takes_no_arrays_is_drawn_all_the_same() -> None:
    """Coefficients of a cubic: by a parabola through their ends, against a plain loop."""
    a, b, c = T(6.7e-4, 2e-6), T(2.2e-4, 4e-7), 1e-7
    law = jr.SteinhartHart(a, b, c)
    run = jr.simulate(Ruler.of(law), 20_000, draws=10_000)
    random = np.random.RandomState(4)
    one = [
        float(jr.SteinhartHart(a + da, b + db, c)(20_000.0))
        for da, db in random.uniform(-1, 1, (2000, 2)) * [2e-6, 4e-7]
    ]
    assert run.standard == pytest.approx(np.std(one), rel=0.04)
    assert run.mean == pytest.approx(np.mean(one), abs=0.05 * run.standard)


def test_the_same_seed_draws_the_same(bean: jr.Channel) -> None:
    first, again, other = (jr.simulate(bean, 1880, draws=5000, seed=s) for s in (3, 3, 4))
    assert np.array_equal(first.values, again.values)
    assert not np.array_equal(first.values, other.values)


def test_all_counts_at_once(bean: jr.Channel) -> None:
    counts = np.array([100, 400, 1880, 3912])
    each = [jr.budget(bean, at).expanded_uncertainty for at in counts.tolist()]
    assert expanded_uncertainty(bean, counts) == pytest.approx(each, rel=1e-12)
    assert np.isnan(expanded_uncertainty(bean, np.array([4095]))).all()


@pytest.mark.parametrize("sigma", [0.01, 0.08, 0.12, 0.3, 0.5])
def test_what_averaging_leaves_of_the_steps(sigma: float) -> None:
    """The mean of endlessly many dithered readings, by the normal distribution itself."""
    from scipy.special import ndtr

    x = np.linspace(-0.5, 0.5, 20_001)[:-1]
    edges = np.arange(-8, 9) + 0.5
    mean = np.sum(1 - ndtr((edges[:, None] - x) / sigma), axis=0) - 8
    rms = float(np.sqrt(np.mean((mean - x - np.mean(mean - x)) ** 2)))
    assert lasting_rounding(sigma) == pytest.approx(rms, rel=1e-3)
    assert lasting_rounding(0.0) == pytest.approx(1 / math.sqrt(12))


@pytest.mark.parametrize(("kind", "n"), [("mean", 8), ("median", 3), ("median", 5), ("median", 25)])
def test_how_much_a_smoothing_averages(kind: str, n: int) -> None:
    random = np.random.RandomState(1)
    smooth = Smoothing(kind, n)  # type: ignore[arg-type]
    ignore_fp_warnings = jr.smooth(random.standard_normal(200_000), smooth)[n:]
    assert 1 / np.var(ignore_fp_warnings) == pytest.approx(smooth.averaged, rel=0.05)


def test_propagated_spread_against_drawn_readings(bean: jr.Channel) -> None:
    random = np.random.RandomState(7)
    drawn = bean.chain.direct(random.normal(700, 40, 400_000))
    second = jr.propagate(bean.chain, 700, 40, 16)
    first = jr.propagate(bean.chain, 700, 40, 16, order=1)
    assert second.mean == pytest.approx(drawn.mean(), abs=0.02)
    assert abs(first.mean - drawn.mean()) > 0.1  # the bend shifts the mean
    assert second.standard_deviation == pytest.approx(drawn.std(), rel=0.01)
    assert second.standard_uncertainty == pytest.approx(second.standard_deviation / 4)
    with pytest.raises(JetRulerError, match="order: expected 1 or 2, found 3"):
        jr.propagate(bean.chain, 700, 40, order=3)


SETTINGS = [
    ({"noise": -1.0}, r"noise: expected 0 or more, and less than 1e\+100, found -1\.0"),
    ({"readings": 0.5}, r"readings: expected 1 or more, and less than 1e\+100, found 0\.5"),
    ({"level": 95.0}, r"level: expected a fraction between 0 and 1, found 95\.0"),
    ({"dof": 0.0}, r"dof: expected more than 0, found 0\.0"),
]


@pytest.mark.parametrize(("setting", "says"), SETTINGS)
def test_settings_that_make_no_sense(bean: jr.Channel, setting: dict[str, Any], says: str) -> None:
    with pytest.raises(JetRulerError, match=says):
        jr.budget(bean, 1880, **setting)


def test_left_scaled_steps_and_whole_numbers(home: Path) -> None:
    hopper = jr.load_bench(home / "bench.toml")["hopper"]
    assert hopper.ruler.converter is not None
    found = rows(jr.budget(hopper, 32_000))
    per_count = float(hopper.ruler.slope(32_000))
    assert found["converter resolution"] == pytest.approx(16 / math.sqrt(12) * per_count)
    assert found["converter error"] == pytest.approx(32 / ROOT3 * per_count)
    whole = Adc(12, 3.3) >> Line(100.0) >> jr.Whole() >> Line(0.1)
    assert rows(jr.budget(whole, 2000))["rounding of whole"] == pytest.approx(0.1 / math.sqrt(12))
    squared = jr.Input("1") >> jr.Whole() >> jr.Polynomial((0, 0, 1))
    of_three = jr.budget(squared, 2.6)  # the slope is that at 3, where the square is taken
    assert rows(of_three)["rounding of whole"] == pytest.approx(2 * 3 / math.sqrt(12))
    run = jr.simulate(whole, 2000, draws=50_000)
    assert run.standard == pytest.approx(jr.budget(whole, 2000).combined, rel=0.03)


CALIBRATED = """
[converter]
bits = 12
vref = "3.3 V ± 1 %"
error_lsb = 2
[channel.a]
column = "x"
laws = [{ law = "line", gain = "2 ± 1 %", takes = "V", unit = "bar" }]
noise = 3
calibration = "± 0.01 bar (k=2)"
"""


def test_a_calibration_stands_for_what_it_saw() -> None:
    found = jr.budget(parse_bench(CALIBRATED)["a"], 2000)
    assert rows(found)["calibration"] == pytest.approx(0.005)
    for source in ("converter error", "vref of adc", "gain of line"):
        assert rows(found)[source] == 0
    assert "gain of line is in the calibration" in str(found)
    noise, step = rows(found)["noise"], rows(found)["converter resolution"]
    assert found.combined == pytest.approx(math.hypot(0.005, noise, step))
    assert (found.random, found.systematic) == pytest.approx((noise, math.hypot(0.005, step)))
    few = jr.budget(parse_bench(CALIBRATED)["a"], 2000, noise=30, dof=9)
    assert few.dof == pytest.approx(9, rel=0.1)
    assert few.coverage_factor == pytest.approx(2.26, abs=0.03)
    assert "degrees of freedom" in str(few)


BAD_CALIBRATIONS = [
    ("0.1", "a text with ±"),
    ('"0.1 bar"', "expected a quantity, as in"),
    ('"± 0.1 V"', "expected a quantity in bar"),
]


@pytest.mark.parametrize(("text", "says"), BAD_CALIBRATIONS)
def test_calibrations_that_do_not_read(text: str, says: str) -> None:
    bench = CALIBRATED.replace('"± 0.01 bar (k=2)"', text)
    with pytest.raises(JetRulerError, match=r"channel.a.calibration") as caught:
        parse_bench(bench)
    assert says in str(caught.value)


def test_explain_with_a_budget(cli: Cli) -> None:
    done = cli(
        *[
            "explain",
            "bean",
            "--at",
            "400",
            "--budget",
            "--noise",
            "1.4",
            "--readings",
            "16",
            "--draws",
            "20000",
        ]
    )
    assert done.returncode == 0, done.stderr
    for says in (
        "beta of beta      3950 K ± 1 %",
        "vref of adc cancels: the divider is fed from the same reference",
        "most of it: beta of beta, 73 %",
        "(222.6 ± 4.4) °C at 95 % (factor 1.96)",
        "20000 draws: mean 222.6 °C, standard uncertainty 2.2 °C",
    ):
        assert says in done.stdout
    data = json.loads(cli("explain", "bean", "--for", "25", "--budget", "--json").stdout)
    assert data["budget"]["combined"] == pytest.approx(0.45, abs=0.01)
    assert data["budget"]["dof"] is None
    assert sum(row["fraction"] for row in data["budget"]["rows"]) == pytest.approx(1)
    held = cli("explain", "damper", "--at", "10", "--budget")
    assert "no budget: the reading is held at an end by one of its laws" in held.stdout
    assert (
        "no budget: the reading has no value"
        in cli("explain", "bean", "--at", "4095", "--budget").stdout
    )


@soak
def test_convert_with_uncertainties(cli: Cli, home: Path) -> None:
    done = cli("convert", "roast.csv", "-o", "u.csv", "--uncertainty", "--keep-raw")
    assert done.returncode == 0, done.stderr
    plain = cli("convert", "roast.csv", "--keep-raw")
    table = pd.read_csv(home / "u.csv", dtype=str)
    bench = jr.load_bench(home / "bench.toml")
    names = [str(name) for name in table]
    widths = [name for name in names if name.endswith("_u")]
    assert len(widths) == 7  # found tray, which reads zones
    assert names[names.index("bean_degC") + 1] == "bean_degC_u"
    for name in ("bean2", "damper", "rail", "draught"):
        channel = bench[name]
        for row in (0, 700, 3100):
            counts = int(table[f"ch{list(bench.channels).index(name)}"][row])
            width = jr.budget(channel, counts).expanded_uncertainty
            cell = table[f"{channel.output_column}_u"][row]
            if math.isnan(width):
                assert pd.isna(cell)
            else:
                assert float(cell) == pytest.approx(width, rel=0.05)
    loose = table["flags"].str.contains("bean:high_rail", na=False)
    assert table.loc[loose, "bean_degC_u"].isna().all()
    # Beside the new columns nothing has changed.
    rest = table.drop(columns=widths).to_csv(index=False)
    assert rest.splitlines() == plain.stdout.splitlines()


@pytest.mark.parametrize(
    ("args", "says"),
    [
        (("explain", "bean", "--at", "1", "--noise", "1"), "expected --budget too"),
        (("explain", "tray", "--at", "900", "--budget"), "a zone is no number"),
        (
            ("explain", "bean", "--at", "900", "--budget", "--draws", "10"),
            "from 1000 to 10000000",
        ),
        (("draw", "budget", "bean"), "expected --at COUNT"),
        (("draw", "budget", "bean", "--at", "4095"), "no budget: the reading has no value"),
    ],
)
def test_refused(cli: Cli, args: tuple[str, ...], says: str) -> None:
    done = cli(*args)
    assert done.returncode == 2
    assert says in done.stderr
    assert not done.stdout


def test_draw_budget(cli: Cli, home: Path) -> None:
    done = cli("draw", "budget", "bean", "--at", "3912", "--at", "400", "-o", "b.svg")
    assert done.returncode == 0, done.stderr
    assert (home / "b.svg").read_text().startswith("<?xml")


def test_a_fit_leaves_its_errors_to_the_budget(cli: Cli, home: Path) -> None:
    assert cli("fit", "bean", "--marks", "bath.csv", "--write").returncode == 0
    fitted = jr.load_bench(home / "bench.toml")["bean"]
    found = jr.calibrate(fitted, jr.read_marks(home / "bath.csv")).fit
    for count in (400.0, 1880.0, 3900.0):  # the two parameters together, as the fit itself knows
        budget = jr.budget(fitted, count)
        assert rows(budget)["fit of beta"] == pytest.approx(
            found.interval(count)[0] / NormalDist().inv_cdf(0.975), rel=1e-3
        )
        run = jr.simulate(fitted, count, draws=100_000)
        assert run.standard == pytest.approx(budget.combined, rel=0.01)
    assert cli("fit", "bean", "--marks", "bath.csv", "--law", "line", "--write").returncode == 0
    text = (home / "bench.toml").read_text()
    assert text.count("\ncalibration = ") == 1


#: Chains behind a reference of 3.3 V ± 2 %, and what they do to volts; V is at count 2000 or so.
STAIRS: dict[str, tuple[str, Callable[[Any], Any]]] = {
    "whole": ("{law='line', gain=300, takes='V', unit='%'}, {law='whole'}", lambda v: 300 * v),
    "steps mid-chain": (
        "{law='line', gain=300, takes='V', unit='%'}, {law='whole'}, "
        "{law='line', gain=0.1, unit='bar'}",
        lambda v: 30 * v,
    ),
    "clamped": (
        "{law='line', gain=300, takes='V', unit='%'}, {law='clamp', low=0, high=490}, "
        "{law='whole'}",
        lambda v: 300 * v,
    ),
    "magnitude": (
        "{law='line', gain=-300, takes='V', unit='%'}, {law='magnitude'}, {law='whole'}",
        lambda v: 300 * v,
    ),
    "beside a clamp": (
        "{law='line', gain=300, takes='V', unit='%'}, {law='clamp', low=0, high=490}",
        lambda v: 300 * v,
    ),
    "fine": ("{law='line', gain=3, takes='V', unit='%'}, {law='whole'}", lambda v: 3 * v),
    "cut": (
        "{law='line', gain=30, takes='V', unit='%'}, {law='whole', rounding='down'}",
        lambda v: 30 * v,
    ),
}


@pytest.mark.parametrize("name", STAIRS)
def test_budgets_of_stairs_are_those_of_draws(name: str) -> None:
    """What is shown against the truth, over counts at and beside ties and edges: the draws know
    nothing of slopes. The fine chain has one step in 1200 counts, so all of one is looked at."""
    laws, trend = STAIRS[name]
    bench = parse_bench(
        '[channel.x]\ncolumn = "a"\nconverter = { bits = 12, vref = "3.3 V ± 2 %" }\n'
        + f"laws = [{laws}]\n".replace("'", '"')
    )
    channel, rng = bench["x"], np.random.default_rng(7)
    counts = np.arange(1400, 2600) if name in ("fine", "cut") else np.arange(1900, 2000)
    n = 400
    vref = rng.uniform(3.3 * 0.98, 3.3 * 1.02, (n, 1))
    true = trend((counts + rng.uniform(-0.5, 0.5, (n, counts.size))) * vref / 4095)
    shown = channel(counts.astype(float))
    drawn = math.sqrt(float(np.mean((shown - true) ** 2)))
    combined = [jr.budget(channel, float(count)).combined for count in counts[:: counts.size // 50]]
    assert math.sqrt(float(np.mean(np.square(combined)))) == pytest.approx(drawn, rel=0.03)


def test_what_is_held_or_railed_has_no_uncertainty_and_says_so(cli: Cli, home: Path) -> None:
    channel = parse_bench(
        '[channel.x]\ncolumn = "ch0"\nconverter = { bits = 12, vref = 3.3 }\n'
        'laws = [{ law = "line", marks = [["0 V", 0], ["3.3 V", 990]], unit = "%" }, '
        '{ law = "clamp", low = 0, high = 480 }]\n'
    )["x"]
    for count, why in ((0, "is on a rail"), (4095, "held at an end"), (1000, "")):
        found = jr.budget(channel, count)
        assert found.summary()[0].startswith("no budget: the reading") == bool(why)
        assert why in found.summary()[0]
        assert math.isnan(found.expanded_uncertainty) == bool(why)
        assert np.isnan(expanded_uncertainty(channel, np.array([count])))[0] == bool(why)


@pytest.mark.parametrize("size", [2.0**-40, 2.0**-10, 2.0**40])
@pytest.mark.parametrize("raw", [100, 2051, 4000])
def test_a_budget_is_the_same_in_any_unit(size: float, raw: int) -> None:
    """The same circuit at another voltage, and the same result by another gain: every source has
    the same part of it."""

    def made(unit: float) -> jr.results.Budget:
        upper, lower = T(33e3, 330), T(10e3, 200)
        marks = Line(2.0, T(0.4 * unit, 0.01 * unit))
        ruler = Adc(12, T(3.3 * unit, 0.02 * unit), error_lsb=3) >> jr.Attenuator(upper, lower)
        return jr.budget(ruler >> marks, raw, noise=2.5, readings=4)

    plain, scaled = made(1.0), made(size)
    assert scaled.combined == pytest.approx(size * plain.combined, rel=1e-12)
    assert scaled.expanded_uncertainty == pytest.approx(
        size * plain.expanded_uncertainty, rel=1e-12
    )
    assert scaled.dof == pytest.approx(plain.dof, rel=1e-9)
    for p, q in zip(plain.rows, scaled.rows, strict=True):
        assert (q.source, q.random) == (p.source, p.random)
        assert q.effect == pytest.approx(size * p.effect, rel=1e-12)
        assert scaled.fraction(q) == pytest.approx(plain.fraction(p), rel=1e-9)
    # By hand: the noise of four readings, in volts, behind a gain of 4.3 and one of 2.
    noise = next(float(row.effect) for row in plain.rows if row.source == "noise")
    assert abs(noise) == pytest.approx(2.5 / 2 * 3.3 / 4095 * 4.3 * 2, rel=1e-9)
