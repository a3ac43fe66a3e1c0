"""Numbers in the code that decide: each is met from both sides, by a calculation of its own."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy.stats import norm

import jetruler as jr
from jetruler.benchfile.load import parse_bench
from jetruler.core.bench.bench import time_factor
from jetruler.core.check.check import check
from jetruler.core.firmware import knots
from jetruler.core.firmware.knots import fewest_knots
from tests.conftest import Cli
from tests.helpers.sizes import soak


def ohms(celsius: float) -> float:
    """A thermistor of 10 kΩ at 25 °C with a Beta of 3435 K, by its definition."""
    return float(10e3 * np.exp(3435 * (1 / (celsius + 273.15) - 1 / 298.15)))


@pytest.mark.parametrize(
    ("times", "found"),
    [(29.7, False), (30.3, True), (1 / 29.7, False), (1 / 30.3, True)],
    ids=["below 30", "above 30", "above 1/30", "below 1/30"],
)
def test_a_resistor_is_far_beyond_thirty_times_its_sensor(times: float, found: bool) -> None:
    middle = np.sqrt(ohms(0) * ohms(50))
    bench = parse_bench(
        '[converter]\nbits = 12\nvref = 3.3\n[channel.a]\ncolumn = "x"\nlimits = [0, 50]\n'
        f'laws = [{{ law = "divider", known = {times * middle} }}, '
        '{ law = "beta", r0 = 10e3, beta = 3435 }]\n'
    )
    rules = {finding.rule for finding in check(bench)}
    assert ("far-resistor" in rules) is found


def left_out(x: Any, y: Any, degree: int) -> float:
    """Root mean square of the errors of each point against a curve through the others."""
    errors = []
    for i in range(x.size):
        rest = np.polyfit(np.delete(x, i), np.delete(y, i), degree)
        errors.append(np.polyval(rest, x[i]) - y[i])
    return float(np.sqrt(np.mean(np.square(errors))))


@soak
def test_a_simpler_law_may_be_fifteen_percent_worse() -> None:
    """Bends from none to a strong one: the sentence changes where the ratio passes 1.15."""
    x = np.linspace(0, 10, 9)
    noise = np.random.RandomState(4).standard_normal(x.size)
    ratios = []
    for bend in np.linspace(0, 0.12, 120):
        y = 2 * x + 1 + bend * x**2 + noise
        ratio = left_out(x, y, 1) / left_out(x, y, 2)
        found = jr.fit(np.stack([x, y], axis=1), "polynomial", degree=2)
        assert ("a line fits as well" in found.simpler) is (ratio <= 1.15), ratio
        ratios.append(ratio)
    assert any(1.14 < r <= 1.15 for r in ratios)
    assert any(1.15 < r < 1.16 for r in ratios)


@pytest.mark.parametrize(("beyond", "outliers"), [(0.999, ()), (1.001, (4,))])
def test_one_mark_in_a_hundred_fits_is_called_an_outlier(
    beyond: float, outliers: tuple[int, ...]
) -> None:
    """Of nine marks of uncertainty 1, the middle one has a leverage of 1/9: its error has a
    variance of 8/9, and 1 % in 9 marks of two sides are 1 in 1800 each."""
    x = np.arange(9.0)
    off = beyond * float(norm.isf(0.01 / 18)) / math.sqrt(8 / 9)
    true = 2 * x + 1
    true[4] += off
    found = jr.fit(np.stack([x, true, np.ones(9)], axis=1), "line", robust=True)
    assert found.outliers == outliers


def wave(seed: int) -> Any:
    random, x = np.random.RandomState(seed), np.arange(120)
    return random.uniform(20, 100) * np.sin(x / random.uniform(5, 60)) + x * random.uniform(-1, 1)


@pytest.mark.parametrize(
    ("seed", "more"), [(513, {15: 1, 60: 0}), (277, {17: -1, 60: -1})], ids=["enough", "not always"]
)
def test_sixteen_knots_are_followed(
    seed: int, more: dict[int, int], monkeypatch: pytest.MonkeyPatch
) -> None:
    """One less would miss the fewest knots of one curve; one more would find fewer for another."""
    target = wave(seed)

    def many() -> int:
        found = fewest_knots(np.ceil(target - 2), np.floor(target + 2), target, 2**31)
        assert found is not None
        return len(found)

    usual = many()
    for beam, difference in more.items():
        monkeypatch.setattr(knots, "BEAM", beam)
        assert many() - usual == difference


@pytest.mark.parametrize(
    ("name", "seconds"),
    [
        ("time_h", 3600.0),
        ("time (min)", 60.0),
        ("t_ms", 1e-3),
        ("t [us]", 1e-6),
        ("µs", 1e-6),
        ("time_s", 1.0),
        ("millis", 1e-3),
        ("elapsed micros", 1e-6),
        ("time (minutes)", 60.0),
        ("time", None),
        ("algorithm", None),
        ("minutes_of_s", 1.0),
        ("T", None),
    ],
)
def test_time_columns_in_seconds(name: str, seconds: float | None) -> None:
    assert time_factor(name) == seconds


@pytest.mark.parametrize(("unit", "seconds"), [("h", 3600), ("min", 60), ("s", 1), ("ms", 0.001)])
def test_smoothing_over_a_time_counts_in_the_columns_unit(
    cli: Cli, home: Path, unit: str, seconds: float
) -> None:
    """Three samples, whatever unit their times are in."""
    (home / "bench.toml").write_text(
        '[converter]\nbits = 8\nvref = 2.55\n[channel.a]\ncolumn = "x"\n'
        f'smooth = {{ kind = "mean", over = "{3 * seconds} s" }}\n'
    )
    log = f"time_{unit},x\n" + "".join(f"{i},{30 * i}\n" for i in range(6))
    done = cli("convert", "-", stdin=log)
    values = [float(row.split(",")[1]) for row in done.stdout.splitlines()[1:]]
    # The mean of the last three (fewer at the start) counts of 10 mV.
    wanted = [np.mean([0.3 * k for k in range(max(0, i - 2), i + 1)]) for i in range(6)]
    assert values == pytest.approx(wanted)
