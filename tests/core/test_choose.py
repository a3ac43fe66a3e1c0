"""Choices against closed forms, brute force and Kirchhoff's laws; and through the command."""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.optimize import linprog

import jetruler as jr
from jetruler import Adc, Beta, Channel, Divider, JetRulerError, Ruler
from jetruler.core.choose.signal_range import pin_volts
from tests.conftest import Cli
from tests.helpers.sizes import few, fewer, soak

NTC = Beta(100e3, 3950)


def channel(known: float, sensor: Any = "lower", **more: Any) -> Channel:
    return Channel("bean", Adc(12, 3.3) >> Divider(known, sensor) >> NTC, "ch0", **more)


def ohms(celsius: float) -> float:
    return 100e3 * math.exp(3950 * (1 / (celsius + 273.15) - 1 / 298.15))


# IEC 60063, the series from 1 to 10; of E96 its first and last ten.
E12 = "1 1.2 1.5 1.8 2.2 2.7 3.3 3.9 4.7 5.6 6.8 8.2"
E96_FIRST = "1.00 1.02 1.05 1.07 1.10 1.13 1.15 1.18 1.21 1.24"
E96_LAST = "7.87 8.06 8.25 8.45 8.66 8.87 9.09 9.31 9.53 9.76"


def test_preferred_values() -> None:
    assert jr.preferred("E12", 1, 9.9).tolist() == list(map(float, E12.split()))
    assert set(jr.preferred("E12", 1e3, 1e5)) < set(jr.preferred("E24", 1e3, 1e5))
    e96 = jr.preferred("E96", 1, 9.99)
    assert e96[:10].tolist() == list(map(float, E96_FIRST.split()))
    assert e96[-10:].tolist() == list(map(float, E96_LAST.split()))
    assert 4700.0 in jr.preferred("E24", 4.7e3, 4.7e3)
    assert [jr.preferred(s, 1, 9.99).size for s in ("E12", "E24", "E96")] == [12, 24, 96]
    for n in (3, 6, 12, 24, 48, 96, 192):
        assert jr.preferred(f"E{n}", 1, 9.99).size == n
    assert jr.preferred("E3", 1, 9.99).tolist() == [1.0, 2.2, 4.7]
    assert jr.preferred("E6", 1, 9.99).tolist() == [1.0, 1.5, 2.2, 3.3, 4.7, 6.8]
    assert jr.preferred("E48", 7.8, 9.99).tolist() == [7.87, 8.25, 8.66, 9.09, 9.53]
    # The one value of E192 that its rule does not give.
    assert jr.preferred("E192", 9.05, 9.32).tolist() == [9.09, 9.2, 9.31]
    for bad in (("E50", 1, 2), ("E12", 0, 2), ("E12", 3, 2)):
        with pytest.raises(JetRulerError):
            jr.preferred(*bad)


def test_most_counts_is_the_geometric_mean() -> None:
    """The textbook answer: √(R₁ · R₂) of the ends."""
    choice = jr.choose_resistor(channel(4700), 20, 240, aim="counts", series="E96")
    middle = math.sqrt(ohms(20) * ohms(240))
    assert choice.optimum.known == pytest.approx(middle, rel=1e-3)
    for c in choice.candidates[::40]:
        by_hand = ohms(20) / (ohms(20) + c.known) - ohms(240) / (ohms(240) + c.known)
        assert c.used == pytest.approx(by_hand, rel=1e-9)
    near = min(jr.preferred("E96", 1e3, 1e5), key=lambda v: abs(math.log(v / middle)))
    assert choice.best.known == near


def test_finest_resolution_at_a_point_is_the_sensors_own_ohms() -> None:
    """d/dR of R/(R + k) is largest over k at k = R."""
    choice = jr.choose_resistor(channel(4700), 20, 240, at=200)
    assert choice.aim == "at"
    assert choice.optimum.known == pytest.approx(ohms(200), rel=1e-3)


@pytest.mark.parametrize("known", [680.0, 3600.0, 10e3])
def test_steps_are_those_between_counts(known: float) -> None:
    choice = jr.choose_resistor(channel(known), 20, 240, between=(known, known), series="E24")
    ruler = channel(known).ruler
    values = ruler(np.arange(4096))
    inside = (values >= 20) & (values <= 240)
    assert choice.present.resolution == pytest.approx(
        np.abs(np.diff(values[inside])).max(), rel=0.06
    )
    assert choice.present.known == choice.best.known == known


@pytest.mark.parametrize("known", [4700.0, pytest.param(1500.0, marks=soak)])
def test_bend_against_linear_programming(known: float) -> None:
    """The smallest largest distance from a line, by an independent solver."""
    found = jr.choose_resistor(channel(known), 20, 240, aim="straight").present
    values = np.linspace(20, 240, 241)
    counts = np.asarray(channel(known).ruler.inverse(values)) / 4095
    one = np.ones_like(counts)
    rows = np.vstack(
        [np.stack([counts, one, -one], axis=1), np.stack([-counts, -one, -one], axis=1)]
    )
    free = (None, None)
    best = linprog([0, 0, 1], rows, np.concatenate([values, -values]), bounds=[free] * 3)
    assert found.bend == pytest.approx(best.fun, rel=1e-4)


def test_current_and_heating_by_ohms_law() -> None:
    warm = channel(4700, dissipation=1.5e-3)
    choice = jr.choose_resistor(warm, 20, 240)
    worst = max((3.3 / (ohms(t) + 4700)) ** 2 * ohms(t) for t in np.linspace(20, 240, 2001))
    assert choice.present.power == pytest.approx(worst, rel=1e-4)
    assert choice.present.heating == pytest.approx(worst / 1.5e-3, rel=1e-4)
    assert choice.present.current == pytest.approx(3.3 / (ohms(240) + 4700), rel=1e-9)
    cool = jr.choose_resistor(warm, 20, 240, most_heating=0.2, most_current=0.3e-3)
    assert all(c.heating <= 0.2 and c.current <= 0.3e-3 for c in cool.candidates)
    assert cool.left_out == len(choice.candidates) - len(cool.candidates) > 0
    assert "values left out: too much current or heating" in str(cool)


def test_both_legs_see_the_same() -> None:
    lower = jr.choose_resistor(channel(4700), 20, 240)
    upper = jr.choose_resistor(channel(4700), 20, 240, leg="upper")
    own = jr.choose_resistor(channel(4700, "upper"), 20, 240)
    for a, b in ((lower, upper), (lower, own)):
        assert [c.known for c in a.candidates] == [c.known for c in b.candidates]
        assert a.best.used == pytest.approx(b.best.used, rel=1e-9)


def test_a_frame_of_all_candidates() -> None:
    choice = jr.choose_resistor(channel(4700), 20, 240)
    table = choice.to_frame()
    assert list(table["known"]) == [c.known for c in choice.candidates]
    assert table["resolution"].is_monotonic_increasing
    assert len(table) > 90


RESISTORS = [
    (channel(4700), (240, 20), {}, "from: expected a value below 20, found 240"),
    (channel(4700), (20, 240), {"aim": "at"}, "expected the value that matters"),
    (channel(4700), (20, 240), {"aim": "best"}, "one of counts, resolution, at, straight"),
    (channel(4700), (20, 240), {"most_heating": 1}, "give its dissipation"),
    (channel(4700), (20, 240), {"between": (4800, 5000)}, "a value of E24 in it"),
    (channel(4700), (20, 240), {"most_current": 1e-9}, "exceeds the limits"),
    (channel(4700), (-300, 240), {}, "no resistance of the sensor means −300 °C"),
    (Channel("a", Ruler.of(Adc(12, 3.3)), "x"), (1, 2), {}, "a has no divider"),
]


@pytest.mark.parametrize(("what", "ends", "more", "says"), RESISTORS)
def test_resistors_that_cannot_be_chosen(
    what: Channel, ends: tuple[float, float], more: dict[str, Any], says: str
) -> None:
    with pytest.raises(JetRulerError) as caught:
        jr.choose_resistor(what, *ends, **more)
    assert says in str(caught.value)


def test_references() -> None:
    choice = jr.choose_reference(0.3, 2.1, [1.1, 2.5, 3.3, 2.5], bits=10)
    assert [c.vref for c in choice.candidates] == [2.5, 3.3, 1.1]
    assert choice.best is not None
    assert choice.best.used == pytest.approx(1.8 / 2.5)
    assert choice.best.margin == pytest.approx(0.4)
    assert choice.best.resolution == pytest.approx(2.5 / 1023)
    exact = jr.choose_reference(0, 2.5, [2.5]).best
    assert exact is not None  # one that just reaches the reference fits
    assert (exact.used, exact.margin) == (1.0, 0.0)
    none = jr.choose_reference(-0.2, 3.1, [1.1, 2.0])
    assert none.best is None
    assert [c.lost_above for c in none.candidates] == pytest.approx([1.1 / 3.3, 2 / 3.3])
    assert [c.lost_below for c in none.candidates] == pytest.approx([0.2 / 3.3] * 2)
    assert "saturates: 60.6% of the signal lost" in str(none)
    assert "every one saturates; 6.1% of the signal lies below 0 V" in str(none)
    loop = Channel("loop", Adc(12, 3.3) >> jr.Shunt(150) >> jr.Line(1000.0, unit="mA"), "x")
    assert pin_volts(loop, 4, 20) == pytest.approx((0.6, 3.0))
    with pytest.raises(JetRulerError, match="ratiometric: its signal follows"):
        pin_volts(Channel("r", Adc(12) >> Divider(4700), "x"), 1e3, 1e4)


@fewer(4)
@given(
    low=st.floats(-0.5, 0.5),
    span=st.floats(0.02, 2.0),
    fraction=st.floats(0.5, 0.95),
    series=st.sampled_from(["E12", "E24", "E96"]),
)
def test_amplifiers_by_kirchhoff(low: float, span: float, fraction: float, series: str) -> None:
    """Every stage that is offered keeps the output in the range, near the fraction that was
    asked."""
    high, vref = low + span, 3.3
    try:
        choice = jr.choose_amplifier(low, high, vref, fraction=fraction, series=series)
    except JetRulerError:  # a signal below 0 V that no bias centres: refused, as tested below
        return
    assert len(choice.stages) + len(choice.left_out) == 2
    for s in choice.stages:
        for v, out in ((low, s.low_out), (high, s.high_out)):
            if s.stage == "non-inverting":
                # The inverting input follows v; the same current flows through both resistors.
                by_hand = v + v / s.other * s.feedback
            else:
                assert s.upper is not None
                assert s.lower is not None
                bias = vref * s.lower / (s.upper + s.lower)
                by_hand = bias - (v - bias) / s.other * s.feedback
            assert out == pytest.approx(by_hand, rel=1e-9, abs=1e-9)
            assert -1e-9 <= out <= vref + 1e-9
            law = jr.Amplifier(s.gain, s.offset)
            assert law(out) == pytest.approx(v, abs=1e-9)
        if s.stage == "inverting" and series == "E96":
            assert s.used == pytest.approx(fraction, abs=0.15)


def test_a_log_without_noise_needs_no_averaging_and_gains_nothing(cli: Cli, home: Path) -> None:
    """One count is worth 0.165 °C here: half of it is left, however many are averaged."""
    (home / "still.csv").write_text("ch0\n" + "1880\n" * 100)
    ask = ("choose", "averaging", "bean", "--at", "220", "--log", "still.csv", "--to")
    assert "one reading is enough" in cli(*ask, "0.1").stdout
    assert "no number of readings" in cli(*ask, "0.01").stdout
    (home / "still.csv").write_text("ch0\n" + "1880\n" * 9)
    done = cli(*ask, "0.1")
    assert done.returncode == 2
    assert "found '9 readings'" in done.stderr


def test_averaging() -> None:
    bean = channel(4700, noise=1.5)
    choice = jr.choose_averaging(bean, 0.05, at=220)
    count = bean.ruler.inverse(220.0)
    slope = abs(bean.ruler(count + 0.5) - bean.ruler(count - 0.5))
    single = slope * math.sqrt(1.5**2 + 1 / 12)
    assert choice.answer.readings == math.ceil((single / 0.05) ** 2)
    assert jr.choose_averaging(bean, 50, at=220).answer.readings == 1
    with pytest.raises(JetRulerError, match="its noise is not known"):
        jr.choose_averaging(channel(4700), 0.05, at=220)
    with pytest.raises(JetRulerError, match="no count reads"):
        jr.choose_averaging(bean, 0.05, at=-280)


COMMANDS = [
    (
        "resistor bean --from 20 --to 240",
        "3600 Ω instead of 4700 Ω: worst resolution 0.196 °C instead of 0.231 °C, 15% less",
    ),
    (
        "resistor bean --from 68 --to 464 --unit degF --at 392 --series E96 --between 1k:20k",
        "finest resolution at a point over 20 to 240 °C, E96, sensor in the lower leg",
    ),
    ("reference draught --from 0 --to 250 --of 2.5 --of 3.3", "take 3.3 V"),
    ("reference --volts 0.3:2.1 --of 1.1 --of 2.5", "take 2.5 V"),
    ("amplifier --volts 0:0.05 --vref 3.3", '{ law = "amplifier", gain = 62.8182, offset = 0 }'),
    ("averaging bean --at 220 --to 0.05 --log roast.csv", 'smooth = { kind = "mean", over = 2'),
]


@few
@pytest.mark.parametrize(("args", "says"), COMMANDS)
def test_the_command(cli: Cli, args: str, says: str) -> None:
    done = cli("choose", *args.split())
    assert done.returncode == 0, done.stderr
    assert says in done.stdout
    assert json.loads(cli("choose", *args.split(), "--json").stdout)


REFUSED = [
    ("resistor damper --from 0 --to 9", "damper has no divider behind a converter"),
    ("resistor bean --from 20 --to 240 --between 1k", "two ends with a colon"),
    ("reference bean --from 0 --to 250 --of 2.5", "bean is ratiometric"),
    ("reference --of 2.5", "expected either CHANNEL with --from and --to, or --volts"),
    ("amplifier --volts=-0.0001:0.0002 --vref 3.3", "it cannot give the signal's part below 0 V"),
    ("averaging tray --at 50 --to 1", "tray: its noise is not known"),
]


@pytest.mark.parametrize(("args", "says"), REFUSED)
def test_one_sentence(cli: Cli, args: str, says: str) -> None:
    done = cli("choose", *args.split())
    assert done.returncode == 2
    assert says in done.stderr
    assert done.stderr.count("\n") == 1


@soak
def test_draw_choose(cli: Cli, home: Path) -> None:
    done = cli(
        "draw", "choose", "bean", "--from", "20", "--to", "240", "--at", "200", "-o", "c.png"
    )
    assert done.returncode == 0, done.stderr
    assert (home / "c.png").read_bytes()[:4] == b"\x89PNG"
