"""What passes through a conversion is had back as it was written: any format into any other, in any
memory; or it is text."""

from __future__ import annotations

import contextlib
import csv
import datetime as dt
import io
import json
import random
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

import jetruler as jr
from jetruler.samples.source import ColumnError
from tests.helpers.sizes import few, soak

BENCH = jr.parse_bench(
    '[channel.level]\ncolumn = "ch0"\nconverter = { bits = 12, vref = 3.3 }\n'
    'laws = [{ law = "line", marks = [[0, 0], [4095, 100]], unit = "%" }]\n'
)
FORMATS = ("csv", "jsonl", "parquet")

#: Makers of cells; a column has one, or now and then a cell of another.
STAMP = dt.datetime(2026, 1, 1, 5, 6, 7, 123456)
KINDS: dict[str, Callable[[random.Random], str]] = {
    "small": lambda r: str(r.randrange(-50, 4096)),
    "int64": lambda r: str(r.randrange(-(2**63), 2**63)),
    "uint64": lambda r: str(r.randrange(2**63, 2**64)),
    "huge": lambda r: str(r.randrange(10**30)),
    "near 2^53": lambda r: str(2**53 + r.randrange(-3, 9)),
    "fixed": lambda r: f"{r.uniform(-40, 40):.3f}",
    "epoch": lambda r: f"{1.7e9 + r.random():.6f}",
    "repr": lambda r: repr(r.choice((r.uniform(-1, 1), float(r.randrange(20)), r.random() * 1e9))),
    "long": lambda r: f"0.{r.randrange(10**24)}",
    "exponent": lambda r: r.choice(("12E3", "1e5", "1e-7", "1e+22", "5e-324", "1e400", "-1E400")),
    "signed": lambda r: f"{r.uniform(-1, 1):+.2f}",
    "zeros": lambda r: f"{r.randrange(40):03d}",
    "hex": lambda r: r.choice(("0x1F", "0xFF", "0X0", "0xffffffff")),
    "odd": lambda r: r.choice(("-0", "-0.0", ".5", "5.", "1_0", "1 000", "٣", "½", "nan", "inf")),
    "date": lambda r: str(STAMP.date() + dt.timedelta(days=r.randrange(9))),
    "time": lambda r: (STAMP + dt.timedelta(seconds=r.random())).isoformat(),
    "blank": lambda r: (STAMP + dt.timedelta(seconds=r.randrange(60))).isoformat(" ", "seconds"),
    "utc": lambda r: f"2026-01-01T00:00:{r.uniform(10, 59):.3f}Z",
    "zone": lambda r: "2026-01-01T00:00:00+01:00",
    "no date": lambda r: r.choice(("2026-02-30", "2026-1-1", "24:00", "2026-01-01T24:00:00")),
    "text": lambda r: r.choice(("hot", "a b", "é", "NA", "null", "true", "=1+1", "'", "#")),
    "quoted": lambda r: r.choice(('a,b', 'say "x"', "a;b", "two\nlines", "tab\tbed")),
    "empty": lambda r: "",
}  # fmt: skip


def columns_of(rng: random.Random, rows: int, many: int) -> dict[str, list[str]]:
    """Columns of odd cells: of one kind, with gaps, or with other kinds from some row on."""
    found = {}
    for i in range(many):
        one, other = rng.choices(list(KINDS), k=2)
        turn = rng.choice((rows, rows, rng.randrange(rows)))
        gaps = rng.choice((0.0, 0.0, 0.3))
        found[f"c{i}"] = [
            "" if rng.random() < gaps else KINDS[one if row < turn else other](rng)
            for row in range(rows)
        ]
    return found


def as_csv(columns: dict[str, list[str]]) -> bytes:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    # A row that begins with # is a comment, so a number stands in front.
    writer.writerow(["row", *columns, "ch0"])
    rows = zip(*columns.values(), strict=True)
    writer.writerows([str(number), *row, "7"] for number, row in enumerate(rows))
    return out.getvalue().encode()


#: The forms of times that a Parquet field names, as strftime has them.
PARTS = {"YYYY": "%Y", "MM": "%m", "DD": "%d", "hh": "%H", "mm": "%M", "ss": "%S", "ffffff": "%f"}


def text_of(value: Any, about: dict[str, str]) -> str:
    """What a cell was, by the value of a typed column and what its metadata say of the form."""
    if value is None:
        return ""
    form = about.get("text", "")
    if "decimals" in about:
        return f"{value:.{about['decimals']}f}"
    if isinstance(value, float) and form:
        return repr(value)
    if isinstance(value, float):
        return pa.scalar(value).cast(pa.string()).as_py()  # type: ignore[no-any-return]
    if isinstance(value, dt.datetime) and "fff" in form and "ffffff" not in form:
        text = value.replace(tzinfo=None).isoformat(form[10], "milliseconds")
        return text + "Z" * form.endswith("Z")
    if isinstance(value, dt.date):
        for part, sign in PARTS.items():
            form = form.replace(part, sign, 1)
        return value.strftime(form)
    return str(value)


class Literal(str):
    """A number of JSON, digit by digit."""


def shown(path: Path, names: list[str]) -> dict[str, list[str]]:
    """The texts of a result's columns, as a reader of its format has them back."""
    if path.suffix == ".parquet":
        table = pq.read_table(path)
        about = {
            name: {k.decode(): v.decode() for k, v in (table.field(name).metadata or {}).items()}
            for name in names
        }
        return {name: [text_of(v, about[name]) for v in table[name].to_pylist()] for name in names}
    if path.suffix == ".csv":
        rows = list(csv.DictReader(io.StringIO(path.read_bytes().decode(), newline="")))
        return {name: [row[name] for row in rows] for name in names}
    found = []
    for line in path.read_text().splitlines():
        record = json.loads(line, parse_float=Literal, parse_int=Literal)
        for value in record.values():
            # A number is had back by whoever reads it as a float or as a whole number.
            if isinstance(value, Literal) and "." not in value and "e" not in value:
                assert str(int(value)) == value
        found.append({n: "" if record[n] is None else str(record[n]) for n in names})
    return {name: [row[name] for row in found] for name in names}


def converted(log: Path, to: str, memory: float) -> Path:
    out = log.with_name(f"out-{memory}.{to}")
    jr.convert(log, BENCH, out, memory=memory)
    return out


def check_cells(home: Path, seed: int, rows: int, many: int) -> int:
    """Compare the texts of every column after one conversion, and after two."""
    rng = random.Random(seed)
    columns = columns_of(rng, rows, many)
    names = list(columns)
    log = home / "log.csv"
    log.write_bytes(as_csv(columns))
    checked = 0
    for to in FORMATS:
        first = converted(log, to, 0.001)
        assert shown(first, names) == columns, to
        checked += rows * many
        # The same bytes (or, of Parquet, the same table) whatever the memory is.
        again = converted(log, to, 64.0)
        if to == "parquet":
            assert pq.read_table(first).equals(pq.read_table(again), check_metadata=True)
        else:
            assert first.read_bytes() == again.read_bytes()
    return checked


@soak
def test_every_cell_is_had_back(tmp_path: Path) -> None:
    for seed in range(3):
        assert check_cells(tmp_path, seed, 6_000 if not seed else 60, 12)


@pytest.mark.soak
def test_every_cell_of_two_hundred_odd_columns_is_had_back(tmp_path: Path) -> None:
    checked = 0
    for seed in range(100, 112):
        # A quoted cell of two lines in the first rows may hide the header: that is refused.
        with contextlib.suppress(ColumnError):
            checked += check_cells(tmp_path, seed, 4_000 if seed < 101 else 150, 200)
    assert checked > 12 * 150 * 200 * 3


def cells_of(path: Path) -> list[str]:
    """The column x of a CSV."""
    return [row["x"] for row in csv.DictReader(io.StringIO(path.read_text(), newline=""))]


NANOS = ("1970-01-01 00:00:00.000000001", "1970-01-01 00:00:00.000000002")
#: Typed cells, as Parquet has them, and what they are in a text.
TYPED: dict[str, tuple[Any, list[str]]] = {
    "uint64": (pa.array([2**64 - 1, None, 0], pa.uint64()), ["18446744073709551615", "", "0"]),
    "int64": (pa.array([2**53 + 1, -(2**63), 0]), ["9007199254740993", str(-(2**63)), "0"]),
    "float32": (pa.array([0.1, 16777216.0, None], pa.float32()), ["0.1", "16777216", ""]),
    "float": (pa.array([0.1 + 0.2, 1e22, -0.0]), ["0.30000000000000004", "1e+22", "-0"]),
    "date": (pa.array([dt.date(2026, 1, 1)] * 3), ["2026-01-01"] * 3),
    "price": (pa.array(["1.50", "2.00", None]).cast(pa.decimal128(30, 2)), ["1.50", "2.00", ""]),
    "nanos": (pa.array([1, 2, None], pa.timestamp("ns")), [*NANOS, ""]),
    "took": (pa.array([1, 2**40, None], pa.duration("ns")), ["1", str(2**40), ""]),
    "bool": (pa.array([True, False, None]), ["true", "false", ""]),
    "inf": (pa.array([1.5, float("inf"), float("-inf")]), ["1.5", "inf", "-inf"]),
}  # fmt: skip


@pytest.mark.parametrize("name", TYPED)
def test_typed_cells_keep_their_values(tmp_path: Path, name: str) -> None:
    cells, texts = TYPED[name]
    log = tmp_path / "log.parquet"
    pq.write_table(pa.table({"x": cells, "ch0": [1, 2, 3]}), log)
    for to in FORMATS:
        jr.convert(log, BENCH, tmp_path / f"out.{to}")
    assert pq.read_table(tmp_path / "out.parquet")["x"].combine_chunks().equals(cells)
    assert cells_of(tmp_path / "out.csv") == texts
    rows = [json.loads(line)["x"] for line in (tmp_path / "out.jsonl").read_text().splitlines()]
    for value, text in zip(rows, texts, strict=True):
        if isinstance(value, bool | None):
            assert text == {None: "", True: "true", False: "false"}[value]
        elif isinstance(value, float):
            assert value == float(text)
        else:
            assert str(value) == text


@few
@pytest.mark.parametrize("memory", [0.001, 64.0])
@pytest.mark.parametrize(
    "literals",
    [
        ["1", "2.5"] * 3,
        ["9007199254740993", "0.5", "1"],
        ["12345678901234567890", "1"],
        ["-9223372036854775808", "0.25"],
        ["1e400", "1.5"],
        ["1", "2.0", "true", "null"],
        ['"007"', "7"],
        ['{"a": "b"}', "3"],
        ['"2026-01-01"', "4"],
    ],
    ids=str,
)
def test_numbers_of_json_lines(tmp_path: Path, literals: list[str], memory: float) -> None:
    """Each block may show another type; the column is one that holds them all."""
    log = tmp_path / "log.jsonl"
    rows = [one for one in literals for _ in range(700)]
    log.write_text("".join(f'{{"x": {one}, "ch0": 5}}\n' for one in rows))
    for to in ("jsonl", "csv"):
        jr.convert(log, BENCH, tmp_path / f"out.{to}", memory=memory)
    wanted = [json.loads(one, parse_int=Literal, parse_float=Literal) for one in rows]
    found = [
        json.loads(line, parse_int=Literal, parse_float=Literal)["x"]
        for line in (tmp_path / "out.jsonl").read_text().splitlines()
    ]
    texts = cells_of(tmp_path / "out.csv")
    for cell, had_back, text in zip(wanted, found, texts, strict=True):
        if isinstance(cell, Literal):
            exact = np.longdouble(cell) if "e" not in cell else cell
            for again in (had_back, text):
                same = np.longdouble(str(again)) == exact if "e" not in cell else again == cell
                assert same, (cell, again)
        elif cell is None:
            assert (had_back, text) == (None, "")
        else:
            asked = cell if isinstance(cell, str) else json.dumps(cell)
            assert asked in (had_back, json.dumps(had_back))
            assert text == asked


@pytest.mark.parametrize("kind", [">u2", "<u2", ">i4", ">f8", ">f4", "u1", "f2", "i8", ">u8"])
@pytest.mark.parametrize("of", ["array", "strided", "offset"])
def test_byte_order_width_and_alignment_never_matter(kind: str, of: str) -> None:
    counts = np.array([0, 5, 250, 5, 77, 128] * 3)
    given = counts.astype(kind)
    if of == "strided":
        given = np.stack([given, given]).T.ravel()[::2]
    if of == "offset":
        given = np.frombuffer(b"\0" + given.tobytes(), np.dtype(kind), offset=1)
    wanted = BENCH["level"](counts)
    assert np.array_equal(BENCH["level"](given), wanted)
    pd = pytest.importorskip("pandas")
    assert np.array_equal(BENCH.convert(pd.DataFrame({"ch0": given}))["level_percent"], wanted)
    assert jr.look(given).columns["1"].survey.mean == counts.mean()
    survey = jr.survey(given, bits=8)
    assert (survey.smallest, survey.largest) == (0, 250)


def test_columns_of_a_result_have_names_of_their_own(tmp_path: Path) -> None:
    log = tmp_path / "log.csv"
    log.write_text("x,x,,ch0,\xe9,\n1,2,3,4,5,6\n", encoding="utf-8")
    wanted = ["x", "x_2", "column_3", "é", "column_6", "level_percent", "flags"]
    for to in FORMATS:
        summary = jr.convert(log, BENCH, tmp_path / f"out.{to}")
        assert summary.renamed == {2: "x_2", 3: "column_3", 6: "column_6"}
        assert "column 3 is written as 'column_3': it had no name of its own" in summary.notes()
    assert (tmp_path / "out.csv").read_text().splitlines()[0].split(",") == wanted
    pairs = json.loads((tmp_path / "out.jsonl").read_text(), object_pairs_hook=list)
    assert [name for name, _ in pairs] == wanted
    assert pq.read_table(tmp_path / "out.parquet").column_names == wanted
    frame = pa.table([[1], [2]], names=["ch0", "ch0"])
    with pytest.raises(jr.errors.LogError, match="columns with names of their own, found 'ch0'"):
        BENCH.convert(frame)


def test_a_decimal_comma_leaves_no_number_with_a_point(tmp_path: Path) -> None:
    log = tmp_path / "log.csv"
    log.write_text("t;ch0\n0,1;1.880\n0,2;1880\n0,3;1880,0\n")
    summary = jr.convert(log, BENCH, tmp_path / "o.csv", form=jr.LogFormat(decimal=","))
    assert summary.channels["level"].unreadable == 1


@pytest.mark.parametrize("memory", [0.001, 64.0])
def test_registers_are_counts_in_any_block(tmp_path: Path, memory: float) -> None:
    cells = [hex(i % 4096) for i in range(9000)]
    cells[7000] = "12.5"
    log = tmp_path / "log.csv"
    log.write_text("ch0\n" + "\n".join(cells) + "\n")
    summary = jr.convert(log, BENCH, tmp_path / "out.csv", memory=memory)
    assert summary.channels["level"].unreadable == summary.channels["level"].empty == 0
    look = jr.look(log, BENCH)
    assert look.columns["level"].survey.missing == 0
