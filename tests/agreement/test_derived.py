"""Channels that are computed from others: every door gives what NumPy gives, and the same."""

from __future__ import annotations

import csv
import json
import math
import re
import subprocess
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest

import jetruler as jr
from tests.conftest import Cli, of_cluster
from tests.helpers.compiled import FLAGS, GCC
from tests.helpers.sizes import few, soak

#: What random benches compute: the formula, and the same in NumPy, of three sources in units.
FORMULAS: list[tuple[str, Any]] = [
    ("a * b", lambda a, b, c: a * b),
    ("a * b / c", lambda a, b, c: a * b / c),
    ("a - b", lambda a, b, c: a - b),
    ("(a + b + c) / 3", lambda a, b, c: (a + b + c) / 3),
    ("sqrt(a**2 + b**2 + c**2)", lambda a, b, c: np.sqrt(a**2 + b**2 + c**2)),
    ("atan2(a, b) * 180 / pi", lambda a, b, c: np.degrees(np.arctan2(a, b))),
    ("max(a, b) - min(a, c)", lambda a, b, c: np.maximum(a, b) - np.minimum(a, c)),
    ("hypot(a, b) + k * c", lambda a, b, c: np.hypot(a, b) + 2.5 * c),
    ("log(abs(a) + 1) * exp(-b / 50)", lambda a, b, c: np.log(np.abs(a) + 1) * np.exp(-b / 50)),
    ("a / (b - c)", lambda a, b, c: a / (b - c)),
]


def random_bench(seed: int) -> tuple[str, Any, list[tuple[float, float]], int]:
    """The text of a bench, its formula in NumPy, gain and offset of each source, and its bits."""
    rng = np.random.default_rng(seed)
    expression, formula = FORMULAS[seed % len(FORMULAS)]
    bits = int(rng.choice([8, 10, 12, 16]))
    gains = [
        (round(float(rng.uniform(-2, 2)) or 1.0, 3), round(float(rng.uniform(-50, 50)), 2))
        for _ in "abc"
    ]
    text = f"[converter]\nbits = {bits}\n"
    for name, (gain, offset) in zip("abc", gains, strict=True):
        text += f'[channel.{name}]\ncolumn = "{name}"\n'
        text += f'laws = [{{ law = "line", gain = {gain}, offset = {offset} }}]\n'
    used = [name for name in "abc" if re.search(rf"\b{name}\b", expression)]
    constant = ", k = 2.5" if "k *" in expression else ""
    smooth = 'smooth = { kind = "mean", over = 3 }\n' if seed % 3 == 1 else ""
    text += f"[channel.total]\nfrom = {json.dumps(used)}\n{smooth}"
    text += f'laws = [{{ law = "formula", expression = "{expression}"{constant} }}]\n'
    return text, formula, gains, bits


@few
@pytest.mark.parametrize("seed", [7, *range(7), 8, 9])
def test_every_door_gives_the_same(seed: int, cli: Cli, home: Path) -> None:
    doors_agree(seed, cli, home)


@pytest.mark.soak
@pytest.mark.parametrize("seeds", [range(i, i + 19) for i in range(10, 200, 19)], ids=str)
def test_every_door_of_many_benches(seeds: range, cli: Cli, home: Path) -> None:
    for seed in seeds:
        doors_agree(seed, cli, home)


def doors_agree(seed: int, cli: Cli, home: Path) -> None:
    """convert, live, stream, frames, Python and C, against NumPy."""
    text, formula, gains, bits = random_bench(seed)
    (home / "bench.toml").write_text(text)
    rng = np.random.default_rng(seed + 1000)
    raw = rng.integers(0, 2**bits, (60, 3)).astype(float)
    raw[rng.random((60, 3)) < 0.05] = np.nan
    cells = [["" if math.isnan(n) else str(int(n)) for n in row] for row in raw]
    lines = ["t_s,a,b,c", *(",".join([str(i / 10), *row]) for i, row in enumerate(cells))]
    (home / "log.csv").write_text("\n".join(lines) + "\n")
    bench = jr.load_bench(home / "bench.toml")
    d = bench["total"]
    assert isinstance(d, jr.DerivedChannel)
    with np.errstate(all="ignore"):
        a, b, c = (raw[:, i] * gain + offset for i, (gain, offset) in enumerate(gains))
        wanted = formula(a, b, c)
        used = {source.name for source in d.sources}
        there = np.all([~np.isnan(v) for v, n in ((a, "a"), (b, "b"), (c, "c")) if n in used], 0)
        wanted = np.where(there & np.isfinite(wanted), wanted, np.nan)
    if d.smooth is not None:
        known = wanted[~np.isnan(wanted)]
        means = [known[max(0, i - 2) : i + 1].mean() for i in range(known.size)]
        wanted[~np.isnan(wanted)] = means
    size = max(1.0, float(np.nanmax(np.abs(wanted))))

    def agrees(found: Any) -> None:
        np.testing.assert_allclose(np.asarray(found, float), wanted, rtol=1e-9, atol=1e-9 * size)

    cli("convert", "log.csv", "-b", "bench.toml", "-o", "out.csv")
    converted = (home / "out.csv").read_text().splitlines()
    lived = cli("live", "--source", "log.csv", "-b", "bench.toml").stdout.splitlines()
    assert [line.split(",", 1)[1] for line in converted] == [
        line.split(",", 1)[1] for line in lived
    ]
    rows = list(csv.DictReader(converted))
    column = d.output_column
    agrees([float(row[column] or "nan") for row in rows])
    agrees([sample.values["total"] for sample in jr.stream(str(home / "log.csv"), bench)])
    frame = pd.DataFrame({"t_s": np.arange(60) / 10} | dict(zip("abc", raw.T, strict=True)))
    agrees(bench.convert(frame)[column])
    flagged = [row["flags"] for row in rows]
    assert all("total:missing" in flags for flags, ok in zip(flagged, there, strict=True) if not ok)
    if d.smooth is None:
        chip(d, cli, home, np.stack([a, b, c]), wanted)


POWER = """[converter]
bits = 12
[channel.u]
column = "u"
laws = [{ law = "line", gain = 0.004, unit = "V" }]
[channel.i]
column = "i"
laws = [{ law = "line", gain = 0.5, unit = "mA" }]
[channel.power]
from = ["u", "i"]
laws = [{ law = "formula", expression = "u * i", unit = "W" }]
"""


def power_log(home: Path) -> None:
    """A bench and a log whose meter reads 2 % and 0.05 W more than the formula gives."""
    (home / "bench.toml").write_text(POWER)
    t = np.arange(300)
    u, i = (np.rint(2000 + 1500 * np.sin(t / s)) for s in (40, 31))
    meter = 1.02 * (u * 0.004) * (i * 0.0005) + 0.05
    rows = [f"{a / 10},{b:.0f},{c:.0f},{w:.9g}" for a, b, c, w in zip(t, u, i, meter, strict=True)]
    (home / "heater.csv").write_text("\n".join(["t_s,u,i,meter_W", *rows]) + "\n")


def test_it_is_compared_and_corrected_like_any_channel(cli: Cli, home: Path) -> None:
    power_log(home)
    args = ("compare", "power", "meter_W", "--log", "heater.csv", "--json")
    found = json.loads(cli(*args, "--write").stdout)["correction"]
    assert found == pytest.approx({"gain": 1.02, "offset": 0.05}, rel=1e-6)
    after = json.loads(cli(*args).stdout)
    assert after["correction"] is None
    assert abs(after["bias"]) < 1e-6
    bench = jr.load_bench(home / "bench.toml")
    pairs = jr.read_pairs(home / "heater.csv", bench["power"], "meter_W")
    assert pairs.a.size == 300
    np.testing.assert_allclose(pairs.a, pairs.b, atol=1e-6)


def test_a_slip_in_its_name_is_answered_with_it(cli: Cli, home: Path) -> None:
    power_log(home)
    done = cli("compare", "powr", "meter_W", "--log", "heater.csv")
    assert done.returncode == 2
    assert "did you mean 'power'?" in done.stderr


def test_marks_of_it_are_what_the_formula_gives(cli: Cli, home: Path) -> None:
    power_log(home)
    cli("fit", "power", "--mark", "2=2.09", "--mark", "4=4.13", "--write")
    power = jr.load_bench(home / "bench.toml").derived["power"]
    assert power.value_of({"u": 1000, "i": 2000}) == pytest.approx(4.13)


def test_a_look_says_that_it_has_no_raw_values(cli: Cli, home: Path) -> None:
    power_log(home)
    assert "computed from others, so without raw values: power" in cli("look", "heater.csv").stdout
    found = json.loads(cli("look", "heater.csv", "-b", "bench.toml", "--json").stdout)
    assert found["computed"] == ["power"]
    assert found["time"]["jitter"] == 0.0  # every 0.1 s


@soak
def test_it_is_drawn_over_a_log_without_raw_values(cli: Cli, home: Path) -> None:
    power_log(home)
    for names, axes in (((), 3), (("power",), 1)):
        cli("draw", "log", "heater.csv", *names, "-o", "log.svg")
        text = (home / "log.svg").read_text()
        assert text.count("<!-- power (W) -->") == 1
        assert text.count("<!-- count -->") == axes - 1
    cli("report", "--log", "heater.csv", "--compare", "power=meter_W", "-o", "r.md")
    assert "<!-- power (W) -->" in (home / "r-figures" / "log.svg").read_text()
    assert "offset and gain" in (home / "r.md").read_text()


def chip(d: jr.DerivedChannel, cli: Cli, home: Path, values: Any, wanted: Any) -> None:
    """The exported functions of the values: Python's doubles, and C's short floats."""
    order = ["abc".index(source.name) for source in d.sources]
    cli("export", "total", "--to", "python", "-b", "bench.toml", "-o", "chip.py")
    module: dict[str, Any] = {}
    exec((home / "chip.py").read_text(), module)
    size = max(1.0, float(np.nanmax(np.abs(wanted))))
    for row, right in zip(values[order].T.tolist(), wanted.tolist(), strict=True):
        found = module["total"](*[None if math.isnan(v) else v for v in row])
        assert (found is None) == math.isnan(right)
        assert found is None or found == pytest.approx(right, rel=1e-9, abs=1e-9 * size)
    if GCC is None:
        return
    cli("export", "total", "--to", "c", "-b", "bench.toml", "-o", "chip.h")
    calls = [
        ", ".join("NAN" if math.isnan(v) else f"{np.float32(v)!s}f" for v in row)
        for row in values[order].T
    ]
    body = "".join(f'    printf("%.9g\\n", (double)total({call}));\n' for call in calls)
    (home / "main.c").write_text(
        f'#include <stdio.h>\n#include "chip.h"\nint main(void) {{\n{body}    return 0;\n}}\n'
    )
    program = home / "chip"
    subprocess.run([GCC, *FLAGS.split(), "main.c", "-o", str(program), "-lm"], cwd=home, check=True)
    printed = subprocess.run([str(program)], capture_output=True, text=True, check=True).stdout
    short = np.array([float(line) for line in printed.split()])
    beyond = np.abs(wanted) > 1e37  # about what a short float holds
    short, wanted = np.where(beyond, 0.0, short), np.where(beyond, 0.0, wanted)
    np.testing.assert_array_equal(np.isnan(short), np.isnan(wanted))
    slopes = np.array(d.combined.slopes(list(values[order])))
    room = 4e-7 * (np.abs(slopes * values[order]).sum(axis=0) + np.abs(wanted)) + 1e-5
    assert np.nanmax(np.abs(short - wanted) / room) <= 4


POWER_BENCH = """
[converter]
bits = 12
vref = "3.3 V ± 1 %"
[channel.u]
column = "u"
laws = [{ law = "attenuator", upper = "33 kohm ± 1 %", lower = "10 kohm ± 1 %" }]
[channel.i]
column = "i"
noise = 2
smooth = { kind = "mean", over = 1 }
laws = [{ law = "shunt", ohms = "0.1 ohm ± 1 %" }]
[channel.power]
from = ["u", "i"]
laws = [{ law = "formula", expression = "u * i", unit = "W" }]
"""


@soak
def test_a_report_has_what_is_computed(cli: Cli, home: Path) -> None:
    (home / "bench.toml").write_text(random_bench(0)[0])
    (home / "log.csv").write_text("a,b,c\n1,2,3\n4,5,6\n")
    for words in (["total"], []):
        cli("report", *words, "--log", "log.csv", "-o", "report.md")
        text = (home / "report.md").read_text()
        assert "Computed from a and b: a" in text
        assert "formula  a * b = " in text
        assert "converter resolution (a)" in text
    (home / "bench.toml").write_text(
        '[channel.a]\ncolumn = "a"\ninput = { unit = "V" }\n[channel.d]\nfrom = "a"\n'
    )
    cli("report", "d", "-o", "report.md")
    assert (
        "The range of a is not known: no worked solution is possible."
        in (home / "report.md").read_text()
    )


@of_cluster
def test_many_partitions(home: Path) -> None:
    """A lazy frame in parts gives what the whole gives, with smoothing across the borders."""
    import dask.dataframe as dd

    bench = jr.parse_bench(random_bench(1)[0])  # smoothed
    rng = np.random.default_rng(3)
    frame = pd.DataFrame(rng.integers(0, 250, (90, 3)), columns=list("abc"))
    frame.insert(0, "t_s", np.arange(90) / 10)
    whole = bench.convert(frame)
    parts = dd.from_pandas(frame, npartitions=4)
    found = bench.convert(parts).compute(scheduler="sync")
    name = bench["total"].output_column
    assert found[name].to_numpy().tobytes() == whole[name].to_numpy().tobytes()


def test_the_uncertainty_of_every_row_is_that_of_its_budget(cli: Cli, home: Path) -> None:
    """In a log and in a frame; empty where a source is missing, or on a rail."""
    text = POWER_BENCH
    bench = jr.parse_bench(text)
    (home / "bench.toml").write_text(text)
    rows: list[tuple[Any, int]] = [(2000, 900), (2000, 900), (1234, 3000), ("", 800), (4095, 700)]
    (home / "log.csv").write_text("u,i\n" + "".join(f"{u},{i}\n" for u, i in rows))
    done = cli("convert", "log.csv", "--uncertainty", "-o", "out.csv")
    assert done.returncode == 0, done.stderr
    written = pd.read_csv(home / "out.csv")["power_W_u"]
    frame = bench.convert(pd.read_csv(home / "log.csv"), uncertainty=True)["power_W_u"]
    for (u, i), text, value in zip(rows[:3], written, frame, strict=False):
        wanted = jr.budget(bench.derived["power"], {"u": u, "i": i}).expanded_uncertainty
        assert value == pytest.approx(wanted, rel=1e-12)
        assert text == pytest.approx(wanted, rel=0.05)
    assert written[3:].isna().all()
    assert frame[3:].isna().all()


def test_a_log_of_nothing_is_refused_although_something_is_computed(cli: Cli, home: Path) -> None:
    (home / "bench.toml").write_text(random_bench(0)[0])
    (home / "log.csv").write_text("a,b,c\nx,x,x\ny,y,y\n")
    refused = cli("convert", "log.csv", "-b", "bench.toml", "-o", "out.csv")
    assert refused.returncode == 2
    assert not (home / "out.csv").exists()
