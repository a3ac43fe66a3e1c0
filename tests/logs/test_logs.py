"""Logs: every way they are written, every row kept, whatever happens to the output."""

from __future__ import annotations

import csv
import gzip
import io
import itertools
import math
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

from jetruler import Bench, LogFormat, convert
from jetruler.errors import LogError, ParameterError
from jetruler.logs.summary import Summary
from jetruler.samples import source
from tests.conftest import Cli

PLAIN = "time,ch0,ch1,note\n0.0,2048,198,a\n0.2,4095,3904,b\n"
WANTED = "time,note,bean_V,damper_percent,flags\n0.0,a,1.650,0.0,\n0.2,b,3.300,100.0,BEAN\n"
WANTED = WANTED.replace("BEAN", "bean:high_rail;bean:above")


def converted(
    bench: Bench, folder: Path, data: bytes, form: LogFormat | None = None, name: str = "in.csv"
) -> tuple[str, Summary]:
    (folder / name).write_bytes(data)
    summary = convert(folder / name, bench, folder / "out.csv", form=form)
    return (folder / "out.csv").read_bytes().decode("utf-8", "surrogateescape"), summary


@pytest.mark.parametrize(
    ("data", "form", "wanted"),
    [
        (PLAIN, LogFormat(), WANTED),
        (PLAIN.removesuffix("\n"), LogFormat(), WANTED),
        (PLAIN.replace("\n", "\r\n"), LogFormat(), WANTED.replace("\n", "\r\n")),
        (PLAIN.replace("\n", "\r"), LogFormat(), WANTED),
        ("\ufeff" + PLAIN, LogFormat(), WANTED),
        ("# made up\n\n" + PLAIN.replace("0.2", "# pause\n0.2"), LogFormat(), WANTED),
        (PLAIN.replace("\n0.2", "\n\n0.2") + "\n", LogFormat(), WANTED),
        (PLAIN.replace(",", "\t"), LogFormat(), WANTED.replace(",", "\t")),
        (PLAIN.replace("2048", " +2048 "), LogFormat(), WANTED),
        (PLAIN.replace("2048", "2048.0"), LogFormat(), WANTED),
        (PLAIN.replace("2048", '"2048"'), LogFormat(), WANTED),
        (
            PLAIN.replace(",", ";"),
            LogFormat(),
            WANTED.replace(",", ";").replace(
                "bean:high_rail;bean:above", '"bean:high_rail;bean:above"'
            ),
        ),
        (
            PLAIN.replace(",", ";").replace("2048", "2048,0").replace("0.", "0,"),
            LogFormat(decimal=","),
            WANTED.replace(",", ";")
            .replace(".", ",")
            .replace("bean:high_rail;bean:above", '"bean:high_rail;bean:above"'),
        ),
        (PLAIN.replace(",a", ',"x, ""y"""'), LogFormat(), WANTED.replace(",a", ',"x, ""y"""')),
        (PLAIN.replace(",a", ',"two\nlines"'), LogFormat(), WANTED.replace(",a", ',"two\nlines"')),
        (PLAIN.replace(",a", ',5" nail'), LogFormat(), WANTED.replace(",a", ',"5"" nail"')),
    ],
)
def test_every_way_of_writing(
    bench: Bench, tmp_path: Path, data: str, form: LogFormat, wanted: str
) -> None:
    text, _ = converted(bench, tmp_path, data.encode(), form)
    assert text == wanted


def test_gzip_bytes_that_are_no_text_and_no_header(bench: Bench, tmp_path: Path) -> None:
    assert converted(bench, tmp_path, gzip.compress(PLAIN.encode(), mtime=0))[0] == WANTED
    odd = PLAIN.encode().replace(b",a", b",\xb0\x01")
    assert "\udcb0\x01" in converted(bench, tmp_path, odd)[0]
    (tmp_path / "in.csv").write_text(PLAIN)
    convert(tmp_path / "in.csv", bench, tmp_path / "out.csv.gz")
    assert gzip.decompress((tmp_path / "out.csv.gz").read_bytes()).decode() == WANTED


def test_no_header_goes_by_number(tmp_path: Path) -> None:
    from jetruler.benchfile.load import parse_bench

    bench = parse_bench("[converter]\nbits = 8\nvref = 2.55\n[channel.a]\ncolumn = 2\ndecimals = 2")
    text, summary = converted(bench, tmp_path, b"0,100\n1,200\n", LogFormat(header=False))
    assert text == "0,1.00,\n1,2.00,\n"
    assert summary.rows == 2
    assert converted(bench, tmp_path, b"t,x\n1,200\n")[0] == "t,a_V,flags\n1,2.00,\n"


def test_bad_cells_become_missing_are_flagged_and_counted(bench: Bench, tmp_path: Path) -> None:
    rows = ["time,ch0,ch1,note", "0,,198,", "1,ERR,198,", "2,NaN,198,", "# pause", "3,2048,198,"]
    rows += ["4,20", "5,2048,198,x,y", "6,9999,198,", "7,-3,198,", "8,2048.5,198,", "9,1e30,198,"]
    text, summary = converted(bench, tmp_path, "\n".join(rows).encode())
    table = list(csv.DictReader(io.StringIO(text)))
    assert [row["time"] for row in table] == list("0123456789")
    assert [row["bean_V"] for row in table] == ["", "", "", "1.650", "", "", "", "", "1.651", ""]
    assert [row["flags"] for row in table] == [
        *["bean:missing"] * 3,
        "",
        *["bean:missing;damper:missing"] * 2,
        *["bean:off_scale"] * 2,
        "",
        "bean:off_scale",
    ]
    bean = summary.channels["bean"]
    assert (bean.empty, bean.unreadable, bean.fractional) == (2, 3, 1)
    assert bean.first_lines == [2, 3, 4, 7, 8]
    assert (summary.torn_rows, summary.torn_lines, summary.comments) == (2, [7, 8], 1)
    assert "bean: 2 empty and 3 unreadable cells (line 2, 3, 4, 7, 8)" in summary.notes()


def test_summary_against_pandas(bench: Bench, home: Path) -> None:
    summary = convert(home / "roast.csv", _demo(home), home / "out.csv")
    out = pd.read_csv(home / "out.csv")
    assert len(out) == summary.rows == len(pd.read_csv(home / "roast.csv")) == 4200
    exact = _demo(home)["damper"].ruler(pd.read_csv(home / "roast.csv")["ch2"])
    damper = summary.channels["damper"]
    assert (damper.smallest, damper.largest) == (exact.min(), exact.max())
    assert damper.mean == pytest.approx(exact.mean(), rel=1e-14)
    assert summary.channels["bean"].flags == {"high_rail": 10}
    assert out["flags"].str.contains("bean:high_rail", na=False).sum() == 10


def _demo(home: Path) -> Bench:
    from jetruler import load_bench

    return load_bench(home / "bench.toml")


cells = st.one_of(
    st.integers(-5, 5000).map(str), st.sampled_from(["", "x", "nan", "1.5", '"2"', "#3"])
)
notes = st.text(st.sampled_from('ab,;"\n\r é'), max_size=5)


@given(st.lists(st.tuples(cells, cells, notes), min_size=1, max_size=30), st.integers(7, 200))
def test_block_borders_change_nothing_and_no_row_is_lost(
    bench: Bench,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    rows: list[tuple[str, str, str]],
    size: int,
) -> None:
    text = io.StringIO(newline="")
    text.write("time,ch0,ch1,note\n0,2048,198,\n")
    for i, (a, b, note) in enumerate(rows):
        quoted = note.replace('"', '""')
        text.write(f'{i + 1},{a},{b},"{quoted}"\n')
    data = text.getvalue().encode()
    whole, _ = converted(bench, tmp_path, data)
    reader = csv.DictReader(io.StringIO(whole, newline=""))
    found = list(reader)
    assert [row["time"] for row in found] == [str(i) for i in range(len(rows) + 1)]
    assert [row["note"] for row in found[1:]] == [note for _, _, note in rows]
    defaults = source.LogSource.blocks.__defaults__
    try:
        source.LogSource.blocks.__defaults__ = (size,)
        assert converted(bench, tmp_path, data)[0] == whole
    finally:
        source.LogSource.blocks.__defaults__ = defaults


@pytest.mark.parametrize(
    ("data", "form", "says"),
    [
        (b"", LogFormat(), "expected a log, found an empty file"),
        (b"\n\n# nothing\n", LogFormat(), "expected a log, found an empty file"),
        (b"time,ch0,ch1\n", LogFormat(), "expected rows below the header, found none"),
        (b"a,b\n1,2\n", LogFormat(), "no column 'ch0'; it has: a, b"),
        (b"ch0,ch0,ch1\n1,2,3\n", LogFormat(), "2 columns are named 'ch0'"),
        (b"ch0,ch1\nx,y\nz,w\n", LogFormat(), "not one number can be read in column ch0, ch1"),
        (b"ch0;ch1;c\n1,5;2,5;0.1\n", LogFormat(), "decimal mark a comma"),
        (b"ch0,ch1,flags\n1,2,3\n", LogFormat(), "column 'flags' has the name of a result"),
        (gzip.compress(PLAIN.encode() * 99, mtime=0)[:-30], LogFormat(), "damaged or cut short"),
        (PLAIN.encode() + b"x" * (21 * 2**20), LogFormat(), "a line of over 16 MiB"),
        (b"x" * (17 * 2**20), LogFormat(), "is not a line of a CSV log"),
    ],
    ids=itertools.count(),  # the data itself would make names of 20 MB
)
def test_logs_that_cannot_be_converted(
    bench: Bench, tmp_path: Path, data: bytes, form: LogFormat, says: str
) -> None:
    (tmp_path / "out.csv").write_text("as it was")
    with pytest.raises(LogError, match=says):
        converted(bench, tmp_path, data, form)
    assert (tmp_path / "out.csv").read_text() == "as it was"
    assert sorted(p.name for p in tmp_path.iterdir()) == ["in.csv", "out.csv"]


@pytest.mark.parametrize(
    "wrong", [{"delimiter": "ab"}, {"decimal": "'"}, {"delimiter": ",", "decimal": ","}]
)
def test_formats_that_make_no_sense(wrong: dict[str, str]) -> None:
    with pytest.raises(ParameterError, match=next(reversed(wrong))):
        LogFormat(**wrong)  # type: ignore[arg-type]


def test_wide_converter_and_shortest_text(tmp_path: Path) -> None:
    from jetruler.benchfile.load import parse_bench

    bench = parse_bench('[converter]\nbits = 24\nvref = 2.5\n[channel.a]\ncolumn = "x"')
    text, _ = converted(bench, tmp_path, b"x\n16777215\n1\n\n")
    values = [float(v or "nan") for v in pd.read_csv(io.StringIO(text))["a_V"]]
    np.testing.assert_array_equal(values, [2.5, 1 / (2**24 - 1) * 2.5, math.nan])


@pytest.mark.soak
def test_a_log_of_many_columns(cli: Cli, home: Path) -> None:
    """A header of more than the csv module takes in one piece."""
    many = 40_000
    names = ",".join(["time_s", "ch0", *(f"c{i}" for i in range(many))])
    rows = [",".join([str(i), "5", *["1"] * many]) for i in range(3)]
    (home / "wide.csv").write_text("\n".join([names, *rows]) + "\n")
    bench = '[converter]\nbits = 12\nvref = 3.3\n[channel.a]\ncolumn = "ch0"\n'
    (home / "a.toml").write_text(bench)
    done = cli("convert", "wide.csv", "-b", "a.toml", "-o", "o.csv")
    assert done.returncode == 0, done.stderr
    assert (home / "o.csv").read_text().splitlines()[1].count(",") == many + 2
