"""The same channel through `convert`, frames, `live` and `explain`: the same values and flags."""

from __future__ import annotations

import contextlib
import csv
import itertools
import json
import math
import os
import pty
import signal
import subprocess
import threading
import time
import tty
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

from tests.agreement.made import Made, made
from tests.conftest import COMMAND, Cli
from tests.helpers.sizes import sizes, soak

Rows = list[dict[str, str]]


def converted(cli: Cli, home: Path, case: Made) -> Rows:
    (home / "made.toml").write_text(case.file)
    (home / "made.csv").write_text(case.log)
    decided = ["--commands", "--events", "events.csv"]
    done = cli("convert", "made.csv", "-b", "made.toml", "-o", "out.csv", *decided)
    assert done.returncode == 0, done.stderr
    with (home / "out.csv").open(encoding="utf-8") as file:
        return list(csv.DictReader(file))


@pytest.mark.parametrize("many", sizes(2, 60))
def test_every_door_says_the_same(cli: Cli, home: Path, many: int) -> None:
    for seed in range(many):
        case = made(seed)
        rows = converted(cli, home, case)
        for door in (_live, _frame, _parquet, _lines, _explained):
            try:
                door(cli, home, case, rows)
            except AssertionError as error:
                raise AssertionError(f"seed {seed}, {door.__name__}: {error}") from None


@soak
@pytest.mark.parametrize("many", sizes(1, 12))
def test_many_logs_at_a_time_say_the_same(cli: Cli, home: Path, many: int) -> None:
    for seed in range(many):
        case = made(seed)
        converted(cli, home, case)
        (home / "logs").mkdir(exist_ok=True)
        for name in ("one", "two"):
            (home / "logs" / f"{name}.csv").write_text(case.log)
        for jobs in ("1", "2"):
            args = ["--jobs", jobs, "--commands", "-o", f"out{jobs}/"]
            done = cli("convert", "logs/*.csv", "-b", "made.toml", *args)
            assert done.returncode == 0, done.stderr
            for name in ("one", "two"):
                text = (home / f"out{jobs}" / f"{name}.csv").read_bytes()
                assert text == (home / "out.csv").read_bytes(), (seed, jobs)


@soak
@pytest.mark.parametrize("many", sizes(1, 3))
def test_a_port_says_the_same(cli: Cli, home: Path, many: int) -> None:
    """Through a pseudo-terminal, as a board writes: a process of its own reads it. Smoothing over
    a time is left out: at a port it begins before the pace is known."""
    cases = ((seed, made(seed)) for seed in itertools.count())
    plain = ((seed, case) for seed, case in cases if 'over = "1 s"' not in case.file)
    for seed, case in itertools.islice(plain, many):
        rows = converted(cli, home, case)
        names = case.log.splitlines()[0].split(",")
        stream = f'[stream]\ntimestamp = "{names[0]}"\ncolumns = {json.dumps(names)}\n'
        (home / "port.toml").write_text(case.file + stream)
        ours, theirs = pty.openpty()
        tty.setraw(theirs)
        args = [str(COMMAND), "live", "-b", "port.toml", "--source", os.ttyname(theirs)]
        with subprocess.Popen(args, cwd=home, stdout=subprocess.PIPE, text=True) as process:
            assert process.stdout is not None
            lines = case.log.splitlines(keepends=True)
            while not _has_opened(process.pid, os.ttyname(theirs)):
                time.sleep(0.05)
            time.sleep(0.5)  # whoever opens a port clears what came before
            writer = threading.Thread(target=_written, args=(ours, lines), daemon=True)
            writer.start()
            found = [process.stdout.readline() for _ in lines]
            process.send_signal(signal.SIGINT)
        os.close(ours)
        os.close(theirs)
        live = list(csv.DictReader(found))
        # At a port trips and drives go by the time of arrival too; where a busy computer is late,
        # the source's clock seems to leap.
        decided = {*case.bench.trips, *(d.output_column for d in case.bench.drives.values())}
        for i, (x, y) in enumerate(zip(rows, live, strict=True)):
            y["flags"] = ";".join(word for word in y["flags"].split(";") if word != "clock")
            for name in rows[0].keys() - decided:
                assert x[name] == y[name], f"seed {seed}, {name} in row {i}: {x} {y}"


def _has_opened(process: int, name: str) -> bool:
    with contextlib.suppress(OSError):  # a link that is gone meanwhile
        links = Path(f"/proc/{process}/fd").iterdir()
        return name in [str(link.readlink()) for link in links]
    return False


def _written(port: int, lines: list[str]) -> None:
    for start in range(0, len(lines), 20):
        data = memoryview("".join(lines[start : start + 20]).encode())
        while data:  # a terminal takes what it has room for
            data = data[os.write(port, data) :]
        time.sleep(0.01)


def _live(cli: Cli, home: Path, case: Made, rows: Rows) -> None:
    for source in (["--source", "made.csv"], []):
        done = cli("live", "-b", "made.toml", *source, stdin=case.log)
        assert done.returncode == 0, done.stderr
        live = list(csv.DictReader(done.stdout.splitlines()))
        assert len(live) == len(rows)
        for name in rows[0]:
            for i, (x, y) in enumerate(zip(rows, live, strict=True)):
                assert x[name] == y[name], f"{name} in row {i}: {x} {y}"
        time = next(iter(live[0]))
        turns = {
            (row[time], trip, row[trip])
            for before, row in pairwise([dict.fromkeys(live[0], "0"), *live])
            for trip in case.bench.trips
            if row[trip] != before[trip]
        }
        with (home / "events.csv").open(encoding="utf-8") as file:
            events = [
                (e[time], e["trip"], str(int(e["state"] == "on"))) for e in csv.DictReader(file)
            ]
        assert turns == set(events)
        assert len(turns) == len(events)


def _frame(cli: Cli, home: Path, case: Made, rows: Rows) -> None:
    raw = pd.read_csv(home / "made.csv", dtype=str, keep_default_na=False)
    frame = case.bench.convert(raw, commands=True)
    for channel in case.bench.channels.values():
        column = frame[channel.output_column]
        if channel.ruler.label(0.0) is None:
            texts = channel.cells(column.to_numpy(dtype=float).tolist())
        else:
            texts = column.astype(object).where(column.notna(), "").tolist()
        assert texts == [row[channel.output_column] for row in rows], channel.name
    assert frame["flags"].tolist() == [row["flags"] for row in rows]
    for trip in case.bench.trips:
        assert frame[trip].tolist() == [row[trip] == "1" for row in rows], trip
    for name in (drive.output_column for drive in case.bench.drives.values()):
        assert frame[name].tolist() == [float(row[name]) for row in rows], name
    others: dict[str, Any] = {"pyarrow": pa.Table.from_pandas(raw), "polars": pl.from_pandas(raw)}
    if len(case.file) % 3 == 0:  # its tasks take longest
        import dask.dataframe as dd  # long to load, and rarely needed

        others["dask"] = dd.from_pandas(raw, npartitions=3, sort=False)
    for kind, given in others.items():
        made = case.bench.convert(given, commands=True)
        other = made.compute() if kind == "dask" else made.to_pandas()
        assert list(other.columns) == list(frame.columns), kind
        for name in frame.columns:
            x, y = (f[name].astype(object).to_numpy() for f in (frame, other))
            same = (x == y) | (pd.isna(x) & pd.isna(y))
            assert same.all(), f"{kind}, {name}: {x[~same][:3]}, {y[~same][:3]}"


def _parquet(cli: Cli, home: Path, case: Made, rows: Rows) -> None:
    done = cli("convert", "made.csv", "-b", "made.toml", "--commands", "-o", "out.parquet")
    assert done.returncode == 0, done.stderr
    table = pq.read_table(home / "out.parquet")
    for trip in case.bench.trips:
        assert table.column(trip).to_pylist() == [row[trip] == "1" for row in rows], trip
    for name in (drive.output_column for drive in case.bench.drives.values()):
        assert table.column(name).to_pylist() == [float(row[name]) for row in rows], name
    for channel in case.bench.channels.values():
        values = table.column(channel.output_column).to_pylist()
        if channel.ruler.label(0.0) is None:
            texts = channel.cells([math.nan if v is None else v for v in values])
        else:
            texts = [v or "" for v in values]
        assert texts == [row[channel.output_column] for row in rows], channel.name


def _lines(cli: Cli, home: Path, case: Made, rows: Rows) -> None:
    done = cli("convert", "made.csv", "-b", "made.toml", "--commands", "--to", "jsonl")
    assert done.returncode == 0, done.stderr
    for line, row in zip(done.stdout.splitlines(), rows, strict=True):
        found = json.loads(line)
        for trip in case.bench.trips:
            assert found[trip] is (row[trip] == "1"), trip
        for name in (drive.output_column for drive in case.bench.drives.values()):
            assert found[name] == float(row[name]), name
        for channel in case.bench.channels.values():
            text = row[channel.output_column]
            value = found[channel.output_column]
            plain = channel.ruler.label(0.0) is not None
            assert value == ((text or None) if plain else float(text) if text else None)


def _explained(cli: Cli, home: Path, case: Made, rows: Rows) -> None:
    """For channels without memory: every raw value by itself."""
    raw = pd.read_csv(home / "made.csv", dtype=str, keep_default_na=False)
    for channel in case.bench.channels.values():
        holds = any(getattr(law, "hysteresis", 0) for law in channel.ruler.laws)
        if channel.smooth is not None or holds:
            continue
        for cell, row in list(zip(raw[str(channel.column)], rows, strict=True))[::37]:
            if cell in ("", "nan", "x"):
                continue
            trace = channel.ruler.trace(float(cell))
            text = channel.cell(float(trace.reading.value))
            assert text == row[channel.output_column]
            flags = np.uint8(int(trace.reading.flags))
            named = [
                part for part in row["flags"].split(";") if part.startswith(f"{channel.name}:")
            ]
            assert bool(flags) == bool(named)
