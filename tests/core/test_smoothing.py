"""Smoothing: against plain loops, and the same numbers for any batch size."""

from __future__ import annotations

import math
import statistics
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.signal import lfilter
from scipy.stats import norm

from jetruler import Smoother, Smoothing, block_averages, convert, how_many, smooth
from jetruler.benchfile.load import parse_bench
from jetruler.core.bench import smoothing as smoothing_module
from jetruler.core.numerics import Array
from jetruler.errors import BenchError, LogError, ParameterError

RANDOM = np.random.RandomState(5)


@pytest.fixture(autouse=True)
def _the_same_numbers_in_any_order() -> None:
    RANDOM.seed(5)


def plainly(samples: list[float], smoothing: Smoothing) -> list[float]:
    """What the docstring says, sample by sample."""
    out: list[float] = []
    seen: list[float] = []
    level = math.nan
    n = smoothing.samples
    for x in samples:
        if math.isnan(x):
            out.append(x)
            continue
        seen.append(x)
        window = seen[-n:]
        if smoothing.blocks:
            whole = len(seen) // n * n
            window = seen[whole - n : whole] or seen
        if smoothing.kind == "exponential":
            weight = 2 / (n + 1)
            level = x if math.isnan(level) else weight * x + (1 - weight) * level
            out.append(level)
        elif smoothing.kind == "mean":
            out.append(statistics.fmean(window))
        else:
            median = statistics.median(window)
            spread = 1.4826 * statistics.median(abs(w - median) for w in window)
            off = abs(x - median)
            spike = off > smoothing.beyond and off > 4 * spread
            out.append(median if smoothing.kind == "median" or spike else x)
    return out


SMOOTHINGS = [
    *(
        Smoothing(kind, n)
        for kind in ("mean", "median", "exponential", "spikes")
        for n in (1, 2, 5, 8)
    ),
    *(Smoothing(kind, n, blocks=True) for kind in ("mean", "median") for n in (1, 3, 4)),
]
values = st.one_of(st.integers(0, 4095).map(float), st.just(math.nan), st.floats(0, 4095))


@given(st.sampled_from(SMOOTHINGS), st.lists(values, max_size=60))
def test_as_the_docstring_says(smoothing: Smoothing, samples: list[float]) -> None:
    found = smooth(np.array(samples), smoothing)
    assert found == pytest.approx(plainly(samples, smoothing), rel=1e-12, abs=1e-9, nan_ok=True)


@given(st.sampled_from(SMOOTHINGS), st.lists(values, max_size=60), st.booleans())
def test_any_batch_size_gives_identical_numbers(
    smoothing: Smoothing, samples: list[float], whole_numbers: bool
) -> None:
    x = np.array(samples, dtype=np.float64)
    x = np.rint(x) if whole_numbers else x
    reference = smooth(x, smoothing).tobytes()
    for size in (1, 7, 1000):
        smoother = Smoother(smoothing)
        parts = [smoother.add(x[i : i + size]) for i in range(0, x.size, size)]
        assert np.concatenate([np.empty(0), *parts]).tobytes() == reference


def test_long_arrays_go_by_blocks_all_the_same() -> None:
    x = RANDOM.standard_normal(50_000)
    for smoothing in SMOOTHINGS:
        whole = Smoother(smoothing).add(x)
        assert smooth(x, smoothing).tobytes() == whole.tobytes()


@pytest.mark.parametrize("samples", [2, 5, 16, 300])
def test_long_and_short_logs_are_smoothed_to_the_same_bits(
    samples: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    x = np.round(2000 + 200 * RANDOM.standard_normal(5000), 1)
    smoother = Smoother(Smoothing("exponential", samples))
    monkeypatch.setattr(smoothing_module, "SHORT_LOG", 2000)  # half-way through
    found = np.concatenate([smoother.add(part) for part in np.split(x, 5)])
    assert found.tobytes() == lfilter_of(x, 2 / (samples + 1)).tobytes()


def lfilter_of(x: Array, weight: float) -> Array:
    """By SciPy, which Jet Ruler itself asks for long logs only."""
    start = [(1.0 - weight) * x[0]]
    found: Array = lfilter([weight], [1.0, weight - 1.0], x, zi=start)[0]
    return found


def test_spike_gate_replaces_outliers_only() -> None:
    x = np.round(2000 + 2 * RANDOM.standard_normal(500))
    x[100], x[300] = 4095, 0
    found = smooth(x, Smoothing("spikes", 5))
    changed = np.flatnonzero(found != x)
    assert {100, 300} <= set(changed.tolist())
    assert changed.size < 25
    assert abs(found[[100, 300]] - 2000).max() < 8


@pytest.mark.parametrize(
    ("smoothing", "lag"),
    [
        (Smoothing("mean", 9), 4.0),
        (Smoothing("median", 9), 4.0),
        (Smoothing("exponential", 9), 4.0),
        (Smoothing("mean", 8, blocks=True), 7.0),
        (Smoothing("spikes", 9), 0.0),
    ],
)
def test_lag_is_that_of_a_ramp(smoothing: Smoothing, lag: float) -> None:
    ramp = np.arange(80_000.0)
    found = smooth(ramp, smoothing)
    late = ramp - found
    assert np.mean(late[-40_000:]) == pytest.approx(lag, abs=1e-6)
    assert smoothing.lag == lag
    assert f"lag {lag:g} samples ({lag * 0.2:g} s)" in smoothing.summary(0.2)


def test_block_averages() -> None:
    found = block_averages(np.array([1, 2, 3, 4, math.nan, 6, 7]), 2)
    np.testing.assert_array_equal(found, [1.5, 3.5, 6.0])
    assert math.isnan(block_averages(np.array([math.nan, math.nan]), 2)[0])
    with pytest.raises(ParameterError, match="at least 1"):
        block_averages(np.ones(3), 0)


@pytest.mark.parametrize(
    ("mistake", "parameter"),
    [
        ({"kind": "mode", "over": 5}, "kind"),
        ({"kind": "mean", "over": 0}, "over"),
        ({"kind": "mean", "over": 2.5}, "over"),
        ({"kind": "mean", "over": True}, "over"),
        ({"kind": "mean", "over": "5"}, "over"),
        ({"kind": "mean", "over": "-2 s"}, "over"),
        ({"kind": "mean", "over": "2 V"}, "over"),
        ({"kind": "mean", "over": 5, "where": "before"}, "where"),
        ({"kind": "spikes", "over": 5, "blocks": True}, "blocks"),
        ({"kind": "spikes", "over": 5, "beyond": -1}, "beyond"),
    ],
)
def test_refuses(mistake: dict[str, Any], parameter: str) -> None:
    with pytest.raises(ParameterError) as caught:
        Smoothing(**mistake)
    assert caught.value.name == parameter


def test_over_a_time() -> None:
    assert Smoothing("mean", "2 s").settled(0.2).samples == 10
    with pytest.raises(ParameterError, match="no time column"):
        Smoothing("mean", "2 s").settled(None)


@pytest.mark.parametrize(("noise", "target"), [(1.4, 0.1), (0.8, 0.05), (3.0, 1.0), (0.05, 1.0)])
def test_how_many_readings_hold_still(noise: float, target: float) -> None:
    needed = how_many(noise, target).readings
    assert needed is not None
    levels = 100 + RANDOM.random_sample(2000)
    counts = np.round(levels[:, None] + noise * RANDOM.standard_normal((2000, needed)))
    errors = counts.mean(axis=1) - levels
    assert np.sqrt(np.mean(errors**2)) < 1.1 * max(target, 0.29 if noise < 0.2 else 0)
    if needed > 1:
        assert np.sqrt(np.mean(errors**2)) > 0.8 * target


def slow(n: int, memory: float) -> Any:
    from scipy.signal import lfilter

    return lfilter([math.sqrt(1 - memory**2)], [1, -memory], RANDOM.standard_normal(n + 500))[500:]


def hum(n: int) -> Any:
    phase = RANDOM.uniform(0, 2 * np.pi)
    wave = 3 * np.sin(2 * np.pi * np.arange(n) / 17.3 + phase)
    return wave + 0.5 * RANDOM.standard_normal(n)


@pytest.mark.parametrize(
    ("make", "targets"),
    [
        (RANDOM.standard_normal, (0.3, 0.05)),
        (lambda n: slow(n, 0.95), (0.5, 0.2)),
        (hum, (0.5, 0.1, 0.03)),
    ],
    ids=["white", "slow", "hum"],
)
def test_means_of_readings_spread_as_their_log_says(make: Any, targets: tuple[float, ...]) -> None:
    """Readings of the same kind that nobody has seen, in groups as large as was said."""
    for target in targets:
        found = how_many(make(20_000), target)
        assert found.readings is not None
        fresh = [make(found.readings * 10)[: found.readings * 10] for _ in range(40)]
        means = np.concatenate([x.reshape(-1, found.readings).mean(axis=1) for x in fresh])
        assert found.noise_after <= target
        assert means.std() / found.noise_after == pytest.approx(1, abs=0.2)


def test_readings_that_move_say_when_averaging_stops_helping() -> None:
    walk = np.cumsum(0.1 * RANDOM.standard_normal(4000))
    ramp = 0.01 * np.arange(4000) + RANDOM.standard_normal(4000)
    for readings, least, most in ((walk, 1, 2), (ramp, 16, 128)):
        found = how_many(readings, 0.02)
        assert found.noise == "between neighbours"
        assert found.best is not None
        assert least <= found.best <= most
        assert f"averaging more than {found.best} adds" in str(found)
    with pytest.raises(ParameterError, match="20 readings or more"):
        how_many([1.0, 2.0], 0.1)


def test_averaging_without_noise_to_dither_gains_nothing() -> None:
    ignore_fp_warnings = how_many(0.05, 0.1)
    assert ignore_fp_warnings.readings is None
    assert "no number of readings" in str(ignore_fp_warnings)
    # Measured: the error that is left of a mean of very many readings, at the worst level.
    for noise in (0.2, 0.3, 0.4):
        levels = np.linspace(0, 1, 101)
        means = np.round(levels[:, None] + noise * RANDOM.standard_normal((101, 40_000))).mean(
            axis=1
        )
        left = np.abs(means - levels).max()
        assert how_many(noise, 1.0).limit == pytest.approx(left, abs=0.009)
    # A level just below half a step: so little noise does not lift it over, however often.
    for noise in (0.01, 0.05):
        level = np.linspace(0, 0.5, 5001)
        assert how_many(noise, 1.0).limit == pytest.approx(
            np.max(np.abs(norm.sf((0.5 - level) / noise) - level)), abs=1e-4
        )
    assert how_many(0.05, 0.3).readings is None
    for wrong in ({"noise": -1, "target": 1}, {"noise": 1, "target": 0}):
        with pytest.raises(ParameterError):
            how_many(**wrong)


BENCH = """
[converter]
bits = 12
vref = 3.3
[channel.a]
column = "x"
laws = [{ law = "divider", known = 4700 }, { law = "beta", r0 = 1e5, beta = 3950 }]
smooth = { %s }
decimals = 3
"""


def run(tmp_path: Path, smooth: str, counts: list[Any], time: bool = True) -> pd.DataFrame:
    (tmp_path / "in.csv").write_text(
        ("time_s,x\n" if time else "x\n")
        + "".join(f"{i / 5},{c}\n" if time else f"{c}\n" for i, c in enumerate(counts))
    )
    convert(tmp_path / "in.csv", parse_bench(BENCH % smooth), tmp_path / "out.csv")
    return pd.read_csv(tmp_path / "out.csv")


@pytest.mark.parametrize(
    ("text", "smoothing", "where"),
    [
        ('kind = "median", over = 5', Smoothing("median", 5), "counts"),
        ('kind = "mean", over = "1 s"', Smoothing("mean", 5), "counts"),
        ('kind = "mean", over = 4, where = "values"', Smoothing("mean", 4), "values"),
        ('kind = "exponential", over = 7', Smoothing("exponential", 7), "counts"),
    ],
)
def test_convert_smooths_before_or_after_the_laws(
    tmp_path: Path, text: str, smoothing: Smoothing, where: str
) -> None:
    counts = RANDOM.randint(500, 3500, 200)
    ruler = parse_bench(BENCH % text)["a"].ruler
    expected = (
        ruler(smooth(counts, smoothing)) if where == "counts" else smooth(ruler(counts), smoothing)
    )
    found = run(tmp_path, text, counts.tolist())["a_degC"]
    np.testing.assert_array_equal(found, [float(f"{v:.3f}") for v in expected])


def test_an_open_wire_is_left_out_and_not_spread(tmp_path: Path) -> None:
    counts: list[Any] = [1000] * 10 + [4095] * 3 + ["", 9999] + [1000] * 10
    found = run(tmp_path, 'kind = "mean", over = 4', counts)
    assert found["a_degC"].isna().to_numpy().nonzero()[0].tolist() == [10, 11, 12, 13, 14]
    assert found["a_degC"].dropna().nunique() == 1
    assert found["flags"].dropna().tolist() == [
        *["a:high_rail"] * 3,
        "a:missing",
        "a:off_scale",
    ]


def test_bench_mistakes_and_a_log_without_time(tmp_path: Path) -> None:
    for text, says in [
        ('kind = "median"', "channel.a.smooth.over: missing; smooth needs it"),
        (
            'kind = "median", ovr = 5',
            "channel.a.smooth.ovr: unknown for smooth; did you mean",
        ),
        ('kind = "median", over = 0', "channel.a.smooth.over: expected at least 1 sample, found 0"),
    ]:
        with pytest.raises(BenchError, match=says.replace(".", r"\.")):
            parse_bench(BENCH % text)
    with pytest.raises(
        LogError, match=r"a\.smooth\.over: .*found '2 s': the log has no time column"
    ):
        run(tmp_path, 'kind = "mean", over = "2 s"', [1, 3, 2, 5, 2, 1], time=False)


def test_a_log_shorter_than_the_window_uses_what_is_there(tmp_path: Path) -> None:
    found = run(tmp_path, 'kind = "mean", over = 100', [1000, 1002])
    ruler = parse_bench(BENCH % 'kind = "mean", over = 100')["a"].ruler
    assert found["a_degC"].tolist() == [round(ruler(1000), 3), round(ruler(1001), 3)]


#: The variance of the median of n standard normal readings: Sarhan and Greenberg, Contributions
#: to Order Statistics (1962), table 10C.1; of two it is their mean.
@pytest.mark.parametrize(
    ("n", "variance"),
    [(1, 1.0), (2, 0.5), (3, 0.4487), (4, 0.2982), (5, 0.2868), (7, 0.2104), (9, 0.1661)],
)
def test_a_median_averages_as_much_as_it_says(n: int, variance: float) -> None:
    assert 1 / Smoothing("median", n).averaged == pytest.approx(variance, rel=5e-3)


@pytest.mark.parametrize("n", [2, 6, 10, 15, 32])
def test_a_median_is_as_quiet_as_it_says(n: int) -> None:
    noise = np.random.RandomState(n).standard_normal((60_000, n))
    found = np.median(noise, axis=1).var()
    assert 1 / Smoothing("median", n).averaged == pytest.approx(found, rel=0.025)


def test_readings_show_their_own_step() -> None:
    """Degrees behind a converter: their step is some hundredths, not 1."""
    degrees = np.round(50 / 0.04 + 2 * RANDOM.standard_normal(5000)) * 0.04
    by_itself, said = how_many(degrees, 0.01), how_many(degrees, 0.01, lsb=0.04)
    assert by_itself.readings is not None
    assert by_itself.readings == pytest.approx(said.readings, rel=0.05)
    with pytest.raises(ParameterError, match="readings that differ"):
        how_many([5.0] * 50, 0.1)


@given(
    st.lists(st.floats(0.05, 5), min_size=3, max_size=60),
    st.sampled_from(["mean", "median"]),
    st.integers(1, 7),
)
def test_a_time_covers_that_time_also_across_gaps(steps: list[float], kind: str, size: int) -> None:
    """Against the samples of the last two seconds, one by one; in any batches."""
    steps = [0.25 if step < 1.5 else step for step in steps]
    times = np.cumsum(steps)
    counts = (np.arange(times.size) * 37 % 101).astype(float)
    smoother = Smoother(Smoothing(kind, 8), seconds=2.0)  # type: ignore[arg-type]
    parts = [slice(i, i + size) for i in range(0, times.size, size)]
    found = np.concatenate([smoother.add(counts[p], None, times[p]) for p in parts])
    combine = np.mean if kind == "mean" else np.median
    for i, now in enumerate(times):
        near = (now - times[: i + 1] < 2.0 * (1 - 1e-9)) & (np.arange(i + 1) > i - 8)
        assert found[i] == pytest.approx(combine(counts[: i + 1][near]))
