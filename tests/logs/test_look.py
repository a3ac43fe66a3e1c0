"""`look`, `new`, `draw log` and `draw histogram` through the installed command and from Python."""

from __future__ import annotations

import json
import math
import tomllib
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa
import pytest
from scipy.signal import lfilter

import jetruler as jr
from jetruler import JetRulerError, load_bench, look, survey
from jetruler.benchfile.starter import KINDS
from jetruler.errors import LogError
from jetruler.logs.pairs import read_series
from jetruler.samples.source import LogSource
from jetruler.show.figures import draw_histogram, draw_log
from jetruler.show.style import new_figure
from tests.conftest import Cli
from tests.helpers.sizes import few, sizes, soak

#: What the demo hides, and how `look` says it.
FINDINGS = [
    "error   bean: is on its high rail (4095) for 10 samples (2 s), from line 2062",
    "if it comes and goes, a loose connector",
    "warning exhaust: 3 of 4200 samples are missing",
    "warning rail: falls below its limit of 10.8 V for 86 samples (17.2 s), as far as 9.74 V",
    "note    hopper: all codes are multiples of 16: results of 12 bits, left-scaled to 16 bits",
    "note    tray: is quiet",
    "It needs no averaging",
]


def test_look_finds_in_words_what_the_demo_hides(cli: Cli) -> None:
    done = cli("look", "roast.csv", "-b", "bench.toml")
    assert done.returncode == 0, done.stderr
    for says in FINDINGS:
        assert says in done.stdout
    assert "time_s: every 0.2 s" in done.stdout
    assert "ignored, not counts: note" in done.stdout
    order = [
        line.split()[0]
        for line in done.stdout.splitlines()
        if line[:5] in ("error", "warni", "note ")
    ]
    assert order == sorted(order, key=["error", "warning", "note"].index)


def test_look_as_json_against_pandas(cli: Cli, home: Path) -> None:
    found = json.loads(cli("look", "roast.csv", "--json").stdout)
    frame = pd.read_csv(home / "roast.csv")
    for i, name in enumerate(["bean", "bean2", "damper", "exhaust", "draught", "rail", "tray"]):
        column = frame[f"ch{i}"]
        v = found["columns"][name]
        assert v["column"] == f"ch{i}"
        assert (v["smallest"], v["largest"]) == (column.min(), column.max())
        assert v["mean"] == pytest.approx(column.mean(), rel=1e-12)
        assert v["standard_deviation"] == pytest.approx(column.std(), rel=1e-9)
        assert (v["distinct"], v["missing"]) == (column.nunique(), column.isna().sum())
    assert found["columns"]["rail"]["noise"] == pytest.approx(1.4, rel=0.05)
    assert found["time"]["interval"] == pytest.approx(0.2)


def test_ends_are_printed_and_written(cli: Cli, home: Path) -> None:
    before = (home / "bench.toml").read_text()
    printed = cli("look", "roast.csv", "--ends", "damper")
    assert printed.stdout == "marks = [[205, 0], [3896, 100]]\n"
    assert (home / "bench.toml").read_text() == before
    backward = cli("look", "roast.csv", "--ends", "damper", "--reversed", "--margin", "10")
    assert backward.stdout == "marks = [[208, 100], [3894, 0]]\n"
    written = cli("look", "roast.csv", "--ends", "damper", "--write")
    assert "- marks = [[198, 0], [3904, 100]]\n+ marks = [[205, 0], [3896, 100]]" in written.stdout
    after = (home / "bench.toml").read_text()
    assert after == before.replace("[[198, 0], [3904, 100]]", "[[205, 0], [3896, 100]]")
    cli("convert", "roast.csv", "-o", "out.csv", "--only", "damper")
    out = pd.read_csv(home / "out.csv")["damper_percent"]
    assert (out[:90] == 0.0).all()  # both ends are really reached, in spite of the noise
    assert (out[-300:] == 100.0).all()


LOGS = {
    "empty.csv": "",
    "header.csv": "time_s,ch0\n",
    "text.csv": "a,b\nx,y\nz,w\n",
    "still.csv": "time_s,k\n" + "".join(f"{i},700\n" for i in range(50)),
    "one.csv": "time_s,k\n0,7\n",
    "missing.csv": "time_s,k,x\n" + "".join(f"{i},,{i}\n" for i in range(50)),
    "back.csv": "time_s,k\n" + "".join(f"{t},{t * 7 % 50}\n" for t in [*range(20), *range(5, 25)]),
    "repeat.csv": "time_s,k\n" + "".join(f"{i // 2},{i}\n" for i in range(20)),
    "gap.csv": "time,k\n" + "".join(f"2026-01-01T00:0{m}:00Z,{m}\n" for m in (0, 1, 2, 3, 7, 8)),
}


@pytest.mark.parametrize(
    ("name", "says"),
    [
        ("still.csv", "every sample is 700. Move the sensor while logging"),
        ("one.csv", "1 sample: too few to estimate"),
        ("back.csv", "time steps back 1 time, first at line 22"),
        ("repeat.csv", "10 samples with the time of the one before"),
        (
            "gap.csv",
            "time: 1 gap of more than 1.5 usual intervals, the longest 240 s, first at line 6",
        ),
    ],
)
def test_odd_logs_are_told_in_words(cli: Cli, home: Path, name: str, says: str) -> None:
    (home / name).write_text(LOGS[name])
    (home / "bench.toml").unlink()
    done = cli("look", name)
    assert done.returncode == 0, done.stderr
    assert says in done.stdout


@pytest.mark.parametrize(
    ("args", "says"),
    [
        (["look", "none.csv"], "no such file"),
        (["look", "empty.csv"], "expected a log, found an empty file"),
        (
            ["look", "header.csv", "-b", "none.toml"],
            "none.toml: expected a bench file, found none; name one with --bench",
        ),
        (["look", "text.csv"], "expected a column of counts, found none among"),
        (["look", "roast.csv", "--ends", "dampr"], "did you mean 'damper'?"),
        (["look", "roast.csv", "--write"], "expected --ends CHANNEL too"),
        (
            ["look", "roast.csv", "--ends", "rail", "--margin", "5000"],
            "margin: expected less than half the travel of 656, found 5000.0",
        ),
        (
            ["look", "roast.csv", "--ends", "rail", "--margin", "-1"],
            "margin: expected 0 or more, found -1.0",
        ),
        (
            ["look", "roast.csv", "--ends", "rail", "--margin", "nan"],
            "margin: expected 0 or more, found nan",
        ),
        (
            ["look", "roast.csv", "--ends", "bean", "--write"],
            "channel.bean: expected a line with marks to put these into",
        ),
        (["draw", "log", "none.csv"], "no such file"),
        (["draw", "log", "roast.csv", "baen"], "did you mean 'bean'?"),
        (["draw", "histogram", "roast.csv", "baen"], "did you mean 'bean'?"),
        (
            ["draw", "log", "roast.csv", "-o", "x.gif"],
            "expected .png or .svg, found another ending",
        ),
        (["new"], "bench.toml: expected a new file, found one"),
        (["new", "x.toml", "--channel", "bean"], "NAME=KIND"),
        (["new", "x.toml", "--channel", "bean=ntv"], "did you mean 'ntc'?"),
        (["new", "no/x.toml"], "expected a folder no, found none"),
        (
            ["new", "x.toml", "--vref", "warm"],
            '--vref: expected a quantity, as in "4k7", "4.7 kohm", "3.3 V ± 1 %" or "25 degC"',
        ),
        (["new", "x.toml", "--from", "empty.csv"], "expected a log, found an empty file"),
        (["new", "x.toml", "--channel", "my bean=ntc"], "NAME=KIND"),
    ],
)
def test_bad_input(cli: Cli, home: Path, args: list[str], says: str) -> None:
    for name in ("empty.csv", "header.csv", "text.csv"):
        (home / name).write_text(LOGS[name])
    before = sorted(p.name for p in home.iterdir())
    done = cli(*args)
    assert (done.returncode, done.stdout) == (2, "")
    assert says in done.stderr
    assert done.stderr.startswith("jetruler: ")
    assert sorted(p.name for p in home.iterdir()) == before


def test_nothing_moved_and_read_only(cli: Cli, home: Path) -> None:
    (home / "still.csv").write_text(LOGS["still.csv"])
    still = cli("look", "still.csv", "--ends", "k", "-b", "bench.toml")
    assert (still.returncode, "there is no column" in still.stderr) == (2, True)
    (home / "bench.toml").rename(home / "other.toml")
    still = cli("look", "still.csv", "--ends", "k")
    assert still.returncode == 2
    assert "k: nothing moved: the samples span 0 counts" in still.stderr


@few
@pytest.mark.parametrize("size", [64, 1000, 10**6])
def test_blocks_change_nothing(home: Path, size: int, monkeypatch: pytest.MonkeyPatch) -> None:
    bench = load_bench(home / "bench.toml")
    whole = look(home / "roast.csv", bench)
    monkeypatch.setattr(LogSource.blocks, "__defaults__", (size,))
    again = look(home / "roast.csv", bench)
    assert repr(again.columns) == repr(whole.columns)
    assert again.findings == whole.findings
    assert again.time == whole.time


def test_all_missing_and_fractional_columns(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text(LOGS["missing.csv"])
    found = look(tmp_path / "a.csv")
    assert list(found.columns) == ["x"]
    (tmp_path / "b.csv").write_text("k\n" + "".join(f"{i}\n" for i in range(30)) + "1.5\nx\n\n2\n")
    found = look(tmp_path / "b.csv")
    column = found.columns["k"]
    assert (column.fractional, column.unreadable, column.empty) == (1, 0, 1)
    assert found.noise == "1 line was no sample: other text 1 (the first: 'x')"
    (tmp_path / "c.csv").write_text(LOGS["text.csv"])
    with pytest.raises(LogError, match="expected a column of counts, found none among a, b"):
        look(tmp_path / "c.csv")


def test_new_from_a_log_passes_convert_as_it_stands(cli: Cli, home: Path) -> None:
    args = ["--from", "roast.csv", "--channel", "ch0=ntc", "--channel", "ch2=knob"]
    assert cli("new", "mine.toml", *args).returncode == 0
    text = (home / "mine.toml").read_text()
    table = tomllib.loads(text)
    assert table["converter"]["bits"] == 12
    assert list(table["channel"]) == [f"ch{i}" for i in range(8)]
    assert table["channel"]["ch7"]["converter"] == {"bits": 16, "codes": 12}
    assert table["channel"]["ch2"]["laws"][0]["marks"] == [[198, 0], [3904, 100]]
    assert text.count("a guess") == 3
    assert cli("convert", "roast.csv", "-b", "mine.toml", "-o", "o.csv").returncode == 0
    assert len(pd.read_csv(home / "o.csv")) == 4200


def test_new_kinds_pass_convert_too(cli: Cli, home: Path) -> None:
    kinds = [f"--channel=c{i}={kind}" for i, kind in enumerate(KINDS)]
    files = {f"new{i}.toml": kinds[i : i + 6] for i in range(0, len(kinds), 6)} | {"plain.toml": []}
    for name, some in files.items():
        assert cli("new", name, *some).returncode == 0
        done = cli("convert", "roast.csv", "-b", name, "-o", f"{name}.csv")
        assert done.returncode == 0, done.stderr
        assert len(pd.read_csv(home / f"{name}.csv")) == 4200


@soak
def test_pictures_of_a_log(cli: Cli, home: Path) -> None:
    assert cli("draw", "log", "roast.csv", "bean", "rail").stdout == "log-roast.png\n"
    words = "draw histogram roast.csv rail bean tray -o s.svg"
    assert cli(*words.split()).stdout == "s.svg\n"
    bench = load_bench(home / "bench.toml")
    (series,) = read_series(home / "roast.csv", [bench["rail"]])
    axes = draw_log(new_figure().add_subplot(), series.channel, series.at, series.raw, series.value)
    drawn = np.asarray(axes.lines[0].get_ydata())
    frame = pd.read_csv(home / "roast.csv")
    exact = bench["rail"].ruler(frame["ch5"].to_numpy())
    assert (np.nanmin(drawn), np.nanmax(drawn)) == (exact.min(), exact.max())
    assert [t.get_text() for t in axes.texts] == ["below"]
    assert len(axes.patches) >= 1
    survey = look(home / "roast.csv", bench).columns["rail"].survey
    spread = draw_histogram(new_figure().add_subplot(), "rail", survey)
    assert "ends 2827 and 3483, median 3445" in spread.get_title("left")


def test_a_constant_has_no_effective_bits(cli: Cli, home: Path) -> None:
    (home / "bench.toml").unlink()
    (home / "c.csv").write_text("t,x\n0,7\n1,7\n2,7\n3,7\n")
    assert "nan" not in cli("look", "c.csv").stdout
    found = json.loads(cli("look", "c.csv", "--json").stdout)
    assert found["columns"]["x"]["effective_bits"] is None


@few
@pytest.mark.parametrize("memory", [0.0, 0.8])
@pytest.mark.parametrize("sets", sizes(40, 400))
def test_the_interval_of_a_mean_holds_the_truth(memory: float, sets: int) -> None:
    """95 % of the intervals, within three standard deviations; in blocks too."""
    from jetruler.core.survey.surveyor import Surveyor

    random, held, n = np.random.RandomState(1), 0, 3000
    for _ in range(sets):
        noise = lfilter([1], [1, -memory], 5 * random.standard_normal(n + 100))[100:]
        surveyor = Surveyor()
        for part in np.array_split(np.rint(1880.3 + noise).astype(np.int64), 7):
            surveyor.add(part)
        found = surveyor.survey((0, 4095))
        held += abs(found.mean - 1880.3) <= found.known.half_width
        alike = n / found.known.independent
        assert alike == pytest.approx((1 + memory) / (1 - memory), rel=0.7)
    assert held / sets == pytest.approx(0.95, abs=3 * math.sqrt(0.0475 / sets) + 0.01)


def test_the_mean_of_a_long_column_is_known_from_blocks(monkeypatch: pytest.MonkeyPatch) -> None:
    """Sums of blocks tell the same as the samples, and batches do not matter."""
    from jetruler.core.survey import running_statistics as means

    counts = np.rint(2000 + 9 * np.random.RandomState(2).standard_normal(20_011)).astype(np.int64)
    found = []
    for most, parts in ((1 << 15, 1), (500, 1), (500, 13)):
        monkeypatch.setattr(means, "MOST", most)
        sums = means.BlockSums()
        for part in np.array_split(counts, parts):
            sums.add(part)
        found.append(sums.known(float(counts.std()), (0, 4095), 1.0))
    assert found[1] == found[2]
    assert found[1].half_width == pytest.approx(found[0].half_width, rel=0.2)
    assert found[0].half_width == pytest.approx(1.97 * 9 / math.sqrt(counts.size), rel=0.1)


def test_look_has_what_a_lab_report_asks_for(cli: Cli, home: Path) -> None:
    """Two thousand readings of a thermistor at rest: each converted by itself, then averaged."""
    counts = np.rint(1880 + 4 * np.random.RandomState(3).standard_normal(2000)).astype(int)
    lines = [f"{0.2 * i:.1f},{n}" for i, n in enumerate(counts)]
    (home / "lab.csv").write_text("time_s,ch0\n" + "\n".join(lines) + "\n")
    bench = (home / "bench.toml").read_text()
    (home / "lab.toml").write_text(bench[: bench.index("[channel.bean2]")])
    data = json.loads(cli("look", "lab.csv", "-b", "lab.toml", "--json").stdout)["columns"]["bean"]
    values = np.asarray(load_bench(home / "lab.toml")["bean"].ruler(counts))
    own = data["in_unit"]
    assert own["samples"] == 2000
    assert own["mean"] == pytest.approx(values.mean(), rel=1e-12)
    assert own["standard_deviation"] == pytest.approx(values.std(ddof=1), rel=1e-9)
    by_hand = 1.96 * values.std(ddof=1) / math.sqrt(2000)
    assert own["mean_half_width"] == pytest.approx(by_hand, rel=0.2)
    shown = cli("look", "lab.csv", "-b", "lab.toml").stdout
    assert "time_s: every 0.2 s (5 Hz)" in shown
    assert f"({values.mean():.4f} ± " in shown


def test_a_bench_that_nobody_named_refuses_no_log(cli: Cli, home: Path) -> None:
    done = cli("look", "rest.csv")
    assert done.returncode == 0
    assert done.stdout.startswith("600 rows")
    assert "ignored bench.toml, which belongs to another log: rest.csv: there" in done.stderr
    assert cli("look", "rest.csv", "--ends", "ch0").stdout.startswith("marks = [[")
    for named in (("-b", "bench.toml"), ("--ends", "damper", "--write")):
        assert "there is no column 'ch2'" in cli("look", "rest.csv", *named).stderr


def test_a_misread_number_of_any_size_stops_nothing(cli: Cli, home: Path) -> None:
    (home / "odd.csv").write_text("t,a\n0,1.5\n1,1e308\n2,-1e308\n3,2.5\n4,3e-300\n")
    done = cli("look", "odd.csv")
    assert done.returncode == 0, done.stderr
    assert "5 rows" in done.stdout


def test_numbers_that_are_far_apart_are_all_printed() -> None:
    """A few samples of any size beside each other: no format fails, none is a not-a-number."""
    random = np.random.default_rng(38)
    for number in range(150):
        size = int(random.integers(2, 12))
        powers = 10.0 ** random.uniform(-15, 18, size).round(number % 2 * 3)
        samples = random.choice([0, 1, -1, 3, 5.5], size) * powers
        with np.errstate(all="raise", under="ignore"):
            text = str(look(samples))
        assert "nan" not in text, text
        assert " inf" not in text, text


def test_what_is_in_memory_is_looked_at_as_its_log(home: Path) -> None:
    """Frames of every kind, with rows in the place of lines."""
    bench, log = load_bench(home / "bench.toml"), home / "roast.csv"
    expected, frame = look(log, bench), pd.read_csv(log)
    for given in (frame, pl.from_pandas(frame), pa.Table.from_pandas(frame)):
        found = look(given, bench)
        assert {n: c.survey for n, c in found.columns.items()} == {
            n: c.survey for n, c in expected.columns.items()
        }
        assert [f.rule for f in found.findings] == [f.rule for f in expected.findings]
        assert "from row 2061" in str(found.findings[0])


@pytest.mark.parametrize(
    "given",
    [
        [512, None, 514, 513] * 20,
        np.array([512, np.nan, 514, 513] * 20),
        np.ma.masked_equal([512, 7, 514, 513] * 20, 7),
        pd.Series([512, None, 514, 513] * 20, dtype="Int64"),
        pl.Series("1", [512, None, 514, 513] * 20),
        pd.Series([512, pd.NA, 514, 513] * 20, dtype=object),
    ],
    ids=lambda g: type(g).__name__,
)
def test_numbers_with_gaps_are_looked_at(given: Any) -> None:
    for found in (look(given).columns["1"].survey, survey(given, 10)):
        assert (found.rows, found.missing, found.mean) == (80, 20, 513)


@pytest.mark.parametrize(
    "given", [5, {1: 2}, object(), ["a", "b"], [], pd.DataFrame(), np.zeros((2, 3, 4))]
)
def test_what_is_no_log_is_refused_in_a_sentence(given: Any) -> None:
    with pytest.raises(JetRulerError, match=r"expected (a frame|numbers|rows|an array)"):
        look(given)


def test_the_parts_leave_their_own_uncertainty_in_the_unit_and_at_each_joint() -> None:
    """A reference of ± 1 %, as an even distribution: 1.96 · 1 % / √3 of any value behind it."""
    rail = jr.Channel("rail", jr.Adc(12, "3.3 V ± 1 %") >> jr.Line(gain=4, unit="V", takes="V"), 1)
    found = jr.look(np.tile([2000, 2002, 2001], 40), jr.Bench("b", [rail])).columns["rail"]
    mean = 2001 * 3.3 / 4095
    allowed = 1.96 * 0.01 / np.sqrt(3)
    assert found.figures()["in_unit"]["parts_half_width"] == pytest.approx(4 * mean * allowed, 1e-3)
    volts, value = found.in_every_unit()
    assert volts[3] == value[3].replace(
        value[3].split()[1], volts[3].split()[1]
    )  # the same percent
    assert volts[3].startswith(f"± {mean * allowed:.3f} V (1.1 %)")
    bare = jr.look(np.tile([2000, 2002, 2001], 40)).columns["1"]
    assert bare.mean_row()[-1] == "–"
