"""What a fit says of itself: which law, marks and parameters, and how well it knows them."""

from __future__ import annotations

import math
import re
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy.stats import chi2, norm
from scipy.stats import f as fisher
from scipy.stats import t as student

import jetruler as jr
from jetruler.benchfile.load import parse_bench
from jetruler.benchfile.models import build_law
from jetruler.core.calibrate.fitting import predicts_better
from jetruler.core.laws import law_line
from jetruler.core.uncertainty.contributions import toleranced
from tests.conftest import Cli
from tests.core.test_laws import TRUTH
from tests.helpers.sizes import few, sizes

# Two sets of coefficients that a maker of thermistors publishes for one part, each way.
TO_OHMS = (-14.63371957, 4791.842, -115334.0, -3730535.0)
TO_KELVIN = (3.354016e-3, 2.569850e-4, 2.620131e-6, 6.383091e-8)
EXTENDED = jr.SteinhartHartExtended(10e3, to_kelvin=TO_KELVIN)


def marks(x: Any, y: Any, u: float | None = None) -> Any:
    return np.stack([x, y] if u is None else [x, y, np.full(len(x), u)], axis=1)


@few
@pytest.mark.parametrize("n", [5, 8])
@pytest.mark.parametrize("u", [None, 1.0], ids=["scatter", "u_true"])
@pytest.mark.parametrize("sets", sizes(50, 1000))
def test_a_straight_truth_is_kept_straight_and_a_bent_one_is_not(
    n: int, u: float | None, sets: int
) -> None:
    random, x = np.random.RandomState(n), np.linspace(0, 10, n)
    degrees = []
    for bend in (0.0, 2.0):
        found = [
            jr.fit(marks(x, 3 * x + bend * x**2 + random.standard_normal(n), u), "polynomial")
            for _ in range(sets)
        ]
        degrees.append([len(one.parameters) - 1 for one in found])
    assert np.mean(np.array(degrees[0]) == 1) >= 0.95 - 3 * math.sqrt(0.0475 / sets)
    assert np.mean(np.array(degrees[1]) > 1) >= 0.9


@pytest.mark.parametrize("sets", sizes(100, 1000))
def test_a_known_uncertainty_finds_the_wrong_mark_among_five(sets: int) -> None:
    """Twelve uncertainties off, at any place; and no sound mark is named for it."""
    random, x, right, false = np.random.RandomState(4), np.linspace(0, 10, 5), 0, 0
    for _ in range(sets):
        y = 3 * x + 1 + random.standard_normal(5)
        false += bool(jr.fit(marks(x, y, 1.0), robust=True).outliers)
        wrong = random.randint(5)
        y[wrong] += 12 * random.choice([-1, 1])
        right += jr.fit(marks(x, y, 1.0), robust=True).outliers == (wrong,)
    assert right >= 0.8 * sets
    assert false <= 0.01 * sets + 3 * math.sqrt(0.01 * sets)


def test_too_small_uncertainties_make_no_outliers() -> None:
    y = 3 * np.arange(9.0) + np.array([1, -1, 2, 0, -2, 1, 1, -1, 0])
    assert not jr.fit(marks(np.arange(9.0), y, 0.01), robust=True).outliers


def test_left_out_errors_of_a_bent_law_are_those_of_fits_without_the_mark() -> None:
    """Few marks, far apart: the first order would be off by some percent."""
    x = np.array([1e3, 4e3, 1e4, 3e4, 9e4])
    y = np.asarray(jr.Beta(1e4, 3435)(x)) + np.array([3.0, -4.0, 2.0, 4.0, -3.0])
    found = jr.fit(marks(x, y), "beta")
    for i in range(5):
        rest = jr.fit(np.delete(marks(x, y), i, axis=0), "beta")
        assert found.left_out[i] == pytest.approx(rest.law(float(x[i])) - y[i], rel=1e-9)


@pytest.mark.parametrize(
    ("x", "y", "u", "law", "says"),
    [
        (
            np.geomspace(1e3, 1e5, 9),
            lambda x: EXTENDED(x),
            0.05,
            "beta",
            "Steinhart-Hart law fits better",
        ),
        (
            np.linspace(0, 10, 9),
            lambda x: 2 * x + 0.1 * x**2,
            None,
            "line",
            "a polynomial of degree 2 fits better",
        ),
        (
            np.linspace(0, 10, 9),
            lambda x: 2 * x + 9 * (np.arange(9) % 2),
            0.1,
            "line",
            "no law with more parameters fits better: the uncertainties or some marks are wrong",
        ),
        (
            np.linspace(0, 10, 9),
            lambda x: 5 * x,
            None,
            "line",
            "does not differ significantly from 0",
        ),
    ],
    ids=["beta", "bent", "no law", "offset"],
)
def test_errors_beyond_the_marks_and_idle_parameters_are_said(
    x: Any, y: Any, u: float | None, law: str, says: str
) -> None:
    noise = 0.02 * np.random.RandomState(1).standard_normal(x.size)
    found = jr.fit(marks(x, y(x) + noise, u), law)
    assert any(says in note for note in found.notes), found.notes


@pytest.mark.parametrize(("offset", "told"), [(0.0, True), (2.0, False)])
def test_a_correction_that_is_none_says_so(offset: float, told: bool) -> None:
    knob = jr.Channel("knob", jr.Counts(12) >> jr.Line(0.1, unit="%"), "ch0")
    raw = np.linspace(100, 3900, 8)
    noise = 0.3 * np.random.RandomState(6).standard_normal(8)
    found = jr.calibrate(knob, marks(raw, 0.1 * raw + offset + noise), correction=True)
    says = "gain and offset do not differ significantly from 1 and 0: no correction is needed"
    assert (says in found.fit.notes) is told


def test_the_extended_thermistor_is_fitted_to_its_published_curve() -> None:
    """Marks from the published coefficients of the way back give the published table, and a law
    that the published coefficients of the way there agree with."""
    kelvin = 273.15 + np.linspace(-40, 125, 23)
    ohms = 1e4 * np.exp(sum(c / kelvin**i for i, c in enumerate(TO_OHMS)))
    found = jr.fit(marks(ohms, kelvin - 273.15), "steinhart-hart-extended")
    assert isinstance(found.law, jr.SteinhartHartExtended)
    assert found.law.r25 == 1e4
    assert found.largest < 0.02
    for celsius, published in ((-40, 332094), (0, 32554), (50, 3605), (85, 1070)):
        assert found.law(float(published)) == pytest.approx(celsius, abs=0.03)
        assert EXTENDED(float(published)) == pytest.approx(found.law(float(published)), abs=0.03)
    assert build_law(jr_table(found.law)) == found.law


def jr_table(law: jr.Law) -> dict[str, Any]:
    import tomllib

    table: dict[str, Any] = tomllib.loads(f"law = {law_line(law)}")["law"]
    return table


def numbers_in(value: Any, path: tuple[int, ...] = ()) -> list[tuple[int, ...]]:
    if isinstance(value, list):
        return [found for i, part in enumerate(value) for found in numbers_in(part, (*path, i))]
    return [path] if isinstance(value, int | float) and not isinstance(value, bool) else []


def with_text(value: Any, path: tuple[int, ...], behind: str) -> Any:
    if not path:
        return f"{value!r} {behind}"
    return [with_text(v, path[1:], behind) if i == path[0] else v for i, v in enumerate(value)]


#: Numbers that are no measured quantity: a whole number of bits, ends of a range, a zone's name.
EXACT = {("adc", "bits"), ("counts", "bits"), ("input", "range"), ("zones", "values")}
EXACT |= {("platinum", "wires"), ("bridge", "active")}


@pytest.mark.parametrize("law", [law for law, *_ in TRUTH], ids=lambda law: law.name)
def test_every_number_of_every_law_can_carry_a_tolerance(law: jr.Law) -> None:
    table = jr_table(law)
    for key, value in table.items():
        for path in [] if (law.name, key) in EXACT else numbers_in(value):
            made = build_law(table | {key: with_text(value, path, "± 0.001 (k=2)")})
            (found,) = toleranced(jr.Ruler((made,)))
            assert found.value.standard == pytest.approx(0.0005)
            assert jr_table(made) == jr_table(build_law(jr_table(made)))


BENCH = """[converter]
bits = 12
vref = 3.3
[channel.a]
column = 1
laws = [{{ law = "polynomial", coefficients = [1, 2, 3], takes = "V", unit = "bar" }}]
calibration = {{ {} }}
"""
SOUND = 'law = "polynomial", parameters = ["coefficients[1]", "coefficients[2]"], covariance = '
PAIR = "[[1.0, -0.9], [-0.9, 1.0]]"


def test_a_covariance_moves_the_parameters_together() -> None:
    """By hand: at x V the effect is √(1 − 1.8 x + x²) bar; independent, it would be √(1 + x²)."""
    channel = parse_bench(BENCH.format(f"{SOUND}{PAIR}, left = '± 0.2 bar (k=2)'"))["a"]
    for count in (0.0, 1241.0, 4095.0):
        volts = count / 4095 * 3.3
        effects = {row.source: float(row.effect) for row in jr.budget(channel, count).rows}
        by_hand = math.sqrt(1 - 1.8 * volts + volts**2)
        assert effects["fit of polynomial"] == pytest.approx(by_hand)
        assert effects["calibration"] == pytest.approx(0.1)
    run = jr.simulate(channel, 1241.0, draws=100_000)
    assert run.standard == pytest.approx(run.budget.combined, rel=0.01)


@pytest.mark.parametrize(
    ("given", "says"),
    [
        (
            SOUND + "[[1, 2], [2, 1]]",
            "covariance: expected 2 rows of 2 numbers, as far below the diagonal as above",
        ),
        (
            SOUND + "[[1, 2]]",
            "expected 2 rows of 2 numbers, as far below the diagonal as above, found [[1, 2]]",
        ),
        (SOUND.replace("[2]", "[9]") + PAIR, "the name of a number that polynomial has here"),
        (SOUND.replace("poly", "Poly") + PAIR, "the name of one of the channel's laws"),
        (SOUND + PAIR + ", which = 2", "the number of laws called polynomial"),
        (SOUND + PAIR + ", dof = 0", "calibration.dof: expected 1 or more, found 0"),
        (SOUND + PAIR + ", seed = 1", "calibration.seed: unknown for calibration"),
        ('law = "polynomial"', "calibration needs it"),
    ],
)
def test_a_covariance_that_is_none_is_refused(given: str, says: str) -> None:
    with pytest.raises(jr.errors.BenchError) as error:
        parse_bench(BENCH.format(given))
    assert says in str(error.value)


def test_a_later_fit_takes_the_place_of_what_an_earlier_one_left(cli: Cli, home: Path) -> None:
    """Also where nothing is known of it: then the key goes, and the change shows that."""
    assert "dof" not in cli("fit", "bean", "--marks", "bath.csv", "--write").stdout
    done = cli("fit", "bean", "--mark", "1000=165", "--mark", "3000=80", "--write")
    assert done.returncode == 0, done.stderr
    assert "- calibration = {" in done.stdout
    assert "+ calibration" not in done.stdout
    assert jr.load_bench(home / "bench.toml")["bean"].calibration is None
    done = cli("fit", "bean", "--marks", "bath.csv", "--correction", "--write")
    assert done.returncode == 0, done.stderr
    known = jr.load_bench(home / "bench.toml")["bean"].calibration
    assert isinstance(known, jr.FitCovariance)
    assert known.law == "line"


@pytest.mark.parametrize("key", ["decimals", "noise", "limits", "dissipation", "calibration"])
def test_whole_numbers_that_no_float_holds_are_refused(key: str) -> None:
    huge = "1" + 400 * "0"
    value = {
        "limits": f"[0, {huge}]",
        "calibration": f"{{ {SOUND}[[{huge}, 0], [0, 1]] }}",
    }.get(key, huge)
    text = BENCH.format(SOUND + PAIR)
    text = text[: text.index("calibration")] + f"{key} = {value}\n"
    with pytest.raises(jr.errors.BenchError, match=r"expected"):
        parse_bench(text)


@pytest.mark.parametrize("u_true", [None, 0.3])
@pytest.mark.parametrize("u_common", [0.0, 0.4])
def test_what_a_fit_leaves_to_a_budget(u_true: float | None, u_common: float) -> None:
    """Against ordinary least squares by hand. What the scatter tells has the marks' degrees of
    freedom; an error that all marks share has infinitely many (Welch and Satterthwaite)."""
    x = np.array([0.0, 40.0, 90.0, 130.0, 200.0])
    y = 2 * x + 1 + np.array([0.1, -0.2, 0.15, -0.05, 0.1])
    u = None if u_true is None else np.full(5, u_true)
    channel = jr.Channel("c", jr.Counts(8) >> jr.PassThrough("mm"), 1)
    marks = jr.Marks(raw=x, true=y, u_true=u, u_common=u_common)
    left = jr.calibrate(channel, marks, "line").calibrated.calibration
    assert isinstance(left, jr.FitCovariance)
    columns = np.stack([x, np.ones(5)], axis=1)
    residuals = y - columns @ np.linalg.lstsq(columns, y)[0]
    scatter = math.sqrt(float(residuals @ residuals) / 3)
    size = scatter if u_true is None else u_true
    own = size**2 * np.linalg.inv(columns.T @ columns)
    shared = np.diag([0.0, u_common**2])
    assert np.array(left.covariance) == pytest.approx(own + shared, rel=1e-6, abs=1e-12)
    if u_true is not None:
        assert (left.left, left.dof) == (0.0, math.inf)
        return
    assert left.left == pytest.approx(scatter)
    at = np.array([float(np.median(x)), 1.0])
    part = float(at @ own @ at)
    assert left.dof == pytest.approx(3 * ((part + u_common**2) / part) ** 2)
    half_width = student.ppf(0.975, left.dof) * math.sqrt(part + u_common**2)
    assert jr.fit(marks, "line").interval(90.0)[0] == pytest.approx(half_width, rel=1e-6)


def test_degrees_of_a_polynomial() -> None:
    """From 1 to 6, as many as asked for; fewer marks than coefficients are too few."""
    x = np.arange(9.0)
    marks = np.stack([x, 1 + x - 0.1 * x**2 + 0.01 * np.cos(7 * x)], axis=1)
    for degree in range(1, 7):
        found = jr.fit(marks, "polynomial", degree=degree)
        assert len(found.parameters) == degree + 1
        fitted = np.polynomial.Polynomial.fit(x, marks[:, 1], degree)
        assert found.law(x) == pytest.approx(fitted(x), abs=1e-9)
    for degree in (0, 7, -1):
        with pytest.raises(jr.JetRulerError, match=r"degree: expected .*1 to 6"):
            jr.fit(marks, "polynomial", degree=degree)


@pytest.mark.parametrize(("law", "truth", "better"), [
    ("offset", lambda x: 1.1 * x + 2, "a line"),
    ("line", lambda x: 1.1 * x + 0.05 * x**2, "a polynomial"),
    ("offset", lambda x: x + 2, None),
    ("line", lambda x: 1.1 * x + 2, None),
])  # fmt: skip
def test_a_richer_law_is_named_where_it_earns_its_parameters(
    law: str, truth: Any, better: str | None
) -> None:
    x = np.linspace(0, 20, 9)
    noise = 0.01 * np.random.RandomState(2).standard_normal(9)
    found = jr.fit(np.stack([x, truth(x) + noise], axis=1), law)
    notes = " ".join(str(line) for line in found.content)
    assert (better is not None) == ("fits better" in notes), notes
    assert better is None or re.search(rf"{better}( of degree 2)? fits better", notes)


@pytest.mark.parametrize("u_true", [None, 1.5])
def test_uncertain_raw_values_count_through_the_slope(u_true: float | None) -> None:
    """u² = u(true)² + (slope · u(raw))², at each mark where the slope differs."""
    x = np.linspace(0, 30, 7)
    y = 2 * x + 0.1 * x**2 + 0.3 * np.random.RandomState(1).standard_normal(7)
    u = None if u_true is None else np.full(7, u_true)
    found = jr.fit(jr.Marks(raw=x, true=y, u_true=u, u_raw=np.full(7, 0.5)), "polynomial", degree=2)
    effective = np.hypot(u_true or 0.0, 0.5 * found.law.slope(x))
    wanted = jr.fit(jr.Marks(raw=x, true=y, u_true=effective), "polynomial", degree=2)
    assert found.law(x) == pytest.approx(wanted.law(x), rel=1e-3)
    assert found.interval(x) == pytest.approx(wanted.interval(x), rel=1e-3)


@pytest.mark.parametrize(("bottom", "turns"), [(5.0, True), (0.5, True), (-3.0, False)])
def test_a_curve_that_turns_between_its_marks_says_where(bottom: float, turns: bool) -> None:
    x = np.linspace(0, 10, 9)
    found = jr.fit(np.stack([x, (x - bottom) ** 2], axis=1), "polynomial", degree=2)
    text = " ".join(found.notes)
    assert (f"it turns back at x = {bottom:g}, between the marks" in text) == turns
    assert ("turns back" in text) == turns


@pytest.mark.parametrize("n", [6, 7])
@pytest.mark.parametrize("degree", [1, 2])
@pytest.mark.parametrize(("share", "out"), [(0.99, False), (1.01, True)])
def test_a_mark_is_an_outlier_beyond_what_the_others_predict_at_999(
    n: int, degree: int, share: float, out: bool
) -> None:
    """The prediction interval of a fit to the others, s · t · √(1 + x0ᵀ (XᵀX)⁻¹ x0)."""
    x = np.arange(n) * 1.0
    y = 2 + 3 * x + 0.1 * (x * (n - x)) * (degree - 1) + np.cos(2.6 * x)
    for at in range(n):
        others = np.arange(n) != at
        coefficients = np.polyfit(x[others], y[others], degree)
        left = y[others] - np.polyval(coefficients, x[others])
        spare = n - 2 - degree
        design = np.vander(x[others], degree + 1)
        row = np.vander(x[at : at + 1], degree + 1)[0]
        reach = math.sqrt(1 + row @ np.linalg.inv(design.T @ design) @ row)
        limit = student.ppf(0.9995, spare) * math.sqrt(np.sum(left**2) / spare) * reach
        moved = y.copy()
        moved[at] = np.polyval(coefficients, x[at]) + share * limit
        found = jr.fit(marks(x, moved), "polynomial", degree=degree, robust=True)
        assert found.outliers == ((at,) if out else ())


@pytest.mark.parametrize("n", [5, 8])
@pytest.mark.parametrize(("share", "out"), [(0.99, False), (1.01, True)])
def test_a_mark_is_an_outlier_beyond_its_uncertainty(n: int, share: float, out: bool) -> None:
    """A line, and one mark beside it: |e| / (u √(1 − h)), which n sound marks exceed in one case
    of a hundred."""
    x, u = np.arange(n) ** 1.5, 0.2
    spread = np.sum((x - x.mean()) ** 2)
    for at in range(n):
        leverage = 1 / n + (x[at] - x.mean()) ** 2 / spread
        y = 1 - 2 * x
        y[at] += share * u * norm.isf(0.01 / (2 * n)) / math.sqrt(1 - leverage)
        assert jr.fit(marks(x, y, u), robust=True).outliers == ((at,) if out else ())


@pytest.mark.parametrize("u", [None, 1.3], ids=["scatter", "u_true"])
@pytest.mark.parametrize("seed", range(12))
def test_a_richer_law_has_to_gain_more_than_chance_would(u: float | None, seed: int) -> None:
    """The extra sum of squares: F by its own errors, chi-square by known uncertainties."""
    random, x = np.random.RandomState(seed), np.linspace(0, 10, 9)
    y = 3 * x + 0.15 * seed / 12 * x**2 + random.standard_normal(9)
    fits = [jr.fit(marks(x, y, u), "polynomial", degree=degree) for degree in (1, 3)]
    squares = [
        float(np.sum((y - np.polyval(np.polyfit(x, y, degree), x)) ** 2)) for degree in (1, 3)
    ]
    gained = squares[0] - squares[1]
    by_scatter = fisher.sf(gained / 2 / (squares[1] / 5), 2, 5)
    chance = by_scatter if u is None else chi2.sf(gained / u**2, 2)
    better = fits[1].rms_left_out < fits[0].rms_left_out
    assert not predicts_better(fits[0], fits[1], 0.99 * chance)
    assert predicts_better(fits[0], fits[1], 1.01 * chance) == better


@pytest.mark.parametrize("spare", range(1, 7))
@pytest.mark.parametrize(("share", "widened"), [(0.97, True), (1.03, False)])
def test_uncertainties_are_doubted_the_sooner_the_fewer_spare_marks_there_are(
    spare: int, share: float, widened: bool
) -> None:
    """At 50 % for up to two spare marks, a quarter of it for each more, and at least 5 %."""
    chance = max(0.5 * 0.25 ** max(spare - 2, 0), 0.05)
    x = np.arange(spare + 2.0)
    y = np.where(x % 2 == 0, 1.0, -1.0)
    left = y - np.polyval(np.polyfit(x, y, 1), x)
    u = math.sqrt(float(np.sum(left**2)) / chi2.isf(share * chance, spare))
    gain = jr.fit(marks(x, y, u)).parameters[0]
    slope = u / math.sqrt(np.sum((x - x.mean()) ** 2))
    scatter = math.sqrt(float(np.sum(left**2)) / spare) / u
    assert gain.uncertainty == pytest.approx(slope * (scatter if widened else 1), rel=1e-9)
