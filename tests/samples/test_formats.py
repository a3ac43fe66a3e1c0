"""CSV, JSON Lines and Parquet, plain and packed: the same rows, whatever they are written in."""

from __future__ import annotations

import gzip
import io
import itertools
import json
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.csv as pacsv
import pyarrow.parquet as pq
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra import numpy as hnp

from jetruler import Bench, Channel, Flag, LogFormat, convert, load_bench, look
from jetruler.benchfile.load import parse_bench
from jetruler.core.bench.channel import CodeTable
from jetruler.errors import ParameterError
from tests.conftest import Cli
from tests.helpers.sizes import few, thinned

ROWS: dict[str, list[Any]] = {
    "time_s": [0.0, 0.2, 0.4, 0.6],
    "ch0": [2048, 4095, None, 700],
    "ch1": [198, 3904, 100, 2051],
    "note": ["a", "", 'b "q", c', "d"],
}
CSV = 'time_s,ch0,ch1,note\n0.0,2048,198,a\n0.2,4095,3904,\n0.4,,100,"b ""q"", c"\n0.6,700,2051,d\n'


def write(folder: Path, name: str, rows: dict[str, list[Any]] | None = None) -> Path:
    """The rows as a log in the format that the name shows, written without our own code."""
    rows = rows or ROWS
    path = folder / name
    plain = name.removesuffix(".gz").removesuffix(".zst")
    if plain.endswith(".parquet"):
        pq.write_table(pa.table({k: pa.array(v, from_pandas=True) for k, v in rows.items()}), path)
        return path
    if plain.endswith(".jsonl"):
        lines = [
            json.dumps(dict(zip(rows, r, strict=True))) for r in zip(*rows.values(), strict=True)
        ]
        data = ("\n".join(lines) + "\n").encode()
    else:
        data = CSV.encode()
    if name.endswith(".gz"):
        data = gzip.compress(data)
    if name.endswith(".zst"):
        with pa.CompressedOutputStream(pa.OSFile(str(path), "wb"), "zstd") as out:
            out.write(data)
        return path
    path.write_bytes(data)
    return path


def read(path: Path) -> list[dict[str, Any]]:
    """A result's rows, read without our own code; what has no value is None."""
    name = path.name
    if name.endswith(".parquet"):
        rows: list[dict[str, Any]] = pq.read_table(path).to_pylist()
        return rows
    data = path.read_bytes()
    if name.endswith(".zst"):
        data = pa.CompressedInputStream(pa.BufferReader(data), "zstd").read()
    if name.endswith(".gz"):
        data = gzip.decompress(data)
    if ".jsonl" in name:
        return [json.loads(line) for line in data.decode().splitlines()]
    options = pacsv.ConvertOptions(null_values=[""], strings_can_be_null=True)
    table = pacsv.read_csv(pa.BufferReader(data), convert_options=options)
    return [row | {"flags": row["flags"] or ""} for row in table.to_pylist()]


KINDS = ["csv", "csv.gz", "csv.zst", "jsonl", "jsonl.gz", "jsonl.zst", "parquet"]


@pytest.mark.parametrize(("ending", "into"), thinned(itertools.product(KINDS, KINDS), 3))
def test_every_format_from_every_format(
    bench: Bench, tmp_path: Path, ending: str, into: str
) -> None:
    log, out = write(tmp_path, f"log.{ending}"), tmp_path / f"out.{into}"
    summary = convert(log, bench, out)
    volts = [n * 3.3 / 4095 if n is not None else None for n in ROWS["ch0"]]
    percent = [min(max((n - 198) / 37.06, 0.0), 100.0) for n in ROWS["ch1"]]
    if into != "parquet":  # text goes to the channel's decimals
        volts = [v if v is None else round(v, 3) for v in volts]
        percent = [round(p, 1) for p in percent]
    found = read(out)
    assert [row["time_s"] for row in found] == ROWS["time_s"]
    assert [row["note"] or "" for row in found] == ROWS["note"]
    for row, v, p in zip(found, volts, percent, strict=True):
        assert row["bean_V"] == (v if v is None else pytest.approx(v, rel=1e-15))
        assert row["damper_percent"] == pytest.approx(p, rel=1e-13)
    flags = ["", "bean:high_rail;bean:above", "bean:missing;damper:below", ""]
    assert [row["flags"] for row in found] == flags
    assert list(found[0]) == ["time_s", "note", "bean_V", "damper_percent", "flags"]
    where = "row" if ending == "parquet" else "line"
    assert summary.counted == where
    assert summary.notes()[0].startswith(f"bean: 1 empty and 0 unreadable cells ({where} ")
    assert look(log, bench).rows == 4


def test_parquet_keeps_units_title_and_words(bench: Bench, tmp_path: Path) -> None:
    convert(write(tmp_path, "log.csv"), bench, tmp_path / "out.parquet", uncertainty=True)
    schema = pq.read_schema(tmp_path / "out.parquet")
    about = {b"unit": b"V", b"title": b"Test bench", b"channel": b"bean", b"decimals": b"3"}
    assert schema.field("bean_V").metadata == about
    assert schema.field("bean_V_u").metadata == about
    assert schema.field("damper_percent").metadata[b"unit"] == b"%"
    assert schema.metadata[b"title"] == b"Test bench"
    assert schema.field("flags").type == pa.dictionary(pa.int32(), pa.string())
    assert schema.field("time_s").type == pa.float64()


def test_zones_are_words_in_every_format(home: Path) -> None:
    bench = load_bench(home / "bench.toml")
    for ending in ("csv", "jsonl", "parquet"):
        convert(home / "roast.csv", bench, home / f"out.{ending}", only=["tray"])
    rows = {ending: read(home / f"out.{ending}") for ending in ("csv", "jsonl", "parquet")}
    assert {row["tray_zone"] for row in rows["parquet"]} >= {"empty", "full"}
    for other in ("csv", "jsonl"):
        assert [r["tray_zone"] for r in rows[other]] == [r["tray_zone"] for r in rows["parquet"]]
    kind = pq.read_schema(home / "out.parquet").field("tray_zone").type
    assert pa.types.is_dictionary(kind)


@few
@pytest.mark.parametrize(
    ("cells", "kind", "wanted"),
    [
        (["1", "2", "3"], pa.int64(), [1, 2, 3]),
        (["1", "2", "2.5"], pa.float64(), [1.0, 2.0, 2.5]),
        (["1", "", "late"], pa.string(), ["1", None, "late"]),
        (["007", "8", "9"], pa.string(), ["007", "8", "9"]),
        (["9", "8", "007"], pa.string(), ["9", "8", "007"]),
        (["1", "1e999", "2"], pa.string(), ["1", "1e999", "2"]),
        (["", "", ""], pa.string(), [None, None, None]),
        (["", "5", "6.5"], pa.float64(), [None, 5.0, 6.5]),
        (["", "2026-11-23T10:00:00", "no"], pa.string(), [None, "2026-11-23T10:00:00", "no"]),
    ],
)
def test_text_gets_the_type_it_shows_to_its_last_row(
    bench: Bench, tmp_path: Path, cells: list[str], kind: pa.DataType, wanted: list[Any]
) -> None:
    """The first block alone would show another type: the log is then read again."""
    first = [cells[0]] * 8_000 + cells[1:]
    log = tmp_path / "log.csv"
    log.write_text("x,ch0,ch1\n" + "".join(f"{cell},1,2\n" for cell in first))
    convert(log, bench, tmp_path / "out.parquet", memory=0.001)
    column = pq.read_table(tmp_path / "out.parquet")["x"]
    assert column.type == kind
    assert column.to_pylist()[7_999:] == wanted
    convert(log, bench, tmp_path / "out.jsonl", memory=0.001)
    assert [row["x"] for row in read(tmp_path / "out.jsonl")][7_999:] == wanted


def test_standard_input_cannot_be_read_again(cli: Cli, home: Path) -> None:
    rows = "".join(f"{i},1,2,3,4,5,6,7,8,9\n" for i in range(60_000)) + "late" + ",1" * 9 + "\n"
    header = "x,ch0,ch1,ch2,ch3,ch4,ch5,ch6,ch7,other\n"
    done = cli("convert", "-", "-o", "out.parquet", "--memory", "1", stdin=header + rows)
    assert done.returncode == 2
    assert (
        "line 60002: expected a cell of column 'x' written as those before, found 'late'"
        in done.stderr
    )
    assert not (home / "out.parquet").exists()


def test_json_lines_that_are_not_as_they_should_be(
    bench: Bench, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    lines = [
        '{"time_s": 0, "ch0": 2048, "ch1": 198}',
        "not a record",
        "",
        '{"ch1": "198", "ch0": 2048.0, "time_s": "2026-11-23T10:00:00"}',
        '{"time_s": 3, "ch1": null}',
        "[1, 2]",
        '{"time_s": {"s": 4}, "ch0": true, "ch1": 1e400, "new": 7}',
    ]
    log = tmp_path / "log.jsonl"
    log.write_text("\n".join(lines))
    summary = convert(log, bench, tmp_path / "out.jsonl")
    found = read(tmp_path / "out.jsonl")
    assert [row["bean_V"] for row in found] == [1.65, 1.65, None, None]
    assert [row["damper_percent"] for row in found] == [0.0, 0.0, None, None]
    assert (summary.torn_rows, summary.torn_lines, summary.blank_lines) == (0, [], 1)
    assert summary.noise == "2 lines were no samples: other text 2 (the first: 'not a record')"
    assert summary.channels["bean"].first_lines == [5, 7]
    # The whole first block is seen before the columns are settled; for later fields a file is read
    # again, and those of a pipe are counted.
    assert "new" in found[0]
    many = [lines[0]] * 5000 + ['{"time_s": 1, "ch0": 1, "ch1": 2, "late": 5}']
    log.write_text("\n".join(many))
    late = convert(log, bench, tmp_path / "out.jsonl", memory=0.001)
    assert late.late == {}
    assert [row["late"] for row in read(tmp_path / "out.jsonl")][4998:] == [None, None, 5]
    with log.open("rb") as file:
        monkeypatch.setattr("sys.stdin", io.TextIOWrapper(io.BufferedReader(file.raw)))
        late = convert("-", bench, tmp_path / "out.csv", memory=0.001)
    assert late.late == {"late": 1}
    assert "field 'late' came after the first block of the log: 1 values left out" in late.notes()


def parquet_of(path: Path, **columns: Any) -> Path:
    pq.write_table(pa.table(columns), path)
    return path


@pytest.mark.parametrize(
    ("counts", "volts"),
    [
        (pa.array([0, 4095], pa.uint16()), [0.0, 3.3]),
        (pa.array([0, None, 2**63 + 5], pa.uint64()), [0.0, None, None]),
        (pa.array([-1, None, 4096], pa.int16()), [None, None, None]),
        (pa.array([2048.0, None, float("nan"), 1e300]), [1.6504, None, None, None]),
        (pa.array(["2048", "x", None]), [1.6504, None, None]),
        (pa.array(["2048", "x"]).dictionary_encode(), [1.6504, None]),
        (pa.array([True, False, None]), [None, None, None]),
    ],
    ids=str,
)
def test_counts_of_every_type(
    bench: Bench, tmp_path: Path, counts: pa.Array, volts: list[float | None]
) -> None:
    fine = pa.array(range(len(counts)))
    log = parquet_of(tmp_path / "log.parquet", ch0=counts, ch1=fine)
    convert(log, bench, tmp_path / "out.parquet")
    found = [row["bean_V"] for row in read(tmp_path / "out.parquet")]
    assert found == [None if v is None else pytest.approx(v, abs=1e-4) for v in volts]


PASSED = {
    "large": pa.array(["a", None], pa.large_string()),
    "bytes": pa.array([b"\xff\xfe", b"x"]),
    "when": pa.array([0, 86_400_000_000], pa.timestamp("us")),
    "took": pa.array([1, None], pa.duration("s")),
    "price": pa.array(["1.50", "2.00"]).cast(pa.decimal128(5, 2)),
    "nested": pa.array([{"a": [1]}, None]),
    "words": pa.array(["x", "x"]).dictionary_encode(),
    "yes": pa.array([True, None]),
}


@pytest.mark.parametrize("name", PASSED)
def test_columns_of_every_type_pass_through(bench: Bench, tmp_path: Path, name: str) -> None:
    two = pa.array([1, 2])
    log = parquet_of(tmp_path / "log.parquet", x=PASSED[name], ch0=two, ch1=two)
    for ending in ("parquet", "jsonl", "csv"):
        convert(log, bench, tmp_path / f"out.{ending}")
    stored = pq.read_table(tmp_path / "out.parquet")["x"]
    if name == "nested":
        assert stored.to_pylist() == ['{"a": [1]}', None]
    else:
        assert stored.to_pylist() == PASSED[name].to_pylist()
    shown = [row["x"] for row in read(tmp_path / "out.jsonl")]
    wanted = {"bytes": ["ÿþ", "x"], "yes": [True, None], "nested": ['{"a": [1]}', None]}
    assert len(shown) == 2
    assert shown == wanted.get(name, shown)
    assert (tmp_path / "out.csv").read_bytes().count(b"\n") == 3


def test_damage_in_a_later_part_leaves_nothing_and_one_sentence(cli: Cli, home: Path) -> None:
    rng = np.random.default_rng(5)
    columns = {f"ch{i}": rng.integers(0, 4096, 40_000) for i in range(8)}
    table = pa.table({"time_s": np.arange(40_000) / 5} | columns)
    pq.write_table(table, home / "log.parquet", row_group_size=10_000)
    start = pq.read_metadata(home / "log.parquet").row_group(3).column(2).data_page_offset
    data = bytearray((home / "log.parquet").read_bytes())
    data[start + 40 : start + 4000] = bytes(3960)
    (home / "log.parquet").write_bytes(bytes(data))
    before = sorted(home.iterdir())
    for out in ("out.parquet", "out.csv", "out.jsonl.zst", "out.csv.gz"):
        done = cli("convert", "log.parquet", "-o", out, "--memory", "1")
        assert done.returncode == 2
        assert "log.parquet: this Parquet file is damaged or cut short" in done.stderr
        assert done.stderr.count("\n") == 1
    assert sorted(home.iterdir()) == before


BAD = {
    "cut.parquet": "damaged or cut short",
    "scrambled.parquet": "damaged or cut short",
    "text.parquet": "damaged or cut short",
    "cut.csv.zst": "zstd data is damaged or cut short",
    "empty.jsonl": "expected a log, found an empty file",
    "prose.jsonl": "hold no JSON record",
    "gone.parquet": "found no such file",
}


@pytest.mark.parametrize(("name", "told"), BAD.items())
def test_damaged_logs_are_named_and_leave_nothing(
    cli: Cli, home: Path, name: str, told: str
) -> None:
    whole = write(home, "whole.parquet", {k: v * 5000 for k, v in ROWS.items()}).read_bytes()
    scrambled = bytearray(whole)
    scrambled[400:2000] = bytes(1600)
    packed = write(home, "log.csv.zst").read_bytes()
    data = {
        "cut.parquet": whole[:-100],
        "scrambled.parquet": bytes(scrambled),
        "text.parquet": b"time_s,ch0\n",
        "cut.csv.zst": packed[:-10],
        "empty.jsonl": b"",
        "prose.jsonl": b"it was\na dark night\n",
    }
    if name in data:
        (home / name).write_bytes(data[name])
    bench = 'title="t"\n[converter]\nbits=12\nvref=3.3\n[channel.a]\ncolumn="ch0"\n'
    (home / "small.toml").write_text(bench)
    for out in ("out.csv", "out.parquet"):
        done = cli("convert", name, "-b", "small.toml", "-o", out)
        assert done.returncode == 2, done.stderr
        assert told in done.stderr
        assert name in done.stderr
        assert done.stderr.count("\n") == 1
    assert not list(home.glob("*out.*"))
    assert not list(home.glob(".*.part"))


def test_what_cannot_be_written(cli: Cli, home: Path) -> None:
    for args, told in [
        (("-o", "out.parquet.gz"), "it is packed already"),
        (("-o", "/dev/full", "--to", "parquet"), "no space left on device"),
        (("-o", "/dev/full", "--to", "jsonl"), "no space left on device"),
        (("--memory", "0"), "--memory"),
    ]:
        done = cli("convert", "roast.csv", *args)
        assert done.returncode == 2
        assert told in done.stderr
    done = cli("convert", "-", "--format", "parquet", stdin="x")
    assert "expected a file, found a stream: Parquet is read from its end" in done.stderr


def test_pipes_carry_any_format(cli: Cli, home: Path) -> None:
    first = cli("convert", "roast.csv", "--to", "jsonl", "--keep-raw")
    again = cli("convert", "-", "--format", "jsonl", "--only", "rail", stdin=first.stdout)
    assert again.returncode == 2  # its results have the names that ours would get
    assert "has the name of a result" in again.stderr
    raw = "".join(
        json.dumps({k: v for k, v in json.loads(line).items() if k[:2] in ("ti", "ch", "no")})
        + "\n"
        for line in first.stdout.splitlines()
    )
    piped = cli("convert", "-", "--format", "jsonl", stdin=raw)
    assert piped.stdout == cli("convert", "roast.csv", "--to", "jsonl").stdout
    assert piped.returncode == 0


@few
@pytest.mark.parametrize("into", ["csv", "jsonl", "parquet"])
def test_threads_and_memory_change_no_byte(home: Path, into: str) -> None:
    bench = load_bench(home / "bench.toml")
    results = set()
    for i, (threads, memory) in enumerate([(1, 128), (2, 128), (4, 1), (1, 0.01), (3, 0.01)]):
        out = home / f"out{i}.{into}"
        convert(home / "roast.csv", bench, out, threads=threads, memory=memory)
        rows = read(out) if into == "parquet" else out.read_bytes()
        results.add(repr(rows))
    assert len(results) == 1


@given(
    hnp.arrays(hnp.integer_dtypes() | hnp.unsigned_integer_dtypes(), st.integers(0, 30)),
    st.sampled_from([(8, False), (12, False), (16, False), (16, True)]),
    st.data(),
)
def test_places_in_the_table_read_as_the_channel_does(
    counts: Any, converter: tuple[int, bool], data: st.DataObject
) -> None:
    bits, signed = converter
    bench = parse_bench(
        f"[converter]\nbits = {bits}\nvref = 2.5\nsigned = {str(signed).lower()}\n"
        '[channel.a]\ncolumn = "a"\nlimits = [0.1, 2]'
    )
    channel: Channel = bench["a"]
    every = CodeTable.of(channel)
    assert every is not None
    missing = np.array(
        data.draw(st.lists(st.booleans(), min_size=counts.size, max_size=counts.size))
    )
    missing = missing.astype(bool)
    places = every.indices(counts, missing)
    wanted = channel.read(counts.astype(object).tolist() if counts.dtype == np.uint64 else counts)
    flags = np.where(missing, Flag.MISSING, wanted.flags)
    values = np.where(missing, np.nan, wanted.value)
    np.testing.assert_array_equal(every.read(places).flags, flags)
    np.testing.assert_array_equal(every.read(places).value, values)
    assert every.histogram(places).sum() == counts.size


def test_the_summary_is_exact(bench: Bench, tmp_path: Path) -> None:
    rng = np.random.default_rng(7)
    counts = rng.integers(0, 4096, (5000, 2))
    log = tmp_path / "log.csv"
    log.write_text("ch0,ch1\n" + "".join(f"{a},{b}\n" for a, b in counts.tolist()))
    found = convert(log, bench, tmp_path / "out.csv").channels["damper"]
    values = np.clip((counts[:, 1] - 198) / 37.06, 0, 100)
    assert found.mean == pytest.approx(values.mean(), rel=1e-12)
    assert (found.smallest, found.largest, found.values) == (0.0, 100.0, 5000)
    assert found.flags["below"] == np.count_nonzero(counts[:, 1] < 198)
    assert found.flags["above"] == np.count_nonzero(counts[:, 1] > 3904)


def test_an_unknown_format_is_refused() -> None:
    with pytest.raises(ParameterError, match="one of csv, pairs, words, jsonl, parquet"):
        LogFormat(format="xls")
