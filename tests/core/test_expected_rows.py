"""Rows that must come out: read from a bench file, run by `check`, shown by every front."""

from __future__ import annotations

import json
import time
from pathlib import Path

import pytest

import jetruler as jr
from tests.conftest import Cli
from tests.helpers.sizes import soak

BENCH = """
[converter]
bits = 12
vref = 3.3
[channel.bean]
column = "ch0"
laws = [{ law = "divider", known = "10 kohm" }, { law = "beta", r0 = "10 kohm", beta = 3950 }]
expected = [ROWS]
[channel.level]
column = "ch1"
laws = [
  { law = "line", marks = [[0, 0], [4000, 100]], unit = "%" },
  { law = "zones", edges = [20, 80], values = ["low", "fine", "high"] },
]
expected = [[400, "low"], [2000, "fine"], [3999, "fine"]]
[channel.dial]
column = "ch2"
laws = [
  { law = "line", marks = [[100, 0], [4000, 100]], unit = "%" },
  { law = "clamp", low = 0, high = 100 },
]
[trip.hot]
any = [{ channel = "bean", above = 60 }]
[drive.flap]
from = "dial"
range = "pulse"
marks = [[0, 1000], [100, 2000]]
safe = 1500
slew = 10
expected = [[100, 1000], ["50 %", "1.5 ms"], [2050, 1490, 5], [0, 1500]]
[drive.fan]
from = "hot"
marks = [[0, 0], [1, 255]]
safe = 0
expected = [[0, 0], [1, 200]]
"""

#: A row of a thermistor of 10 kΩ, and whether it holds. The values are those of the Beta law,
#: 1/T = 1/T0 + ln(R/R0)/B, by hand.
ROWS = {
    '["10 kohm", "25 degC"]': True,
    '["3.6 kohm", "49.91 degC"]': True,
    '["3.6 kohm", 49.9]': True,
    '["3.6 kohm", 49.8]': False,
    '["3.6 kohm", 49.8, 0.2]': True,
    '["3.6 kohm", "122 degF", "0.5 degF"]': True,
    '["50 %", 25, 0.1]': True,
    "[0, 0]": False,
    '[4095, "none"]': True,
    '[2048, "none"]': False,
}


@pytest.mark.parametrize(("raw", "expected", "holds"), [
    (12347, "12.3", True), (12351, "12.3", False), (12349, "12.4", False), (12351, "12.4", True),
    (12347, "12.35", True), (12344, "12.35", False), (12499, "12", True), (12501, "12", False),
    (12348, "12.348", True), (12500, "12.5", True), (12549, "12.50", True), (12551, "12.5", False),
])  # fmt: skip
def test_a_row_is_as_exact_as_it_is_written(raw: int, expected: str, holds: bool) -> None:
    """Half a unit of its last digit either way; noughts at its end say no more."""
    text = '[channel.k]\ncolumn = 1\nlaws = [{ law = "counts", bits = 16 }, '
    text += f'{{ law = "line", gain = 0.001 }}]\nexpected = [[{raw}, {expected}]]\n'
    assert [row.holds for row in jr.check(jr.parse_bench(text)).injected] == [holds]


@pytest.mark.parametrize(("row", "holds"), ROWS.items(), ids=ROWS)
def test_a_row_of_a_channel(row: str, holds: bool) -> None:
    found = jr.check(jr.parse_bench(BENCH.replace("ROWS", row)))
    one = next(r for r in found.injected if r.where == "channel.bean.expected[1]")
    assert one.holds is holds
    assert ("channel.bean.expected[1]" in {f.where for f in found.flat}) is not holds


def test_rows_of_zones_and_drives() -> None:
    """A broken wire (0) is safe; the slew limit does not count; a trip is 0 or 1."""
    found = jr.check(jr.parse_bench(BENCH.replace("ROWS", "")))
    held = {row.where: row.holds for row in found.injected}
    assert held == {
        "channel.level.expected[1]": True,
        "channel.level.expected[2]": True,
        "channel.level.expected[3]": False,
        "drive.flap.expected[1]": True,
        "drive.flap.expected[2]": True,
        "drive.flap.expected[3]": False,
        "drive.flap.expected[4]": True,
        "drive.fan.expected[1]": True,
        "drive.fan.expected[2]": False,
    }


@pytest.mark.parametrize(
    ("row", "says"),
    [
        ("[1]", "expected rows [raw, value] or [raw, value, tolerance]"),
        ("5", "expected rows [raw, value] or [raw, value, tolerance]"),
        ("[[1], 2]", "expected rows [raw, value]"),
        ('[1, 2, "3 bar"]', "expected"),
    ],
)
def test_a_row_that_is_none_is_refused(row: str, says: str) -> None:
    with pytest.raises(jr.errors.BenchError, match=r"channel\.bean\.expected") as error:
        jr.parse_bench(BENCH.replace("ROWS", row))
    assert says in str(error.value)


def test_a_raw_value_that_is_none_does_not_hold() -> None:
    found = jr.check(jr.parse_bench(BENCH.replace("ROWS", '["3 bar", 20]')))
    one = next(r for r in found.injected if r.where == "channel.bean.expected[1]")
    assert not one.holds
    assert "expected a count" in one.found


def test_the_cause_explains_the_rows() -> None:
    slipped = BENCH.replace("ROWS", '["10 kohm", 25], ["3.6 kohm", 49.9]').replace("3950", "395")
    found = jr.check(jr.parse_bench(slipped))
    cause = next(f for f in found if f.rule == "unlikely-thermistor")
    assert cause.change == "channel.bean.laws[2]: beta = 3950"
    assert "channel.bean.expected[2]" in {f.where for f in cause.explains}


@soak
def test_command_report_and_table(cli: Cli, home: Path) -> None:
    (home / "rows.toml").write_text(BENCH.replace("ROWS", '["10 kohm", 25]'))
    done = cli("check", "-b", "rows.toml")
    assert done.returncode == 1
    assert "7 of 10 expected rows hold" in done.stdout
    assert json.loads(cli("check", "-b", "rows.toml", "--json").stdout)["injected"][0]["holds"]
    table = cli("check", "-b", "rows.toml", "--table").stdout
    assert table.splitlines()[0].split() == ["severity", "place", "found", "what", "to", "do"]
    assert cli("report", "-b", "rows.toml", "-o", "r.md").returncode == 0
    report = (home / "r.md").read_text()
    assert "Expected rows" in report
    assert "drive.fan.expected" in report


def test_live_says_what_check_finds(cli: Cli, home: Path) -> None:
    bench = BENCH.replace("ROWS", '["10 kohm", 25]').replace("slew = 10", "")
    (home / "rows.toml").write_text(bench)
    lines = "ch0,ch1,ch2\n" + "2000,2000,2000\n" * 20
    (home / "rows.csv").write_text(lines)
    done = cli("live", "-b", "rows.toml", "--source", "rows.csv")
    assert done.returncode == 0
    assert "check finds 3 errors" in done.stderr
    with jr.Live(home / "rows.toml", str(home / "rows.csv")) as live:
        list(live)
        until = time.monotonic() + 10
        while not live.findings and time.monotonic() < until:
            time.sleep(0.01)
    assert {f.rule for f in live.findings} >= {"unexpected-value"}
