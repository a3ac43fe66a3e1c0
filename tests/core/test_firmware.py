"""Small programs and their model: against Python itself, against the laws, against every choice."""

from __future__ import annotations

import ast
import math
import re
from fractions import Fraction
from itertools import pairwise
from typing import Any

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st
from scipy.optimize import linprog

import jetruler as jr
from jetruler import Bench, Channel, JetRulerError, demo
from jetruler.benchfile.load import parse_bench
from jetruler.core.firmware.bench_machines import machines_of
from jetruler.core.firmware.count_programs import flags_program, threshold
from jetruler.core.firmware.exported import prove
from jetruler.core.firmware.floats import float_program
from jetruler.core.firmware.forms import forms, simplest_between
from jetruler.core.firmware.knots import fewest_knots, least_knots
from jetruler.core.firmware.names import RESERVED, comment, plain_unit, safe_name
from jetruler.core.firmware.program import Program, ProgramModel, TooWideError, width_of
from jetruler.core.firmware.reference import ReferenceValues
from jetruler.core.firmware.selection import export, usual_scale
from jetruler.targets import c, python
from jetruler.targets import structured_text as structured
from jetruler.targets.python import imports
from tests.helpers.sizes import few, fewer, thinned

ADC = jr.Adc(bits=10, vref=3.3)

#: A ruler for every law that has a form of its own for floats.
RULERS = {
    "adc": jr.Ruler.of(ADC),
    "signed": jr.Ruler.of(jr.Adc(bits=10, vref=3.3, signed=True)),
    "line": ADC >> jr.Line(gain=-2.5, offset=7.0),
    "marks": jr.Counts(bits=10) >> jr.Line.through((198, 0), (904, 100)),
    "lower": ADC >> jr.Divider(known=4700, sensor="lower", supply=3.3),
    "upper": ADC >> jr.Divider(known=4700, sensor="upper"),
    "loaded": ADC >> jr.Divider(known=4700, sensor="lower", load=100e3),
    "attenuator": ADC >> jr.Attenuator(upper=33e3, lower=10e3),
    "shunt": ADC >> jr.Shunt(ohms=150),
    "amplifier": ADC >> jr.Amplifier(gain=-12.0, offset=1.5),
    "beta": ADC >> jr.Divider(known=4700) >> jr.Beta(r0=10e3, beta=3435, unit="degF"),
    "steinhart-hart": ADC >> jr.Divider(known=2200) >> jr.SteinhartHart(a=6.7e-4, b=2.2e-4, c=1e-7),
    "platinum": ADC >> jr.Divider(known=220, sensor="upper") >> jr.Platinum(),
    "table": jr.Counts(10) >> jr.Table(((20, 1), (300, 5), (900, 40)), takes="count"),
    "table held": jr.Counts(10) >> jr.Table(((20, 1), (300, 5), (900, 40)), ends="hold"),
    "table on": jr.Counts(10) >> jr.Table(((20, 1), (300, 5), (900, 40)), ends="extend"),
    "smooth": jr.Counts(10) >> jr.Table(((20, 1), (300, 5), (900, 40)), method="smooth"),
    "smooth on": jr.Counts(10)
    >> jr.Table(((20, 1), (300, 5), (900, 40)), method="smooth", ends="extend"),
    "polynomial": jr.Counts(bits=10) >> jr.Polynomial((1.0, -0.5, 2e-3), takes="count"),
    "power": ADC >> jr.PowerLaw(a=27.7, b=-1.2, x0=0.1, takes="V", unit="cm"),
    "formula": ADC >> jr.Formula("a * exp(x) + log(x + 1) ** 2 - sqrt(x)", a=2.0),
    "clamp": ADC >> jr.Clamp(0.5, 3.0),
    "limits": ADC >> jr.Limits(0.5, 3.0),
    "expect": ADC >> jr.Expect(0.5, 3.0),
    "dead-band": ADC >> jr.DeadBand(1.5, 1.8),
    "nearest": ADC >> jr.Line(gain=9) >> jr.Whole(),
    "down": ADC >> jr.Line(gain=-9) >> jr.Whole("down"),
    "up": ADC >> jr.Line(gain=-9) >> jr.Whole("up"),
    "toward zero": ADC >> jr.Line(gain=-9) >> jr.Whole("toward zero"),
    "magnitude": ADC >> jr.Line(gain=1, offset=-1.5) >> jr.Magnitude(),
    "pass-through": ADC >> jr.PassThrough("bar"),
    "zones": ADC >> jr.Zones((1.0, 2.0), (10.0, 20.0, 15.0)),
    "to": ADC >> jr.Divider(known=4700) >> jr.Beta(r0=10e3, beta=3435) >> jr.To("degF"),
}


@pytest.fixture(scope="module")
def roaster() -> Bench:
    return parse_bench(demo.read("bench.toml").decode())


def run_python(program: Program, counts: list[int]) -> list[Any]:
    """The Python export, as any interpreter runs it."""
    scope: dict[str, Any] = {}
    exec("\n".join([*imports([program]), *python.function(program)]), scope)
    return [scope[program.name](n) for n in counts]


@pytest.mark.parametrize("name", RULERS)
def test_the_formula_of_every_law(name: str) -> None:
    """The float program reads what the laws read, and has no value where they have none."""
    ruler = RULERS[name]
    program = float_program(ruler, "f", np.float64)
    assert isinstance(program, Program)
    assert ruler.converter is not None
    counts = np.arange(ruler.converter.lowest, ruler.converter.highest + 1)
    values = ruler(counts)
    assert np.allclose(
        ProgramModel(program, np.float64).run(counts), values, rtol=1e-12, equal_nan=True
    )
    got = run_python(program, counts.tolist())
    assert [y is None for y in got] == np.isnan(values).tolist()
    near = [(y, v) for y, v in zip(got, values.tolist(), strict=True) if y is not None]
    assert all(math.isclose(y, v, rel_tol=1e-9, abs_tol=1e-9) for y, v in near)
    assert all(line.count("(") == line.count(")") for line in c.function(program))


def test_laws_without_a_formula_become_tables_that_give_floats() -> None:
    turning = jr.SteinhartHart(a=1.1e-3, b=2.4e-4, c=-7e-8)  # a cubic that turns back
    ruler = ADC >> jr.Divider(known=1000) >> turning
    why = "steinhart-hart has no formula in floats"
    assert float_program(ruler, "f", np.float64) == why
    made = export(Channel("a", ruler, 1), "a", "float", within=1.0)
    assert made.proof.holds
    assert made.notes == (f"not the formula itself: {why}",)
    assert made.is_float
    scope: dict[str, Any] = {}
    exec(export(Channel("a", ruler, 1), "a", "float", 10, kind=np.float64).text("python"), scope)
    found = [scope["a"](n) for n in range(1024)]
    values = ruler(np.arange(1024))
    assert [y is None for y in found] == np.isnan(values).tolist()
    off = [abs(y - v) for y, v in zip(found, values.tolist(), strict=True) if y is not None]
    assert max(off) <= 0.1


#: Chains that floats do not serve by themselves: held at limits, decided on a count, whole.
FLOATS = [
    (ADC >> jr.Divider(220, "upper") >> jr.Platinum(), (-50.0, 300.0)),
    (jr.Adc(12, 3.3) >> jr.Shunt(150) >> jr.Expect(3.6, 21, unit="mA"), None),
    (jr.Counts(12) >> jr.Line(0.1) >> jr.Expect(low=3.6), (10.0, 200.0)),
    (jr.Counts(16) >> jr.Line.through((0, 0), (65535, 50000)) >> jr.Whole(), None),
]


@pytest.mark.parametrize(("ruler", "limits"), FLOATS)
def test_floats_where_floats_are_asked_for(
    ruler: jr.Ruler, limits: tuple[float, float] | None
) -> None:
    channel = Channel("f", ruler, 1, limits=limits)
    made = export(channel, "f", "float", inside_limits=limits is not None)
    assert made.is_float
    assert made.proof.holds
    text = made.text("c")
    assert "static inline float f(int32_t n)" in text
    assert "int32_t f(" not in text


def test_what_changes_nothing_is_not_written() -> None:
    made = export(Channel("n", jr.Ruler((jr.Counts(12),)), 1), "n", scale=1)
    assert made.program.body.splitlines()[-1] == "return n"
    assert made.kind == "the count itself"
    made = export(Channel("n", jr.Counts(12) >> jr.Line(3, 5), 1), "n", scale=1)
    assert made.program.body.splitlines()[-1] == "return n * 3 + 5"


@pytest.mark.parametrize("name", ["bean", "damper", "draught", "tray", "hopper", "exhaust"])
def test_the_model_is_what_python_computes(roaster: Bench, name: str) -> None:
    """The model works on arrays, Python on one number after the other."""
    made = export(roaster[name], name, inside_limits=True)
    counts = made.wanted.counts[::17]
    model = ProgramModel(made.program).run(counts).tolist()
    none = -(2**31)
    assert run_python(made.program, counts.tolist()) == [None if y == none else y for y in model]


@given(
    st.lists(st.integers(-400, 400), min_size=4, max_size=60),
    st.floats(0.5, 20),
    st.sampled_from([2**15 - 1, 2**31 - 1]),
)
def test_knots_keep_any_bound(steps: list[int], bound: float, limit: int) -> None:
    target = np.cumsum(np.array(steps) / 7.0)
    low, high = np.ceil(target - bound), np.floor(target + bound)
    found = fewest_knots(low, high, target, limit)
    assert found is not None  # a knot at every count would do
    assert found[0][0] == 0
    assert found[-1][0] == target.size - 1
    for (a, p), (b, q) in pairwise(found):
        k, width, rise = np.arange(b - a + 1), b - a, q - p
        moved = (k * abs(rise) + width // 2) // width
        between = p + (moved if rise >= 0 else -moved)
        assert np.all((between >= low[a : b + 1]) & (between <= high[a : b + 1]))
        assert width * abs(rise) + width // 2 <= limit


def test_a_bound_that_nothing_keeps() -> None:
    target = np.array([0.5, 1.5, 2.5])
    assert fewest_knots(np.ceil(target - 0.1), np.floor(target + 0.1), target, 2**31 - 1) is None


@given(st.fractions(0, 50), st.fractions(0, 5, max_denominator=5000))
def test_the_simplest_fraction(low: Any, width: Any) -> None:
    assume(width > 0)
    found = simplest_between(float(low), float(low + width))
    assert low - 1e-9 <= found <= low + width + 1e-9
    first, last = Fraction(float(low)), Fraction(float(low + width))
    for q in range(1, min(found.denominator, 200)):  # none with a smaller denominator lies there
        assert math.ceil(first * q) > last * q


@few
@pytest.mark.parametrize("arith", ["int32", "int16"])
@pytest.mark.parametrize("within", thinned([0.1, 0.3, 1.0, 4.0], 3))
def test_a_wider_bound_never_costs_more(roaster: Bench, arith: str, within: float) -> None:
    near = export(roaster["exhaust"], "e", arith, 10, within, inside_limits=True)  # type: ignore[arg-type]
    far = export(roaster["exhaust"], "e", arith, 10, 2 * within, inside_limits=True)  # type: ignore[arg-type]
    assert near.proof.worst <= within + 1e-9
    assert far.program.table_bytes <= near.program.table_bytes


def test_whole_units_need_no_table() -> None:
    """A rounding in the chain is a staircase: straight in whole units, then times the scale."""
    ruler = jr.Counts(bits=12) >> jr.Line(gain=0.18673926946347363) >> jr.Whole()
    made = export(Channel("w", ruler, 1), "w", "int32", 100, 0.01)
    assert made.kind.startswith("multiply and")
    assert made.program.table_bytes == 0
    assert made.proof.worst == 0.0


def test_forms_come_cheapest_first(roaster: Bench) -> None:
    w = ReferenceValues.of(roaster["damper"], 10, 0.1)
    kinds = [form.kind for form in forms(w, "f", "int32")]
    assert kinds[0] == "multiply and shift"
    assert kinds[-1].startswith("a full table")
    small = Channel("s", jr.Adc(bits=4) >> jr.Divider(known=4700) >> jr.Beta(r0=1e4, beta=3435), 1)
    assert export(small, "s", within=0.1).kind == "a full table of 14 values"


@pytest.mark.parametrize("bits", [8, 16, 32, 64])
def test_the_width_of_a_table(bits: int) -> None:
    """At its ends, and one beyond."""
    half = 2 ** (bits - 1)
    for values in ((0, 2 * half - 1), (-half, half - 1), (-half, 0), (-1, half - 1)):
        assert width_of(values) == bits
    for values in ((0, 2 * half), (-half - 1, 0), (-1, half)):
        if bits < 64:
            assert width_of(values) == 2 * bits
        else:
            with pytest.raises(TooWideError, match="do not fit 64 bits"):
                width_of(values)


def test_proofs_see_what_is_wrong(roaster: Bench) -> None:
    w = ReferenceValues.of(roaster["damper"], 10, 0.1)
    off = prove(Program("f", "return 500"), w)
    assert off is not None
    assert not off.holds
    assert off.worst == 50.0
    bean = ReferenceValues.of(roaster["bean"], 10, 0.1)
    assert prove(Program("f", "return 500"), bean) is None  # it has a value where there is none
    good = export(roaster["damper"], "damper").proof
    assert (good.monotone, good.exact_at_marks, good.counts) == ("rising", True, 4096)
    assert export(roaster["bean"], "bean", inside_limits=True).proof.monotone == "falling"


def test_thresholds_follow_the_ruler(roaster: Bench) -> None:
    for name, value, release in (
        ("bean", 225.0, None),
        ("damper", 80.0, 75.0),
        ("rail", 11.0, 10.8),
    ):
        channel = roaster[name]
        t = threshold(roaster, channel, name, value, release)
        values = channel.ruler(np.arange(4096))
        low = 220.0 if release is None else release
        on = ProgramModel(t.program).run(np.arange(4096), {"was": 9})
        assert np.array_equal(on == 1, values >= value)
        assert np.array_equal(on == 0, values < low)
        assert np.array_equal(on == 9, np.isnan(values) | ((values >= low) & (values < value)))
    assert t.program.name == "rail_from_11"
    assert threshold(roaster, roaster["rail"], "rail", 0.5, 0.25).program.name == "rail_from_0_5"


@pytest.mark.parametrize("gain", [0.5, -0.5])
@pytest.mark.parametrize(("value", "release", "below"), [
    (20.0, None, False), (20.0, 15.0, False), (20.0, 20.0, False), (20.0, 26.0, True),
])  # fmt: skip
def test_a_threshold_that_no_trip_has(
    roaster: Bench, gain: float, value: float, release: float | None, below: bool
) -> None:
    """On from the value up; below it only if it is released above. Rising and falling channels."""
    channel = Channel("x", jr.Counts(8) >> jr.Line(gain, 15 - 50 * gain), 1)
    found = threshold(roaster, channel, "x", value, release)
    values = channel.ruler(np.arange(256))
    on = values < value if below else values >= value
    free = value if release is None else release
    off = values >= free if below else values < free
    wanted = np.where(on, 1, np.where(off, 0, 9))
    assert ProgramModel(found.program).run(np.arange(256), {"was": 9}).tolist() == wanted.tolist()
    assert found.program.name == f"x_{'below' if below else 'from'}_20"
    assert found.rising == ((gain > 0) != below)
    assert (on[found.on], off[found.off]) == (True, True)
    assert abs(found.on - found.off) == 1 + np.count_nonzero(~on & ~off)


def test_flags_of_every_count(roaster: Bench) -> None:
    for name, channel in roaster.channels.items():
        w = ReferenceValues.of(channel, 1, 1.0)
        assert np.array_equal(ProgramModel(flags_program(w, name)).run(w.counts), w.flags)
        outside = np.array([int(w.counts[0]) - 1, int(w.counts[-1]) + 1])
        assert ProgramModel(flags_program(w, name)).run(outside).tolist() == [32, 32]


@fewer(4)
@given(st.text("aZ09_-. /*\\\"'?\n\r\t\0éßμ°Ωıſ漢\u200b\U0001f525", max_size=40))
def test_no_name_is_unsafe(name: str) -> None:
    safe = safe_name(name)
    assert re.fullmatch(r"[a-z][a-z0-9_]*", safe)
    assert safe not in RESERVED
    assert safe_name(safe) == safe or safe_name(safe).startswith(safe)


@given(st.text("*/()?\\ab\n\r\t\x00'\"", max_size=30))
def test_no_comment_ends_early(text: str) -> None:
    safe = comment(text)
    for ends in ("*/", "/*", "*)", "(*", "\\", "\n", "\r", "??"):
        assert ends not in safe
    assert ast.parse(f"# {safe}\n").body == []


@pytest.mark.parametrize(
    ("unit", "text"),
    [
        ("degC", "C"),
        ("%", "%"),
        (None, ""),
        ("ohm", "ohm"),
        ("m³", "m"),
        ("zone", ""),
        ("m/s", "m/s"),
    ],
)
def test_units_of_small_displays(unit: str | None, text: str) -> None:
    assert plain_unit(unit).startswith(text)
    assert plain_unit(unit).isascii() or unit == "m³"


def test_scales_follow_the_decimals(roaster: Bench) -> None:
    scales = {name: usual_scale(channel) for name, channel in roaster.channels.items()}
    assert scales["bean"] == 10
    assert scales["rail"] == 100
    assert scales["tray"] == scales["hopper"] == 1


def test_what_cannot_be_taken_along_is_said(roaster: Bench) -> None:
    made = [export(channel, name) for name, channel in roaster.channels.items()]
    found = machines_of(roaster, made, None)
    assert found.notes == ("hopper: smoothing over 2 s needs --interval",)
    [smoothing] = [m for m in machines_of(roaster, made, 0.2).machines if "hopper" in m.name]
    assert smoothing.about[0].startswith("hopper: the mean of 10 counts")
    one = [export(roaster["damper"], "damper", "float")]
    notes = machines_of(roaster, one, None).notes
    assert all("on which it depends, could not be exported" in note for note in notes)


@pytest.mark.parametrize(("kind", "most"), [("mean", 255), ("median", 255), ("exponential", 2**14)])
def test_how_long_a_smoothing_may_be(kind: Any, most: int) -> None:
    for over in (most, most + 1):
        smooth = jr.Smoothing(kind, over)
        channel = Channel("x", jr.Counts(8) >> jr.Line(0.3), 1, smooth=smooth)
        bench = Bench("made up", {"x": channel})
        found = machines_of(bench, [export(channel, "x")], None)
        wanted = () if over == most else (f"x: smoothing over {over} samples, more than {most}",)
        assert found.notes == wanted
        assert len(found.machines) == (over == most)
        near = "within one count" if kind == "exponential" else "to the nearest count"
        assert all(f"counts, {near};" in machine.about[0] for machine in found.machines)


@pytest.mark.parametrize("slew", [0.5, 400, 0.125, 1 / 3, 0.123456789, 7777.7777, math.pi])
def test_a_rate_that_no_level_holds_is_said(slew: float) -> None:
    """A level has whole parts of a command, and moves by as many in a millisecond."""
    text = "converter = { bits = 8, vref = 5 }\n[channel.x]\ncolumn = 1\n[drive.m]\nfrom = 'x'\n"
    bench = parse_bench(f"{text}marks = [[0, 0], [5, 255]]\nsafe = 0\nslew = {slew!r}\n")
    [machine] = machines_of(bench, [export(bench["x"], "x")], 0.1).machines
    said = [line for line in machine.about if line.startswith("moves by ")]
    if not said:
        assert slew in (0.5, 400, 0.125, 1 / 3, 7777.7777)
    else:
        rate, wanted = map(float, re.findall(r"[\d.e-]+\d", said[0]))
        assert (rate, wanted) == pytest.approx((slew, slew), rel=0.01)
        assert rate != wanted == pytest.approx(slew, rel=1e-5)


def test_a_change_of_a_value_in_floats_has_no_form(roaster: Bench) -> None:
    trip = '[trip.open]\nany = [{ channel = "x", falls_by = 1, within = "2 s" }]\n'
    bench = parse_bench("converter = { bits = 8, vref = 5 }\n[channel.x]\ncolumn = 1\n" + trip)
    as_float = machines_of(bench, [export(bench["x"], "x", "float")], 0.5)
    assert "a change of a value in floats has no firmware form" in " ".join(as_float.notes)
    assert not as_float.machines
    whole = machines_of(bench, [export(bench["x"], "x")], 0.5)
    assert len(whole.machines) == 1


def test_structured_text_has_no_logarithm_to_base_two() -> None:
    channel = Channel("a", ADC >> jr.Formula("log2(x + 1)"), 1)
    assert export(channel, "a", "float").kind == "the formula itself"
    made = export(channel, "a", "float", functions=structured.FUNCTIONS)
    assert made.program.arith == "int32"
    assert made.is_float
    assert made.notes == ("not the formula itself: the target has no log2",)
    text = "\n".join(structured.function(Program("f", "return 5 - (n * 3 + 4 >> 3)")))
    assert "f := 5 - (n * 3 + 4) / 8;" in text


@pytest.mark.parametrize(
    ("body", "says"),
    [
        ("return x ** 2.0", "powf(x, 2.0f)"),
        ("return -x", "return -x;"),
        ("return 1.0 - (x - 2.0)", "1.0f - (x - 2.0f)"),
        ("return x / (2.0 * x)", "x / (2.0f * x)"),
        ("return abs(x)", "fabsf(x)"),
        ("return 1e-30 * x", "1e-30f * x"),
    ],
)
def test_brackets_and_literals_in_c(body: str, says: str) -> None:
    assert says in "\n".join(c.function(Program("f", f"x = n\n{body}", {}, "float")))


def test_a_bound_finer_than_possible_says_what_is(roaster: Bench) -> None:
    with pytest.raises(JetRulerError, match="a larger --scale"):
        export(roaster["bean"], "bean", "int32", 10, 0.03)
    with pytest.raises(JetRulerError, match="does not hold"):
        export(roaster["bean"], "bean", "int16", 1000)


@fewer(4)
@given(st.lists(st.integers(-40, 40), min_size=3, max_size=12), st.floats(0.3, 6))
def test_no_table_has_fewer_knots_than_is_said(steps: list[int], bound: float) -> None:
    """Against every choice of places, each stretch with a line of its own, by linear programs."""
    target = np.cumsum(np.array(steps) / 8)
    low, high = np.ceil(target - bound), np.floor(target + bound)
    if np.any(low > high):
        return

    def line(a: int, b: int) -> bool:
        half = 0.5 - 1e-7  # a tie may round either way
        rows = np.stack([np.arange(a, b + 1), np.ones(b + 1 - a)], axis=1)
        within = np.concatenate([high[a : b + 1] + half, half - low[a : b + 1]])
        found = linprog([0, 0], np.concatenate([rows, -rows]), within, bounds=(None, None))
        return bool(found.status == 0)

    fewest = [0] + [99] * (target.size - 1)
    for b in range(1, target.size):
        fewest[b] = 1 + min(fewest[a] for a in range(b) if line(a, b))
    least = least_knots(low, high)
    assert least == fewest[-1] + 1
    found = fewest_knots(low, high, target, 2**31)
    assert found is None or len(found) >= least
