"""`jr.stream`: the same samples, trips and commands as the tool gives, one after another."""

from __future__ import annotations

import asyncio
import csv
import io
import threading
from collections.abc import AsyncIterator
from pathlib import Path
from typing import Any

import pandas as pd
import pytest

import jetruler as jr
from tests.conftest import Cli
from tests.helpers.sizes import soak


def test_a_file_reads_as_the_tool_converts_it(cli: Cli, home: Path) -> None:
    bench = jr.load_bench(home / "bench.toml")
    samples = list(jr.stream(str(home / "roast.csv"), bench))
    assert cli("convert", "roast.csv", "-o", "out.csv", "--events", "e.csv").returncode == 0
    frame = pd.read_csv(home / "out.csv", dtype=str, keep_default_na=False)
    assert len(samples) == len(frame)
    for name, channel in bench.items():
        values = [channel.cell(sample.values[name]) for sample in samples]
        assert values == frame[channel.output_column].tolist()
    told = [(sample.time, trip, sample.trips[trip]) for sample in samples for trip in sample.turned]
    events = list(csv.reader(io.StringIO((home / "e.csv").read_text())))[1:]
    assert told == [(float(time), trip, state == "on") for time, trip, state, _ in events]


KNOB: Any = jr.Bench("Desk", {"knob": jr.Channel("knob", jr.Counts(12) >> jr.Line(0.1), 1)})


@pytest.mark.parametrize(
    "lines", [["100", "200"], ("100\n", "200\r\n"), (str(n) for n in (100, 200))]
)
def test_lines_of_any_kind(lines: Any) -> None:
    samples = list(jr.stream(lines, KNOB))
    assert [sample.values["knob"] for sample in samples] == [10.0, 20.0]


def test_samples_come_one_by_one_and_whoever_stops_leaves_no_thread() -> None:
    """The second line comes only when the first sample was seen."""
    seen = threading.Event()

    def lines() -> Any:
        yield "100"
        assert seen.wait(5)
        yield "5000"
        yield "7"

    stream = jr.stream(lines(), KNOB)
    assert next(stream).values["knob"] == 10.0
    seen.set()
    sample = next(stream)
    assert sample.flags["knob"] is jr.Flag.OFF_SCALE
    stream.close()
    assert not [t for t in threading.enumerate() if t.name == "jetruler-reader"]


def test_a_source_that_is_not_there_says_so(tmp_path: Path) -> None:
    with pytest.raises(jr.JetRulerError, match=r"none\.csv"):
        next(jr.stream(str(tmp_path / "none.csv"), KNOB))


def test_lines_that_are_no_samples_are_counted() -> None:
    with pytest.warns(UserWarning, match="1 line") as said:
        samples = list(jr.stream(["100", "1,2,3", "7", "ready"], KNOB))
    assert "1 line was no sample: other text 1 (the first: 'ready')" in str(said[0].message)
    assert "1 line has too few or too many cells: missing samples" in str(said[0].message)
    assert [sample.flags["knob"].name for sample in samples] == [None, "MISSING", None]


@soak
def test_lines_that_come_asynchronously() -> None:
    """`async for` gives what `for` gives, hands on what went wrong, and stops in between."""

    async def lines(*each: str, then: Exception | None = None) -> AsyncIterator[str]:
        for line in each:
            await asyncio.sleep(0)
            yield line
        if then is not None:
            raise then

    async def taken(source: Any) -> list[float]:
        with jr.stream(source, KNOB) as samples:
            return [sample.values["knob"] async for sample in samples]

    async def first() -> float:
        with jr.stream(lines(*["7"] * 5000), KNOB) as samples:
            return (await anext(samples)).values["knob"]

    many = [str(i) for i in range(3000)]
    wanted = [sample.values["knob"] for sample in jr.stream(many, KNOB)]
    assert asyncio.run(taken(lines(*many))) == wanted
    assert asyncio.run(taken(many)) == wanted
    assert asyncio.run(first()) == wanted[7]
    with pytest.raises(OSError, match="unplugged"):
        asyncio.run(taken(lines("1", then=OSError("unplugged"))))
    with pytest.raises(jr.JetRulerError, match="source: expected lines, found an asynchronous"):
        next(jr.stream(lines("1"), KNOB))
