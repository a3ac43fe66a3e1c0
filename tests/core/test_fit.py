"""Fits: certified regressions, made-up truths inside stated intervals, and the way into a bench."""

from __future__ import annotations

import contextlib
import json
import os
import tomllib
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import jetruler as jr
from jetruler import Adc, Beta, Divider, JetRulerError, Law, Line, Marks, calibrate, fit
from jetruler.benchfile.models import build_law
from jetruler.core.laws import law_line
from jetruler.core.ruler.units import rounded, with_uncertainty
from jetruler.errors import MarksError
from tests.conftest import Cli
from tests.core.test_laws import TRUTH
from tests.helpers.sizes import few, sizes, thinned

# Certified regressions of a public statistical reference collection: parameters with their
# standard deviations, and the residual standard deviation.
STRAIGHT = """0.2,0.1 337.4,338.8 118.2,118.1 884.6,888.0 10.1,9.2 226.5,228.1 666.3,668.5
996.3,998.5 448.6,449.1 777.0,778.9 558.2,559.2 0.4,0.3 0.6,0.1 775.5,778.1
666.9,668.8 338.0,339.3 447.5,448.9 11.6,10.8 556.0,557.7 228.1,228.3 995.8,998.0
887.6,888.8 120.2,119.6 0.3,0.3 0.3,0.6 556.8,557.6 339.1,339.3 887.2,888.0
999.0,998.5 779.0,778.9 11.1,10.2 118.3,117.6 229.2,228.9 669.1,668.4 448.9,449.2
0.5,0.2"""
LOAD_CELL = """.11019 .21956 .32949 .43899 .54803 .65694 .76562 .87487 .98292 1.09146 1.20001
1.30822 1.41599 1.52399 1.63194 1.73947 1.84646 1.95392 2.06128 2.16844 .11052
.22018 .32939 .43886 .54798 .65739 .76596 .87474 .98300 1.09150 1.20004 1.30818
1.41613 1.52408 1.63159 1.73965 1.84696 1.95445 2.06177 2.16829"""
PARABOLA = (
    [0.673565789473684e-03, 0.732059160401003e-06, -0.316081871345029e-14],
    [0.107938612033077e-03, 0.157817399981659e-09, 0.486652849992036e-16],
)


def digits(found: float, certified: float) -> float:
    return float(-np.log10(max(abs(found - certified) / abs(certified), 1e-16)))


def test_line_to_the_certified_digits() -> None:
    found = fit([tuple(map(float, pair.split(","))) for pair in STRAIGHT.split()])
    gain, offset = found.parameters
    certified = [
        (gain.value, 1.00211681802045),
        (gain.uncertainty, 0.000429796848199937),
        (offset.value, -0.262323073774029),
        (offset.uncertainty, 0.232818234301152),
        (found.scatter, 0.884796396144373),
    ]
    assert min(digits(*pair) for pair in certified) > 10
    assert "raw 0.3 was noted 2 times, as 0.3 to 0.6: averaged" in found.notes


def test_parabola_to_the_certified_digits() -> None:
    y = np.array(LOAD_CELL.split(), dtype=np.float64)
    x = 150_000.0 * (np.arange(y.size) % 20 + 1)
    found = fit(np.stack([x, y], axis=1), "polynomial", degree=2)
    for p, value, u in zip(found.parameters, *PARABOLA, strict=True):
        assert digits(p.value, value) > 8, p.name
        assert digits(p.uncertainty, u) > 8, p.name
    assert digits(found.scatter, 0.205177424076185e-03) > 8


def test_fifth_degree_through_exact_points() -> None:
    x = np.arange(21.0)
    for truth in ([1.0] * 6, [10.0**-i for i in range(6)]):
        y = np.polynomial.polynomial.polyval(x, truth)
        found = fit(np.stack([x, y], axis=1), "polynomial", degree=5)
        assert [p.value for p in found.parameters] == pytest.approx(truth, rel=1e-8)


ADC = Adc(12) >> Divider(4700)
# Three points of a published table (10 kΩ, B25/85 = 3435 K), and two more to leave over.
NTC = {-20: 68237.0, 25: 10000.0, 85: 1452.0, 0: 27219.0, 50: 4161.0}


def test_three_table_points_are_met_exactly() -> None:
    points = [(NTC[t], t) for t in (-20, 25, 85)]
    found = fit(points, "steinhart-hart")
    assert np.max(np.abs(found.error)) < 1e-10
    rows = np.stack([np.log([r for r, _ in points]) ** i for i in (0, 1, 3)], axis=1)
    by_hand = np.linalg.solve(rows, [1 / (t + 273.15) for _, t in points])
    assert [p.value for p in found.parameters] == pytest.approx(by_hand.tolist(), rel=1e-9)
    assert np.isnan(found.parameters[0].uncertainty)
    assert "the fit needs every mark" in str(found)
    for celsius, ohms in NTC.items():
        assert found.ruler(ohms) == pytest.approx(celsius, abs=0.2)
    two = fit(points[1:], "steinhart-hart")
    assert "two marks tell two coefficients: c stays 0" in two.notes[0]


CASES: list[tuple[str, Any, np.ndarray[Any, Any], dict[str, Any]]] = [
    ("line", Line(0.05, -7.0), np.linspace(100, 4000, 6), {}),
    ("polynomial", jr.Polynomial((3.0, -0.4, 0.002)), np.linspace(0, 300, 9), {"degree": 2}),
    ("power", jr.PowerLaw(2500.0, -0.8), np.linspace(300, 3000, 8), {}),
    ("offset", Line(1.0, -0.6), np.linspace(20, 200, 5), {}),
    ("beta", Beta(100e3, 3950), np.geomspace(700, 90e3, 7), {}),
    ("steinhart-hart", jr.SteinhartHart(6.7e-4, 2.2e-4, 1e-7), np.geomspace(300, 1e5, 8), {}),
]


@few
@pytest.mark.parametrize(("law", "truth", "x", "more"), CASES, ids=[c[0] for c in CASES])
@pytest.mark.parametrize("given", [True, False], ids=["u given", "u learnt"])
@pytest.mark.parametrize("sets", sizes(60, 400))
def test_truth_is_inside_the_stated_intervals(
    law: str, truth: Any, x: Any, more: dict[str, Any], given: bool, sets: int
) -> None:
    """Seeded sets of noisy marks: 95 % of the 95 % intervals hold the truth, within three standard
    deviations of that fraction."""
    random = np.random.RandomState(5)
    true = truth(x)
    u = 0.002 * float(np.ptp(true)) * (1 + np.arange(x.size) % 3 if given else np.ones(x.size))
    middle = 0.5 * float(x[0] + x[-1])
    hits, inside = [], 0
    for _ in range(sets):
        noisy = true + u * random.standard_normal(x.size)
        columns = [x, noisy, u] if given else [x, noisy]
        found = fit(np.stack(columns, axis=1), law, **more)
        for i, p in enumerate(found.parameters):
            field = getattr(truth, p.name, None)
            value = truth.coefficients[i] if field is None else field
            hits.append(abs(p.value - value) <= p.half_width)
        read = np.asarray(found.ruler(np.array([middle])))
        inside += abs(read[0] - truth(middle)) <= found.interval(middle)[0]
    slack = 3 * np.sqrt(0.95 * 0.05 / sets)
    assert np.mean(hits) == pytest.approx(0.95, abs=slack)
    assert inside / sets == pytest.approx(0.95, abs=slack)


def test_left_out_errors_are_those_of_fits_without_the_mark() -> None:
    random = np.random.RandomState(2)
    x = np.linspace(0, 10, 7)
    marks = np.stack([x, 2 * x + 1 + random.standard_normal(7)], axis=1)
    found = fit(marks, "polynomial", degree=2)
    for i in range(7):
        rest = fit(np.delete(marks, i, axis=0), "polynomial", degree=2)
        assert found.left_out[i] == pytest.approx(rest.ruler(float(x[i])) - marks[i, 1], rel=1e-9)
    # A curve through every point looks perfect, and is not.
    exact = fit(marks, "polynomial", degree=6)
    assert exact.largest < 1e-9
    assert np.isnan(exact.rms_left_out)
    chosen = fit(marks, "polynomial")
    assert chosen.law.name == "line"
    assert "a line fits as well" in found.simpler
    table = fit(marks, "table")
    assert table.largest == 0
    assert table.rms_left_out > chosen.rms_left_out


@pytest.mark.parametrize("law", ["line", "beta", "steinhart-hart"])
def test_robust_names_the_outlier_and_does_not_bend(law: str) -> None:
    random = np.random.RandomState(3)
    raw = np.linspace(500, 3900, 8).round()
    chain = ADC >> Beta(100e3, 3950)
    true = raw * 0.05 if law == "line" else chain(raw)
    true = true + 0.01 * random.standard_normal(raw.size)
    clean = fit(np.stack([raw, true], axis=1), law, upstream=None if law == "line" else ADC)
    true[5] += 9.0
    marks = np.stack([raw, true], axis=1)
    bent = fit(marks, law, upstream=None if law == "line" else ADC)
    kept = fit(marks, law, upstream=None if law == "line" else ADC, robust=True)
    assert kept.outliers == (5,)
    assert kept.rms < 3 * clean.rms < 0.1 < bent.rms
    assert any("outlier: mark 6" in note for note in kept.notes)
    assert any("mark 6; a robust fit excludes it" in note for note in bent.notes)
    assert not clean.outliers


def test_marks_in_other_units_and_weights() -> None:
    bench = jr.load_bench(Path(jr.__file__).parent / "demo" / "bench.toml")
    truth = Beta(99e3, 3900)
    ohms = np.array([90e3, 20e3, 5e3, 1e3])
    marks = Marks(ohms / 1e3, truth(ohms) * 1.8 + 32, None, "kohm", "degF")
    found = calibrate(bench["bean"], marks)
    assert [p.value for p in found.fit.parameters] == pytest.approx([99e3, 3900], rel=1e-9)
    assert found.calibrated.ruler.inverse(100.0) < 4095
    # By hand: two marks of one raw value count by the square of their uncertainties.
    weighted = fit([(1, 1.0, 0.1), (1, 2.0, 0.2)], "offset")
    assert weighted.parameters[0].value == pytest.approx((1.0 / 0.01 + 2.0 / 0.04) / 125 - 1)
    assert "uncertainties say" in " ".join(weighted.notes)


SENTENCES = [
    ("bean", [(5000, 20)], {}, "outside the converter; its counts run from 0 to 4095"),
    ("bean", [(4095, 20)], {}, "the laws before have no value there (high_rail)"),
    ("bean", [(2000, 100), (2000, 101)], {}, "2 different raw values or more, found 1"),
    ("bean", [(2000, 100), (1000, 40)], {}, "the temperature rises; a thermistor's falls"),
    ("bean", Marks(np.ones(2), np.ones(2), None, "V"), {}, "raw is in V; this channel has count"),
    ("bean", Marks(np.ones(2), np.ones(2), None, None, "bar"), {}, "cannot be converted to °C"),
    ("damper", [(1, 2), (3, 4)], {"law": "beta"}, "no law of damper gives them"),
    ("damper", [(1, 2), (3, 4)], {"law": "curve"},
     "law: expected a law that can be fitted, found 'curve'"),
    ("damper", [(1, 2), (3, 4)], {"degree": 2}, "only a polynomial has one"),
    ("damper", [(1, 2), (3, 4), (9, 8)], {"robust": True},
     "expected 4 marks or more, to name an outlier"),
    ("damper", [(1, 2), (3, float("nan"))], {},
     "mark 2: true: expected a finite number, found nan"),
    ("damper", [(1, 2, 0), (3, 4, 1)], {}, "mark 1: u_true: expected a number above 0, found 0"),
    ("damper", [(1, 2), (3,)], {}, "pairs (raw, true) or triples"),
    ("damper", [(1, 5), (2, 5)], {}, "different true values"),
    ("damper", [(0, 5), (2, 6)], {"law": "power"}, "above x0 = 0"),
]  # fmt: skip


@pytest.mark.parametrize(("channel", "marks", "more", "says"), SENTENCES)
def test_marks_that_give_no_law(channel: str, marks: Any, more: dict[str, Any], says: str) -> None:
    bench = jr.load_bench(Path(jr.__file__).parent / "demo" / "bench.toml")
    with pytest.raises(JetRulerError) as caught:
        calibrate(bench[channel], marks, **more)
    assert says in str(caught.value)


@pytest.mark.parametrize(("back", "refused"), [(4.9, False), (5.1, True)])
def test_a_thermistor_that_rises_by_a_twentieth_of_the_span_is_none(
    back: float, refused: bool
) -> None:
    marks = [(100, 100), (200, 60), (400, 40), (500, 40 + back), (900, 0)]
    with pytest.raises(MarksError, match="rises") if refused else contextlib.nullcontext():
        assert "a Beta law fits as well" in fit(marks, "steinhart-hart").simpler


def test_nearly_equal_ohms_are_singular() -> None:
    with pytest.raises(MarksError, match="cannot tell the parameters apart"):
        fit([(1000, 80), (1000.0000001, 79.99), (1000.0000002, 79.98)], "steinhart-hart")


def test_fit_in_the_tool(cli: Cli, home: Path) -> None:
    before = (home / "bench.toml").read_text()
    done = cli("fit", "bean", "--marks", "bath.csv", "--write")
    assert done.returncode == 0, done.stderr
    for says in ("r0 = (101540 ± 300) Ω", "beta = (3940.2 ± 2.9) K", "bath.csv line 5", "rms"):
        assert says in done.stdout
    assert "the limits are 0 to 260 °C: beyond the marks it extrapolates" in done.stdout
    line = '{ law = "beta", r0 = "100 kohm ± 3 %", beta = "3950 K ± 1 %", t0 = "25 degC" }'
    assert f'- {line}\n+ {{ law = "beta", r0 = 1015' in done.stdout
    after = (home / "bench.toml").read_text()
    new = ("r0 = 1015", "calibration = ")
    kept = [text for text in after.splitlines() if not any(part in text for part in new)]
    assert "\n".join(kept) + "\n" == before.replace(f"  {line},", f"  # was: {line}", 1)
    found = json.loads(cli("fit", "bean", "--marks", "bath.csv", "--json").stdout)
    assert found["rms_error"] == pytest.approx(0.05, abs=0.02)
    assert found["marks"][0]["error_before"] == pytest.approx(found["marks"][0]["error"], abs=1e-6)


@pytest.mark.parametrize("channel", thinned(["rail", "damper", "bean", "tray", "draught"], 2))
def test_corrections_are_written_joined_and_commented(cli: Cli, home: Path, channel: str) -> None:
    old = jr.load_bench(home / "bench.toml")
    for offset in (0.4, -0.3):
        now = jr.load_bench(home / "bench.toml")[channel]
        laws = [law for law in now.chain.laws if law.name not in ("zones", "clamp")]
        read = float(jr.Ruler(tuple(laws))(2300))
        mark = f"--mark=2300={read + offset!r}"
        done = cli("fit", channel, mark, "--correction", "--write")
        assert done.returncode == 0, done.stderr
        laws = [
            law
            for law in jr.load_bench(home / "bench.toml")[channel].chain.laws
            if law.name not in ("zones", "clamp")
        ]
        assert jr.Ruler(tuple(laws))(2300) == pytest.approx(read + offset, abs=1e-8)
    new = jr.load_bench(home / "bench.toml")
    assert len(new[channel].chain.laws) == len(old[channel].chain.laws) + 1
    others = set(old.channels) - {channel}
    assert all(new[name] == old[name] for name in others)


AWKWARD = """
[converter]
bits = 12
vref = 3.3
[channel.a]  # [channel.b] laws = [ 1 ]
column = "x" # a "quote
about = "laws = [ { [channel.a] } ]"
laws=[ { law = "line", gain = 2, unit = "]" }, # , not the end ]
  { law = "clamp", low = 0, high = 9 } ]
[channel."b"]
column = "y"
laws = [{ law = "table", points = [[0, 1], [3, 5]] }]
[channel.c]
column = "z"
[channel.d]
column = "t"
[[channel.d.laws]]
law = "line"
gain = 2
"""


def test_awkward_bench_files_keep_everything_else(tmp_path: Path) -> None:
    path = tmp_path / "bench.toml"
    path.write_text(AWKWARD.replace("\n", "\r\n"), newline="")
    for name, marks in (("a", [(0, 1), (3, 5)]), ("b", [(0, 1), (1, 2), (2, 9)])):
        found = calibrate(jr.load_bench(path)[name], marks)
        jr.write_calibration(str(path), found)
        assert jr.load_bench(path)[name].chain == found.calibrated.chain
    text = path.read_bytes().decode()
    assert text.count("\n") == text.count("\r\n")
    assert "# , not the end ]" in text
    assert '# was: { law = "line", gain = 2, unit = "]" }' in text
    found = calibrate(jr.load_bench(path)["c"], [(0, 1), (3, 5)])
    jr.write_calibration(str(path), found)
    counts = np.arange(4096)
    assert jr.load_bench(path)["c"].ruler(counts) == pytest.approx(found.calibrated.ruler(counts))
    text = path.read_bytes().decode()
    found = calibrate(jr.load_bench(path)["d"], [(0, 1), (3, 5)])
    with pytest.raises(JetRulerError, match=r"channel.d.laws is not written as a list"):
        jr.write_calibration(str(path), found)
    with pytest.raises(JetRulerError, match="it has changed since it was read"):
        jr.write_calibration(str(path), calibrate(jr.load_bench(path)["b"], [(0, 1), (1, 2)]), "x")
    assert path.read_bytes().decode() == text


@pytest.mark.skipif(os.geteuid() == 0, reason="root may write anything")
def test_read_only_bench_stays(cli: Cli, home: Path) -> None:
    (home / "bench.toml").chmod(0o444)
    done = cli("fit", "damper", "--mark", "0=0", "--mark", "9=9", "--write")
    assert done.returncode == 2
    assert "cannot be written: it is read-only" in done.stderr


@pytest.mark.parametrize("law", [law for law, *_ in TRUTH if law.name != "formula"], ids=repr)
def test_a_written_law_reads_back(law: Law) -> None:
    table = tomllib.loads(f"law = {law_line(law)}")["law"]
    assert law_line(build_law(table)) == law_line(law)  # to twelve digits
    assert build_law(table).takes == law.takes


MARK_FILES = [
    ("", "found nothing"),
    ("a,b\n1,2\n", "a header with the columns raw and true"),
    ("raw,true\n", "expected rows below the header, found none"),
    ("raw,true\n1,2\n3,x\n", "line 3: true: expected a number, found 'x'"),
    ("raw,true\n1\n", "line 2: true: expected a number, found ''"),
    ("raw,true (degC),u_true (bar)\n1,2,3\n", "u_true: bar cannot be converted to °C"),
]


@pytest.mark.parametrize(("text", "says"), MARK_FILES)
def test_mark_files_that_do_not_read(text: str, says: str, tmp_path: Path, cli: Cli) -> None:
    path = tmp_path / "marks.csv"
    path.write_text(text)
    done = cli("fit", "damper", "--marks", str(path))
    assert done.returncode == 2
    assert says in done.stderr
    assert done.stderr.count("\n") == 1


def test_mark_files_that_read(tmp_path: Path) -> None:
    path = tmp_path / "marks.csv"
    path.write_text("# noted\nnote;raw_V;u_true (K);true [°F]\n\nx;1,5;0,5;212\n")
    marks = jr.read_marks(path)
    assert (marks.raw_unit, marks.true_unit, marks.names) == ("V", "degF", ("marks.csv line 4",))
    assert (marks.raw[0], marks.true[0]) == (1.5, 212)
    assert marks.u_true is not None
    assert marks.u_true[0] == pytest.approx(0.9)


ROUNDED = [
    ((225.314, 2.5534), ("225.3", "2.6")),
    ((225.314, 0.0996), ("225.31", "0.10")),
    ((12345.6, 1234.0), ("12300", "1200")),
    ((-0.04, 0.13), ("−0.04", "0.13")),
    ((-0.004, 0.13), ("0.00", "0.13")),
    ((1.0, 0.0), ("1", "0")),
]


@pytest.mark.parametrize(("numbers", "texts"), ROUNDED)
def test_two_digits_of_uncertainty(numbers: tuple[float, float], texts: tuple[str, str]) -> None:
    assert rounded(*numbers) == texts


def test_with_unit_and_power() -> None:
    assert with_uncertainty(225.314, 2.5534, "degC") == "(225.3 ± 2.6) °C"
    assert with_uncertainty(6.7123e-4, 1.2e-8, "1/K") == "(6.71230 ± 0.00012)·1e−4 1/K"


def test_marks_on_a_rail_are_said(cli: Cli) -> None:
    """A saturated reading says only that the truth is that far or further."""
    marks = [f"--mark={m}" for m in ("0=0", "1000=25", "2000=51", "4095=100")]
    said = "--mark 0=0, --mark 4095=100 stand on a rail of the converter: perhaps saturated"
    assert said in cli("fit", "damper", *marks).stdout
    assert said in cli("compare", "damper", *marks).stdout
    assert "on a rail" not in cli("fit", "damper", *marks[1:3]).stdout


#: Laws of which every parameter is an amount: by which power of the raw's and the true's unit.
AMOUNTS: dict[str, tuple[dict[str, Any], list[tuple[int, int]]]] = {
    "line": ({}, [(-1, 1), (0, 1)]),
    "polynomial": ({"degree": 3}, [(0, 1), (-1, 1), (-2, 1), (-3, 1)]),
}


@pytest.mark.parametrize("robust", [False, True])
@pytest.mark.parametrize("law", AMOUNTS)
@pytest.mark.parametrize(("of_raw", "of_true"), [(0, -40), (0, 40), (-40, 0), (40, 0), (-40, -40)])
def test_a_fit_is_the_same_in_any_unit(law: str, of_raw: int, of_true: int, robust: bool) -> None:
    """Powers of two, which no float rounds: to the last digits, intervals and errors too."""
    x = np.linspace(200, 3900, 15)
    y = 5 + 0.02 * x + 3e-6 * x**2 + 0.1 * np.random.RandomState(2).standard_normal(15)
    more, powers = AMOUNTS[law]
    plain, scaled = (
        fit(Marks.of(list(zip(a * x, b * y, strict=True))), law, robust=robust, **more)
        for a, b in ((1.0, 1.0), (2.0**of_raw, 2.0**of_true))
    )
    for p, q, (raw, true) in zip(plain.parameters, scaled.parameters, powers, strict=True):
        times = 2.0 ** (raw * of_raw + true * of_true)
        assert q.value == pytest.approx(times * p.value, rel=1e-9)
        assert q.half_width == pytest.approx(times * p.half_width, rel=1e-9)
    assert scaled.error == pytest.approx(2.0**of_true * plain.error, rel=1e-6)
    assert scaled.scatter == pytest.approx(2.0**of_true * plain.scatter, rel=1e-9)
    assert (scaled.dof, scaled.outliers) == (plain.dof, plain.outliers)


@pytest.mark.parametrize("law", ["line", "table", "polynomial"])
def test_a_law_that_is_fitted_again_takes_what_it_took(law: str) -> None:
    like = {
        "line": jr.Line(2, 1, takes="V", unit="bar"),
        "table": jr.Table([(0, 0), (1, 5), (3, 9)], takes="V", unit="bar"),
        "polynomial": jr.Polynomial((1, 2), takes="V", unit="bar"),
    }[law]
    marks = Marks.of([(0.1, "0.2 bar"), (1.0, "2.1 bar"), (2.0, "3.8 bar")])
    found = fit(marks, law, like=like).law
    assert (found.takes, found.gives) == ("V", "bar")


def test_a_law_that_is_fitted_in_its_channel_keeps_what_is_not_fitted() -> None:
    channel = jr.Channel("t", Adc(12) >> Divider(4700) >> Beta(1e4, 3950, t0=323.15), 1)
    raw = np.array([500, 1500, 2500, 3500])
    found = calibrate(channel, np.stack([raw, channel.ruler(raw)], axis=1)).fit.law
    assert isinstance(found, Beta)
    assert (found.r0, found.beta, found.t0) == pytest.approx((1e4, 3950, 323.15))


@pytest.mark.parametrize(("counts", "named"), [(2.9, False), (3.1, True)])
def test_a_mark_is_named_beyond_three_counts(counts: float, named: bool) -> None:
    """Of 8 bits, through the slopes before and of the law, where all others are exact."""
    channel = jr.Channel("x", jr.Counts(8) >> Line(2) >> Line(3, takes=None), 1)
    raw = np.array([10, 50, 90, 130, 170, 210.0])
    true = 6 * raw + np.where(raw == 90, 6 * counts, 0)
    found = calibrate(channel, np.stack([raw, true], axis=1), robust=True)
    assert found.fit.outliers == ((2,) if named else ())


@pytest.mark.parametrize(
    ("law", "marks", "says"),
    [
        ("beta", [(1e9, -273.15), (1e4, 25), (2e3, 70)], r"mark 1 .*no beta gives that value"),
        ("power", [(1, 2), (2, 3), (3, -4)], r"mark 3 .*no power gives that value"),
        ("steinhart-hart", [(1e4, 25), (1e9, -273.15), (2e3, 70), (1e3, 90)], r"mark 2"),
    ],
)
def test_a_mark_that_no_law_gives_is_named(law: str, marks: Any, says: str) -> None:
    with pytest.raises(jr.errors.MarksError, match=says):
        jr.fit(marks, law)


@pytest.mark.parametrize("columns", [2, 3])
@pytest.mark.parametrize("many", [4, 5])
def test_marks_are_the_same_in_any_form(columns: int, many: int) -> None:
    """Rows, columns, arrays either way, names: raw, true, and perhaps their uncertainty."""
    random = np.random.RandomState(many)
    parts = [random.uniform(1, 9, many).tolist() for _ in range(columns)]
    rows = list(zip(*parts, strict=True))
    names = ("raw", "true", "u_true")[:columns]
    forms = [
        rows,
        [list(row) for row in rows],
        iter(rows),
        tuple(parts),
        tuple(map(np.array, parts)),
        parts,
        np.array(rows),
        np.array(parts),
        dict(zip(names, parts, strict=True)),
        [dict(zip(names, row, strict=True)) for row in rows],
    ]
    for form in forms:
        found = jr.Marks.of(form)
        assert found.raw.tolist() == parts[0], form
        assert found.true.tolist() == parts[1], form
        u = None if found.u_true is None else found.u_true.tolist()
        assert u == (parts[2] if columns == 3 else None), form


@pytest.mark.parametrize("columns", [2, 3])
@pytest.mark.parametrize("many", [2, 3])
def test_a_tuple_of_as_many_columns_as_marks_has_columns(columns: int, many: int) -> None:
    parts = [[10.0 * column + row for row in range(many)] for column in range(columns)]
    found = jr.Marks.of(tuple(parts))
    assert (found.raw.tolist(), found.true.tolist()) == (parts[0], parts[1])
    assert (found.u_true is None) == (columns == 2)
