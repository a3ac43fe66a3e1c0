"""Checks and choices over many benches: no rule stumbles, and the best is the best."""

from __future__ import annotations

import dataclasses
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

import jetruler as jr
from jetruler import (
    Adc,
    Beta,
    Channel,
    Clamp,
    Counts,
    Divider,
    JetRulerError,
    Line,
    Whole,
    check,
    choose_resistor,
    preferred,
)
from jetruler.benchfile.starter import KINDS
from jetruler.core.check.facts import Facts
from jetruler.core.check.logged import Logged, floating_input, unreached_marks
from jetruler.core.choose.averaging import choose_averaging
from jetruler.core.survey.blocks import Blocks, floating
from jetruler.results import Severity
from tests.conftest import Cli
from tests.core.test_laws import TRUTH
from tests.helpers.sizes import fewer, soak

LAWS = [law for law, *_ in TRUTH if law.name not in ("adc", "counts")]
CONVERTERS = [Adc(12, 3.3), Adc(10, 5.0, count_at_vref=1024), Adc(16, 2.5, signed=True), Counts(8)]


@given(
    converter=st.sampled_from(CONVERTERS),
    laws=st.lists(st.sampled_from(LAWS), max_size=3),
    limits=st.sampled_from([None, (0.0, 100.0), (-1e9, 1e9), (1e8, 2e8)]),
    decimals=st.sampled_from([None, 0, 6]),
    noise=st.sampled_from([None, 0.0, 30.0]),
    dissipation=st.sampled_from([None, 1e-3]),
)
def test_no_rule_stumbles_over_any_chain(
    converter: Any, laws: Any, limits: Any, decimals: Any, noise: Any, dissipation: Any
) -> None:
    try:
        ruler = jr.Ruler((converter, *laws))
    except JetRulerError:
        assume(False)
    channel = Channel("a", ruler, "x", "", limits, decimals, None, noise, None, dissipation)
    for finding in check(jr.Bench("", {"a": channel})):
        assert finding.where.startswith("channel.a")
        assert finding.rule
        assert finding.why
        assert not finding.what.endswith(".")
        assert "nan" not in finding.what


@pytest.mark.parametrize("kind", KINDS)
def test_nothing_is_wrong_with_a_new_bench(cli: Cli, home: Path, kind: str) -> None:
    made = cli("new", "fresh.toml", "--channel", f"x={kind}")
    assert made.returncode == 0, made.stderr
    done = cli("check", "-b", "fresh.toml")
    assert done.returncode == 0, done.stdout


def bench(*laws: Any, **more: Any) -> jr.Bench:
    return jr.Bench("", {"a": Channel("a", jr.Ruler(laws), "x", **more)})


#: Just on either side of what a rule allows.
EDGES = [
    ("few-counts", lambda fraction: bench(Adc(12, 3.3), Line(1.0, takes="V", unit="bar"),
                                       limits=(0.0, 3.3 * fraction), decimals=4), 0.19, 0.21),
    ("far-resistor", lambda ratio: bench(Adc(12, 3.3), Divider(1e4 * ratio), Beta(1e4, 3950),
                                         limits=(24.999, 25.001)), 31.0, 29.0),
    ("unlikely-thermistor", lambda b: bench(Adc(12, 3.3), Divider(1e4), Beta(1e4, b)),
     1990.0, 2010.0),
    ("reference-would-cancel", lambda v: bench(Adc(12, 3.3), Divider(1e4, supply=v)), 3.32, 3.1),
    ("above-reference", lambda v: bench(Adc(12, 3.3), Divider(1e4, supply=v)), 3.4, 3.2),
    ("clamp-too-early", lambda first: bench(Counts(12), *((Clamp(0, 100), Line(2.0)) if first
                                                       else (Line(2.0), Clamp(0, 100)))), 1, 0),
    ("outside-marks", lambda top: bench(Counts(12), Line.through((0, 0), (top, 100), "%")),
     4096, 4095),
    ("overflowing-product", lambda top: bench(Counts(12), Line.through((0, 0), (4095, top)),
                                              Whole()), 9, 8),
    ("skipped-numbers", lambda gain: bench(Counts(12), Line(gain), Whole()), 1.6, 1.0),
    ("limits-out-of-reach", lambda low: bench(Adc(12, 3.3), limits=(low, 3.0)), -0.1, 0.1),
]  # fmt: skip


@pytest.mark.parametrize(("rule", "made", "bad", "good"), EDGES, ids=[e[0] for e in EDGES])
def test_rules_at_their_edges(rule: str, made: Any, bad: float, good: float) -> None:
    assert rule in {finding.rule for finding in check(made(bad)).flat}
    assert rule not in {finding.rule for finding in check(made(good)).flat}


def surveyed(counts: Any, *laws: Any) -> Logged:
    channel = Channel("a", jr.Ruler((Counts(12), *laws)), "x")
    counts, blocks = np.asarray(counts, dtype=np.int64), Blocks()
    blocks.add(counts)
    return Logged(Facts(channel), jr.survey(counts, bits=12), floating(blocks, 4095, None))


def test_rules_about_a_log_at_their_edges() -> None:
    random = np.random.RandomState(3)
    knob = Line.through((200, 0), (3800, 100), unit="%")
    travel = np.concatenate([np.full(50, 200), np.linspace(200, 3800, 400), np.full(50, 3800)])
    noisy = np.round(travel + random.standard_normal(travel.size))
    assert not list(unreached_marks(surveyed(noisy, knob, jr.Clamp(0, 100))))
    short = np.clip(noisy, None, 3700)
    (found,) = unreached_marks(surveyed(short, knob, jr.Clamp(0, 100)))
    assert "the mark at 3800 (100 %) is never reached: the log ends at 3700" in found.what
    assert not list(floating_input(surveyed(noisy, knob)))
    (found,) = floating_input(surveyed(random.randint(0, 4096, 500), knob))
    assert found.severity is Severity.ERROR


@soak
@fewer(12)
@given(
    r0=st.floats(1e3, 1e6),
    beta=st.floats(2500, 4800),
    low=st.floats(-20, 60),
    span=st.floats(20, 180),
    aim=st.sampled_from(["counts", "resolution", "straight"]),
    series=st.sampled_from(["E12", "E24"]),
)
def test_the_best_is_the_best_of_all(
    r0: float, beta: float, low: float, span: float, aim: Any, series: str
) -> None:
    """Against every value of the series, judged by the chain itself."""
    sensor = Channel("a", Adc(12, 3.3) >> Divider(r0) >> Beta(r0, beta), "x")
    choice = choose_resistor(sensor, low, low + span, aim=aim, series=series)
    values = np.linspace(low, low + span, 61)
    worth = {}
    for known in preferred(series, choice.best.known / 100, choice.best.known * 100).tolist():
        chain = Adc(12, 3.3) >> Divider(known) >> Beta(r0, beta)
        counts = np.asarray(chain.inverse(values))
        if aim == "counts":
            worth[known] = -float(np.ptp(counts))
        elif aim == "resolution":
            worth[known] = float(np.abs(chain.slope(counts)).max())
        else:
            worth[known] = bend(counts, values)
    best = min(worth.values())
    assert worth[choice.best.known] <= best * (1.02 if best > 0 else 0.999)
    assert choice.optimum.cost(aim) <= choice.best.cost(aim) + 1e-9
    assert [c.cost(aim) for c in choice.candidates] == sorted(
        c.cost(aim) for c in choice.candidates
    )


def bend(counts: Any, values: Any) -> float:
    """Half the width of the narrowest strip round a curve, over a fine grid of slopes."""
    ends = (values[-1] - values[0]) / (counts[-1] - counts[0])
    return min(float(np.ptp(values - m * counts)) / 2 for m in ends * np.linspace(0.2, 3, 1500))


@pytest.mark.parametrize("noise", [0.4, 1.5, 6.0])
def test_averaging_as_chosen_holds_still(noise: float) -> None:
    """Drawn readings through the chain, averaged as it says."""
    sensor = Channel("a", Adc(12, 3.3) >> Divider(4700) >> Beta(100e3, 3950), "x", noise=noise)
    choice = choose_averaging(sensor, 0.05, at=120.0)
    many = choice.answer.readings
    assert many is not None
    random = np.random.RandomState(5)
    count = float(sensor.ruler.inverse(120.0))
    readings = np.round(count + noise * random.standard_normal((600, many)))
    means = np.asarray(sensor.chain(readings.mean(axis=1)))
    assert float(np.std(means)) <= 0.05 * 1.1
    if many > 4:
        fewer = np.asarray(sensor.chain(readings[:, : many // 2].mean(axis=1)))
        assert float(np.std(fewer)) > 0.05


def test_results_are_frozen_and_plain() -> None:
    choice = choose_resistor(
        Channel("a", Adc(12, 3.3) >> Divider(4700) >> Beta(100e3, 3950), "x"), 20, 240
    )
    for result in (choice, choice.best, jr.choose_reference(0, 1, [2.5])):
        with pytest.raises(dataclasses.FrozenInstanceError):
            result.low = 3  # type: ignore[misc,union-attr]
    table = jr.choose_amplifier(0, 0.05, 3.3).to_frame()
    assert list(table["stage"]) == ["non-inverting", "inverting"]
    assert jr.choose_reference(0, 1, [1.1, 2.5]).to_frame()["vref"].tolist() == [1.1, 2.5]
