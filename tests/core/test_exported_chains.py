"""Exported programs of made-up chains, run count by count in plain Python, against the laws."""

from __future__ import annotations

import math
from typing import Any, Literal

import numpy as np
import pytest

import jetruler as jr
from jetruler import Channel, Ruler
from jetruler.core.firmware.names import comment, plain_unit
from jetruler.core.firmware.reference import ReferenceValues
from jetruler.core.firmware.selection import export
from tests.core.test_firmware import run_python


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
