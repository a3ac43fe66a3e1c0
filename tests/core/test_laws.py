"""Every law: its row of known values, its inverse and slope, and what it refuses."""

from __future__ import annotations

import contextlib
import math
from typing import Any, Literal

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import jetruler as jr
from jetruler import (
    Adc,
    Amplifier,
    Attenuator,
    Beta,
    Bridge,
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
    LoadCell,
    Magnitude,
    PassThrough,
    Photoresistor,
    Platinum,
    Polynomial,
    PowerLaw,
    Pulses,
    Ruler,
    Shunt,
    SteinhartHart,
    SteinhartHartExtended,
    Steps,
    Table,
    Thermocouple,
    To,
    Whole,
    Zones,
)
from jetruler.core.laws import LAWS, law_named
from jetruler.core.numerics import NoInverseError
from jetruler.core.ruler.units import number
from jetruler.errors import ParameterError
from tests.helpers.sizes import fewer

#: Three coefficients of a 10 kΩ part of Beta 3435 K: b = 1/Beta, so that the curve is a Beta's.
STEINHART = (1 / 298.15 - math.log(10e3) / 3435, 1 / 3435, 0.0)

#: A published pair of four coefficients each: T from R, and R from T.
PAIR = (
    (3.354016e-3, 2.569850e-4, 2.620131e-6, 6.383091e-8),
    (-14.63371957, 4791.842, -115334.0, -3730535.0),
)

# law, x, y: computed by hand or from the definition in the datasheet, never by the law itself.
TRUTH: list[tuple[Law, float, float]] = [
    (Adc(12, 3.3), 4095, 3.3),
    (Adc(12, 3.3), 0, 0.0),
    (Adc(12, 3.3, count_at_vref=4096), 2048, 1.65),
    (Adc(10, 5.0, count_at_vref=1024), 512, 2.5),
    (Adc(10, 5.0), 1023, 5.0),
    (Adc(16, 3.0, count_at_vref=65535), 65535, 3.0),
    (Adc(16, 2.048, signed=True), -32768, -2.048 * 32768 / 32767),
    (Adc(16, 2.048, count_at_vref=32768, signed=True), -16384, -1.024),
    (Adc(24, 2.5, count_at_vref=2**24), 2**23, 1.25),
    (Adc(32, 4.0, count_at_vref=2**32), 2**30, 1.0),
    (Adc(1, 5.0), 1, 5.0),
    (Adc(12, 3.3), 4096, math.nan),
    (Adc(12, 3.3), -1, math.nan),
    (Counts(8), 255, 255.0),
    (Counts(8, signed=True), -128, -128.0),
    (Counts(8, signed=True), 128, math.nan),
    (Input("V"), -1.25, -1.25),
    (Input("cm", resolution=0.1, range=(2, 400)), 400.05, 400.05),
    (Input("cm", resolution=0.1, range=(2, 400)), 400.06, math.nan),
    (Input("cm", range=(2, 400)), 1.99, math.nan),
    (Line(2, 3), 4, 11.0),
    (Line(-0.5), 4, -2.0),
    (Line.through((198, 0), (3904, 100)), 2051, 50.0),
    (Line.through((3904, 0), (198, 100)), 198, 100.0),
    (Line.through((4, 0), (20, 250)), 12, 125.0),
    (Clamp(0, 100), -3, 0.0),
    (Clamp(0, 100), 103, 100.0),
    (Clamp(low=0), 5e4, 5e4),
    (Clamp(0, 100), math.nan, math.nan),
    (Limits(0, 100), 103, 103.0),
    (Divider(4700), 0.5, 4700.0),  # ratiometric: the fraction of the reference comes in
    (Divider(4700, "lower", supply=3.3), 1.1, 2350.0),
    (Divider(4700, "upper", supply=3.3), 1.1, 9400.0),
    (Divider(10e3, "lower", supply=5, load=10e3), 1.0, 2500 * 10e3 / 7500),
    (Divider(10e3, "upper", supply=5, load=10e3), 1.0, 20e3),
    *((Divider(4700), s, math.nan) for s in (0.0, 1.0, -0.1, 1.1)),
    (Divider(10e3, load=10e3), 0.51, math.nan),  # more than an open sensor beside the load gives
    (Attenuator(33e3, 10e3), 2.79, 11.997),
    (Attenuator(10e3, 10e3, load=10e3), 1.0, 3.0),
    (Shunt(150), 0.6, 0.004),
    (Amplifier(-2, 1.65), 0.65, 0.5),
    (Beta(10e3, 3435), 10e3, 25.0),
    (Beta(10e3, 3435, unit="K"), 10e3, 298.15),
    (Beta(10e3, 3435, unit="degF"), 10e3, 77.0),
    *((Beta(10e3, 3435), r, math.nan) for r in (0.0, -1.0, math.inf, 1e-30)),
    (SteinhartHart(*STEINHART), 10e3, 25.0),
    (SteinhartHartExtended(10e3, (1 / 298.15, 1 / 3435, 0, 0)), 10e3, 25.0),
    (SteinhartHartExtended(10e3, to_ohms=(-3435 / 298.15, 3435, 0, 0)), 10e3, 25.0),
    (Platinum(), 100.0, 0.0),
    (Platinum(1000), 1000.0, 0.0),
    (Platinum(unit="K"), 100.0, 273.15),
    (Platinum(lead=0.7, wires=2), 101.4, 0.0),
    (Platinum(lead=0.7, wires=3), 100.0, 0.0),
    (Platinum(a=4e-3, b=-5e-7), 100 * (1 + 4e-3 * 80 - 5e-7 * 80**2), 80.0),
    (Thermocouple("J"), 0.0, 0.0),
    (Thermocouple("J", cold="0 degC"), 70.0, math.nan),
    (Thermocouple("B"), -0.001, math.nan),
    (Bridge(2.0, 4, supply=5), 0.01, 1000.0),
    (Bridge(2.0, 2, supply=5), 0.01, 2000.0),
    # By hand: R = 350 Ω · (1 + 2 · 0.001) beside 350 Ω gives s = 350.7/700.7 − 1/2 = 0.35/700.7.
    (Bridge(2.0, 1), 0.35 / 700.7, 1000.0),
    (Bridge(2.0, 1, lead=3.5), 0.35 / 700.7, 1010.0),
    (Bridge(2.0, 1, supply=5), 2.5, math.nan),
    (LoadCell(50, 2, supply=5), 0.010, 50.0),
    (LoadCell(50, 2, zero=0.1), 0.0011, 25.0),
    (Photoresistor(20e3, 0.5), 20e3, 10.0),
    (Photoresistor(20e3, 0.5), 2e3, 1000.0),
    (Photoresistor(20e3, 0.5), 0.0, math.nan),
    (Pulses(2, 0.5), 30, 1800.0),
    (Pulses(450, 10, "L/min"), 900, 12.0),
    (Pulses(4, 2, "turn/s"), 16, 2.0),
    *((Platinum(), r, math.nan) for r in (18.0, 391.0, -5.0)),
    (Table(((0, 0), (10, 100), (30, 120))), 20, 110.0),
    (Table(((30, 120), (0, 0), (10, 100)), ends="hold"), 40, 120.0),
    (Table(((0, 0), (10, 100), (30, 120)), ends="extend"), 40, 130.0),
    (Table(((0, 0), (10, 100), (30, 120))), 30.1, math.nan),
    (Table(((0, 0), (10, 100), (30, 120)), "smooth"), 10, 100.0),
    # By hand, Fritsch and Butland: slope (3·1 − 0)/2 at x = 0, 0 at x = 1; cubic Hermite between.
    (Table(((0, 0), (1, 1), (2, 1)), "smooth"), 0.5, 0.6875),
    (Polynomial((1, 2, 3)), 2, 17.0),
    (Polynomial((1, 2, 3), domain=(0, 1)), 2, math.nan),
    (PowerLaw(2, 3, 1, 4), 3, 20.0),
    (PowerLaw(2, -1, 1), 1, math.nan),
    (Formula("1 / (a + b*log(x)) - 2**-1", a=0.5, b=0.25), 1, 1.5),
    (Formula("sqrt(x) + cos(pi*x) + abs(-x)", domain=(0, 9)), 4, 7.0),
    (Formula("log(x)"), 0, math.nan),
    (Expect(3.6e-3, 21e-3), 4e-3, 4e-3),
    (Expect(3.6e-3, 21e-3), 3.5e-3, math.nan),
    (DeadBand(1900, 2100, 2048), 1900, 2048.0),
    (DeadBand(-1, 1), 0.3, 0.0),
    (DeadBand(-1, 1), 1.3, 1.3),
    (Magnitude(), -16, 16.0),
    (PassThrough("bar"), 1.5, 1.5),
    (Zones((20, 60), (0, 50, 100)), 20, 50.0),  # an edge belongs to the zone above
    (Zones((20, 60), (0, 50, 100)), 19.999, 0.0),
    (Zones((20, 60), ("low", "mid", "high")), 1e9, 2.0),
    (Zones((20,), ((0, 1), (1, 1))), math.nan, math.nan),
    (To("degF", "degC"), 100, 212.0),
    (To("mA", "A"), 0.004, 4.0),
    (To("Pa", "psi"), 1, 4.4482216152605 / 0.0254**2),  # pound-force on a square inch
    *(
        (Whole("nearest"), x, y)
        for x, y in [(2.5, 3), (-2.5, -3), (0.49999999999999994, 1), (0.499999, 0)]
    ),
    *((Steps(0.1), x, y) for x, y in [(0.3, 0.3), (0.25, 0.3), (0.349, 0.3), (-0.25, -0.3)]),
    *((Steps(10, "down"), x, y) for x, y in [(19.9, 10), (-0.1, -10), (20, 20)]),
    *((Steps(0.25, "up"), x, y) for x, y in [(0.26, 0.5), (0.25, 0.25)]),
    (Zones(values=("off", "low", "high"), over=(0, 90)), 30, 1.0),
    *((Whole("down"), x, y) for x, y in [(2.9, 2), (-2.1, -3)]),
    *((Whole("up"), x, y) for x, y in [(2.1, 3), (-2.9, -2)]),
    *((Whole("toward zero"), x, y) for x, y in [(2.9, 2), (-2.9, -2)]),
]


@pytest.mark.parametrize(("law", "x", "y"), TRUTH, ids=repr)
def test_truth(law: Law, x: float, y: float) -> None:
    found = law(x)
    assert found == pytest.approx(y, rel=1e-14, abs=1e-11, nan_ok=True)
    assert not (found == 0 and math.copysign(1, found) < 0), "negative zero"


def test_every_law_has_a_row() -> None:
    assert {type(law) for law, _, _ in TRUTH} == {law_named(name) for name in LAWS}


@pytest.mark.parametrize(
    ("law", "mistake", "parameter"),
    [
        (Adc, {"bits": 0, "vref": 3.3}, "bits"),
        (Adc, {"bits": 33, "vref": 3.3}, "bits"),
        (Adc, {"bits": 12.0, "vref": 3.3}, "bits"),
        (Adc, {"bits": True, "vref": 3.3}, "bits"),
        (Adc, {"bits": 12, "vref": 0}, "vref"),
        (Adc, {"bits": 12, "vref": -3.3}, "vref"),
        (Adc, {"bits": 12, "vref": math.inf}, "vref"),
        (Adc, {"bits": 12, "vref": "3.3 A"}, "vref"),
        (Adc, {"bits": 12, "vref": 3.3, "count_at_vref": 0}, "count_at_vref"),
        (Adc, {"bits": 12, "vref": 3.3, "signed": 1}, "signed"),
        (Adc, {"bits": 1, "vref": 3.3, "signed": True}, "signed"),
        (Line, {}, "gain"),
        (Line, {"gain": 0}, "gain"),
        (Line, {"marks": ((1, 2), (1, 3))}, "marks"),
        (Line, {"marks": ((1, 2), (2, 2))}, "marks"),
        (Line, {"marks": ((1, 2), (2, 3), (3, 4))}, "marks"),
        (Line, {"marks": ((1, 2), (2, math.nan))}, "marks"),
        (Line, {"gain": 1, "marks": ((1, 2), (2, 3))}, "marks"),
        (Clamp, {}, "low"),
        (Clamp, {"low": 5, "high": 3}, "low"),
        (Limits, {"low": 3, "high": 3}, "low"),
        (Whole, {"rounding": "sideways"}, "rounding"),
        (Steps, {"size": 0}, "size"),
        (Steps, {"size": 2, "rounding": "off"}, "rounding"),
        (Platinum, {"lead": -1}, "lead"),
        (Platinum, {"wires": 5}, "wires"),
        (Platinum, {"b": -1}, "b"),
        (Thermocouple, {"kind": "Q"}, "kind"),
        (Thermocouple, {"kind": "S", "cold": "-80 degC"}, "cold"),
        (Thermocouple, {"kind": "K", "cold": 25}, "cold"),
        (Bridge, {"gauge_factor": 0}, "gauge_factor"),
        (Bridge, {"gauge_factor": 2, "active": 3}, "active"),
        (LoadCell, {"capacity": 50, "sensitivity": -2}, "sensitivity"),
        (Photoresistor, {"r10": 2e4, "gamma": 0}, "gamma"),
        (Pulses, {"each": 2, "interval": 0}, "interval"),
        (Zones, {"values": ("a", "b"), "over": (1, 0)}, "over"),
        (Zones, {"values": ("a", "b"), "over": (0, 1), "edges": (0.5,)}, "over"),
        (Zones, {"values": ("a",), "over": (0, 1)}, "values"),
        (Divider, {"known": 0}, "known"),
        (Divider, {"known": 1, "sensor": "left"}, "sensor"),
        (Divider, {"known": 1, "supply": -5}, "supply"),
        (Divider, {"known": 1, "load": 0}, "load"),
        (Attenuator, {"upper": -1, "lower": 1}, "upper"),
        (Shunt, {"ohms": 0}, "ohms"),
        (Amplifier, {"gain": 0}, "gain"),
        (Beta, {"r0": -1, "beta": 3950}, "r0"),
        (Beta, {"r0": 1, "beta": 0}, "beta"),
        (Beta, {"r0": 1, "beta": 3950, "t0": 0}, "t0"),
        (Beta, {"r0": 1, "beta": 3950, "unit": "Re"}, "unit"),
        (SteinhartHart, {"a": 1e-3, "b": -2e-4, "c": 0}, "b"),
        (SteinhartHartExtended, {"r25": 1e4}, "to_kelvin"),
        (SteinhartHartExtended, {"r25": 1e4, "to_kelvin": (1, 2)}, "to_kelvin"),
        (SteinhartHartExtended, {"r25": 1e4, "to_ohms": (0, -1, 0, 0)}, "to_ohms"),
        (Platinum, {"r0": 0}, "r0"),
        (Table, {"points": ((0, 1),)}, "points"),
        (Table, {"points": ((0, 1), (0, 2))}, "points"),
        (Table, {"points": ((0, 1), (1, math.inf))}, "points"),
        (Table, {"points": ((0, 1), (1, 2)), "method": "wavy"}, "method"),
        (Table, {"points": ((0, 1), (1, 2)), "ends": "free"}, "ends"),
        (Polynomial, {"coefficients": (1,)}, "coefficients"),
        (Polynomial, {"coefficients": (1, 0)}, "coefficients"),
        (Polynomial, {"coefficients": (1, 2), "domain": (2, 1)}, "domain"),
        (PowerLaw, {"a": 0, "b": 1}, "a"),
        (Formula, {"expression": "x", "log": 2}, "log"),
        (Formula, {"expression": "a*x", "a": "one"}, "a"),
        (Expect, {}, "low"),
        (DeadBand, {"low": 1, "high": 1}, "low"),
        (DeadBand, {"low": 1, "high": 2, "rest": 3}, "rest"),
        (Zones, {"edges": (2, 1), "values": (1, 2, 3)}, "edges"),
        (Zones, {"edges": (1, 2), "values": (1, 2)}, "values"),
        (Zones, {"edges": (1,), "values": (1, "a")}, "values"),
        (Zones, {"edges": (), "values": (1,)}, "edges"),
        (To, {"unit": "furlongz"}, "unit"),
        (To, {"unit": None}, "unit"),
        (Line, {"gain": 2, "unit": True}, "unit"),
        (Clamp, {"low": 2, "unit": math.nan}, "unit"),
        (Shunt, {"ohms": 10**400}, "ohms"),
        (Zones, {"edges": 10**400, "values": (1,)}, "edges"),
        (Formula, {"expression": "a*x", "a": 10**400}, "a"),
    ],
)
def test_refuses(law: type[Law], mistake: dict[str, Any], parameter: str) -> None:
    with pytest.raises(ParameterError) as caught:
        law(**mistake)
    assert caught.value.name == parameter
    assert caught.value.expected


marks = st.tuples(
    st.floats(-1e6, 1e6), st.floats(-1e6, 1e6), st.floats(-1e6, 1e6), st.floats(-1e6, 1e6)
).filter(lambda m: abs(m[0] - m[2]) > 1e-6 and abs(m[1] - m[3]) > 1e-6)


@given(marks)
def test_line_is_exact_at_both_marks(m: tuple[float, float, float, float]) -> None:
    x0, y0, x1, y1 = m
    for line in (Line.through((x0, y0), (x1, y1)), Line.through((x1, y1), (x0, y0))):
        assert (line(x0), line(x1)) == (y0, y1)
        assert tuple(line.inverse(np.array([y0, y1]))) == (x0, x1)


QUARTER_TO_FULL: tuple[Literal[1, 2, 4], ...] = (1, 2, 4)

#: A law with the domain on which it is inverted: its whole domain, or a large part of an open one.
WHOLE_DOMAINS: list[tuple[Law, float, float]] = [
    (Adc(12, 3.3), 0, 4095),
    (Adc(16, 2.048, signed=True), -32768, 32767),
    (Counts(8), 0, 255),
    (Line(-0.5, 3), -1e6, 1e6),
    (Line.through((198, 0), (3904, 100)), -1e4, 1e4),
    (Clamp(0, 100), 0, 100),
    (Limits(0, 100), -1e3, 1e3),
    (Expect(4e-3, 20e-3), 4e-3, 20e-3),
    *(
        (Divider(4700, leg, 3.3, load), 0.01, 1.6)
        for leg in ("upper", "lower")
        for load in (None, 1e4)
    ),
    (Divider(4700), 1e-6, 1 - 1e-6),
    (Attenuator(33e3, 10e3, 1e6), -1, 5),
    (Shunt(150), 0, 5),
    (Amplifier(-2, 1.65), 0, 5),
    *((Beta(100e3, 3950, unit=u), 1, 1e9) for u in ("degC", "K", "degF")),
    (SteinhartHart(6.7e-4, 2.2e-4, 1e-7), 1, 1e9),
    (SteinhartHart(1.1e-3, 2.4e-4, -1e-8), 100, 1e6),
    (SteinhartHartExtended(10e3, PAIR[0]), 10, 1e7),
    (SteinhartHartExtended(10e3, to_ohms=PAIR[1]), 100, 5e5),
    (Platinum(), 18.53, 390.4),
    (Platinum(1000, unit="degF"), 185.3, 3904.0),
    (Platinum(lead=0.7, wires=2), 20.0, 390.0),
    (Thermocouple("K"), -6.4, 54.8),
    (Thermocouple("T", unit="degF"), -6.2, 20.8),
    (Thermocouple("B", unit="K"), 0.01, 13.8),
    (Thermocouple("R"), -0.2, 21.1),
    *((Bridge(2.0, active, 5.0, 1.0), -0.5, 0.5) for active in QUARTER_TO_FULL),
    (LoadCell(50, 2, zero=0.1), -0.01, 0.01),
    (Photoresistor(20e3, 0.7), 10, 1e7),
    (Pulses(2, 0.5), 0, 1e4),
    *((Table(((0, 9), (1, 4), (5, 1), (20, 0)), m), 0, 20) for m in ("linear", "smooth")),
    (Table(((0, 0), (1, 4), (5, 5)), ends="extend"), -50, 50),
    (Polynomial((1, 2, 0.5, 1)), -100, 100),
    (Polynomial((1, -2, 3), domain=(0.34, 9)), 0.34, 9),
    (PowerLaw(27.7, -1.2, 0.1), 0.2, 3),
    (Formula("1 / (a + b*log(x))", domain=(10, 1e6), a=1e-3, b=2e-4), 10, 1e6),
    (Formula("exp(-x) * 5 - atan(x) / 2 + log10(3 - tanh(x))", domain=(-2, 2)), -2, 2),
    (Magnitude(), 0, 1e3),
    (PassThrough(), -1e3, 1e3),
    (To("degF", "degC"), -200, 900),
    (DeadBand(-1, 1), 1.001, 1e3),
]


each_law = pytest.mark.parametrize("case", WHOLE_DOMAINS, ids=lambda case: repr(case[0]))


@each_law
@fewer(2)
@given(fraction=st.floats(0, 1))
def test_inverse_over_the_whole_domain(case: tuple[Law, float, float], fraction: float) -> None:
    law, low, high = case
    x = np.array(
        [low + fraction * (high - low), low * (high / low) ** fraction if low > 0 else low]
    )
    scale = 1e-9 * np.maximum(np.abs(x), 1e-6 * (high - low))
    assert np.all(np.abs(law.inverse(law.forward(x)) - x) <= scale), (law, x)


@each_law
@fewer(2)
@given(fraction=st.floats(0.02, 0.98))
def test_slope_is_the_derivative(case: tuple[Law, float, float], fraction: float) -> None:
    law, low, high = case
    x = low * (high / low) ** fraction if low > 0 else low + fraction * (high - low)
    h = 1e-5 * (x if low > 0 else high - low)
    if isinstance(law, Table) and any(abs(x - p[0]) < 2 * h for p in law.points):
        return  # a corner has no derivative
    difference = (law.forward(np.array([x + h])) - law.forward(np.array([x - h]))) / (2 * h)
    assert law.slope(np.array([x])) == pytest.approx(difference, rel=1e-5, abs=1e-7)


@each_law
def test_monotone_where_declared(case: tuple[Law, float, float]) -> None:
    law, low, high = case
    y = law.forward(np.linspace(low, high, 1001))
    assert set(np.sign(np.diff(y))) in ({1.0}, {-1.0})


def test_worked_lines_end_in_the_result() -> None:
    for law, x, y in TRUTH:
        assert law.formula(x)
        with contextlib.suppress(NoInverseError):
            assert law.inverse_formula(y)
        if y == y and not isinstance(law, Limits | Platinum | Zones):
            assert number(y) in law.formula(x), (law.formula(x), y)


@pytest.mark.filterwarnings("error")
def test_no_law_warns_at_the_edges_of_its_domain() -> None:
    edges = [0.0, -1.0, 1.0, 3.3, 4095.0, math.inf, -math.inf, math.nan, 1e308, 5e-324]
    for law in {repr(law): law for law, _, _ in TRUTH}.values():
        values, flags = law(edges), Ruler.of(law).read(edges).flags
        for value, flag in zip(values, flags, strict=True):
            assert value == value or flag, f"{law}: NaN without a flag"


@pytest.mark.parametrize("law", {type(law): law for law, _, _ in TRUTH}.values(), ids=repr)
def test_a_law_by_itself_takes_what_a_ruler_takes(law: Law) -> None:
    """Its methods too, on numbers of any kind: integers are not cut, numbers give numbers."""
    counts = np.array([1, 2, 40])
    for name in ("forward", "slope", "inverse"):
        method = getattr(law, name)
        with contextlib.suppress(NoInverseError):
            wanted = method(counts.astype(np.float64))
            assert wanted.dtype == np.float64
            for kind in (np.int64, np.uint16, np.float32, ">i4"):
                assert np.array_equal(method(counts.astype(kind)), wanted, equal_nan=True)
            for kind_of in (list, tuple):
                found = method(kind_of(counts.tolist()))
                assert isinstance(found, kind_of)
                assert np.array_equal(np.asarray(found), wanted, equal_nan=True)
            for i, count in enumerate(counts.tolist()):
                assert isinstance(method(count), float)
                assert np.array_equal(method(float(count)), wanted[i], equal_nan=True)
            shaped = method(counts.astype(np.float64).reshape(3, 1))
            assert np.array_equal(shaped, wanted.reshape(3, 1), equal_nan=True)


@given(
    turn=st.one_of(st.floats(-60.0, -0.05), st.floats(3.35, 60.0)),
    bend=st.floats(0.1, 5.0),
    at=st.integers(0, 4095),
    written=st.sampled_from(["polynomial", "formula"]),
)
def test_what_turns_back_beyond_the_converter_has_an_inverse(
    turn: float, bend: float, at: int, written: str
) -> None:
    """bend · (x − turn)² behind 0 … 3.3 V: back to the same count, if it turns outside."""
    law: jr.Law = jr.Polynomial((bend * turn**2, -2 * bend * turn, bend), takes="V", unit="%")
    if written == "formula":
        law = jr.Formula("k * (x - a)**2", k=bend, a=turn, takes="V", unit="%")
    ruler = jr.Adc(12, 3.3) >> law
    assert float(ruler.inverse(ruler(at))) == pytest.approx(at, abs=1e-4)
    assert ruler.trace_back(float(ruler(at))).reading.value == pytest.approx(at, abs=1e-4)
    assert math.isnan(float(ruler.inverse(ruler(at) + 1e9)))
