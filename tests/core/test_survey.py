"""Surveys of raw samples against made-up signals whose truth is known."""

from __future__ import annotations

import math
import statistics
import tracemalloc
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from jetruler import find_ends, survey
from jetruler.core.survey.distribution import DISTINCT, Distribution
from jetruler.core.survey.running_statistics import STRETCHES, Envelope, TimeSurveyor
from jetruler.core.survey.survey import Stretch, Survey
from jetruler.core.survey.surveyor import Surveyor
from jetruler.errors import NothingMovedError

RANDOM = np.random.RandomState(4)


@pytest.fixture(autouse=True)
def _the_same_numbers_in_any_order() -> None:
    RANDOM.seed(4)


def drifting(noise: float, n: int = 100_000) -> Any:
    """Counts that wander over most of a 12-bit range with known noise."""
    t = np.arange(n)
    slow = 2000 + 1200 * np.sin(t / 9000) + 300 * np.sin(t / 700)
    return np.round(slow + noise * RANDOM.standard_normal(n)).astype(np.int64)


@pytest.mark.parametrize("noise", [0.4, 0.7, 1.0, 2.5, 12.0, 60.0])
def test_noise_is_found_within_three_percent_while_the_signal_drifts(noise: float) -> None:
    assert survey(drifting(noise), 12).noise == pytest.approx(noise, rel=0.03)


def test_jumps_and_spikes_are_no_noise() -> None:
    counts = drifting(2.0)
    counts[::5000] = 4000
    counts[30_000:] -= 700
    found = survey(counts, 12)
    assert found.noise == pytest.approx(2.0, rel=0.03)
    assert found.spikes == 18  # of 20: one has no neighbour before it, one stands on the jump


@pytest.mark.parametrize("shape", ["standard_normal", "laplace", "uniform"])
@pytest.mark.parametrize("part", [0.05, 0.1, 0.3, 0.7])
@pytest.mark.parametrize("batch", [100, 2**20])
def test_noise_in_a_part_of_a_log_is_no_spike(shape: str, part: float, batch: int) -> None:
    """A knob that rests at a stop, without noise, and then does not; spikes stand out in both."""
    size = {"standard_normal": (3000,), "laplace": (0, 1, 3000), "uniform": (-1, 1, 3000)}[shape]
    noise = 40 * getattr(RANDOM, shape)(*size)
    noise = np.clip(noise, -4.2 * noise.std(), 4.2 * noise.std())
    counts = np.round(2000 + noise * (np.arange(3000) >= 3000 * (1 - part))).astype(np.int64)
    assert _in_batches(counts, batch).spikes == 0
    counts[[500, 507, 2970]] += 1500
    found = _in_batches(counts, batch)
    assert (found.spikes, found.spike_row) == (3, 500)


def _in_batches(counts: Any, batch: int) -> Survey:
    surveyor = Surveyor(0, 4095)
    for start in range(0, counts.size, batch):
        surveyor.add(counts[start : start + batch])
    return surveyor.survey()


@pytest.mark.parametrize("every", [12, 100])
def test_spikes_at_any_pace_are_found(every: int) -> None:
    """More than are kept with their rows, between samples with and without noise."""
    for noise in (0, 1.5):
        counts = np.round(2000 + noise * RANDOM.standard_normal(30_000)).astype(np.int64)
        counts[50::every] += 700
        found = survey(counts, 12)
        many = counts[50::every].size
        assert many * 0.95 <= found.spikes <= many


def test_statistics_are_exact() -> None:
    counts = RANDOM.randint(0, 65536, 5000)
    found = survey(counts, 16)
    listed = counts.tolist()
    assert found.mean == pytest.approx(statistics.fmean(listed), rel=1e-15)
    assert found.standard_deviation == pytest.approx(statistics.stdev(listed), rel=1e-14)
    assert found.median == statistics.median(listed)
    assert (found.smallest, found.largest) == (min(listed), max(listed))
    assert found.distinct == len(set(listed))
    in_order = sorted(listed)
    assert (found.low_end, found.high_end) == (in_order[4], in_order[4994])


@pytest.mark.parametrize("size", [1e-100, 1e-13, 1e-9, 1e-6, 1e-3, 1.0, 1e6, 1e12, 1e14])
@pytest.mark.parametrize("digits", ["few", "all"])
def test_amounts_of_any_size(size: float, digits: str) -> None:
    """Picoamperes and gigaohms, as they are written or with all digits of a float; a log that
    begins with nothing, or a thousand million times smaller than it goes on."""
    x = 2000 + 900 * np.sin(np.arange(5000) / 300) + 3 * RANDOM.standard_normal(5000)
    x = (np.round(x) if digits == "few" else x) * size
    x[1000] += 800 * size
    small = {"plain": x[:0], "zeros": np.zeros(300), "small": 1e-9 * size * RANDOM.rand(300)}
    for before in small.values():
        surveyor = Surveyor()
        for part in (before, x[:2000], x[2000:]):
            surveyor.add(part)
        found, every = surveyor.survey(), np.concatenate((before, x))
        for name, wanted in (
            ("smallest", every.min()), ("largest", every.max()), ("mean", every.mean()),
            ("median", np.median(every)), ("standard_deviation", every.std(ddof=1)),
        ):  # fmt: skip
            value = getattr(found, name)
            assert value == pytest.approx(wanted, rel=1e-12, abs=1e-8 * size), name
        assert found.noise == pytest.approx(3 * size, rel=0.1)
        assert (found.spikes, found.spike_row) == (1, 1000 + before.size)
        # What is printed has the digits that are known.
        mean, deviation = (float(found.row("i")[at].replace("−", "-")) for at in (4, 6))
        assert abs(mean - found.mean) <= 0.05 * found.standard_deviation
        assert deviation == pytest.approx(found.standard_deviation, rel=1e-3)


@pytest.mark.parametrize("bits", [6, 8, 13, 17, 18, 20, 24, 31, 32])
@pytest.mark.parametrize("signed", [False, True])
@pytest.mark.parametrize("spread", [3.0, 2e3, 0.0])
def test_statistics_of_any_width_are_numpys(bits: int, signed: bool, spread: float) -> None:
    """At rest, and over the whole range (spread 0), with a gap, masked, and off the scale."""
    n, lowest = 3000, -(2 ** (bits - 1)) * signed
    highest = lowest + 2**bits - 1
    if spread:
        at = lowest + 0.7316 * 2.0**bits
        counts = np.round(at + spread * RANDOM.standard_normal(n)).clip(lowest, highest)
    else:
        counts = np.round(RANDOM.uniform(lowest, highest, n))
    gone = RANDOM.random_sample(n) < 0.02
    samples = np.where(gone, np.nan, counts)
    valid = counts[~gone].astype(np.int64)
    samples[[77, 1200]] = [highest + 1, 2.0**40]
    valid = np.delete(counts, [77, 1200])[~np.delete(gone, [77, 1200])]
    found = survey(samples, bits, signed)
    assert (found.smallest, found.largest) == (valid.min(), valid.max())
    assert found.mean == pytest.approx(float(np.mean(valid)), rel=1e-12)
    assert found.standard_deviation == pytest.approx(float(np.std(valid, ddof=1)), rel=1e-9)
    assert found.median == np.median(valid)
    assert found.distinct == np.unique(valid).size
    assert found.lsb == max(1, np.gcd.reduce(valid.astype(np.int64)))
    assert (found.missing, found.samples) == (gone.sum() - gone[[77, 1200]].sum(), valid.size)
    assert found.off_scale is not None
    assert (found.off_scale.samples, found.off_scale.row) == (2, 1200)
    if spread and spread < 2.0**bits / 20:
        assert found.noise == pytest.approx(spread, rel=0.1)


@pytest.mark.parametrize("digits", [1, 3, 7])
def test_decimals_are_counted_in_their_last_digit(digits: int) -> None:
    """However late they come: the first samples may have fewer."""
    values = np.round(2.5 + 5 * 10.0**-digits * RANDOM.standard_normal(4000), digits)
    values[:100] = np.round(values[:100], 0)
    surveyor = Surveyor()
    for start in range(0, 4000, 100):
        surveyor.add(values[start : start + 100])
    found = surveyor.survey(unit="V")
    assert found.step == pytest.approx(10.0**-digits, rel=1e-12)
    assert found.mean == pytest.approx(float(np.mean(values)), rel=1e-13)
    assert found.standard_deviation == pytest.approx(float(np.std(values, ddof=1)), rel=1e-12)
    assert found.median == pytest.approx(float(np.median(values)), rel=1e-15)


def test_more_different_values_than_are_kept_share_bins() -> None:
    counts = RANDOM.randint(-(2**31), 2**31, 300_000)
    found = survey(counts, 32, signed=True)
    width = found.distribution.width
    assert 1 < width <= 2**32 // DISTINCT * 2
    for fraction in (0.001, 0.5, 0.999):
        exact = np.sort(counts)[int(np.ceil(fraction * counts.size)) - 1]
        assert abs(found.distribution.quantile(fraction) - exact) <= width
    assert found.mean == pytest.approx(float(np.mean(counts)), rel=1e-12)
    assert found.standard_deviation == pytest.approx(float(np.std(counts, ddof=1)), rel=1e-12)
    values, occurrences = found.pairs()
    assert float(values @ occurrences) == pytest.approx(float(counts.sum()), rel=1e-9)


def test_a_distribution_is_the_same_for_any_batches() -> None:
    wide = (2.0 ** RANDOM.uniform(0, 40, 200_000)).astype(np.int64) * RANDOM.choice(
        [-1, 1], 200_000
    )
    whole, parts = Distribution(), Distribution()
    whole.add(wide)
    for start in range(0, wide.size, 7919):
        parts.add(wide[start : start + 7919])
    assert whole.shift == parts.shift > 0
    for one, other in zip(whole.pairs(), parts.pairs(), strict=True):
        np.testing.assert_array_equal(one, other)
    assert (whole.mean, whole.standard_deviation) == (parts.mean, parts.standard_deviation)


def test_one_bad_sample_in_a_hundred_moves_no_verdict() -> None:
    """Glued lines of a log whose range nobody has said: left out, counted, and found."""
    clean = np.round(505 + 3 * RANDOM.standard_normal(2000)).astype(np.int64)
    bad = clean.copy()
    rows = RANDOM.choice(2000, 20, replace=False)
    bad[rows] = bad[rows] * 1000 + bad[rows - 1]
    surveyor = Surveyor()
    surveyor.add(bad)
    found, kept = surveyor.survey(), np.delete(clean, rows)
    assert found.off_scale is not None
    assert (found.off_scale.samples, found.off_scale.furthest) == (20, bad.max())
    assert found.off_scale.row == int(np.argmax(bad))
    assert (found.mean, found.median) == (float(np.mean(kept)), float(np.median(kept)))
    assert found.noise == pytest.approx(3.0, rel=0.1)
    assert found.known.half_width == pytest.approx(1.961 * kept.std() / kept.size**0.5, rel=0.01)


@pytest.mark.parametrize(
    "values",
    [
        [100, None, 104, 102] * 5,
        np.ma.masked_equal([100, 7, 104, 102] * 5, 7),
        np.array([100, np.nan, 104, 102] * 5, np.float32),
        np.array([100, 99999, 104, 102] * 5, ">u4"),
    ],
    ids=lambda v: type(v).__name__,
)
def test_gaps_of_any_kind_are_gaps(values: Any) -> None:
    found = survey(values, 12)
    assert (found.smallest, found.largest, found.mean) == (100, 104, 102)
    assert found.samples == 15


@given(
    st.lists(st.one_of(st.none(), st.integers(0, 7), st.integers(0, 4095)), min_size=1),
    st.integers(1, 9),
)
def test_any_batch_size_gives_the_same_survey(samples: list[int | None], size: int) -> None:
    counts = np.array([0 if s is None else s for s in samples])
    missing = np.array([s is None for s in samples])
    whole, parts = Surveyor(0, 4095), Surveyor(0, 4095)
    whole.add(counts, missing)
    for start in range(0, counts.size, size):
        parts.add(counts[start : start + size], missing[start : start + size])
    assert repr(parts.survey()) == repr(whole.survey())
    there = [s for s in samples if s is not None]
    assert whole.survey().samples == len(there)


@given(st.lists(st.sampled_from([0, 0, 0, 5, 5, 4095, 4095]), min_size=1, max_size=40))
def test_stretches_against_a_plain_search(samples: list[int]) -> None:
    runs: list[Stretch] = []
    for row, count in enumerate(samples):
        if runs and runs[-1].count == count:
            runs[-1] = Stretch(runs[-1].length + 1, count, runs[-1].row)
        else:
            runs.append(Stretch(1, count, row))
    found = survey(np.array(samples), 12)
    assert found.stuck is not None
    assert found.stuck.length == max(run.length for run in runs)
    rails = [run.length for run in runs if run.count in (0, 4095)]
    assert (found.rail_stretch.length if found.rail_stretch else 0) == max(rails, default=0)
    assert found.on_low_rail == samples.count(0) / len(samples)


@pytest.mark.parametrize(
    ("counts", "expected"),
    [
        ([], {"samples": 0, "noise": math.nan, "mean": math.nan, "distinct": 0}),
        ([7], {"samples": 1, "noise": math.nan, "mean": 7.0, "standard_deviation": math.nan}),
        ([7] * 10, {"noise": 0.0, "standard_deviation": 0.0, "distinct": 1}),
        ([0, 200, 400], {"noise": math.nan}),
        ([16, 32, 48, 4080], {"lsb": 16, "distinct": 4}),
        ([2**63 - 1, 5, -(2**63)], {"largest": 5, "smallest": 5, "samples": 1}),
    ],
)
def test_small_and_still_surveys(counts: list[int], expected: dict[str, float]) -> None:
    found = survey(np.array(counts, dtype=np.int64), 12)
    for name, value in expected.items():
        assert getattr(found, name) == pytest.approx(value, nan_ok=True), name


def test_effective_bits_of_an_ideal_converter_are_all_its_bits() -> None:
    ramp = np.repeat(np.arange(4096), 50)
    assert survey(ramp, 12).effective_bits == pytest.approx(12, abs=0.01)
    # Noise of one count: √(1 + 1/12) counts against √(1/12), log2(√13) bits less.
    assert survey(drifting(1.0), 12).effective_bits == pytest.approx(
        12 - math.log2(13**0.5), abs=0.05
    )


def sweep(noise: float) -> Any:
    fraction = np.interp(np.arange(4000), [0, 800, 1500, 2500, 3200, 4000], [0, 0, 1, 1, 0, 0])
    return np.round(198 + 3706 * fraction + noise * RANDOM.standard_normal(4000)).astype(np.int64)


@pytest.mark.parametrize("noise", [0.0, 1.0, 4.0])
def test_ends_are_really_reached(noise: float) -> None:
    counts = sweep(noise)
    ends = find_ends(counts, 12)
    assert ends.rests_at_both
    assert abs(ends.low - 198) <= 6 * noise + 3
    assert abs(ends.high - 3904) <= 6 * noise + 3
    at_rest = slice(100, 700)
    assert np.mean(counts[at_rest] <= ends.low) > 0.99  # clamped, that is a steady 0 %
    assert np.mean(counts[1600:2400] >= ends.high) > 0.99
    assert find_ends(counts, 12, margin=50).low == pytest.approx(198 + 50, abs=2)
    assert ends.line(0, 100) == f"marks = [[{ends.low}, 0], [{ends.high}, 100]]"


@given(
    low=st.integers(0, 400),
    high=st.integers(3600, 4095),
    noise=st.sampled_from([0.0, 0.3, 1.0, 3.0, 6.0]),
    kind=st.sampled_from(["plain", "clipped", "left-scaled", "one still"]),
    seed=st.integers(0, 10_000),
)
def test_all_that_dwells_reads_the_end(
    low: int, high: int, noise: float, kind: str, seed: int
) -> None:
    """Knobs from stop to stop: every sample that rests reads exactly 0 % or 100 %, up to one in a
    thousand, and no more of the travel is given up than the noise asks for."""
    random = np.random.RandomState(seed)
    at = np.interp(np.arange(4000), [0, 800, 1500, 2500, 3200, 4000], [0, 0, 1, 1, 0, 0])
    noises = np.where(at < 0.5, 0.0 if kind == "one still" else noise, noise)
    raw = low + (high - low) * at + noises * random.standard_normal(4000)
    raw = np.clip(raw, low, high) if kind == "clipped" else raw
    counts = np.clip(np.round(raw), 0, 4095).astype(np.int64)
    size = 16 if kind == "left-scaled" else 1
    ends = find_ends(counts * size, 12 if size == 1 else 16)
    assert ends.low % size == 0
    rests = np.concatenate((counts[:790], counts[3220:])), counts[1520:2480]
    assert np.mean(size * rests[0] > ends.low) <= 1e-3
    assert np.mean(size * rests[1] < ends.high) <= 1e-3
    assert ends.low / size - low <= 12 * noise + 3
    assert high - ends.high / size <= 12 * noise + 3


@given(
    shape=st.sampled_from(["wave", "ramp", "triangle"]),
    span=st.integers(300, 60_000),
    noise=st.floats(0.0, 8.0),
    turns=st.floats(0.6, 30.0),
    seed=st.integers(0, 10_000),
)
def test_what_passes_its_ends_without_a_rest_has_them_too(
    shape: str, span: int, noise: float, turns: float, seed: int
) -> None:
    """Nothing rests there: the ends are about the outermost samples."""
    t = np.linspace(0.0, 1.0, 2000)
    at = {
        "wave": 0.5 - 0.5 * np.cos(2 * np.pi * turns * t),
        "ramp": t,
        "triangle": np.abs((2 * turns * t) % 2 - 1),
    }[shape]
    raw = 500 + span * at + noise * np.random.RandomState(seed).standard_normal(t.size)
    counts = np.round(raw).astype(np.int64)
    ends = find_ends(counts)
    room = 0.02 * span + 25 * noise + 8  # five times the noise that a turn may be taken for
    assert counts.min() <= ends.low <= counts.min() + room
    assert counts.max() - room <= ends.high <= counts.max()


@pytest.mark.parametrize(
    "counts", [np.full(100, 7), np.round(drifting(3)[:50]) * 0 + 9, np.empty(0)]
)
def test_no_ends_where_nothing_moved(counts: Any) -> None:
    with pytest.raises(NothingMovedError, match="nothing moved"):
        find_ends(counts)
    still = np.round(2000 + 3 * RANDOM.standard_normal(5000))
    with pytest.raises(NothingMovedError, match=r"noise (2\.9|3);"):
        find_ends(still)


def test_time_column() -> None:
    time = np.concatenate([np.arange(0, 10, 0.2), np.arange(30, 40, 0.2), [39.8], [12.0]])
    whole, parts = TimeSurveyor("t"), TimeSurveyor("t")
    whole.add(time)
    for t in time:
        parts.add(np.array([t]))
    for found in (whole.survey(), parts.survey()):
        assert found.interval == pytest.approx(0.2, abs=1e-9)
        assert (found.gaps, found.first_gap, found.steps_back, found.repeats) == (1, 50, 1, 1)
        assert found.longest_gap == pytest.approx(20.2, abs=1e-6)
        assert found.jitter < 1e-6
    assert math.isnan(TimeSurveyor("t").survey().interval)


@pytest.mark.parametrize("n", [1, 100, STRETCHES, STRETCHES + 1, 5 * STRETCHES + 17])
@pytest.mark.parametrize("size", [1000, 777, 10**6])
def test_envelope_keeps_every_spike_in_bounded_memory(n: int, size: int) -> None:
    values = RANDOM.standard_normal(n)
    values[n // 3] = 99.0
    envelope = Envelope()
    for start in range(0, n, size):
        part = values[start : start + size]
        envelope.add(part, (part == 99.0).astype(np.uint8))
    envelope.finished()
    assert envelope.low.size <= STRETCHES + 1
    assert envelope.samples == n
    per = envelope.per_stretch
    for i in range(0, envelope.low.size, 97):
        stretch = values[i * per : (i + 1) * per]
        assert (envelope.low[i], envelope.high[i]) == (stretch.min(), stretch.max())
    assert envelope.high[n // 3 // per] == 99.0
    assert envelope.flags[n // 3 // per] == 1


def test_a_column_of_many_takes_little_room() -> None:
    counts = np.random.RandomState(5).randint(0, 4096, 200_000)
    surveyor = Surveyor(0, 4095)
    surveyor.keep_less(2000)
    surveyor.add(counts[:1000])  # what is loaded at first use
    tracemalloc.start()
    surveyor = Surveyor(0, 4095)
    surveyor.keep_less(2000)
    for batch in np.split(counts, 100):
        surveyor.add(batch)
    traces = tracemalloc.take_snapshot().filter_traces([tracemalloc.Filter(True, "*/jetruler/*")])
    room = sum(trace.size for trace in traces.statistics("lineno"))
    tracemalloc.stop()
    assert room < 64_000
    found = surveyor.survey()
    assert (found.mean, found.median) == (counts.mean(), np.median(counts))
