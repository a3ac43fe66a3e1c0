"""Small logs and single answers: what makers wait for, against what they would do instead."""

from __future__ import annotations

import os
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

from jetruler import demo

from .logs import peak_mb
from .timing import Result, measured, process, python, ratio

#: What a pandas user writes for the demo's eight channels.
PANDAS = """
import sys, numpy as np, pandas as pd
log = pd.read_csv(sys.argv[1])
def ntc(n, known, beta, r0):
    s = n / 4095
    ohms = known * s / (1 - s)
    return 1 / (1 / 298.15 + np.log(ohms / r0) / beta) - 273.15
out = log[["time_s", "note"]].copy()
out["bean_degC"] = ntc(log.ch0.rolling(5, min_periods=1).median(), 4700, 3950, 100e3).round(1)
out["bean2_degC"] = ntc(log.ch1, 4700, 3950, 100e3).round(1)
out["damper_percent"] = np.clip((log.ch2 - 198) / 3706 * 100, 0, 100).round(1)
out["exhaust_degC"] = ntc(log.ch3, 4700, 3435, 10e3).round(1)
ma = log.ch4 / 4095 * 3.3 / 150 * 1000
out["draught_Pa"] = ((ma - 4) / 16 * 250).round(1)
out["rail_V"] = (log.ch5 / 4095 * 3.3 * 43 / 10).round(2)
out["tray_zone"] = pd.cut(log.ch6, [-1, 1000, 2500, 5000], labels=["full", "half", "empty"])
out["hopper_g"] = ((log.ch7 / 16).rolling(10, min_periods=1).mean() * 0.6667 - 245).round(0)
out.to_csv(sys.argv[2], index=False)
"""

COMMAND = str(Path(sys.executable).with_name("jetruler"))


def results(rounds: int = 15) -> Iterator[Result]:
    """Every figure of this room."""
    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder)
        for name in ("bench.toml", "roast.csv", "bath.csv", "rest.csv"):
            (home / name).write_bytes(demo.read(name))
        rows = (home / "roast.csv").read_text().splitlines(keepends=True)
        (home / "short.csv").write_text("".join(rows[:101]))
        (home / "script.py").write_text(PANDAS)
        os.chdir(home)
        yield from _figures(rounds)
        os.chdir("/")


def _figures(rounds: int) -> Iterator[Result]:
    def command(*args: str) -> list[str]:
        return [COMMAND, *args]

    convert = command("convert", "roast.csv", "-o", "out.csv")
    short = command("convert", "short.csv", "-o", "out.csv")
    arrow = [sys.executable, "-c", "import numpy, pyarrow.csv"]
    pandas = [sys.executable, "script.py", "roast.csv", "pandas.csv"]
    numpy = python("import numpy")
    for name, top, bottom, wanted in (
        ("convert, 4,200 rows × 8 / a pandas script", process(*convert), process(*pandas), 0.6),
        (
            "convert, 100 rows × 8 / import numpy, pyarrow.csv",
            process(*short),
            process(*arrow),
            1.5,
        ),
        (
            "draw ruler / import matplotlib.figure",
            process(*command("draw", "ruler", "bean", "-o", "ruler.png")),
            python("import matplotlib.figure"),
            1.3,
        ),
        (
            "fit, the demo's bath / import numpy",
            process(*command("fit", "bean", "--marks", "bath.csv")),
            numpy,
            2.5,
        ),
        (
            "compare, 3,000 rows / import numpy",
            process(*command("compare", "bean", "bean2", "--log", "rest.csv")),
            numpy,
            2.5,
        ),
        (
            "export bean / import numpy",
            process(*command("export", "bean", "--to", "c", "-o", "bean.h")),
            numpy,
            2.5,
        ),
    ):
        yield ratio(name, top, bottom, wanted, rounds=rounds)
    memory = peak_mb(*short) / peak_mb(*arrow)
    yield measured("convert, 100 rows × 8: peak memory / import numpy, pyarrow.csv", memory, 1.3)


def main() -> None:
    """A quick look: a few rounds."""
    for result in results(7):
        print(result, flush=True)


if __name__ == "__main__":
    main()
