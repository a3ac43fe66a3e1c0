"""No compiler has a word to say about exported code: random benches with all their machines."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

import numpy as np
import pytest

import jetruler as jr
from jetruler.benchfile.load import parse_bench
from jetruler.core.firmware.bench_machines import machines_of
from jetruler.core.firmware.names import safe_name
from jetruler.core.firmware.selection import export
from jetruler.targets import target_named
from jetruler.targets.target import ExportOptions
from tests.agreement.made import made
from tests.helpers.sizes import sizes, soak

COMPILERS = [
    [found, *flags]
    for name, *flags in (
        ("gcc", "-Wlogical-op", "-Wduplicated-cond", "-Wtype-limits"),
        ("clang", "-Wtautological-compare", "-Wno-unknown-warning-option"),
    )
    if (found := shutil.which(name))
]
FLAGS = "-std=c99 -O1 -Wall -Wextra -Wconversion -Wsign-conversion -Wshadow -pedantic -Werror -c"

#: Benches unlike those of `made`: what goes through unchanged, texts without decimals, wide counts.
OTHERS = (
    "[converter]\nbits = 12\nvref = 3.3\n[channel.n]\ncolumn = 1\ndecimals = 0\nlaws = []\n",
    "[converter]\nbits = 16\nsigned = true\n[channel.n]\ncolumn = 1\ndecimals = 0\n"
    'laws = [{ law = "line", gain = 1, offset = -5 }, { law = "whole" }]\n',
    "[converter]\nbits = 32\n[channel.n]\ncolumn = 1\ndecimals = 2\n"
    'laws = [{ law = "line", gain = 1e-7 }]\nsmooth = { kind = "mean", over = 4 }\n'
    "[trip.t]\nany = [{ channel = 'n', above = 50 }]\n",
    "[converter]\nbits = 24\nsigned = true\n[channel.n]\ncolumn = 1\ndecimals = 1\n"
    'laws = [{ law = "line", marks = [[-40000, 0], [6000000, 20000]] }]\n'
    'smooth = { kind = "exponential", over = 4 }\n'
    "[trip.t]\nany = [{ channel = 'n', rises_by = 50, within = '2 s' }]\n",
)


def header(bench: jr.Bench, seed: int) -> str:
    """The whole bench as C, in one arithmetic or another."""
    random = np.random.RandomState(seed)
    arith = (None, "float", "int16", "int64")[seed % 4]
    found = []
    for name, channel in bench.channels.items():
        try:
            found.append(export(channel, safe_name(name), arith))  # type: ignore[arg-type]
        except jr.JetRulerError:  # not in this arithmetic, or no finite input
            continue
    assert arith != "float" or all(e.is_float for e in found), seed
    machines = machines_of(bench, found, 0.2, int(random.choice([4, 64])))
    whole = [e for e in found if not e.is_float and e.wanted.scale in (1, 10, 100, 1000, 10**4)]
    width = None if len(whole) < len(found) or not found else int(random.choice([6, 12]))
    return target_named("c").file(
        found,
        ExportOptions(bench, "0", text_width=width, selftest=True, machines=machines.machines),
    )


@soak
@pytest.mark.skipif(not COMPILERS, reason="no C compiler: apt-get install gcc")
@pytest.mark.parametrize("many", sizes(6, 120))
def test_compilers_are_silent(many: int, tmp_path: Path) -> None:
    benches = [parse_bench(text) for text in OTHERS]
    benches += [made(seed).bench for seed in range(7000, 7000 + many - len(OTHERS))]
    texts = [header(bench, seed) for seed, bench in enumerate(benches)]
    for seed, text in enumerate(texts):
        (tmp_path / f"b{seed}.h").write_text(text)
        used = "int use(void);\nint use(void)\n{\n    return selftest();\n}\n"
        (tmp_path / f"b{seed}.c").write_text(f'#include "b{seed}.h"\n{used}')
    for compiler, *flags in COMPILERS:
        sources = [f"b{seed}.c" for seed in range(len(texts))]
        command = [compiler, *FLAGS.split(), *flags, *sources]
        done = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True)
        assert not done.returncode, done.stderr[:3000]
