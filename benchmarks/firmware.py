"""Firmware: how long a proof takes against the import it needs, and what the code costs a chip."""

from __future__ import annotations

import re
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from jetruler import Bench, Channel, Counts, Line, demo, load_bench
from jetruler.core.firmware.selection import Arith, export
from jetruler.targets import target_named
from jetruler.targets.target import ExportOptions

from .timing import Result, ratio, seconds

MAIN = """
#include "made.h"
int main(void)
{
    volatile double sum = 0;
    for (int turn = 0; turn < 20; turn++)
        for (int32_t n = 1; n < 4095; n++) sum += (double)bean(n);
    return sum == 0.5;
}
"""
EMPTY = MAIN.replace("(double)bean(n)", "(double)n").replace(
    '#include "made.h"', "#include <stdint.h>"
)


def instructions(folder: Path, main: str) -> int:
    """How many a program takes, counted by callgrind."""
    (folder / "main.c").write_text(main)
    build = ["gcc", "-std=c99", "-O2", "main.c", "-o", "main", "-lm"]
    subprocess.run(build, cwd=folder, check=True)
    count = ["valgrind", "--tool=callgrind", "--callgrind-out-file=/dev/null", "./main"]
    done = subprocess.run(count, cwd=folder, check=False, capture_output=True, text=True)
    found = re.search(r"Collected : (\d+)", done.stderr)
    return int(found[1]) if found else 0


def cost(folder: Path, bench: Bench, arith: Arith) -> int:
    """Instructions of one form of the thermistor."""
    made = export(bench["bean"], "bean", arith, inside_limits=arith != "float")
    (folder / "made.h").write_text(target_named("c").file([made], ExportOptions(bench, "0")))
    return instructions(folder, MAIN)


def results() -> Iterator[Result]:
    """Every figure of this room."""
    with tempfile.TemporaryDirectory() as name:
        home = Path(name)
        (home / "bench.toml").write_bytes(demo.read("bench.toml"))
        bench = load_bench(home / "bench.toml")
        whole = bench["hopper"].ruler.compiled()
        assert whole is not None
        counts = np.arange(65536)
        took = min(seconds(lambda: export(bench["hopper"], "hopper")) for _ in range(3))
        yield Result("proof of a 16-bit channel", took, (took, took), 1.0, unit="s")
        took = min(seconds(lambda: export(bench["bean"], "bean")) for _ in range(3))
        yield Result("knots of a 12-bit thermistor", took, (took, took), 1.0, unit="s")
        yield ratio(
            "proof of a 16-bit channel / its table from the laws",
            lambda: export(bench["hopper"], "hopper"),
            lambda: bench["hopper"].ruler.direct(counts),
            20.0,
        )
        ends = (-40_000, 0), (6_000_000, 20_000)
        chain = Counts(24, signed=True) >> Line.through(*ends, unit="g")
        cell = Channel("cell", chain, 1, decimals=1)
        every = np.arange(-(2**23), 2**23)
        took = min(seconds(lambda: export(cell, "cell")) for _ in range(2))
        yield Result("proof of a 24-bit load cell, every count", took, (took, took), 10.0, unit="s")
        yield ratio(
            "proof of a 24-bit load cell / its values from the laws",
            lambda: export(cell, "cell"),
            lambda: chain(every),
            20.0,
            rounds=3,
        )
        if shutil.which("gcc") and shutil.which("valgrind"):
            loop = instructions(home, EMPTY)
            by_logf = cost(home, bench, "float") - loop
            by_table = cost(home, bench, "int32") - loop
            fraction = by_table / by_logf  # here floats are hardware; most small chips have none
            name = "instructions: int32 / float with logf, both on this machine"
            yield Result(name, fraction, (fraction, fraction), 2.0)
