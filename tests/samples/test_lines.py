"""Any line a board prints is read the same by every command, and no line is lost without a word."""

from __future__ import annotations

import io
import json
import os
import random
import re
import threading
import time
import tty
import warnings
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import polars as pl
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

import jetruler as jr
from jetruler.samples import passes
from jetruler.samples.opening import open_log
from jetruler.samples.source import LogReader
from tests.conftest import Cli
from tests.helpers.line_forms import FORMS, LineForm, bench_of
from tests.helpers.sizes import few, sizes, soak, thinned

VALUES = ["512", "514", "513", "515", "600"]
EVERY_FORM = pytest.mark.parametrize("form", FORMS, ids=[form.name for form in FORMS])
#: Each fifth form, and all of them on request.
SOME_FORMS = pytest.mark.parametrize("form", thinned(FORMS, 5), ids=[form.name for form in FORMS])
#: A value in volts, or that it is missing.
Sample = float | None


def converted(home: Path, bench: jr.Bench, log: str = "log.txt") -> list[Sample]:
    jr.convert(home / log, bench, home / "out.jsonl")
    lines = (home / "out.jsonl").read_text().splitlines()
    return [json.loads(line)["k_V"] for line in lines]


def streamed(source: str | list[str], bench: jr.Bench, most: int = 10**6) -> list[Sample]:
    found: list[Sample] = []
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        samples = jr.stream(source, bench, duration=60)
        for sample in samples:
            value = sample.values["k"]
            found.append(None if value != value else round(value, 6))
            if len(found) == most:
                break
        samples.close()
    return found


def live(cli: Cli, *args: str, stdin: str | None = None) -> list[Sample]:
    done = cli("live", "--json", *args, **({} if stdin is None else {"stdin": stdin.encode()}))
    assert done.returncode == 0, done.stderr
    return [json.loads(line)["k"] for line in done.stdout.splitlines()]


def from_port(lines: list[str], bench: jr.Bench, samples: int) -> list[Sample]:
    """A pseudo-terminal is the board; whoever joins late misses the line that is under way. It says
    all again until it is heard: what comes before a port is open is lost."""
    ours, theirs = os.openpty()
    tty.setraw(theirs)
    text = "".join(f"{line}\n" for line in [lines[-1], *lines]).encode()
    heard = threading.Event()

    def speak() -> None:
        while not heard.wait(0.2):
            os.write(ours, text)

    board = threading.Thread(target=speak)
    board.start()
    try:
        return streamed(os.ttyname(theirs), bench, samples)
    finally:
        heard.set()
        board.join()
        os.close(ours)
        os.close(theirs)


def roads(
    cli: Cli, home: Path, form: LineForm, values: list[str]
) -> Iterator[tuple[str, list[Sample]]]:
    """What each road makes of a form."""
    lines = form.text(values)
    text = "".join(f"{line}\n" for line in lines)
    (home / "bench.toml").write_text(bench_of(form))
    (home / "log.txt").write_text(text, newline="")
    bench = jr.load_bench(home / "bench.toml")
    yield "convert", converted(home, bench)
    yield "stream", streamed(lines, bench)
    yield "live, a file", live(cli, "--source", "log.txt")
    yield "live, a pipe", live(cli, stdin=text)
    yield "live, a port", from_port(lines, bench, len(values))


@few
@EVERY_FORM
def test_each_form_on_every_road(cli: Cli, home: Path, form: LineForm) -> None:
    wanted = [int(value) / 1000 for value in VALUES]
    for road, found in roads(cli, home, form, VALUES):
        assert found == wanted, road
    look = jr.look(home / "log.txt", jr.load_bench(home / "bench.toml"))
    survey = look.columns["k"].survey
    assert (look.rows, survey.smallest, survey.largest) == (5, 512, 600)


SPELLED = {
    "small": ["5.12e-10", "5.14E-10", "5.13e-10", "6e-10", "-5.1e-10"],
    "large": ["5.12e+5", "5.14E5", "5.13e05", "6e5", "5.1e6"],
    "points": [".512", "-.514", "+.513", "515.", "0.6"],
    "hexadecimal": ["0x200", "0X202", "0x1ff", "0x3E5", "0xE5"],
}


@pytest.mark.parametrize("spelled", SPELLED)
@EVERY_FORM
def test_each_spelling_of_a_number_in_each_form(
    tmp_path: Path, form: LineForm, spelled: str
) -> None:
    """To its last digit, and its exponent: what is behind a number may be its unit, or a part of
    it."""
    if spelled == "hexadecimal" and ("unit" in form.name or form.name == "JSON object"):
        return  # 0x200C is another number, and JSON has none of this kind
    values = SPELLED[spelled]
    wanted = [float.fromhex(v) if "x" in v.lower() else float(v) for v in values]
    laws = [jr.Input("A"), jr.Line(1, takes="A", unit="A")]
    bench = jr.Bench("Currents", (jr.Channel("k", jr.Ruler(tuple(laws)), form.column),))
    text = "".join(f"{line}\n" for line in form.text(values))
    (tmp_path / "log.txt").write_text(text, newline="")
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        streamed = [sample.values["k"] for sample in jr.stream(form.text(values), bench)]
        survey = jr.look(tmp_path / "log.txt", bench).columns["k"].survey
    assert streamed == wanted
    assert (survey.rows, survey.missing) == (5, 0)
    assert survey.smallest == pytest.approx(min(wanted), rel=1e-12)
    assert survey.largest == pytest.approx(max(wanted), rel=1e-12)


COMMAS = {
    "semicolons": "7;{}", "tabs": "7\t{}", "a header": "a;k\n7;{}", "pairs": "a=7;k={}",
    "pairs: units": "a: 7,5 V; k: {} mA", "units on the values": "a=7V;k={}A",
    "cells with units": "7 V;{} A",
}  # fmt: skip


@pytest.mark.parametrize("form", COMMAS)
@pytest.mark.parametrize("values", [["5,12", "5,14", "-5,3"], ["5,1e-9", "-2,25E+3", "3,5e7"]])
def test_each_spelling_with_a_decimal_comma(form: str, values: list[str]) -> None:
    head, _, line = COMMAS[form].rpartition("\n")
    text = "\n".join(filter(None, [head, *(line.format(value) for value in values)])) + "\n"
    found = jr.look(text.encode())
    assert "decimal commas" in found.line_format
    wanted = [float(value.replace(",", ".")) for value in values]
    survey = list(found.columns.values())[-1].survey
    assert (survey.rows, survey.missing) == (3, 0)
    assert survey.smallest == pytest.approx(min(wanted), rel=1e-12)
    assert survey.mean == pytest.approx(sum(wanted) / 3, rel=1e-12)


@few
@SOME_FORMS
def test_what_is_missing_is_missing_on_every_road(cli: Cli, home: Path, form: LineForm) -> None:
    values = ["512", "514", *form.missing, "515"]
    wanted = [0.512, 0.514, *(None for _ in form.missing), 0.515]
    for road, found in roads(cli, home, form, values):
        assert found == wanted, road


@few
@SOME_FORMS
def test_a_record_comes_back(cli: Cli, home: Path, form: LineForm) -> None:
    """The same bench, the same values, flags and turns of trips, by every command."""
    values = [*VALUES, form.missing[0], *VALUES]
    wanted = [None if not v.isdecimal() else int(v) / 1000 for v in values]
    (home / "bench.toml").write_text(bench_of(form))
    text = "".join(f"{line}\n" for line in form.text(values))
    (home / "log.txt").write_text(text, newline="")
    bench = jr.load_bench(home / "bench.toml")
    assert live(cli, "--source", "log.txt", "--record", "rec.txt", "--events", "a.csv") == wanted
    assert live(cli, "--source", "rec.txt", "--events", "b.csv") == wanted
    jr.convert(home / "rec.txt", bench, home / "o.csv", events=home / "c.csv")
    turns = [
        [line.split(",", 1)[1] for line in (home / name).read_text().splitlines()]
        for name in ("a.csv", "b.csv", "c.csv")
    ]
    assert turns[0] == turns[1] == turns[2]
    assert len(turns[0]) == 3
    assert converted(home, bench, "rec.txt") == wanted
    assert jr.look(home / "rec.txt", bench).rows == len(values)
    assert cli("report", "--log", "rec.txt", "-o", "r.md").returncode == 0
    pairs = jr.read_pairs(home / "rec.txt", bench["k"], bench["k"])
    assert [round(v, 6) for v in pairs.a.tolist()] == [v for v in wanted if v is not None]


def made_up(rng: random.Random, form: LineForm) -> tuple[list[str], list[Sample], int]:
    """Lines of a form with bad cells and noise between; their samples; and what is no sample."""
    values = [str(rng.randrange(4096)) for _ in range(rng.randrange(4, 40))]
    for i in range(2, len(values)):
        if rng.random() < 0.15:
            values[i] = rng.choice(form.missing)
    lines, noise = form.text(values), 0
    for _ in range(rng.randrange(4)):
        place = rng.randrange(3, len(lines) + 1)
        kind = rng.choice(["Sensor ready", "# a remark", "Calibrating ..."])
        lines.insert(place, kind)
        noise += not kind.startswith("#")
    samples = [None if not v.isdecimal() else int(v) / 1000 for v in values]
    return lines, samples, noise


@pytest.mark.parametrize("logs", sizes(50, 2000))
def test_no_line_is_lost_without_a_word(tmp_path: Path, logs: int) -> None:
    rng = random.Random(35)
    for _ in range(logs):
        form = rng.choice(FORMS)
        lines, samples, noise = made_up(rng, form)
        bench = jr.parse_bench(bench_of(form))
        summary = jr.convert(_file(tmp_path, lines), bench, tmp_path / "out.jsonl")
        found = [
            json.loads(line)["k_V"] for line in (tmp_path / "out.jsonl").read_text().splitlines()
        ]
        assert found == samples, (form.name, lines)
        assert streamed(lines, bench) == samples, (form.name, lines)
        assert summary.rows == len(samples)
        said = f"{noise} line"
        assert summary.noise.startswith(said) if noise else not summary.noise, summary.noise


def _file(folder: Path, lines: list[str]) -> Path:
    path = folder / "log.txt"
    path.write_text("".join(f"{line}\n" for line in lines), newline="")
    return path


@pytest.mark.parametrize("form", FORMS[:12], ids=[form.name for form in FORMS[:12]])
def test_in_memory_as_in_a_file(form: LineForm) -> None:
    text = "".join(f"{line}\n" for line in form.text(VALUES))
    bench = jr.parse_bench(bench_of(form))
    file = io.BytesIO(text.encode())
    rows = [jr.look(source, bench).rows for source in (text.encode(), file, io.StringIO(text))]
    assert rows == [5, 5, 5]
    assert not file.closed


SAID = [
    (["512", "513"], "one number, no header (column 1)"),
    (["731 12", "732 13"], "2 cells separated by blanks, no header (columns 1 … 2)"),
    (["A0:1 A1:2", "A0:2 A1:3"], "names with values (A0, A1)"),
    (["Distance 47 cm", "Distance 48 cm"], "the numbers in “Distance…cm”"),
    (["(1, 2)", "(3, 4)"], "2 cells separated by commas in brackets, no header (columns 1 … 2)"),
    (["12:00:01 -> 5", "12:00:02 -> 6"], "a time and one number, no header (columns 1 … 2)"),
    (
        ["12:00:01 -> 5,7", "12:00:02 -> 6,8"],
        "a time and 2 cells separated by commas, no header (columns 1 … 3)",
    ),
    (
        ["5 V;40 %", "6 V;41 %"],
        "2 cells separated by semicolons, no header (columns 1 … 2), with units behind numbers "
        "(V, %)",
    ),
    (["a b", "1 2", "3 4"], "2 cells separated by blanks, below a header"),
    (["a,b", "1,2", "3,4"], ""),
    (['{"a": 1}', '{"a": 2}'], ""),
]


@pytest.mark.parametrize(("lines", "says"), SAID, ids=[lines[0] for lines, _ in SAID])
def test_the_form_is_said(lines: list[str], says: str) -> None:
    assert jr.look("\n".join(lines).encode() + b"\n").line_format == says


def test_prose_is_no_sample_and_is_quoted(cli: Cli, home: Path) -> None:
    (home / "bench.toml").write_text(bench_of(FORMS[0]))
    text = "Booting v2\nSensor 3 ready\n\n512\n513\nSensor 3 ready\n514\n"
    (home / "log.txt").write_text(text)
    done = cli("live", "--source", "log.txt", "--json")
    assert len(done.stdout.splitlines()) == 3
    assert "3 lines were no samples: other text 3 (the first: 'Booting v2')" in done.stderr
    assert jr.look(home / "log.txt").noise in done.stderr
    done = cli("live", stdin=b"ready\nsteady\n")
    assert done.returncode == 2
    assert "the first: 'ready'" in done.stderr
    assert "use --format, --delimiter and --columns" in done.stderr


OPTIONS = [
    ("1,5;2,5\n3,5;4,5\n", ["--decimal-comma"], ["1.5", "3.5"], 1),
    ("1|2\n3|4\n", ["--delimiter", "bar"], ["1", "3"], 1),
    ("1,2\n3,4\n", ["--columns", "a,b"], ["1", "3"], "a"),
    ("5,6\n3,4\n", ["--no-header"], ["5", "3"], 1),
    ("a=1 b=2\na=3 b=4\n", ["--format", "pairs"], ["1", "3"], "a"),
]


@few
@pytest.mark.parametrize(("text", "options", "values", "column"), OPTIONS)
def test_the_same_options_everywhere(
    cli: Cli,
    home: Path,
    text: str,
    options: list[str],
    values: list[str],
    column: str | int,
) -> None:
    bench = f'[channel.k]\ncolumn = {json.dumps(column)}\ninput = {{ unit = "V" }}\ndecimals = 1\n'
    (home / "bench.toml").write_text(bench)
    (home / "log.txt").write_text(text * 12)
    codes = {
        name: cli(*args, *options).returncode
        for name, args in {
            "look": ["look", "log.txt", "-b", "bench.toml"],
            "convert": ["convert", "log.txt", "-o", "out.csv"],
            "check": ["check", "--log", "log.txt"],
            "report": ["report", "--log", "log.txt", "-o", "r.md"],
            "draw": ["draw", "log", "log.txt", "-o", "x.png"],
            "choose": ["choose", "averaging", "k", "--at", "1", "--to", "1", "--log", "log.txt"],
            "live": ["live", "--source", "log.txt"],
            "new": ["new", "fresh.toml", "--from", "log.txt"],
        }.items()
    }
    assert set(codes.values()) == {0}, codes
    found = cli("live", "--source", "log.txt", *options).stdout.splitlines()[1:]
    assert [float(line.split(",")[1]) for line in found] == [float(value) for value in values] * 12


GOOD = [0.008, 0.008, 0.007, 0.005, 0.007, 1, 0.002, 0.016, 4.095]
#: Cells that somebody may write: nine good ones, then others.
CELLS = [
    *(
        "8",
        '"8"',
        " 7 ",
        "+5",
        "007",
        "1e3",
        "2.0",
        "0x10",
        "4095",
        "4096",
        "-1",
        "99999999999999999999",
    ),
    *("", "nan", "NaN", "NA", "n/a", "null", "NULL", "None", "-", '""'),
    *("true", "abc", "12x", "0xg", "1_0", "1,5", "1e400", "inf", "--", "1.2.3", "½", "٣"),
]


def test_one_input_through_every_road(cli: Cli, home: Path) -> None:
    """Good and bad cells; the fast road of columns is an optimisation of the careful one."""
    bench = jr.parse_bench(bench_of(LineForm("", "k", lambda i, v: v)))
    (home / "bench.toml").write_text(bench_of(LineForm("", "k", lambda i, v: v)))
    cells = [cell if '"' in cell or "," not in cell else f'"{cell}"' for cell in CELLS]
    lines = ["t_s,k", *(f"{i / 10},{cell}" for i, cell in enumerate(cells))]
    text = "".join(f"{line}\n" for line in lines)
    (home / "log.csv").write_text(text)
    texts = [cell.strip('"') for cell in cells]
    table = pa.table({"t_s": [f"{i / 10}" for i in range(len(texts))], "k": texts})
    pq.write_table(table, home / "log.parquet")
    (home / "log.jsonl").write_text(
        "".join(json.dumps({"t_s": i / 10, "k": text}) + "\n" for i, text in enumerate(texts))
    )

    def values(log: str, **options: Any) -> list[tuple[Sample, str]]:
        jr.convert(home / log, bench, home / "out.jsonl", **options)
        rows = map(json.loads, (home / "out.jsonl").read_text().splitlines())
        return [(row["k_V"], row["flags"]) for row in rows]

    wanted = values("log.csv")
    assert [value for value, _ in wanted[:9]] == GOOD
    assert {flags for _, flags in wanted[9:12]} == {"k:off_scale"}
    assert {flags for _, flags in wanted[12:22]} == {"k:missing"}
    assert {flags for _, flags in wanted[22:]} <= {"k:missing", "k:off_scale"}
    assert values("log.csv", keep_raw=True) == wanted
    assert values("log.parquet") == wanted
    assert values("log.jsonl") == wanted
    for frame in (table.to_pandas(), table, pl.from_arrow(table)):
        found = bench.convert(frame)
        flags = [str(flag) for flag in found["flags"].to_pylist()] if found is table else None
        column = [None if v is None or v != v else round(float(v), 3) for v in _plain(found["k_V"])]
        assert column == [value for value, _ in wanted], type(frame)
        assert flags is None or flags == [each for _, each in wanted]
    for args, stdin in ((["--source", "log.csv"], None), ([], text)):
        assert live(cli, *args, stdin=stdin) == [value for value, _ in wanted]
    assert streamed(lines, bench) == [value for value, _ in wanted]


def _plain(column: Any) -> list[Any]:
    return column.to_pylist() if hasattr(column, "to_pylist") else column.to_list()  # type: ignore[no-any-return]


def test_a_log_without_a_clock(cli: Cli, home: Path) -> None:
    """Plain thresholds work; what asks for a time is refused by name, and --interval helps."""
    plain = bench_of(FORMS[0]).replace('flagged = ["missing"]', "above = 0.55")
    timed = plain.replace("[trip.gone]", '[trip.gone]\nhold = "20 ms"')
    (home / "log.txt").write_text("500\n600\n600\n600\n500\n")
    for road in (["convert", "log.txt", "-o", "o.csv"], ["live", "--source", "log.txt"]):
        (home / "bench.toml").write_text(plain)
        (home / "e.csv").unlink(missing_ok=True)
        assert cli(*road, "--events", "e.csv").returncode == 0
        assert (home / "e.csv").read_text().splitlines() == [
            "sample,trip,state,values",
            "2,gone,on,k=0.600",
            "5,gone,off,k=0.500",
        ]
        (home / "bench.toml").write_text(timed)
        done = cli(*road, "--events", "e2.csv")
        assert done.returncode == 2
        assert "no clock, which trip.gone.hold asks for" in done.stderr
        (home / "e.csv").unlink()
        assert cli(*road, "--events", "e.csv", "--interval", "10 ms").returncode == 0
        assert (home / "e.csv").read_text().splitlines()[1] == "0.03,gone,on,k=0.600"


def test_a_log_at_its_own_pace(cli: Cli, home: Path) -> None:
    (home / "bench.toml").write_text(bench_of(FORMS[0]))
    (home / "log.txt").write_text("".join(f"{500 + i}\n" for i in range(21)))
    args = ("live", "--source", "log.txt", "--interval", "100 ms", "--pace")
    begun = time.monotonic()
    done = cli(*args, "10x")
    assert 0.2 <= time.monotonic() - begun < 5
    assert len(done.stdout.splitlines()) == 22
    for pace, says in (("0x", "expected real, fast or a factor as in 10x, found"), ("real", "")):
        done = cli("live", "--source", "log.txt", "--pace", pace)
        assert done.returncode == 2
        assert (says or "no clock, which --pace asks for") in done.stderr


@few
@pytest.mark.parametrize(
    "command",
    [
        ["look", "log.txt", "-b", "bench.toml"],
        ["convert", "log.txt", "-o", "out.csv"],
        ["check", "--log", "log.txt"],
        ["report", "--log", "log.txt", "-o", "r.md"],
        ["draw", "log", "log.txt", "-o", "x.png"],
        ["draw", "histogram", "log.txt", "-o", "h.png"],
        ["choose", "averaging", "k", "--at", "0.5", "--to", "1", "--log", "log.txt"],
        ["compare", "k", "k2", "--log", "log.txt"],
        ["live", "--source", "log.txt"],
        ["new", "fresh.toml", "--from", "log.txt"],
    ],
    ids=lambda command: " ".join(command[:2]),
)
def test_every_command_says_how_it_read_the_lines(cli: Cli, home: Path, command: list[str]) -> None:
    more = "[channel.k2]\ncolumn = 2\n"
    (home / "bench.toml").write_text(bench_of(FORMS[18]).replace("[trip", f"{more}[trip"))
    values = [f"{500 + i * 7 % 20} {500 + i * 3 % 20}\n" for i in range(40)]
    (home / "log.txt").write_text("".join(values) + "Sensor 3 ready\n")
    done = cli(*command)
    assert done.returncode in (0, 1), done.stderr
    said = (done.stdout if command[0] == "look" else "") + done.stderr
    wanted = "reading lines as: 2 cells separated by blanks, no header (columns 1 … 2)"
    assert said.count(wanted) == 1
    if command[0] != "new":
        assert said.count("1 line was no sample: other text 1 (the first: 'Sensor 3 ready')") == 1


def test_one_loop_opens_and_walks_logs() -> None:
    sources = Path(jr.__file__).parent.rglob("*.py")
    walkers = {
        p.name for p in sources if re.search(r"\bopen_log\(|sample_batches\(", p.read_text())
    }
    assert walkers == {"opening.py", "passes.py"}


@soak
@pytest.mark.parametrize("command", [["check"], ["report", "-o", "r.md"]], ids=["check", "report"])
def test_a_log_is_read_once(
    cli: Cli, home: Path, monkeypatch: pytest.MonkeyPatch, command: list[str]
) -> None:
    opened: list[object] = []

    def counted(*args: Any) -> LogReader:
        opened.append(args)
        return open_log(*args)

    monkeypatch.setattr(passes, "open_log", counted)
    assert cli(*command, "--log", "roast.csv").returncode in (0, 1)
    assert len(opened) == 1


GREETINGS = [
    "Calibrating 1\nCalibrating 2\nCalibrating 3\n",
    "Sensor 3 ready\n",
    "Version: 2\n",
    "Booting ...\n\n----\n",
    "boot: mode 3, baud 115200\nrst cause 2\n",
]


@few
@pytest.mark.parametrize("greeting", GREETINGS)
@pytest.mark.parametrize("form", [FORMS[0], FORMS[11], FORMS[18], FORMS[25]], ids=lambda f: f.name)
def test_what_a_board_says_at_its_start_is_no_sample(
    home: Path, form: LineForm, greeting: str
) -> None:
    bench = jr.parse_bench(bench_of(form))
    lines = [*greeting.splitlines(), *form.text(VALUES)]
    wanted = [int(value) / 1000 for value in VALUES]
    assert converted(home, bench, _file(home, lines).name) == wanted
    assert streamed(lines, bench) == wanted

    def board() -> Iterator[str]:
        for line in lines:
            time.sleep(0.01)
            yield line

    assert streamed(board(), bench) == wanted  # type: ignore[arg-type]
