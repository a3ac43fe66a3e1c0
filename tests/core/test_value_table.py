"""A channel as a table, its uncertainty at any joint, and resistors from what was seen."""

from __future__ import annotations

import csv
import io
import math
from typing import Any

import pytest

import jetruler as jr
from jetruler.errors import ParameterError
from tests.conftest import Cli

BEAN = jr.Adc(12, 3.3) >> jr.Divider(jr.Toleranced(10e3, 100)) >> jr.Beta("100 kohm", 3950)
KNOB = jr.Counts(12) >> jr.Line.through((198, 0), (3904, 100), unit="%") >> jr.Clamp(0, 100)


def test_rows_by_raw_values_are_the_laws_by_hand() -> None:
    table = jr.value_table(BEAN, every=1000)
    assert table.raw.tolist() == [0, 1000, 2000, 3000, 4000, 4095]
    at = 2000 / 4095
    ohms = 10e3 * at / (1 - at)
    assert table.joints["V"][2] == pytest.approx(3.3 * at, rel=1e-12)
    assert table.joints["ohm"][2] == pytest.approx(ohms, rel=1e-12)
    celsius = 1 / (1 / 298.15 + math.log(ohms / 100e3) / 3950) - 273.15
    assert table.values[2] == pytest.approx(celsius, rel=1e-12)
    kelvin = celsius + 273.15  # dT/T = T/B · dR/R, of a rectangular 1 %, and the count's own half
    slope = kelvin**2 / 3950 / ohms * (ohms + 10e3) ** 2 / 10e3 / 4095
    u = math.hypot(kelvin**2 / 3950 * 0.01 / math.sqrt(3), slope / math.sqrt(12))
    assert table.expanded is not None
    assert table.expanded[2] == pytest.approx(1.959964 * u, rel=1e-6)


@pytest.mark.parametrize(
    ("ruler", "every", "over", "values"),
    [
        (BEAN, "25 degC", ("300 count", 3600), [175, 150, 125, 100, 75, 50]),
        (BEAN, "90 degF", (300, 3600), [150, 100, 50]),  # a difference: 50 °C
        (KNOB, "25 %", None, [0, 25, 50, 75, 100]),
        (KNOB, "25 %", ("30 %", "60 %"), [50]),
    ],
)
def test_rows_by_values_are_multiples_of_the_step(
    ruler: jr.Ruler, every: str, over: Any, values: list[float]
) -> None:
    assert jr.value_table(ruler, every, over).values == pytest.approx(values)


@pytest.mark.parametrize(
    ("wrong", "sentence"),
    [
        ({"every": -1}, "every: expected a step above 0"),
        ({"every": "5 bar"}, "every: expected a difference in °C"),
        ({"every": 1e-5}, "every: expected a step that makes at most 100000 rows"),
        ({"over": (1, 2, 3)}, "over: expected where it begins and ends"),
        ({"every": "x"}, "every: expected a quantity"),
        ({"every": "1 degC", "over": (0, 0)}, "over: expected a range in which"),
    ],
)
def test_what_is_no_step_is_refused(wrong: dict[str, Any], sentence: str) -> None:
    with pytest.raises(ParameterError) as caught:
        jr.value_table(BEAN, **wrong)
    assert str(caught.value).startswith(sentence)


def test_the_command_writes_it_as_text_csv_latex_and_json(cli: Cli) -> None:
    text = cli("explain", "damper", "--every", "25 %").stdout.splitlines()
    assert text[0] == "damper: 5 rows"
    assert text[4].split() == ["2051", "50.0", "0.063"]
    rows = list(
        csv.reader(io.StringIO(cli("explain", "damper", "--every", "25 %", "--as", "csv").stdout))
    )
    assert rows[0] == ["count", "damper %", "± %"]
    assert [row[1] for row in rows[1:]] == ["0.0", "25.0", "50.0", "75.0", "100.0"]
    latex = cli("explain", "damper", "--every", "25 %", "--as", "latex").stdout
    assert latex.startswith(
        "\\begin{tabular}{rrr}\n\\toprule\ncount & damper \\% & $\\pm$ \\% \\\\"
    )
    over = cli("explain", "bean", "--every", "1000", "--over", "500:3500", "--json").stdout
    assert '"raw": [\n    500.0,\n    1500.0' in over
    for words, sentence in (
        (("--every", "64", "--over", "12"), "--over: expected LOW:HIGH, as in 0:4095, found '12'"),
        (("--at", "1", "--as", "csv"), "--over, --as: expected --every too"),
        (("--every", "64", "--at", "1"), "expected one of --at RAW, --for VALUE and --every STEP"),
    ):
        refused = cli("explain", "bean", *words)
        assert (refused.returncode, sentence in refused.stderr) == (2, True)


def test_the_budget_of_a_joint() -> None:
    """Ohms by hand: the resistor's 1 % and half a count; volts: half a count alone."""
    at = 2000 / 4095
    ohms = 10e3 * at / (1 - at)
    found = jr.budget(BEAN, 2000, joint="ohm")
    count = (ohms + 10e3) ** 2 / 10e3 / 4095 / math.sqrt(12)
    assert found.unit == "ohm"
    assert found.value == pytest.approx(ohms)
    assert found.combined == pytest.approx(math.hypot(ohms * 0.01 / math.sqrt(3), count), rel=1e-9)
    assert "which is 1.1 %, at 95 %" in found.headline
    volts = jr.budget(BEAN, 2000, joint="V")
    assert volts.combined == pytest.approx(3.3 / 4095 / math.sqrt(12), rel=1e-9)
    with pytest.raises(ParameterError, match="joint: expected one of V, Ω, °C, found 'bar'"):
        jr.budget(BEAN, 2000, joint="bar")


def test_a_resistor_from_what_was_seen(cli: Cli) -> None:
    """By hand: two resistances are furthest apart with the root of their product."""
    found = jr.choose_resistor(BEAN, seen={"dark": 3000, "bright": 600}, series="E96")
    dark, bright = (10e3 * n / (4095 - n) for n in (3000, 600))
    assert (found.low, found.high) == pytest.approx((bright, dark))
    assert found.optimum.known == pytest.approx(math.sqrt(dark * bright), rel=1e-3)
    name, raw, ohms, new = found.seen[0]
    assert [name, raw, round(ohms, 6)] == ["dark", 3000, round(dark, 6)]
    assert new == pytest.approx(4095 * dark / (dark + found.best.known))
    said = cli("choose", "resistor", "bean", "--seen", "green=180", "--seen", "roasted=640").stdout
    assert "roasted: 640 now, which is 870.6 Ω; 2741 with 430 Ω" in said
    loads = cli("explain", "bean", "--at", "1880").stdout
    amps = 3.3 / (4700 + 3989.16)
    assert (
        f"through the divider {1e3 * amps:.3g} mA, in the sensor {1e3 * amps**2 * 3989.16:.3g} mW"
        in loads
    )
    for words, sentence in (
        (("--seen", "a=180"), "seen: expected two raw values or more"),
        (("--seen", "a"), "--seen: expected NAME=RAW"),
        (("--seen", "a=1", "--seen", "b=9", "--from", "3"), "expected --from and --to, or --seen"),
        (("--from", "3"), "expected --from and --to, or --seen"),
    ):
        refused = cli("choose", "resistor", "bean", *words)
        assert (refused.returncode, sentence in refused.stderr) == (2, True)


def test_a_table_of_labels_has_them() -> None:
    zones = jr.Counts(8) >> jr.Zones((100, 200), ("low", "fair", "full"))
    assert list(jr.value_table(BEAN, every=1000).table.values())[-2][1] == BEAN(1000)
    found = jr.value_table(jr.Channel("tray", zones, 1), 100)
    assert list(found.table.values())[-1] == ["low", "fair", "full", "full"]
    part = jr.Adc(8, 5.0) >> jr.Expect(1, 4) >> jr.Zones((2,), ("a", "b"))
    found = jr.value_table(jr.Channel("t", part, 1), 80)
    assert list(found.table.values())[-1] == [None, "a", "b", None, None]
