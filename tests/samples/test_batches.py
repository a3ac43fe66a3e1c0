"""Whatever reads a log asks one place for its times: each command on the same rows, timed by
columns of every unit."""

from __future__ import annotations

import csv
from pathlib import Path

import pandas as pd
import pytest

import jetruler as jr
from jetruler.logs.pairs import read_series
from tests.conftest import Cli
from tests.helpers.sizes import few

RAW = [100, 100, 900, 900, 900, 900, 100, 100, 100, 100, 100, 100]
BENCH = """
title = "Bench"
[channel.level]
column = "ch0"
smooth = {{ kind = "mean", over = "1 s" }}
converter = {{ bits = 10, vref = 1 }}
laws = [{{ law = "line", gain = 1, unit = "g" }}]
[channel.raw]
column = "ch0"
converter = {{ bits = 10, vref = 1 }}
[trip.full]
any = [{{ channel = "level", above = 500 }}]
hold = "0.5 s"
{stream}
"""
OF_MS = '[stream]\ntimestamp = "when"\ntime_unit = "ms"'


@few
@pytest.mark.parametrize(
    ("name", "unit", "stream"),
    [
        ("time_s", 1.0, ""),
        ("t_ms", 1e-3, ""),
        ("stamp (us)", 1e-6, ""),
        ("t (min)", 60.0, ""),
        ("clock_h", 3600.0, ""),
        ("when", 1.0, ""),
        ("when", 1e-3, OF_MS),
    ],
)
def test_every_reader_has_the_same_times(
    cli: Cli, home: Path, tmp_path: Path, name: str, unit: float, stream: str
) -> None:
    path, log, out = (tmp_path / each for each in ("bench.toml", "log.csv", "events.csv"))
    path.write_text(BENCH.format(stream=stream))
    rows = [[f"{i * 0.5 / unit:.12g}", str(count)] for i, count in enumerate(RAW)]
    log.write_text("\n".join(",".join(row) for row in [[name, "ch0"], *rows]) + "\n")
    bench = jr.load_bench(path)

    time = jr.look(log, bench).time
    assert time is not None
    assert time.interval == pytest.approx(0.5)
    seconds = [0.5 * i for i in range(len(RAW))]
    pairs = jr.read_pairs(log, bench["raw"], "ch0", unit="V", form=bench.log)
    assert pairs.at.tolist() == pytest.approx(seconds)
    (series,) = read_series(log, [bench["level"]], form=bench.log)
    assert series.at.tolist() == pytest.approx(seconds)
    # A mean over 1 s is one over two samples, and what is above 500 g holds for half a second.
    done = cli("convert", str(log), "-b", str(path), "-o", "out.csv", "--events", str(out))
    assert done.returncode == 0, done.stderr
    found = [(row[name], row["state"]) for row in csv.DictReader(out.read_text().splitlines())]
    assert found == [
        (rows[3][0], "on"),
        (rows[7][0], "off"),
    ]
    # The same through a stream, from a file and from a pipe.
    with (home / "out.csv").open() as file:
        values = [row["level_g"] for row in csv.DictReader(file)]
    for source in (["--source", str(log)], []):
        done = cli("live", "-b", str(path), *source, stdin=log.read_text())
        assert done.returncode == 0, done.stderr
        live = list(csv.DictReader(done.stdout.splitlines()))
        assert [row[name] for row in live] == [row[0] for row in rows]
        assert [row["full"] == "1" for row in live] == [3 <= i < 7 for i in range(len(RAW))]
        assert [row["level_g"] for row in live] == values
    frame = bench.convert(pd.read_csv(log), commands=True)
    assert frame["full"].tolist() == [3 <= i < 7 for i in range(len(RAW))]
    assert frame["level_g"][3] == pytest.approx(frame["level_g"][5])
    said = cli("check", "-b", str(path), "--log", str(log))
    assert "no time" not in said.stdout + said.stderr


@pytest.mark.parametrize("count", [2, 3])
def test_the_shortest_logs_have_the_same_times_live(
    cli: Cli, home: Path, tmp_path: Path, count: int
) -> None:
    path, log = tmp_path / "bench.toml", tmp_path / "log.csv"
    path.write_text(BENCH.format(stream=""))
    lines = ["time_s,ch0", *(f"{i * 0.5},{100 + 400 * i}" for i in range(count))]
    for end in ("\n", ""):
        log.write_text("\n".join(lines) + end)
        done = cli("convert", str(log), "-b", str(path), "-o", "out.csv")
        assert done.returncode == 0, done.stderr
        with (home / "out.csv").open() as file:
            wanted = [row["level_g"] for row in csv.DictReader(file)]
        for source in (["--source", str(log)], []):
            if not source and not end:
                continue  # a pipe's last line may still be on its way
            done = cli("live", "-b", str(path), *source, stdin=log.read_text())
            live = list(csv.DictReader(done.stdout.splitlines()))
            assert [row["level_g"] for row in live] == wanted, (source, end)
