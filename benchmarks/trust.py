"""Uncertainties: convert with them against without; Monte Carlo against the bare expression."""

from __future__ import annotations

import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from jetruler import Adc, Beta, Divider, Line, To, Toleranced, simulate

from .made_up import BENCH, csv_log
from .timing import Result, process, ratio

DRAWS = 1_000_000


def bare() -> tuple[float, float, object]:
    """The same five laws and draws as one writes them down."""
    r = np.random.Generator(np.random.PCG64(1))
    x = 1880 + r.uniform(-0.5, 0.5, DRAWS) + 1.4 * r.standard_normal(DRAWS)
    volts = x / 4095 * r.uniform(3.267, 3.333, DRAWS)
    ohms = r.uniform(4653, 4747, DRAWS) * volts / (r.uniform(3.29, 3.31, DRAWS) - volts)
    log = np.log(ohms / r.uniform(97e3, 103e3, DRAWS)) / r.uniform(3910, 3990, DRAWS)
    celsius = 1 / (1 / 298.15 + log) - 273.15
    celsius = r.uniform(0.99, 1.01, DRAWS) * celsius + r.uniform(-0.5, 0.5, DRAWS)
    y = celsius * 1.8 + 32
    return float(y.mean()), float(y.std(ddof=1)), np.quantile(y, [0.025, 0.975])


def results() -> Iterator[Result]:
    """Every figure of this room."""
    t = Toleranced
    five = (
        Adc(12, t(3.3, 0.033))
        >> Divider(t(4700, 47), supply=t(3.3, 0.01))
        >> Beta(t(100e3, 3000), t(3950, 40))
        >> Line(t(1, 0.01), t(0, 0.5))
        >> To("degF")
    )
    yield ratio(
        "simulate, a million draws through five laws / bare NumPy expression",
        lambda: simulate(five, 1880, noise=1.4, draws=DRAWS),
        bare,
        1.5,
    )
    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder)
        csv_log(home / "log.csv", 2_000_000)
        text = BENCH.replace("vref = 3.3", 'vref = "3.3 V ± 1 %"\nerror_lsb = 2')
        (home / "bench.toml").write_text(text.replace("decimals = 1", "decimals = 1\nnoise = 1.4"))
        convert = [sys.executable, "-m", "jetruler", "convert", str(home / "log.csv")]
        convert += ["-b", str(home / "bench.toml"), "-o", str(home / "out.csv")]
        yield ratio(
            "convert --uncertainty / convert, 2 M rows × 4",
            process(*convert, "--uncertainty"),
            process(*convert),
            1.6,
        )
