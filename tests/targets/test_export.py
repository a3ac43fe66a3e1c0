"""Firmware: compiled C, the Python module and structured text over every count, against the model
and the ruler; machines against the decisions of the live view."""

from __future__ import annotations

import itertools
import json
import re
import runpy
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from jetruler import Bench, Channel, Counts, JetRulerError, Law
from jetruler.core.firmware.count_programs import flags_program, threshold
from jetruler.core.firmware.exported import Exported
from jetruler.core.firmware.knots import fewest_knots
from jetruler.core.firmware.names import comment, safe_name
from jetruler.core.firmware.program import Program, ProgramModel, TooWideError
from jetruler.core.firmware.selection import export
from jetruler.targets import TARGETS, c
from jetruler.targets.target import ExportOptions, Target
from tests.conftest import Cli
from tests.helpers.sizes import soak
from tests.helpers.structured_text import structured

every_so_many = pytest.mark.parametrize(
    "step", [7, pytest.param(1, marks=soak)], ids=["every seventh count", "every count"]
)


@every_so_many
def test_the_python_module(cli: Cli, home: Path, roaster: Bench, step: int) -> None:
    for arith in ("int32", "float"):
        done = cli(
            "export", "--all", "--to", "python", "--arith", arith, "--selftest", "-o", "made.py"
        )
        assert done.returncode == 0, done.stderr
        made: dict[str, Any] = runpy.run_path(str(home / "made.py"))
        assert made["selftest"]() == 0
        for channel in roaster.channels.values():
            assert channel.ruler.converter is not None
            every = np.arange(0, 2**channel.ruler.converter.bits, step)
            values = channel.ruler(every)
            got = [made[channel.name](n) for n in every.tolist()]
            scale = made.get(f"{channel.name.upper()}_SCALE", 1)
            assert [y is None for y in got] == np.isnan(values).tolist()
            off = max(
                abs(y / scale - v)
                for y, v in zip(got, values.tolist(), strict=True)
                if y is not None
            )
            assert off <= (1e-9 if arith == "float" else 1.0 / scale + 1e-9)


@every_so_many
def test_structured_text(cli: Cli, roaster: Bench, step: int) -> None:
    done = cli("export", "--all", "--to", "st", "--threshold", "bean=225")
    assert done.returncode == 0, done.stderr
    made = structured(done.stdout)
    for name, channel in roaster.channels.items():
        if name == "bean2":  # the laws of bean
            continue
        e = export(channel, name)
        every = e.wanted.counts[::step]
        assert [made[name](int(n)) for n in every] == ProgramModel(e.program).run(every).tolist()
        flags = ProgramModel(flags_program(e.wanted, name)).run(every).tolist()
        assert [made[f"{name}_flags"](int(n)) for n in every] == flags
    assert [made["bean_from_225"](n, 7) for n in (386, 387, 416, 500)] == [1, 7, 0, 0]
    floats = structured(cli("export", "bean", "--to", "st", "--arith", "float").stdout)
    values = roaster["bean"].ruler(np.arange(1, 4095))
    assert np.allclose([floats["bean"](n) for n in range(1, 4095)], values, atol=1e-3)
    assert floats["bean"](0) == -1e30


def test_the_fewest_knots() -> None:
    """Against every choice of knots on a small curve."""
    from itertools import combinations, product

    x = np.arange(15)
    target = 40.0 / (x + 1)
    low, high = np.ceil(target - 1), np.floor(target + 1)

    def fits(knots: list[tuple[int, int]]) -> bool:
        for (a, p), (b, q) in itertools.pairwise(knots):
            for i in range(a, b + 1):
                k, w, d = i - a, b - a, q - p
                y = p - (k * -d + w // 2) // w if d < 0 else p + (k * d + w // 2) // w
                if not low[i] <= y <= high[i]:
                    return False
        return True

    found = fewest_knots(low, high, target, 2**31)
    assert found is not None
    assert fits(found)
    heights = [range(int(a), int(b) + 1) for a, b in zip(low, high, strict=True)]
    for inner in combinations(range(1, 14), len(found) - 3):  # one knot fewer: there is none
        places = (0, *inner, 14)
        assert not any(
            fits(list(zip(places, ys, strict=True)))
            for ys in product(*(heights[p] for p in places))
        )


def test_the_model_refuses_what_overflows() -> None:
    counts = np.arange(1024)
    with pytest.raises(TooWideError, match="33759 does not fit int16"):
        ProgramModel(Program("f", "return n * 33 // 8", {}, "int16")).run(counts)
    with pytest.raises(TooWideError, match="negative"):
        ProgramModel(Program("f", "return (n - 5) >> 2", {}, "int32")).run(counts)
    assert ProgramModel(Program("f", "return (n - 5) // 2", {}, "int32")).run(counts)[
        :3
    ].tolist() == [
        -2,
        -2,
        -1,
    ]


@pytest.mark.parametrize(
    ("args", "says"),
    [
        (["bean", "--within", "0"], "a bound of 0 is finer than half an output step"),
        (["bean", "--within", "-1"], "within: expected 0 or more, as in 0.1, found -1.0"),
        (["bean", "--within", "0.1 V"], "found '0.1 V': bean is in °C"),
        (["bean", "--within", "0.01"], "finer than half an output step (0.1 at scale 10)"),
        (["bean", "--scale", "100", "--arith", "int16"], "int16 does not hold; --scale 17 fits"),
        (["bean", "--scale", "0"], "scale: expected a whole number from 1 to 1000000, found 0"),
        (["hopper", "--arith", "int16"], "counts go up to 65535, which int16 does not hold"),
        (["bean", "--arith", "float", "--within", "1e-9"], "floats of this target are off by"),
        (["bean", "--threshold", "bean=9999"], "no count passes 9999 °C"),
        (["bean", "--threshold", "bean"], "bean=225 or bean=225/220"),
        (["bean", "--threshold", "bean=225/-999"], "no count passes −999 °C"),
        (["bean", "--text", "8", "--scale", "20"], "--text: expected a scale of 1, 10, 100"),
        (["bean", "--all"], "expected one or more channels, or --all"),
        (["been"], "expected a channel, found 'been'"),
        (["bean", "--json"], "cannot share stdout"),
        (
            ["bean", "--text", "8", "--arith", "float"],
            "--text: expected whole numbers in C or Python",
        ),
        (["bean", "--interval", "0"], "--interval: expected seconds above 0, found 0.0"),
        (["tray", "--scale", "10"], "tray has labelled zones: 1"),
    ],
)
def test_one_sentence(cli: Cli, home: Path, args: list[str], says: str) -> None:
    done = cli("export", *args, "--to", "c")
    assert (done.returncode, done.stdout) == (2, "")
    assert says in done.stderr
    assert len(done.stderr.splitlines()) == 1


def test_a_target_that_is_not_there_is_refused_with_those_that_are(cli: Cli) -> None:
    done = cli("export", "bean", "--to", "rust")
    assert (done.returncode, done.stdout) == (2, "")
    assert "target: expected one of c, python, st, found 'rust'" in done.stderr


class Names(Target):
    """A target with a file of names, and nothing else."""

    name = "names"

    def function(self, program: Program) -> list[str]:
        return [program.name]

    def file(self, exported: Sequence[Exported], wish: ExportOptions) -> str:
        return "\n".join(e.name for e in exported)


def test_a_target_is_one_class(cli: Cli, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setitem(TARGETS, "names", Names())
    done = cli("export", "--all", "--to", "names", "--interval", "0.2")
    assert done.stdout.split() == demo_channels()
    assert "8 of smoothing, zones, trips and drives, for which names has no form" in done.stderr


def demo_channels() -> list[str]:
    return ["bean", "bean2", "damper", "exhaust", "draught", "rail", "tray", "hopper"]


def test_same_input_same_bytes_and_json(cli: Cli, home: Path) -> None:
    args = [
        "export",
        "bean",
        "--to",
        "c",
        "--inside-limits",
        "--within",
        "0.5 K",
        "--threshold",
        "bean=225",
    ]
    once = cli(*args, "-o", "bean.h", "--json")
    first = (home / "bean.h").read_bytes()
    (report,) = json.loads(once.stdout)
    assert report["proof"]["worst"] <= 0.5
    assert report["table_bytes"] < 80
    assert report["proof"]["counts"] == 4096
    assert cli(*args).raw == first
    assert b"#define BEAN_FROM_225_ON 386" in first  # as `explain bean --for 225` says


class Wave(Law):
    """A user's own law, without a form for firmware."""

    name = "wave"

    def forward(self, x: Any) -> Any:
        return np.sin(x / 300) * 50

    def inverse(self, y: Any) -> Any:
        return y

    def slope(self, x: Any) -> Any:
        return x

    def formula(self, x: float) -> str:
        return "wave"

    def inverse_formula(self, y: float) -> str:
        return "wave"


def test_a_law_without_a_form_becomes_a_table() -> None:
    e = export(Channel("w", Counts(bits=10) >> Wave(), 1), "w", "float", within=0.3)
    assert "knots" in e.kind
    assert e.notes == ("not the formula itself: wave has no formula in floats",)
    assert e.proof.holds
    assert e.proof.monotone == ""
    with pytest.raises(JetRulerError, match="it turns back"):
        threshold(Bench("", {}), e.channel, "w", 20.0, None)


@pytest.mark.parametrize("name", ["Größe", "int", "2nd", "a-b", "x", "selbst test"])
def test_names_are_safe(name: str) -> None:
    assert re.fullmatch(r"[a-z][a-z0-9_]+", safe_name(name))
    assert safe_name(name) not in ("int", "x")


def test_names_and_comments_smuggle_nothing(cli: Cli, home: Path) -> None:
    text = (
        "[converter]\nbits = 8\nvref = 3.3\n[channel.a-b]\ncolumn = 1\n[channel.a_b]\ncolumn = 2\n"
    )
    (home / "b.toml").write_text(text)
    done = cli("export", "a-b", "--to", "c", "-b", "b.toml")
    assert done.returncode == 2
    assert "found 'a_b': channel a-b has a_b in exported code already" in done.stderr
    evil = "x */ int evil; /* (* *) y := 1; ??/ \\\n# newline"
    for ends in ("*/", "/*", "(*", "*)", "\n", "\\", "??"):
        assert ends not in comment(evil)


def test_speed_is_not_absurd(roaster: Bench) -> None:
    """Not a timed test: only that nothing is done count by count."""
    start = time.perf_counter()
    export(roaster["hopper"], "hopper")
    assert time.perf_counter() - start < 30


def test_literals() -> None:
    lines = c.function(Program("f", "return -2147483648", {}, "int32"))
    assert "2147483647 - 1" in "".join(lines) or "-2147483648" in "".join(lines)
