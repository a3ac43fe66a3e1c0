"""Corners that a change of one sign or number would break: each found by changing the code."""

from __future__ import annotations

import math
import re
import runpy
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from statistics import NormalDist
from typing import Any

import numpy as np
import pytest

import jetruler as jr
from jetruler.core.bench.clock import Clock
from jetruler.core.bench.conditions import Conditioner, alarm_mask, rail_faults
from jetruler.core.bench.covariance import FitCovariance
from jetruler.core.bench.driver import Driver
from jetruler.core.bench.drives import pattern_drives
from jetruler.core.bench.modes import places
from jetruler.core.firmware.count_programs import threshold
from jetruler.core.ruler.raw_range import raw_samples
from jetruler.core.ruler.units import column_unit, with_uncertainty
from tests.conftest import Cli

TINY = jr.Channel("a", jr.Counts(12) >> jr.Line(gain=0.000123, offset=0, unit="V"), 1, decimals=6)
TENFOLD = jr.Channel("a", jr.Counts(12) >> jr.Line(gain=10, offset=0, unit="V"), 1)
KNOB = jr.Channel(
    "knob",
    jr.Counts(12) >> jr.Line.through((0, 0), (3000, 100), unit="%") >> jr.Clamp(0, 100),
    1,
    decimals=1,
)


def two_stages() -> jr.Channel:
    """Two attenuators, so that a bare name of a parameter may be either's."""
    first, second = (jr.Attenuator(jr.Toleranced(33e3, 330), jr.Toleranced(1e4, 100)),) * 2
    rails = jr.Correlation(("upper", "lower"), 0.9)
    return jr.Channel("rail", jr.Adc(12, 3.3) >> first >> second, 1, correlated=(rails,))


REFUSED: list[tuple[Callable[[], Any], str]] = [
    (lambda: jr.Condition("a", rises_by=1, within=0), "within: expected a time above 0"),
    (lambda: jr.Condition("a", rises_by=1, within=math.inf), "within: expected a time above 0"),
    (
        lambda: jr.Correlation(("upper", 3)),  # type: ignore[arg-type]
        "parameters: expected a list of two or more different names",
    ),
    (
        two_stages,
        "correlated: expected attenuator.upper or attenuator.upper, found 'upper'",
    ),
    (lambda: jr.Polynomial((0, 1), domain=(2, 2)), "domain: expected two numbers, the low one"),
    (
        lambda: jr.Channel("a", jr.Counts(12), 1, expected=((1, 1), (2,))),
        "expected[2]: expected [raw, value] or [raw, value, tolerance]",
    ),
]


@pytest.mark.parametrize(("make", "sentence"), REFUSED)
def test_refused(make: Callable[[], Any], sentence: str) -> None:
    with pytest.raises(jr.errors.ParameterError) as caught:
        make()
    assert sentence in str(caught.value)


HOT = jr.Condition("a", above=3)

#: Whoever takes a time, and whether it may be 0.
TIMES: list[tuple[str, Callable[[Any], Any], bool]] = [
    ("within", lambda time: jr.Condition("a", rises_by=1, within=time), False),
    ("stale", lambda time: jr.LogFormat(stale=time), False),
    ("interval", lambda time: jr.LogFormat(interval=time), False),
    ("hold", lambda time: jr.Trip("t", (HOT,), hold=time), True),
    ("stay", lambda time: jr.Trip("t", (HOT,), stay=time), True),
]


@pytest.mark.parametrize(("name", "make", "zero"), TIMES, ids=[name for name, _, _ in TIMES])
def test_no_time_is_endless_or_runs_back(name: str, make: Callable[[Any], Any], zero: bool) -> None:
    for time in (0.5, "200 ms", 3, *([0] if zero else [])):
        make(time)
    for wrong in (-1, math.inf, -math.inf, math.nan, "-2 s", "5 V", *([] if zero else [0])):
        with pytest.raises(jr.errors.ParameterError, match=f"^{name}: expected"):
            make(wrong)


@pytest.mark.parametrize("edge", [jr.Counts(24), jr.Input("V", 0.001, (-5, 5))], ids=str)
def test_raw_samples_are_what_can_come_in_beside_every_corner(edge: Any) -> None:
    """Whole counts, or steps; of a corner in between, both sides."""
    bend = 12_345.5 if isinstance(edge, jr.Counts) else 0.0123
    raw = raw_samples(edge >> jr.Line(2.0) >> jr.Clamp(low=2 * bend))
    assert (raw[0], raw[-1]) == (edge.lowest, edge.highest)
    assert np.all(np.diff(raw) > 0)
    if isinstance(edge, jr.Counts):
        assert np.array_equal(raw, np.rint(raw))
        assert {12_345, 12_346} <= set(raw.tolist())
    else:
        assert bend in raw


def test_raw_samples_without_a_range_are_those_of_the_points() -> None:
    table = jr.Table(((1.0, 5.0), (3.0, 9.0)), takes="V", unit="mm")
    raw = raw_samples(jr.Input("V") >> table, 5)
    assert raw.tolist() == [1.0, 1.5, 2.0, 2.5, 3.0]
    with pytest.raises(jr.errors.ParameterError, match="the ends of the input, as in range"):
        raw_samples(jr.Input("V") >> jr.Line(2.0))


@pytest.mark.parametrize(("name", "like", "unit"), [
    ("bean_degC", "degC", "degC"), ("t_bean_degC", "degF", "degC"), ("p_in_bar", "Pa", "bar"),
    ("v_m_per_s", "m/s", "m/s"), ("open_percent", "%", "%"), ("T_C", "degC", "degC"),
    ("bean", "degC", None), ("degC_bean", "degC", None), ("bean (°F)", "K", "degF"),
])  # fmt: skip
def test_a_column_says_its_unit_behind_its_name(name: str, like: str, unit: str | None) -> None:
    assert column_unit(name, like) == unit


@pytest.mark.parametrize(("value", "uncertainty", "text"), [
    (2.5e6, 3e4, "2500000 ± 30000"), (9.5e6, 3e4, "9500000 ± 30000"),
    (2.5e7, 3e5, "(2.500 ± 0.030)·1e7"), (0.0025, 3e-5, "0.002500 ± 0.000030"),
    (0.00025, 3e-6, "(2.500 ± 0.030)·1e−4"), (0.0, 2e7, "(0.0 ± 2.0)·1e7"),
])  # fmt: skip
def test_powers_of_ten_of_an_uncertain_value(value: float, uncertainty: float, text: str) -> None:
    assert with_uncertainty(value, uncertainty, None) == text


def test_the_mode_that_somebody_chose_is_in_force_whatever_is_on() -> None:
    modes = (jr.DriveMode("idle", when="cold"), jr.DriveMode("full", when="hot"), jr.DriveMode("x"))
    on = {"cold": np.array([True, False, True]), "hot": np.array([True, True, False])}
    assert places(modes, on, None, 3).tolist() == [1, 2, 1]
    for chosen, mode in enumerate(modes, 1):
        assert places(modes, on, mode.name, 3).tolist() == [chosen] * 3


@pytest.mark.parametrize(("low", "high"), [(0, 2**32), (-(2**31), 2**31), (-(2**33), 0), (5, 1e11)])
def test_an_input_of_too_many_steps_has_no_counts(low: float, high: float) -> None:
    channel = jr.Channel("u", jr.Input("V", 1, (low, high)) >> jr.Line(2), 1)
    with pytest.raises(jr.errors.ParameterError, match="a range of up to 2\\^32 steps"):
        jr.export(channel)


def test_whole_numbers() -> None:
    """By hand: 40000 − 65536; the constant 0.000123 needs six zeros to be a whole number."""
    assert jr.naive(TENFOLD, 4000, "int16").result == 40000 - 65536
    orders = {one.order: one.result for one in jr.naive(TINY, 4000, "int16").orders}
    assert orders["constants scaled by 1000000, in 32 bits"] == pytest.approx(0.492)
    # 30000.5 · 100 · 3000 does not fit 32 bits, · 10 does.
    steep = jr.Channel("a", jr.Counts(12) >> jr.Line(gain=30000.5, offset=0, unit="V"), 1)
    orders = {one.order: one.result for one in jr.naive(steep, 3000, "int16").orders}
    assert orders["constants scaled by 10, in 32 bits"] == pytest.approx(30000.5 * 3000)


def test_three_numbers_say_at_which_end_they_differ() -> None:
    """The marks begin at 0, so that only the top is beyond them."""
    assert [count for count, _, _ in jr.three_numbers(KNOB).beyond] == [4095]


def test_the_width_between_free_ends_must_fit_too() -> None:
    """4095 counts times a rise of 101, and the distance of the ends: 2 147 813 595 at most."""
    line = jr.Counts(12) >> jr.Line.through((0, 0), (4000, 100), unit="%")
    channel = jr.Channel("k", line, 1)
    with pytest.raises(jr.errors.ExportError, match="2147813595 does not fit int32"):
        jr.export(channel, arith="int32", scale=1, arguments={"hi": (2000, 2_147_400_000)})


def test_whether_a_count_has_a_value_is_0_or_1(cli: Cli, home: Path) -> None:
    """Other code of the file compares it with 1."""
    done = cli("export", "--all", "--to", "python", "--interval", "0.2", "-o", "all.py")
    assert done.returncode == 0, done.stderr
    has_value = runpy.run_path(str(home / "all.py"))["bean_has_value"]
    assert [has_value(n) for n in (0, 1880, 4095, 5000)] == [0, 1, 0, 0]


def test_a_threshold_needs_one_count_for_each_way() -> None:
    """|n − 100| rises past 3000 at one count only, but falls below 50 on both sides of 100."""
    both = jr.Counts(12) >> jr.Line(gain=1, offset=-100, unit="g") >> jr.Magnitude()
    scale = jr.Channel("scale", both, 1)
    bench = jr.Bench("", {"scale": scale})
    with pytest.raises(jr.errors.ExportError, match="it turns back"):
        threshold(bench, scale, "scale", 3000.0, 50.0)
    line = jr.Channel("scale", jr.Counts(12) >> jr.Line(gain=1, offset=-100, unit="g"), 1)
    found = threshold(jr.Bench("", {"scale": line}), line, "scale", 3000.0, 50.0)
    assert (found.on, found.off) == (3100, 149)


def test_a_table_flags_beyond_its_inputs() -> None:
    """Not beyond its outputs, which reach further here and less far there."""
    for top in (5000.0, 10.0):
        flags = jr.Table([(0, 0), (100, top)], unit="V").flags(np.array([-1.0, 50.0, 200.0]))
        assert flags.tolist() == [jr.Flag.BELOW, 0, jr.Flag.ABOVE]


def test_a_drive_is_in_the_mode_of_its_trip() -> None:
    modes = (jr.DriveMode("slow", when="x"), jr.DriveMode("fast", when="y"))
    drive = jr.Drive("m", "a", marks=((0, 0), (100, 255)), safe=0, modes=modes)
    driver = Driver(drive)
    for place, name in ((1, "slow"), (2, "fast"), (1, "slow")):
        one = np.ones(1)
        driver.add_in_modes(one * place, one, one < 0, None, np.array([place]))
        assert driver.mode is not None
        assert driver.mode.name == name


@pytest.mark.parametrize(
    ("text", "ohms"), [("2 kohm", 2e3), ("2 Mohm", 2e6), ("2 Gohm", 2e9), ("2 Tohm", 2e12)]
)
def test_prefixes(text: str, ohms: float) -> None:
    assert jr.quantity(text, "ohm") == ohms


def test_a_decimal_comma_is_named_only_where_there_is_one() -> None:
    with pytest.raises(jr.errors.QuantityError, match=r"a decimal point it is '4\.7 kohm'"):
        jr.quantity("4,7 kohm")
    with pytest.raises(jr.errors.QuantityError) as caught:
        jr.quantity("kohm 4")
    assert "decimal" not in str(caught.value)


def test_draws_without_a_value_are_counted() -> None:
    """√(U − 1 V) has none below 1 V; a straight line loses none."""
    root = jr.simulate(jr.Adc(12, 3.3) >> jr.Formula("sqrt(x - 1)", takes="V"), 1250, noise=30)
    part = root.lost / (root.lost + root.values.size)
    assert part == pytest.approx(NormalDist(1250 * 3.3 / 4095, 30 * 3.3 / 4095).cdf(1.0), abs=0.01)
    assert f"{root.lost} draws have no value and are left out" in str(root)
    line = jr.simulate(jr.Adc(12, 3.3) >> jr.Line(2.0), 1250, noise=3)
    assert line.lost == 0
    assert "no value" not in str(line)


@pytest.mark.parametrize(("unit", "reads"), [("l/s", 30.0), ("l/min", 1800.0), ("l/h", 108000.0)])
def test_pulses_a_second_a_minute_an_hour(unit: str, reads: float) -> None:
    assert jr.Pulses(2, 0.5, unit)(30) == reads


def test_only_whole_numbers_can_overflow() -> None:
    line = jr.Channel("a", jr.Counts(12) >> jr.Line(gain=-0.37, offset=5, unit="V"), 1)
    assert "no overflow" in " ".join(jr.export(line, scale=100).proof.lines("V"))
    assert "no overflow" not in " ".join(jr.export(line, arith="float").proof.lines("V"))


def test_a_formula_is_not_too_deep() -> None:
    for deep in ("-" * 70 + "x", "sqrt(" * 65 + "x" + ")" * 65):
        with pytest.raises(jr.errors.ParameterError, match="more than 60 deep"):
            jr.Formula(deep)
    assert jr.Formula("-" * 40 + "x")(3.0) == 3.0


@pytest.mark.parametrize(
    ("rows", "fine"),
    [
        (((1.0, 0.5), (0.5, 1.0)), True),
        (((1.0, 0.5), (-0.5, 1.0)), False),  # not the same on both sides
        (((1.0, 0.0), (0.0, -1.0)), False),  # a variance below 0
        (((1.0, 2.0), (2.0, 1.0)), False),  # a correlation of 2
    ],
)
def test_a_covariance_is_one(rows: tuple[tuple[float, ...], ...], fine: bool) -> None:
    if fine:
        assert FitCovariance("line", ("gain", "offset"), rows).covariance == rows
        return
    with pytest.raises(jr.errors.ParameterError, match="covariance: expected 2 rows of 2 numbers"):
        FitCovariance("line", ("gain", "offset"), rows)


@pytest.mark.parametrize("expression", ["atan2(a, b)", "hypot(a, b)", "min(a, b)", "max(a, b)"])
@pytest.mark.parametrize("at", [(1.0, 2.0), (2.0, 1.0), (-1.5, 0.5)])
def test_slopes_of_two_values_are_differences(expression: str, at: tuple[float, float]) -> None:
    sources = tuple(jr.Channel(name, jr.Input("V"), name) for name in "ab")
    formula = jr.derived("d", sources, expression).combined
    values = [np.array([v]) for v in at]
    for i, slope in enumerate(formula.slopes(values)):
        sides = []
        for step in (1e-6, -1e-6):
            moved = [v + step * (j == i) for j, v in enumerate(values)]
            sides.append(float(formula.of(moved)[0]))
        assert slope[0] == pytest.approx((sides[0] - sides[1]) / 2e-6, abs=1e-6)


def test_a_constant_without_a_unit_stays_what_it_is() -> None:
    volts = jr.Channel("u", jr.Input("V"), "u")
    double = jr.derived("d", [volts], "k * u", "V", constants={"k": 2.5})
    assert double.value_of({"u": 4.0}) == 10.0


def test_a_platinum_line_has_its_cold_term_below_zero() -> None:
    law = jr.Platinum(100)
    assert "C (t − 100) t³" in law.inverse_formula(-0.5)
    assert "C (t" not in law.inverse_formula(0.5)


def test_two_marks_give_a_photoresistor() -> None:
    """γ = log(20 / 2) / log(1000 / 10) = 0.5; at 10 lx it has 20 kΩ."""
    law = jr.fit([(20e3, 10), (2e3, 1000)], "photoresistor").law
    assert isinstance(law, jr.Photoresistor)
    assert (law.r10, law.gamma) == pytest.approx((20e3, 0.5))


@pytest.mark.parametrize(("name", "top"), [("duty8", 255), ("duty10", 1023), ("duty16", 65535)])
def test_duty_is_of_so_many_bits(name: str, top: int) -> None:
    drive = jr.Drive("m", "a", marks=((0, 0), (100, top)), safe=0, range=name)
    assert drive.bounds == (0, top)
    with pytest.raises(jr.errors.ParameterError):
        jr.Drive("m", "a", marks=((0, 0), (100, top + 1)), safe=0, range=name)


@pytest.mark.parametrize(
    ("ends", "given", "unit", "top"),
    [
        ((0, 5), "V", "V", 5), (("0 V", 5), "", "V", 5), (("0 mV", "5 V"), "V", "V", 5),
        (("0 mV", "5 V"), "", "mV", 5000), ((0, 5), "", "", 5), ((0, "5000 mV"), "V", "V", 5),
    ],
)  # fmt: skip
def test_a_range_is_in_the_unit_given_or_in_its_own(
    ends: Any, given: str, unit: str, top: float
) -> None:
    drive = jr.Drive("m", "a", marks=((0, 0), (100, top)), safe=0, range=ends, unit=given)
    assert (drive.unit, drive.range, drive.bounds) == (unit, (0, top), (0, top))


@pytest.mark.parametrize(
    ("text", "rate"),
    [
        ("1 V/s", 1), ("60 V / min", 1), ("500 mV/s", 0.5), ("10 %/s", 0.5), ("1", 1),
        ("6/min", 0.1), ("2 V", 2), (2, 2), ("1 V/h", 1 / 3600), ("1 bar/s", None),
        ("/s", None), ("1 V/d", None), ("0 V/s", None), ("fast", None),
    ],
)  # fmt: skip
def test_a_slew_is_a_change_or_a_rate(text: Any, rate: float | None) -> None:
    def made() -> jr.Drive:
        marks = ((0, 0), (100, 5))
        return jr.Drive("m", "a", marks, safe=0, range=("0 V", "5 V"), slew=text)

    if rate is None:
        with pytest.raises(jr.errors.ParameterError, match=r"^slew: expected "):
            made()
    else:
        assert made().slew == pytest.approx(rate, rel=1e-12)


def test_64_bits_have_room_for_scaled_constants() -> None:
    """100 · 3895 · 10⁶ is far below 2⁶³."""
    line = jr.Counts(12) >> jr.Line.through((200, 0), (3900, 100), unit="%")
    orders = {one.order: one for one in jr.naive(jr.Channel("a", line, 1), 2000, "int32").orders}
    assert orders["constants scaled by 1000000, in 64 bits"].result == 48.648648


def test_more_pairs_are_more_than_there_are() -> None:
    """Rounded up to two digits, for whatever there are."""
    random = np.random.RandomState(3)
    for n in (20, 104, 118, 1004):
        a = 50 + random.standard_normal(n)
        found = jr.compare(a, a + random.standard_normal(n) * 2, within=1e-3)
        needed = re.search(r"about (\d+) pairs", found.sentence)
        assert needed is not None
        assert int(needed[1]) > n


def test_rails_of_a_chain_without_an_inverse() -> None:
    """|n − 2048| passes 0 … 2048 from rail to rail, and 0 … 500 far from both."""
    both = jr.Counts(12) >> jr.Line(gain=1, offset=-2048, unit="g") >> jr.Magnitude()
    rails = int(jr.Flag.LOW_RAIL | jr.Flag.HIGH_RAIL)
    for top, faults in ((2048, 0), (500, rails)):
        assert rail_faults(jr.Channel("a", both, 1, limits=(0, top))) == faults


def test_beyond_a_clamp_is_an_alarm_only_with_limits() -> None:
    beyond = int(jr.Flag.BELOW | jr.Flag.ABOVE)
    assert alarm_mask(KNOB) & beyond == 0
    assert alarm_mask(replace(KNOB, limits=(0, 100))) & beyond == beyond
    unclamped = jr.Channel("a", jr.Counts(12), 1)
    assert alarm_mask(unclamped) & beyond == beyond


def test_a_ruler_in_use_equals_a_new_one() -> None:
    used, new = (jr.Adc(12, 3.3) >> jr.Line(2.0) for _ in "ab")
    used(np.arange(5))
    assert used.compiled() is not None
    assert used == new
    assert hash(used) == hash(new)


def test_what_another_part_brings_has_three_digits() -> None:
    ruler = jr.Adc(12, 3.3) >> jr.Divider("10 kohm ± 1 %") >> jr.Beta("100 kohm ± 3 %", 3950)
    found = jr.what_if(ruler, 1880, {"known": "10 kohm ± 0.1 %"})
    was, now = (one.expanded_uncertainty for one in (found.before, found.after))
    assert f"± {now:.3g} °C instead of ± {was:.3g} °C" in found.headline


def test_a_movement_has_the_size_of_its_values() -> None:
    """What is next to nothing beside 1 is much where all values are 1e-20."""
    for values, moved in ((np.zeros(3), False), (np.array([3e-20, 2e-20, 0]), True)):
        at_work = Conditioner(jr.Condition("a", falls_by=2e-20, within=1.0))
        on = at_work.add(0.1 * np.arange(3, dtype=np.float64), values, np.zeros(3, np.uint8))
        assert bool(on[-1]) is moved


def test_a_clock_may_stand_for_a_second() -> None:
    clock = Clock()
    clock.add([0.0, 0.125, 0.25, 0.25, 0.25], [0.0, 0.125, 0.25, 1.25, 1.375])
    assert clock.faults.tolist() == [False, False, False, False, True]


@pytest.mark.parametrize("stands", [9, 13])
def test_a_clock_that_stands_is_named_without_arrivals(stands: int) -> None:
    """By usual steps: here of 0.1 s, of which a time may stand for ten."""
    grows = np.concatenate((np.full(400, 0.1), np.zeros(stands), np.full(50, 0.1)))
    clock = Clock()
    clock.add(np.cumsum(grows))
    assert bool(clock.faults.any()) == (stands == 13)
    assert not clock.faults[:400].any()


def test_a_usual_range_of_an_argument_needs_marks() -> None:
    """Half to twice, but of the true end of a line through marks the span more on both sides."""
    line = jr.Line.through(("10 mV", 5), ("50 mV", 25), unit="%", takes="mV")
    input_ = jr.Input("mV", resolution=0.1, range=(0, 100))
    channel = jr.Channel("a", input_ >> line, 1, decimals=1)
    made = jr.export(channel, arith="float", arguments={"lo": None, "at_lo": None})
    said = " ".join(made.notes)
    assert "(lo) from 5 to 20" in said
    assert "from −15 to 45" in said


def test_floats_that_miss_a_step_by_one_are_refused() -> None:
    """What is off a tie by a few units in the last place is put on it: beside 2^21, by a half."""
    channel = jr.Channel("a", jr.Counts(12) >> jr.Line(1, 2**21, unit="g") >> jr.Whole(), 1)
    made = jr.export(channel, arith="float")
    assert "miss a step" in " ".join(made.notes)


def test_what_a_knot_fewer_would_cost_is_said() -> None:
    ruler = jr.Adc(12, 3.3) >> jr.Divider(known=4700) >> jr.Beta(r0=100e3, beta=3950)
    made = jr.export(jr.Channel("bean", ruler, 1, decimals=1, limits=(0, 250)), within=0.5)
    off = re.search(r"one knot fewer would be off by up to ([\d.]+) °C", made.cheaper)
    assert off is not None
    assert 0.5 < float(off[1]) <= 1.0


def test_an_output_that_no_zone_switches_on_stays_off() -> None:
    tray = jr.Channel("tray", jr.Counts(12) >> jr.Zones(edges=(2000,), values=((0, 1), (0, 0))), 1)
    drives = pattern_drives("lamps", tray, ("red", "green"))
    assert drives["lamps_red"].range == (0, 1)


def test_what_joins_its_marks_has_no_parameters() -> None:
    found = jr.fit(jr.Marks.of([(0, 1), (10, 5), (20, 7)]), "table")
    assert found.parameters == ()
    assert found.covariance.shape == (0, 0)


@pytest.mark.parametrize("domain", [((1, 2), 3), (1,), (1, 2, 3), (3, 1), (math.nan, 2)], ids=str)
def test_a_domain_is_two_numbers(domain: Any) -> None:
    for make in (jr.Polynomial, lambda c, domain: jr.Formula("x", domain=domain)):
        with pytest.raises(jr.errors.ParameterError, match=r"^domain: expected two numbers"):
            make((0, 1), domain=domain)


@pytest.mark.parametrize(("ratio", "upper"), [(0.5, 51e3), (0.9, 24e3), (0.25, 110e3)])
def test_an_attenuator_for_more_volts_has_the_next_resistor_of_the_series(
    ratio: float, upper: float
) -> None:
    """By hand: 20 kΩ over 10 kΩ divides by 3; by 3 / ratio it needs 10 kΩ · (3 / ratio − 1)."""
    law = jr.Attenuator(20e3, 10e3)
    assert law.with_less(ratio) == {"upper": pytest.approx(upper)}
    wanted = 10e3 * (3 / ratio - 1)
    assert wanted <= upper * (1 + 1e-12) < 1.11 * wanted
    assert jr.Attenuator(upper, 10e3).factor * ratio >= 3 * (1 - 1e-12)


def test_a_cold_junction_out_of_range_is_named_in_degrees() -> None:
    for cold, says in (("5000 degC", "5000 °C"), ("9000 K", "8726.85 °C")):
        with pytest.raises(jr.errors.ParameterError) as caught:
            jr.Thermocouple("K", cold=cold)
        assert str(caught.value) == f"cold: expected −270 °C to 1372 °C, found '{says}'"


@pytest.mark.parametrize(("bits", "arith", "takes"), [
    (12, "float", "int32_t n"), (12, "int32", "int32_t n"), (12, "int16", "int16_t n"),
    (24, "float", "int32_t n"), (24, "int64", "int64_t n"), (32, "float", "int64_t n"),
])  # fmt: skip
def test_what_a_function_takes(bits: int, arith: Any, takes: str) -> None:
    """A count, in a type that holds it, whatever it gives."""
    channel = jr.Channel("x", jr.Counts(bits) >> jr.Line(2.0**-bits * 900, 3.0), 1)
    text = jr.export(channel, "x", arith).text("c")
    gives = "float" if arith == "float" else f"{arith}_t"
    assert f"static inline {gives} x({takes})" in text
