"""Columns and blocks that are read at once are held against their cells and rows, one by one."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from jetruler.core.bench.bench import LogFormat
from jetruler.samples.cells import read_cell, read_samples
from jetruler.samples.csv_log import CsvBlocks
from jetruler.samples.shapes import Shape

NUMBERS = st.one_of(
    st.integers(-5000, 5000).map(str),
    st.integers(-(2**70), 2**70).map(str),
    st.decimals(-5, 5, places=6).map(str),
    st.floats(allow_nan=False).map(repr),
)
WORDS = "nan NaN -nan inf 1e400 -0.0 -0 1. .5 +1.5 0x1F 1_0 n/a --- 1,5 1.234,5 1.5V e5 2026-11-30"
ODD = st.sampled_from(
    [
        *WORDS.split(),
        "",
        " 7",
        "+ 5",
        "-  2.5",
        "+ n/a",
        "- 0x1F",
        "- ",
        '"1.5"',
        "\u0661",
        "0" * 45 + "1",
    ]
)


@given(
    st.lists(st.one_of(NUMBERS, ODD), max_size=20),
    st.lists(st.decimals(0, 4, places=4).map(str), max_size=70),
    st.sampled_from(".,"),
)
def test_a_column_is_read_as_each_of_its_cells(odd: list[str], like: list[str], sign: str) -> None:
    cells = [*like, *odd]
    if sign == ",":
        cells = [cell.replace(".", ",") for cell in cells]
    found = read_samples(pa.array(cells, pa.string()), sign, np.empty(0, np.int64))
    gone = np.zeros(len(cells), bool) if found.missing is None else found.missing
    each = [read_cell(cell.encode(), sign) for cell in cells]
    assert gone.tolist() == [isinstance(value, str) for value in each]
    assert found.fractional == sum(isinstance(value, float) for value in each)
    top = 2**63 - 1  # what is further off is as far off
    for value, count in zip(each, found.counts.tolist(), strict=True):
        if isinstance(value, int) and abs(value) >= top:
            assert abs(count) >= top - 1
        elif not isinstance(value, str):
            assert count == (float(value) if found.fractional else value)
    for kind, rows in (("empty", found.empty), ("unreadable", found.unreadable)):
        places = [i for i, value in enumerate(each) if value == kind]
        assert places == ([] if rows is None else rows.tolist())


CELL = st.one_of(NUMBERS, ODD, st.sampled_from(['"1;5"', '"x', "\r", "#1"]))
LINE = st.lists(CELL, min_size=2, max_size=3) | st.lists(CELL, max_size=5)


@given(
    st.lists(
        st.one_of(LINE.map(";".join), st.sampled_from(["", "# a remark", "ready"])), min_size=1
    ),
    st.sampled_from(["\n", "\r\n"]),
    st.sampled_from([{}, {1: pa.int32()}, {0: pa.int32(), 1: pa.int32()}]),
)
def test_a_block_is_read_as_each_of_its_rows(
    lines: list[str], end: str, asked: dict[int, pa.DataType]
) -> None:
    block = "".join(f"{line}{end}" for line in lines).encode()
    shape = Shape("csv", ";", 2, ("a", "b"))
    blocks = CsvBlocks(shape, LogFormat())
    by_row, rest = blocks.read_part(block, True)
    blocks.ask(asked)
    for _ in range(2):  # what is asked for may change with what the first one was
        at_once = blocks.read(block)
        assert not rest
        for name in ("ends", "comments", "blank", "noise", "quotes"):
            assert getattr(at_once, name) == getattr(by_row, name), name
        for name in ("lines", "torn"):
            assert getattr(at_once.batch, name).tolist() == getattr(by_row.batch, name).tolist()
        for i in range(2):
            one, other = (
                read_samples(read.batch.columns[i], ".", read.batch.torn)
                for read in (at_once, by_row)
            )
            assert one.present.tolist() == other.present.tolist()
            assert one.counts.size == other.counts.size
            gone = [None if s.missing is None else s.missing.tolist() for s in (one, other)]
            assert gone[0] == gone[1] or not any((gone[0] or []) + (gone[1] or []))
