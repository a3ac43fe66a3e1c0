"""What people type in a notebook, and what they get: lists, frames, texts, laws, channels."""

from __future__ import annotations

import os
from array import array
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import polars as pl
import pytest

import jetruler
from jetruler.errors import ParameterError

#: A notebook has no type checker; what texts and lists become is checked here as it runs.
jr: Any = jetruler

RULER = jr.Counts(12) >> jr.Line(0.5)
MARKS = [(198, 0.0), (2050, 49.6), (3904, 100.0)]
RAW, TRUE = zip(*MARKS, strict=True)
SENSOR = jr.Adc(12, 3.3) >> jr.Divider(4700) >> jr.Beta(100e3, 3950)
DEMO = Path(jetruler.__file__).parent / "demo"
LOG, OUT = DEMO / "roast.csv", Path(os.devnull)
BENCH = jr.load_bench(DEMO / "bench.toml")
KNOB = jr.Channel("knob", RULER, "ch0")


def gain(marks: Any) -> float:
    return round(float(jr.fit(marks).parameters[0].value), 9)


GAIN = gain(MARKS)

#: What is typed, and what it is.
TYPED: list[tuple[str, Callable[[], Any], Any]] = [
    ("a range", lambda: RULER(range(3)), [0.0, 0.5, 1.0]),
    ("an array.array", lambda: RULER(array("i", [1, 2])), array("d", [0.5, 1.0])),
    ("an Index", lambda: RULER(pd.Index([1, 2], name="n")).tolist(), [0.5, 1.0]),
    ("a Polars Series", lambda: RULER(pl.Series("n", [1, 2])).to_list(), [0.5, 1.0]),
    ("a frame", lambda: RULER(pd.DataFrame({"a": [1], "b": [4]})).to_dict("list"),
     {"a": [0.5], "b": [2.0]}),
    ("a channel, called", lambda: KNOB(10), 5.0),
    ("a channel's inverse", lambda: KNOB.inverse(5.0), 10.0),
    ("a channel's slope", lambda: KNOB.slope(5.0), 0.5),
    ("a channel's trace", lambda: KNOB.trace(10).reading.value, 5.0),
    ("marks as pairs", lambda: gain(MARKS), GAIN),
    ("marks as two lists", lambda: gain((list(RAW), list(TRUE))), GAIN),
    ("marks as two arrays", lambda: gain((np.array(RAW), np.array(TRUE))), GAIN),
    ("marks as a frame", lambda: gain(pd.DataFrame({"raw": RAW, "true": TRUE})), GAIN),
    ("marks from a generator", lambda: gain(pair for pair in MARKS), GAIN),
    ("marks zipped", lambda: gain(zip(RAW, TRUE, strict=True)), GAIN),
    ("zones of lists", lambda: jr.Zones([1, 2], ["a", "b", "c"]).values, ("a", "b", "c")),
    ("a table of an array", lambda: jr.Table(np.array([[0, 1], [1, 3]]))(0.5), 2.0),
    ("a table of a frame", lambda: jr.Table(pd.DataFrame({"x": [0, 1], "y": [1, 3]}))(0.5), 2.0),
    ("a law of lists is hashable", lambda: len({jr.Zones([1], [0, 1]), jr.Zones((1,), (0, 1))}), 1),
    ("a part's code", lambda: jr.Divider("4k7 ± 1 %").known, jr.Toleranced(4700, 47)),
    ("a temperature with its unit", lambda: jr.Beta("100 kohm", 3950, t0="25 degC").t0, 298.15),
    ("a Beta in K", lambda: jr.Beta(1e5, "3950 K ± 1 %").beta, jr.Toleranced(3950, 39.5)),
    ("marks that say their units", lambda: jr.Line(marks=[("0.5 V", 0), ("4.5 V", "10 bar")]).unit,
     "bar"),
    ("a clamp that says its unit", lambda: jr.Clamp("3.6 mA", "21 mA").low, 3.6),
    ("a list with tolerances", lambda: jr.Polynomial(["1 ± 0.1", 2]).coefficients[0].half_width,
     0.1),
    ("a constant with a tolerance", lambda: jr.Formula("a*x", a="2 ± 1 %").constants[0][1], 2.0),
    ("a budget of one law", lambda: jr.budget(jr.Adc(12, "3.3 V ± 1 %"), 4095).value, 3.3),
    ("a law propagated", lambda: jr.propagate(jr.Line(2), 1.0, 0.5).standard_deviation, 1.0),
    ("a channel propagated", lambda: jr.propagate(KNOB, 10, 2).standard_deviation, 1.0),
    ("a channel of one law", lambda: jr.Channel("k", jr.Counts(8), "a")(5), 5.0),
    ("a channel of laws", lambda: jr.Channel("k", [jr.Counts(8), jr.Line(2)], "a")(5), 10.0),
    ("a bench of a list", lambda: list(jr.Bench("Desk", [KNOB])), ["knob"]),
    ("a bench has a length", lambda: len(jr.Bench("Desk", [KNOB])), 1),
    ("a channel in a bench", lambda: "knob" in jr.Bench("Desk", [KNOB]), True),
    ("a bench's items", lambda: dict(jr.Bench("Desk", [KNOB]).items()), {"knob": KNOB}),
    ("one name for only", lambda: list(jr.convert(LOG, BENCH, OUT, only="bean").channels),
     ["bean"]),
    ("a Series, smoothed", lambda: jr.smooth(pd.Series([2, 4], [7, 8]), jr.Smoothing("mean", 2)),
     pd.Series([2.0, 3.0], [7, 8])),
    ("marks on a law", lambda: jr.fit(MARKS, upstream=jr.Counts(12)).law.name, "line"),
    ("parts for a ruler", lambda: jr.choose_resistor(SENSOR, 20, 240).best.known > 0, True),
    ("readings for a ruler", lambda: jr.choose_averaging(SENSOR, 1, at=99, noise=1).unit, "degC"),
    ("firmware of a ruler", lambda: jr.export(RULER).proof.holds, True),
    ("a ruler calibrated", lambda: jr.calibrate(RULER, MARKS).fit.law.name, "line"),
    ("a bench, shown", lambda: repr(jr.Bench("Desk", [KNOB])), "Bench('Desk': knob)"),
    ("get from a bench", lambda: jr.Bench("Desk", [KNOB]).get("nob"), None),
]  # fmt: skip


@pytest.mark.parametrize(("typed", "given"), [(t[1], t[2]) for t in TYPED],
                         ids=[t[0] for t in TYPED])  # fmt: skip
def test_what_is_typed_is_taken(typed: Callable[[], Any], given: Any) -> None:
    found = typed()
    if isinstance(given, pd.Series):
        pd.testing.assert_series_equal(found, given)
        return
    assert found == (pytest.approx(given) if isinstance(given, float) else given)
    assert type(found) is type(given) or isinstance(given, int | float)


#: What cannot be taken, and the sentence that says what can.
REFUSED: list[tuple[str, Callable[[], Any], type[Exception], str]] = [
    ("kelvin that are degrees", lambda: jr.Beta(1e5, 3950, t0=25), ParameterError,
     't0: expected a temperature with its unit, as in "25 degC", found 25: 25 K is -248.15 °C'),
    ("degrees of no scale", lambda: jr.Beta(1e5, 3950, t0="25"), ParameterError,
     "expected a temperature with its unit"),
    ("volts for ohms", lambda: jr.Divider("4.7 V"), ParameterError, "expected a quantity in Ω"),
    ("no quantity", lambda: jr.Divider("large"), ParameterError, "expected a quantity, as in"),
    ("a frame with words", lambda: RULER(pd.DataFrame({"a": [1], "b": ["x"]})), TypeError,
     "column 'b': expected numbers"),
    ("a chain of numbers", lambda: jr.Channel("k", 5, "a"), ParameterError,
     "a ruler, a law, or laws in order"),
    ("smoothing as a table",
     lambda: jr.Channel("k", RULER, "a", smooth={"kind": "mean"}),
     ParameterError, 'Smoothing("median", 5)'),
    ("a bench of rulers", lambda: jr.Bench("Desk", [RULER]), ParameterError,
     "channels"),
    ("two channels of one name", lambda: jr.Bench("Desk", [KNOB, KNOB]), ParameterError,
     "a name for each"),
    ("a channel that is not there", lambda: jr.Bench("Desk", [KNOB])["nob"], KeyError,
     "no channel 'nob'; did you mean 'knob'?"),
    ("a budget of a number", lambda: jr.budget(5, 1), TypeError,
     "expected a ruler, a law or a channel, found 5"),
]  # fmt: skip


@pytest.mark.parametrize(("typed", "error", "says"), [t[1:] for t in REFUSED],
                         ids=[t[0] for t in REFUSED])  # fmt: skip
def test_what_cannot_be_taken_says_what_can(
    typed: Callable[[], Any], error: type[Exception], says: str
) -> None:
    with pytest.raises(error) as caught:
        typed()
    assert says in str(caught.value)
