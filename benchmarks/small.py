"""A small log: what makers wait for, against what they would do instead."""

from __future__ import annotations

import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

from jetruler import demo

from .timing import Result, process, ratio

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
        home = demo.unpack(folder)
        (home / "script.py").write_text(PANDAS)
        log, out = str(home / "roast.csv"), str(home / "out.csv")
        yield ratio(
            "convert, 4,200 rows × 8 / a pandas script",
            process(COMMAND, "convert", log, "-b", str(home / "bench.toml"), "-o", out),
            process(sys.executable, str(home / "script.py"), log, str(home / "pandas.csv")),
            0.9,
            rounds=rounds,
        )


def main() -> None:
    """A quick look: a few rounds."""
    for result in results(7):
        print(result, flush=True)


if __name__ == "__main__":
    main()
