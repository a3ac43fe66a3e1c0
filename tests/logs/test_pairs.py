"""Pairs out of logs, in every shape logs come in; and what the new pictures show."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import jetruler as jr
from jetruler import compare, read_pairs
from jetruler.benchfile.load import parse_bench
from jetruler.core.calibrate.comparison import aligned
from jetruler.errors import LogError, PairsError
from jetruler.show.draw_results import (
    draw_band,
    draw_choose,
    draw_compare,
    draw_fit,
    draw_residuals,
    draw_shares,
    draw_sources,
)
from jetruler.show.style import new_figure

BENCH = parse_bench("""
[converter]
bits = 12
vref = 3.3
[channel.a]
column = "a"
limits = [0.5, 3]
[channel.b]
column = "b"
laws = [{ law = "to", unit = "mV", source = "V" }]
[channel.held]
column = "a"
laws = [{ law = "clamp", low = 1, high = 2, unit = "V" }]
""")


def log(folder: Path, text: str, name: str = "log.csv") -> Path:
    (folder / name).write_text(text)
    return folder / name


def test_rows_that_hold_both(tmp_path: Path) -> None:
    path = log(tmp_path, "t,a,b\n0,1000,1010\n1,,1010\n2,4095,1000\n3,2000,2040\n4,100,90\n5,7,x\n")
    found = read_pairs(path, BENCH["a"], BENCH["b"])
    # Left out: nothing there, on a rail, unreadable. A limit is no reason.
    assert found.at.tolist() == [0, 3, 4]
    assert found.a == pytest.approx(np.array([1000, 2000, 100]) * 3.3 / 4095)
    assert found.b == pytest.approx(np.array([1010, 2040, 90]) * 3.3 / 4095)  # mV into V
    assert found.left_out == (2, 1)
    assert (found.interval, found.in_time, found.time_name) == (2.0, False, "t")


def test_what_a_clamp_holds_is_left_out(tmp_path: Path) -> None:
    path = log(tmp_path, "a,ref\n" + "".join(f"{c},{c / 1000}\n" for c in range(0, 4000, 500)))
    found = read_pairs(path, BENCH["held"], "ref")
    assert len(found.a) == sum(1 <= c * 3.3 / 4095 <= 2 for c in range(0, 4000, 500))
    assert np.isnan(found.interval)
    assert found.time_name == "sample"


def test_alternating_rows_are_paired_in_time(tmp_path: Path) -> None:
    rows = ["t,a,ref"]
    for i in range(40):
        rows.append(f"{i},{1000 + 10 * i},")
        if i % 4 == 0:
            rows.append(f"{i + 0.5},,{(1005 + 10 * i) * 3.3 / 4095}")
    found = read_pairs(log(tmp_path, "\n".join(rows) + "\n"), BENCH["a"], "ref")
    assert found.in_time
    assert found.at.tolist() == [i + 0.5 for i in range(0, 40, 4)]
    assert found.a == pytest.approx(found.b.tolist())


def test_two_logs_need_times(tmp_path: Path) -> None:
    first = log(tmp_path, "t,a\n0,1000\n1,1100\n2,1200\n")
    second = log(tmp_path, "ref\n1\n2\n", "other.csv")
    with pytest.raises(LogError, match="expected a time column to pair two logs by"):
        read_pairs(first, BENCH["a"], "ref", other_log=second)
    late = log(tmp_path, "t,ref\n10,1\n11,2\n12,2\n", "late.csv")
    with pytest.raises(PairsError, match="no time has a value of both"):
        read_pairs(first, BENCH["a"], "ref", other_log=late)
    empty = log(tmp_path, "t,a,ref\n", "empty.csv")
    with pytest.raises(LogError, match="expected rows below the header"):
        read_pairs(empty, BENCH["a"], "ref")


@given(
    seed=st.integers(0, 10**6),
    n=st.integers(3, 60),
    m=st.integers(3, 60),
)
def test_alignment_is_a_straight_line_between_neighbours(seed: int, n: int, m: int) -> None:
    random = np.random.RandomState(seed)
    at_a, at_b = np.sort(random.uniform(0, 100, n)), np.sort(random.uniform(0, 100, m))
    a, b = random.standard_normal(n), random.standard_normal(m)
    try:
        at, first, second = aligned(at_a, a, at_b, b)
    except PairsError:
        return
    sparse_at, sparse, dense_at, dense = (at_b, b, at_a, a) if n >= m else (at_a, a, at_b, b)
    mine, others = (second, first) if n >= m else (first, second)
    assert set(at) <= set(sparse_at)
    assert mine.tolist() == [float(sparse[list(sparse_at).index(t)]) for t in at]
    assert others == pytest.approx(np.interp(at, dense_at, dense))
    if n != m:  # the denser one is the one that is interpolated, whichever comes first
        assert aligned(at_b, b, at_a, a)[1].tolist() == second.tolist()


def test_delays_both_ways() -> None:
    t = np.arange(2000.0)
    noise = np.random.RandomState(1).normal(0, 0.1, (2, t.size))
    wave = 100 + 40 * np.sin(t / 120) + noise[0]
    for shift in (6, -6, 20.5):
        late = 100 + 40 * np.sin((t - shift) / 120) + noise[1]
        found = compare(late, wave, resolution=0.01)
        assert found.delay.samples == pytest.approx(shift, rel=0.01)
        assert found.verdict == "agree"
    assert compare(np.zeros(50), np.ones(50)).delay.samples == 0


def test_series_that_tell_nothing() -> None:
    same = compare([5.0] * 20, [5.0] * 20, resolution=0.1)
    assert (same.verdict, same.bias, same.correction) == ("agree", 0.0, None)
    off = compare([6.0] * 20, [5.0] * 20, resolution=0.1, unit="V")
    assert off.verdict == "offset"
    assert off.correction is not None
    assert off.correction(6.0) == 5.0
    drift = np.cumsum(np.random.RandomState(2).standard_normal(30))
    wander = compare(100 + drift, np.full(30, 100.0), resolution=1e-3)
    assert wander.independent < 10
    assert "independent" in str(wander)


@pytest.fixture
def bench(home: Path) -> jr.Bench:
    return jr.load_bench(home / "bench.toml")


def test_picture_of_a_fit(home: Path, bench: jr.Bench) -> None:
    found = jr.calibrate(bench["damper"], jr.read_marks(home / "damper-marks.csv"), robust=True)
    figure = new_figure()
    top, beneath = figure.subplots(2, 1)
    draw_fit(top, found)
    draw_residuals(beneath, found)
    dots = [line.get_xydata() for line in top.lines if line.get_linestyle() == "None"]
    drawn = {tuple(point) for group in dots for point in np.asarray(group).tolist()}
    assert drawn == set(
        zip(found.fit.marks.raw.tolist(), found.fit.marks.true.tolist(), strict=True)
    )
    (outlier,) = (text.get_text() for text in beneath.texts)
    assert outlier == "+9.69 ✗"
    before = np.asarray(beneath.lines[1].get_ydata())
    assert before == pytest.approx(found.error_before[found.fit.kept])


def test_picture_of_a_comparison(home: Path, bench: jr.Bench) -> None:
    pairs = read_pairs(home / "rest.csv", bench["bean"], bench["bean2"])
    found = compare(pairs.a, pairs.b, unit="degC", resolution=0.1, names=("bean", "bean2"))
    ax = draw_compare(new_figure().add_subplot(), found)
    dots = np.asarray(ax.lines[0].get_xydata())
    assert dots[:, 0] == pytest.approx(0.5 * (pairs.a + pairs.b))
    assert dots[:, 1] == pytest.approx(pairs.a - pairs.b)
    levels = {round(float(np.asarray(line.get_ydata())[0]), 6) for line in ax.lines[1:]}
    assert {round(v, 6) for v in (found.bias, *found.limits, 0.0)} <= levels
    assert any("bias −0.61 °C" in text.get_text() for text in ax.texts)


def test_picture_of_a_budget(bench: jr.Bench) -> None:
    budgets = [jr.budget(bench["bean"], at) for at in (3912, 400)]
    ax = draw_shares(new_figure().add_subplot(), budgets)
    widths = [[bar.get_width() for bar in group] for group in ax.containers]
    for group, found in zip(widths, budgets, strict=True):
        assert sum(group) == pytest.approx(100)
        assert group == pytest.approx([100 * found.fraction(row) for row in found.rows])
    band = draw_band(new_figure().add_subplot(), bench["bean"], budgets)
    assert [float(np.asarray(line.get_ydata())[0]) for line in band.lines[1:]] == pytest.approx(
        [found.value for found in budgets]
    )
    sources = draw_sources(new_figure().add_subplot(), bench["bean"])
    values, widths_all = (np.asarray(part) for part in sources.lines[0].get_data())
    at = int(np.argmin(np.abs(values - budgets[1].value)))
    assert widths_all[at] == pytest.approx(budgets[1].expanded_uncertainty, rel=0.01)


def test_picture_of_a_choice(bench: jr.Bench) -> None:
    choice = jr.choose_resistor(bench["bean"], 20, 240)
    figure = new_figure()
    top, beneath = figure.subplots(2, 1)
    draw_choose(top, beneath, bench["bean"], choice)
    labels = [line.get_label() for line in top.lines]
    assert labels[0] == "best: 3600 Ω"
    assert labels[-1] == "present: 4700 Ω"
    steps = [float(np.max(np.asarray(line.get_ydata()))) for line in beneath.lines]
    wanted = [c.resolution for c in (*choice.candidates[:3], choice.optimum, choice.present)]
    assert steps == pytest.approx(wanted, rel=1e-3)
