"""Chains typed in unchanged: the model against what compilers make of the same C, at all counts."""

from __future__ import annotations

import shutil
import subprocess
import zlib
from pathlib import Path

import numpy as np
import pytest

import jetruler as jr
from jetruler.core.firmware.orders import computed
from tests.agreement.made import made
from tests.helpers.sizes import soak
from tests.helpers.typed_c import HEAD, TYPES, TypedC

GCC, AVR, SIMULATOR = (shutil.which(name) for name in ("gcc", "avr-gcc", "simavr"))
ARITHMETICS = ("int16", "int32", "uint16", "float32")


def chains(many: int, start: int = 0) -> list[tuple[str, jr.Channel, np.ndarray]]:
    """Random chains that are formulas, each with all its counts (of an input, its steps)."""
    found: list[tuple[str, jr.Channel, np.ndarray]] = []
    seed = start
    while len(found) < many:
        for channel in made(seed).bench.channels.values():
            edge = channel.ruler.edge
            if edge is None or not edge.is_bounded or not edge.lsb:
                continue
            low, high = (round(end / edge.lsb) for end in (edge.lowest, edge.highest))
            try:
                TypedC(channel, "int16")
            except jr.errors.ParameterError:
                continue
            found.append((f"c{seed}_{len(found)}", channel, np.arange(low, high + 1)))
        seed += 1
    return found[:many]


def compiled(many: list[tuple[str, jr.Channel, np.ndarray]], folder: Path) -> dict[str, np.ndarray]:
    """What gcc makes of chains in each arithmetic: value and whether it is one, for each count."""
    code = [HEAD, "#include <stdio.h>"]
    calls = []
    for name, channel, counts in many:
        for arith in ARITHMETICS:
            code.append(TypedC(channel, arith).function(f"{name}_{arith}"))
            calls.append(
                f"    for (long n = {counts[0]}; n <= {counts[-1]}; n++) {{ bad = 0; double y[2];"
                f" y[0] = (double){name}_{arith}(({TYPES[arith]})n); y[1] = bad;"
                " fwrite(y, sizeof y, 1, stdout); }"
            )
    code += ["int main(void)", "{", *calls, "    return 0;", "}"]
    (folder / "typed.c").write_text("\n".join(code))
    flags = ["-std=c99", "-O1", "-fwrapv", "-ffp-contract=off", "-w"]
    subprocess.run([str(GCC), *flags, "typed.c", "-o", "typed", "-lm"], cwd=folder, check=True)
    said = subprocess.run([folder / "typed"], capture_output=True, check=True).stdout
    values = np.frombuffer(said).reshape(-1, 2)
    found, at = {}, 0
    for name, _, counts in many:
        for arith in ARITHMETICS:
            found[f"{name}_{arith}"] = values[at : at + counts.size]
            at += counts.size
    assert at == len(values)
    return found


def held_against_gcc(many: list[tuple[str, jr.Channel, np.ndarray]], folder: Path) -> None:
    by_gcc = compiled(many, folder)
    for name, channel, counts in many:
        for arith in ARITHMETICS:
            mine = computed(channel, counts, arith, 32)
            value, bad = by_gcc[f"{name}_{arith}"].T
            there = ~np.isnan(mine) & (bad == 0)
            # What C leaves undefined has no value here; a float has its own way to say so.
            missing = np.isnan(mine) & (bad == 0) & ~np.isnan(value)
            overflown = TypedC(channel, arith)
            assert not missing.any() or overflown.functions, (name, arith, channel.ruler)
            assert not (~np.isnan(mine) & (bad != 0)).any(), (name, arith)
            if arith == "float32" and overflown.functions:  # a libm's last digit is its own
                np.testing.assert_allclose(mine[there], value[there], rtol=3e-6, atol=3e-4)
            else:
                np.testing.assert_array_equal(mine[there], value[there], f"{name} {arith}")


@pytest.mark.skipif(GCC is None, reason="no C compiler: apt-get install gcc")
def test_typed_in_as_gcc_compiles_it(tmp_path: Path) -> None:
    held_against_gcc(chains(24), tmp_path)


@soak
@pytest.mark.skipif(GCC is None, reason="no C compiler: apt-get install gcc")
def test_many_typed_in_as_gcc_compiles_them(tmp_path: Path) -> None:
    held_against_gcc(chains(150, 1000), tmp_path)


#: Of every result that is one, in the order of the counts: the sum that a small chip can form.
ON_CHIP = """
static uint32_t sum;
static void add(uint32_t y)
{
    uint8_t i, k;
    for (i = 0; i < 4; i++) {
        sum ^= (uint8_t)(y >> (8 * i));
        for (k = 0; k < 8; k++) sum = (sum >> 1) ^ (0xEDB88320UL & (0UL - (sum & 1UL)));
    }
}
static void say(uint32_t y)
{
    int8_t i;
    for (i = 28; i >= 0; i -= 4) {
        char digit = "0123456789abcdef"[(y >> i) & 15];
        while (!(UCSR0A & (1 << UDRE0))) { }
        UDR0 = digit;
    }
    while (!(UCSR0A & (1 << UDRE0))) { }
    UDR0 = '\\n';
}
"""


def on_a_small_chip(
    many: list[tuple[str, jr.Channel, np.ndarray]], step: int, folder: Path
) -> list[str]:
    """The checksums that a simulated chip with an int of 16 bits prints."""
    code = ["#include <avr/io.h>", "#include <avr/sleep.h>", "#include <avr/interrupt.h>", HEAD]
    code.append(ON_CHIP)
    calls = []
    for name, channel, counts in many:
        for arith in ARITHMETICS[:3]:
            code.append(TypedC(channel, arith).function(f"{name}_{arith}"))
            calls.append(
                f"    sum = 0xFFFFFFFFUL; for (int32_t n = {counts[0]}; n <= {counts[-1]}L;"
                f" n += {step}) {{ bad = 0; {TYPES[arith]} y = {name}_{arith}(({TYPES[arith]})n);"
                " if (!bad) add((uint32_t)y); } say(~sum);"
            )
    code += ["int main(void)", "{", "    UCSR0B = 1 << TXEN0;", *calls]
    code += ["    cli(); sleep_enable(); sleep_cpu(); return 0;", "}"]
    (folder / "chip.c").write_text("\n".join(code))
    flags = ["-std=c99", "-Os", "-fwrapv", "-w", "-mmcu=atmega2560", "-DF_CPU=16000000UL"]
    subprocess.run([str(AVR), *flags, "chip.c", "-o", "chip.elf", "-lm"], cwd=folder, check=True)
    run = [str(SIMULATOR), "-m", "atmega2560", "-f", "16000000", "chip.elf"]
    done = subprocess.run(run, cwd=folder, capture_output=True, text=True, timeout=900)
    words = (done.stdout + done.stderr).replace("\x1b[32m", "").replace("\x1b[0m", "").split()
    return [
        one[:8] for one in words if len(one) in (8, 9) and set(one[:8]) <= set("0123456789abcdef")
    ]


def held_against_a_small_chip(many: int, start: int, step: int, folder: Path) -> None:
    whole = [one for one in chains(2 * many, start) if not TypedC(one[1], "int16").functions][:many]
    said = on_a_small_chip(whole, step, folder)
    mine = []
    for _, channel, counts in whole:
        for arith in ARITHMETICS[:3]:
            y = computed(channel, counts[::step], arith, 16)
            mine.append(f"{zlib.crc32(y[~np.isnan(y)].astype('<i8').astype('<i4').tobytes()):08x}")
    assert said == mine


#: Chains, the first seed, and each how manieth count.
FEW_AND_MANY = [(6, 0, 7), pytest.param(60, 500, 1, marks=soak)]


@soak
@pytest.mark.skipif(
    AVR is None or SIMULATOR is None,
    reason="no cross-compiler with an int of 16 bits and a simulator: apt-get install gcc-avr "
    "avr-libc simavr",
)
@pytest.mark.parametrize(
    ("many", "start", "step"), [(6, 0, 7), pytest.param(60, 500, 1, marks=soak)]
)
def test_typed_in_as_a_small_chip_computes_it(
    many: int, start: int, step: int, tmp_path: Path
) -> None:
    held_against_a_small_chip(many, start, step, tmp_path)
