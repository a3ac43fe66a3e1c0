"""Rulers: kinds of input, flags, joints, the compiled table, the worked solution."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

from jetruler import (
    Adc,
    Channel,
    Clamp,
    Counts,
    Expect,
    Flag,
    Formula,
    Input,
    Law,
    Limits,
    Line,
    Ruler,
    Table,
    Whole,
)
from jetruler.errors import UnitError

DAMPER = Counts(12) >> Line.through((198, 0), (3904, 100), unit="%") >> Clamp(0, 100)
VOLTS = Ruler.of(Adc(12, 3.3))


@pytest.mark.parametrize(
    ("given_in", "comes_out"),
    [
        (2051, 50.0),
        (2051.0, 50.0),
        (np.int16(2051), 50.0),
        (None, math.nan),
        ([198, 3904], [0.0, 100.0]),
        ([[198], [3904]], [[0.0], [100.0]]),
        ((198, 3904), (0.0, 100.0)),
        ([], []),
        ([198, None], [0.0, math.nan]),
        (10**30, math.nan),
        (-(10**30), math.nan),
    ],
)
def test_gives_the_like(given_in: Any, comes_out: Any) -> None:
    found = DAMPER(given_in)
    assert type(found) is type(comes_out)
    assert repr(found) == repr(comes_out)


@pytest.mark.parametrize(
    "dtype", ["u1", "i1", "u2", "i2", "u4", "i4", "u8", "i8", ">u2", "f4", "f8"]
)
@pytest.mark.parametrize("shape", [(6,), (2, 3), (), (0, 3)])
def test_arrays_of_any_shape_and_type(dtype: str, shape: tuple[int, ...]) -> None:
    counts = np.arange(100, 106)[: math.prod(shape)].reshape(shape).astype(dtype)
    found = VOLTS(counts)
    assert found.shape == shape
    np.testing.assert_array_equal(found, counts.astype(float) / 4095 * 3.3)


def test_series_keeps_its_index() -> None:
    counts = pd.Series([198, 3904], index=["closed", "open"], name="knob")
    expected = pd.Series([0.0, 100.0], index=["closed", "open"], name="knob")
    pd.testing.assert_series_equal(DAMPER(counts), expected)
    missing = pd.Series([198, None], dtype="Int64")
    assert DAMPER(missing).tolist()[0] == 0.0
    assert DAMPER.read(missing).flags.tolist() == [0, Flag.MISSING]


def test_strided_and_masked_arrays() -> None:
    counts = np.arange(4096, dtype=np.uint16)
    np.testing.assert_array_equal(DAMPER(counts[::3]), DAMPER(counts)[::3])
    masked = np.ma.array([198, 3904], mask=[False, True])
    np.testing.assert_array_equal(DAMPER(masked), [0.0, np.nan])
    out = np.zeros((2, 3))
    assert DAMPER(np.array([198, 3904]), out=out[:, 1]) is not None
    np.testing.assert_array_equal(out, [[0, 0, 0], [0, 100, 0]])
    with pytest.raises(ValueError, match="float64 of"):
        DAMPER(np.array([198, 3904]), out=np.zeros(3))


@pytest.mark.parametrize("wrong", ["12", ["12"], b"x", [True], True, 1j, [object()], [{}]])
def test_refuses_what_is_no_number(wrong: Any) -> None:
    with pytest.raises(TypeError, match="numbers"):
        DAMPER(wrong)


@pytest.mark.parametrize(
    ("count", "value", "flags"),
    [
        (2051, 50.0, 0),
        (0, 0.0, Flag.LOW_RAIL | Flag.BELOW),
        (4095, 100.0, Flag.HIGH_RAIL | Flag.ABOVE),
        (4096, math.nan, Flag.OFF_SCALE),
        (-1, math.nan, Flag.OFF_SCALE),
        (65535 + 1 + 2051, math.nan, Flag.OFF_SCALE),  # would read 50 % if it were wrapped
        (math.nan, math.nan, Flag.MISSING),
        (197, 0.0, Flag.BELOW),
    ],
)
def test_flags_by_table_and_directly(count: float, value: float, flags: int) -> None:
    for reading in (DAMPER.read(count), DAMPER.read(float(count))):
        assert reading.value == pytest.approx(value, nan_ok=True)
        assert reading.flags == flags


def test_counts_are_never_wrapped_round() -> None:
    signed = Counts(12, signed=True) >> Line(1)
    for ruler, dtype, count in [
        (DAMPER, np.int8, -1),
        (DAMPER, np.int16, -2051),
        (DAMPER, np.int64, np.iinfo(np.int64).min),
        (DAMPER, np.int64, np.iinfo(np.int64).max),
        (signed, np.uint64, np.iinfo(np.uint64).max),
        (signed, np.uint16, 65535),
        (signed, np.int64, np.iinfo(np.int64).max),
        (Counts(32) >> Line(1), np.int64, 2**32),
    ]:
        reading = ruler.read(np.array([count], dtype=dtype))
        assert math.isnan(reading.value[0])
        assert reading.flags[0] == Flag.OFF_SCALE


@st.composite
def chains(draw: st.DrawFn) -> Ruler:
    bits, signed = draw(st.integers(2, 16)), draw(st.booleans())
    vref = draw(st.floats(0.1, 10))
    laws: list[Law] = [Adc(bits, vref, signed=signed)]
    for kind in draw(st.lists(st.sampled_from(["line", "marks", "clamp", "whole"]), max_size=4)):
        a, b = draw(st.floats(-100, 100)), draw(st.floats(0.1, 100))
        if kind == "line":
            laws.append(Line(b, a))
        elif kind == "marks":
            laws.append(Line.through((a, b), (a + b, -a - b)))
        elif kind == "clamp":
            laws.append(Clamp(a, a + b))
        else:
            laws.append(Whole(draw(st.sampled_from(["nearest", "down", "up", "toward zero"]))))
    return Ruler.of(*laws, Limits(-50, 50))


@given(chains(), st.data())
def test_table_equals_direct_path_bit_for_bit(ruler: Ruler, data: st.DataObject) -> None:
    assert ruler.converter is not None
    low, high = ruler.converter.lowest, ruler.converter.highest
    counts = np.array(data.draw(st.lists(st.integers(low - 3, high + 3), min_size=1)))
    by_table, directly = ruler.read(counts), ruler.read(counts.astype(float))
    assert by_table.value.tobytes() == directly.value.tobytes()
    assert by_table.value.tobytes() == ruler.direct(counts).tobytes()
    assert by_table.flags.tobytes() == directly.flags.tobytes()
    assert repr([ruler(int(c)) for c in counts]) == repr(by_table.value.tolist())


@given(chains(), st.floats(0.05, 0.95))
def test_chain_inverse_and_slope(ruler: Ruler, fraction: float) -> None:
    assert ruler.converter is not None
    laws = [law for law in ruler.laws if not isinstance(law, Clamp | Whole)]
    smooth = Ruler(tuple(laws))
    low, high = ruler.converter.lowest, ruler.converter.highest
    x = low + fraction * (high - low)
    assert smooth.inverse(smooth(x)) == pytest.approx(x, rel=1e-9, abs=1e-7 * (high - low))
    h = (high - low) / 100
    difference = (smooth(x + h) - smooth(x - h)) / (2 * h)
    assert smooth.slope(x) == pytest.approx(difference, rel=1e-6)


def test_inverse_says_where_there_is_no_way_back() -> None:
    assert DAMPER.inverse(50) == 2051.0
    assert DAMPER.inverse([0, 100, 101]) == pytest.approx([198, 3904, math.nan], nan_ok=True)
    assert math.isnan(VOLTS.inverse(3.4))  # no count of this converter means 3.4 V
    assert VOLTS.inverse(3.3) == 4095.0


def test_units_meet_at_every_joint() -> None:
    with pytest.raises(UnitError, match="adc gives V, but clamp, which follows it, takes °C"):
        Adc(12, 3.3) >> Clamp(0, 260, unit="°C")
    with pytest.raises(UnitError, match="takes count"):
        Line(2, unit="V") >> Adc(12, 3.3)
    kept = Adc(12, 3.3) >> Line(2) >> Clamp(0, 3)
    assert kept.units == ("count", "V", "V", "V")
    assert (Line(2) >> kept.laws[2]).units == (None, None, None)
    with pytest.raises(TypeError, match="expected a law or a ruler"):
        Ruler.of(Line(2), 3)  # type: ignore[arg-type]


def test_joining_in_any_grouping_is_the_same_ruler() -> None:
    a, b, c = Adc(12, 3.3), Line(2), Clamp(0, 3)
    assert (a >> b) >> c == a >> (b >> c) == Ruler.of(a, b, c)
    assert repr(b >> c) == f"{b!r} >> {c!r}"


def test_wide_converters_go_directly() -> None:
    wide = Adc(24, 2.5) >> Line(4)
    assert wide.compiled() is None
    assert wide(2**24 - 1) == 10.0
    assert wide.read(np.array([2**24 - 1])).flags.tolist() == [Flag.HIGH_RAIL]


def test_worked_solution_both_ways() -> None:
    text = str(DAMPER.trace(1880))
    assert text.splitlines()[0] == "1880 count"
    assert "0 + (1880 − 198) · (100 − 0) / (3904 − 198) = 45.3859 %" in text
    back = DAMPER.trace_back(50)
    assert back.reading.value == 2051.0
    assert [step.law for step in back.steps] == ["clamp", "line", "counts"]
    assert "never lets 120 through" in str(DAMPER.trace_back(120))
    assert str(DAMPER.read(0)) == "0 % [low_rail, below]"


@given(
    ruler=st.sampled_from([Adc(12, 3.3) >> Line(2), Counts(16, signed=True) >> Line(0.5)]),
    n=st.integers(-40_000, 70_000),
)
def test_one_reading_and_a_table_of_them_are_the_array(ruler: Ruler, n: int) -> None:
    """One number, whatever its type, and the table for a loop of one's own."""
    table = ruler.lookup()
    expected = float(ruler(np.array([n]))[0])
    for one in (n, np.int64(n), float(n)):
        assert ruler(one) == pytest.approx(expected, nan_ok=True, rel=0)
    edge = ruler.converter
    assert edge is not None
    assert (n in table) is (edge.lowest <= n <= edge.highest)
    assert table.get(n, math.nan) == pytest.approx(expected, nan_ok=True, rel=0)
    table[n] = -1.0  # it is whoever's asked for it
    assert ruler.lookup().get(n) != -1.0


def test_a_table_needs_counts() -> None:
    with pytest.raises(UnitError, match="takes any number"):
        Ruler.of(Line(2)).lookup()


def test_a_channel_is_called_like_its_ruler() -> None:
    knob = Channel("knob", Counts(8) >> Line(0.5), "a", limits=(0, 100))
    assert knob(10) == 5.0
    assert knob([10, 20]) == [5.0, 10.0]


@pytest.mark.parametrize("many", [2, 7, 100, 5000])
@pytest.mark.parametrize(("edge", "low", "high", "step"), [
    (Adc(12, 3.3), 0, 4095, 1),
    (Adc(6, 3.3), 0, 63, 1),
    (Adc(16, 2.048, signed=True), -32768, 32767, 1),
    (Adc(16, 5.0, codes=12), 0, 65535, 1),
    (Counts(32), 0, 2**32 - 1, 1),
    (Input("cm", resolution=0.1, range=(2, 102)), 2, 102, 0.1),
    (Input("V", range=(-1, 3)), -1, 3, 0),
], ids=str)  # fmt: skip
def test_samples_of_an_input_are_spread_over_what_it_can_give(
    many: int, edge: Any, low: float, high: float, step: float
) -> None:
    """From end to end, at even distances but for their steps, none twice."""
    x = edge.samples(many)
    assert x.size == (min(many, round((high - low) / step) + 1) if step else many)
    assert (x[0], x[-1]) == (low, high)
    assert np.all(np.diff(x) > 0)
    assert np.ptp(np.diff(x)) <= 2 * step + 1e-9
    if step:
        steps = (x - low) / step
        assert steps == pytest.approx(np.rint(steps), abs=1e-6)


@pytest.mark.parametrize(("unit", "takes", "hint"), [
    ("degC", "degF", True), ("K", "degC", True), ("V", "degC", False), ("degC", "V", False),
    ("V", "A", False),
])  # fmt: skip
def test_a_law_that_converts_is_proposed_for_temperatures_alone(
    unit: str, takes: str, hint: bool
) -> None:
    with pytest.raises(UnitError, match=r"limits gives .*, but line, .* takes") as caught:
        Counts(8) >> Line(2.0, unit=unit) >> Limits(0, 5) >> Line(1.0, takes=takes)
    assert ("a law `to` with unit" in str(caught.value)) == hint


@pytest.mark.parametrize("ruler", [
    Counts(8) >> Line(2.0) >> Expect(40, 200),
    Counts(8) >> Expect(40, 200) >> Line(2.0),
    Counts(8) >> Table(((20, 1), (90, 5), (130, 9))) >> Line(-3.0),
    Counts(8) >> Formula("log(x - 50)", takes="count") >> Clamp(0, 4),
    Counts(8) >> Line(0.1, -5.0) >> Formula("sqrt(x)") >> Whole(),
], ids=str)  # fmt: skip
def test_there_is_a_slope_where_there_is_a_value(ruler: Ruler) -> None:
    """And it is that of the values beside it, but for corners and steps."""
    n = np.arange(256.0)
    values, slopes = ruler(n), ruler.slope(n)
    assert np.isnan(slopes).tolist() == np.isnan(values).tolist()
    if ruler.laws[-1].rounds_to is None:
        near = (ruler.direct(n + 1e-4) - ruler.direct(n - 1e-4)) / 2e-4
        smooth = ~np.isnan(near) & (np.abs(near - slopes) < 0.02 * np.abs(near) + 1e-9)
        assert np.count_nonzero(smooth) >= np.count_nonzero(~np.isnan(values)) - 4


@pytest.mark.parametrize("kind", [
    *("<i1", "<u1", "<i2", ">i2", "<u2", ">u2", "<i4", ">i4", "<u4", ">u4"),
    *("<i8", ">i8", "<u8", ">u8"),
])  # fmt: skip
@pytest.mark.parametrize("bits", [12, 20])
def test_counts_of_any_type_read_alike(kind: str, bits: int) -> None:
    """In either order of bytes, in a row or with gaps; what is beyond the converter has none."""
    dtype = np.dtype(kind)
    ruler = Counts(bits) >> Line(0.5, -3.0)
    limits = np.iinfo(dtype)
    random = np.random.RandomState(bits)
    ends = [0, 1, 2**bits - 1, 2**bits, -1, limits.min, limits.max]
    some = [*ends, *random.randint(0, 2**bits, 500).tolist()]
    counts = [n for n in some if limits.min <= n <= limits.max]
    wanted = [0.5 * n - 3 if 0 <= n < 2**bits else math.nan for n in counts]
    for array in (np.array(counts, dtype), np.repeat(np.array(counts, dtype), 3)[::3]):
        assert np.array_equal(ruler(array), wanted, equal_nan=True)
        flags = ruler.read(array).flags
        assert ((flags & Flag.OFF_SCALE) != 0).tolist() == np.isnan(wanted).tolist()
