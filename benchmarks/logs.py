"""Whole logs: `convert` against the script a pandas user writes; memory as logs grow."""

from __future__ import annotations

import resource
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pyarrow.csv

from .timing import Result, process, ratio

CHANNELS = range(4)

BENCH = "[converter]\nbits = 12\nvref = 3.3\n" + "".join(
    f'[channel.c{i}]\ncolumn = "ch{i}"\ndecimals = 1\n'
    'laws = [{ law = "line", marks = [[198, 0], [3904, 100]], unit = "%" },'
    ' { law = "clamp", low = 0, high = 100 }]\n'
    for i in CHANNELS
)

PANDAS = """
import sys, numpy, pandas
log = pandas.read_csv(sys.argv[1])
for i in range(4):
    share = (log.pop(f"ch{i}") - 198) / (3904 - 198) * 100
    log[f"c{i}_percent"] = numpy.clip(share, 0, 100).round(1)
log.to_csv(sys.argv[2], index=False)
"""


def make_log(path: Path, rows: int) -> None:
    """A made-up log of four channels."""
    random = np.random.RandomState(2)
    with path.open("w") as file:
        file.write("time_s,ch0,ch1,ch2,ch3\n")
        for start in range(0, rows, 100_000):
            counts = random.randint(0, 4096, (min(100_000, rows - start), 4)).tolist()
            file.writelines(
                f"{(start + i) / 5:.1f},{a},{b},{c},{d}\n" for i, (a, b, c, d) in enumerate(counts)
            )


def peak_mb(*args: str) -> float:
    """Peak memory of a process in MB."""
    code = (
        "import resource, subprocess, sys; subprocess.run(sys.argv[1:], check=True,"
        " capture_output=True);"
        " print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)"
    )
    shown = subprocess.run([sys.executable, "-c", code, *args], check=True, capture_output=True)
    return int(shown.stdout) / (1024 if resource.RUSAGE_CHILDREN else 1)


def results() -> Iterator[Result]:
    """Every figure of this room."""
    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder)
        (home / "bench.toml").write_text(BENCH)
        log, out = home / "log.csv", home / "out.csv"
        convert = [sys.executable, "-m", "jetruler", "convert", str(log)]
        convert += ["-b", str(home / "bench.toml"), "-o", str(out)]
        pandas = [sys.executable, "-c", PANDAS, str(log), str(home / "pandas.csv")]
        make_log(log, 2_000_000)
        yield ratio(
            "convert 2 million rows × 4: pandas script / convert",
            process(*pandas),
            process(*convert),
            5,
            True,
            3,
        )
        small = peak_mb(*convert)
        yield Result("convert 2 million rows: peak memory", small, (small, small), 300, unit="MB")
        make_log(log, 8_000_000)
        look = [sys.executable, "-m", "jetruler", "look", str(log)]
        from jetruler.logs.look import look as look_at

        yield ratio(
            "look at 8 million rows × 4 / PyArrow reading them",
            lambda: look_at(log),
            lambda: pyarrow.csv.read_csv(log),
            1.5,
            rounds=5,
        )
        peak = peak_mb(*look)
        yield Result("look at 8 million rows: peak memory", peak, (peak, peak), 300, unit="MB")
        large = peak_mb(*convert)
        yield Result("convert 8 million rows: peak memory", large, (large, large), 300, unit="MB")
        yield Result("peak memory, 8 million / 2 million rows", large / small, (0, 0), 1.1)
