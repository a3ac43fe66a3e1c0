"""Inputs that nothing is connected to: found in made-up logs, and sound logs left in peace."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from jetruler.core.numerics import Array
from jetruler.core.survey.blocks import Blocks, Floating, floating
from tests.conftest import Cli
from tests.helpers.sizes import sizes

N = 4000
#: Seconds between two samples; multiples of half a mains period show no hum at all.
INTERVALS = (0.001, 0.0023, 0.0041, 0.0097, 0.013, 0.0531, 0.107)
Make = Callable[[np.random.RandomState, float], Array]


def hum(random: np.random.RandomState, interval: float) -> Array:
    mains = random.choice([50.0, 60.0]) * (1 + 0.0007 * random.standard_normal())
    phase = 2 * np.pi * mains * interval * np.arange(N) + random.uniform(0, 6)
    size = random.uniform(60, 900)
    wave = np.sin(phase) + 0.1 * np.sin(3 * phase)
    result: Array = random.uniform(900, 3100) + size * wave + 2 * random.standard_normal(N)
    return result


def wandering(random: np.random.RandomState, interval: float) -> Array:
    result: Array = random.uniform(900, 3100) + random.uniform(180, 900) * random.standard_normal(N)
    return result


def knob(random: np.random.RandomState, interval: float) -> Array:
    at = np.sort(random.uniform(0, N, random.randint(4, 40)))
    turned = np.interp(np.arange(N), at, random.uniform(100, 4000, at.size))
    result: Array = turned + random.uniform(0, 8) * random.standard_normal(N)
    return result


def wire_off(random: np.random.RandomState, interval: float) -> Array:
    """For a third of the log."""
    floats = (hum, wandering)[random.randint(2)](random, interval)
    return np.where(np.arange(N) < 2 * N // 3, knob(random, interval), floats)


def slow(random: np.random.RandomState, interval: float) -> Array:
    walk = np.cumsum(random.standard_normal(N)) * random.uniform(0.2, 3)
    result: Array = 2000 + walk - walk.mean() + 1.5 * random.standard_normal(N)
    return result


def switched(random: np.random.RandomState, interval: float) -> Array:
    levels = np.repeat(random.uniform(300, 3800, N // 50), 50)
    result: Array = levels + 2 * random.standard_normal(N)
    return result


def cycling(random: np.random.RandomState, interval: float) -> Array:
    """A machine that turns, at any speed."""
    phase = 2 * np.pi * random.uniform(0.01, 0.3) * np.arange(N)
    size = random.uniform(100, 1500)
    result: Array = 2000 + size * np.sin(phase) + 3 * random.standard_normal(N)
    return result


def judged(make: Make, interval: float, seed: int) -> Floating | None:
    raw = make(np.random.RandomState(seed), interval)
    blocks = Blocks()
    for part in np.array_split(np.clip(np.round(raw), 0, 4095).astype(np.int64), 7):
        blocks.add(part)
    return floating(blocks, 4095, interval)


MANY = sizes(5, 60)


@pytest.mark.parametrize("many", MANY)
def test_what_floats_is_found(many: int) -> None:
    """At least 95 of 100 of each kind."""
    for make in (hum, wandering, wire_off):
        found = [judged(make, dt, seed) for dt in INTERVALS for seed in range(many)]
        assert np.mean([each is not None for each in found]) >= 0.95, make.__name__
        if make is wire_off:
            starts = [each.first for each in found if each is not None]
            assert np.mean([abs(start - 2 * N // 3) <= 512 for start in starts]) > 0.9


@pytest.mark.parametrize("many", MANY)
def test_sound_logs_are_left_in_peace(many: int) -> None:
    """At most one in a hundred is accused, machines that happen to turn with the mains included."""
    accused = [
        judged(make, dt, 1000 + seed) is not None
        for make in (knob, slow, switched, cycling)
        for dt in INTERVALS
        for seed in range(many)
    ]
    assert np.mean(accused) <= 0.01


def test_it_is_told_with_its_evidence(home: Path, cli: Cli) -> None:
    raw = np.round(knob(np.random.RandomState(3), 0.013))
    hums = 420 + 190 * np.sin(2 * np.pi * 50 * 0.013 * np.arange(N))
    raw = np.where(np.arange(N) >= 2816, np.round(hums), raw).astype(int)
    rows = [f"{i * 0.013:.3f},{count}" for i, count in enumerate(np.clip(raw, 0, 4095))]
    (home / "off.csv").write_text("\n".join(["time_s,ch2", *rows]) + "\n")
    (home / "one.toml").write_text(
        '[converter]\nbits = 12\n[channel.knob]\ncolumn = "ch2"\n'
        'laws = [{ law = "line", marks = [[100, 0], [4000, 100]], unit = "%" }]\n'
    )
    for words in (["look", "off.csv"], ["check", "--log", "off.csv"]):
        done = cli(*words, "-b", "one.toml")
        # 50 Hz sampled every 13 ms: 76.92 − 50 = 26.92 Hz.
        assert "hums at 26.9 Hz, what sampling makes of 50 Hz mains" in done.stdout, done.stdout
        assert "% of the log" in done.stdout
    assert "readings averaged" not in cli("look", "off.csv", "-b", "one.toml").stdout
