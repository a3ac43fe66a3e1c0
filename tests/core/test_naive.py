"""Chains as a chip computes them when they are typed in as they stand."""

from __future__ import annotations

import re
import shutil
import subprocess
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import jetruler as jr
from jetruler.core.firmware.naive import ARITHMETICS
from jetruler.errors import ParameterError
from tests.conftest import Cli

PIN = jr.Channel("pin", jr.Ruler((jr.Adc(10, 5.0),)), 1, decimals=2)

#: By hand: what each arithmetic makes of it.
BY_HAND = [
    ("divides first", PIN, 383, "int16", 0),
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


@pytest.mark.skipif(shutil.which("gcc") is None, reason="needs a C compiler")
@given(
    st.lists(
        st.tuples(st.integers(1, 200) | st.integers(-200, -1), st.integers(-3000, 3000)),
        min_size=1,
        max_size=3,
    ),
    st.integers(0, 4095),
)
def test_whole_numbers_are_those_of_a_compiler(laws: list[tuple[int, int]], at: int) -> None:
    chain = jr.Ruler((jr.Counts(12), *(jr.Line(gain, offset) for gain, offset in laws)))
    found = jr.naive(jr.Channel("c", chain, 1), at, "int16").result
    x = np.int16(at)
    with np.errstate(over="ignore"):
        for gain, offset in laws:  # NumPy computes as the chip's compiler does
            x = np.int16(x * np.int16(gain)) + np.int16(offset)
    assert found == x


def test_the_compilers_division(tmp_path: Path) -> None:
    """C cuts off toward zero, also below it."""
    third = jr.Counts(10, signed=True) >> jr.Line.through((0, 0), (3, 1))
    assert jr.naive(jr.Channel("c", third, 1), -8, "int16").result == -2
    if shutil.which("gcc") is None:
        pytest.skip("needs a C compiler")
    code = "int main(void){ volatile int x = -8; return x / 3 == -2 ? 0 : 1; }"
    (tmp_path / "d.c").write_text(code)
    subprocess.run(["gcc", "d.c", "-o", "d"], cwd=tmp_path, check=True)
    assert subprocess.run([tmp_path / "d"]).returncode == 0


def test_float32_rounds_and_says_so_only_where_it_matters() -> None:
    found = jr.naive(PIN, 383, "float32")
    assert found.result == float(np.float32(383) / np.float32(1023) * np.float32(5))
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
    assert '"lost": "0.454 is cut off"' in done.stdout
    wrong = cli("explain", "damper", "--for", "50", "--arith", "int5")
    assert wrong.returncode == 2
    assert (
        "arith: expected one of int16, int32, uint16-wraps, uint16-saturates, float32, found 'int5'"
        in wrong.stderr
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


@pytest.mark.parametrize("arith", ARITHMETICS)
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
