"""What a stream is made of, part by part: parsing, readings, rows, sending, recording, sources."""

from __future__ import annotations

import json
import os
import threading
import time
from io import FileIO
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from jetruler import Bench, JetRulerError, demo
from jetruler.benchfile.load import parse_bench
from jetruler.cli.options import form_of
from jetruler.core.bench.bench import LogFormat
from jetruler.core.error_types import LogError
from jetruler.live.outputs import AlignedRows, CsvRows, JsonRows, Sender
from jetruler.live.overrides import injections
from jetruler.live.source_reader import SourceReader
from jetruler.live.sources import (
    GrowingFile,
    SourceCut,
    SourceEnded,
    SourceGone,
    StreamError,
    reached,
    source_named,
)
from jetruler.live.stream_processor import LiveBatch, StreamProcessor
from jetruler.live.writers import ROOM, OutputWriter, Recorder
from jetruler.samples.head import RECORD
from jetruler.samples.stream_lines import StreamLines, Taken
from tests.helpers.sizes import sizes

BENCH = """
title = "Station"
[converter]
bits = 12
vref = 3.3
[channel.knob]
column = "k"
laws = [{ law = "line", marks = [[0, 0], [4000, 100]], unit = "%" }]
decimals = 1
smooth = { kind = "mean", over = "0.4 s" }
[channel.light]
column = "p"
laws = [{ law = "zones", edges = [1000, 3000], values = ["dark", "dim, red", "bright"] }]
[stream]
columns = ["t", "k", "p"]
timestamp = "t"
[trip.high]
any = [{ channel = "knob", above = 50 }]
[drive.flap]
from = "knob"
marks = [[0, 1000], [100, 2000]]
range = "pulse"
safe = 1500
[drive.fan]
from = "high"
output = "pin9"
safe = 7
"""


@pytest.fixture
def bench() -> Bench:
    return parse_bench(BENCH)


def take(processor: StreamProcessor, text: str) -> LiveBatch:
    """Lines that arrive at once."""
    block = text.encode()
    (batch,) = processor.take(block, np.zeros(block.count(b"\n")), 0.0)
    return batch


def read(form: LogFormat, wanted: list[str | int], text: str) -> tuple[StreamLines, list[Taken]]:
    """All samples of some lines."""
    lines = StreamLines(form, wanted)
    found = lines.add(text.encode(), np.zeros(text.count("\n")))
    return lines, found + lines.settle()


def counts_of(taken: list[Taken], place: int = 0) -> list[float | None]:
    """The counts of a column, None where one is missing."""
    found: list[float | None] = []
    for each in taken:
        column = each.columns[place]
        gone = np.zeros(len(each), np.bool_) if column.missing is None else column.missing
        pairs = zip(column.counts.tolist(), gone.tolist(), strict=True)
        found += [None if no else value for value, no in pairs]
    return found


NAMED = LogFormat(columns=("a", "b"))


@pytest.mark.parametrize(
    ("form", "text", "counts", "bad"),
    [
        (NAMED, "1,2\n3,4\n", [1, 3], {}),
        (LogFormat(), "b,a\n2,1\n4,3\n", [1, 3], {"header": 1}),
        (LogFormat(), "noise\nb,a\n2,1\n", [1], {"header": 1, "other text": 1}),
        # A board that begins again otherwise.
        (LogFormat(), "a,b\n1,2\nb,a\n4,3\n", [1, 3], {"header": 2}),
        (NAMED, "1,2\n1,2,3\n\n# hello\n,\n5,6\n", [1, None, None, 5], {}),
        (
            LogFormat(columns=("a", "b"), delimiter=";"),
            "1;2\nready\n",
            [1],
            {"other text": 1},
        ),
        (NAMED, "7,4\n0x10,2\n0xg,2\n1_0,x\n", [7, 16, None], {"other text": 1}),
        (NAMED, "1e3,2\n99999999999999999999,1\n", [1000, 2**63 - 1], {}),
        (LogFormat(format="pairs"), "a=1 b=2\nb=3; a=4\nb=1\n", [1, 4, None], {}),
        (LogFormat(format="pairs"), "a=1\nnonsense\n=3\na=x\n", [1, None], {"other text": 2}),
        (
            LogFormat(format="json"),
            '{"a": 1}\n[1]\n{"a": true}\n{}\n{x\n',
            [1, None, None, None],
            {"other text": 1},
        ),
        (LogFormat(format="json"), '{"a": 1.5}\n{"a": "7"}\n{"a": NaN}\n', [1.5, 7, None], {}),
    ],
)
def test_lines_into_samples(
    form: LogFormat, text: str, counts: list[float | None], bad: dict[str, int]
) -> None:
    lines, found = read(form, ["a"], text)
    assert counts_of(found) == counts
    assert {kind: n for kind, n in lines.noise.counts.items() if n} == bad


def test_numbered_columns_need_no_names() -> None:
    lines, found = read(LogFormat(), [2], "x,y\n1,2\n3,4\n1,2,3\n")
    assert counts_of(found) == [2, 4, None]
    assert lines.torn == 1
    assert lines.noise.counts == {"header": 1}


def test_a_column_that_is_not_there_is_answered_with_what_there_is() -> None:
    with pytest.raises(LogError, match="there is no column 'z'; its lines are read as a, b"):
        read(LogFormat(), ["a", "z"], "a,b\n1,2\n1,2\n")
    with pytest.raises(LogError, match=r"no column 2; its lines are read as one number, no header"):
        read(LogFormat(), [2], "512\n513\n")


def test_remarks_are_kept() -> None:
    lines, _ = read(LogFormat(columns=("a",)), ["a"], "# flap=1500\n1\n")
    assert lines.remark == "flap=1500"
    assert not lines.noise.words


@given(st.lists(st.binary(max_size=30), max_size=30), st.sampled_from(["csv", "pairs", "jsonl"]))
def test_noise_never_stops_a_stream(noise: list[bytes], form: str) -> None:
    lines = StreamLines(LogFormat(format=form), [1] if form == "csv" else ["a"])
    block = b"".join(line.replace(b"\n", b"") + b"\n" for line in noise)
    found = lines.add(block, np.arange(len(noise), dtype=float)) + lines.settle()
    assert sum(map(len, found)) <= len(noise)
    assert all(np.all(np.diff(each.at) > 0) for each in found)


def test_smoothing_over_a_time_settles(bench: Bench) -> None:
    """0.4 s at ten samples a second is four samples, once that is known."""
    processor = StreamProcessor(bench, bench.log or LogFormat())
    batches = [take(processor, f"{i / 10:.1f},{1000 + 40 * (i % 5)},5\n") for i in range(40)]
    values = [float(batch.readings["knob"].value[0]) for batch in batches]
    counts = [1000 + 40 * (i % 5) for i in range(40)]
    assert values[0] == 25.0
    for i in range(8, 40):
        assert values[i] == pytest.approx(np.mean(counts[i - 3 : i + 1]) / 40)


@pytest.mark.parametrize("samples", [1, 5, 9, 40])
@pytest.mark.parametrize("size", [1, 3, 40])
def test_a_recorded_stream_waits_for_its_pace(bench: Bench, samples: int, size: int) -> None:
    """A missing cell and a fractional one among the samples that are held."""
    processor = StreamProcessor(bench, bench.log or LogFormat(), holds=True)
    cells = [str(1000 + 40 * (i % 5)) for i in range(samples)]
    cells[1:4] = ["", "1000.5", "1001"][: samples - 1]
    lines = [f"{i / 10:.1f},{cell},5\n".encode() for i, cell in enumerate(cells)]
    batches = []
    for i in range(0, samples, size):
        part = b"".join(lines[i : i + size])
        batches += processor.take(part, np.zeros(part.count(b"\n")), 0.0)
        assert (processor.rows == 0) == (i + size < min(9, samples) or samples < 9)
    batches += processor.flush()
    values = np.concatenate([batch.readings["knob"].value for batch in batches])
    counts = [float(cell) if cell else np.nan for cell in cells]
    n = 4 if samples > 1 else 1  # one sample has no step: 0.4 s is then one sample
    good = [i for i in range(samples) if cells[i]]
    for k, i in enumerate(good):
        near = [j for j in good[max(0, k + 1 - n) : k + 1] if n == 1 or i - j < 4]
        window = [counts[j] for j in near]
        assert values[i] == pytest.approx(np.mean(window) / 40)
    assert processor.rows == len(values) == samples


def test_ends_are_seen_and_forgotten(bench: Bench) -> None:
    processor = StreamProcessor(bench, bench.log or LogFormat())
    take(processor, "0,500,1\n1,3000,1\n2,,1\n")
    seen = processor.seen["knob"]
    assert (seen.lowest, seen.highest, seen.flagged) == (500, 3000, 1)
    processor.forget_ends()
    take(processor, "3,700,1\n")
    assert (seen.lowest, seen.highest) == (700, 700)


def test_a_bench_that_was_changed_keeps_what_it_can(bench: Bench) -> None:
    processor = StreamProcessor(bench, bench.log or LogFormat())
    take(processor, "0,3000,1\n1,3000,1\n")
    assert processor.decisions.trippers["high"].on
    changed = parse_bench(
        BENCH.replace("edges = [1000", "edges = [500").replace("safe = 7", "safe = 8")
    )
    processor.take_over(changed)
    assert processor.decisions.trippers["high"].on
    assert processor.seen["knob"].highest == 3000
    batch = take(processor, "2,3000,700\n")
    assert batch.readings["light"].value.tolist() == [1.0]
    with pytest.raises(LogError, match="there is no column 'q'"):
        processor.take_over(parse_bench(BENCH.replace('column = "p"', 'column = "q"')))
    assert take(processor, "3,3000,700\n").readings["light"].value.tolist() == [1.0]
    processor.take_over(parse_bench(BENCH.replace('column = "p"', 'column = "k"')))
    assert take(processor, "4,3000,700\n").counts[1].tolist() == [3000]


def test_silence_makes_everything_safe(bench: Bench) -> None:
    processor = StreamProcessor(bench, bench.log or LogFormat())
    take(processor, "0,3000,1\n")
    decided = processor.silent(3.0)
    assert {name: bool(safe[0]) for name, safe in decided.safe.items()} == {
        "flap": True,
        "fan": True,
    }
    assert decided.drives["fan"].tolist() == [7]
    assert processor.decisions.clock.now == 3.0


def test_rows_in_three_forms(bench: Bench) -> None:
    processor = StreamProcessor(bench, bench.log or LogFormat())
    batch = take(processor, "0.5,2000,2000\n1.0,,4095\n")
    rows = CsvRows(bench, "t")
    assert rows.header() == b"t,knob_percent,light_zone,high,flap_us,fan,flags\n"
    first, second = rows(batch).decode().splitlines()
    assert first == '0.5,50.0,"dim, red",1,1500,255,'
    assert second == "1.0,,bright,1,1500,7,knob:missing;light:high_rail"
    aligned = AlignedRows(bench, "t")
    lines = [aligned.header(), *aligned(batch).splitlines()]
    assert lines[1].split()[:2] == [b"0.5", b"50.0"]
    assert lines[1].index(b"50.0") + 4 == lines[0].index(b"knob_percent") + 12
    one, two = map(json.loads, JsonRows(bench, "t")(batch).splitlines())
    assert one == {
        "t": 0.5,
        "knob": 50.0,
        "light": "dim, red",
        "trips": {"high": True},
        "drives": {"flap": 1500, "fan": 255},
        "flags": {},
    }
    assert two["knob"] is None
    assert two["flags"] == {"knob": ["missing"], "light": ["high_rail"]}


def test_a_sweep_goes_there_and_back(bench: Bench) -> None:
    made = injections(bench, ("light=missing",), ("knob=100:500/2s",))
    at = np.array([0.0, 0.5, 1.0, 2.0, 3.0, 4.0])
    assert made["knob"].column(at).counts.tolist() == [100, 200, 300, 500, 300, 100]
    missing = made["light"].column(at).missing
    assert missing is not None
    assert missing.all()
    with pytest.raises(JetRulerError, match="did you mean 'knob'"):
        injections(bench, ("knop=1",), ())


class Wire:
    """A wire that keeps what is sent, and can be cut."""

    name, lossless, joined_late = "wire", False, False

    def __init__(self) -> None:
        self.got: list[str] = []
        self.cut = False

    def open(self) -> None: ...

    def read(self) -> bytes:
        return b""

    def write(self, data: bytes) -> None:
        if self.cut:
            raise OSError("cut")
        self.got += data.decode().splitlines()

    def close(self) -> None: ...


def test_commands_go_out_when_they_change(bench: Bench) -> None:
    wire = Wire()
    sender = Sender(bench, wire, armed=True)
    sender.safe()
    sender.send({"flap": 1200.0, "fan": 7.0})
    sender.send({"flap": 1200.0, "fan": 255.0})
    assert wire.got == ["flap=1500", "pin9=7", "flap=1200", "pin9=255"]
    sender.safe()
    assert wire.got[-2:] == ["flap=1500", "pin9=7"]


def test_a_wire_that_was_cut_is_tried_again(bench: Bench, monkeypatch: pytest.MonkeyPatch) -> None:
    wire = Wire()
    sender = Sender(bench, wire, armed=True)
    wire.cut = True
    sender.send({"flap": 1200.0})
    assert (sender.unsent, sender.failure) == (1, "cut")
    wire.cut = False
    sender.try_again()
    assert wire.got == []  # it rests for a second
    monkeypatch.setattr("jetruler.live.outputs.REST", 0.0)
    sender.forget()
    sender.send({"flap": 1300.0})
    assert wire.got == ["", "flap=1300"]  # what was cut off ends first
    assert sender.failure == ""


def test_nothing_is_sent_unarmed(bench: Bench) -> None:
    sender = Sender(bench, None)
    sender.safe()
    sender.send({"flap": 1200.0})
    assert (sender.armed, sender.sent, sender.unsent) == (False, {}, 0)


def test_an_output_that_is_no_longer_driven_goes_to_safe(bench: Bench) -> None:
    wire = Wire()
    sender = Sender(bench, wire, armed=True)
    sender.send({"flap": 1200.0, "fan": 255.0})
    without = parse_bench(BENCH.replace("[drive.fan]", "[drive.fan2]").replace("pin9", "pin8"))
    sender.change(without)
    assert wire.got[-1] == "pin9=7"
    sender.send({"flap": 1200.0, "fan2": 255.0})
    assert wire.got[-1] == "pin8=255"


@given(st.lists(st.sampled_from([b"1,2\n", b"3,", b"4\n", b"\n", b"\xff"]), max_size=20))
def test_a_record_holds_what_came(parts: list[bytes]) -> None:
    path = f"/tmp/jetruler-record-{os.getpid()}.csv"
    recorder = Recorder(path)
    for part in parts:
        recorder.add(part)
    recorder.close()
    head, *lines = Path(path).read_bytes().split(b"\n")
    Path(path).unlink()
    assert head == (RECORD.encode() if parts else b"")
    whole = b"".join(parts)
    raw = whole.split(b"\n")
    kept = [line.partition(b",")[2] for line in lines if line]
    assert kept == (raw if raw[-1] else raw[:-1])
    assert all(line[:2] == b"20" and line[23:25] == b"Z," for line in lines if line)


def test_a_growing_file_is_followed(tmp_path: Path) -> None:
    path = tmp_path / "log.csv"
    path.write_bytes(b"one\n")
    source = GrowingFile(str(path), follow=True)
    assert source.read() == b"one\n"
    assert source.read() == b""
    with path.open("ab") as file:
        file.write(b"two\n")
    assert source.read() == b"two\n"
    path.write_bytes(b"3\n")  # begun again
    with pytest.raises(SourceCut):
        source.read()
    assert source.read() == b"3\n"
    other = tmp_path / "other"
    other.write_bytes(b"replaced\n")
    other.replace(path)
    with pytest.raises(SourceCut):
        source.read()
    assert source.read() == b"replaced\n"
    path.unlink()
    path.mkdir()  # a folder in its place is waited out
    assert source.read() == b""
    path.rmdir()
    path.write_bytes(b"back\n")
    source.close()
    once = GrowingFile(str(path), follow=False)
    once.read()
    with pytest.raises(SourceEnded):
        once.read()
    once.close()


def test_a_port_without_a_descriptor() -> None:
    """pySerial's loop:// gives back what it is sent, and has no descriptor to wait for."""
    port = source_named("loop://", LogFormat(), follow=False)
    port.open()
    port.write(b"1,2\n3,4\n")
    got = b""
    while len(got) < 8:
        got += port.read()
    assert got == b"1,2\n3,4\n"
    port.close()
    with pytest.raises(OSError, match="not connected"):
        port.write(b"x")


def test_a_port_that_is_not_there() -> None:
    port = source_named("socket://127.0.0.1:9", LogFormat(), follow=False)
    with pytest.raises(SourceGone, match="refused"):
        port.open()
    with pytest.raises(SourceGone, match="not connected"):
        port.read()
    with pytest.raises(StreamError, match="refused"):
        reached(port.name, LogFormat())


class Flood(Wire):
    """More than anybody can take."""

    def read(self) -> bytes:
        time.sleep(0.0005)
        return b"1,2,3\n" * 50_000


def test_what_comes_too_fast_is_counted(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("jetruler.live.source_reader.ROOM", 1 << 20)
    feed = SourceReader(Flood(), None)
    feed.start()
    time.sleep(0.3)
    got = feed.take(1.0)
    feed.stop()
    assert feed.lost > 0
    assert 0 < sum(len(arrival.data) for arrival in got) <= (2 << 20)


def test_an_outlet_drops_what_finds_no_room() -> None:
    ours, theirs = os.pipe()
    writer = OutputWriter(FileIO(theirs, "wb", closefd=False), lossless=False)
    writer.put(b"x" * ROOM, 1)
    for _ in range(3):
        writer.put(b"y" * ROOM, 10)
    assert writer.dropped >= 20
    drained = threading.Thread(
        target=lambda: [os.read(ours, 1 << 20) for _ in range(200)], daemon=True
    )
    drained.start()
    assert writer.close(20)
    os.close(theirs)
    drained.join(5)
    os.close(ours)


def test_an_outlet_says_that_its_reader_is_gone() -> None:
    ours, theirs = os.pipe()
    os.close(ours)
    writer = OutputWriter(FileIO(theirs, "wb", closefd=False), lossless=True)
    writer.put(b"x", 1)
    while writer.error is None:
        time.sleep(0.01)
    with pytest.raises(BrokenPipeError):
        writer.put(b"x", 1)
    os.close(theirs)


@pytest.mark.parametrize(
    ("given", "says"),
    [
        (
            {"format": "xml"},
            "--format: expected one of csv, pairs, words, jsonl, parquet, found 'xml'",
        ),
        ({"baud": 0}, "--baud: expected bits a second, above 0, found 0"),
        ({"columns": ("a", "a")}, "--columns"),
        ({"baud": True}, "--baud"),
    ],
)
def test_options_are_checked_like_the_bench_file(
    bench: Bench, given: dict[str, object], says: str
) -> None:
    with pytest.raises(JetRulerError) as caught:
        form_of(given, bench)
    assert says in str(caught.value)


@pytest.mark.parametrize(
    ("table", "says"),
    [
        ('delimiter = ".."', "delimiter"),
        ('time_unit = "d"', "one of s, ms, us, min, h"),
        ("stale = 0", "a time above 0"),
        ("colums = []", "unknown for a log; did you mean 'columns'?"),
        ("timestamp = -3", "the name or number of a column"),
    ],
)
def test_mistakes_in_the_stream_table(table: str, says: str) -> None:
    text = BENCH.replace(
        '[stream]\ncolumns = ["t", "k", "p"]\ntimestamp = "t"', f"[stream]\n{table}"
    )
    with pytest.raises(JetRulerError) as caught:
        parse_bench(text)
    assert "stream." in str(caught.value)
    assert says in str(caught.value)


def test_milliseconds_are_told_by_the_stream(bench: Bench) -> None:
    processor = StreamProcessor(bench, form_of({"time_unit": "ms"}, bench))
    batch = take(processor, "500,2000,1\n1500,2000,1\n")
    assert batch.decided.times.tolist() == [0.5, 1.5]
    assert batch.times.to_pylist() == ["500", "1500"]


@pytest.mark.parametrize("samples", sizes(60, 1200))
def test_the_demo_through_blocks_of_any_size(samples: int) -> None:
    """Reading at once and line by line, in large and small blocks: the same rows."""
    bench = parse_bench(demo.read("bench.toml").decode())
    lines = [
        line.rsplit(b",", 1)[0] + b"\n"
        for line in demo.read("roast.csv").splitlines()[1 : samples + 1]
    ]

    def rows(size: int, holds: bool = False) -> bytes:
        processor = StreamProcessor(bench, bench.log or LogFormat(), holds=holds)
        made = CsvRows(bench, "time_s")
        out = b""
        for start in range(0, len(lines), size):
            part = lines[start : start + size]
            arrivals = np.arange(len(part), dtype=np.float64)
            out += b"".join(map(made, processor.take(b"".join(part), arrivals, 0.0)))
        return out + b"".join(map(made, processor.flush()))

    whole = rows(1200)
    assert whole.count(b"\n") == len(lines)
    assert rows(1) == rows(77) == whole
    assert rows(5, holds=True) == rows(1200, holds=True) == whole
