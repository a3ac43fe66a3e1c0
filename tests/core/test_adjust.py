"""Parameters found from marks while all others stay, and marks that are only looked at: on boards
of every kind, against channels whose truth is known."""

from __future__ import annotations

import dataclasses
import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import jetruler as jr
from jetruler.benchfile.load import parse_bench
from jetruler.errors import JetRulerError, MarksError, ParameterError
from tests.conftest import Cli
from tests.helpers.draws import drawn_through
from tests.helpers.sizes import few, soak

BENCH = """
[converter]
bits = 12
vref = "3.3 V ± 1 %"
[channel.tap]
column = "a"
[channel.rail]
column = "b"
laws = [{ law = "attenuator", upper = "33 kohm ± 1 %", lower = "10 kohm ± 1 %" }]
limits = [0, 12]
decimals = 2
[channel.bean]
column = "c"
laws = [
  { law = "divider", known = "4k7 ± 1 %" },
  { law = "beta", r0 = "100 kohm ± 3 %", beta = 3950 },
  { law = "clamp", low = 0, high = 250 },
]
[channel.knob]
column = "d"
laws = [{ law = "line", marks = [[198, 0], [3904, 100]], unit = "%" }]
[channel.cell]
column = "e"
converter = { bits = 24, signed = true, vref = 2.5 }
laws = [
  { law = "amplifier", gain = 128 },
  { law = "line", gain = 50000, offset = -3, unit = "g" },
]
[channel.tank]
column = "f"
input = { unit = "V", range = [0, 10] }
laws = [{ law = "polynomial", coefficients = [1, 5, 0.25], unit = "cm" }, { law = "whole" }]
[channel.zone]
column = "g"
laws = [
  { law = "line", gain = 0.1 },
  { law = "zones", edges = [50], values = ["low", "high"] },
]
"""


@pytest.fixture
def bench() -> jr.Bench:
    return parse_bench(BENCH)


#: Channel, free parameters, their truth, raw values of the marks, unit that the marks are in.
FOUND = [
    ("tap", ["vref"], [3.271], [3000], "V"),
    ("tap", ["vref"], [3.271], [500, 3000, 4000], "mV"),
    ("rail", ["upper"], [33410.0], [3000], "V"),
    ("rail", ["vref"], [3.35], [3000, 3400], "V"),
    ("rail", ["attenuator.lower", "vref"], None, [3000, 3400], "V"),
    ("bean", ["known"], [4712.0], [1880], "ohm"),
    ("bean", ["known"], [4712.0], [1880], "degF"),
    ("bean", ["r0", "beta"], [98000.0, 3970.0], [600, 1880, 3500], "degC"),
    ("bean", ["beta.t0"], [298.9], [1880], "K"),
    ("knob", ["marks[1][2]", "marks[2][2]"], [0.7, 99.1], [500, 3500], "%"),
    ("cell", ["line.offset"], [-2.2], [1_000_000], "g"),
    ("cell", ["line.gain", "line.offset"], [50_300.0, -2.2], [-50_000, 1_000_000], "kg"),
    ("tank", ["coefficients[1]", "coefficients[3]"], [1.4, 0.27], [2.0, 9.0], "cm"),
]


@pytest.mark.parametrize(("name", "free", "truth", "raw", "unit"), FOUND)
def test_the_truth_is_found(
    bench: jr.Bench,
    name: str,
    free: list[str],
    truth: list[float] | None,
    raw: list[float],
    unit: str,
) -> None:
    channel = bench[name]
    marks = jr.Marks(np.array(raw, float), np.ones(len(raw)), true_unit=unit)
    if truth is None:  # the two only scale the result, together
        with pytest.raises(MarksError, match="cannot distinguish them"):
            jr.adjust(channel, marks, free)
        return
    laws = list(channel.chain.laws)
    for path, value in zip(free, truth, strict=True):
        of, _, short = path.rpartition(".")
        field, *inside = short.replace("]", "").split("[")
        i = next(
            i
            for i, law in enumerate(laws)
            if of in ("", law.name) and field in {f.name for f in dataclasses.fields(law)}  # type: ignore[arg-type]
        )
        laws[i] = dataclasses.replace(
            laws[i],
            **{field: changed(getattr(laws[i], field), inside, value)},  # type: ignore[type-var]
        )
    if name == "bean":
        laws = laws[:-1]  # a clamp moves nothing between its ends
    if name == "tank":
        laws = laws[:-1]
    if unit == "ohm":
        laws = laws[:2]
    true = jr.Ruler(tuple(laws)) >> jr.To(unit)
    marks = dataclasses.replace(marks, true=np.asarray(true(marks.raw)))
    found = jr.adjust(channel, marks, free)
    assert [p.value for p in found.parameters] == pytest.approx(truth, rel=1e-9)
    assert np.abs(found.error).max() <= 1e-9 * np.abs(found.marks.true).max()
    assert found.dof == len(raw) - len(free)
    # All that was not free stayed, and the channel reads as the marks say.
    shaped = found.adjusted.chain(np.asarray(raw, float))
    if unit != "ohm" and name != "tank":
        assert shaped == pytest.approx(found.marks.true, rel=1e-8)


def changed(old: Any, inside: list[str], value: float) -> Any:
    if not inside:
        return value
    parts = list(old)
    parts[int(inside[0]) - 1] = changed(parts[int(inside[0]) - 1], inside[1:], value)
    return tuple(parts)


@soak
@few
@pytest.mark.parametrize("common", [0.0, 0.3])
@pytest.mark.parametrize("known", [True, False])
def test_intervals_hold_the_truth(known: bool, common: float) -> None:
    channel = jr.Channel("c", jr.Counts(12) >> jr.Line(gain=0.1, offset=1.0), "c")
    random, held = np.random.RandomState(5), 0
    raw = np.linspace(100, 4000, 6)
    for _ in range(400):
        true = 0.1 * raw + 2.0 + 0.2 * random.standard_normal(6) + common * random.standard_normal()
        u = np.full(6, 0.2) if known else None
        found = jr.adjust(channel, jr.Marks(raw, true, u, u_common=common), ["offset"])
        (offset,) = found.parameters
        held += abs(offset.value - 2.0) <= offset.half_width
    assert 0.92 <= held / 400 <= 0.99


REFUSED: list[tuple[str, list[str], str, str]] = [
    ("bean", ["vref"], "1880=120", "the reference cancels"),
    ("tap", ["vrefs"], "3000=2", "did you mean 'vref'"),
    ("tap", [], "3000=2", "one or more names"),
    ("tap", ["bits"], "3000=2", "a number among the parameters"),
    ("tap", ["gain_error"], "3000=2", "a number among the parameters"),
    ("rail", ["lower", "upper"], "3000=12", "marks at 2 different raw values or more, found 1"),
    ("cell", ["gain"], "1000=1", "amplifier.gain or line.gain"),
    ("tap", ["vref"], "3000=2 bar", "behind its raw values tap has V"),
    ("bean", ["known"], "9 V=20", "this channel has"),
    ("bean", ["known"], "2 kohm=120", "between the marks' raw and true values"),
    ("cell", ["offset"], "1000=1", "amplifier.offset or line.offset"),
    ("cell", ["line.offset"], "99999999=1", "no value at one of the marks"),
    ("tap", ["vref"], "0=1", "do not depend on it"),
    ("tap", ["vref"], "3000=-2", "describe none"),
]


@pytest.mark.parametrize(("name", "free", "mark", "says"), REFUSED)
def test_one_sentence(
    cli: Cli, home: Path, name: str, free: list[str], mark: str, says: str
) -> None:
    (home / "b.toml").write_text(BENCH)
    options = [part for one in free for part in ("--free", one)]
    if not free:
        with pytest.raises(ParameterError, match=says):
            jr.adjust(parse_bench(BENCH)[name], [(3000, 2)], [])
        return
    done = cli("fit", name, "--mark", mark, *options, "--write", "-b", "b.toml")
    assert done.returncode == 2
    assert says in done.stderr
    assert done.stderr.count("\n") == 1
    assert (home / "b.toml").read_text() == BENCH


def test_a_meter_corrects_the_reference(cli: Cli, home: Path) -> None:
    """In the tool: one mark in volts, into the converter that others share."""
    (home / "b.toml").write_text(BENCH)
    mark = ("--mark", "2000=1.62 V", "--free", "vref", "--u-common", "2 mV")
    shown = cli("fit", "tap", *mark, "-b", "b.toml")
    assert "vref = (3.3170 ± 0.0080) V (95 %), was 3.3 V" in shown.stdout
    assert "none is left to check it" in shown.stdout
    done = cli("fit", "tap", *mark, "--write", "-b", "b.toml")
    assert '- vref = "3.3 V ± 1 %"' in done.stdout
    assert '+ vref = "3.31695 V ± 0.00409 V (k=1)"' in done.stdout
    assert "shared with rail: their values change too" in done.stdout
    now = jr.load_bench(home / "b.toml")
    assert now["tap"].ruler(2000) == pytest.approx(1.62, abs=1e-8)
    assert (home / "b.toml").read_text().count("\n") == BENCH.count("\n")
    found = json.loads(cli("fit", "tap", *mark, "--json", "-b", "b.toml").stdout)
    assert found["parameters"][0]["before"] == pytest.approx(3.31695)
    assert cli("fit", "tap", *mark, "--robust", "-b", "b.toml").returncode == 2


def test_several_parameters_are_written_where_they_stand(cli: Cli, home: Path) -> None:
    done = cli("fit", "bean", "--marks", "bath.csv", "--free", "r0", "--free", "beta", "--write")
    assert done.returncode == 0, done.stderr
    bean = jr.load_bench(home / "bench.toml")["bean"]
    marks = jr.read_marks(home / "bath.csv")
    assert np.asarray(bean.chain(marks.raw)) == pytest.approx(marks.true, abs=0.15)
    rows = {row.source: row.standard for row in jr.budget(bean, 1880).rows}
    assert rows["r0 of beta"] == pytest.approx(151, rel=0.01)
    assert "# a" not in done.stdout
    text = (home / "bench.toml").read_text()
    assert 't0 = "25 degC" }' in text  # the rest of the line is as it was


@pytest.mark.parametrize(("name", "free", "mark"), [
    ("tap", "vref", "3000=2.43 V"),
    ("rail", "lower", "3000=10.5"),
    ("knob", "marks[2][2]", "3500=88"),
    ("cell", "line.offset", "1000000=111"),
    ("cell", "adc.vref", "1000000=120"),
    ("tank", "coefficients[1]", "2.0=13"),
    ("tank", "coefficients[2]", "2.0 V=13 cm"),
    ("zone", "gain", "300=31"),
])  # fmt: skip
def test_what_is_written_reads_as_the_mark_says(
    cli: Cli, home: Path, name: str, free: str, mark: str
) -> None:
    """Of converters of their own, inputs that are no counts, rounded results, zones."""
    (home / "b.toml").write_text(BENCH)
    done = cli("fit", name, "--mark", mark, "--free", free, "--write", "-b", "b.toml")
    assert done.returncode == 0, done.stderr
    again = cli("compare", name, "--mark", mark, "--within", "0.001", "-b", "b.toml")
    assert f"{name} is within 0.001" in again.stdout
    same = [
        a == b
        for a, b in zip(BENCH.split("\n"), (home / "b.toml").read_text().split("\n"), strict=True)
    ]
    assert same.count(False) == 1  # one line was changed


SPOTS: list[tuple[str, tuple[str, ...], str, bool | None]] = [
    ("rail", ("3000=10.4",), "rail is within 0.05 V at the mark: off by −0.0044 V", True),
    ("rail", ("3000=10.5",), "rail is not within 0.05 V at the mark: off by −0.104 V", False),
    ("rail", ("3000=10.4", "100=0.4"), "not within 0.05 V at 1 of 2 marks", False),
    ("rail", ("3000=10400 mV", "100=346 mV"), "within 0.05 V at all 2 marks", True),
    ("rail", ("2.4 V=10.32 V",), "within 0.05 V at the mark: off by 0 V", True),
    ("tank", ("2.01 V=12.06 cm",), "tank is within 0.05 cm at the mark: off by", True),
    ("cell", ("1000000=0.113 kg",), "cell is not within 0.05 g", False),
]


@pytest.mark.parametrize(("name", "marks", "says", "within"), SPOTS)
def test_spot_checks(
    cli: Cli, home: Path, name: str, marks: tuple[str, ...], says: str, within: bool | None
) -> None:
    (home / "b.toml").write_text(BENCH)
    options = [part for mark in marks for part in ("--mark", mark)]
    done = cli("compare", name, *options, "--within", "0.05", "-b", "b.toml")
    assert done.returncode == 0, done.stderr
    assert says in done.stdout
    assert ("one point cannot separate" in done.stdout) == (len(marks) == 1)
    found = json.loads(
        cli("compare", name, *options, "--within", "0.05", "--json", "-b", "b.toml").stdout
    )
    assert found["is_within"] is within
    assert len(found["points"]) == len(marks)
    assert (home / "b.toml").read_text() == BENCH


def test_a_saturated_mark_is_named(bench: jr.Bench) -> None:
    found = jr.spot_check(bench["rail"], [(4095, 20.0), (3000, 10.4)], within=0.05)
    assert "mark 1 stands on a rail of the converter" in str(found)
    assert "not within 0.05 V at 1 of 2 marks" in found.headline
    assert "the limits reach from 0 to 12 V" in found.untested


def test_a_truth_that_is_not_known_well_enough(bench: jr.Bench) -> None:
    marks = jr.Marks(np.array([3000.0]), np.array([10.37]), u_common=0.03, true_unit="V")
    found = jr.spot_check(bench["rail"], marks, within=0.05)
    assert found.is_within is None
    assert "off by 0.0256 V, and the true value has an uncertainty of 0.0588 V" in found.headline


def test_three_marks_are_compared_too(cli: Cli) -> None:
    done = cli("compare", "bean", "--marks", "bath.csv", "--within", "1")
    assert "bean is not within 1 °C at 2 of 5 marks: the largest error is −1.53 °C" in done.stdout
    assert "bean − the marks, 5 pairs" in done.stdout
    found = json.loads(cli("compare", "bean", "--marks", "bath.csv", "--json").stdout)
    assert {"points", "verdict", "correction"} <= found.keys()


#: Columns of a marks file, what a row of it means (raw, true, u_true, u_raw, u_common, unused).
COLUMNS: list[tuple[str, str, Any]] = [
    ("raw,true", "100,5", (100, 5, None, None, 0, ())),
    ("true,raw,u_raw", "5,100,2", (100, 5, None, 2, 0, ())),
    ("raw (V),true (degC),u_true (K),u_raw (mV)", "1,25,0.1,3", (1, 25, 0.1, 0.003, 0, ())),
    ("raw,true (degC),u_common (degF)", "100,5,0.9", (100, 5, None, None, 0.5, ())),
    ("raw,true,note,by", "100,5,ok,me", (100, 5, None, None, 0, ("note", "by"))),
    ("raw,true,unit", "100,5,V", (100, 5, None, None, 0, ("unit",))),
    ("raw,true,u", "100,5,0.1", "expected the uncertainties u_true, u_raw or u_common"),
    ("raw,true,U (k=2)", "100,5,0.1", "found the column 'U (k=2)'"),
    ("raw,true,u_ref", "100,5,0.1", "found the column 'u_ref'"),
    ("raw,true,u_common", "100,5,0.1\n200,6,0.2", "u_common: expected one number for all marks"),
    ("raw,true,u_raw", "100,5,-1", "u_raw: expected a number above 0"),
    ("raw (V),true,u_raw (kohm)", "1,5,1", "u_raw:"),
]


@pytest.mark.parametrize(("heading", "row", "means"), COLUMNS)
def test_columns_of_a_marks_file(tmp_path: Path, heading: str, row: str, means: Any) -> None:
    """Each is used, named as not used, or refused by name."""
    path = tmp_path / "m.csv"
    path.write_text(f"{heading}\n{row}\n")
    if isinstance(means, str):
        with pytest.raises(MarksError) as caught:
            jr.read_marks(path)
        assert means in str(caught.value)
        return
    marks = jr.read_marks(path)
    raw, true, *u, common, unused = means
    assert (marks.raw[0], marks.true[0], marks.unused) == (raw, true, unused)
    for found, expected in zip((marks.u_true, marks.u_raw), u, strict=True):
        assert found is None if expected is None else found == pytest.approx([expected])
    assert marks.u_common == pytest.approx(common)
    if unused and not isinstance(means, str):
        both = marks.together(dataclasses.replace(marks, raw=marks.raw + 1, true=marks.true + 1))
        assert any(f"not used: {', '.join(unused)}" in note for note in jr.fit(both).notes)


@soak
@pytest.mark.parametrize("n", [6, 30, 100])
@pytest.mark.parametrize("known", [True, False])
def test_an_error_that_all_marks_share(n: int, known: bool) -> None:
    """One thermometer for all marks: the 95 % intervals hold the truth when that is stated."""
    random, held = np.random.RandomState(n), [0, 0]
    x = np.linspace(100, 4000, n)
    for _ in range(400):
        y = 0.05 * x + 3 + 0.5 * random.standard_normal(n) + 0.8 * random.standard_normal()
        found = jr.fit(jr.Marks(x, y, np.full(n, 0.5) if known else None, u_common=0.8))
        at = float(random.uniform(100, 4000))
        held[0] += abs(float(found.law(at)) - (0.05 * at + 3)) <= found.interval(at)[0]
        held[1] += abs(found.parameters[1].value - 3) <= found.parameters[1].half_width
    assert all(0.92 <= part / 400 <= 0.98 for part in held)
    assert any("all marks may share an error of 1.57" in note for note in found.notes)


@soak
def test_errors_of_both_sides() -> None:
    """u_raw counts through the slope: intervals hold where the raw values are what is noisy."""
    random, held = np.random.RandomState(8), 0
    x = np.linspace(100, 4000, 8)
    for _ in range(400):
        raw = x + 20 * random.standard_normal(8)
        true = 0.05 * x + 3 + 0.4 * random.standard_normal(8)
        found = jr.fit(jr.Marks(raw, true, np.full(8, 0.4), u_raw=np.full(8, 20.0)))
        at = float(random.uniform(100, 4000))
        held += abs(float(found.law(at)) - (0.05 * at + 3)) <= found.interval(at)[0]
    assert 0.92 <= held / 400 <= 0.98
    assert "u_raw counts through the slope of the law" in found.notes


def test_a_common_error_reaches_the_budget(cli: Cli, home: Path) -> None:
    cli("fit", "bean", "--marks", "bath.csv", "--u-common", "0.3 K", "--write")
    bean = jr.load_bench(home / "bench.toml")["bean"]
    rows = {row.source: float(row.effect) for row in jr.budget(bean, 1880).rows}
    assert rows["fit of beta"] == pytest.approx(0.3, rel=0.1)


#: What a converter's datasheet says in parts, and pairs of parameters that are off together.
PARTS = """
[converter]
bits = 12
vref = "3.3 V ± 1 %"
gain_error = "0.5 %"
offset_error = 3
inl = 2
[channel.bean]
column = "a"
laws = [{ law = "divider", known = "4k7" }, { law = "beta", r0 = "100 kohm", beta = 3950 }]
[channel.rail]
column = "b"
laws = [{ law = "attenuator", upper = "33 kohm ± 1 %", lower = "10 kohm ± 1 %" }]
correlated = [{ parameters = ["upper", "lower"], r = 0.9 }]
[channel.pin]
column = "b"
laws = [{ law = "divider", known = "10 kohm ± 1 %", supply = "3.3 V ± 1 %" }]
correlated = [{ parameters = ["vref", "supply"] }]
"""


@pytest.mark.parametrize(("name", "count"), [("bean", 1880), ("rail", 3000), ("pin", 2000)])
def test_parts_of_a_converter_and_correlations_against_own_draws(name: str, count: int) -> None:
    channel = parse_bench(PARTS)[name]
    budget, run = jr.budget(channel, count), jr.simulate(channel, count, draws=60_000)
    random = np.random.RandomState(1)
    n = 200_000

    def even(half: float) -> Any:
        return random.uniform(-half, half, n)

    raw = count + even(0.5) + even(3) + even(2) + count * even(0.005)
    own = drawn_through(name, raw, even, random)
    for found in (budget.combined, run.standard):
        assert found == pytest.approx(float(np.std(own)), rel=0.03)
    sources = [row.source for row in budget.rows]
    assert {"converter offset error", "converter gain error", "converter INL"} <= set(sources)
    effects = {row.source: float(row.effect) for row in budget.rows}
    if name == "bean":  # a reference cancels where the divider is fed from it, a gain error not
        assert effects["vref of adc"] == 0
        assert effects["converter gain error"] > 0.2


@pytest.mark.parametrize(("listed", "says"), [
    ('[{ parameters = ["upper"] }]', "two or more different names"),
    ('[{ parameters = ["upper", "gain"] }]', "a parameter that has a tolerance"),
    ('[{ parameters = ["upper", "lower"], r = 2 }]', "from -1 to 1"),
])  # fmt: skip
def test_correlations_that_make_no_sense(listed: str, says: str) -> None:
    text = PARTS.replace('[{ parameters = ["upper", "lower"], r = 0.9 }]', listed)
    with pytest.raises(JetRulerError, match=says):
        parse_bench(text)


@pytest.mark.parametrize(("key", "value"), [("gain_error", '"-1 %"'), ("gain_error", "2"),
                                            ("inl", "-1"), ("offset_error", '"2 V"')])  # fmt: skip
def test_errors_of_a_converter_that_make_no_sense(key: str, value: str) -> None:
    text = f"[converter]\nbits = 12\nvref = 3\n{key} = {value}\n[channel.a]\ncolumn = 1\n"
    with pytest.raises(JetRulerError, match=rf"converter\.{key}: expected"):
        parse_bench(text)


def parameter(found: jr.results.Adjustment, name: str) -> Any:
    """That of the law behind the converter, as it was found."""
    return getattr(found.adjusted.chain.laws[1], name)


@pytest.mark.parametrize(("offset", "kept"), [(0.0, 0.5), (7.0, None)])
def test_a_tolerance_stays_what_it_was_where_a_mark_says_nothing_of_it(
    offset: float, kept: float | None
) -> None:
    """One mark without an uncertainty: 1 % of the resistor is 1 % of what it turns out to be, and
    a tolerance about 0 keeps its size."""
    known = jr.Toleranced(10_000, 100)
    ruler = jr.Adc(12, 3.3) >> jr.Divider(known, supply=3.3)
    found = parameter(jr.adjust(ruler, [(2048, 9_000.0)], "known"), "known")
    ratio = (2048 / 4095) / (1 - 2048 / 4095)
    assert float(found) == pytest.approx(9_000 / ratio, rel=1e-8)
    assert found.half_width == pytest.approx(0.01 * float(found), rel=1e-2)
    line = jr.Counts(8) >> jr.Line(1.0, jr.Toleranced(offset, 0.5))
    moved = parameter(jr.adjust(line, [(100, 103.0)], "offset"), "offset")
    assert float(moved) == pytest.approx(3.0)
    assert moved.half_width == pytest.approx(kept or 0.5 * 3 / 7, rel=1e-2)
