"""Logs as other loggers write them: clocks, dates, rows of units, decimal commas, names twice."""

from __future__ import annotations

import gzip
import json
from pathlib import Path

import pyarrow as pa
import pytest

import jetruler as jr
from jetruler.errors import JetRulerError
from jetruler.logs.look_at import Look
from tests.conftest import Cli
from tests.helpers.line_forms import FORMS, bench_of

EVENING, MORNING = ("23:59:58", "23:59:59"), ("00:00:00", "00:00:01")


@pytest.mark.parametrize(
    ("header", "first", "then"),
    [
        ("time,ch0", "{},512", "{},512"),
        ("date,time,ch0", "2026-11-30,{},512", "2026-12-01,{},512"),
        ("time,day,ch0", "{},2026-11-30,512", "{},2026-12-01,512"),
        ("", "{} -> 512", "{} -> 512"),
    ],
)
def test_times_of_day_go_on_after_midnight(header: str, first: str, then: str) -> None:
    lines = [first.format(t) for t in EVENING] + [then.format(t) for t in MORNING]
    found = jr.look("\n".join([header, *lines]).lstrip().encode() + b"\n")
    assert found.time is not None
    assert (found.time.interval, found.time.steps_back, found.time.gaps) == (1.0, 0, 0)


def test_a_day_of_two_halves(tmp_path: Path) -> None:
    """Noon follows on 11:59 AM, and midnight on 11:59 PM."""
    day = [
        f"{h}:{m:02} {half}" for half in ("AM", "PM") for h in (12, *range(1, 12)) for m in (0, 30)
    ]
    lines = [f"{time},{512 + i % 3}" for i, time in enumerate(day + day)]
    found = jr.look("\n".join(["time,ch0", *lines]).encode()).time
    assert found is not None
    assert (found.interval, found.steps_back, found.gaps, found.repeats) == (1800.0, 0, 0, 0)


@pytest.mark.parametrize(
    ("header", "line", "clock"),
    [
        ("idx,millis,ch0", "{0},{1},512", "millis"),
        ("ch0,elapsed micros", "{0},{1}000", "elapsed micros"),
        ("timestamp,ch0", "1764547200{1:03},512", "timestamp"),
        ("timestamp,ch0", "1764547200{1:03}000,512", "timestamp"),
        ("time,ch0\nms,counts", "{1},512", "time (ms)"),
        ("time;ch0\n(s);(V)", "0.{1:03};1.5", "time"),
        ("time,ch0,on\nhh:mm:ss,V,°C", "10:00:00.{1:03},1.5,x", "time"),
        ("No.,day,ch0,note\nNO.,time,mV,%", "{0},2026/11/30 10:00:00.{1:03},512,x", "day"),
        ("time,ch0", "30.11.2026 10:00:00.{1:03},512", "time"),
        ("time,ch0", "2026/11/30 10:00:00.{1:03},512", "time"),
        ("day,time,ch0", "30.11.2026,10:00:00.{1:03},512", "time"),
        ("", "30.11.2026 10:00:00.{1:03} -> 512", "1"),
        ("", "[2026/11/30 10:00:00.{1:03}] 512", "1"),
        ("time,ch0", "12:00:00.{1:03} AM,512", "time"),
        ("", "11:59:59.{1:03} pm -> 512", "1"),
        ("day,clock,ch0", "2026-11-30,1:00:00.{1:03}PM,512", "clock"),
        ("t,ch0", "{1} ms,512 mV", "t"),
        ("", "{1}ms,512mV", "1"),
        ("", "t={1}ms ch0=512mV", "t"),
        ("", "t: {1}000 µs, ch0: 512", "t"),
        ("n,ch0", "{0},512", None),
    ],
)
def test_whatever_tells_the_time_is_the_clock(header: str, line: str, clock: str | None) -> None:
    lines = [header, *(line.format(i, 20 * i) for i in range(20))]
    found = jr.look("\n".join(lines).lstrip().encode() + b"\n")
    assert (found.rows, len(found.columns), found.noise) == (20, 1, "")
    time = found.time
    assert (None if time is None else time.name) == clock
    assert time is None or time.interval == pytest.approx(0.02, rel=1e-12)


SWEEP = [(0.1 * i, 124 * i, 20 + 0.5 * i) for i in range(30)]


@pytest.mark.parametrize(
    ("header", "line", "units"),
    [
        ("out_V,ch0,temp (C)", "{:.1f},{},{}", ["V", "count", "degC"]),
        ("V_out,ch0,T_degC", "{:.1f},{},{}", ["V", "count", "degC"]),
        ("out;ch0;temp\nV;count;deg C", "{:.1f};{};{}", ["V", "count", "degC"]),
        ("out,ch0,temp\nV,raw,degC", "{:.1f},{},{}", ["V", "count", "degC"]),
        ("in;day;mean\nV;;°C", "{:.1f};{};{}", ["V", "count", "degC"]),
        ("out\tch0\ttemp\n[V]\t\t[°C]", "{:.1f}\t{}\t{}", ["V", "count", "degC"]),
        ("out,ch0,temp\nV,raw,degC", "+ {:.1f},+  {},- {}", ["V", "count", "degC"]),
        ("", "out={:.1f} V ch0={} temp={} °C", ["V", "count", "degC"]),
        ("", "out: {:.1f}V, ch0: {}, temp: {}C", ["V", "count", "degC"]),
    ],
)
def test_a_unit_that_a_log_states_is_that_of_the_column(
    cli: Cli, home: Path, header: str, line: str, units: list[str]
) -> None:
    """Of a sweep in even steps too, which is no clock."""
    text = "\n".join([header, *(line.format(*row) for row in SWEEP), ""]).lstrip()
    (home / "sweep.txt").write_text(text)
    found = jr.look(home / "sweep.txt")
    assert (found.time, len(found.columns)) == (None, 3)
    (home / "bench.toml").unlink()
    done = cli("new", "--from", "sweep.txt", "--bits", "12", "--vref", "3.3 V")
    assert done.returncode == 0
    channels = jr.load_bench(home / "bench.toml").values()
    edges = [channel.chain.edge for channel in channels]
    assert [edge and edge.takes for edge in edges] == units
    summary = jr.convert(home / "sweep.txt", jr.load_bench(home / "bench.toml"), home / "out.csv")
    assert summary.rows == 30


@pytest.mark.parametrize("first", ["U=900 mV", "t=3 U=900mV", "10:00:00 U: 900 mV", "U=900"])
def test_a_number_in_another_unit_is_another_number(first: str) -> None:
    lines = [first, first, first.replace("900", "1.02").replace("mV", "V").rstrip(), first]
    if "V" not in first:
        lines[2] = "U=1.02k"
    found = jr.look("\n".join([*lines, ""]).encode()).columns["U"]
    assert (found.survey.smallest, found.survey.largest) == (900, 900)
    assert found.unreadable == found.survey.missing == 1


def test_two_columns_of_one_name_are_both_looked_at() -> None:
    found = jr.look(b"time_s,ch0,ch0\n0,1,7\n1,2,8\n2,3,9\n").columns
    assert [(name, one.survey.largest) for name, one in found.items()] == [
        ("ch0", 3),
        ("column 3", 9),
    ]


@pytest.mark.parametrize(
    ("lines", "volts"),
    [
        (["t;u", "0,1;1,5", "0,2;1,6"], [1.5, 1.6]),
        (["t\tu", "0,1\t1,5", "0,2\t2"], [1.5, 2.0]),
        (["10:00:00;1,5", "10:00:01;1,6"], [1.5, 1.6]),
        (["t;u", "0.1;1,5", "0.2;1,6"], None),  # a point too: nobody can tell
        (["t;u;of", "0,1;1,5;1.5", "0,2;1,6;1.6"], None),
    ],
)
def test_decimal_commas_are_found_and_said(
    cli: Cli, home: Path, lines: list[str], volts: list[float] | None
) -> None:
    (home / "log.csv").write_text("\n".join([*lines, ""]))
    column = '"u"' if lines[0][0] == "t" else "2"
    laws = '[{ law = "input", unit = "V" }]\ndecimals = 2'
    (home / "bench.toml").write_text(f"[channel.k]\ncolumn = {column}\nlaws = {laws}\n")
    looked = cli("look", "log.csv")
    assert ("decimal commas" in looked.stdout) == (volts is not None)
    if volts is None:
        assert "of" in looked.stdout or "is the decimal mark a comma?" in looked.stderr
        return
    jr.convert(home / "log.csv", home / "bench.toml", home / "out.jsonl")
    done = cli("live", "--json", "--source", "log.csv")
    for text, name in (((home / "out.jsonl").read_text(), "k_V"), (done.stdout, "k")):
        assert [json.loads(line)[name] for line in text.splitlines()] == volts


def test_a_date_beside_times_of_day_is_not_lost(cli: Cli, home: Path) -> None:
    lines = ["date,time,ch0", "2026-11-28,10:00:00,5", "2026-11-30,10:00:00,900"]
    (home / "log.csv").write_text("\n".join([*lines, ""]))
    (home / "bench.toml").write_text(bench_of(FORMS[0]).replace("column = 1", 'column = "ch0"'))
    time = jr.look(home / "log.csv").time
    assert time is not None
    assert time.interval == 2 * 86_400
    done = cli("live", "--source", "log.csv")
    assert done.stdout.splitlines()[1].startswith("2026-11-28 10:00:00,")


@pytest.mark.parametrize("bad", ["bad", "", "30:00", "512"])
def test_one_bad_stamp_does_not_take_the_clock(bad: str) -> None:
    stamps = [f"2026-11-30 10:00:{i:02}" for i in range(20)]
    stamps[7] = bad
    found = jr.look("\n".join(["time,ch0", *(f"{t},512" for t in stamps), ""]).encode()).time
    assert found is not None
    assert found.interval == 1.0


@pytest.mark.parametrize("text", ["t;u\n0,1;1,5\n0,2;1,6\n", "t u\n0 5\n1 6\n", "t,u\n0,5\n1,6\n"])
def test_a_column_that_is_not_there_is_answered_with_those_that_are(text: str) -> None:
    bench = jr.parse_bench('[converter]\nbits = 12\nvref = 3.3\n[channel.a]\ncolumn = "ch0"\n')
    with pytest.raises(jr.JetRulerError, match=r"there is no column 'ch0'; it has: t, u$"):
        jr.look(text.encode(), bench)


@pytest.mark.parametrize(
    ("header", "row", "names", "columns", "left_out"),
    [
        ("sep=;\nt;a;b", "{0};{1};{2}", ["a", "b"], ["a", "b"], ()),
        ('"sep=,"\nt,a,b', "{0},{1},{2}", ["a", "b"], ["a", "b"], ()),
        ("t;;b", "{0};{1};{2}", ["column 2", "b"], [2, "b"], ()),
        ("t,a,b,", "{0},{1},{2},", ["a", "b"], ["a", "b"], ("column 4",)),
        ("t,a,b", "{0},{1},{2},", ["a", "b"], ["a", "b"], ("column 4",)),
        ("t,a,a", "{0},{1},{2}", ["a", "column 3"], [2, 3], ()),
    ],
)
def test_columns_without_a_name_of_their_own(
    cli: Cli,
    home: Path,
    header: str,
    row: str,
    names: list[str],
    columns: list[str | int],
    left_out: tuple[str, ...],
) -> None:
    rows = [row.format(i / 10, 512 + i % 7, 300 + i % 3) for i in range(30)]
    (home / "log.csv").write_text("\n".join([header, *rows, ""]))
    found = jr.look(home / "log.csv")
    assert found.rows == 30
    assert (list(found.columns), found.left_out) == (names, left_out)
    assert [v.survey.largest for v in found.columns.values()] == [518, 302]
    (home / "bench.toml").unlink()
    assert cli("new", "--from", "log.csv").returncode == 0
    bench = jr.load_bench(home / "bench.toml")
    assert [channel.column for channel in bench.values()] == columns
    assert jr.convert(home / "log.csv", bench, home / "out.csv").rows == 30


CELLS = {
    "names and a clock": ("t,U,RH", "0.{0:02},{1}{V},{2}{P}"),
    "names": ("U,RH", "{1}{V},{2}{P}"),
    "no names": ("", "0.{0:02},{1}{V},{2}{P}"),
    "quotes": ("t,U,RH", '0.{0:02},"{1}{V}","{2}{P}"'),
    "a time in front": ("", "10:00:{0:02} -> {1}{V},{2}{P}"),
    "brackets": ("", "[{1}{V}|{2}{P}]"),
    "a comment": ("t\tU\tRH\n# made up", "0.{0:02}\t{1}{V}\t{2}{P}"),
    "a short line": ("t,U,RH\n0.1", "0.{0:02},{1}{V},{2}{P}"),
    "one": ("U", "{1}{V}"),
}


@pytest.mark.parametrize("form", CELLS)
@pytest.mark.parametrize("decimal", [".", ","])
@pytest.mark.parametrize(("volts", "percent"), [(" V", " %"), ("V", "%"), (" mV ", " %RH")])
def test_cells_with_a_unit_are_the_numbers_in_front_of_it(
    form: str, decimal: str, volts: str, percent: str
) -> None:
    """What is found in a log with units is what is found without them."""
    header, line = CELLS[form]
    numbers = [(str(1.05 + i % 7 / 100)[:4], 40.5 + i % 5) for i in range(40)]

    def look(v: str, p: str) -> Look:
        lines = [line.format(i, *pair, V=v, P=p) for i, pair in enumerate(numbers)]
        text = "\n".join([header, *lines]).lstrip() + "\n"
        comma = text.replace(",", ";").replace(".", ",")
        return jr.look((text if decimal == "." else comma).encode())

    plain, found = look("", ""), look(volts, percent)
    units = dict.fromkeys([volts.strip(), percent.strip()][: 1 + ("P" in line)])
    assert f"units behind numbers ({', '.join(units)})" in found.line_format
    assert (found.rows, found.noise, found.time) == (plain.rows, plain.noise, plain.time)
    assert {n: c.survey for n, c in found.columns.items()} == {
        n: c.survey for n, c in plain.columns.items()
    }


@pytest.mark.parametrize(("cells", "says"), [
    (["1.05 V", "1060 mV"], "expected cells without a unit, found '1.05 V'"),
    (["open", "1.05 x"], "found none among t, a"),
    (["1st", "2nd", "3rd"], "expected cells without a unit, found '1st'"),
])  # fmt: skip
def test_cells_that_are_no_numbers_are_answered_with_why(cells: list[str], says: str) -> None:
    with pytest.raises(JetRulerError) as refused:
        jr.look("\n".join(["t;a", *(f"0.{i};{c}" for i, c in enumerate(cells))]).encode())
    assert says in str(refused.value)
    assert "comma" not in str(refused.value)


def test_another_unit_in_cells_is_a_missing_sample(cli: Cli, home: Path) -> None:
    lines = [f"0.{i},1.0{i} V" for i in range(1, 9)]
    lines[3], lines[5] = "0.4,1040 mV", "0.6,1.06 VA"
    (home / "log.csv").write_text("\n".join(["t,U", *lines]) + "\n")
    (home / "bench.toml").write_text('[channel.U]\ncolumn = "U"\ninput = { unit = "V" }\n')
    done = cli("convert", "log.csv", "-o", "-")
    assert [row.split(",")[1] for row in done.stdout.splitlines()[1:]] == [
        "1.01", "1.02", "1.03", "", "1.05", "", "1.07", "1.08",
    ]  # fmt: skip
    assert "reading lines as: units behind numbers (V)" in done.stderr
    assert jr.look(home / "log.csv").columns["U"].survey.missing == 2


ENCODED = "# Röster\nZeit (s);T (°C);Größe (mV);Notiz\n" + "".join(
    f"{i / 10};{200 + i % 9 / 4};{512 + i % 7};heiß – {i}\n".replace(".", ",") for i in range(900)
)


@pytest.mark.parametrize("encoding", ["cp1252", "utf-16", "utf-16-be"])
@pytest.mark.parametrize("packed", [".csv", ".csv.gz", ".csv.zst"])
@pytest.mark.parametrize("end", ["\n", "\r\n", "\r"])
def test_a_log_in_another_encoding_is_read_as_in_utf_8(
    home: Path, encoding: str, packed: str, end: str
) -> None:
    """Names, units and texts too, in what is converted as well; and how it was read is said."""
    (home / "bench.toml").write_text('[channel.T]\ncolumn = "T (°C)"\ninput = { unit = "degC" }\n')
    text, found, written = ENCODED.replace("\n", end), [], []
    mark = "\ufeff" if encoding == "utf-16-be" else ""
    for name, data in (("a", text.encode()), ("b", (mark + text).encode(encoding))):
        log = home / f"{name}{packed}"
        pack = {".gz": gzip.compress, ".zst": lambda d: pa.compress(d, "zstd", asbytes=True)}
        log.write_bytes(pack.get(log.suffix, bytes)(data))
        found.append(jr.look(log))
        jr.convert(log, jr.load_bench(home / "bench.toml"), home / "out.csv")
        written.append((home / "out.csv").read_bytes())
    assert written[0] == written[1]
    assert found[0].to_dict() | {"line_format": "", "log": ""} == found[1].to_dict() | {
        "line_format": "",
        "log": "",
    }
    said = {"cp1252": "text in Windows-1252"}.get(encoding, "text in UTF-16")
    assert found[1].line_format == f"decimal commas, {said}"
    streamed = [
        [s.values["T"] for s in jr.stream(str(home / f"{name}{packed}"), home / "bench.toml")]
        for name in "ab"
    ]
    assert streamed[0] == streamed[1]
    assert len(streamed[0]) == 900


def test_live_reads_other_encodings_and_follows_utf_8_alone(cli: Cli, home: Path) -> None:
    (home / "bench.toml").write_text('[channel.T]\ncolumn = "T (°C)"\ninput = { unit = "degC" }\n')
    printed = []
    for encoding in ("utf-8", "cp1252", "utf-16"):
        (home / "log.csv").write_bytes(ENCODED.encode(encoding))
        printed.append(cli("live", "--source", "log.csv").stdout)
    assert len(set(printed)) == 1
    assert printed[0].count("\n") == 901
    (home / "log.csv").write_bytes(ENCODED.encode("utf-16"))
    done = cli("live", "--source", "log.csv", "--follow")
    assert done.returncode == 2
    assert "log.csv: expected UTF-8 in a file that grows, found UTF-16" in done.stderr


@pytest.mark.parametrize("noise", [b"\xb0C\x00\x02", "°".encode() + b" \xb0"])
def test_damaged_lines_are_no_other_encoding(noise: bytes) -> None:
    """What a board says while it starts; a byte that is lost within a sign."""
    rows = b"".join(b"%d.5,%d\n" % (i, 512 + i % 5) for i in range(50))
    found = jr.look(noise + b"\nt_s,k\n" + rows)
    assert (found.line_format, found.rows, list(found.columns)) == ("", 50, ["k"])


@pytest.mark.parametrize(("step", "noise", "is_clock"), [
    (0.1, 0.0, True),
    (2e-9, 0.0, True),
    (1e-12, 3e-15, False),
    (1e-12, 0.0, True),
    (1e-6, 1e-8, False),
    (0.1, 1e-5, False),
])  # fmt: skip
def test_what_grows_evenly_in_any_unit_may_be_a_clock(
    step: float, noise: float, is_clock: bool
) -> None:
    """A ramp of picoamperes does not; how even it is, is a part of its step."""
    lines = [f"{step * i + noise * (i * 7 % 5)!r}\t{500 + i * 3 % 7}" for i in range(60)]
    found = jr.look(("ch0\traw\n" + "\n".join(lines) + "\n").encode())
    assert list(found.columns) == (["raw"] if is_clock else ["ch0", "raw"])
