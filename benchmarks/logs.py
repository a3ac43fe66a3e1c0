"""A CSV log: `convert` against a pandas user's script, and against reading and writing alone."""

from __future__ import annotations

import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pyarrow.csv as pacsv

import jetruler as jr

from .made_up import BENCH, csv_log, other_logs
from .timing import Result, measured, process, ratio

MILLION = 1_000_000

PANDAS = """
import sys, numpy, pandas
log = pandas.read_csv(sys.argv[1])
for i in range(4):
    fraction = (log.pop(f"ch{i}") - 198) / (3904 - 198) * 100
    log[f"c{i}_percent"] = numpy.clip(fraction, 0, 100).round(1)
log.to_csv(sys.argv[2], index=False)
"""


def peak_mb(*args: str) -> float:
    """Peak memory of a process in MB."""
    code = (
        "import resource, subprocess, sys; subprocess.run(sys.argv[1:], check=True,"
        " capture_output=True);"
        " print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)"
    )
    shown = subprocess.run([sys.executable, "-c", code, *args], check=True, capture_output=True)
    return int(shown.stdout) / 1024


def results() -> Iterator[Result]:
    """Every figure of this room."""
    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder)
        (home / "bench.toml").write_text(BENCH)
        yield from _csv(home)


def converting(home: Path, log: Path, out: Path) -> list[str]:
    """The command, as words."""
    args = ["convert", str(log), "-b", str(home / "bench.toml"), "-o", str(out)]
    return [sys.executable, "-m", "jetruler", *args]


def _csv(home: Path) -> Iterator[Result]:
    bench = jr.load_bench(home / "bench.toml")
    log, out = home / "log.csv", home / "out.csv"
    csv_log(log, 2 * MILLION)
    small = peak_mb(*converting(home, log, out))
    csv_log(log, 10 * MILLION)
    pandas = [sys.executable, "-c", PANDAS, str(log), str(home / "pandas.csv")]
    yield ratio(
        "CSV, 10 million rows × 4: pandas script / convert",
        process(*pandas),
        process(*converting(home, log, out)),
        10,
        True,
        rounds=2,
        warm=False,
    )

    def plain() -> None:
        pacsv.write_csv(pacsv.read_csv(log), home / "plain.csv")

    yield ratio(
        "CSV, 10 million rows × 4: convert / PyArrow reading and writing it",
        lambda: jr.convert(log, bench, out),
        plain,
        1.0,
        rounds=3,
    )
    yield ratio(
        "CSV, 10 million rows × 4: convert on one thread / on two",
        lambda: jr.convert(log, bench, out, threads=1),
        lambda: jr.convert(log, bench, out, threads=2),
        1.6,
        True,
        rounds=3,
    )
    yield ratio(
        "CSV, 10 million rows × 4: look / PyArrow reading it",
        lambda: jr.look(log),
        lambda: pacsv.read_csv(log),
        1.4,
        rounds=5,
    )
    yield measured("CSV, look at 10 million rows: peak memory", peak_mb(*_look(log)), 300, "MB")
    large = peak_mb(*converting(home, log, out))
    yield measured("CSV, convert 10 million rows: peak memory", large, 300, "MB")
    yield measured("CSV, peak memory: 10 million / 2 million rows", large / small, 1.1)
    for path in (log, out, home / "plain.csv", home / "pandas.csv"):
        path.unlink()
    others = other_logs(home, MILLION)
    whole = others.pop("counts")
    for name, path in others.items():
        yield ratio(
            f"CSV, look at 1 million rows: {name} / counts",
            lambda path=path: jr.look(path),  # type: ignore[misc]
            lambda: jr.look(whole),
            4.0,
            rounds=5,
        )


def _look(log: Path) -> list[str]:
    return [sys.executable, "-m", "jetruler", "look", str(log)]
