"""What must not matter does not: the unit of a log, the names of channels, where a log is cut, and
whether a law comes from Python or from a file."""

from __future__ import annotations

import csv
import io
import json
import re
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest

import jetruler as jr
from jetruler.benchfile.edit import line_for, write_law
from jetruler.benchfile.load import parse_bench
from jetruler.core.laws import law_line
from jetruler.core.ruler.converter import RawInput
from jetruler.errors import BenchError
from tests.agreement.made import made
from tests.conftest import Cli, of_cluster
from tests.helpers.sizes import few, sizes, soak


@soak
@pytest.mark.parametrize("many", sizes(6, 80))
def test_every_law_is_read_back_as_it_was(tmp_path: Path, many: int) -> None:
    """Each law of each channel is written into the file anew: the channel reads as before."""
    held = 0
    for seed in range(many):
        case = made(seed)
        path = tmp_path / "made.toml"
        for channel in case.bench.channels.values():
            for place, law in enumerate(channel.chain.laws):
                if isinstance(law, RawInput):
                    continue
                path.write_text(case.file)
                line, means = line_for(channel, law, place), channel.chain
                write_law(str(path), channel, line, place, replaces=True, means=means)
                again = jr.load_bench(path)[channel.name]
                edge = channel.chain.edge
                assert edge is not None
                raw = edge.samples(4096) if edge.is_bounded else np.linspace(-5000, 5000, 4001)
                assert np.array_equal(again.ruler(raw), channel.ruler(raw), equal_nan=True)
                held += 1
    assert held > 2 * many


@pytest.mark.parametrize("many", sizes(4, 25))
def test_a_fit_written_is_the_fit(cli: Cli, home: Path, many: int) -> None:
    for seed in range(many):
        random = np.random.RandomState(seed)
        case = made(seed)
        (home / "made.toml").write_text(case.file)
        for name, channel in case.bench.channels.items():
            edge, values = channel.chain.edge, channel.chain(np.arange(4096))
            there = np.flatnonzero(np.isfinite(values))
            zones = any(law.name == "zones" for law in channel.chain.laws)
            if there.size < 50 or edge is None or zones:
                continue
            raws = np.sort(random.choice(there, 7, replace=False))
            span = float(np.ptp(values[raws])) or 1.0
            trues = values[raws] * 1.02 + 0.01 * span * random.standard_normal(7)
            marks = "raw,true\n" + "".join(f"{x},{y!r}\n" for x, y in zip(raws, trues, strict=True))
            (home / "marks.csv").write_text(marks)
            how = ["--correction"] if random.rand() < 0.5 else []
            done = cli("fit", name, "--marks", "marks.csv", "--write", *how, "-b", "made.toml")
            if done.returncode:
                assert done.returncode == 2
                assert "itself" not in done.stderr, done.stderr
                assert (home / "made.toml").read_text() == case.file
                continue
            read = jr.read_marks(home / "marks.csv")
            wanted = jr.calibrate(channel, read, correction=bool(how)).calibrated
            again = jr.load_bench(home / "made.toml")[name]
            assert np.array_equal(again.chain(raws), wanted.chain(raws), equal_nan=True)
            every = np.arange(4096)
            assert np.array_equal(again.chain(every), wanted.chain(every), equal_nan=True), name
            (home / "made.toml").write_text(case.file)


def log_of(columns: dict[str, np.ndarray[Any, Any]]) -> str:
    names = list(columns)
    rows = zip(*(columns[name].tolist() for name in names), strict=True)
    return "\n".join([",".join(names), *(",".join(map(repr, row)) for row in rows)]) + "\n"


COMPARE = ("compare", "a", "b", "--log", "x.csv", "-b", "x.toml", "--json")
WAYS = {
    "counts": 'laws = [{ law = "line", marks = [[400, 10], [3600, 90]], unit = "%" }]',
    "volts": 'laws = [{ law = "line", marks = [["400*V", 10], ["3600*V", 90]], unit = "%" }]',
    "input in V": 'input = { unit = "V", resolution = "LSB V", range = ["0 V", "3.3 V"] }\n'
    'laws = [{ law = "line", marks = [["400*V", 10], ["3600*V", 90]], unit = "%" }]',
    "input in mV": 'input = { unit = "mV", resolution = "LSBm mV", range = ["0 mV", "3300 mV"] }\n'
    'laws = [{ law = "line", marks = [["400*V", 10], ["3600*V", 90]], unit = "%" }]',
}


def bench_in(way: str) -> str:
    """The same knob, twice, from counts of 12 bits at 3.3 V, or from what a meter says of them."""
    volts = {f"{n}*V": f"{n * 3.3 / 4095!r} V" for n in (400, 3600)}
    body = WAYS[way]
    for text, quantity in volts.items():
        body = body.replace(text, quantity)
    body = body.replace("LSBm", repr(3300 / 4095)).replace("LSB", repr(3.3 / 4095))
    head = "[converter]\nbits = 12\nvref = 3.3\n"
    return head + "".join(
        f'[channel.{name}]\ncolumn = "{name}"\n{body}\ndecimals = 3\nnoise = {noise}\n'
        for name, noise in (("a", _noise(way)), ("b", _noise(way)))
    )


def _noise(way: str) -> float:
    return {"input in V": 3.3 / 4095, "input in mV": 3300 / 4095}.get(way, 1.0) * 1.5


@few
@pytest.mark.parametrize("seed", range(3))
def test_the_same_volts_in_any_unit(cli: Cli, home: Path, seed: int) -> None:
    """Values, verdicts, budgets and fits are those of the physics, whatever unit a log is in."""
    random = np.random.RandomState(seed)
    truth = 2000 + 1500 * np.sin(np.arange(600) / 60)
    raw = {name: np.rint(truth + random.standard_normal(600) * 2 + 15 * k)
           for k, name in enumerate("ab")}  # fmt: skip
    said = {}
    for way in WAYS:
        unit = {"input in V": 3.3 / 4095, "input in mV": 3300 / 4095}.get(way, 1.0)
        columns = {"time_s": np.arange(600) / 10, **{n: x * unit for n, x in raw.items()}}
        (home / "x.toml").write_text(bench_in(way))
        (home / "x.csv").write_text(log_of(columns))
        bench = jr.load_bench(home / "x.toml")
        out = cli("convert", "x.csv", "-b", "x.toml")
        rows = list(csv.DictReader(io.StringIO(out.stdout)))
        compared = json.loads(
            cli("compare", "a", "b", "--log", "x.csv", "-b", "x.toml", "--json").stdout
        )
        at = float(bench["a"].ruler.inverse(40.0))
        budget = jr.budget(bench["a"], at)
        marks = [
            (float(x) * unit, y) for x, y in ((500, 12.0), (1500, 38.2), (3000, 75.1), (3500, 88))
        ]
        fit = jr.calibrate(bench["a"], marks)
        said[way] = {
            "values": [float(row["a_percent"]) for row in rows],
            "flags": [row["flags"] for row in rows],
            "verdict": compared["verdict"],
            "bias": compared["bias"],
            "budget": budget.combined,
            "fit": fit.calibrated.ruler(at),
            "left": fit.fit.rms_left_out,
        }
    first = said["counts"]
    assert first["verdict"] != "cannot tell"
    for way, found in said.items():
        assert found["flags"] == first["flags"], way
        assert found["verdict"] == first["verdict"], way
        for key in ("values", "bias", "budget", "fit", "left"):
            assert found[key] == pytest.approx(first[key], rel=1e-9, abs=2e-9), (way, key)


def test_the_same_warmth_in_any_degrees(cli: Cli, home: Path) -> None:
    """°C, °F and K: differences scale by 1.8, and verdicts stay."""
    random = np.random.RandomState(1)
    counts = np.rint(1800 + 600 * np.sin(np.arange(900) / 50) + random.standard_normal(900))
    said = {}
    for unit, size in (("degC", 1.0), ("degF", 1.8), ("K", 1.0)):
        beta = f'{{ law = "beta", r0 = "100 kohm ± 1 %", beta = 3950, unit = "{unit}" }}'
        laws = f'{{ law = "divider", known = "4k7" }}, {beta}'
        text = "[converter]\nbits = 12\nvref = 3.3\n" + "".join(
            f'[channel.{n}]\ncolumn = "{n}"\nlaws = [{laws}]\nnoise = 1.0\n' for n in "ab"
        )
        (home / "x.toml").write_text(text)
        columns = {"time_s": np.arange(900) / 10, "a": counts, "b": np.rint(counts + 4)}
        (home / "x.csv").write_text(log_of(columns))
        bench = jr.load_bench(home / "x.toml")
        found = json.loads(
            cli("compare", "a", "b", "--log", "x.csv", "-b", "x.toml", "--json").stdout
        )
        trues = bench["a"].ruler(np.array([900, 1800, 2600])) + 0.5 * size
        fit = jr.calibrate(bench["a"], list(zip([900, 1800, 2600], trues.tolist(), strict=True)))
        law, left = fit.fit.law, fit.fit.rms_left_out / size
        combined = jr.budget(bench["a"], 1800).combined / size
        assert isinstance(law, jr.Beta)
        bias = found["bias"] / size
        said[unit] = (found["verdict"], bias, combined, law.r0, law.beta, left)
    for unit, found in said.items():
        assert found[0] == said["degC"][0], unit
        assert found[1:] == pytest.approx(said["degC"][1:], rel=1e-6), unit


NAMES = {"a": "zulu", "b": "long_name", "c": "k-9"}


@soak
@pytest.mark.parametrize("many", sizes(3, 20))
def test_names_are_only_names(cli: Cli, home: Path, many: int) -> None:
    for seed in range(many):
        case = made(seed)
        renamed = case.file
        for old, new in NAMES.items():
            renamed = renamed.replace(f"[channel.{old}]", f"[channel.{new}]")
            renamed = re.sub(rf'(channel|from) = "{old}"', rf'\1 = "{new}"', renamed)
        (home / "made.csv").write_text(case.log)
        found = []
        for text in (case.file, renamed):
            (home / "made.toml").write_text(text)
            for args in (["convert", "made.csv"], ["live", "--source", "made.csv"]):
                done = cli(*args, "-b", "made.toml")
                assert done.returncode == 0, done.stderr
                found.append(list(csv.reader(io.StringIO(done.stdout))))
        for before, after in zip(found[:2], found[2:], strict=True):
            assert len(before) == len(after)
            for x, y in zip(before[1:], after[1:], strict=True):
                assert x[:-1] == y[:-1], seed
                flags = [pair.partition(":") for pair in x[-1].split(";")]
                assert ";".join(f"{NAMES.get(n, n)}{s}{f}" for n, s, f in flags) == y[-1], seed


@of_cluster
@pytest.mark.parametrize("many", sizes(3, 20))
def test_a_log_cut_in_two_is_one_log(many: int) -> None:
    import dask.dataframe as dd

    for seed in range(many):
        case = made(seed)
        raw = pd.read_csv(io.StringIO(case.log), dtype=str, keep_default_na=False)
        whole = case.bench.convert(raw, commands=True)
        cut = int(np.random.RandomState(seed).randint(1, len(raw)))
        two = dd.concat([
            dd.from_pandas(part, npartitions=1, sort=False) for part in (raw[:cut], raw[cut:])
        ])  # fmt: skip
        joined = case.bench.convert(two, commands=True).compute()
        for name in whole.columns:
            x, y = (f[name].astype(object).to_numpy() for f in (whole, joined))
            assert ((x == y) | (pd.isna(x) & pd.isna(y))).all(), (seed, cut, name)


def test_what_a_file_cannot_say_is_not_written(tmp_path: Path) -> None:
    """A magnitude of volts: first in a list, it would stand on counts."""
    path = tmp_path / "x.toml"
    text = "[converter]\nbits = 8\nvref = 3\n[channel.a]\ncolumn = 1\nlaws = []\n"
    path.write_text(text)
    channel = jr.load_bench(path)["a"]
    means = jr.Ruler((*channel.chain.laws, jr.Magnitude()))
    line = line_for(channel, jr.Magnitude(), 1)
    with pytest.raises(BenchError, match=r"would give other values; add this yourself: \{ law"):
        write_law(str(path), channel, line, 1, replaces=False, means=means)
    assert path.read_text() == text


def test_a_formula_reads_back_with_its_constants() -> None:
    law = jr.Formula("a * x + b", a=2 / 3, b=-1e-7, unit='say "%"\n')
    text = f"[converter]\nbits = 8\nvref = 3\n[channel.a]\ncolumn = 1\nlaws = [{law_line(law)}]\n"
    assert parse_bench(text)["a"].chain.laws[1] == law
