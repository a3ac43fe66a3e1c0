"""Budgets of every law, and uncertainties in logs of every kind."""

from __future__ import annotations

import dataclasses
import math
from decimal import Decimal
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

import jetruler as jr
from jetruler import Law, Ruler, Toleranced, convert, load_bench, quantity
from jetruler.benchfile.load import parse_bench
from jetruler.core.ruler.base_law import is_numeric, parameters
from jetruler.core.uncertainty.contributions import sensitivity, toleranced, with_value
from tests.core.test_laws import TRUTH


def numeric(law: Law) -> list[str]:
    """The fields of a law that are plain numbers and move its result smoothly."""
    fixed = {"bits", "low", "high", "rest", "error_lsb", "resolution", "error", "size"}
    hints = parameters(type(law)).items()
    names = [name for name, hint in hints if is_numeric(hint) and name not in fixed]
    return [name for name in names if getattr(law, name) not in (None, 0)]


CASES = [
    (law, x, name)
    for law, x, y in TRUTH
    if not math.isnan(y) and law.name not in ("adc", "counts")
    for name in numeric(law)
]


@pytest.mark.parametrize(("law", "x", "name"), CASES, ids=lambda v: v if isinstance(v, str) else "")
def test_sensitivity_is_the_derivative_by_the_parameter(law: Law, x: float, name: str) -> None:
    """Against fourth-order differences of laws that are built anew."""
    plain: Any = law
    value = float(getattr(law, name))
    marked = dataclasses.replace(plain, **{name: Toleranced(value, 1e-3 * abs(value))})
    (parameter,) = toleranced(Ruler.of(marked))
    assert parameter.name == f"{name} of {law.name}"
    found = sensitivity(Ruler.of(marked), parameter, np.array([float(x)]))[0]
    h = 2e-4 * abs(value)

    def read(shift: float) -> float:
        moved = dataclasses.replace(plain, **{name: value + shift})
        return float(moved.forward(np.array([float(x)]))[0])

    by_hand = (8 * (read(h) - read(-h)) - (read(2 * h) - read(-2 * h))) / (12 * h)
    assert not math.isnan(by_hand)
    scale = abs(read(0)) / abs(value)
    assert found == pytest.approx(by_hand, rel=1e-4, abs=1e-7 * scale + 1e-15)


def test_parameters_inside_lists_are_found() -> None:
    marks = ((Toleranced(4e-3, 1e-4), 0.0), (20e-3, Toleranced(250.0, 2.0, 2)))
    line = jr.Line(marks=marks)
    found = toleranced(Ruler.of(line))
    assert [p.name for p in found] == ["marks[1][1] of line", "marks[2][2] of line"]
    # At a mark only that mark counts: dy/dx₀ = −slope there, dy/dy₁ = 1 at the other.
    slope = 250 / 16e-3
    at = np.array([4e-3, 20e-3])
    assert sensitivity(Ruler.of(line), found[0], at) == pytest.approx([-slope, 0], abs=1e-6)
    assert sensitivity(Ruler.of(line), found[1], at) == pytest.approx([0, 1])
    moved = with_value(line, found[1], 260.0)
    assert moved.forward(np.array([20e-3]))[0] == pytest.approx(260.0)
    assert isinstance(moved, jr.Line)
    assert moved.marks is not None
    assert moved.marks[0] == marks[0]


KINDS = [
    ("4k7 ± 1 %", 4700.0, 47.0, None, 47 / math.sqrt(3)),
    ("4k7 ± 1 % (k=2)", 4700.0, 47.0, 2.0, 23.5),
    ("3950 K ± 1 %", 3950.0, 39.5, None, 39.5 / math.sqrt(3)),
    ("3.3 V ± 15 mV (3 sigma)", 3.3, 0.015, 3.0, 0.005),
    ("25 degC ± 0.2 degC (1 sigma)", 25.0, 0.2, 1.0, 0.2),
    ("10 kohm +- 50 ohm ( K = 2.5 )", 1e4, 50.0, 2.5, 20.0),
    ("4K7J", 4700.0, 235.0, None, 235 / math.sqrt(3)),
]


@pytest.mark.parametrize(("text", "value", "half", "k", "standard"), KINDS)
def test_tolerances_of_every_kind(
    text: str, value: float, half: float, k: float | None, standard: float
) -> None:
    found = quantity(text)
    assert isinstance(found, Toleranced)
    assert (float(found), found.k) == (value, k)
    assert found.half_width == pytest.approx(half)
    assert found.standard == pytest.approx(standard)
    assert eval(repr(found), {"Toleranced": Toleranced}).standard == found.standard


@pytest.mark.parametrize(
    "text", ["5 V (k=2)", "5 V ± 1 % (k=0)", "5 V ± 1 % (k=-1)", "5 V ± (k=2)"]
)
def test_tolerances_that_do_not_read(text: str) -> None:
    with pytest.raises(jr.errors.QuantityError, match="k"):
        quantity(text)


WIDE = """
[converter]
bits = {bits}
vref = "2.5 V ± 0.1 %"
[channel.a]
column = "x"
noise = 4
decimals = 3
smooth = {smooth}
laws = [{{ law = "attenuator", upper = "30 kohm ± 1 %", lower = "10 kohm ± 1 %" }}]
"""


@pytest.mark.parametrize("bits", [12, 24])
@pytest.mark.parametrize("smooth", ['{ kind = "mean", over = 4 }', '{ kind = "median", over = 5 }'])
def test_uncertainties_of_smoothed_and_of_wide_channels(
    tmp_path: Path, bits: int, smooth: str
) -> None:
    bench = parse_bench(WIDE.format(bits=bits, smooth=smooth))
    random = np.random.RandomState(3)
    top = 2**bits - 1
    counts = np.round(top * random.uniform(0.2, 0.8, 60)).astype(int)
    cells = [str(c) for c in counts]
    cells[7], cells[9] = "", "nan"
    (tmp_path / "in.csv").write_text("x\n" + "\n".join(cells) + "\n")
    convert(tmp_path / "in.csv", bench, tmp_path / "out.csv", uncertainty=True)
    table = pd.read_csv(tmp_path / "out.csv")
    assert list(table) == ["a_V", "a_V_u", "flags"]
    assert table["a_V_u"].isna().tolist() == [i in (7, 9) for i in range(60)]
    for row in (0, 20, 59):
        at = float(bench["a"].ruler.inverse(table["a_V"][row]))
        wanted = jr.budget(bench["a"], at).expanded_uncertainty
        assert table["a_V_u"][row] == pytest.approx(wanted, rel=0.06)


def test_decimal_commas_and_gzip(tmp_path: Path) -> None:
    bench = parse_bench(WIDE.format(bits=12, smooth='{ kind = "mean", over = 1 }'))
    (tmp_path / "in.csv").write_text("t;x\n0,5;1000\n1,0;2000\n")
    form = jr.LogFormat(decimal=",")
    convert(tmp_path / "in.csv", bench, tmp_path / "out.csv", form=form, uncertainty=True)
    lines = (tmp_path / "out.csv").read_text().splitlines()
    assert lines[0] == "t;a_V;a_V_u;flags"
    assert all("." not in line for line in lines)
    assert lines[1].split(";")[2].startswith("0,0")


@given(
    value=st.floats(-1e6, 1e6).filter(lambda v: abs(v) > 1e-6),
    fraction=st.floats(1e-6, 0.9),
)
def test_rounding_keeps_two_digits(value: float, fraction: float) -> None:
    from jetruler.core.ruler.units import rounded

    u = abs(value) * fraction
    a, b = (Decimal(text.replace("−", "-")) for text in rounded(value, u))
    assert float(b) == pytest.approx(u, rel=0.051)
    assert len(b.normalize().as_tuple().digits) <= 2
    assert abs(float(a) - value) <= 0.0500001 * 10 ** math.ceil(math.log10(u) + 1e-9)


def test_budget_as_a_table_of_arrays(tmp_path: Path) -> None:
    """What `print` shows, said once more by its parts."""
    from jetruler import demo

    (tmp_path / "bench.toml").write_bytes(demo.read("bench.toml"))
    rail = load_bench(tmp_path / "bench.toml")["rail"]
    found = jr.budget(rail, 3400, noise=1.4, readings=16, level=0.99)
    text = str(found)
    assert text.splitlines()[0].split()[:2] == ["source", "size"]
    for row in found.rows:
        assert row.source in text
    assert found.combined == pytest.approx(math.hypot(found.systematic, found.random))
    assert found.coverage_factor == pytest.approx(2.5758, abs=1e-3)
    assert "at 99 %" in text
    assert sum(found.fraction(row) for row in found.rows) == pytest.approx(1.0)
    per_reading: Any = jr.budget(rail, 3400, noise=1.4)
    assert per_reading.random == pytest.approx(4 * _noise(found), rel=1e-9)


def _noise(found: jr.results.Budget) -> float:
    return next(float(row.effect) for row in found.rows if row.source == "noise")


def moved(law: Law, field: str, inside: tuple[int, ...], to: Any) -> Law:
    """The law with another number in a list, or under a name."""

    def put(value: Any, at: tuple[int, ...]) -> Any:
        if not at:
            return to(float(value))
        return tuple(put(v, at[1:]) if i == at[0] else v for i, v in enumerate(value))

    plain: Any = law
    changed: Law = dataclasses.replace(plain, **{field: put(getattr(law, field), inside)})
    return changed


CUBIC = (3.354e-3, 2.57e-4, 2.6e-6, 6.3e-8)
LISTED: list[tuple[Law, float, str, tuple[int, ...]]] = [
    *((jr.Line(marks=((198.0, 2.0), (3904.0, 100.0))), 1700.0, "marks", (i, j))
      for i in (0, 1) for j in (0, 1)),
    *((jr.Polynomial((3.0, -2.0, 0.5)), 1.7, "coefficients", (i,)) for i in range(3)),
    *((jr.SteinhartHartExtended(10e3, to_kelvin=CUBIC, unit="degF"), 4700.0, "to_kelvin", (i,))
      for i in range(4)),
    (jr.SteinhartHartExtended(10e3, to_kelvin=CUBIC), 4700.0, "r25", ()),
    *((jr.Divider(4700.0, sensor, 3.3, 10e3), 1.2, field, ())
      for sensor in ("upper", "lower") for field in ("known", "supply", "load")),
    *((jr.Attenuator(10e3, 3300.0, 47e3), 1.2, field, ()) for field in ("upper", "lower", "load")),
    *((jr.Beta(10e3, 3950.0, unit="degF"), 4700.0, field, ()) for field in ("r0", "beta", "t0")),
    (jr.Platinum(100.0, unit="degF"), 80.0, "r0", ()),
    (jr.Adc(12, 3.3), 1700.0, "vref", ()),
    (jr.Adc(12, 3.3, count_at_vref=4000.0), 1700.0, "count_at_vref", ()),
]  # fmt: skip


@pytest.mark.parametrize(("law", "x", "field", "inside"), LISTED)
def test_every_derivative_is_that_of_the_law(
    law: Law, x: float, field: str, inside: tuple[int, ...]
) -> None:
    """Against fourth-order differences, also of numbers in lists and in other scales."""
    found = law.slope_to(field, inside, np.array([x]))
    assert found is not None
    value = getattr(law, field)
    for i in inside:
        value = value[i]
    h = 2e-4 * abs(value)

    def read(shift: float) -> float:
        return float(moved(law, field, inside, lambda value: value + shift)(x))

    by_hand = (8 * (read(h) - read(-h)) - (read(2 * h) - read(-2 * h))) / (12 * h)
    assert found[0] == pytest.approx(by_hand, rel=1e-6, abs=1e-9 * abs(read(0)) / h)
