"""Marks and points of tables in files: whatever a spreadsheet writes is the same numbers."""

from __future__ import annotations

import gzip
from pathlib import Path

import pytest

import jetruler as jr
from jetruler.errors import BenchError, MarksError

RAW, TRUE = [1880, 2500.5, 3100], [120.8, -180.25, 2.25e-7]
BENCH = """
[channel.a]
column = 1
input = { unit = "V" }
laws = [{ law = "table", points = "points.csv", unit = "cm" }]
"""
#: How a row is written: what separates its cells, its decimal mark, what is behind its numbers.
WRITTEN = [
    (",", ".", "", ""), (";", ".", "", ""), (";", ",", "", ""), ("\t", ",", "", ""),
    ("|", ",", "", ""), (",", ".", " count", " °C"), (";", ",", "count", "°C"),
    (", ", ".", "", ""),
]  # fmt: skip
ENCODINGS = ("utf-8", "utf-8-sig", "cp1252", "utf-16")


def written(header: str, sign: str, decimal: str, behind: tuple[str, str]) -> str:
    rows = [header] if header else []
    rows += [f"{raw}{behind[0]},{true}{behind[1]}" for raw, true in zip(RAW, TRUE, strict=True)]
    cells = [row.split(",") for row in ["# Röster", *rows, ""]]
    return "\n".join(sign.join(c).replace(".", decimal) for c in cells) + "\n"


@pytest.mark.parametrize(("sign", "decimal", "raw", "true"), WRITTEN)
@pytest.mark.parametrize("encoding", ENCODINGS)
def test_marks_are_read_as_logs_are(
    tmp_path: Path, sign: str, decimal: str, raw: str, true: str, encoding: str
) -> None:
    header = "raw,true" if raw else "raw (count),true (°C)"
    data = written(header, sign, decimal, (raw, true)).encode(encoding)
    for name, packed in (("m.csv", data), ("m.csv.gz", gzip.compress(data))):
        (tmp_path / name).write_bytes(packed)
        marks = jr.read_marks(tmp_path / name)
        assert (marks.raw.tolist(), marks.true.tolist()) == (RAW, TRUE)
        assert (marks.raw_unit, marks.true_unit) == ("count", "degC")
        assert marks.names == tuple(f"{name} line {line}" for line in (3, 4, 5))


@pytest.mark.parametrize(("sign", "decimal", "raw", "true"), WRITTEN)
@pytest.mark.parametrize("header", ["", "Spannung,Länge (cm)"])
def test_points_are_read_as_logs_are(
    tmp_path: Path, sign: str, decimal: str, raw: str, true: str, header: str
) -> None:
    (tmp_path / "bench.toml").write_text(BENCH)
    for encoding in ENCODINGS:
        data = written(header, sign, decimal, (raw, true)).encode(encoding)
        (tmp_path / "points.csv").write_bytes(data)
        law = jr.load_bench(tmp_path / "bench.toml")["a"].ruler.laws[-1]
        assert isinstance(law, jr.Table)
        assert [tuple(point) for point in law.points] == list(zip(RAW, TRUE, strict=True))


REFUSED = [
    ("raw,true\n1,2\nin the morning\n3,4\n", "expected numbers in each line, found 'in the morn"),
    (
        'raw,true\n1,2\n3,"1,234.5"\n',
        "line 3: true: expected a number, without separators, as in 1234.5",
    ),
    (
        "raw (V),true\n1 V,2\n1100 mV,3\n1.2 V,4\n",
        "line 3: raw: expected a number, found '1100 m",
    ),
    ("1880 120.8\n2500 180.3\n", "a header with the columns raw and true"),
    ("raw,true\n1,2\n,3\n", "line 3: raw: expected a number, found ''"),
    ("raw,true\n1,nan\n", "line 2: true: expected a number, found 'nan'"),
    ("# nothing\n\n", "found an empty file"),
    ("\x00\x01\x02", "expected rows below the header, found none"),
]


@pytest.mark.parametrize(("text", "says"), REFUSED)
def test_marks_that_are_none_are_answered_with_their_line(
    tmp_path: Path, text: str, says: str
) -> None:
    (tmp_path / "m.csv").write_text(text)
    with pytest.raises(MarksError) as refused:
        jr.read_marks(tmp_path / "m.csv")
    assert says in str(refused.value)


def test_a_packed_file_has_bounds(tmp_path: Path) -> None:
    """A few kilobytes may be any number of rows."""
    (tmp_path / "m.csv.gz").write_bytes(gzip.compress(b"raw,true\n" + b"1,2\n" * 2_500_000))
    with pytest.raises(MarksError, match="expected a small file, of up to 1000000 rows"):
        jr.read_marks(tmp_path / "m.csv.gz")


@pytest.mark.parametrize(
    "text",
    ["v,cm\n0,x\n", "0,0\nsecret\n3.3,80\n", "0\n3.3\n", "", "\0\1", "v,cm\n", "root:x:0:0\n"],
)
def test_what_are_no_points_is_refused_and_not_shown(tmp_path: Path, text: str) -> None:
    (tmp_path / "bench.toml").write_text(BENCH)
    (tmp_path / "points.csv").write_text(text)
    with pytest.raises(BenchError, match=r"laws\[1 table\].points: expected two ") as refused:
        jr.load_bench(tmp_path / "bench.toml")
    assert "secret" not in str(refused.value)
    assert "root" not in str(refused.value).replace(str(tmp_path), "")
