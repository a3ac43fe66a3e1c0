"""Raw edges that are no counts: the same figures as by hand, through every command."""

from __future__ import annotations

import json
import runpy
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

import jetruler as jr
from jetruler.benchfile.load import parse_bench
from jetruler.live.stream_processor import StreamProcessor
from tests.conftest import Cli
from tests.helpers.sizes import soak

BENCH = """
title = "Store"
[channel.tank]
column = "echo"
input = { unit = "cm", resolution = 0.1, range = [2, 400], error = "± 3 mm" }
laws = [
  { law = "line", marks = [["14 cm", 0], ["4 cm", 100]], unit = "%" },
  { law = "clamp", low = 0, high = 100 },
]
noise = 0.2
decimals = 1
[channel.meter]
column = "volts"
input = { unit = "V", resolution = "1 mV", range = ["0 V", "10 V"] }
decimals = 3
[channel.shake]
column = "a"
input = { unit = "m/s²", resolution = 0.01, range = [-40, 40] }
laws = [{ law = "magnitude" }]
decimals = 2
[channel.scale]
column = "g"
input = { unit = "g" }
"""
ROWS = 600
ECHO = np.round(9 + 4.96 * np.sin(np.arange(ROWS) / 30), 1)
VOLTS = np.round(2.5 + np.cos(np.arange(ROWS) / 40), 3)
SHAKE = np.round(9.81 * np.cos(np.arange(ROWS) / 7), 2)
GRAMS = np.arange(ROWS) + 1000


@pytest.fixture
def store(home: Path) -> Path:
    """The bench and its log, in the folder of the command line."""
    (home / "bench.toml").unlink()  # `look` would take it
    (home / "store.toml").write_text(BENCH)
    rows = zip(np.arange(ROWS) / 10, ECHO, VOLTS, SHAKE, GRAMS, strict=True)
    text = [f"{t:.1f},{e:.1f},{v:.3f},{a:.2f},{g}" for t, e, v, a, g in rows]
    (home / "store.csv").write_text("\n".join(["time_s,echo,volts,a,g", *text]) + "\n")
    return home


def test_values_by_hand(store: Path, cli: Cli) -> None:
    done = cli("convert", "store.csv", "-b", "store.toml", "-o", "out.csv", "--uncertainty")
    assert done.returncode == 0, done.stderr
    assert "fractional" not in done.stderr
    out = pd.read_csv(store / "out.csv")
    assert out["tank_percent"].to_numpy() == pytest.approx(
        np.clip((14 - ECHO) * 10, 0, 100), abs=0.051
    )
    assert out["meter_V"].tolist() == VOLTS.tolist()
    assert out["shake_m_per_s²"].tolist() == np.abs(SHAKE).tolist()
    assert out["scale_g"].tolist() == GRAMS.tolist()
    # 10 % for each cm: the resolution and the error spread evenly, the noise of one reading.
    u = 10 * np.sqrt((0.05**2 + 0.3**2) / 3 + 0.2**2)
    free = out["tank_percent"].between(1, 99)
    assert out["tank_percent_u"][free].to_numpy() == pytest.approx(1.96 * u, rel=0.02)
    bench = jr.load_bench(store / "store.toml")
    frame = bench.convert(pd.read_csv(store / "store.csv"))
    assert frame["shake_m_per_s²"].tolist() == np.abs(SHAKE).tolist()


def test_look_surveys_each_in_its_unit(store: Path, cli: Cli) -> None:
    for bench in (["-b", "store.toml"], []):
        done = cli("look", "store.csv", "--json", *bench)
        found = json.loads(done.stdout)["columns"]
        for raw, column in ((ECHO, "echo"), (VOLTS, "volts"), (SHAKE, "a")):
            each = next(v for v in found.values() if v["column"] == column)
            assert each["mean"] == pytest.approx(raw.mean(), rel=1e-9)
            assert each["standard_deviation"] == pytest.approx(raw.std(ddof=1), rel=1e-9)
            assert (each["smallest"], each["largest"]) == (raw.min(), raw.max())
            assert each["step"] == pytest.approx({"echo": 0.1, "volts": 1e-3, "a": 0.01}[column])
    assert "converter" not in cli("look", "store.csv", "-b", "store.toml").stdout
    ends = cli("look", "store.csv", "-b", "store.toml", "--ends", "tank", "--write")
    assert ends.returncode == 0, ends.stderr
    marks = jr.load_bench(store / "store.toml")["tank"].chain.laws[1].marks
    assert marks is not None
    low, high = marks
    assert (low[0], high[0]) == pytest.approx((4.5, 13.5), abs=0.5)


def test_averages_are_surveyed_as_they_are(store: Path, cli: Cli) -> None:
    rows = [f"{1880.1 + 0.1 * (i % 4):.1f}" for i in range(200)]
    (store / "mean.csv").write_text(
        "\n".join(["x,ch0", *(f"{i},{row}" for i, row in enumerate(rows))]) + "\n"
    )
    said = cli("look", "mean.csv", "--json").stdout
    found = json.loads(said)["columns"]["ch0"]
    assert (found["smallest"], found["largest"], found["distinct"]) == (1880.1, 1880.4, 4)
    assert "dead input" not in said


def test_there_and_back_in_words(store: Path, cli: Cli) -> None:
    def explain(*args: str) -> str:
        done = cli("explain", *args, "-b", "store.toml")
        return done.stdout + done.stderr

    assert "= 15 %" in explain("tank", "--at", "12.5 cm")
    assert "= 15 %" in explain("tank", "--at", "125 mm")
    assert "the raw value is 9 cm" in explain("tank", "--for", "50")
    assert "= 9.81 m/s²" in explain("shake", "--at", "-9.81")
    budget = explain("tank", "--at", "9", "--budget")
    for row in (
        "input resolution  ± 0.05 cm",
        "input error       ± 0.3 cm",
        "noise             0.2 cm",
    ):
        assert row in budget
    says = "a number, a percentage of its range or a value in V"
    assert says in explain("meter", "--at", "x")
    assert "the uncertainty of 7 g is unknown" in explain("scale", "--at", "7", "--budget")


def test_noise_counts_though_no_edge_is_there() -> None:
    """Two bar a volt: a ruler that starts in volts keeps its noise."""
    ruler = jr.Ruler((jr.Line(2, takes="V", unit="bar"),))
    assert jr.budget(ruler, 1.0, noise=0.01).combined == pytest.approx(0.02)
    drawn = jr.simulate(ruler, 1.0, noise=0.01, draws=20_000).standard
    assert drawn == pytest.approx(0.02, rel=0.02)


def test_streams_trips_and_drives(store: Path, cli: Cli) -> None:
    more = '[drive.pump]\nfrom = "tank"\nmarks = [[0, 255], [100, 0]]\nsafe = 0\noff = 0\n'
    (store / "store.toml").write_text(BENCH + more)
    made_up = ["--inject", "tank=12.5 cm", "--inject", "shake=-3.25", "--inject", "meter=300 mV"]
    live = ["live", "-b", "store.toml", "--source", "none", "--duration", "0.3 s", "--json"]
    done = cli(*live, *made_up)
    row = json.loads(done.stdout.splitlines()[-1])
    assert (row["tank"], row["shake"], row["meter"]) == (15.0, 3.25, 0.3)
    assert row["drives"] == {"pump": 217}  # 255 − 0.15 · 255, rounded
    done = cli(*live, "--inject", "tank=wet")
    assert "a number, a percentage of its range or a value in %, cm" in done.stderr


def test_exported_over_every_step(store: Path, cli: Cli) -> None:
    for arith in ("float", "int32"):
        export = ["export", "tank", "--to", "python", "--arith", arith, "--scale", "10"]
        options = export if arith == "int32" else export[:-2]
        done = cli(*options, "-b", "store.toml", "-o", "tank.py")
        assert done.returncode == 0, done.stderr
        assert "in steps of 0.1 cm" in (store / "tank.py").read_text()
        tank = runpy.run_path(str(store / "tank.py"))["tank"]
        scale = 10 if arith == "int32" else 1
        assert tank(90) == pytest.approx(50 * scale)
        assert tank(125) == pytest.approx(15 * scale, abs=1e-9)
        assert tank(4001) is None
    refused = cli("export", "scale", "--to", "c", "-b", "store.toml")
    assert "a resolution and a range of up to 2^32 steps" in refused.stderr


@soak
def test_checked_fitted_compared_averaged_drawn(store: Path, cli: Cli) -> None:
    here = ("-b", "store.toml")
    check = json.loads(cli("check", *here, "--log", "store.csv", "--json").stdout)
    assert {f["severity"] for f in check["findings"]} <= {"note"}, check
    fit = cli("fit", "meter", "--mark", "2=2.02", "--mark", "3=3.03", *here, "--write")
    assert fit.returncode == 0, fit.stderr
    assert jr.load_bench(store / "store.toml")["meter"].ruler(2.5) == pytest.approx(2.525)
    same = cli("compare", "meter", "volts", "--log", "store.csv", *here)
    assert "offset" in same.stdout or "gain" in same.stdout
    mean = cli("choose", "averaging", "tank", "--at", "50", "--to", "0.5", *here)
    assert "1 cm is worth 10 %, and the noise is 0.2 cm" in mean.stdout
    for words in ("ruler tank", "curve tank --at 9", "stages shake", "budget tank --at 9"):
        assert cli("draw", *words.split(), *here, "-o", "p.svg").returncode == 0
    for words in ("log store.csv", "histogram store.csv tank shake"):
        assert cli("draw", *words.split(), *here, "-o", "p.svg").returncode == 0


@pytest.mark.parametrize(
    ("line", "says"),
    [
        (
            'input = { unit = "furlongz" }',
            'channel.a.input.unit: expected a unit, as in "V", "cm" or "m/s²", found \'furlongz\'',
        ),
        (
            'input = { unit = "V", range = [5, 1] }',
            "range: expected two numbers, the low one first, found [5, 1]",
        ),
        (
            'input = { unit = "V", resolution = 0 }',
            "resolution: expected a number above 0, found 0",
        ),
        ('input = { unit = "V", resolution = 5, range = [0, 5] }', "less than the range, 5"),
        ('input = { unit = "V" }\nconverter = { bits = 8 }', "either an input or a converter"),
        ("input = { resolution = 1 }", "input.unit: missing; an input needs it"),
        ('input = { unit = "V", bits = 12 }', "bits: unknown for an input"),
        ('input = { unit = "V", error = "3 cm" }', "expected a quantity in V"),
        (
            'input = { unit = "V" }\nlaws = [{ law = "shunt", ohms = 1, x = 2 }]',
            "unknown for shunt",
        ),
        ('input = { unit = "cm" }\nlaws = [{ law = "shunt", ohms = 1 }]', "gives cm, but shunt"),
        ("input = 3", "a table"),
    ],
)
def test_one_sentence_for_a_wrong_input(line: str, says: str) -> None:
    with pytest.raises(jr.errors.BenchError) as caught:
        parse_bench(f'[channel.a]\ncolumn = "x"\n{line}\n')
    assert says in str(caught.value)


def test_a_text_column_is_counted(store: Path, cli: Cli) -> None:
    (store / "text.csv").write_text("time_s,echo,volts,a,g\n0,wet,1,1,1\n1,dry,1,1,1\n")
    done = cli("convert", "text.csv", "-b", "store.toml", "-o", "o.csv", "--only", "tank")
    assert done.returncode == 2
    assert "not one number can be read in column echo" in done.stderr
    for drawn in (["log", "text.csv", "tank"], ["histogram", "text.csv", "tank"]):
        done = cli("draw", *drawn, "-b", "store.toml", "-o", "no.png")
        assert done.returncode == 2
        assert "text.csv: not one number can be read in" in done.stderr
        assert not (store / "no.png").exists()


@soak
def test_a_picture_reads_raw_values_as_explain_does(store: Path, cli: Cli) -> None:
    ends = ("--from", "20 mm", "--to", "1.2 m")
    for at, says in (
        ("12.5 cm", ""),
        ("4 m", "a raw value of tank, 2 to 120"),
        ("3 V", "a value in %, cm"),
    ):
        for picture in ("ruler", "curve", "stages"):
            done = cli(
                "draw", picture, "tank", "-b", "store.toml", *ends, "--at", at, "-o", "a.svg"
            )
            assert done.returncode == (2 if says else 0), done.stderr
            assert says in done.stderr


# Rails: (laws, what else the channel says, low rail is a fault, high rail is a fault).
LINE = '{{ law = "line", marks = [[{}, 0], [{}, 100]], unit = "%" }}'
CLAMP = '{ law = "clamp", low = 0, high = 100 }'
RAILS = [
    (f"laws = [{LINE.format(0, 1023)}, {CLAMP}]", False, False),  # wired from rail to rail
    (f"laws = [{LINE.format(3, 1020)}, {CLAMP}]", False, False),
    (f"laws = [{LINE.format(198, 900)}, {CLAMP}]", True, True),
    (f"laws = [{LINE.format(1023, 300)}, {CLAMP}]", True, False),  # dry soil reads 1023
    (f'laws = [{LINE.format(0, 1023)}]\nrails = "faults"', True, True),
    (f'laws = [{LINE.format(198, 900)}]\nrails = "ends"', False, False),
    ('laws = [{ law = "line", gain = 0.1, unit = "%" }]\nlimits = [0, 102.3]', False, False),
    ('laws = [{ law = "line", gain = 0.1, unit = "%" }]', True, True),  # nothing tells
    (f"converter = {{ bits = 16, codes = 10 }}\nlaws = [{LINE.format(0, 65472)}]", False, False),
]


@pytest.mark.parametrize(("lines", "low", "high"), RAILS)
def test_a_rail_is_an_end_or_a_fault(lines: str, low: bool, high: bool) -> None:
    drive = '[drive.d]\nfrom = "k"\nmarks = [[0, 10], [100, 20]]\nsafe = 99\nclamp = [0, 99]\n'
    trip = '[trip.t]\nany = [{ channel = "k", flagged = true }]\n'
    head = '[converter]\nbits = 10\nvref = 5\n[channel.k]\ncolumn = "x"\n'
    bench = parse_bench(f"{head}{lines}\n{drive}{trip}")
    edge = bench["k"].chain.edge
    assert edge is not None
    top = 65472 if "codes" in lines else 1023
    counts = np.array([0, 500 * (top // 1000 or 1), top])
    reading = bench["k"].read(counts)
    assert [bool(flag & jr.Flag.LOW_RAIL) for flag in reading.flags] == [True, False, False]
    assert [bool(flag & jr.Flag.HIGH_RAIL) for flag in reading.flags] == [False, False, True]
    decided = jr.Decisions(bench).add([0.0, 1.0, 2.0], {"k": reading})
    assert decided.safe["d"].tolist() == [low, False, high]
    assert decided.trips["t"].tolist() == [low, False, high]


@given(codes=st.integers(8, 12), repeated=st.booleans(), signed=st.booleans())
def test_left_scaled_results_have_their_rails_and_steps(
    codes: int, repeated: bool, signed: bool
) -> None:
    if repeated and signed:
        return
    shift = 16 - codes
    adc = jr.Adc(16, 3.3, signed=signed, codes=codes)
    assert adc.lsb == 2**shift
    top = (2 ** (codes - signed) - 1) << shift
    top |= (top >> codes) if repeated else 0
    flags = jr.Ruler((adc,)).read(np.array([top - 2**shift, top])).flags
    assert [bool(f & jr.Flag.HIGH_RAIL) for f in flags] == [False, True]
    if not repeated:
        assert adc(top) == pytest.approx(3.3)  # the top code reads the reference
    (row, *_) = jr.budget(jr.Ruler((adc,)), 1000).rows
    assert row.standard == pytest.approx(2**shift / 12**0.5)


@pytest.mark.parametrize(
    ("converter", "says"),
    [
        ("vref = -5", "converter.vref: expected a voltage above 0 V, found -5"),
        ("vref = 0", "converter.vref: expected a voltage above 0 V, found 0"),
        ("bits = 0", "converter.bits: expected a whole number from 1 to 32, found 0"),
        (
            "bits = 12\ncount_at_vref = -7",
            "converter.count_at_vref: expected a count above 0, found -7",
        ),
        (
            "bits = 12\ncodes = 13",
            "converter.codes: expected a whole number from 1 to 12, found 13",
        ),
    ],
)
def test_the_converter_is_checked_though_nothing_uses_it(converter: str, says: str) -> None:
    text = f'[converter]\n{converter}\n[channel.a]\ncolumn = "x"\ninput = {{ unit = "V" }}\n'
    with pytest.raises(jr.errors.BenchError) as caught:
        parse_bench(text)
    assert says in str(caught.value)


def test_a_converter_in_a_list_has_what_the_file_says() -> None:
    bench = parse_bench(
        '[converter]\nbits = 10\nvref = "5 V"\nerror_lsb = 2\n[channel.a]\ncolumn = "x"\n'
        'laws = [{ law = "adc", vref = "2.5 V" }]\n[channel.b]\ncolumn = "y"\n'
        'laws = [{ law = "counts" }, { law = "line", gain = 2 }]\n'
    )
    assert bench["a"].chain.laws == (jr.Adc(10, 2.5, error_lsb=2),)
    assert bench["b"].chain.laws[0] == jr.Counts(10, error_lsb=2)


def test_loaded_dividers_by_kirchhoff() -> None:
    """An open sensor beside a load is the high rail though the pin is below the half; current and
    power come from the loaded circuit."""
    divider = jr.Divider(10e3, "lower", supply=3.3, load=6e3)
    open_pin = 3.3 * 6 / 16
    assert jr.Ruler((divider,)).read(open_pin + 1e-3).flags & jr.Flag.HIGH_RAIL
    assert jr.Ruler((divider,)).read(0.0).flags & jr.Flag.LOW_RAIL
    ruler = jr.Adc(12, 3.3) >> divider >> jr.Beta(10e3, 3435)
    choice = jr.choose_resistor(jr.Channel("t", ruler, "x"), 0, 50)
    known = choice.present.known
    ohms = np.array([float(jr.Beta(10e3, 3435).inverse(np.array([t]))[0]) for t in range(51)])
    leg = ohms * 6e3 / (ohms + 6e3)
    amps = 3.3 / (known + leg)
    assert choice.present.current == pytest.approx(amps.max(), rel=1e-3)
    assert choice.present.power == pytest.approx(((amps * leg) ** 2 / ohms).max(), rel=1e-3)


def test_on_and_off_is_no_rail(store: Path, cli: Cli) -> None:
    assert jr.Ruler((jr.Counts(1),)).read([0, 1]).flags == [0, 0]
    rows = [f"{i},{i // 7 % 2}" for i in range(200)]
    (store / "digital.csv").write_text("\n".join(["time_s,door", *rows]) + "\n")
    assert "rail" not in cli("look", "digital.csv").stdout


def test_no_unit_at_all() -> None:
    bench = parse_bench(
        '[channel.a]\ncolumn = "x"\ninput = { unit = "m/s²" }\n'
        'laws = [{ law = "line", gain = 0.10197, unit = "1" }]\n'
    )
    assert bench["a"].output_column == "a"
    assert bench["a"].shown(2.0) == "2"
    marks = '[["0 m/s²", 0], ["9.81 m/s²", "20 psi"]]'
    told = parse_bench(
        f'[channel.a]\ncolumn = "x"\ninput = {{ unit = "m/s²" }}\n'
        f'laws = [{{ law = "line", marks = {marks} }}]\n'
    )
    assert (told["a"].unit, told["a"].ruler(9.81)) == ("psi", 20.0)


def test_a_drive_says_why_it_is_safe() -> None:
    bench = parse_bench(
        "[converter]\nbits = 10\n[channel.k]\ncolumn = 1\n"
        f"laws = [{LINE.format(100, 900)}, {CLAMP}]\n"
        '[trip.low]\nany = [{ channel = "k", below = 5 }]\n'
        '[drive.d]\nfrom = "k"\nmarks = [[0, 10], [100, 20]]\nsafe = 99\nclamp = [0, 99]\n'
        'safe_when = ["low"]\n'
    )
    station = StreamProcessor(bench, jr.LogFormat())
    for line, why in (("500", ""), ("1023", "k high_rail"), ("101", "trip low"), ("500", "")):
        station.take(f"{line}\n".encode(), np.array([0.0]), 0.0)
        station.settle()
        assert station.why_safe("d") == why


def test_a_bench_from_a_log_of_both_kinds(store: Path, cli: Cli) -> None:
    done = cli("new", "made.toml", "--from", "store.csv")
    assert done.returncode == 0, done.stderr
    made = jr.load_bench(store / "made.toml")
    assert isinstance(made["g"].chain.edge, jr.Adc)
    assert made["echo"].chain.edge == jr.Input("1", resolution=0.1)
    assert cli("convert", "store.csv", "-b", "made.toml", "-o", "out.csv").returncode == 0
    drawn = cli("draw", "ruler", "scale", "--from", "0", "--to", "3000", "-b", "store.toml")
    assert drawn.returncode == 0, drawn.stderr
    refused = cli("draw", "curve", "g", "--from", "0", "-b", "made.toml")
    assert "--from and --to are for inputs" in refused.stderr


def test_a_knob_that_saturates_is_said(store: Path, cli: Cli) -> None:
    at = np.interp(np.arange(3000), [0, 600, 1200, 1800, 2400, 3000], [0, 0, 1, 1, 0, 0])
    counts = np.clip(np.round(300 + 4200 * at), 0, 4095).astype(int)
    rows = [f"{i},{count}" for i, count in enumerate(counts)]
    (store / "knob.csv").write_text("\n".join(["time_s,knob", *rows]) + "\n")
    said = cli("look", "knob.csv", "--ends", "knob").stderr
    assert "it rests on the rail at 4095: it saturates before its stop" in said
