"""Chains as a chip computes them when they are typed in as they stand."""

from __future__ import annotations

import ast
import math
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import jetruler as jr
from jetruler.core.firmware.naive import ARITHMETICS
from jetruler.core.firmware.orders import as_written
from jetruler.errors import ParameterError
from tests.conftest import Cli
from tests.core.test_firmware import RULERS
from tests.helpers.sizes import few, thinned

PIN = jr.Channel("pin", jr.Ruler((jr.Adc(10, 5.0),)), 1, decimals=2)

#: By hand: what each arithmetic makes of it.
BY_HAND = [
    ("as it is printed: n · Uref / N", PIN, 383, "int16", 383 * 5 // 1023),
    (
        "a line through marks",
        jr.Counts(12) >> jr.Line.through((21, 0), (1004, 100)),
        300,
        "int16",
        28,
    ),
    ("a ratio divides first", jr.Adc(10) >> jr.Line(100), 383, "int16", 0),
    ("the top count alone is whole", PIN, 1023, "int16", 5),
    ("a gain is cut off", jr.Counts(10) >> jr.Line(2.9), 100, "int16", 200),
    ("an offset is cut off", jr.Counts(10) >> jr.Line(1, -40.5), 100, "int16", 60),
    ("a product wraps", jr.Counts(10) >> jr.Line(100), 400, "int16", 40000 - 65536),
    ("and fits 32 bits", jr.Counts(10) >> jr.Line(100), 400, "int32", 40000),
    ("an unsigned one wraps", jr.Counts(10) >> jr.Line(100), 700, "uint16-wraps", 70000 - 65536),
    ("or stops at the top", jr.Counts(10) >> jr.Line(100), 700, "uint16-saturates", 65535),
    ("or stops at zero", jr.Counts(10) >> jr.Line(1, -50), 49, "uint16-saturates", 0),
    ("a clamp is a clamp", jr.Counts(10) >> jr.Line(1) >> jr.Clamp(0, 100), 300, "int16", 100),
]


@pytest.mark.parametrize(("what", "chain", "at", "arith", "result"), BY_HAND)
def test_by_hand(
    what: str, chain: jr.Channel | jr.Ruler, at: int, arith: str, result: float
) -> None:
    channel = chain if isinstance(chain, jr.Channel) else jr.Channel("c", chain, 1)
    assert jr.naive(channel, at, arith).result == result, what


#: What promotion to an int of 16 and of 32 bits makes of the same formula, by hand.
BY_INT = [
    ("the product has 32 bits on a larger chip", "int16", 400, (400 * 100 - 65536) // 10 + 1, 4000),
    ("unsigned, below 0 on a small chip", "uint16", 100, 55536 // 10, 1000),
    ("as wide as it is", "int32", 400, 4000, 4000),
]


@pytest.mark.parametrize(("what", "arith", "at", "small", "large"), BY_INT)
def test_the_width_of_int(what: str, arith: str, at: int, small: int, large: int) -> None:
    if arith == "uint16":  # (100 − 0)·(1000 − 0)/(100 − 0): 100000 wraps to 34464
        chain = jr.Counts(12) >> jr.Line.through((0, 0), (100, 1000))
        small = (100 * 1000 - 65536) // 100
    else:
        chain = jr.Counts(12) >> jr.Line.through((0, 0), (10, 100))
    channel = jr.Channel("c", chain, 1)
    found = jr.naive(channel, at, arith)
    assert (found.result, found.other_int) == (small, large), what
    wide = jr.naive(channel, at, arith, int_bits=32)
    assert (wide.result, wide.other_int) == (large, small)
    for one, bits, other in ((found, 32, large), (wide, 16, small)):
        text = f"an int of {bits} bits gives {other}".replace("-", "−")
        assert any(text in str(line) for line in one.content) == (small != large)


def test_64_bits_hold_what_63_hold_and_an_order_is_shown_once() -> None:
    found = jr.naive(jr.Channel("c", jr.Counts(10) >> jr.Line(8e15), 1), 1000, "int32")
    assert (found.orders[1].result, found.orders[1].worst_lost) == (8e18, "")
    lines = [str(line).strip() for line in found.content]
    assert lines.count("x = 8000000000000000 * x + 0") == 1
    assert "= int32: 991952896; the true value is 8e+18" in lines  # 8e15 · 1000 modulo 2³²


@given(
    st.lists(st.tuples(st.integers(1, 300), st.integers(-3000, 3000)), min_size=1, max_size=3),
    st.integers(0, 4095),
)
def test_unsigned_types_of_chips_that_promote_nothing(laws: list[tuple[int, int]], at: int) -> None:
    """After every operation a number wraps round, or stops at its ends; constants too."""
    chain = jr.Ruler((jr.Counts(12), *(jr.Line(gain, offset) for gain, offset in laws)))
    channel = jr.Channel("c", chain, 1)
    kept: dict[str, Callable[[int], int]] = {
        "uint16-wraps": lambda x: x % 65536,
        "uint16-saturates": lambda x: min(max(x, 0), 65535),
    }
    for arith, keep in kept.items():
        x = at
        for gain, offset in laws:  # nobody types "+ -50": it is a subtraction
            product = keep(keep(gain) * x)
            x = keep(product + offset) if offset >= 0 else keep(product - keep(-offset))
        assert jr.naive(channel, at, arith).result == x


def test_an_input_without_steps_is_refused_for_that() -> None:
    bare = jr.Channel("bare", jr.Input("V") >> jr.Line(20), 1)
    with pytest.raises(ParameterError, match="an input with a resolution"):
        jr.naive(bare, 1.0, "int16")


def test_of_an_input_without_a_range_only_what_was_asked_is_run() -> None:
    """−1 · 0.9 V + 3.9 V is 3 V, and so is 3.9 V cut to 3 where 0.001 is typed in as 0."""
    ruler = jr.Input("V", resolution=0.001) >> jr.Line(-1, 3.9)
    found = jr.naive(jr.Channel("u", ruler, 1), 0.9, "int16")
    typed = found.orders[0]
    assert (typed.result, typed.error, typed.worst, typed.worst_at) == (3.0, 0.0, 0.0, 0.9)


@pytest.mark.parametrize(("decimals", "says"), [(0, False), (1, True)])
def test_what_the_right_form_stands_for_is_said_where_it_is_no_unit(
    decimals: int, says: bool
) -> None:
    channel = jr.Channel("x", jr.Counts(10) >> jr.Line(0.3), 1, decimals=decimals)
    assert ("its results represent 0.1 each" in str(jr.naive(channel, 500, "int16"))) == says
    assert ("its results represent" in str(jr.naive(channel, 500, "int16"))) == says


def test_an_overflow_is_worse_than_a_larger_loss() -> None:
    """By hand: 10⁶ wraps round to 16960 and loses 98 %; 0.4 is cut off and loses all of itself."""
    chain = jr.Counts(10) >> jr.Line(1000) >> jr.Line(1, 0.4)
    typed = jr.naive(jr.Channel("x", chain, 1), 1000, "int16").orders[0]
    assert typed.lost == "1000 · 1000 = 16960"
    only_cut = jr.naive(jr.Channel("x", chain, 1), 2, "int16").orders[0]
    assert only_cut.lost == "0.4 typed in as 0"


@pytest.mark.parametrize("arith", ["int16", "int32"])
def test_nothing_is_typed_that_changes_nothing(arith: str) -> None:
    """No order multiplies a sum by 1; what is typed by hand may."""
    for ruler in list(RULERS.values())[:: 4 if arith == "int16" else 9]:
        try:
            found = jr.naive(jr.Channel("x", ruler, 1, decimals=1), 500, arith)
        except ParameterError:
            continue  # a curve that nobody types
        for order in found.orders[1:]:
            assert not re.search(r"\) \* 1\b(?!\.)", "\n".join(order.code)), order.order


def sums(of: st.SearchStrategy[str]) -> st.SearchStrategy[str]:
    return st.builds("({} {} {})".format, of, st.sampled_from("+-*/"), of)


@given(st.recursive(st.sampled_from(["x", "2", "3", "0.5"]), sums, max_leaves=8))
def test_a_formula_is_written_with_the_brackets_that_it_needs(expression: str) -> None:
    try:
        wanted = eval(expression, {"x": 7.0})
    except ZeroDivisionError:
        return
    written = as_written(ast.parse(f"x = {expression}").body)
    assert eval(written[0].removeprefix("x = "), {"x": 7.0}) == pytest.approx(wanted)


OVER = jr.Counts(10) >> jr.Formula("1000 / (x - 500)")
LOG = jr.Counts(10) >> jr.Formula("100 * log(x)")


@pytest.mark.parametrize(("chain", "at", "arith", "line", "lost", "result"), [
    (OVER, 500, "int16", "1000 / 0", "not defined", math.nan),
    (OVER, 500, "float32", "1000 / 0 = ∞", "", math.inf),
    (OVER, 510, "int16", "1000 / 10 = 100", "", 100.0),
    (LOG, 0, "int16", "−∞ kept in int16", "not defined", math.nan),
    (LOG, 0, "float32", "100 · −∞ = −∞", "", -math.inf),
    (LOG, 1, "int16", "100 · 0 = 0", "", 0.0),
    (jr.Counts(16, signed=True) >> jr.Formula("-x"), -32768, "int16", "−(−32768) = −32768",
     "32768 does not fit: it wraps round to −32768", -32768.0),
])  # fmt: skip
def test_what_has_no_result(
    chain: jr.Ruler, at: int, arith: str, line: str, lost: str, result: float
) -> None:
    """A whole number divided by 0, or an infinite float in one; floats have infinities."""
    found = jr.naive(jr.Channel("x", chain, 1), at, arith)
    assert found.steps[-1].line == line
    assert found.steps[-1].lost == lost
    assert found.orders[0].result == pytest.approx(result, nan_ok=True)
    assert found.orders[0].lost == (line if lost else "")


def test_the_right_form_of_a_wide_converter() -> None:
    wide = jr.Channel("w", jr.Counts(32) >> jr.Line(1e-6), 1)
    assert "int64" in jr.naive(wide, 4_000_000_000, "int32").right[0]


@pytest.mark.parametrize("laws", [
    jr.Clamp(20.5, 900.25), jr.Ruler.of(jr.Line(0.01), jr.Clamp(2, 5)),
    jr.Ruler.of(jr.Line(2, -700.5), jr.Magnitude()), jr.Clamp(low=0.125),
])  # fmt: skip
def test_what_only_one_way_assigns_is_scaled_on_the_other_too(laws: Any) -> None:
    scaled = jr.naive(jr.Channel("x", jr.Counts(10) >> laws, 1), 300, "int32").orders[-1]
    assert "scaled" in scaled.order
    assert scaled.worst == 0.0


def test_other_orders_and_where_they_lose() -> None:
    """0 + (n − 21) · (100 − 0) / (1004 − 21): by hand, at 300 and at the worst count."""
    channel = jr.Channel("k", jr.Counts(10) >> jr.Line.through((21, 0), (1004, 100)), 1, decimals=1)
    orders = {one.order: one for one in jr.naive(channel, 300, "int16").orders}
    typed, divided, wide, scaled = orders.values()
    assert typed.order == "as typed in: multiply first"
    assert (typed.result, typed.lost) == (28, "27900 / 983 = 28")
    assert (divided.result, divided.lost) == (0, "279 / 983 = 0")
    assert divided.worst == pytest.approx(982 / 983 * 100)
    assert typed.worst > 60  # a product of more than 32767 wraps round
    assert "wraps" not in typed.worst_lost
    assert typed.worst_lost.split(" = ")[0].endswith("· 100")
    assert wide.worst < 1
    assert scaled.result == pytest.approx(28.382, abs=1e-3)
    assert scaled.worst < 0.01


def test_no_whole_numbers_for_a_logarithm() -> None:
    bean = jr.Adc(12) >> jr.Divider(4700) >> jr.Beta(1e5, 3950)
    found = jr.naive(jr.Channel("bean", bean, 1), 1880, "int32")
    assert not any("scaled" in one.order for one in found.orders)


def test_where_the_right_form_has_no_value() -> None:
    zones = jr.Zones((124, 214), ("low", "mid", "high"))
    chain = jr.Adc(12) >> jr.Divider(150, "upper") >> jr.Platinum() >> zones
    assert "here it gives no value" in jr.naive(jr.Channel("raw", chain, 1), 4093, "int16").right


@pytest.mark.parametrize("language", ["c", "python", "st"])
def test_the_right_form_is_in_the_language(language: str) -> None:
    channel = jr.Channel("rail", jr.Ruler((jr.Adc(10, 5.0),)), 1, decimals=2)
    text = "\n".join(jr.naive(channel, 383, "int32", language=language).right)
    assert {"c": "int32_t rail(", "python": "def rail(n)", "st": "FUNCTION rail"}[language] in text


def test_float32_rounds_and_says_so_only_where_it_matters() -> None:
    found = jr.naive(PIN, 383, "float32")
    assert found.result == float(np.float32(383) * np.float32(5) / np.float32(1023))
    assert not any(step.lost for step in found.steps)


def test_the_form_that_is_right_gives_the_value() -> None:
    bench = jr.load_bench(Path(jr.__file__).parent / "demo/bench.toml")
    for name in ("damper", "rail", "bean"):
        found = jr.naive(bench[name], 1880, "int32")
        (said,) = (line for line in found.right if line.startswith("here it gives"))
        assert said == f"here it gives {bench[name].shown(found.true)}"


@pytest.mark.parametrize(
    ("at", "arith", "says"),
    [
        (383, "int8", "one of int16, int32"),
        (1.5, "int16", "expected a whole count"),
    ],
)
def test_what_cannot_be(at: float, arith: str, says: str) -> None:
    with pytest.raises(ParameterError, match=re.escape(says)):
        jr.naive(PIN, at, arith)


def test_an_input_comes_in_steps_of_its_resolution(cli: Cli) -> None:
    silo = ("explain", "silo", "-b", "store.toml")
    done = cli(*silo, "--at", "20.6 cm", "--arith", "float32")
    assert "103 · 0.2 = 20.6" in done.stdout
    assert "the true value is 86 %" in done.stdout
    assert "nothing" not in cli(*silo, "--at", "20.6 cm", "--arith", "int16").stdout
    wrong = cli(*silo, "--at", "20.67 cm", "--arith", "int16")
    assert (wrong.returncode, wrong.stdout) == (2, "")
    assert "a multiple of the resolution, 0.2 cm" in wrong.stderr
    assert (
        "expected a whole count" in cli("explain", "bean", "--at", "3.5", "--arith", "int16").stderr
    )


def test_the_command(cli: Cli) -> None:
    done = cli("explain", "damper", "--at", "1880", "--arith", "int16", "--json")
    assert '"lost": "168200 does not fit: it wraps round to −28408"' in done.stdout
    wrong = cli("explain", "damper", "--for", "50", "--arith", "int5")
    assert wrong.returncode == 2
    assert (
        "arith: expected one of int16, int32, uint16, uint16-wraps, uint16-saturates, float32, "
        "found 'int5'" in wrong.stderr
    )


WHAT_IF = [
    ({"r0": "100 kohm ± 1 %"}, "11 % less"),
    ({"divider.known": "4k7 ± 0.1 %"}, "1 % less"),
    ({"noise": "0"}, "no less"),
    ({"beta.beta": "3950 K ± 0.1 %"}, "less"),
]


@pytest.mark.parametrize(("changes", "says"), WHAT_IF)
def test_what_a_better_part_brings(changes: dict[str, str], says: str) -> None:
    bean = jr.load_bench(Path(jr.__file__).parent / "demo/bench.toml")["bean"]
    found = jr.what_if(bean, 400, changes)
    assert says in found.headline
    assert found.before.expanded_uncertainty == jr.budget(bean, 400).expanded_uncertainty
    assert found.after.expanded_uncertainty <= found.before.expanded_uncertainty


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ("rr=3", "expected a parameter of bean"),
        ("r0", "expected P=VALUE"),
        ("r0=blue", "expected a quantity, as in"),
        ("noise=much", "a number"),
    ],
)
def test_a_what_if_that_cannot_be(cli: Cli, change: str, says: str) -> None:
    done = cli("explain", "bean", "--at", "400", "--budget", "--with", change)
    assert done.returncode == 2
    assert says in done.stderr
    assert done.stdout == ""


def test_a_what_if_in_the_tool(cli: Cli) -> None:
    done = cli("explain", "bean", "--at", "400", "--budget", "--with", "r0 = 100 kohm ± 1 %")
    assert "effect before °C  effect after °C" in done.stdout
    assert done.stdout.rstrip().endswith("11 % less")
    assert cli("explain", "bean", "--at", "400", "--with", "r0=3").returncode == 2


@few
@pytest.mark.parametrize("arith", thinned(ARITHMETICS, 3))
@pytest.mark.parametrize("rounding", ["nearest", "down", "up", "toward zero"])
def test_rounded_results_are_computed_too(rounding: Any, arith: str) -> None:
    """Without what a program allows for beside a tie; short floats are right but at a tie."""
    chain = jr.Counts(12) >> jr.Line.through((21, 0), (1004, 100)) >> jr.Whole(rounding)
    channel = jr.Channel("knob", chain, "ch0")
    for count in (300, 4095):
        found = jr.naive(channel, count, arith)
        assert not any("tie" in step.line for step in found.steps)
        if arith == "float32":
            assert found.result == found.true
        else:
            assert found.result == int(found.result)
