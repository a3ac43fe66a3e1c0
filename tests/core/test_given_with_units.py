"""Quantities of Pint's at every door, and marks by name."""

from __future__ import annotations

import contextlib
from collections import namedtuple
from dataclasses import replace
from typing import Any

import numpy as np
import pandas as pd
import pint
import polars as pl
import pyarrow as pa
import pytest

import jetruler as jr
from jetruler.benchfile.models import TableErrors, build_law
from jetruler.errors import ParameterError
from tests.core.test_fit_verdicts import jr_table, numbers_in, with_text
from tests.core.test_laws import TRUTH

Q: Any = pint.get_application_registry().Quantity  # type: ignore[no-untyped-call]
BEAN = jr.Adc(12, 3.3) >> jr.Divider(4700.0, sensor="lower") >> jr.Beta(1e5, 3950.0)
CHANNEL = jr.Channel("bean", BEAN, "ch0", limits=(0, 260))

# By hand: 1.5 V at a 12-bit pin of 3.3 V is count 1.5 / 3.3 · 4095.
COUNT = 1.5 / 3.3 * 4095


@pytest.mark.parametrize(
    ("given", "plain"),
    [
        (Q(1.5, "V"), COUNT),
        (Q(1500, "mV"), COUNT),
        (Q([1.5, 1.5], "V"), np.array([COUNT, COUNT])),
        (Q(1880, "count"), 1880),
        (Q(1880, ""), 1880),
        (Q(4.7, "kohm"), 4095 / 2),  # as much as the fixed resistor: half the reference
    ],
    ids=["V", "mV", "array", "count", "bare", "kohm"],
)
@pytest.mark.parametrize("door", [BEAN, CHANNEL, BEAN.slope, lambda x: BEAN.read(x).value])
def test_a_quantity_is_read_at_the_raw_edge_or_a_joint(door: Any, given: Any, plain: Any) -> None:
    assert door(given) == pytest.approx(door(plain), rel=1e-12)


def test_the_way_back_and_values_with_their_unit() -> None:
    assert BEAN.inverse(Q(482, "degF")) == pytest.approx(BEAN.inverse(250.0))
    value: Any = BEAN(1880, units=True)
    assert f"{value.units:~}" == "°C"
    assert value.magnitude == BEAN(1880)
    assert value.to("degF").magnitude == pytest.approx(BEAN(1880) * 9 / 5 + 32)
    assert CHANNEL([1880], units=True).magnitude == [BEAN(1880)]
    assert jr.Line(2, unit="V", takes="mA").forward(Q(0.001, "A")) == 2.0
    with pytest.raises(jr.errors.UnitError, match="in count or V or Ω, found 1"):
        BEAN(Q(1, "m"))


@pytest.mark.parametrize(
    ("made", "same"),
    [
        (jr.Divider(Q(4.7, "kohm")), jr.Divider(4700.0)),
        (jr.Beta(Q(100, "kohm"), Q(3950, "K"), t0=Q(25, "degC")), jr.Beta(1e5, 3950.0)),
        (jr.Adc(12, Q(3300, "mV")), jr.Adc(12, 3.3)),
        (jr.Line.through((Q(4, "mA"), 0), (Q(20, "mA"), Q(16, "bar"))),
         jr.Line.through(("4 mA", 0), ("20 mA", "16 bar"))),
        (jr.Channel("b", BEAN, 1, limits=(Q(32, "degF"), Q(250, "degC"))),
         jr.Channel("b", BEAN, 1, limits=(0, 250))),
        (jr.Condition("b", above=Q(225, "degC")), jr.Condition("b", above="225.0 degC")),
        (jr.Drive("d", "b", ((0, Q(1, "ms")), (1, Q(2, "ms"))), safe=Q(1.5, "ms"), range="pulse"),
         jr.Drive("d", "b", ((0, 1000), (1, 2000)), safe=1500, range="pulse")),
    ],
    ids=["divider", "beta", "adc", "line", "limits", "condition", "drive"],
)  # fmt: skip
def test_a_quantity_is_a_parameter(made: Any, same: Any) -> None:
    assert made == same


RAW, TRUE = [3912, 2479, 573], [25.3, 99.6, 200.1]
Mark = namedtuple("Mark", "raw true")


@pytest.mark.parametrize(
    "given",
    [
        {"raw": RAW, "true": TRUE},
        {"true": TRUE, "raw": RAW},
        pd.DataFrame({"true": TRUE, "raw": RAW}),
        pl.DataFrame({"true": TRUE, "raw": RAW}),
        pa.table({"true": TRUE, "raw": RAW}),
        np.array(list(zip(TRUE, RAW, strict=True)), [("true", float), ("raw", float)]),
        [{"true": t, "raw": r} for r, t in zip(RAW, TRUE, strict=True)],
        [Mark(r, t) for r, t in zip(RAW, TRUE, strict=True)],
        list(zip(RAW, TRUE, strict=True)),
        zip(RAW, TRUE, strict=True),
        [RAW, TRUE],
        np.array([RAW, TRUE]),
        (RAW, TRUE),
        (np.array(RAW), pd.Series(TRUE)),
        pd.DataFrame([RAW, TRUE]).T,
        {"raw": RAW, "true": [f"{t} degC" for t in TRUE]},
        {"raw": RAW, "true": Q(TRUE, "degC")},
        [(r, Q(t, "degC")) for r, t in zip(RAW, TRUE, strict=True)],
    ],
    ids=["dict", "any order", "pandas", "polars", "Arrow", "records", "dicts", "named tuples",
         "pairs", "iterator", "two lists", "two rows", "tuple of lists", "tuple of columns",
         "frame without names", "texts", "quantities", "pairs with quantities"],
)  # fmt: skip
def test_marks_are_the_same_however_they_are_given(given: Any) -> None:
    marks = jr.Marks.of(given)
    assert (marks.raw.tolist(), marks.true.tolist()) == (RAW, pytest.approx(TRUE))
    assert marks.u_true is None
    assert marks.true_unit in (None, "degC")


def test_uncertainties_by_name_and_the_small_tables() -> None:
    named = jr.Marks.of({"raw": RAW, "true": TRUE, "u": [0.1, 0.2, 0.3], "u_raw": [1, 1, 1]})
    assert named.u_true is not None
    assert named.u_raw is not None
    assert (named.u_true.tolist(), named.u_raw.tolist()) == ([0.1, 0.2, 0.3], [1, 1, 1])
    two = jr.Marks.of([[0, 1], [100, 5]])  # two of two: each is a mark
    assert (two.raw.tolist(), two.true.tolist()) == ([0, 100], [1, 5])
    triples = jr.Marks.of([(0, 1, 0.1), (100, 5, 0.2)])  # tuples are marks
    assert triples.raw.tolist() == [0, 100]


@pytest.mark.parametrize(
    ("given", "says"),
    [
        (
            pd.DataFrame({"count": RAW, "temp": TRUE}),
            "raw, true.*found count, temp",
        ),
        ({"raw": RAW}, "found raw"),
        ({"raw": RAW, "true": TRUE, "when": RAW}, "found raw, true, when"),
        ({"raw": RAW, "true": TRUE[:2]}, "expected columns of one length"),
        ({"raw": RAW, "true": ["warm", "hot", "25 degC"]}, "true: .*expected a quantity"),
        ([1, 2, 3], "expected pairs"),
        ([(1,), (2,)], "expected pairs"),
        ("marks.csv", "expected pairs"),
    ],
)
def test_what_are_no_marks_is_said(given: Any, says: str) -> None:
    with pytest.raises(jr.errors.MarksError, match=says):
        jr.Marks.of(given)


def changed(law: Any, given: dict[str, Any]) -> Any:
    return replace(law, **given)


@pytest.mark.parametrize("law", [law for law, *_ in TRUTH], ids=lambda law: law.name)
def test_no_unit_is_lost(law: jr.Law) -> None:
    """A number with a unit that the law does not have is refused, or gives the law its unit."""
    table = jr_table(law)
    for key, value in table.items():
        for path in [] if (law.name, key) == ("zones", "values") else numbers_in(value):
            given = {key: with_text(value, path, "lx")}
            for make in (lambda given: build_law(table | given), lambda given: changed(law, given)):
                with contextlib.suppress(ParameterError, TableErrors):
                    made: Any = make(given)
                    assert "lx" in (made.takes, made.gives, getattr(made, "unit", "")), (key, path)


# one law in a scale of its own; the same with plain numbers in that of the chain
V, C, F = jr.Input("V"), jr.Input("degC"), jr.Input("degF")
DIFFERENCES: list[tuple[jr.Ruler, jr.Ruler]] = [
    (V >> jr.Steps("50 mV"), V >> jr.Steps(0.05)),
    (jr.Input("mV") >> jr.Steps("0.05 V"), jr.Input("mV") >> jr.Steps(50)),
    (F >> jr.Steps("5 K"), F >> jr.Steps(9)),
    (C >> jr.Steps("9 degF"), C >> jr.Steps(5)),
    (C >> jr.Steps("5 K"), C >> jr.Steps(5)),
    (
        V >> jr.Zones(("500 mV", "1 V"), (0, 1, 2), hysteresis="50 mV"),
        V >> jr.Zones((500, 1000), (0, 1, 2), takes="mV", hysteresis=50),
    ),
    (
        C >> jr.Zones(("20 degC", "30 degC"), (0, 1, 2), hysteresis="9 degF"),
        C >> jr.Zones((20, 30), (0, 1, 2), takes="degC", hysteresis=5),
    ),
    (
        jr.Ruler((jr.Input("degC", "0.9 degF", ("0 degC", "212 degF"), "± 1.8 degF"),)),
        jr.Ruler((jr.Input("degC", 0.5, (0, 100), 1.0),)),
    ),
    (
        jr.Ruler((jr.Input("V", "1 mV", ("-500 mV", 5), "± 3 mV"),)),
        jr.Ruler((jr.Input("V", 0.001, (-0.5, 5), 0.003),)),
    ),
]


@pytest.mark.parametrize(("given", "plain"), DIFFERENCES)
def test_a_difference_is_one_in_any_scale(given: jr.Ruler, plain: jr.Ruler) -> None:
    assert given.laws == plain.laws


@pytest.mark.parametrize(
    ("make", "says"),
    [
        (lambda: V >> jr.Steps("5 bar"), r"^steps: size: expected a quantity in V, found 5 bar$"),
        (lambda: jr.Zones((20, 30), (0, 1, 2), hysteresis="2 K"), r"or a unit for edges too"),
        (lambda: jr.Zones(("1 V",), (0, 1), hysteresis="2 bar"), r"^hysteresis: .* in V, found"),
        (lambda: jr.Input("V", error="± 1 %"), r"^error: expected a quantity in V, found '1 %'"),
        (lambda: jr.Amplifier("20 dB"), r"^gain: expected a number without a unit, found '20 dB'"),
    ],
)
def test_a_difference_of_another_kind_is_refused(make: Any, says: str) -> None:
    with pytest.raises(jr.JetRulerError, match=says):
        make()
