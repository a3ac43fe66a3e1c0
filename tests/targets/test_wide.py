"""Exports of converters of 17 to 32 bits: compiled C at random counts and at every corner, against
the ruler."""

from __future__ import annotations

import time
from pathlib import Path

import numpy as np
import pytest

import jetruler as jr
from jetruler.benchfile.load import parse_bench
from jetruler.core.firmware.bench_machines import machines_of
from jetruler.core.firmware.count_programs import threshold
from jetruler.core.firmware.exported import Exported
from jetruler.core.firmware.reference import reads_at
from jetruler.core.firmware.selection import export
from jetruler.targets import target_named
from jetruler.targets.target import ExportOptions
from tests.helpers.compiled import Printing, needs_compiler, printed_by
from tests.helpers.sizes import sizes, soak

pytestmark = needs_compiler


def channels(many: int, seed: int) -> list[jr.Channel]:
    """Chains of all kinds behind converters of 17 to 32 bits, and inputs with as many steps."""
    random = np.random.RandomState(seed)
    found = []
    for i in range(many):
        bits = int(random.choice([17, 18, 20, 22, 24, 24, 24, 28, 32]))
        signed = bool(random.rand() < 0.4)
        top = 2 ** (bits - signed) - 1
        a, b = sorted(random.uniform(0.02, 0.98, 2) * top)
        b = max(b, a + 0.1 * top)
        y0, y1 = random.uniform(-50, 50), float(random.choice([100, 1000, 20000]))
        counts = jr.Counts(bits, signed=signed)
        line = jr.Line.through((round(a), round(y0, 1)), (round(b), y1), unit="g")
        ratio = jr.Adc(bits)
        edges = tuple(sorted(random.uniform(0, y1, 3).round(2).tolist()))
        chains = [
            jr.Ruler.of(jr.Adc(bits, 2.5, signed=signed)),
            counts >> line,
            counts >> line >> jr.Clamp(0, 0.9 * y1),
            counts >> line >> jr.Whole(),
            counts >> line >> jr.Zones(edges, ("a", "b", "c", "d")),
            counts >> line >> jr.Zones(edges, (0.0, 40.0, 50.0, 10.0)),
            counts >> line >> jr.Expect(0.1 * y1, 0.8 * y1),
            counts >> line >> jr.DeadBand(0.4 * y1, 0.5 * y1) >> jr.Magnitude(),
            ratio >> jr.Divider(float(random.choice([2200, 4700]))) >> jr.Beta(1e4, 3435),
            ratio >> jr.Divider(220, "upper") >> jr.Platinum(),
            counts >> jr.Table(((0, 0), (a, 5), (top, y1)), method="smooth"),
            jr.Input("mV", resolution=0.01, range=(-100, 5000)) >> jr.Line(0.37, 2),
            counts >> jr.Polynomial((y0, y1 / top, -y1 / (3 * top**2)), takes="count"),
        ]
        kind = i % len(chains)
        limits = (0.0, 150.0) if kind in (8, 9) else None
        decimals = 2 if kind == 0 else 1
        found.append(jr.Channel(f"w{i}", chains[kind], 1, decimals=decimals, limits=limits))
    return found


def exported(channel: jr.Channel, arith: str | None) -> Exported:
    return export(channel, f"f_{channel.name}", arith, inside_limits=channel.limits is not None)  # type: ignore[arg-type]


def held(made: list[Exported], many: int, folder: Path) -> None:
    """What compiled code gives, at random counts and all that matter, against the ruler."""
    random = np.random.RandomState(3)
    programs, asked = {}, {}
    for e in made:
        w = e.wanted
        lot = random.randint(int(w.counts[0]), int(w.counts[-1]) + 1, many, dtype=np.int64)
        counts = np.unique(np.concatenate((lot, w.counts)))
        counts.tofile(folder / f"{e.name}.counts")
        asked[e.name] = counts
        bench = jr.Bench("All", {e.channel.name: e.channel})
        header = target_named("c").file([e], ExportOptions(bench, "0", selftest=True))
        body = (
            f'FILE *in = fopen("{folder}/{e.name}.counts", "rb");\n'
            f'FILE *out = fopen("{folder}/{e.name}.out", "wb");\nint64_t n;\n'
            "while (fread(&n, sizeof n, 1, in) == 1) {\n"
            f"    double y[2]; y[0] = (double){e.name}(({e.program.takes}_t)n);\n"
            f"    y[1] = (double){e.name}_flags(({flags_take(e)}_t)n);\n"
            "    fwrite(y, sizeof y, 1, out);\n}\nfclose(in); fclose(out);\n"
            'printf("%d\\n", selftest());'
        )
        programs[e.name] = Printing(header, body)
    said = printed_by(programs, folder)
    for e in made:
        assert said[e.name] == ["0"], e.channel.ruler
        got, flags = np.fromfile(folder / f"{e.name}.out").reshape(-1, 2).T
        held_against_the_ruler(e, asked[e.name], got, flags)


def flags_take(e: Exported) -> str:
    low, high = int(e.wanted.counts[0]), int(e.wanted.counts[-1])
    return "int32" if max(-low - 1, high) < 2**31 else "int64"


def held_against_the_ruler(
    e: Exported, counts: np.ndarray, got: np.ndarray, flags: np.ndarray
) -> None:
    values, true_flags = reads_at(e.channel)(counts)
    if e.channel.limits is not None:
        values = np.clip(values, *e.channel.limits)
    none = np.isnan(got) if e.is_float else got <= -(2.0**62)
    if e.program.arith == "int32" and not e.is_float:
        none = got == -(2.0**31)
    np.testing.assert_array_equal(none, np.isnan(values), f"{e.channel.ruler}")
    np.testing.assert_array_equal(flags, true_flags, f"{e.channel.ruler}")
    scale = 1 if e.is_float else e.wanted.scale
    off = np.abs(got[~none] / scale - values[~none])
    assert off.max() <= e.proof.worst + 1e-6 * max(1.0, np.abs(values[~none]).max()), (
        e.channel.ruler, e.lines(),
    )  # fmt: skip
    assert e.proof.holds


@soak
@pytest.mark.parametrize("many", sizes(4, 13))
def test_wide_converters_in_compiled_c(tmp_path: Path, many: int) -> None:
    held([exported(c, None) for c in channels(13, 1)[:many]], 20_000, tmp_path)


@soak
@pytest.mark.parametrize("many", sizes(4, 13))
def test_wide_converters_in_floats(tmp_path: Path, many: int) -> None:
    held([exported(c, "float") for c in channels(13, 2)[:many]], 20_000, tmp_path)


@soak
@pytest.mark.parametrize("seed", range(10, 12))
def test_many_wide_converters_in_compiled_c(seed: int, tmp_path: Path) -> None:
    held([exported(c, None) for c in channels(26, seed)], 1_000_000, tmp_path)


@soak
def test_every_count_of_24_bits_is_run_in_a_few_seconds() -> None:
    """Not a timed test: only that nothing is done count by count."""
    bean = jr.Adc(24) >> jr.Divider(4700) >> jr.Beta(1e5, 3950)
    start = time.perf_counter()
    made = export(jr.Channel("bean", bean, 1, limits=(0, 250)), inside_limits=True)
    assert made.proof.counts == made.proof.run == 2**24
    assert time.perf_counter() - start < 60


def test_a_threshold_of_a_wide_converter_is_exact() -> None:
    cell = jr.Counts(24, signed=True) >> jr.Line.through((-40_000, 0), (6_000_000, 20_000))
    channel = jr.Channel("cell", cell, 1)
    found = threshold(jr.Bench("", {}), channel, "cell", 5000, 4990)
    # 5000 of 20000 is a quarter of 6040000 counts from −40000 on.
    assert (found.on, found.off) == (1_470_000, 1_466_979)
    assert channel.ruler(found.on) >= 5000 > channel.ruler(found.on - 1)
    assert channel.ruler(found.off) < 4990 <= channel.ruler(found.off + 1)


def test_what_is_not_proven_is_said() -> None:
    made = export(jr.Channel("c", jr.Counts(32) >> jr.Line(1e-6), 1))
    assert made.proof.run < made.proof.counts == 2**32
    assert "of 4294967296 counts were run, every edge among them" in " ".join(made.lines())
    floats = export(jr.Channel("c", jr.Counts(32) >> jr.Line(1e-6), 1), arith="float")
    assert "floats are not bounded" in " ".join(floats.lines())


def test_a_narrow_arithmetic_says_which_is_wider() -> None:
    cell = jr.Channel("c", jr.Counts(24) >> jr.Line(2, 1), 1)
    with pytest.raises(jr.JetRulerError, match="--arith int64"):
        export(cell, arith="int32", scale=1000)
    assert export(cell, arith="int32", scale=1).proof.worst == 0


@pytest.mark.parametrize("bits", [12, 24])
def test_what_a_window_costs(bits: int) -> None:
    """Four bytes a time and four or eight a value; the cheaper form costs what is said of it."""
    text = (
        f"[channel.a]\ncolumn = 1\nconverter = {{ bits = {bits} }}\n"
        'laws = [{ law = "line", gain = 0.01, unit = "g" }]\n'
        '[trip.t]\nany = [{ channel = "a", rises_by = 5, within = "2 s" }]\n'
    )
    bench = parse_bench(text)
    made = [export(bench["a"], "a")]
    (full,), (few,) = (machines_of(bench, made, None, n).machines for n in (64, 16))
    value = 4 if bits == 12 else 8
    assert full.ram_bytes - few.ram_bytes == 48 * (4 + value)
    assert f"--window 16 remembers fewer, in {few.ram_bytes} bytes of RAM" in full.cost
    assert "--window" not in few.cost
