"""Worked lines as a teacher would write them, in both directions; and the ruler in a terminal."""

from __future__ import annotations

import contextlib
import re

import pytest

from jetruler import (
    Adc,
    Amplifier,
    Attenuator,
    Beta,
    Channel,
    Clamp,
    Counts,
    DeadBand,
    Divider,
    Expect,
    Formula,
    Input,
    Law,
    Limits,
    Line,
    Magnitude,
    PassThrough,
    Platinum,
    Polynomial,
    PowerLaw,
    Shunt,
    SteinhartHart,
    Steps,
    Table,
    To,
    Whole,
    Zones,
)
from jetruler.cli.explain import ruler_lines
from jetruler.core.numerics import NoInverseError
from jetruler.core.ruler.rounding import fixed
from jetruler.core.ruler.ruler import Ruler
from jetruler.core.ruler.units import (
    bracketed,
    canonical,
    for_column,
    nearest,
    number,
    rounded,
    shown,
    symbol,
    written_with,
)
from jetruler.show.ticks import true_ticks
from tests.core.test_laws import TRUTH

# law, x, the line forward; y, the line back. Each number in them was worked out by hand.
WORKED: list[tuple[Law, float, str, float, str]] = [
    (Adc(12, 3.3), 2047.5, "U = n · Uref / N = 2047.5 · 3.3 V / 4095 = 1.65 V", 1.1,
     "n = U · N / Uref = 1.1 V · 4095 / 3.3 V = 1365"),
    (Adc(12), 1365, "s = U / Uref = n / N = 1365 / 4095 = 0.333333 (Uref cancels)", 0.2,
     "n = s · N = 0.2 · 4095 = 819"),
    (Counts(8), 200, "n = 200 of 0 to 255", 7, "n = 7 of 0 to 255"),
    (Line(-2, 5, unit="bar"), 3, "y = m · x + b = −2 · 3 + 5 = −1 bar", 1,
     "x = (y − b) / m = (1 − 5) / (−2) = 2"),
    (Line.through((-16, 0), (16, 4), unit="V"), -8, "y = y₀ + (x − x₀) · (y₁ − y₀) / (x₁ − x₀) = "
     "0 + (−8 − (−16)) · (4 − 0) / (16 − (−16)) = 1 V", 3,
     "x = x₀ + (y − y₀) · (x₁ − x₀) / (y₁ − y₀) = −16 + (3 − 0) · (16 − (−16)) / (4 − 0) = 8"),
    (Divider(4700, supply=3.3), 1.1,
     "R = Rk · U / (Us − U) = 4700 Ω · 1.1 V / (3.3 V − 1.1 V) = 2350 Ω", 4700,
     "U = Us · R / (Rk + R) = 3.3 V · 4700 Ω / (4700 Ω + 4700 Ω) = 1.65 V"),
    (Divider(10e3, "upper"), 0.25, "R = Rk · (1 − s) / s = 10000 Ω · (1 − 0.25) / 0.25 = 30000 Ω",
     30e3, "s = Rk / (R + Rk) = 10000 Ω / (30000 Ω + 10000 Ω) = 0.25"),
    (Divider(10e3, "lower", supply=5, load=10e3), 1,
     "RL = Rk · U / (Us − U) = 10000 Ω · 1 V / (5 V − 1 V) = 2500 Ω; "
     "R = RL · Rload / (Rload − RL) = 2500 Ω · 10000 Ω / (10000 Ω − 2500 Ω) = 3333.33 Ω", 10e3,
     "RL = R ∥ 10000 Ω = 5000 Ω; U = Us · RL / (Rk + RL) = "
     "5 V · 5000 Ω / (10000 Ω + 5000 Ω) = 1.66667 V"),
    (Divider(4700), 1,
     "R = Rk · s / (1 − s) = 4700 Ω · 1 / (1 − 1) = no value: an open or shorted sensor", 4700,
     "s = R / (Rk + R) = 4700 Ω / (4700 Ω + 4700 Ω) = 0.5"),
    (Attenuator(33e3, 10e3), 2, "Us = U · (Ru + RL) / RL = 2 V · (33000 + 10000) / 10000 = 8.6 V",
     12.9, "U = Us · RL / (Ru + RL) = 12.9 V · 10000 / (33000 + 10000) = 3 V"),
    (Shunt(150), 0.6, "I = U / R = 0.6 V / 150 Ω = 0.004 A", 0.02,
     "U = I · R = 0.02 A · 150 Ω = 3 V"),
    (Amplifier(-2, 1.65), 0.65, "Us = (U − b) / m = (0.65 − 1.65) V / (−2) = 0.5 V", -0.5,
     "U = m · Us + b = (−2) · −0.5 V + 1.65 V = 2.65 V"),
    (Beta(10e3, 3435, unit="K"), 10e3,
     "1/T = 1/T0 + ln(R / R0) / B = 1/298.15 K + ln(10000 / 10000) / 3435 K → T = 298.15 K", 298.15,
     "R = R0 · exp(B · (1/T − 1/T0)) = 10000 Ω · exp(3435 · (1/298.15 − 1/298.15)) = 10000 Ω"),
    (SteinhartHart(1 / 300, 1e-4, 0, unit="K"), 1,
     "ln R = ln 1 = 0; 1/T = a + b · ln R + c · (ln R)³ = "
     "0.00333333 + 0.0001 · 0 + 0 · 0³ → T = 300 K", 300,
     "a + b · ln R + c · (ln R)³ = 1/300 solved for R = 1 Ω"),
    (Platinum(), 138.5055,
     "R / R0 = 1 + A t + B t²; 138.5055 / 100 = 1.385055 solved for t = 100 °C", -200,
     "R = R0 · (1 + A t + B t² + C (t − 100) t³) at t = −200 °C: 18.5201 Ω"),
    (Table(((0, 0), (10, 100), (30, 120)), unit="cm"), 20,
     "y on the straight line from (10, 100) to (30, 120) at 20 = 110 cm", 50,
     "x on the straight line from (0, 0) to (100, 10) at 50 = 5"),
    (Table(((0, 0), (10, 100))), 11, "y: 11 is beyond the table, 0 to 10: no value", 100,
     "x on the straight line from (0, 0) to (100, 10) at 100 = 10"),
    (Polynomial((1, -2, 3), domain=(1, 9)), 2,
     "y = c0 + c1 · x + c2 · x² = 1 + (−2) · 2 + 3 · 2² = 9", 2,
     "c0 + c1 · x + c2 · x² = 2 solved for x = 1"),
    (PowerLaw(2, 3, 1, 4), 3, "y = a · (x − x0)^b + c = 2 · (3 − 1)^3 + 4 = 20", 20,
     "x = x0 + ((y − c) / a)^(1/b) = 1 + ((20 − 4) / 2)^(1/3) = 3"),
    (Formula("a*x + 1", a=2), 3, "y = a*x + 1 = 2 * 3 + 1 = 7", 7, "a*x + 1 = 7 solved for x = 3"),
    (Clamp(0, 100), 103, "y = x held in range: 103 > 100, held at the end = 100", 120,
     "120 > 100: the clamp never lets 120 through"),
    (Limits(0, 100), -3, "−3 < 0: outside the limits", 50, "0 ≤ 50 ≤ 100: within the limits"),
    (Expect(4, 20, unit="mA"), 3, "3 < 4, faulty: no sound sensor", 12,
     "4 ≤ 12 ≤ 20, as expected = 12 mA"),
    (DeadBand(-1, 1), 0.5, "0.5 is inside −1 to 1: at rest = 0", 0.5,
     "0.5 is inside the dead band: it is never given"),
    (Whole("down"), 2.5, "y = x rounded down = 2.5 → 2", 2, "x = y = 2, before rounding down"),
    (Whole("toward zero"), -2.5, "y = x rounded toward zero = −2.5 → −2", 2.5,
     "2.5 is not a whole number: rounding never gives it"),
    (Steps(5, "up"), 11, "y = x rounded up to a multiple of 5 = 11 → 15", 12,
     "12 is not a multiple of 5: rounding never gives it"),
    (Whole(), 2.5, "y = x rounded to the nearest whole number = 2.5 → 3", 2.5,
     "2.5 is not a whole number: rounding never gives it"),
    (Magnitude(), -16, "y = |x| = |−16| = 16", 16, "x = y = 16 (or −16)"),
    (PassThrough("bar"), 1.5, "y = x = 1.5 bar", 1.5, "x = y = 1.5"),
    (Zones((20, 60), ("low", "mid", "high")), 20, "20 is from 20 to below 60: zone 1, 'mid'", 2,
     "zone 2 is from 60 up"),
    (Zones((20,), (0, 5), unit="V"), 7, "7 is below 20: zone 0 = 0 V", 3, "no zone represents 3"),
    (To("degF", "degC"), 25, "25 °C = 25 · 1.8 + 32 = 77 °F", 212,
     "212 °F = 212 · 0.555556 − 17.7778 = 100 °C"),
]  # fmt: skip


@pytest.mark.parametrize("by", [4e-7, 4e-5, 0.004, 0.4])
@pytest.mark.parametrize("law", [Clamp(1, 100), Limits(1, 100), Expect(1, 100)])
def test_a_line_has_the_digits_that_show_on_which_side_it_is(law: Law, by: float) -> None:
    ruler = Input("%") >> law
    above, below = (ruler.trace(x).steps[-1].line for x in (100 + by, 1 - by))
    assert re.search(r"100\.0*4\d* > 100\b", above), above
    assert re.search(r"0\.\d+ < 1\b", below), below


@pytest.mark.parametrize(("law", "x", "there", "y", "back"), WORKED, ids=range(len(WORKED)))
def test_worked_lines(law: Law, x: float, there: str, y: float, back: str) -> None:
    assert law.formula(x) == there
    assert law.inverse_formula(y) == back


@pytest.mark.parametrize(
    ("value", "text"),
    [
        (0, "0"),
        (-0.0, "0"),
        (4700, "4700"),
        (2_200_000, "2200000"),
        (1e12, "1e+12"),
        (-3.5, "−3.5"),
        (0.00335402, "0.00335402"),
        (1e-7, "1e−07"),
        (float("nan"), "no value"),
        (float("inf"), "∞"),
        (float("-inf"), "−∞"),
    ],
)
def test_numbers_for_people(value: float, text: str) -> None:
    assert number(value) == text
    assert bracketed(value) == (f"({text})" if value < 0 else text)


@pytest.mark.parametrize(
    ("value", "digits", "text"),
    [
        (1_234_567.8, 6, "1234568"),
        (16_777_215.0, 6, "16777215"),
        (999_999.4, 6, "999999"),
        (999_999.5, 6, "1000000"),
        (5_000_000.3, 8, "5000000.3"),
        (1_234_567.84, 8, "1234567.8"),
        (1_234_567.84, 9, "1234567.84"),
        (9_999_999.2, 8, "9999999.2"),
        (9_999_999.96, 8, "10000000"),
        (9_999_999_999.0, 6, "9999999999"),
        (10_000_000_000.0, 6, "1e+10"),
        (0.000123456789, 4, "0.0001235"),
        (2.5, 1, "3"),
        (-0.00012345, 4, "−0.0001235"),
    ],
)
def test_numbers_with_as_many_digits_as_are_asked_for(value: float, digits: int, text: str) -> None:
    with written_with(digits):
        assert number(value) == text


@pytest.mark.parametrize(("value", "uncertainty", "texts"), [
    (225.314, 2.5534, ("225.3", "2.6")),
    (5.00981e-10, 5.66e-16, ("5.0098100e−10", "5.7e−16")),
    (-5.00981e-10, 5.66e-12, ("−5.010e−10", "5.7e−12")),
    (1.5, 3.3e-12, ("1.5000000000000", "3.3e−12")),
    (0.0, 5.66e-16, ("0.00000000000000000", "5.7e−16")),
    (0.000123456, 3.2e-9, ("0.0001234560", "3.2e−9")),
])  # fmt: skip
def test_values_have_the_places_of_their_uncertainty(
    value: float, uncertainty: float, texts: tuple[str, str]
) -> None:
    """JCGM 100:2008, 7.2.6; small ones with a power of ten, and no digit less."""
    assert rounded(value, uncertainty) == texts


def test_values_with_units_for_people() -> None:
    assert shown(225.349, "degC", 1) == "225.3 °C"
    assert shown(-0.04, "degC", 1) == "0.0 °C"
    assert shown(float("nan"), "degC", 1) == "no value"
    # Rounded from the exact binary value: 2.675 is a little less than it looks.
    assert (fixed(2.675, 2), fixed(0.125, 2), fixed(-0.001, 2)) == ("2.68", "0.13", "0.00")
    assert nearest("convret", ["convert", "draw"]) == "did you mean 'convert'?"
    assert nearest("zzz", ["convert", "draw"]) == "known: convert, draw"
    assert [symbol(u) for u in ("ohm", "degC", "%", None)] == ["Ω", "°C", "%", ""]
    assert [canonical(u) for u in ("Ω", " °C ", "V")] == ["ohm", "degC", "V"]
    assert [for_column(u) for u in ("%", "m/s", "degC", None)] == ["percent", "m_per_s", "degC", ""]


RULER = """
                                     2051
count  0              1000             2000             3000            4000
      ▕┬                ┬                ┬▼               ┬               ┬  ▏
      ▕   ┴      ┴     ┴     ┴     ┴      ▲     ┴     ┴     ┴      ┴     ┴   ▏
    %     0     10    20    30    40     50    60    70    80     90    100
                                       50.0 %
"""


def ruler_text(channel: Channel, count: float | None, width: int) -> str:
    return "\n".join(line.plain for line in ruler_lines(channel, count, width))


def test_ruler_in_a_terminal() -> None:
    knob = Counts(12) >> Line.through((198, 0), (3904, 100), unit="%") >> Clamp(0, 100)
    channel = Channel("damper", knob, "ch2", decimals=1)
    plain = ruler_text(channel, 2051, 80)
    assert [line.split() for line in plain.splitlines()] == [
        line.split() for line in RULER.strip("\n").splitlines()
    ]
    assert plain.splitlines()[2].index("▼") == plain.splitlines()[3].index("▲")
    for width in (60, 80, 100):
        for line in ruler_text(channel, 4095, width).splitlines():
            assert len(line) <= width
    assert "▼" not in ruler_text(channel, None, 80)
    bean = Adc(12) >> Divider(4700) >> Beta(1e5, 3950)
    labels = ruler_text(Channel("b", bean, "x", limits=(0, 260)), 1880, 80)
    degrees = [int(n) for n in re.findall(r"\d+", labels.splitlines()[4])]
    assert degrees == sorted(degrees, reverse=True)  # a thermistor's ruler runs backwards


def test_zones_of_numbers_have_all_their_labels_in_their_middles() -> None:
    """Edges at 20, 50, 70 and 90 %: each of the five numbers stands once, inside its zone."""
    zones = Zones((20, 50, 70, 90), (0, 40, 50, 90, 100), unit="rpm")
    ruler = Counts(12) >> Line.through((0, 0), (4095, 100)) >> zones
    ticks = true_ticks(ruler, 10)
    names = [tick for tick in ticks if not tick.is_line]
    assert [tick.label for tick in names] == ["0", "40", "50", "90", "100"]
    assert [ruler(round(tick.raw)) for tick in names] == [0, 40, 50, 90, 100]
    middles = [409.5, 1433, 2457, 3276, 3890]
    assert [tick.raw for tick in names] == pytest.approx(middles, abs=2)
    edges = [tick for tick in ticks if tick.is_line]
    assert [tick.value for tick in edges] == [20, 50, 70, 90]
    assert [tick.raw for tick in edges] == pytest.approx([819, 2047.5, 2866.5, 3685.5], abs=1)
    view = ruler_text(Channel("fan", ruler, 1), 2500, 80).splitlines()
    shown = re.findall(r"\d+", view[4])
    assert {"0", "40", "50", "90", "100"} <= set(shown)
    # With values behind the zones, and the same number twice.
    scaled = ruler >> Line(0.5, takes="rpm", unit="V")
    halves = [tick.label for tick in true_ticks(scaled, 10) if not tick.is_line]
    assert halves == ["0", "20", "25", "45", "50"]


@pytest.mark.parametrize(("law", "x", "y"), TRUTH, ids=lambda value: type(value).__name__)
def test_the_result_of_a_worked_line_has_its_unit(law: Law, x: float, y: float) -> None:
    """Also of a law that keeps whatever unit comes in."""
    ruler = Ruler.of(Line(1.0, 0.0, unit="bar"), law) if law.takes is None else Ruler.of(law)
    steps = [*ruler.trace(float(x)).steps]
    with contextlib.suppress(NoInverseError):
        steps += ruler.trace_back(float(y)).steps
    for step in steps:
        bare = re.search(r"[=→] −?[\d.e−]+$", step.line)
        assert bare is None or not symbol(step.unit), step.line
