"""Verdicts on made-up pairs of which the truth is known: equal sensors of every kind get none, and
what is wrong with the others is named."""

from __future__ import annotations

import math
from collections import Counter
from typing import Any

import numpy as np
import pytest
from benchmarks.pairs import NOISES, SIGNALS, equal_pair, noise, signal

import jetruler as jr
from jetruler.core.calibrate.questions import without_spikes
from jetruler.core.series import hum
from tests.helpers.sizes import few, sizes, soak, thinned

#: Verdicts that promise nothing.
NONE = ("agree", "cannot tell")


def verdict(found: jr.results.Comparison) -> str:
    """A delay is a verdict, too."""
    return "delay" if found.delay.samples and found.verdict in NONE else found.verdict


@soak
@pytest.mark.parametrize("times", sizes(2, 20))
@pytest.mark.parametrize("kind", thinned(NOISES, 3))
def test_equal_sensors_get_no_verdict(kind: str, times: int) -> None:
    """Any false verdict once in a hundred comparisons, for all signals and lengths together."""
    seen: Counter[str] = Counter()
    for see in SIGNALS:
        for n in (3, 5, 12, 20, 40, 80, 200, 600):
            for ratio in (1.0, 3.0):
                random = np.random.RandomState(n + len(see))
                for _ in range(times):
                    a, b = equal_pair(see, kind, n, random, ratio)
                    seen[verdict(jr.compare(a, b))] += 1
    cases = seen.total()
    false = cases - sum(seen[name] for name in NONE)
    assert false <= 0.015 * cases + 2.5 * math.sqrt(0.015 * cases), seen
    assert seen["agree"] > 0.1 * cases, seen


SHAPES = ("offset", "gain", "bend")


@few
@pytest.mark.parametrize("shape", SHAPES)
@pytest.mark.parametrize("n", [60, *(pytest.param(n, marks=soak) for n in (200, 1000))])
def test_an_error_of_five_standard_errors_is_found(n: int, shape: str) -> None:
    t = np.linspace(-1, 1, n)
    column = np.linalg.qr(np.vander(t, 3, increasing=True))[0][:, SHAPES.index(shape)]
    random, found = np.random.RandomState(n), 0
    times = 60
    for _ in range(times):
        truth = 100 + 90 * t
        off = 5 * math.sqrt(2) * 0.5 * column * np.sign(column[-1])
        a = truth + off + 0.5 * random.standard_normal(n)
        found += jr.compare(a, truth + 0.5 * random.standard_normal(n)).verdict == shape
    assert found >= (0.85 if n == 60 else 0.9) * times


@few
@pytest.mark.parametrize("kind", ["white", "memory 0.5", "hum"])
@pytest.mark.parametrize("see", ["a ramp", "waves", "plateaus", "warming up"])
@pytest.mark.parametrize(("factor", "says"), [
    (-1.0, "run against each other"),
    (-0.5, "run against each other"),
    (0.1, "first moves 0.1 times as much as second"),
    (5.0, "first moves 5 times as much as second"),
])  # fmt: skip
def test_swapped_legs_and_a_gain_far_from_one(
    factor: float, says: str, see: str, kind: str
) -> None:
    for n in (60, 600):
        random = np.random.RandomState(n)
        truth = signal(see, n, random)
        a, b = (noise(kind, n, random, 0.17) for _ in "ab")
        found = jr.compare(100 + factor * (truth - 100) + 0.5 * a, truth + 0.5 * b)
        assert says in found.sentence
        assert "sensor" in found.sentence
        assert "marks" in found.sentence
        assert found.correction is None


@few
@pytest.mark.parametrize("see", ["waves", "plateaus"])
@pytest.mark.parametrize("samples", thinned([1, 2, 5, 20], 3))
@pytest.mark.parametrize("kind", ["white", "hum", "spikes"])
def test_a_delay_is_named_and_is_no_bias(kind: str, samples: int, see: str) -> None:
    n = 600
    for way in (1, -1):
        random = np.random.RandomState(samples)
        truth = signal(see, n + samples, random)
        late, early = truth[:n], truth[samples:]
        a, b = (late, early) if way > 0 else (early, late)
        noises = [0.5 * noise(kind, n, random, 0.17) for _ in "ab"]
        found = jr.compare(a + noises[0], b + noises[1])
        assert found.delay.samples == pytest.approx(way * samples, abs=0.5)
        assert abs(found.bias) < 0.3
        assert any("later: compared without that part" in note for note in found.notes)


def test_a_drift_is_named() -> None:
    random = np.random.RandomState(1)
    a = 100 + np.linspace(-0.5, 0.5, 400) + 0.2 * random.standard_normal(400)
    found = jr.compare(a, 100 + 0.2 * random.standard_normal(400), unit="degC")
    assert found.verdict == "drift"
    assert "drifts away" in found.sentence
    assert found.drift == pytest.approx(1.0, abs=0.15)


def test_a_delay_that_would_look_the_same_on_a_ramp() -> None:
    random = np.random.RandomState(1)
    truth = 100 + 0.2 * np.arange(400.0)
    a, b = (truth + 0.1 * random.standard_normal(400) for _ in "ab")
    found = jr.compare(a - 1.0, b)
    assert found.verdict == "offset"
    (note,) = found.notes
    assert "a delay of 4.98 samples" in note
    assert "would look the same" in note


@few
@pytest.mark.parametrize("n", [3, 4, 5, 8, 30])
def test_marks_have_intervals_of_student(n: int) -> None:
    """Few marks, which have no order: any false verdict is one in a hundred, and intervals hold."""
    random = np.random.RandomState(n)
    true = np.linspace(0, 100, n)
    false = held = 0
    for _ in range(400):
        found = jr.compare(true + random.standard_normal(n), true, ordered=False)
        false += found.verdict not in NONE
        held += abs(found.bias) <= found.half_width
    assert false <= 0.01 * 400 + 6
    assert 0.92 * 400 <= held <= 0.98 * 400


@pytest.mark.parametrize("n", [3, 4, 5])
def test_few_pairs_in_time_get_no_verdict_and_no_interval_of_nothing(n: int) -> None:
    found = jr.compare(np.linspace(1, 2, n), np.linspace(0, 1, n))
    assert found.verdict == "cannot tell"
    assert "± 0" not in str(found)
    assert "about 20 pairs would do" in found.reason


@pytest.mark.parametrize("at", [0, 1, 2, 50, 98, 99])
def test_a_spike_is_left_out_wherever_it_stands(at: int) -> None:
    random = np.random.RandomState(1)
    truth = np.where(np.arange(100) < 50, 20.0, 80.0)  # a step is no spike
    a, b = (truth + 0.1 * random.standard_normal(100) for _ in "ab")
    a[at] += 5
    mended, _, many = without_spikes(a, b)
    assert (np.flatnonzero(mended != a).tolist(), many) == ([at], 1)
    found = jr.compare(a, b)
    assert found.n == 99
    assert "1 pair with a spike in one of the two left out" in found.notes


def test_noise_on_plateaus_is_that_within_them() -> None:
    random = np.random.RandomState(1)
    truth = 100 * random.uniform(size=75).repeat(8)
    a, b = (truth + 0.05 * random.standard_normal(truth.size) for _ in "ab")
    found = jr.compare(a, b)
    assert (found.noise_a, found.noise_b) == pytest.approx((0.05, 0.05), rel=0.1)


@pytest.mark.parametrize("frequency", [0.06, 0.1234, 0.31, 0.47])
def test_hum_is_found_and_noise_is_none(frequency: float) -> None:
    n, random = 500, np.random.RandomState(2)
    white = random.standard_normal(n)
    assert not hum(white)
    columns = np.stack(hum(white + np.sin(2 * np.pi * frequency * np.arange(n))), axis=1)
    assert columns.shape[1] == 2
    wave = np.sin(2 * np.pi * frequency * np.arange(n))
    q, _ = np.linalg.qr(columns)
    left = wave - q @ (q.T @ wave)
    assert left @ left < 0.05 * (wave @ wave)


def test_an_error_that_all_values_share_widens_the_offset_only() -> None:
    random = np.random.RandomState(3)
    true = np.linspace(0, 100, 12)
    a = true + 0.3 + 0.1 * random.standard_normal(12)
    alone = jr.compare(a, true, ordered=False)
    shared = jr.compare(a, true, ordered=False, u_common=0.2)
    assert (alone.verdict, shared.verdict) == ("offset", "agree")
    assert shared.half_width == pytest.approx(math.hypot(alone.half_width, 1.96 * 0.2), rel=1e-3)
    assert shared.gain_half_width == alone.gain_half_width


RAMP = np.arange(40.0)
#: Pairs that are all but numbers of a sensor, and what is said of them.
ODD: list[tuple[Any, Any, str]] = [
    (np.full(25, 5.0), np.full(25, 5.0), "agree within 0"),
    (RAMP, RAMP, "agree within 0"),
    (1e-300 * RAMP, 1e-300 * RAMP, "agree"),
    (1e15 + RAMP, 1e15 + RAMP, "agree"),
    (np.append(np.zeros(30), 1.0), np.zeros(31), "agree within 0"),
    (np.append(np.zeros(30), np.nan), np.zeros(31), "agree within 0"),
    (np.zeros(40), RAMP, "first does not move while second does"),
    (2 * RAMP, RAMP, "offset and gain"),
    (3 * RAMP, RAMP, "first moves 3 times as much as second"),
    (-RAMP, RAMP, "run against each other"),
]


@pytest.mark.parametrize(("a", "b", "says"), ODD)
@pytest.mark.filterwarnings("error")
def test_odd_pairs(a: Any, b: Any, says: str) -> None:
    found = jr.compare(a, b)
    assert says in found.sentence
    assert "averaging reduces" not in found.sentence  # nothing says what would matter
    assert str(found)
    assert found.to_dict()


@pytest.mark.parametrize("factor", [2.0**-40, 2.0**40])
@pytest.mark.parametrize("see", SIGNALS)
@pytest.mark.parametrize("kind", ["white", "hum"])
def test_a_comparison_is_the_same_in_any_unit(factor: float, see: str, kind: str) -> None:
    """In pA as in A: what is an amount is multiplied, all else stays, to the last digit."""
    a, b = equal_pair(see, kind, 120, np.random.RandomState(3), 2.0)
    a = 1.02 * a + 0.3
    plain, scaled = (jr.compare(f * a, f * b).to_dict() for f in (1.0, factor))
    for key, value in plain.items():
        found = scaled[key]
        if key in ("sentence", "correction"):
            continue
        ratio = key in ("gain", "gain_half_width", "scale", "independent", "delay_samples")
        times = 1.0 if ratio else factor
        amounts = value if isinstance(value, list) else [value]
        of_those = found if isinstance(found, list) else [found]
        for x, y in zip(amounts, of_those, strict=True):
            assert y == (times * x if isinstance(x, float) else x), key
    assert scaled["verdict"] == ("offset" if see == "rest" else "gain")
    if plain["correction"] is not None:
        assert scaled["correction"]["gain"] == plain["correction"]["gain"]
        assert scaled["correction"]["offset"] == factor * plain["correction"]["offset"]


@pytest.mark.parametrize("error", [0.0, 0.8])
@pytest.mark.parametrize("period", [7, 50])
def test_pairs_without_an_order_are_the_same_in_any_order(error: float, period: int) -> None:
    """What comes in waves by chance is no hum where nothing came in time."""
    random = np.random.RandomState(3)
    n = np.arange(600)
    b = 20 + 5 * np.sin(n / 90)
    a = b + error + 0.5 * np.sin(2 * np.pi * n / period) + 0.2 * random.standard_normal(600)
    mixed = random.permutation(600)
    first = jr.compare(a, b, ordered=False)
    second = jr.compare(a[mixed], b[mixed], ordered=False)
    assert first.verdict == second.verdict
    for name in ("bias", "half_width", "limits", "readings"):
        assert getattr(first, name) == pytest.approx(getattr(second, name), nan_ok=True), name
