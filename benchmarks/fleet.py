"""Many logs, and large arrays: what a second core brings. CSV out against other writers. How long
a cluster's address that is silent is waited for."""

from __future__ import annotations

import socket
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import polars as pl
import pyarrow as pa
import pyarrow.csv as pacsv

import jetruler as jr
from jetruler.benchfile.load import parse_bench
from jetruler.core.bench.channel import CodeTable
from jetruler.logs.log_writers import written
from jetruler.logs.summary import ConvertedColumn
from jetruler.logs.texts import CellTexts, FlagTexts

from .logs import MILLION
from .made_up import BENCH, CHANNELS, csv_log
from .timing import Result, measured, ratio, seconds

LOGS = 24


def results() -> Iterator[Result]:
    """Every figure of this room."""
    yield from _jobs()
    yield from _arrays()
    yield from _writers()
    yield _silence()


def _jobs() -> Iterator[Result]:
    bench = parse_bench(BENCH)
    with tempfile.TemporaryDirectory() as folder:
        logs, out = Path(folder) / "logs", Path(folder) / "out"
        logs.mkdir()
        csv_log(logs / "a.csv", MILLION)
        data = (logs / "a.csv").read_bytes()
        for i in range(1, LOGS):
            (logs / f"{i}.csv").write_bytes(data)
        yield ratio(
            f"{LOGS} logs of a million rows: one job / two, a thread each",
            lambda: jr.convert_all(logs, bench, out, jobs=1, threads=1),
            lambda: jr.convert_all(logs, bench, out, jobs=2, threads=1),
            1.7,
            True,
            rounds=3,
            warm=False,
        )
        yield ratio(
            f"{LOGS} logs of a million rows: two jobs / one job with two threads",
            lambda: jr.convert_all(logs, bench, out, jobs=2),
            lambda: jr.convert_all(logs, bench, out, jobs=1),
            1.1,
            rounds=3,
            warm=False,
        )


def _arrays() -> Iterator[Result]:
    ruler = jr.Adc(12, 3.3) >> jr.Divider(4700) >> jr.Beta(100e3, 3950)
    counts = np.random.RandomState(1).randint(0, 4096, 100 * MILLION).astype(np.uint16)
    out = np.zeros(counts.size)
    yield ratio(
        "100 million counts in memory: one thread / two",
        lambda: ruler(counts, out=out),
        lambda: ruler(counts, out=out, threads=2),
        1.6,
        True,
        rounds=9,
    )
    yield ratio(
        "100 million counts in memory: ruler / copying its result",
        lambda: ruler(counts),
        lambda: out.copy(),
        1.5,
        rounds=9,
    )


def _writers() -> Iterator[Result]:
    """From places in tables to bytes of CSV, by gathering text and by formatting numbers."""
    bench = parse_bench(BENCH)
    channels = [bench[f"c{i}"] for i in CHANNELS]
    every = [CodeTable.of(channel) for channel in channels]
    rng = np.random.RandomState(4)
    columns = [ConvertedColumn(e, rng.randint(1, 4097, MILLION).astype(np.int32)) for e in every]
    times = np.round(np.arange(MILLION) / 5, 1)
    as_text = pa.array(times).cast(pa.string())
    texts, flags = (
        [CellTexts(channel) for channel in channels],
        FlagTexts(list(bench.channels), ","),
    )

    def codes() -> np.ndarray[tuple[int, int], np.dtype[np.uint8]]:
        return np.stack([column.flags for column in columns], axis=1)

    def ours() -> object:
        cells = [t.of(c)[0] for t, c in zip(texts, columns, strict=True)]
        return written([as_text, *cells, flags.gather(codes())], ",")

    def table() -> dict[str, object]:
        values = {f"c{i}": np.round(c.values, 1) for i, c in enumerate(columns)}
        return {"t": times, **values, "flags": flags.encoded(codes())}

    def by_arrow() -> object:
        options = pacsv.WriteOptions(include_header=False, quoting_style="none")
        made, sink = pa.table(table()), pa.BufferOutputStream()
        pacsv.write_csv(made.set_column(5, "flags", made["flags"].cast(pa.string())), sink, options)
        return sink.getvalue()

    def by_polars() -> object:
        frame = pl.from_arrow(pa.table(table()))
        assert isinstance(frame, pl.DataFrame)
        return frame.write_csv(include_header=False, float_precision=1)

    lines = [str(bytes(w()), "utf-8").splitlines()[7].split(",") for w in (ours, by_arrow)]  # type: ignore[call-overload]
    assert [float(cell) for cell in lines[0][:5]] == [float(cell) for cell in lines[1][:5]]
    yield ratio("CSV out, a million rows × 4: PyArrow formatting / ours", by_arrow, ours, 1.0, True)
    yield ratio("CSV out, a million rows × 4: Polars formatting / ours", by_polars, ours, 1.0, True)


def _silence() -> Result:
    """The command, with the address of somebody who takes a connection and says nothing."""
    with tempfile.TemporaryDirectory() as folder, socket.create_server(("127.0.0.1", 0)) as silent:
        bench, log = Path(folder) / "bench.toml", Path(folder) / "a.csv"
        bench.write_text(BENCH)
        csv_log(log, 10)
        command = f"{Path(sys.executable).with_name('jetruler')} convert {log} -b {bench}"
        address = f"tcp://127.0.0.1:{silent.getsockname()[1]}"
        args = [*command.split(), "-o", f"{folder}/out/", "--cluster", address]

        def work() -> None:
            done = subprocess.run(args, capture_output=True)
            assert done.returncode == 2, done.stderr
            assert b"no scheduler answers" in done.stderr, done.stderr

        name = "a cluster's address that is silent: until the message"
        return measured(name, seconds(work), 10, "s")
