"""A first line of numbers is data: no command loses it, and every command says so."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

import jetruler as jr
from tests.conftest import Cli

BENCH = """
[converter]
bits = 12
vref = 4.095
[channel.knob]
column = {column}
decimals = 3
"""

# What the log begins with, whether that is data, and the knob's column.
FIRST = [
    ("512", True, 1),
    ("0.5,512", True, 2),
    ("1.0;512", True, 2),
    ("7\t512", True, 2),
    ("2026-01-01T00:00:00,512", True, 2),
    ("2026-01-01 12:00:00.5,512", True, 2),
    ("12:00:01,512", True, 2),
    ("-3,512", True, 2),
    (",512", True, 2),
    ("knob", False, 1),
    ("t,knob", False, 2),
    ("time_s;knob", False, 2),
    ("1st,2nd", False, 2),
    (",", False, 2),
]
CASES = pytest.mark.parametrize(("first", "data", "column"), FIRST, ids=[f for f, *_ in FIRST])


def written(home: Path, first: str, column: int) -> None:
    (home / "bench.toml").write_text(BENCH.format(column=column))
    rest = (
        "\n".join(first.replace("512", str(n)) for n in (513, 514, 515)) if "512" in first else ""
    )
    sign = next((s for s in ",;\t" if s in first), "")
    rest = rest or "\n".join(f"{n}{sign}{500 + n}" if sign else str(n) for n in (1, 2, 3))
    (home / "log.csv").write_text(f"{first}\n{rest}\n")


@CASES
def test_every_command_reads_every_sample(
    cli: Cli, home: Path, first: str, data: bool, column: int
) -> None:
    written(home, first, column)
    rows = 3 + data
    found = json.loads(cli("look", "log.csv", "--json").stdout)
    assert found["rows"] == rows
    assert bool(found["line_format"]) == data
    assert not data or found["columns"]["knob"]["smallest"] == 512
    done = cli("convert", "log.csv", "-o", "out.csv", "--json")
    assert json.loads(done.stdout)["rows"] == rows
    lines = (home / "out.csv").read_text().splitlines()
    assert len(lines) == 4  # the header, where there is one, and every row
    assert bool(json.loads(done.stdout)["line_format"]) == data
    assert len(jr.look(home / "log.csv").columns) >= 1


@pytest.mark.parametrize("header", [True, False])
def test_who_says_it_is_believed(home: Path, header: bool) -> None:
    (home / "log.csv").write_text("1,2\n3,4\n5,6\n")
    bench = jr.parse_bench(BENCH.format(column=2))
    summary = jr.convert(home / "log.csv", bench, home / "o.csv", form=jr.LogFormat(header=header))
    assert summary.rows == 3 - header
    assert not summary.line_format


def test_a_name_is_answered_with_what_there_is(cli: Cli, home: Path) -> None:
    written(home, "0.5,512", 2)
    (home / "bench.toml").write_text(BENCH.format(column='"ch0"'))
    said = cli("convert", "log.csv").stderr
    assert "there is no column 'ch0'; its lines are read as 2 cells separated by commas" in said


@pytest.mark.parametrize("first", [f for f, data, _ in FIRST if data])
def test_a_starter_file_fits_its_log(cli: Cli, home: Path, first: str) -> None:
    written(home, first, 1)
    assert cli("new", "new.toml", "--from", "log.csv").returncode == 0
    done = cli("convert", "log.csv", "-b", "new.toml", "-o", "out.csv", "--json")
    assert done.returncode == 0, done.stderr
    channels: dict[str, Any] = json.loads(done.stdout)["channels"]
    assert channels
    assert all(each["rows"] == 4 for each in channels.values())
    text = (home / "new.toml").read_text()
    (named,) = {line.split('"')[1] for line in text.splitlines() if line.startswith("# any")}
    assert f"[channel.{named}]" in text
