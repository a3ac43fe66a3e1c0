"""Exports whose ends are arguments: at many ends, in three languages, against the fixed export and
the ruler."""

from __future__ import annotations

import re
import runpy
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import jetruler as jr
from jetruler.core.firmware.program import ProgramModel
from jetruler.errors import ExportError, ParameterError
from tests.conftest import Cli
from tests.helpers.compiled import Printing, needs_compiler, printed_by
from tests.helpers.sizes import few, soak
from tests.helpers.structured_text import structured

LINE = jr.Line.through((198, 0), (3904, 100), unit="%")
KNOB = jr.Channel("knob", jr.Counts(12) >> LINE >> jr.Clamp(0, 100), 1, decimals=1)
ENDS = {"lo": (0.0, 2000.0), "hi": (2200.0, 4095.0)}


@soak
def test_a_thousand_ends_are_those_of_the_fixed_export() -> None:
    made = jr.export(KNOB, "knob", arguments=ENDS)
    assert made.program.arguments == ("lo", "hi")
    random = np.random.RandomState(2)
    counts = np.arange(4096)
    model = ProgramModel(made.program)
    for i in range(1000):
        lo, hi = int(random.randint(0, 2001)), int(random.randint(2200, 4096))
        chain = jr.Counts(12) >> jr.Line.through((lo, 0), (hi, 100)) >> jr.Clamp(0, 100)
        free = model.run(counts, {"lo": lo, "hi": hi})
        assert np.abs(free / 10 - chain(counts)).max() <= made.proof.worst + 1e-9
        if i % 50 == 0:
            fixed = jr.export(jr.Channel("k", chain, 1, decimals=1), "k")
            of_fixed = ProgramModel(fixed.program).run(counts)
            assert np.abs(free - of_fixed).max() <= 1


def test_its_flags_are_those_of_the_converter_alone() -> None:
    """The clamp's ends move with the arguments; the rails do not."""
    flags = jr.export(KNOB, "knob", arguments=ENDS).wanted.flags
    assert (flags[0], flags[-1]) == (jr.Flag.LOW_RAIL, jr.Flag.HIGH_RAIL)
    assert not flags[1:-1].any()
    assert KNOB.read([100]).flags == [jr.Flag.BELOW]


FLOATS: list[tuple[str, jr.Ruler, dict[str, Any], dict[str, float], jr.Ruler]] = [
    (
        "a thermistor", jr.Adc(12) >> jr.Divider(4700) >> jr.Beta(1e5, 3950),
        {"r0": None, "beta.beta": (3900, 4000)}, {"r0": 1.2e5, "beta_beta": 3925.0},
        jr.Adc(12) >> jr.Divider(4700) >> jr.Beta(1.2e5, 3925),
    ),
    (
        "a divider", jr.Adc(12) >> jr.Divider(4700) >> jr.Beta(1e5, 3950),
        {"known": (4600, 4800)}, {"known": 4650.0},
        jr.Adc(12) >> jr.Divider(4650) >> jr.Beta(1e5, 3950),
    ),
    (
        "a line in volts", jr.Adc(12, 3.3) >> jr.Line.through((0.5, 0), (2.5, 10), unit="bar"),
        {"marks[1][1]": (0.4, 0.6), "at_hi": None}, {"marks_1_1": 0.55, "at_hi": 12.0},
        jr.Adc(12, 3.3) >> jr.Line.through((0.55, 0), (2.5, 12), unit="bar"),
    ),
    (
        "a gain", jr.Adc(12, 3.3) >> jr.Line(2.0, 1.0) >> jr.Clamp(0, 5),
        {"gain": None, "offset": (0, 2), "high": (4, 6)}, {"gain": 1.5, "offset": 0.5, "high": 4.5},
        jr.Adc(12, 3.3) >> jr.Line(1.5, 0.5) >> jr.Clamp(0, 4.5),
    ),
]  # fmt: skip


@few
@pytest.mark.parametrize(("what", "ruler", "asked", "given", "other"), FLOATS)
def test_any_laws_numbers_in_floats(
    what: str, ruler: jr.Ruler, asked: dict[str, Any], given: dict[str, float], other: jr.Ruler
) -> None:
    made = jr.export(jr.Channel("f", ruler, 1), "f", "float", kind=np.float64, arguments=asked)
    assert made.proof.holds
    counts = np.arange(4096)
    found = ProgramModel(made.program, np.float64).run(counts, given)
    np.testing.assert_allclose(found, other(counts), rtol=1e-9, atol=1e-9, err_msg=what)


@needs_compiler[0]
@needs_compiler[1]
def test_three_languages(cli: Cli, home: Path, tmp_path: Path) -> None:
    asked = ("export", "damper", "--arguments", "lo=0..2000,hi=2200..4095", "--struct")
    for to in ("c", "python", "st"):
        done = cli(*asked, "--selftest", "--to", to, "-o", f"d.{to}")
        assert done.returncode == 0, done.stderr
        assert "proven for lo (lo) from 0 to 2000, hi (hi) from 2200 to 4095" in done.stderr
    made = runpy.run_path(str(home / "d.python"))
    assert made["selftest"]() == 0
    body = (
        "struct damper_ends e = {300, 3000};\n"
        'for (int32_t n = 0; n < 4096; n += 31) printf("%ld ", (long)damper_with(n, &e));\n'
        'printf("%d\\n", selftest());'
    )
    printing = {"d": Printing((home / "d.c").read_text(), body)}
    *by_c, failed = printed_by(printing, tmp_path)["d"][0].split()
    assert failed == "0"
    ends = made["DamperEnds"](lo=300, hi=3000)
    st = structured((home / "d.st").read_text())["damper"]
    for y, n in zip(by_c, range(0, 4096, 31), strict=True):
        assert int(y) == ends.read(n) == made["damper"](n, 300, 3000) == st(n, 300, 3000)


@pytest.mark.parametrize("arith", ["int32", "float"])
@pytest.mark.parametrize("free", [("lo", "hi"), ("lo",), ("hi",)])
def test_ends_that_fall_on_one_another_have_no_value(arith: Any, free: tuple[str, ...]) -> None:
    made = jr.export(KNOB, "knob", arith, arguments=dict.fromkeys(free))
    fixed = {"lo": 198, "hi": 3904}
    model, steps = ProgramModel(made.program), 1 if arith == "float" else 10
    on_the_other = {name: fixed["hi" if name == "lo" else "lo"] for name in free[:1]}
    out = model.run(np.arange(4096), {**{name: fixed[name] for name in free}, **on_the_other})
    assert np.all(np.isnan(out) if arith == "float" else out == -(2**31))
    usual = model.run(np.arange(4096), {name: fixed[name] for name in free})
    assert usual[[0, 198, 3904, 4095]].tolist() == [0, 0, 100 * steps, 100 * steps]
    if len(free) == 2:
        turned = model.run(np.arange(4096), {"lo": 3904, "hi": 198})
        assert turned[[0, 198, 3904, 4095]].tolist() == [100 * steps, 100 * steps, 0, 0]


@pytest.mark.parametrize("ruler", [
    jr.Counts(12) >> jr.Line(0.5, 3),
    jr.Adc(12, 3.3) >> jr.Line.through((0.5, 0), (2.5, 100)),
    jr.Ruler.of(jr.Counts(12)),
], ids=str)  # fmt: skip
def test_whole_numbers_take_the_ends_of_a_line_in_counts_alone(ruler: jr.Ruler) -> None:
    with pytest.raises((ExportError, ParameterError)) as caught:
        jr.export(jr.Channel("x", ruler, 1), "x", "int32", arguments={"at_lo": None})
    assert "expected a parameter" in str(caught.value) or "a line through marks in counts" in str(
        caught.value
    )


def test_zones_do_not_hold_where_their_edges_move() -> None:
    zones = jr.Zones((20, 60), ("a", "b", "c"), hysteresis=2)
    pad = jr.Channel("pad", jr.Counts(12) >> LINE >> zones, 1)
    fixed, free = (
        jr.export(pad, "pad", "float", arguments=asked) for asked in (None, {"hi": None})
    )
    assert "pad_holding" in fixed.text("c")
    assert "pad_holding" not in free.text("c", struct=True)
    assert "struct pad_ends" in free.text("c", struct=True)


REFUSED = [
    ({"rr": None}, "int32", ParameterError, "a parameter of one law"),
    ({"lo": None, "marks[1][1]": None}, "int32", ParameterError, "each parameter once"),
    ({"bits": None}, "float", ParameterError, "a parameter of one law"),
    ({"lo": (300, 900)}, "int32", ParameterError, "a range with its own value, 198, in it"),
    ({"at_hi": (0, 1e7)}, "int32", ExportError, "does not fit int32; --arith int64"),
]


@pytest.mark.parametrize(("asked", "arith", "error", "says"), REFUSED)
def test_what_cannot_be(
    asked: dict[str, Any], arith: Any, error: type[Exception], says: str
) -> None:
    with pytest.raises(error, match=re.escape(says)):
        jr.export(KNOB, "knob", arith, arguments=asked)


@pytest.mark.parametrize(
    ("asked", "says"),
    [
        (("--arguments", "lo=3"), "expected names, each with its range"),
        (("--arguments", ""), "expected names, each with its range"),
        (("--struct",), "--struct: expected --arguments too"),
        (("--arguments", "lo", "--threshold", "damper=50"), "which is fixed in counts"),
        (("--window", "8"), "expected --all, which exports trips"),
        (("--arguments", "known"), "--arith float takes any law"),
    ],
)
def test_what_the_command_refuses(cli: Cli, asked: tuple[str, ...], says: str) -> None:
    channel = "bean" if "known" in asked else "damper"
    done = cli("export", channel, "--to", "c", *asked)
    assert (done.returncode, done.stdout) == (2, "")
    assert says in done.stderr
