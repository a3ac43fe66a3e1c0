"""Pictures fit to hand in: nothing lies on anything, and a width on paper is kept."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from matplotlib.figure import Figure

import jetruler as jr
from jetruler.core.bench.channel import Channel
from jetruler.logs.check_log import TripStretches
from jetruler.logs.pairs import read_series
from jetruler.samples.passes import columns_of, walk
from jetruler.show import figures
from jetruler.show.figures import _flagged, draw_histogram
from jetruler.show.style import new_figure
from tests.agreement.made import made
from tests.conftest import Cli
from tests.helpers.overlapping_labels import overlaps
from tests.helpers.sizes import few, soak

DEMO = Path(jr.__file__).parent / "demo"


def of_channel(channel: Channel) -> dict[str, Callable[[], Figure]]:
    """Every picture of a channel, without and with a reading."""
    edge = channel.ruler.edge
    assert edge is not None
    at = float(round(edge.lowest + 0.45 * (edge.highest - edge.lowest)))
    drawn: dict[str, Callable[[], Figure]] = {
        "ruler": lambda: figures.ruler_figure(channel, at),
        "circuit": lambda: figures.circuit_figure(channel, at),
        "stages": lambda: figures.stages_figure(channel, at),
        "curve": lambda: figures.curve_figure([(channel, at)]),
    }
    if channel.ruler.label(0.0) is None and np.isfinite(jr.budget(channel, at).combined):
        drawn["budget"] = lambda: figures.budget_figure(channel, [jr.budget(channel, at)])
    return drawn


@few
@pytest.mark.parametrize("name", ["tray", "bean", "damper", "draught", "rail"])
def test_nothing_overlaps_in_the_pictures_of_the_demo(name: str) -> None:
    channel = jr.load_bench(DEMO / "bench.toml")[name]
    found = {kind: overlaps(draw()) for kind, draw in of_channel(channel).items()}
    assert found == {kind: [] for kind in found}


@soak
def test_nothing_overlaps_in_the_other_pictures(
    home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(home)
    bench = jr.load_bench("bench.toml")
    bean = bench["bean"]
    series = read_series("roast.csv", list(bench.values()))
    pairs = jr.read_pairs("rest.csv", bean, bench["bean2"])
    drawn = {
        "log": figures.log_figure(series),
        "fit": figures.fit_figure(jr.calibrate(bean, jr.read_marks("bath.csv"))),
        "compare": figures.compare_figure(jr.compare(pairs.a, pairs.b, unit="degC")),
        "choose": figures.choose_figure(bean, jr.choose_resistor(bean, 20, 240)),
        "draws": figures.draws_figure(bean, jr.simulate(bean, 400, draws=2000)),
        "curves": figures.curve_figure([(bench[n], None) for n in ("bean", "draught", "rail")]),
        "part of a ruler": figures.ruler_figure(bean, 400, (300, 700)),
    }
    assert {kind: overlaps(figure) for kind, figure in drawn.items()} == {
        kind: [] for kind in drawn
    }


@soak
@pytest.mark.parametrize("seed", range(15))
def test_nothing_overlaps_in_the_pictures_of_any_bench(seed: int) -> None:
    for channel in list(made(seed).bench.values())[:2]:
        edge = channel.ruler.edge
        if edge is not None and np.isfinite([edge.lowest, edge.highest]).all():
            found = {kind: overlaps(draw()) for kind, draw in of_channel(channel).items()}
            assert found == {kind: [] for kind in found}, channel


def test_a_narrow_log_is_drawn_by_itself() -> None:
    readings = np.repeat(np.arange(3384, 3412), 20)
    ax = draw_histogram(new_figure().add_subplot(), "bean", jr.survey(readings, bits=16))
    low, high = ax.get_xlim()
    assert 3370 < low < 3384
    assert 3411 < high < 3425


@few
@pytest.mark.parametrize("size", [(4.0, 2.4), (12.8, 8.0)])
@pytest.mark.parametrize(
    ("bits", "signed", "low", "high"),
    [
        (12, False, 0, 4095),
        (16, True, -32768, 32767),
        (24, False, 8_388_600, 8_388_640),
        (24, False, 2_516_580, 15_099_495),
        (32, False, 0, 4_294_967_295),
    ],
)
def test_a_histogram_of_any_converter(
    bits: int, signed: bool, low: int, high: int, size: tuple[float, float]
) -> None:
    counts = np.random.default_rng(1).integers(low, high, 5000, endpoint=True)
    figure = Figure(figsize=size, layout="constrained")
    ax = draw_histogram(figure.subplots(), "level", jr.survey(counts, bits=bits, signed=signed))
    assert overlaps(figure) == []
    ticks = [float(t.get_text().replace("\N{MINUS SIGN}", "-")) for t in ax.get_xticklabels()]
    assert ticks == list(ax.get_xticks())  # whole counts, with no power of ten beside


@pytest.mark.parametrize("size", [(4.0, 2.4), (8.0, 5.0)])
@pytest.mark.parametrize(
    ("middle", "step"),
    [(-17.11, 0.01), (1234.5, 0.001), (0.5, 1e-4), (-0.98765, 1e-5), (1e5, 1.0), (3.3e-7, 1e-9)],
)
def test_a_histogram_of_values_close_together(
    middle: float, step: float, size: tuple[float, float]
) -> None:
    edge = f'{{ unit = "m/s²", resolution = {step}, range = [-1e6, 1e6] }}'
    bench = jr.parse_bench(f"[channel.level]\ncolumn = 1\ninput = {edge}\n")
    values = middle + step * np.random.default_rng(1).integers(-1, 2, 500)
    log = "".join(f"{value:.9f}\n" for value in values).encode()
    figure = Figure(figsize=size, layout="constrained")
    surveyed = jr.look(log, bench).columns["level"].survey
    draw_histogram(figure.subplots(), "level", surveyed)
    assert overlaps(figure) == []


@pytest.mark.parametrize("kind", ["png", "svg"])
def test_a_width_on_paper(cli: Cli, home: Path, kind: str) -> None:
    done = cli("draw", "curve", "bean", "--width", "86", "-o", f"c.{kind}")
    assert done.returncode == 0
    data = (home / f"c.{kind}").read_bytes()
    if kind == "svg":
        assert re.search(rb'<svg [^>]*width="86mm" height="53.75mm"|width="86mm"', data)
    else:
        wide = int.from_bytes(data[16:20], "big")
        assert wide == pytest.approx(86 / 25.4 * 300, abs=1)


@pytest.mark.parametrize(
    ("args", "says"),
    [
        (("draw", "curve", "bean", "--width", "5"), "20 to 1000 mm"),
        (("draw", "ruler", "bean", "--from", "700", "--to", "300"), "the low one first"),
        (("draw", "ruler", "bean", "--to", "9000"), "two raw values of 0 to 4095"),
        (("draw", "draws", "bean", "--at", "9000"), "expected a count of bean, 0 to 4095"),
    ],
)
def test_what_cannot_be_drawn(cli: Cli, args: tuple[str, ...], says: str) -> None:
    done = cli(*args)
    assert done.returncode == 2
    assert says in done.stderr


@soak
def test_a_log_shows_when_trips_were_on(cli: Cli, home: Path) -> None:
    """The stretches are those between the events; a trip that is still on ends with the log."""
    bench = jr.load_bench(home / "bench.toml")
    trips = TripStretches(bench, list(bench.channels.values()))
    walk(home / "roast.csv", trips, wanted=columns_of(bench))
    assert cli("convert", "roast.csv", "-o", "x.csv", "--events", "e.csv").returncode == 0
    wanted: dict[str, list[float]] = {name: [] for name in bench.trips}
    for line in (home / "e.csv").read_text().splitlines()[1:]:
        time, trip, *_ = line.split(",")
        wanted[trip].append(float(time))
    found = trips.found(839.8)
    assert any(wanted.values())
    for name, times in wanted.items():
        seen = [time for stretch in found[name] for time in stretch]
        assert seen == pytest.approx([*times, *([839.8] if len(times) % 2 else [])])
    assert cli("draw", "log", "roast.csv", "-o", "log.png").returncode == 0
    only = TripStretches(bench, [bench["bean2"]])
    assert not any("bean" in trip.channels for trip in only.bench.trips.values())


def test_a_trip_that_asks_for_times_is_named_where_there_are_none(home: Path) -> None:
    (home / "bare.txt").write_text("".join(f"{100 * (i % 40)}\n" for i in range(200)))
    bench = jr.parse_bench(
        "[converter]\nbits = 12\nvref = 3.3\n[channel.a]\ncolumn = 1\n"
        '[trip.plain]\nany = [{ channel = "a", above = 2 }]\n'
        '[trip.held]\nany = [{ channel = "a", above = 2 }]\nhold = "2 s"\n'
    )
    trips = TripStretches(bench, list(bench.channels.values()))
    walk(home / "bare.txt", trips, wanted=columns_of(bench))
    found = trips.found(199.0)
    assert list(found) == ["plain", "held (no clock)"]
    assert len(found["plain"]) == 5


def test_flags_are_named_where_they_are() -> None:
    at = np.arange(1000.0)
    flags = np.zeros(1000, np.uint8)
    flags[100:130], flags[700:705] = int(jr.Flag.MISSING), int(jr.Flag.HIGH_RAIL)
    ax = Figure(figsize=(12, 2)).add_subplot()
    _flagged(ax, at, flags)
    shown = {text.get_text(): text.get_position()[0] for text in ax.texts}
    assert shown["missing"] == pytest.approx(114.5, abs=20)
    assert shown["high_rail"] == pytest.approx(702, abs=20)


@pytest.mark.parametrize(
    ("counts", "lsb", "bars", "each"),
    [
        (np.arange(4096), 1.0, 373, 11.0),  # an even signal
        (np.arange(0, 4096, 4), 1.0, 342, 12.0),  # codes that stand four apart
        (np.array([512, 513, 515]), 1.0, 4, 1.0),
        (3.0 + 0.001 * np.arange(100), 0.001, 100, 0.001),
        (np.array([2**31 + 7]), 1.0, 1, 1.0),
    ],
)
def test_bars_are_whole_steps_wide_and_even(
    counts: np.ndarray, lsb: float, bars: int, each: float
) -> None:
    height, edges, wide = figures.bars_of(counts.astype(float), np.ones(counts.size), lsb)
    assert height.size == bars
    assert wide == pytest.approx(each)
    assert height.sum() == counts.size
    assert np.diff(edges) == pytest.approx(each)
    if counts.size > 1000:  # each whole bar holds as many as every other one
        assert np.unique(height[:-1]).size == 1


def test_trips_have_a_lane_below_the_ruler() -> None:
    bench = jr.load_bench(DEMO / "bench.toml")
    bean = bench["bean"]
    figure = figures.ruler_figure(bean, 1880, trips=list(bench.trips.values()))
    texts = [text.get_text() for text in figure.axes[0].texts]
    assert "too-hot: above 225.0 °C, off at 220.0 °C" in texts
    assert not any(text.startswith(("charge", "loose")) for text in texts)  # they ask for no value
    assert overlaps(figure) == []
    bars: list[Any] = [c for c in figure.axes[0].collections if c.get_alpha() == 1.0]
    raw = [x for bar in bars for x, _ in bar.get_segments()[0]]
    # By hand: 225 °C is count 386.44 of this thermistor.
    assert max(raw) == pytest.approx(386.44, abs=3)


@soak
@pytest.mark.parametrize("size", [(4.0, 4.0), (6.4, 4.8), (12.8, 8.0), (16.0, 9.0)])
def test_four_rulers_below_one_another(size: tuple[float, float]) -> None:
    bench = jr.load_bench(DEMO / "bench.toml")
    figure = Figure(figsize=size, layout="constrained")
    for ax, name in zip(figure.subplots(4), ("bean", "damper", "rail", "tray"), strict=True):
        jr.plots.ruler(bench[name], 1880, ax=ax)
    assert overlaps(figure) == []


@few
@pytest.mark.parametrize("at", [7600, 4000, 8193, 9000, 12_000])
@pytest.mark.parametrize("size", [(8.0, 3.0), (12.8, 8.0)])
def test_the_longest_worked_lines_keep_off_readings_and_units(
    size: tuple[float, float], at: int
) -> None:
    coefficients = (0.003354, 0.000257, 2.6e-06, 6.3e-08)
    thermistor = jr.SteinhartHartExtended(17_000, to_kelvin=coefficients)
    chain = jr.Adc(14) >> jr.Divider(17_000, sensor="upper") >> thermistor
    figure = Figure(figsize=size, layout="constrained")
    jr.plots.stages(jr.Channel("raw", chain, 2, limits=(-23, 91)), at=at, ax=figure.subplots())
    assert overlaps(figure) == []


@pytest.mark.parametrize("unit", ["mm", "um/m", "V"])
@pytest.mark.parametrize(("first", "last"), [
    (-150, 800), (-123_450, 50), (0.00012, 0.00034), (1_234_567, 1_234_570), (900, -900),
])  # fmt: skip
def test_the_first_numbers_of_a_ruler_stand_clear_of_its_units(
    unit: str, first: float, last: float
) -> None:
    """However long they are, beside short units; on the edge of raw values too."""
    percent = jr.Input("%", resolution=0.1, range=(0, 100))
    for edge in (percent, jr.Input("V", resolution=1e-3, range=(-1200, 1200))):
        ends = (edge.lowest, first), (edge.highest, last)
        channel = Channel("x", edge >> jr.Line.through(*ends, unit=unit), 1)
        for size in ((8.0, 3.0), (16.0, 4.2)):
            figure = Figure(figsize=size, layout="constrained")
            jr.plots.ruler(channel, ax=figure.subplots())
            assert overlaps(figure) == []
