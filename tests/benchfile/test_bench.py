"""Bench files: what they mean, and every mistake at once with its place."""

from __future__ import annotations

from pathlib import Path

import pytest

from jetruler import Adc, Counts, Expect, Toleranced, load_bench
from jetruler.benchfile.load import parse_bench
from jetruler.errors import BenchError

HEAD = '[converter]\nbits = 12\nvref = "3.3 V ± 1 %"\n'


def channel(laws: str, more: str = "") -> str:
    return f'{HEAD}[channel.a]\ncolumn = "ch0"\nlaws = [{laws}]\n{more}'


def test_demo_bench(home: Path) -> None:
    bench = load_bench(home / "bench.toml")
    assert bench.title == "Roaster bench"
    assert len(bench.channels) == 8
    damper = bench["damper"]
    assert damper.ruler(198) == 0.0
    assert damper.output_column == "damper_percent"
    assert damper.title == "damper (%)"


def test_the_first_law_says_what_the_converter_hands_over() -> None:
    by_counts = parse_bench(channel('{ law = "line", gain = 2 }'))["a"].ruler
    assert isinstance(by_counts.laws[0], Counts)
    for laws in (
        "",
        '{ law = "line", gain = 2, takes = "V" }',
        '{ law = "line", marks = [["0.5 V", 0], ["4.5 V", "10 bar"]] }',
        '{ law = "adc", bits = 12, vref = "3.3 V" }',
    ):
        assert isinstance(parse_bench(channel(laws))["a"].ruler.laws[0], Adc)


def test_marks_with_units_tell_both_units() -> None:
    ruler = parse_bench(channel('{law = "line", marks = [["500 mV", 0], ["4.5 V", "10 bar"]]}'))[
        "a"
    ].ruler
    assert [law.takes for law in ruler.laws[1:]] == ["V", "mV"]
    assert ruler.gives == "bar"
    assert ruler.laws[1](0.5) == 500.0
    assert ruler.laws[2](500.0) == 0.0


def test_a_channel_may_bring_its_own_converter_and_its_tolerance_travels() -> None:
    own = "converter = { bits = 10, count_at_vref = 1024 }\n"
    adc = parse_bench(channel("", own))["a"].ruler.laws[0]
    assert adc == Adc(10, 3.3, 1024)
    assert isinstance(adc, Adc)
    assert isinstance(adc.vref, Toleranced)
    assert adc.vref.half_width == pytest.approx(0.033)


def test_quantities_tell_the_unit_of_a_clamp() -> None:
    laws = '{ law = "shunt", ohms = "150R" }, { law = "expect", low = "3.6 mA", high = "21 mA" }'
    expect = parse_bench(channel(laws))["a"].ruler.laws[3]
    assert expect == Expect(3.6, 21, "mA")
    laws = '{ law = "divider", known = "4k7" }, { law = "clamp", high = "260 degC" }'
    with pytest.raises(BenchError, match="divider gives Ω, but clamp, which follows it, takes °C"):
        parse_bench(channel(laws))


def test_a_ratiometric_channel_needs_no_reference() -> None:
    text = channel('{ law = "divider", known = "4k7" }').replace('vref = "3.3 V ± 1 %"', "")
    assert parse_bench(text)["a"].ruler(2048) == pytest.approx(4700 * 2048 / 2047)


def test_points_from_a_file(tmp_path: Path) -> None:
    law = '{ law = "table", points = "level.csv", takes = "V", unit = "cm" }'
    (tmp_path / "bench.toml").write_text(channel(law))
    for text in ("volt,cm\n# made up\n0,0\n3.3,80\n", "0;0\n\n3.3;80\n"):
        (tmp_path / "level.csv").write_text(text)
        assert load_bench(tmp_path / "bench.toml")["a"].ruler(4095) == 80.0
    for bad, says in [("v,cm\n0,x\n", "two numbers a line"), (None, "No such file")]:
        (tmp_path / "level.csv").unlink(missing_ok=True)
        if bad is not None:
            (tmp_path / "level.csv").write_text(bad)
        with pytest.raises(BenchError, match=rf"laws\[1 table\].points: .*{says}"):
            load_bench(tmp_path / "bench.toml")


def test_formula_constants_and_zones() -> None:
    formula = '{ law = "formula", expression = "a*x + b", a = 2, b = 1, takes = "count" }'
    assert parse_bench(channel(formula))["a"].ruler(3) == 7.0
    zones = '{ law = "line", gain = 1 }, { law = "zones", edges = [2], values = [[0, 1], [1, 1]] }'
    found = parse_bench(channel(zones))["a"]
    assert [found.cell(found.ruler(n)) for n in (1, 2)] == ["0 1", "1 1"]
    assert found.output_column == "a_zone"


MISTAKES = [
    (channel('{ law = "beta", r0 = 1e5, beta = 3950, t0 = 25 }'),
     'expected a temperature with its unit, as in "25 degC"'),
    (channel('{ law = "beta", r0 = "1e5 V", beta = 3950 }'),
     "laws[1 beta].r0: expected a quantity in Ω, found '1e5 V'"),
    (channel('{ law = "beta", r0 = 1e5, beta = 0 }'), "beta: expected a value above 0, found 0"),
    (channel('{ law = "formula", expression = "a*x" }'), "'a' is not known here"),
    (channel('{ law = "formula", expression = "x.__class__" }'), "a formula has no attribute"),
    (channel('{ law = "zones", edges = [1, 2], values = ["a"] }'), "expected 3 values for 2 edges"),
    (channel('{ law = "divider", known = "4k7", sensor = "left" }'), '"upper" or "lower"'),
    (channel('{ law = "shunt", ohms = 150 }').replace('vref = "3.3 V ± 1 %"', ""),
     "converter.vref: expected a reference voltage (vref), found None: volts need it"),
    ("x = ", "not TOML"),
    ("", "channel: missing"),
    ("[channel]", "found none"),
    ('titel = "x"\n' + channel(""), "titel: unknown for a bench file; did you mean"),
    (channel("", "limit = [0, 1]"), "channel.a.limit: unknown for a channel; did"),
    (channel("", "limits = [3, 1]"),
     "channel.a.limits: expected two numbers, the low one first, found [3, 1]"),
    (channel("", "limits = [3]"), "channel.a.limits"),
    (channel("", "decimals = 1.5"), "channel.a.decimals: expected a whole number, found 1.5"),
    (channel("", "converter = { bits = 40 }"),
     "channel.a.converter.bits: expected a whole number from 1 to 32, found 40"),
    (channel("", 'converter = { vref = "3 ohm" }'),
     "channel.a.converter.vref: expected a quantity in V, found '3 ohm'"),
    (channel("", "converter = { vrf = 3 }"), "a.converter.vrf: unknown for a converter; did"),
    (channel("").replace("12", "0"),
     "t: converter.bits: expected a whole number from 1 to 32, found 0"),
    (channel("").replace("bits = 12", ""), "t: converter.bits: missing; adc needs it"),
    (channel("").replace('"3.3 V ± 1 %"', "-3.3"),
     "converter.vref: expected a voltage above 0 V, found -3.3"),
    (channel("3"),
     'channel.a.laws[1]: expected a table, as in { law = "line", gain = 2 }, found 3'),
    (channel("{ gain = 2 }"), "channel.a.laws[1].law: expected the name of a law"),
    (channel('{ law = "lime" }'), "the name of a law, found 'lime': did you mean 'line'?"),
    (channel('{ law = "line", gian = 2 }'), "laws[1 line].gian: unknown for line; did"),
    (channel('{ law = "line", gain = "x" }'), "laws[1 line].gain: expected a quantity, as in"),
    (channel('{ law = "line", marks = [[1, 2], [1, 3]] }'), "two different raw values"),
    (channel('{ law = "line", marks = [["1 V", 2], ["3 ohm", 3]] }'), "V"),
    (channel('{ law = "clamp", low = 3, high = 1 }'),
     "laws[1 clamp].low: expected a value below high, 1, found 3"),
    (
        channel(
            '{ law = "line", gain = 2, unit = "bar" }, { law = "clamp", high = 1, unit = "V" }'
        ),
        "channel.a: line gives bar, but clamp, which follows it, takes V",
    ),
    (HEAD + "[channel.a]\nlaws = []", "channel.a.column: missing"),
    (HEAD + "[channel.a]\ncolumn = 0",
     "channel.a.column: expected a number from 1, found 0: columns are numbered so"),
    (HEAD + '[channel."a b"]\ncolumn = 1', "letters, digits"),
    (HEAD + "[channel]\na = 3", "channel.a: expected a table, found 3"),
    ("converter = 3\n" + '[channel.a]\ncolumn = "x"', "converter: expected a table, found 3"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "says"), MISTAKES, ids=range(len(MISTAKES)))
def test_mistake(text: str, says: str) -> None:
    with pytest.raises(BenchError) as caught:
        parse_bench(text, "t")
    assert len(caught.value.errors) == 1, caught.value
    assert says in str(caught.value)


def test_all_mistakes_at_once() -> None:
    text = """
    titel = "x"
    [converter]
    bits = 12
    vref = 0
    [channel.a]
    colunm = "ch0"
    laws = [{ law = "clamp", low = 5, hihg = 3 }, { law = "adc", bits = 0, vref = -1 }]
    [channel.b]
    column = "ch1"
    laws = [{ law = "line", gain = 1, unit = "V" }, { law = "clamp", low = 0, unit = "bar" }]
    """
    with pytest.raises(BenchError) as caught:
        parse_bench(text, "bench.toml")
    places = [m.split(":")[0] for m in caught.value.errors]
    assert places == [
        "titel",
        "channel.a.column",
        "channel.a.laws[1 clamp].hihg",
        "channel.a.laws[2 adc].bits",
        "channel.a.laws[2 adc].vref",
        "channel.a.colunm",
        "channel.b",
        "converter.vref",
    ]


def test_files_that_are_no_bench(tmp_path: Path) -> None:
    (tmp_path / "binary").write_bytes(b"\xff\xfe\x00")
    for name, says in [
        ("", "folder"),
        ("none.toml", "expected a bench file, found none"),
        ("binary", "expected TOML in UTF-8, found another encoding; save it as UTF-8"),
    ]:
        with pytest.raises(BenchError, match=says):
            load_bench(tmp_path / name)


def test_a_percentage_about_nothing_is_refused() -> None:
    """± 0.2 % of 0 is 0, and a budget would lose it."""
    text = (
        '[converter]\nbits = 12\n[channel.a]\ncolumn = 1\ncalibration = "± 0.2 %"\n'
        'laws = [{ law = "line", gain = 0.5, unit = "cm" }]\n'
    )
    with pytest.raises(BenchError, match="expected a tolerance in cm"):
        parse_bench(text)
    percent = parse_bench(text.replace('"cm"', '"%"'))["a"].calibration
    assert isinstance(percent, Toleranced)
    assert percent.half_width == 0.2
