"""Worked lines multiply out as printed: each is parsed and computed again, by itself."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest

from jetruler import (
    Adc,
    Amplifier,
    Attenuator,
    Beta,
    Divider,
    Formula,
    Law,
    Line,
    Polynomial,
    PowerLaw,
    Ruler,
    Shunt,
    SteinhartHart,
    SteinhartHartExtended,
    Table,
    To,
    Whole,
    Zones,
)
from tests.helpers.retyped import check_line
from tests.helpers.sizes import sizes


def random_laws(random: np.random.RandomState) -> list[Law]:
    """Laws of a chain with awkward parameters, as a hand would not choose them."""

    def r(low: float, high: float) -> float:
        return float(random.uniform(low, high))

    def pick(*of: Any) -> Any:
        return of[random.randint(len(of))]

    supply, known = r(2, 6), 10 ** r(3, 5)
    load = float(10 ** r(4, 6)) if random.rand() < 0.5 else None
    cubic = (r(3.3e-3, 3.4e-3), r(2e-4, 3e-4), r(1e-6, 5e-6), r(1e-8, 1e-7))
    datasheet = (-14.6, 4791.8, -115334.0, -3.73e6)
    curve = pick(
        Beta(10 ** r(3, 5), r(2500, 5000), unit=pick("degC", "degF", "K")),
        SteinhartHart(r(5e-4, 2e-3), r(1e-4, 4e-4), r(1e-8, 2e-7)),
        SteinhartHartExtended(r25=10 ** r(3, 5), to_ohms=datasheet, to_kelvin=cubic),
    )
    ends = ((r(0.001, 0.01), r(-50, 50)), (r(0.015, 0.03), r(60, 99)))
    points = ((-1, r(0, 1)), (r(0.1, 2), r(2, 3)), (r(3, 5), r(4, 9)), (9, 99))
    volts = Line(r(-9, 9), r(-900, 900), unit="bar")
    chain = pick(
        [Divider(known, pick("upper", "lower"), supply, load), curve],
        [Attenuator(known, 10 ** r(3, 5), load), volts, To("kPa")],
        [Shunt(r(50, 250)), Line(marks=ends, unit="psi", takes="A"), To("kPa")],
        [Amplifier(r(-9, -0.1), r(-2, 2)), Polynomial((r(-5, 5), r(-5, 5), r(-5, 5)), unit="%")],
        [PowerLaw(r(0.1, 9), r(-2, 2), r(-1, 0), r(-9, 9), takes="V"), Whole()],
        [Formula("a*x + b - sqrt(x) / 3", a=r(-9, 9), b=r(-9, 9), takes="V")],
        [Table(points, takes="V"), Zones((2.5, 5.0), (0, 40, 90))],
        [Line(r(10, 90), r(-200, 200), unit="degF", takes="V"), To("degC")],
    )
    return [Adc(pick(10, 12, 16), supply), *chain]


@pytest.mark.parametrize("many", sizes(15, 300))
def test_every_line_multiplies_out(many: int) -> None:
    held = 0
    for seed in range(many):
        random = np.random.RandomState(seed)
        laws = random_laws(random)
        ruler = Ruler(tuple(laws))
        top = laws[0].full_count  # type: ignore[attr-defined]
        # Near both rails, everywhere between, and round every value of 0.
        values = ruler(np.arange(top + 1))
        turns = np.flatnonzero(np.diff(np.signbit(values)))[:3]
        counts = [
            0,
            1,
            2,
            top - 2,
            top - 1,
            top,
            *turns.tolist(),
            *random.randint(0, top, 12).tolist(),
        ]
        for n in counts:
            trace = ruler.trace(n)
            y = trace.reading.value
            lines = [step.line for step in trace.steps]
            if not math.isnan(y) and not isinstance(laws[-1], Whole | Zones | Formula | Polynomial):
                lines += [step.line for step in ruler.trace_back(y).steps]
            for line in lines:
                held += check_line(line)
    assert held > 40 * many


@pytest.mark.parametrize(
    "line",
    [
        "U = n · Uref / N = 4000 · 3.3 V / 4095 = 3.3 V",
        "R = Rk · U / (Us − U) = 4700 Ω · 4.99986 V / (5 V − 4.99986 V) = 164495000 Ω",
        "L = ln(R / R25) = ln(1000 / 10000) = −2.30259; 1/T = A1 + B1 L + C1 L² + D1 L³ = "
        "0.003354 + 0.0002569 · −2.30259 + 2.6e-06 · −2.30259² + 6e-08 · −2.30259³ → "
        "T = 363.26 K = 90.11 °C",
    ],
)
def test_a_line_that_does_not_is_seen(line: str) -> None:
    with pytest.raises(AssertionError):
        check_line(line)
