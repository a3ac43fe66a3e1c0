"""Hostile input: what once broke something, and a little of what `make fuzz` makes in quantity."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest
from fuzz.targets import KINDS, half_written, prepare, try_bench

from jetruler import demo
from tests.conftest import Cli
from tests.helpers.sizes import few, sizes, soak

ROOT = Path(__file__).parents[2]
CORPUS = sorted((ROOT / "fuzz/corpus").iterdir())


@pytest.mark.parametrize("path", [p for p in CORPUS if p.suffix == ".toml"], ids=lambda p: p.name)
def test_a_bench_that_once_broke_something(cli: Cli, home: Path, path: Path) -> None:
    try_bench(home, path.read_text("utf-8"))
    done = cli("explain", "a", "--at", "100", "-b", str(path))
    assert done.returncode in (0, 2)
    assert "itself" not in done.stderr
    assert done.stderr.isprintable() or "\n" in done.stderr


@pytest.mark.parametrize("path", [p for p in CORPUS if p.suffix != ".toml"], ids=lambda p: p.name)
def test_a_log_that_once_broke_something(cli: Cli, home: Path, path: Path) -> None:
    bench = '[converter]\nbits = 12\nvref = 3.3\n[channel.a]\ncolumn = "ch0"\n'
    (home / "a.toml").write_text(bench)
    for out in ("o.csv", "o.parquet", "o.jsonl"):
        done = cli("convert", str(path), "-o", out, "-b", "a.toml")
        assert done.returncode == 0, done.stderr
    look = cli("look", str(path), "-b", "a.toml")
    assert look.returncode == 0, look.stderr
    assert not half_written(home)


FEW = {
    "bench": 150,
    "log": 25,
    "stream": 15,
    "command": 20,
    "cells": 5,
    "array": 100,
    "session": 10,
}
MANY = FEW | {"bench": 2000, "log": 200, "stream": 200, "command": 300, "array": 2000}
MANY |= {"cells": 100, "session": 100}


@few
@pytest.mark.parametrize(
    ("kind", "many"), [*FEW.items(), *(pytest.param(*pair, marks=soak) for pair in MANY.items())]
)
def test_some_hostile_input(home: Path, kind: str, many: int) -> None:
    prepare(home)
    make, attempt = KINDS[kind]
    for number in range(many):
        try:
            attempt(home, make(number))
        except Exception as error:
            raise AssertionError(f"{kind} {number}: {error}") from error
    assert not half_written(home)
    for name in demo.FILES:
        assert (home / name).read_bytes() == demo.read(name)


@pytest.mark.parametrize("seconds", sizes(0, 60)[1:])
def test_a_minute_of_it(seconds: int) -> None:
    args = [sys.executable, "-m", "fuzz", "--seconds", str(seconds)]
    done = subprocess.run(args, cwd=ROOT, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout + done.stderr[-2000:]
    assert done.stdout.count("0 unexpected, 0 half-written") == len(KINDS)


#: What a text may repeat 20,000 times, and what may follow: a pattern with two ways through it
#: takes a second for the first and hours for all.
HELD_UP = """
from jetruler.benchfile.starter import channel_name
from jetruler.core.bench.bench import LogFormat
from jetruler.core.ruler.quantity import quantity
from jetruler.core.ruler.units import in_brackets, spelled
from jetruler.core.bench.channel import raw_from
from jetruler.samples.cells import read_cell
from jetruler.samples.shapes import is_value, read_pairs, shape_of
import jetruler as jr

knob = jr.Channel("knob", jr.Adc(bits=12, vref=3.3), column="a")
shape = shape_of("Distance: 47 cm, angle: 12 deg", LogFormat())
READERS = (
    channel_name, in_brackets, spelled, quantity, lambda t: is_value(t, "."),
    lambda t: read_cell(t.encode(), ","), lambda t: read_pairs(t, "."),
    lambda t: shape_of(t, LogFormat()), lambda t: raw_from(knob, t, "at"), shape.cells,
)
for part in ("1", " ", "a", "1.", "1 ", "a ", "a=1 ", "a:", "(", ")", "-", '"', "1,", "\\t", "°"):
    for end in ("", "x", "x1", ")", " count", " %"):
        for reader in READERS:
            try:
                reader(part * 20_000 + end)
            except (jr.JetRulerError, ValueError, TypeError):
                pass
"""


@soak
def test_no_text_holds_a_reader_up() -> None:
    done = subprocess.run([sys.executable, "-c", HELD_UP], capture_output=True, timeout=60)
    assert done.returncode == 0, done.stderr.decode()
