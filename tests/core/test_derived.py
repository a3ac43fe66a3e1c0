"""Channels from others: units that are worked out, flags, budgets against own draws, refusals."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

import numpy as np
import pytest

import jetruler as jr
from jetruler.core.bench.derived import derived
from jetruler.core.firmware.floats import derived_function
from jetruler.errors import ParameterError
from tests.helpers.sizes import sizes

HEAD = '[converter]\nbits = 12\nvref = "3.3 V ± 1 %"\n'


def source(name: str, unit: str | None) -> jr.Channel:
    """A channel that hands over its raw value in a unit."""
    return jr.Channel(name, jr.Input(unit or "1") >> jr.PassThrough(unit), name)


@pytest.mark.parametrize(
    ("units", "expression", "unit", "gives", "values", "result"),
    [
        (("V", "A"), "a * b", "W", "W", (2.0, 3.0), 6.0),
        (("V", "mA"), "a * b", "W", "W", (2.0, 3.0), 0.006),
        (("V", "mA"), "a * b", "mW", "mW", (2.0, 3.0), 6.0),
        (("V", "mA"), "a / b", "ohm", "ohm", (2.0, 4.0), 500.0),
        (("V", "mV"), "a + b", None, "V", (2.0, 500.0), 2.5),
        (("degC", "degF"), "a - b", None, "degC", (30.0, 50.0), 20.0),
        (("cm", "m"), "sqrt(a**2 + b**2)", "m", "m", (300.0, 4.0), 5.0),
        (("m/s^2", "m/s^2"), "atan2(a, b) * 180 / pi", "deg", "deg", (1.0, 1.0), 45.0),
        (("V", "A"), "a * b", None, "V*A", (2.0, 3.0), 6.0),
        (("K", "W"), "(a - 20) / b", None, "K/W", (30.0, 5.0), 2.0),
        (("mV", "degC"), "a + emf_k(b)", "mV", "mV", (3.096, 25.0), 3.096 + 1.000242),
        ((None, None), "min(a, b) + max(a, b)", None, "1", (2.0, 3.0), 5.0),
        (("V", "V"), "(a + b) / 2", None, "V", (2.0, 3.0), 2.5),
        (("s", "V"), "b * a**-1", None, "V/s", (2.0, 3.0), 1.5),
        (("s", "V"), "b / a**(3 - 1)", None, "V/s^2", (2.0, 3.0), 0.75),
        (("s", "V"), "b / a**(4 / 2)", None, "V/s^2", (2.0, 3.0), 0.75),
        (("m", "m"), "(a * b)**(1 / 2)", None, "m", (2.0, 8.0), 4.0),
        (("m", "m"), "(a**2 * b)**(2 * 0.5 / 3)", None, "m", (1.0, 8.0), 2.0),
        (("m", "m"), "hypot(a, b) * sqrt(4) / abs(-2)", None, "m", (3.0, 4.0), 5.0),
        (("V", None), "a * 2**b", None, "V", (3.0, 3.0), 24.0),
        (("V", None), "a**b", "V^2", "V^2", (3.0, 2.0), 9.0),
        (("V", None), "a**b", None, None, (3.0, 2.0), 9.0),
    ],
)
def test_units_are_worked_out(
    units: tuple[str, str], expression: str, unit: str | None, gives: str | None,
    values: tuple[float, float], result: float,
) -> None:  # fmt: skip
    one = derived("one", [source("a", units[0]), source("b", units[1])], expression, unit)
    assert one.combined.gives == gives
    found = one.value_of({"a": values[0], "b": values[1]})
    assert found == pytest.approx(result, rel=1e-12 if "emf" not in expression else 1e-7)
    last = one.trace_from({"a": values[0], "b": values[1]})[-1]
    assert str(last).splitlines()[1].startswith("  formula  ")
    assert last.reading.value == found


@pytest.mark.parametrize(
    ("units", "expression", "unit", "sentence"),
    [
        (("V", "A"), "a * b", "degC", "unit: expected a unit of V*A, found 'degC'"),
        (("V", "A"), "a + b", None, "expected units that fit, found 'a + b': V and A do not add"),
        (("V", "A"), "a * c", None, "'c' is not known here"),
        (("V", "A"), "a * 2", None, "from: expected a name in 'a * 2', found 'b'"),
        (("V", "A"), "a.b", None, "a formula has no attribute"),
        (("V", "A"), "atan2(a)", None, "with two: atan2, hypot, min, max"),
    ],
)
def test_what_does_not_fit_is_refused(
    units: tuple[str, str], expression: str, unit: str | None, sentence: str
) -> None:
    with pytest.raises(ParameterError) as caught:
        derived("one", [source("a", units[0]), source("b", units[1])], expression, unit)
    assert sentence in str(caught.value)


CHAIN = (
    HEAD
    + """
[channel.u]
column = "u"
laws = [{ law = "attenuator", upper = "33 kohm ± 1 %", lower = "10 kohm ± 1 %" }]
noise = 2.0
[channel.i]
column = "i"
laws = [{ law = "shunt", ohms = "0.1 ohm ± 2 %" }]
limits = [0, 20]
[channel.power]
from = ["u", "i"]
laws = [{ law = "formula", expression = "u * i", unit = "W" }]
[channel.ratio]
from = ["u", "i"]
laws = [{ law = "formula", expression = "u / i" }]
[channel.share]
from = ["power", "u"]
laws = [{ law = "formula", expression = "power / u**2" }, { law = "line", gain = 100 }]
"""
)


@pytest.mark.parametrize("name", ["power", "ratio", "share"])
@pytest.mark.parametrize("draws", sizes(200_000, 2_000_000))
def test_a_budget_is_that_of_own_draws(name: str, draws: int) -> None:
    """One reference for both: it counts twice in a product, and cancels in a ratio."""
    bench = jr.parse_bench(CHAIN)
    rng = np.random.default_rng(7)

    def within(value: float, part: float) -> Any:
        return value * (1 + part * rng.uniform(-1, 1, draws))

    vref, lower = within(3.3, 0.01), within(10e3, 0.01)
    counts = 1880 + rng.uniform(-0.5, 0.5, draws) + rng.normal(0, 2.0, draws)
    u = counts / 4095 * vref * (within(33e3, 0.01) + lower) / lower
    i = (900 + rng.uniform(-0.5, 0.5, draws)) / 4095 * vref / within(0.1, 0.02)
    drawn = {"power": u * i, "ratio": u / i, "share": 100 * u * i / u**2}[name]
    found = jr.budget(bench[name], {"u": 1880, "i": 900})
    assert found.combined == pytest.approx(drawn.std(), rel=0.03)
    assert found.value == pytest.approx(drawn.mean(), rel=0.002)
    assert [row.source for row in found.rows].count("vref of adc") == 1


def test_constants_have_units() -> None:
    level, rail = source("level", "kg"), source("rail", "V")
    one = derived("one", [level, rail], "level * n / rail", "kg", constants={"n": "5000 mV"})
    assert one.value_of({"level": 40.0, "rail": 4.0}) == pytest.approx(50.0)
    with pytest.raises(ParameterError, match="expected a unit of kg/V, found 'kg'"):
        derived("one", [level, rail], "level * n / rail", "kg", constants={"n": 5.0})
    with pytest.raises(ParameterError, match="n: expected a known unit"):
        derived("one", [level, rail], "level * n / rail", "kg", constants={"n": "5 what"})


def test_flags_of_the_sources_carry_over() -> None:
    bench = jr.parse_bench(CHAIN)
    log = ["u,i", "1880,900", "4095,900", ",900", "1880,3000", "1880,0"]
    samples = list(jr.stream(log, bench))
    flags = [sample.flags["ratio"] for sample in samples]
    flag = jr.Flag
    assert flags == [0, flag.HIGH_RAIL, flag.MISSING, flag.ABOVE, flag.LOW_RAIL]
    assert np.isnan(samples[4].values["ratio"])
    with pytest.raises(jr.JetRulerError, match="power: u and i do not follow from one value of it"):
        bench["power"].inverse(3.0)
    with pytest.raises(jr.JetRulerError, match="power: expected u = RAW, i = RAW, found u"):
        jr.budget(bench["power"], {"u": 1})


@pytest.mark.parametrize(
    ("was", "now", "sentence"),
    [
        ('from = ["u", "i"]\nlaws = [{ law = "formula", expression = "u / i" }]',
         'from = ["u", "x"]',
         "channel.ratio.from: expected a channel of the bench, found 'x'"),
        ('laws = [{ law = "formula", expression = "u / i" }]', "",
         "channel.ratio.laws: expected a formula of u, i, found None"),
        ('from = ["power", "u"]', 'from = ["share", "u"]', "channel.share.from: expected channels "
         "that are computed from others than one another, found 'share'"),
        ('unit = "W"', 'unit = "bar"', "expected a unit of V*A, found 'bar'"),
        ('from = ["u", "i"]\nlaws = [{ law = "formula", expression = "u / i" }]',
         'from = "u"\ncolumn = "z"', "channel.ratio.column: unknown for a channel from others"),
    ],
)  # fmt: skip
def test_errors_in_the_bench_file(was: str, now: str, sentence: str) -> None:
    assert was in CHAIN
    with pytest.raises(jr.JetRulerError) as caught:
        jr.parse_bench(CHAIN.replace(was, now))
    assert sentence in str(caught.value)


def test_a_changed_source_changes_what_is_computed_from_it() -> None:
    bench = jr.parse_bench(CHAIN)
    other = replace(bench["u"], limits=(0, 1))
    changed = replace(bench, channels={**bench.channels, "u": other})
    assert isinstance(changed["share"], jr.DerivedChannel)
    assert changed["share"].measured[0] is other
    assert set(changed) == set(bench)
    assert list(changed.narrowed(["u"])) == ["u"]


ENDS = """
[channel.knob]
column = "k"
converter = { bits = 10 }
rails = "RAILS"
laws = [{ law = "line", marks = [[0, 0], [1023, 100]], unit = "%" }]
[channel.half]
from = "knob"
laws = [{ law = "line", gain = 0.5 }]
[drive.motor]
from = "half"
marks = [[0, 10], [50, 200]]
safe = 77
"""


@pytest.mark.parametrize(("rails", "commands"), [("ends", [10, 200]), ("faults", [77, 77])])
def test_an_end_of_a_source_is_no_fault_of_what_follows(rails: str, commands: list[int]) -> None:
    bench = jr.parse_bench(ENDS.replace("RAILS", rails))
    assert [s.commands["motor"] for s in jr.stream(["k", "0", "1023"], bench)] == commands


@pytest.mark.parametrize(("over", "averaged"), [(None, 1), (16, 16)])
def test_noise_of_the_sources_in_closed_form(over: int | None, averaged: int) -> None:
    """(u/p)² = (σu/u)² + (σi/i)² for a product; a mean of 16 leaves a quarter of it."""
    smooth = "" if over is None else f'smooth = {{ kind = "mean", over = {over} }}\n'
    bench = jr.parse_bench(
        "converter = { bits = 16, vref = 2 }\n"
        + "".join(f'[channel.{name}]\ncolumn = "{name}"\nnoise = 500\n' for name in "ui")
        + f'[channel.p]\nfrom = ["u", "i"]\n{smooth}'
        'laws = [{ law = "formula", expression = "u * i" }]\n'
    )
    found = jr.budget(bench["p"], {"u": 40_000, "i": 20_000})
    part = math.hypot(500 / 40_000, 500 / 20_000) / math.sqrt(averaged)
    assert found.combined == pytest.approx(found.value * part, rel=1e-3)


@pytest.mark.parametrize(
    ("units", "expression", "unit", "values", "result"),
    [
        (("V", "mV"), "a - b", None, (2.0, 500.0), 1.5),
        (("V", "mA"), "a * b", "mW", (2.0, 3.0), 6.0),
        (("degC", "degF"), "a - b", None, (30.0, 50.0), 20.0),
        (("V", "V"), "max(a, -b) + n * pi", None, (2.0, 3.0), 2.0 + 1.5 * math.pi),
    ],
)
def test_its_function_takes_each_source_in_its_own_unit(
    units: tuple[str, str], expression: str, unit: str | None,
    values: tuple[float, float], result: float,
) -> None:  # fmt: skip
    sources = [source("a", units[0]), source("b", units[1])]
    constants = {"n": "1500 mV"} if "n *" in expression else {}
    one = derived("one", sources, expression, unit, constants=constants)
    made = derived_function(one, np.float64, frozenset(dir(math)) | {"abs"}, has_nan=True)
    assert not isinstance(made, str)
    names: dict[str, Any] = {**vars(math), "max": max, "abs": abs, "NONE": None}
    lines = made.program.body.splitlines()
    head = f"def one({', '.join(made.program.arguments)}):"
    exec("\n    ".join([head, *lines]), names)
    assert names["one"](*values) == pytest.approx(result)
    assert names["one"](math.nan, values[1]) is None
