"""Exported programs of made-up chains, run count by count in plain Python, against the laws."""

from __future__ import annotations

import math
from typing import Any, Literal

import numpy as np
import pytest

import jetruler as jr
from jetruler import Channel, Ruler
from jetruler.core.firmware.channel_machines import zone_machine
from jetruler.core.firmware.count_programs import counting, of_counts, pattern_programs
from jetruler.core.firmware.forms import middle, straight_error
from jetruler.core.firmware.knots import least_knots
from jetruler.core.firmware.names import comment, plain_unit, safe_name
from jetruler.core.firmware.program import ProgramModel
from jetruler.core.firmware.reference import ReferenceValues
from jetruler.core.firmware.selection import export, usual_scale
from tests.core.test_firmware import run_python
from tests.helpers.sizes import soak, thinned


def straight(seed: int) -> tuple[Channel, Any, int]:
    """A straight channel of any gain, offset and sign, with its arithmetic and scale."""
    random = np.random.RandomState(seed)
    bits = int(random.choice([6, 8, 10, 12]))
    low = float(np.round(random.uniform(-500, 500), int(random.randint(3))))
    span = float(np.round(random.uniform(20, 4000), 1)) * random.choice([-1, 1])
    top = 2**bits - 1
    laws: Ruler = jr.Counts(bits) >> jr.Line.through((0, low), (top, low + span), unit="mm")
    if random.randint(2):
        ends = sorted((low + 0.1 * span, low + 0.8 * span))
        laws = laws >> jr.Clamp(*ends)
    arith = str(random.choice(["int32", "int16"])) if bits < 12 else "int32"
    return Channel("x", laws, 1), arith, int(random.choice([1, 10]))


@pytest.mark.parametrize("seed", range(24))
def test_a_straight_channel_needs_no_table(seed: int) -> None:
    channel, arith, scale = straight(seed)
    made = export(channel, "x", arith, scale)
    counts = list(range(channel.ruler.converter.highest + 1))  # type: ignore[union-attr]
    values = channel.ruler(np.array(counts))
    off = np.abs(np.array(run_python(made.program, counts)) / scale - values)
    assert off.max() <= made.wanted.within + 0.5 / scale + 1e-9
    assert off.max() == pytest.approx(made.proof.worst, abs=1e-9)
    if arith == "int32" and len(channel.ruler.laws) == 2:
        assert made.kind.startswith("multiply and"), made.kind
        assert made.program.table_bytes == 0


@pytest.mark.parametrize("arith", ["int32", "int16", "float"])
@pytest.mark.parametrize("signed", [True, False])
@pytest.mark.parametrize(("first", "last"), [(0, 15), (3, 15), (0, 11), (5, 12)])
def test_any_values_of_few_counts(
    arith: Literal["int32", "int16", "float"], signed: bool, first: int, last: int
) -> None:
    """A table from the first count that has a value, below 0 too: each has its own, others none."""
    random = np.random.RandomState(first + last)
    counts = jr.Counts(4, signed=signed)
    values = random.randint(-300, 300, last - first + 1).tolist()
    points = dict(zip(range(counts.lowest + first, counts.lowest + last + 1), values, strict=True))
    channel = Channel("x", counts >> jr.Table(tuple(points.items()), unit="%"), 1)
    made = export(channel, "x", arith, 1)
    found = run_python(made.program, list(range(counts.lowest, counts.highest + 1)))
    if arith != "float":
        assert made.kind in (f"a full table of {last - first + 1} values", "comparisons")
    known = [i for i in range(16) if first <= i <= last]
    assert [round(found[i]) for i in known] == values
    none = {found[i] for i in range(16) if i not in known}
    assert len(none) <= 1
    assert not none & {float(value) for value in values}


@pytest.mark.parametrize("arith", ["int32", "float"])
@pytest.mark.parametrize("laws", [
    (jr.Formula("10000 / (x - 200)", takes="count", unit="%"),),
    (jr.Formula("100 * log(x - 700)", takes="count", unit="%"),),
    (jr.Line(0.5, unit="mA"), jr.Expect(50, 400)),
    (jr.Formula("sqrt((x - 300) * (x - 600))", takes="count", unit="%"),),
], ids=lambda laws: str(laws[0]))  # fmt: skip
def test_counts_without_a_value_have_none(
    arith: Literal["int32", "float"], laws: tuple[Any, ...]
) -> None:
    """One count alone, all up to one, those at both ends, and a stretch in the middle."""
    channel = Channel("x", Ruler((jr.Counts(10), *laws)), 1)
    made = export(channel, "x", arith, 10, 1.0)
    counts = list(range(1024))
    values = channel.ruler(np.array(counts))
    found = run_python(made.program, counts)
    none = [y is None or y == -(2**31) for y in found]
    assert none == np.isnan(values).tolist()
    scale = 1 if made.is_float else 10
    off = [abs(y / scale - v) for y, v, n in zip(found, values, none, strict=True) if not n]
    assert max(off) <= 1.05 + 1e-5 * float(np.nanmax(np.abs(values)))


@pytest.mark.parametrize(("law", "corners"), [
    (jr.Clamp(-20.123, 30), (-20.123, 30)),
    (jr.DeadBand(-0.31, 7.77), (-0.31, 7.77)),
    (jr.Magnitude(), (0.0,)),
    (jr.Expect(-20.123, 30), (-20.123, 30)),
], ids=str)  # fmt: skip
def test_a_wide_channel_is_looked_at_on_both_sides_of_its_corners(
    law: jr.Law, corners: tuple[float, ...]
) -> None:
    """Not every count of 24 bits is run; those beside a corner always are."""
    top = 2**24 - 1
    ruler = jr.Counts(24) >> jr.Line.through((0, -50), (top, 50), unit="%") >> law
    counts = ReferenceValues.of(Channel("x", ruler, 1), 10, 1.0).counts.tolist()
    assert len(counts) < 2**17
    for corner in corners:
        at = math.floor((corner + 50) / 100 * top)
        assert {at - 1, at, at + 1, at + 2} <= set(counts)
    assert {0, top} <= set(counts)


@pytest.mark.parametrize(("laws", "most"), [
    (jr.Line.through((0, -5e4), (2**20 - 1, 7e4), unit="g"), 0),
    (jr.Ruler.of(jr.Line(-0.003, 7), jr.Whole()), 0),
    (jr.Ruler.of(jr.Line(0.001), jr.Whole("down")), 0),
    (jr.Table(((0, 0), (2**18, 900), (2**19, 2000), (2**20 - 1, 2500)), ends="hold"), 4),
    (jr.Ruler.of(jr.Line(4e-3), jr.Polynomial((0, 1, -1e-4))), 80),
], ids=str)  # fmt: skip
@pytest.mark.parametrize("within", [None, 4.0])
@pytest.mark.parametrize("bits", [29, pytest.param(20, marks=soak)])
def test_a_proof_of_a_wide_channel_is_no_smaller_than_its_worst_error(
    laws: Any, most: int, within: float | None, bits: int
) -> None:
    """What was not run is no further off than what was said of all: of 20 bits all counts are
    held against it, of 29 bits some hundred thousand and those beside each knot."""
    channel = Channel("x", jr.Counts(bits) >> jr.Line(2.0 ** (20 - bits)) >> laws, 1)
    made = export(channel, "x", "int64", within=within)
    counts = np.arange(2**20)
    if bits > 20:
        knots = [n + by for n in made.program.tables.get("x_x", ()) for by in range(-3, 4)]
        some = np.random.RandomState(bits).randint(0, 2**bits, 300_000).tolist()
        counts = np.clip(np.array([*some, *knots]), 0, 2**bits - 1)
    off = np.abs(ProgramModel(made.program).run(counts) / made.wanted.scale - channel.ruler(counts))
    assert off.max() <= made.proof.worst + 1e-9
    assert made.proof.worst <= made.wanted.within + 1e-9
    assert sum(map(len, made.program.tables.values())) <= 2 * most
    if channel.ruler.laws[-1].rounds_to and within is None and bits == 20:
        assert made.proof.worst == 0.0
    if within is not None and made.proof.worst > 0:  # nor is it much larger
        assert made.proof.worst <= off.max() + 0.75


@pytest.mark.parametrize("bits", [12, 18, pytest.param(24, marks=soak)])
@pytest.mark.parametrize(("size", "decimals"), thinned([(5, 0), (1, 0), (0.25, 2), (20, 1)], 2))
@pytest.mark.parametrize("rounding", ["nearest", "down", "toward zero"])
@pytest.mark.parametrize(("tied", "sign"), thinned([(1, 1), (1, -1), (0, -1), (0, 1)], 2))
def test_what_is_rounded_to_steps_is_one_product(
    bits: int, size: float, decimals: int, rounding: Any, tied: int, sign: int
) -> None:
    """Every count gives its step, on ties of the rounding below and above 0 too; 400 steps."""
    top = 2**bits - 1
    zero, per_step = top // 3, 2 * (top // 800) + (0 if tied else 0.37)
    line = jr.Line.through((zero, 0), (zero + 100 * per_step, sign * 100 * size), unit="g")
    ruler = jr.Counts(bits) >> line >> jr.Steps(size, rounding)
    if rounding == "toward zero":  # a line has no step that is twice as wide
        ruler = ruler >> jr.Clamp(low=0)
    made = export(Channel("x", ruler, 1, decimals=decimals), "x")
    assert made.proof.worst == 0.0
    assert made.kind.startswith("multiply and"), made.kind
    counts = np.arange(top + 1)
    found = ProgramModel(made.program).run(counts) / made.wanted.scale
    assert np.abs(found - ruler(counts)).max() <= 1e-9


@pytest.mark.parametrize("within", [1.0, 2.0, 5.0])
@pytest.mark.parametrize("laws", [
    jr.Ruler.of(jr.Line(0.03), jr.Polynomial((0, 1, 0.01)), jr.Whole()),
    jr.Ruler.of(jr.Line(0.3), jr.Whole("down")),
    jr.Ruler.of(jr.Line(-0.02, 30), jr.Magnitude(), jr.Whole("up")),
], ids=str)  # fmt: skip
def test_what_could_be_exact_is_or_says_how(laws: Any, within: float) -> None:
    """An error that was allowed is used, and the exact form is named with its cost."""
    channel = Channel("x", jr.Counts(10) >> laws, 1, decimals=0)
    made, exact = (export(channel, "x", "int32", 1, bound) for bound in (within, 0.0))
    assert exact.proof.worst == 0.0
    is_bent = any(law.name == "polynomial" for law in laws.laws)
    assert (made.proof.worst > 0) == is_bent
    if is_bent:
        assert made.cheaper.endswith(f"; exact, with --within 0: {exact.kind}")
    assert made.proof.worst <= within


@pytest.mark.parametrize("step", [1, 3])
@pytest.mark.parametrize("low", [0, -700, 5])
@pytest.mark.parametrize("many", [6, 120])
def test_whole_numbers_by_count(step: int, low: int, many: int) -> None:
    """Compared, indexed or looked up: the number of the last count that is not above; `beyond`
    outside."""
    counts = low + step * np.arange(many)
    outputs = (np.arange(many) * 7919) % 11
    program = of_counts(counts, outputs, "f", 99)
    asked = np.arange(low - 2, counts[-1] + 3)
    place = np.searchsorted(counts, asked, side="right") - 1
    inside = (asked >= low) & (asked <= counts[-1])
    wanted = np.where(inside, outputs[np.clip(place, 0, many - 1)], 99)
    assert run_python(program, asked.tolist()) == wanted.tolist()
    assert ProgramModel(program).run(asked).tolist() == wanted.tolist()


@pytest.mark.parametrize(("low", "high", "arith"), [
    (0, 2**31 - 1, "int32"), (0, 2**31, "int64"),
    (-(2**31), 0, "int32"), (-(2**31) - 1, 0, "int64"),
])  # fmt: skip
def test_the_arithmetic_that_holds_counts(low: int, high: int, arith: str) -> None:
    assert counting(low, high) == arith


@pytest.mark.parametrize(("patterns", "many"), [
    (((0, 1), (1, 0)), 2), (((0.5, 1), (1, 0)), 0), (((0, 1), (2, 0.25)), 0), (("a", "b"), 0),
    ((3, 4), 0),
])  # fmt: skip
def test_only_patterns_of_whole_numbers_are_outputs(patterns: Any, many: int) -> None:
    channel = Channel("x", jr.Counts(6) >> jr.Zones((30,), patterns), 1)
    programs = pattern_programs(export(channel, "x"))
    assert len(programs) == many
    for i, program in enumerate(programs):
        assert run_python(program, [0, 1, 2]) == [patterns[0][i], patterns[1][i], 0]


def test_what_means_an_edge_is_on_it_in_zones_too() -> None:
    """0.1 · n − 10⁶ + 10⁶ means 0.1 · n, whatever floats make of it: by whole numbers, n ≥ 10 e."""
    tenths = (3, 17, 29, 58, 113, 201)
    ruler = jr.Counts(8) >> jr.Line(0.1, -1e6) >> jr.Line(1.0, 1e6)
    values = ruler(np.arange(256))
    assert any(values[n] < n / 10 - 1e-11 for n in tenths)
    zones = jr.Zones(tuple(n / 10 for n in tenths), tuple(range(7)), hysteresis=0.2)
    machine = zone_machine(export(Channel("x", ruler >> zones, 1), "x"))
    assert machine is not None
    at, least, most = (ProgramModel(program) for program in machine.programs[1:4])
    n = np.arange(256)
    for model, moved in ((at, 0), (least, 2), (most, -2)):
        wanted = np.sum(n[:, None] >= np.array(tenths) + moved, axis=1)
        assert model.run(n).tolist() == wanted.tolist()


@pytest.mark.parametrize("signs", ["\x80", "é", "°", "漢", "ß", "¼"])
def test_names_that_differ_in_signs_stay_two(signs: str) -> None:
    names = {safe_name(name) for name in (f"a{signs}", "a", f"{signs}a", signs)}
    assert len(names) == 4, names
    assert all(name.isascii() and name.isidentifier() for name in names)


def test_a_form_is_exact_at_marks_or_not() -> None:
    """Where it is off by less than half a step there, whatever it may be off elsewhere."""
    marks = ((100, 0.0), (900, 333.3))
    ruler = jr.Counts(10) >> jr.Line(marks=marks, takes="count", unit="mm")
    found = []
    for within in (0.1, 0.12, 0.14, 0.16, 0.18, 0.2, 0.25, 0.3, 0.5, 1.0, 2.0, 5.0):
        made = export(Channel("x", ruler, 1, decimals=1), "x", "int16", 10, within)
        there = np.array(run_python(made.program, [100, 900])) / 10
        exact = np.abs(there - [0.0, 333.3]).max() <= 0.05 + 1e-6
        assert made.proof.exact_at_marks == exact, (within, there)
        found.append(exact)
    assert {*found} == {True, False}


def test_how_far_off_one_straight_line_would_be() -> None:
    """By hand: y = n² over 0 to 100 is half a chord's height, 100² / 8, off the best line."""
    channel = Channel("x", jr.Counts(7) >> jr.Polynomial((0, 0, 1), domain=(0, 100)), 1)
    made = ReferenceValues.of(channel, 1, 1.0)
    assert straight_error(middle(made, "int32")) == pytest.approx(1250)
    falling = Channel("x", jr.Counts(7) >> jr.Polynomial((7, 0, -1), domain=(0, 100)), 1)
    off = straight_error(middle(ReferenceValues.of(falling, 1, 1.0), "int32"))
    assert off == pytest.approx(1250)


@pytest.mark.parametrize("within", thinned([0.6, 0.3, 2.0], 3))
@pytest.mark.parametrize("bits", [10, 18])
def test_how_many_knots_any_table_needs(bits: int, within: float) -> None:
    """Only where every count is run can it be said."""
    beta = jr.Adc(bits, 3.3) >> jr.Divider(4700) >> jr.Beta(10e3, 3435)
    channel = Channel("x", beta, 1, decimals=1, limits=(0, 90))
    made = export(channel, "x", None, 10, within, inside_limits=True)
    assert "one knot fewer would be off by up to" in made.cheaper
    m = middle(made.wanted, made.program.arith)
    knots = len(made.program.tables["x_x"])
    if bits == 18:
        assert made.cheaper.endswith("°C")
        return
    least = least_knots(made.wanted.low[m.part], made.wanted.high[m.part])
    says = "no table has fewer" if least == knots else f"at least {least} are needed"
    assert made.cheaper.endswith(f"; {says}")


@pytest.mark.parametrize(("last", "decimals", "scale"), [
    (jr.Steps(5), 1, 1), (jr.Whole(), 2, 1), (jr.Steps(0.5), 1, 10), (jr.Clamp(0, 100), 2, 100),
    (jr.Zones((30,), ("a", "b")), 1, 1), (jr.Clamp(0, 9), 9, 10**4),
])  # fmt: skip
def test_usual_scales(last: jr.Law, decimals: int, scale: int) -> None:
    ruler = jr.Counts(10) >> jr.Line(0.3) >> last
    assert usual_scale(Channel("x", ruler, 1, decimals=decimals)) == scale
    if isinstance(last, jr.Steps):  # what follows makes tenths of them
        tenths = ruler >> jr.Line(0.7)
        assert usual_scale(Channel("x", tenths, 1, decimals=decimals)) == 10**decimals


@pytest.mark.parametrize(("unit", "plain"), [
    ("degC", "C"), ("%", "%"), ("ohm", "ohm"), ("m/s", "m/s"), ("m/s²", "m/s2"),
    ("µm", "um"), ("kΩ", "kohm"), ("°C", "degC"), ("m³", "m3"), ("漢", "u6f22"), (None, ""),
])  # fmt: skip
def test_units_in_the_letters_of_a_small_display(unit: str | None, plain: str) -> None:
    found = plain_unit(unit)
    assert found.isascii()
    assert found.isprintable()
    assert comment(found) == found
    assert found == plain


EXACT, WIDEST = "exact", "no overflow: the widest intermediate is "
RISES, FALLS = "rising throughout", "falling throughout"


@pytest.mark.parametrize(("laws", "decimals", "error", "says"), [
    (jr.Ruler.of(jr.Line(0.3)), 1, EXACT, [RISES]),
    (jr.Ruler.of(jr.Line(0.1, -1e6), jr.Line(1.0, 1e6)), 1, EXACT, [RISES]),
    (jr.Ruler.of(jr.Line(-0.25, 9)), 0, "worst error 0.5 mm at count 2 (bound 1)", [FALLS]),
    (jr.Ruler.of(jr.Line(1, -100), jr.Magnitude()), 0, EXACT, ["not monotone"]),
    (jr.Line(marks=((20, 0), (220, 7)), takes="count"), 1,
     "worst error", [RISES, "exact at the marks"]),
    (jr.Ruler.of(jr.Line(marks=((20, 0), (220, 7)), takes="count"), jr.Expect(0, 6)), 1,
     "worst error", [RISES, "exact at the marks", "84 counts have no value"]),
    (jr.Ruler.of(jr.Line(0.5), jr.Expect(high=127)), 1, EXACT, [RISES, "1 count has no value"]),
], ids=str)  # fmt: skip
def test_what_a_proof_says(laws: Any, decimals: int, error: str, says: list[str]) -> None:
    made = export(Channel("x", jr.Counts(8) >> laws, 1, decimals=decimals), "x")
    first, *others = made.proof.lines("mm")
    assert first.startswith(f"all 256 counts were run: {error}")
    assert (first.endswith(": exact")) == (error == EXACT)
    assert [line for line in others if not line.startswith(WIDEST)] == says


@pytest.mark.parametrize("sign", [1, -1])
@pytest.mark.parametrize(
    ("gain", "offset", "widest"), [(3, 0, 7650), (3, 100, 8650), (0.1, 0, 255)]
)
def test_the_widest_intermediate_by_hand(
    sign: int, gain: float, offset: float, widest: int
) -> None:
    """255 counts times 30 or 1 steps, and 1000 of them added; as wide below 0."""
    channel = Channel("x", jr.Counts(8) >> jr.Line(sign * gain, sign * offset), 1, decimals=1)
    assert export(channel, "x").proof.widest == widest
