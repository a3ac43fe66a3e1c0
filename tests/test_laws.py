"""Every law: its row of known values, its inverse and slope, and what it refuses."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from jetruler import Adc, Clamp, Counts, Law, Limits, Line, ParameterError, Whole
from jetruler.core.laws import HOMES, law_named

# law, x, y: computed by hand or from the definition in the datasheet, never by the law itself.
TRUTH: list[tuple[Law, float, float]] = [
    (Adc(12, 3.3), 4095, 3.3),
    (Adc(12, 3.3), 0, 0.0),
    (Adc(12, 3.3, count_at_vref=4096), 2048, 1.65),
    (Adc(10, 5.0, count_at_vref=1024), 512, 2.5),
    (Adc(10, 5.0), 1023, 5.0),
    (Adc(16, 3.0, count_at_vref=65535), 65535, 3.0),
    (Adc(16, 2.048, signed=True), -32768, -2.048 * 32768 / 32767),
    (Adc(16, 2.048, count_at_vref=32768, signed=True), -16384, -1.024),
    (Adc(24, 2.5, count_at_vref=2**24), 2**23, 1.25),
    (Adc(32, 4.0, count_at_vref=2**32), 2**30, 1.0),
    (Adc(1, 5.0), 1, 5.0),
    (Adc(12, 3.3), 4096, math.nan),
    (Adc(12, 3.3), -1, math.nan),
    (Counts(8), 255, 255.0),
    (Counts(8, signed=True), -128, -128.0),
    (Counts(8, signed=True), 128, math.nan),
    (Line(2, 3), 4, 11.0),
    (Line(-0.5), 4, -2.0),
    (Line.through((198, 0), (3904, 100)), 2051, 50.0),
    (Line.through((3904, 0), (198, 100)), 198, 100.0),
    (Line.through((4, 0), (20, 250)), 12, 125.0),
    (Clamp(0, 100), -3, 0.0),
    (Clamp(0, 100), 103, 100.0),
    (Clamp(low=0), 5e4, 5e4),
    (Clamp(0, 100), math.nan, math.nan),
    (Limits(0, 100), 103, 103.0),
    *((Whole("nearest"), x, y) for x, y in [(2.5, 3), (-2.5, -3), (0.49999999999999994, 0)]),
    *((Whole("down"), x, y) for x, y in [(2.9, 2), (-2.1, -3)]),
    *((Whole("up"), x, y) for x, y in [(2.1, 3), (-2.9, -2)]),
    *((Whole("toward zero"), x, y) for x, y in [(2.9, 2), (-2.9, -2)]),
]


@pytest.mark.parametrize(("law", "x", "y"), TRUTH, ids=repr)
def test_truth(law: Law, x: float, y: float) -> None:
    found = law(x)
    assert found == pytest.approx(y, rel=1e-15, nan_ok=True)
    assert not (found == 0 and math.copysign(1, found) < 0), "negative zero"


def test_every_law_has_a_row() -> None:
    assert {type(law) for law, _, _ in TRUTH} == {law_named(name) for name in HOMES}


@pytest.mark.parametrize(
    ("law", "mistake", "parameter"),
    [
        (Adc, {"bits": 0, "vref": 3.3}, "bits"),
        (Adc, {"bits": 33, "vref": 3.3}, "bits"),
        (Adc, {"bits": 12.0, "vref": 3.3}, "bits"),
        (Adc, {"bits": True, "vref": 3.3}, "bits"),
        (Adc, {"bits": 12, "vref": 0}, "vref"),
        (Adc, {"bits": 12, "vref": -3.3}, "vref"),
        (Adc, {"bits": 12, "vref": math.inf}, "vref"),
        (Adc, {"bits": 12, "vref": "3.3 V"}, "vref"),
        (Adc, {"bits": 12, "vref": 3.3, "count_at_vref": 0}, "count_at_vref"),
        (Adc, {"bits": 12, "vref": 3.3, "signed": 1}, "signed"),
        (Adc, {"bits": 1, "vref": 3.3, "signed": True}, "signed"),
        (Line, {}, "gain"),
        (Line, {"gain": 0}, "gain"),
        (Line, {"marks": ((1, 2), (1, 3))}, "marks"),
        (Line, {"marks": ((1, 2), (2, 2))}, "marks"),
        (Line, {"marks": ((1, 2), (2, 3), (3, 4))}, "marks"),
        (Line, {"marks": ((1, 2), (2, math.nan))}, "marks"),
        (Line, {"gain": 1, "marks": ((1, 2), (2, 3))}, "marks"),
        (Clamp, {}, "low"),
        (Clamp, {"low": 5, "high": 3}, "low"),
        (Limits, {"low": 3, "high": 3}, "low"),
        (Whole, {"rounding": "sideways"}, "rounding"),
    ],
)
def test_refuses(law: type[Law], mistake: dict[str, Any], parameter: str) -> None:
    with pytest.raises(ParameterError) as caught:
        law(**mistake)
    assert caught.value.name == parameter
    assert caught.value.right


marks = st.tuples(
    st.floats(-1e6, 1e6), st.floats(-1e6, 1e6), st.floats(-1e6, 1e6), st.floats(-1e6, 1e6)
).filter(lambda m: abs(m[0] - m[2]) > 1e-6 and abs(m[1] - m[3]) > 1e-6)


@given(marks)
def test_line_is_exact_at_both_marks(m: tuple[float, float, float, float]) -> None:
    x0, y0, x1, y1 = m
    for line in (Line.through((x0, y0), (x1, y1)), Line.through((x1, y1), (x0, y0))):
        assert (line(x0), line(x1)) == (y0, y1)
        assert tuple(line.inverse(np.array([y0, y1]))) == (x0, x1)


LAWS_TO_INVERT = [law for law, x, y in TRUTH if not isinstance(law, Whole) and y == y]


@given(st.sampled_from(LAWS_TO_INVERT), st.floats(0.01, 0.99))
def test_inverse_and_slope(law: Law, share: float) -> None:
    low, high = 0.0, 100.0
    if isinstance(law, Adc | Counts):
        low, high = law.lowest, law.highest
    x = np.array([low + share * (high - low)])
    h = 1e-4 * (high - low)
    assert law.inverse(law.forward(x)) == pytest.approx(x, rel=1e-9, abs=1e-9)
    difference = (law.forward(x + h / 2) - law.forward(x - h / 2)) / h
    assert law.slope(x) == pytest.approx(difference, rel=1e-6)


def test_worked_lines_end_in_the_result() -> None:
    for law, x, y in TRUTH:
        if y == y and not isinstance(law, Limits):
            assert f"{y:.6g}".replace("-", "−") in law.formula(x)
            assert law.inverse_formula(y)
