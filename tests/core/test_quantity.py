"""Quantities as they stand on parts and in datasheets."""

from __future__ import annotations

import copy
import math
import pickle
from decimal import Decimal
from pathlib import Path
from typing import Any

import numpy as np
import pint
import pytest
from hypothesis import given
from hypothesis import strategies as st

import jetruler as jr
from jetruler import Toleranced, quantity
from jetruler.benchfile.models import build_law
from jetruler.core.ruler.quantity import unit_of, unit_written
from jetruler.core.ruler.units import column_unit, factor_and_offset
from jetruler.errors import QuantityError, UnitError
from tests.conftest import Cli

# IEC 60062: the letter stands for the decimal point; and the ways people write the same value.
READ = [
    ("4k7", None, 4700.0),
    ("2M2", None, 2.2e6),
    ("100R", None, 100.0),
    ("R47", None, 0.47),
    ("4R7", None, 4.7),
    ("1G", None, 1e9),
    ("47L", None, 0.047),
    ("3V3", "V", 3.3),
    ("4.7 kohm", None, 4700.0),
    ("4.7 kΩ", "ohm", 4700.0),
    ("4.7k", "ohm", 4700.0),
    ("4700", "ohm", 4700.0),
    ("15 mV", "V", 0.015),
    ("2 MHz", None, 2e6),
    ("1.5 µs", "s", 1.5e-6),
    ("-40 degC", None, -40.0),
    ("−40 °C", "degC", -40.0),
    ("25 degC", "K", 298.15),
    ("298.15 K", "degC", 25.0),
    ("298K", "K", 298.0),
    ("77 degF", "degC", 25.0),
    ("25 degC", "degF", 77.0),
    ("1e3 V", "V", 1000.0),
    ("20 cm", None, 0.2),
    ("1.2 m", "cm", 120.0),
    ("3600 µA", "mA", 3.6),
]


@pytest.mark.parametrize(("text", "unit", "value"), READ)
def test_reads(text: str, unit: str | None, value: float) -> None:
    assert quantity(text, unit) == value


@pytest.mark.parametrize(
    ("text", "unit", "value", "half_width"),
    [
        ("3.3 V ± 15 mV", "V", 3.3, 0.015),
        ("3.3 V +- 1 %", "V", 3.3, 0.033),
        ("3.3 V +/-1%", "V", 3.3, 0.033),
        ("4k7 ± 1 %", "ohm", 4700.0, 47.0),
        ("4K7J", "ohm", 4700.0, 235.0),
        ("100RF", "ohm", 100.0, 1.0),
        ("25 degC ± 0.2 degC", "K", 298.15, 0.2),
        ("25 degC ± 0.9 degF", "K", 298.15, 0.5),
    ],
)
def test_tolerance(text: str, unit: str, value: float, half_width: float) -> None:
    found = quantity(text, unit)
    assert isinstance(found, Toleranced)
    assert found == value
    assert found.half_width == pytest.approx(half_width, rel=1e-15)


@pytest.mark.parametrize(
    ("text", "unit", "says"),
    [
        ("", None, "expected a quantity"),
        ("four", None, "expected a quantity"),
        ("4,7 kohm", "ohm", "4.7 kohm"),
        ("4.7 kohn", "ohm", "a known unit"),
        ("4.7 kohm", "V", "V"),
        ("25", "degC", "a temperature with its unit"),
        ("3.3 V ± 1 ohm", "V", "tolerance is in Ω"),
        ("3.3 V ± -1 %", "V", "a tolerance of 0 or more"),
        ("25 degC ± 1 %", "K", "in degrees"),
        ("1e999 V", "V", "this computer can hold"),
        ("k", "ohm", "expected a quantity"),
    ],
)
def test_refuses(text: str, unit: str | None, says: str) -> None:
    with pytest.raises(QuantityError, match=says):
        quantity(text, unit)


@given(st.integers(0, 999), st.sampled_from("RkM"), st.integers(0, 99))
def test_letter_code_is_exact(whole: int, letter: str, part: int) -> None:
    factor = {"R": 1, "k": 1000, "M": 1_000_000}[letter]
    assert quantity(f"{whole}{letter}{part}") == float(Decimal(f"{whole}.{part}") * factor)


def test_toleranced_computes_as_float_and_survives_copying() -> None:
    value = Toleranced(4700, 47)
    assert value * 2 == 9400.0
    for twin in (copy.deepcopy(value), pickle.loads(pickle.dumps(value))):
        assert (twin, twin.half_width) == (4700.0, 47.0)
    assert str(value) == "4700 ± 47"
    with pytest.raises(QuantityError):
        Toleranced(1, -1)


@pytest.mark.parametrize(
    ("text", "unit", "value"),
    [
        ("10 psi", None, 10.0),  # a unit of the registry is its own, as bar is
        ("10 psi", "Pa", 68947.57293168362),
        ("1 mbar", "Pa", 100.0),
        ("30 inch", "cm", 76.2),
        ("1 mmHg", "Pa", 133.322387415),  # the conventional millimetre of mercury
        ("2 g_0", "m/s²", 19.6133),
        ("5 min", "s", 300.0),
        ("1.5 h", None, 5400.0),
    ],
)
def test_every_unit_that_a_law_converts_reads_as_a_quantity(
    text: str, unit: str | None, value: float
) -> None:
    """NIST SP 811, appendix B."""
    assert quantity(text, unit) == pytest.approx(value, rel=1e-12)
    number, name = text.split()
    if unit is not None and name not in ("min", "h"):
        assert jr.To(unit, name)(float(number)) == pytest.approx(value, rel=1e-12)


@pytest.mark.parametrize(
    "unit",
    ["m**99999999", "V()", "2**9", "m^m", "m*" * 40 + "m", "f('o')", "[1]", "9e9m"],
)
def test_a_unit_is_a_name_and_nothing_to_compute(unit: str) -> None:
    with pytest.raises(jr.errors.QuantityError):
        quantity(f"1 {unit}")
    with pytest.raises(jr.errors.ParameterError):
        jr.To(unit)


def test_marks_in_any_unit() -> None:
    law = build_law({"law": "line", "marks": [["4 mA", 0], ["20 mA", "100 psi"]]})
    assert (law.takes, law.gives, law.slope(np.array([10.0]))[0]) == ("mA", "psi", 6.25)


#: One temperature in every scale, to the definitions of BIPM's SI brochure and NIST SP 811.
SCALES = {
    25.0: ("degC", "°C", "celsius", "Celsius", "degree_Celsius"),
    77.0: ("degF", "°F", "fahrenheit", "Fahrenheit", "degree_Fahrenheit"),
    298.15: ("K", "kelvin", "Kelvin"),
    536.67: ("rankine", "degR", "degree_Rankine"),
}


@pytest.mark.parametrize("value", SCALES)
@pytest.mark.parametrize("other", SCALES)
def test_temperatures_in_every_spelling(value: float, other: float) -> None:
    for name in SCALES[value]:
        for wanted in SCALES[other]:
            assert jr.To(wanted, name)(value) == pytest.approx(other, abs=1e-9)
            if name.isalpha() and wanted.isascii():
                assert quantity(f"{value} {name}", wanted) == pytest.approx(other, abs=1e-9)
            one = jr.Marks(np.array([1.0]), np.array([value]), true_unit=name)
            marks = one.in_units(("count",), wanted)
            if SCALES[other][0] in ("degC", "degF", "K"):
                assert marks.true[0] == pytest.approx(other, abs=1e-9)


@pytest.mark.parametrize(
    ("text", "unit", "half"),
    [
        ("25 degC ± 1.8 fahrenheit", "degC", 1.0),  # a difference has no zero point
        ("77 fahrenheit ± 1 kelvin", "degC", 1.0),
        ("298.15 kelvin ± 1 degC", "degF", 1.8),
        ("3.3 volt ± 5 millivolt", "V", 0.005),
    ],
)
def test_tolerances_are_differences(text: str, unit: str, half: float) -> None:
    found = quantity(text, unit)
    assert isinstance(found, Toleranced)
    assert found.half_width == pytest.approx(half, rel=1e-12)


@pytest.mark.parametrize(
    ("spelled", "unit"),
    [("millivolt", "mV"), ("kiloohm", "kohm"), ("Volt", "V"), ("hertz", "Hz"), ("litre", "L"),
     ("degree", "deg"), ("kilogram", "kg"), ("psi", "psi"), ("m/s²", "m/s²"), ("mA", "mA")],
)  # fmt: skip
def test_one_spelling_inside(spelled: str, unit: str) -> None:
    """Whatever a law is told, laws that follow one another agree about it."""
    line = jr.Line(gain=1, offset=0, unit=spelled)
    assert line.gives == unit
    assert column_unit(f"x_{spelled}" if spelled.isalpha() else f"x ({spelled})", unit) == unit


#: Units of one kind each, as people write them; the registry's own names where those differ.
KINDS = {
    "length": ["m", "mm", "cm", "km", "inch", "ft", "mile", "um"],
    "pressure": ["Pa", "kPa", "bar", "mbar", "psi", "atm", "torr"],
    "energy": ["J", "kJ", "cal", "BTU", "eV"],
    "speed": ["m/s", "km/h", "ft/s", "mile/h", "knot"],
    "flow": ["L/min", "m^3/s", "gallon/min", "mL/s", "L/h"],
    "angle": ["deg", "rad", "turn", "arcminute"],
    "force": ["N", "kN", "lbf", "kgf"],
    "mass": ["g", "kg", "mg", "lb", "oz"],
    "ratio": ["1", "fraction", "%", "ppm"],
    "time": ["s", "ms", "min", "h", "day"],
    "difference": ["K", "delta_degC", "delta_degF"],
    "power": ["W", "kW", "hp"],
}
AT_PINT = {
    "%": "percent", "1": "", "fraction": "",
    "K": "delta_degC",
}  # fmt: skip
REGISTRY: Any = pint.get_application_registry()  # type: ignore[no-untyped-call]


@pytest.mark.parametrize("kind", KINDS)
def test_units_of_a_kind_convert_as_the_registry_says(kind: str) -> None:
    """And into no other kind's."""
    strangers = [units[0] for name, units in KINDS.items() if name != kind]
    for source in KINDS[kind]:
        for unit in KINDS[kind]:
            wanted = REGISTRY.Quantity(1.0, AT_PINT.get(source, source)).to(AT_PINT.get(unit, unit))
            found, offset = factor_and_offset(source, unit)
            assert offset == 0.0
            assert found == pytest.approx(wanted.magnitude, rel=1e-12)
        for stranger in strangers:
            with pytest.raises(UnitError, match="cannot be converted"):
                factor_and_offset(source, stranger)


@pytest.mark.parametrize(
    ("value", "source", "result", "unit"),
    [
        (50, "Hz", 3000, "rpm"), (3000, "rpm", 50, "Hz"), (1, "kHz", 60_000, "rpm"),
        (1, "turn/s", 1, "Hz"), (1, "turn/s", 60, "rev/min"), (1, "turn/s", 360, "deg/s"),
        (30, "1/min", 30, "rpm"), (60, "rpm", 2 * math.pi, "rad/s"), (6, "deg/s", 1, "rpm"),
        (1, "rev", 360, "°"), (90, "°", math.pi / 2, "rad"), (2, "1/s", 2, "Hz"),
        (1, "rev/s", 60, "RPM"), (1, "inH2O", 249.08891, "Pa"), (1, "cmH2O", 0.980665, "mbar"),
    ],
)  # fmt: skip
def test_turns_are_turns(value: float, source: str, result: float, unit: str) -> None:
    """Fifty hertz of turns are 3000 a minute, though the registry counts radians."""
    factor, offset = factor_and_offset(source, unit)
    assert offset == 0.0
    assert value * factor == pytest.approx(result, rel=1e-14)
    assert jr.quantity(f"{value} {source}", unit) == pytest.approx(result, rel=1e-14)


@pytest.mark.parametrize(("source", "unit"), [("Hz", "rad/s"), ("rad/s", "kHz"), ("deg/s", "1/s")])
def test_hertz_and_radians_are_not_told_apart_for_anybody(source: str, unit: str) -> None:
    with pytest.raises(UnitError, match="1 Hz is 2π rad/s of turns, or 1 rad/s of radians"):
        factor_and_offset(source, unit)
    with pytest.raises(jr.JetRulerError, match="a difference is no scale"):
        factor_and_offset("delta_degC", "degC")


@pytest.mark.parametrize("unit", ["NTU", "steps", "%RH", "pH", "widgets"])
def test_a_unit_of_ones_own_is_compatible_with_itself_alone(unit: str) -> None:
    assert jr.quantity(f"50 {unit}", unit) == 50.0
    assert jr.quantity("50", unit) == 50.0
    assert jr.quantity(f"50 {unit} ± 2 {unit}", unit).half_width == 2.0  # type: ignore[attr-defined]
    for text in ("50 kg", "50 %", "50 V", "50 gadgets", f"50 {unit} ± 2 kg"):
        with pytest.raises(QuantityError):
            jr.quantity(text, unit)


def test_a_value_asked_for_is_of_the_channels_own_unit(cli: Cli, home: Path) -> None:
    (home / "own.toml").write_text(
        '[channel.turbidity]\ncolumn = "ch0"\nconverter = { bits = 12, vref = 3.3 }\n'
        'laws = [{ law = "line", marks = [[0, 0], [4095, 1000]], unit = "NTU" }]\n'
        '[channel.angle]\ncolumn = "ch0"\nconverter = { bits = 12, vref = 3.3 }\n'
        'laws = [{ law = "line", marks = [[0, 0], [4095, 270]], unit = "°" }]\n'
    )
    for channel, text, code in (
        ("turbidity", "50 NTU", 0), ("turbidity", "50", 0), ("turbidity", "50 kg", 2),
        ("angle", "90 °", 0), ("angle", "1.2 rad", 0), ("angle", "50 kg", 2), ("angle", "50 %", 2),
    ):  # fmt: skip
        done = cli("explain", channel, "--for", text, "-b", "own.toml")
        assert done.returncode == code, (text, done.stdout + done.stderr)


@pytest.mark.parametrize(("text", "written", "inside"), [
    ("4 mA", "mA", "A"),
    ("4 mA ± 1 %", "mA", "A"),
    ("−40 °C", "degC", "degC"),
    ("77 degF", "degF", "degF"),
    ("4k7", "ohm", "ohm"),
    ("3V3", "V", "V"),
    ("12", None, None),
    ("50 %", "%", "%"),
    ("2.5 V / 16383", "V", "V"),
    ("2 mbar", "mbar", "bar"),
    ("10k", "ohm", "ohm"),
    ("47L", "ohm", "ohm"),
    ("4k7J", "ohm", "ohm"),
])  # fmt: skip
def test_the_unit_as_it_is_written_and_inside(
    text: str, written: str | None, inside: str | None
) -> None:
    assert (unit_written(text), unit_of(text)) == (written, inside)
