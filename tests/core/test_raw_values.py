"""One reader of raw values: counts, percent, volts at the pin, and any unit of the chain."""

from __future__ import annotations

import json
import math
from pathlib import Path

import pytest

import jetruler as jr
from jetruler.core.bench.channel import raw_from
from tests.conftest import Cli

BENCH = """
[converter]
bits = 12
vref = 4.095
[channel.ntc]
column = 1
laws = [
  { law = "divider", known = "10 kohm", sensor = "lower" },
  { law = "beta", r0 = "10 kohm", beta = 3950, t0 = "25 degC" },
]
[channel.rail]
column = 2
laws = [{ law = "attenuator", upper = "30 kohm", lower = "10 kohm" }]
[channel.knob]
column = 3
laws = [{ law = "line", marks = [[100, 0], [900, 100]], unit = "%" }]
[channel.tank]
column = 4
input = { unit = "cm", resolution = 0.1, range = [2, 102] }
laws = [{ law = "line", marks = [["100 cm", 0], ["20 cm", 80]], unit = "L" }]
[channel.light]
column = 5
laws = [
  { law = "line", marks = [[0, 0], [4000, 100]], unit = "%" },
  { law = "zones", edges = [20], values = ["dark", "bright"] },
]
"""

#: 4.095 V over 4095 counts: a millivolt is a count.
RAWS = [
    ("ntc", "1880", 1880),
    ("ntc", "1e3", 1000),
    ("ntc", "700 count", 700),
    ("ntc", "700 counts", 700),
    ("ntc", "50 %", 2047.5),
    ("ntc", "1.5 V", 1500),
    ("ntc", "1500 mV", 1500),
    ("ntc", "10 kohm", 2047.5),
    ("ntc", "25 degC", 2047.5),
    ("ntc", "298.15 K", 2047.5),
    ("ntc", "5000", 5000),
    ("rail", "12 V", 3000),  # what it reads comes before the pin
    ("knob", "50 %", 500),  # of what it reads, not of the range
    ("tank", "20.6", 20.6),
    ("tank", "206 mm", 20.6),
    ("tank", "80 L", 20),
    ("tank", "50 %", 52),
    ("light", "50 %", 2000),
    ("light", "2 V", math.nan),
]


@pytest.mark.parametrize(("name", "text", "raw"), RAWS)
def test_what_is_written_is_the_raw_value(name: str, text: str, raw: float) -> None:
    channel = jr.parse_bench(BENCH)[name]
    if math.isnan(raw):
        with pytest.raises(
            jr.JetRulerError,
            match="--at: expected a count, a percentage of its range or a value in %, found '2 V'",
        ):
            raw_from(channel, text, "--at")
        return
    assert raw_from(channel, text, "--at") == pytest.approx(raw)


@pytest.mark.parametrize("text", ["", "warm", "10 bar", "nan", "inf", "5 % of it", "1,5"])
def test_anything_else_is_answered_with_what_is_right(text: str) -> None:
    with pytest.raises(
        jr.JetRulerError,
        match="place: expected a count, a percentage of its range or a value in Ω, V, °C",
    ):
        raw_from(jr.parse_bench(BENCH)["ntc"], text, "place")


def test_every_door_reads_it_the_same(cli: Cli, home: Path) -> None:
    (home / "bench.toml").write_text(BENCH)
    done = cli("explain", "ntc", "--at", "1.5 V", "--at", "25 degC", "--json")
    assert [each["from"]["value"] for each in json.loads(done.stdout)] == [1500, 2047.5]
    done = cli(
        *("live", "--source", "none", "--duration", "0.2 s", "--keep-raw"),
        *("--inject", "ntc=1.5 V", "--inject", "tank=80 L", "--inject", "knob=50 %"),
    )
    assert done.stdout.splitlines()[1].split(",")[1:5] == ["1500", "", "500", "20.0"]
    with jr.Live(str(home / "bench.toml"), "none") as live:
        assert live.hold("ntc", "1.5 V") == 1500
        assert live.hold("tank", "206 mm") == pytest.approx(20.6)
