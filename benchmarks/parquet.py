"""A Parquet log: `convert` against PyArrow reading and writing it, and as it grows."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from pathlib import Path

import pyarrow.parquet as pq

import jetruler as jr

from .logs import MILLION, converting, peak_mb
from .made_up import BENCH, parquet_log
from .timing import Result, measured, ratio, seconds


def results() -> Iterator[Result]:
    """Every figure of this room."""
    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder)
        (home / "bench.toml").write_text(BENCH)
        yield from _parquet(home)


def _parquet(home: Path) -> Iterator[Result]:
    bench = jr.load_bench(home / "bench.toml")
    log, out = home / "log.parquet", home / "out.parquet"
    times: dict[int, float] = {}

    def convert() -> None:
        out.unlink(missing_ok=True)  # replacing a file takes the disk's time
        jr.convert(log, bench, out)

    for millions in (1, 2, 4, 8, 16, 32, 64, 100):
        parquet_log(log, millions * MILLION)
        rounds = 9 if millions < 10 else 2
        times[millions] = min(seconds(convert) for _ in range(rounds))
    pairs = list(zip(times, list(times)[1:], strict=False))
    # Per row; from 64 to 100 million is no doubling, but the rows count all the same.
    growth = [times[b] / times[a] * a / b for a, b in pairs]
    yield Result(
        "Parquet, twice the rows: time per row, from 1 to 100 million (worst)",
        max(growth),
        (min(growth), max(growth)),
        1.1,
    )

    def plain() -> None:
        (home / "plain.parquet").unlink(missing_ok=True)
        pq.write_table(pq.read_table(log), home / "plain.parquet")

    yield ratio(
        "Parquet, 100 million rows × 4: convert / PyArrow reading and writing it",
        convert,
        plain,
        1.5,
        rounds=3,
        warm=False,
    )
    peak = peak_mb(*converting(home, log, out))
    yield measured("Parquet, convert 100 million rows: peak memory", peak, 400, "MB")
