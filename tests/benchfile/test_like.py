"""Channels like others, laws by name, the same reading in other units: what is written once."""

from __future__ import annotations

from pathlib import Path

import pytest

import jetruler as jr
from tests.conftest import Cli

TEXT = """
[converter]
bits = 12
vref = "3.3 V"
[law.probe]
law = "beta"
r0 = "100 kohm"
beta = 3950
[channel.a]
column = "a"
about = "the first"
laws = [{ law = "divider", known = "10 kohm" }, { law = "probe" }]
decimals = 1
[channel.b]
like = "a"
column = "b"
about = "the other"
[channel.c]
like = "b"
column = "c"
laws = [{ law = "divider", known = "22 kohm" }, { law = "probe", r0 = "99 kohm" }]
[channel.d]
like = "a"
column = "d"
input = { unit = "ohm" }
laws = [{ law = "probe" }]
"""


def test_a_like_channel_has_all_but_what_it_says_itself() -> None:
    bench = jr.parse_bench(TEXT)
    a, b, c, d = bench.channels.values()
    assert (b.ruler, b.decimals, b.about, b.column) == (a.ruler, 1, "the other", "b")
    assert (c.decimals, c.about) == (1, "the other")
    assert c.ruler.laws[1:] == (jr.Divider(22e3), jr.Beta(99e3, 3950))
    assert d.ruler.takes == "ohm"


@pytest.mark.parametrize(
    ("was", "now", "sentence"),
    [
        ('like = "b"', 'like = "x"', "channel.c.like: expected another channel of"),
        ("[channel.a]", '[channel.a]\nlike = "b"', "channel.a.like: expected another channel"),
        ("law.probe", "law.beta", "law.beta.name: expected another name than that of a law"),
        ('{ law = "probe" }', '{ law = "prob" }', "laws[2 prob].law: expected the name of a law"),
        ("beta = 3950", "bet = 3950", "channel.a.laws[2 beta].beta: missing; beta needs it"),
        ('like = "a"', "like = 3", "channel.b.like: expected another channel of"),
        ("decimals = 1", 'also = ["bar"]', "expected a unit of °C, or of a joint: V, Ω, found"),
        ("decimals = 1", 'also = ["degF"]\n[channel.a_degF]\ncolumn = 7',
         "a.also: expected a unit that no"),
    ],
)  # fmt: skip
def test_what_is_not_there_is_refused(was: str, now: str, sentence: str) -> None:
    with pytest.raises(jr.JetRulerError) as caught:
        jr.parse_bench(TEXT.replace(was, now))
    assert sentence in str(caught.value)


def test_other_units_of_one_reading(cli: Cli, home: Path) -> None:
    """By hand: 2000 of 4095 under 10 kΩ, then the Beta formula, then °F."""
    text = TEXT.replace("decimals = 1", 'decimals = 1\nalso = ["degF", "ohm", "V"]', 1)
    (home / "units.toml").write_text(text.partition("[channel.b]")[0])
    (home / "one.csv").write_text("a\n2000\n4095\n")
    cli("convert", "one.csv", "-b", "units.toml", "-o", "-")
    out = cli("convert", "one.csv", "-b", "units.toml", "-o", "-").stdout.splitlines()
    assert out[0] == "a_degC,a_degF,a_ohm,a_V,flags"
    ohms = 10e3 * 2000 / 2095
    celsius = 1 / (1 / 298.15 + jr.Formula("log(x)")(ohms / 100e3) / 3950) - 273.15
    volts = 3.3 * 2000 / 4095
    assert out[1] == f"{celsius:.1f},{celsius * 1.8 + 32:.1f},{ohms:.0f},{volts:.4f},"
    said = cli("look", "one.csv", "-b", "units.toml").stdout
    assert "a_degF" not in said
    assert "a_degF" not in cli("check", "-b", "units.toml").stdout
    found = cli("explain", "a_ohm", "--at", "2000", "-b", "units.toml").stdout
    assert "= 9546.54 Ω" in found


def test_a_like_channel_is_not_calibrated_for_another(cli: Cli, home: Path) -> None:
    (home / "like.toml").write_text(TEXT)
    marks = [word for n in (1000, 2000, 3000) for word in ("--mark", f"{n}={150 - n / 30:g}")]
    refused = cli("fit", "b", "--law", "beta", "-b", "like.toml", *marks, "--write")
    assert refused.returncode == 2
    assert (
        "channel.b has the laws of another; calibrate a, or write the laws of b out"
        in refused.stderr
    )
    assert (home / "like.toml").read_text() == TEXT
