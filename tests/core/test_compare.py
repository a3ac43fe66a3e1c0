"""Comparisons: stated intervals hold, verdicts are right, corrections bring agreement."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import jetruler as jr
from jetruler import JetRulerError, compare
from jetruler.core.calibrate.comparison import aligned
from jetruler.core.series import correlation_time, noise_of
from jetruler.errors import PairsError
from tests.conftest import Cli
from tests.helpers.sizes import few, soak

Array = np.ndarray[tuple[int], np.dtype[np.float64]]


def wandering(random: np.random.RandomState, n: int, memory: float) -> Array:
    """Noise of which each sample remembers a fraction of the one before; standard deviation 1."""
    steps = random.standard_normal(n)
    steps[1:] *= np.sqrt(1 - memory**2)
    for i in range(1, n):
        steps[i] += memory * steps[i - 1]
    return steps


@soak
@pytest.mark.parametrize(
    "memory", [0.5, *(pytest.param(memory, marks=soak) for memory in (0.0, 0.9))]
)
def test_the_bias_is_inside_its_interval(memory: float) -> None:
    random = np.random.RandomState(11)
    hits, independent = 0, []
    for _ in range(400):
        a = 50 + 0.3 + wandering(random, 600, memory)
        found = compare(a, np.full(600, 50.0), resolution=1e-3)
        hits += abs(found.bias - 0.3) <= found.half_width
        independent.append(found.independent)
    assert 0.92 <= hits / 400 <= 0.98
    # n (1 − φ)/(1 + φ): the textbook figure of independent samples of such noise.
    assert np.median(independent) == pytest.approx(600 * (1 - memory) / (1 + memory), rel=0.25)


T = np.linspace(20, 200, 900)
CASES = [
    ("agree", 0.0 * T, 0.1),
    ("offset", 0.6 + 0.0 * T, 0.1),
    ("gain", 0.02 * (T - 90), 0.1),
    ("agree", 0.0 * T, 4.0),
    ("bend", 4.0 * (T / 200) ** 2, 0.1),
]


@pytest.mark.parametrize("decimals", [15, 1])
@pytest.mark.parametrize(("verdict", "error", "noise"), CASES)
def test_verdicts_and_corrections(verdict: str, error: Array, noise: float, decimals: int) -> None:
    """Of logs in full and of rounded ones, where many differences are 0."""
    random = np.random.RandomState(4)
    a = np.round(T + error + noise * random.standard_normal(T.size), decimals)
    b = np.round(T + 0.1 * random.standard_normal(T.size), decimals)
    found = compare(a, b, unit="degC", resolution=0.1, names=("bean", "bean2"))
    assert found.verdict == verdict, str(found)
    assert found.noise_a == pytest.approx(noise, rel=0.15)
    low, high = found.limits
    inside = np.mean((found.difference >= low - 1e-9) & (found.difference <= high + 1e-9))
    if verdict != "bend" and error[0] == error[-1]:
        assert inside == pytest.approx(0.95, abs=0.02 if decimals > 1 else 0.04)
        assert found.bias == pytest.approx(error[0], abs=found.half_width * 1.5)
    if found.correction is None:
        assert verdict in ("agree", "bend")
        return
    again = compare(found.correction(a), b, unit="degC", resolution=0.1)
    assert again.verdict == "agree"
    assert abs(again.bias) < 1e-9
    assert found.correction(T + error) == pytest.approx(T.tolist(), abs=0.06)


def test_unequal_noise_is_no_gain() -> None:
    random = np.random.RandomState(8)
    signal = 100 + 3 * np.sin(np.arange(3000) / 200)
    found = compare(
        signal + 0.8 * random.standard_normal(3000), signal + 0.05 * random.standard_normal(3000)
    )
    assert abs(found.gain) < found.gain_half_width
    still = compare(100 + random.standard_normal(500), 100 + 0.1 * random.standard_normal(500))
    assert np.isnan(still.gain)


def test_a_slower_sensor_is_no_bias() -> None:
    n = 4000
    t = 150 + 60 * np.sin(np.arange(n) / 300)
    slow = np.empty(n)
    state = t[0]
    for i in range(n):
        state += (t[i] - state) / 9  # the textbook lag: 9 samples behind
        slow[i] = state
    random = np.random.RandomState(1)
    b = slow + 0.5 + 0.1 * random.standard_normal(n)
    found = compare(t + 0.1 * random.standard_normal(n), b, resolution=0.1, interval=0.2)
    assert found.delay.samples == pytest.approx(-8, abs=1)
    assert found.bias == pytest.approx(-0.5, abs=0.05)
    assert any("second follows first 7.99" in note and "s) later" in note for note in found.notes)


def test_averaging_as_many_as_it_says_agrees() -> None:
    random = np.random.RandomState(6)
    a, b = 80 + 2 * random.standard_normal(40_000), 80 + 2 * random.standard_normal(40_000)
    found = compare(a, b, within=0.5)
    assert found.verdict == "agree"
    assert "noise that averaging reduces" in found.sentence
    many = int(np.ceil(found.readings))
    means = [x[: 40_000 // many * many].reshape(-1, many).mean(axis=1) for x in (a, b)]
    assert np.mean(np.abs(means[0] - means[1]) <= 0.5) == pytest.approx(0.95, abs=0.03)


@few
@pytest.mark.parametrize("ratio", [1, 5, 25])
@pytest.mark.parametrize("shape", ["ramp", "plateaus"])
def test_unequal_noise_is_no_bend(ratio: int, shape: str) -> None:
    """Also where the signal stands still for long, and steps."""
    random = np.random.RandomState(3)
    t = np.linspace(0, 1, 600)
    signal = 20 + 180 * t if shape == "ramp" else 50 + 30 * np.floor(6 * t)
    for _ in range(8):
        a = signal + ratio * 0.1 * random.standard_normal(600)
        b = signal + 0.1 * random.standard_normal(600)
        found = compare(a, b, resolution=1e-6)
        assert found.verdict != "bend"
        assert (found.noise_a, found.noise_b) == pytest.approx((ratio * 0.1, 0.1), rel=0.2)


def test_slow_noise_is_no_offset() -> None:
    """What wanders has no interval that is too narrow; a random walk has none at all."""
    random = np.random.RandomState(5)
    for memory in (0.9, 0.99):
        found = [compare(wandering(random, 200, memory), np.zeros(200)) for _ in range(60)]
        missed = [abs(f.bias) > f.half_width for f in found]  # NaN: not told, and no miss
        assert sum(missed) <= 6
    walk = compare(np.cumsum(random.standard_normal(3000)), np.zeros(3000))
    assert walk.verdict == "cannot tell"
    assert "drift: the differences wander so slowly" in walk.sentence
    assert np.isnan(walk.half_width)


@soak
def test_too_few_are_told_as_such() -> None:
    """Four pairs prove no agreement, and say how many would."""
    a, b = np.array([10.0, 20.6, 29.9, 40.6]), np.array([10.0, 20.0, 30.0, 40.0])
    found = compare(a, b, within=0.109)
    assert found.verdict == "cannot tell"
    assert "too few: about 20 pairs would do" in found.sentence
    assert np.isnan(found.noise_a)  # neighbours that far apart tell no noise
    random = np.random.RandomState(2)
    few = compare(random.standard_normal(100), np.zeros(100), within=0.1)
    assert few.verdict == "cannot tell"
    many = int(few.reason.split("about ")[1].split(" ")[0])
    again = [compare(random.standard_normal(many), np.zeros(many), within=0.1) for _ in range(5)]
    assert [one.verdict for one in again].count("agree") >= 2


def test_what_is_missing_is_part_of_the_verdict() -> None:
    random = np.random.RandomState(1)
    a, b = random.standard_normal(400), random.standard_normal(400)
    a[:60] = np.nan
    found = compare(a, b)
    assert found.verdict == "cannot tell"
    assert "15 % of the samples have no value" in found.sentence
    b[:60] = np.nan  # where neither has one, none is missing
    assert compare(a, b).verdict == "agree"
    assert compare(a, b, missing=60).verdict == "cannot tell"


def test_limits_are_those_of_the_real_differences() -> None:
    """A delay is part of what people see, and is told apart."""
    random = np.random.RandomState(4)
    t = np.arange(4000)
    a = 150 + 60 * np.sin((t - 8) / 300) + 0.1 * random.standard_normal(4000)
    b = 150 + 60 * np.sin(t / 300) + 0.1 * random.standard_normal(4000)
    found = compare(a, b)
    (low, high), (near, far) = found.limits, found.limits_aligned
    assert np.mean((a - b > low) & (a - b < high)) >= 0.94
    assert far - near == pytest.approx(2 * 1.96 * 0.1 * np.sqrt(2), rel=0.1)
    assert high - low > 3 * (far - near)
    assert "aligned      95 %" in str(found)


def test_noise_of_jumps_and_bends() -> None:
    random = np.random.RandomState(6)
    t = np.arange(2000)
    white = 0.2 * random.standard_normal(2000)
    for movement in (np.where(t % 100 < 50, 0.0, 40.0), 30 * np.sin(t / 12), 1e-4 * t**2):
        assert noise_of(movement + white) == pytest.approx(0.2, rel=0.1)
    assert np.isnan(noise_of(np.sin(t[:40] * 1.0)))


def test_pairs_in_time() -> None:
    at_a, at_b = np.arange(0, 10, 0.5), np.array([-1, 0.25, 3.0, 3.1, 9.5, 12])
    at, a, b = aligned(at_a, 2 * at_a, at_b, at_b)
    assert at.tolist() == [0.25, 3.0, 3.1, 9.5]
    assert a == pytest.approx((2 * at).tolist())
    assert b.tolist() == at.tolist()
    gap = np.concatenate((at_a[:5], at_a[12:]))
    at, _, _ = aligned(gap, 2 * gap, at_b, at_b)
    assert at.tolist() == [0.25, 9.5]
    with pytest.raises(PairsError, match="no time has a value of both"):
        aligned(at_a, at_a, at_b + 100, at_b)


def test_small_parts() -> None:
    random = np.random.RandomState(9)
    white = random.standard_normal(20_000)
    assert correlation_time(white) == pytest.approx(1, abs=0.1)
    assert noise_of(white + np.arange(20_000)) == pytest.approx(1, rel=0.03)
    with pytest.raises(JetRulerError, match="found 3 and 4"):
        compare([1, 2, 3], [1, 2, 3, 4])
    with pytest.raises(PairsError, match=r"^p and q: expected three pairs or more, found 2"):
        compare([1, 2, np.nan], [1, 2, 3], names=("p", "q"))
    with pytest.raises(JetRulerError, match="within: expected a difference above 0, found -1"):
        compare([1, 2, 3], [1, 2, 3], within=-1)


def test_bias_is_named_written_and_gone(cli: Cli, home: Path) -> None:
    """The rest log: two equal sensors in one place, half a degree apart, each steady."""
    first = cli("compare", "bean", "bean2", "--log", "rest.csv", "--write")
    assert first.returncode == 0, first.stderr
    assert "bias         −0.6104 ± 0.0081 °C (95 %)" in first.stdout
    assert "below bean2: a bias that calibration removes and averaging does not" in first.stdout
    assert '+ { law = "line", gain = 1, offset = 0.6103' in first.stdout
    again = cli("compare", "bean", "bean2", "--log", "rest.csv", "--write")
    assert "bean and bean2 agree within 0.16" in again.stdout
    assert "bean smoothed as the bench says; its lag is compensated" in again.stdout
    assert "no correction is needed" in again.stderr
    found = json.loads(cli("compare", "bean", "bean2", "--log", "rest.csv", "--json").stdout)
    assert (found["verdict"], found["pairs"], found["correction"]) == ("agree", 598, None)
    assert abs(found["bias"]) < 1e-9


def test_against_a_column_and_marks(cli: Cli) -> None:
    column = cli("compare", "bean", "reference_degC", "--log", "rest.csv")
    assert "24 pairs" in column.stdout
    assert "576 samples of reference_degC excluded" in column.stdout
    within = cli("compare", "bean", "--marks", "bath.csv", "--within", "5")
    assert "bean and the marks agree within" in within.stdout
    marks = cli("compare", "bean", "--marks", "bath.csv")
    assert "offset and gain" in marks.stdout


def test_the_reading_is_that_of_a_converted_log(home: Path) -> None:
    """Without the lag of the first one's median over five."""
    bench = jr.load_bench(home / "bench.toml")
    frame = bench.convert(pd.read_csv(home / "rest.csv"), only=("bean", "bean2"))
    pairs = jr.read_pairs(home / "rest.csv", bench["bean"], bench["bean2"])
    assert np.array_equal(pairs.a, frame["bean_degC"][2:])
    assert np.array_equal(pairs.b, frame["bean2_degC"][:-2])


def test_a_column_says_its_unit(cli: Cli, home: Path) -> None:
    lines = (home / "rest.csv").read_text().splitlines()
    bean2 = jr.load_bench(home / "bench.toml")["bean2"].ruler
    for name, scale, offset in (("ref_degF", 1.8, 32), ("ref_K", 1, 273.15), ("ref", 1, 0),
                                ("ref (°F)", 1.8, 32), ("oven_F", 1.8, 32)):  # fmt: skip
        rows = [f"{lines[0]},{name}"]
        rows += [f"{x},{bean2(int(x.split(',')[2])) * scale + offset!r}" for x in lines[1:]]
        (home / "r.csv").write_text("\n".join(rows) + "\n")
        done = cli("compare", "bean", name, "--log", "r.csv")
        assert "bias         −0.6104 ± 0.0081 °C" in done.stdout, name
        assert ("and was converted" in done.stdout) == (name != "ref")
    (home / "r.csv").write_text("\n".join(rows).replace("oven_F", "ref_mV"))
    done = cli("compare", "bean", "ref_mV", "--log", "r.csv")
    assert done.returncode == 2
    assert "the column ref_mV says mV, which is no °C; --unit says otherwise" in done.stderr


def test_marks_in_any_unit_of_the_channel(cli: Cli) -> None:
    """A count of 2048 of 4095 is 4700 Ω · 2048 / 2047 in this divider: one mark, three ways."""
    ohms = 4700 * 2048 / 2047
    ways = ("2048=99", f"{ohms!r} ohm=99 degC", f"{ohms / 1000!r} kohm=210.2 degF")
    said = [cli("compare", "bean", *["--mark", mark] * 3, "--json").stdout for mark in ways]
    values = [json.loads(text)["bias"] for text in said]
    assert values == pytest.approx([values[0]] * 3)
    refused = cli("compare", "bean", "--mark", "3 g=99")
    assert "raw is in g; this channel has count" in refused.stderr


@soak
def test_two_logs_are_paired_by_time(cli: Cli, home: Path) -> None:
    lines = (home / "rest.csv").read_text().splitlines()
    shifted = ["at_s,ref"]
    for line in lines[1::5]:
        time, _, count, _ = line.split(",")
        celsius = jr.load_bench(home / "bench.toml")["bean2"].ruler(int(count))
        shifted.append(f"{float(time) + 0.05},{celsius * 1.8 + 32:.4f}")
    (home / "other.csv").write_text("\n".join(shifted) + "\n")
    done = cli(
        *("compare", "bean", "ref", "--log", "rest.csv"),
        *("--other-log", "other.csv", "--unit", "degF"),
    )
    assert "below ref: a bias" in done.stdout
    assert "paired in time" in done.stdout
    same = json.loads(
        cli(
            *("compare", "bean2", "ref", "--log", "rest.csv", "--json"),
            *("--other-log", "other.csv", "--unit", "degF"),
        ).stdout
    )
    assert same["verdict"] == "agree"


REFUSED = [
    (("compare", "bean", "bean2", "--log", "rest.csv", "--u-common", "-1"), "expected 0 or more"),
    (("compare", "bean"), "expected OTHER and --log LOG, or --marks FILE"),
    (("compare", "bean", "bean", "--log", "rest.csv"), "found bean again"),
    (
        ("compare", "bean", "bear", "--log", "rest.csv"),
        "expected a channel or column, found 'bear': known: ch0, ch1",
    ),
    (("compare", "bean", "tray", "--log", "roast.csv"), "found tray, which reads zones"),
    (("compare", "bean", "rail", "--log", "roast.csv"), "V cannot be converted to °C"),
    (("compare", "bean", "--mark", "1880=121", "--write"), "expected three marks or more"),
    (("compare", "bean", "--mark", "1=1", "--log", "rest.csv"), "expected either OTHER with --log"),
    (("fit", "bean"), "expected marks, by --marks FILE or --mark RAW=TRUE"),
    (("fit", "bean", "--mark", "1880"), "RAW=TRUE, as in 1880=225"),
    (("fit", "bean", "--mark", "1880=225±1"), "uncertainties go into a marks file"),
    (
        ("fit", "bean", "--marks", "no.csv"),
        "no.csv: expected a CSV file of marks, found no such file",
    ),
]


@pytest.mark.parametrize(("args", "says"), REFUSED)
def test_one_sentence(cli: Cli, args: tuple[str, ...], says: str) -> None:
    done = cli(*args)
    assert done.returncode == 2
    assert says in done.stderr
    assert done.stderr.count("\n") == 1


@few
@pytest.mark.parametrize(
    "args",
    [
        ("fit", "damper", "--marks", "damper-marks.csv", "--robust"),
        ("fit", "bean", "--marks", "bath.csv", "--law", "table"),
        ("compare", "bean", "bean2", "--log", "roast.csv"),
        ("compare", "bean", "--marks", "bath.csv"),
    ],
)
def test_pictures(cli: Cli, home: Path, args: tuple[str, ...]) -> None:
    done = cli("draw", *args, "-o", "p.png")
    assert done.returncode == 0, done.stderr
    assert (home / "p.png").read_bytes()[:4] == b"\x89PNG"


def test_json_of_fits_and_comparisons(cli: Cli) -> None:
    """Programs get everything people get, and null where there is nothing."""
    robust = ("fit", "damper", "--marks", "damper-marks.csv", "--robust", "--json")
    found = json.loads(cli(*robust).stdout)
    assert [m["outlier"] for m in found["marks"]].index(True) == 4
    assert found["replaces"] == "line"
    assert found["dof"] == 4
    assert found["parameters"][0]["half_width"] > found["parameters"][0]["standard_uncertainty"]
    exact = ("fit", "damper", "--mark", "198=0", "--mark", "3904=100", "--json", "--write")
    done = cli(*exact)
    found = json.loads(done.stdout)
    assert found["parameters"][0]["standard_uncertainty"] is None
    assert found["rms_error_left_out"] is None
    assert "channel.damper:" in done.stderr  # the change is told, beside the JSON
    compared = json.loads(cli("compare", "bean", "--marks", "bath.csv", "--json").stdout)
    assert compared["noise_a"] is None
    assert compared["verdict"] == "gain"
    assert compared["correction"]["gain"] == pytest.approx(1.007, abs=1e-3)


@pytest.mark.parametrize("law", ["line", "polynomial", "power", "table", "beta", "steinhart-hart"])
def test_every_law_from_the_command(cli: Cli, home: Path, law: str) -> None:
    """Each law that can be fitted is written, loads, and reads the marks."""
    channel, marks = ("bean", "bath.csv") if "a" in law[1:] else ("damper", "damper-marks.csv")
    if law in ("power", "polynomial", "line", "table"):
        channel, marks = "damper", "damper-marks.csv"
        (home / marks).write_text("raw,true\n300,4\n900,17\n1500,31\n2600,58\n3500,82\n")
    done = cli("fit", channel, "--marks", marks, "--law", law, "--write")
    assert done.returncode == 0, done.stderr
    fitted = jr.load_bench(home / "bench.toml")[channel]
    assert law in [one.name for one in fitted.chain.laws] or "line" in done.stdout
    points = jr.read_marks(home / marks)
    read = np.asarray(fitted.chain(points.raw))
    assert float(np.abs(read - points.true).max()) < 4.0
