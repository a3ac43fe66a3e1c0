"""Laws against published values."""

from __future__ import annotations

import csv
from pathlib import Path

import numpy as np
import pytest

from jetruler import (
    Adc,
    Beta,
    Divider,
    JetRulerError,
    Platinum,
    Polynomial,
    SteinhartHart,
    SteinhartHartExtended,
    Table,
    Thermocouple,
)
from jetruler.core.laws.thermocouple import _STRETCHES, emf, ends_of
from tests.core.test_laws import PAIR

#: What was published, as tables.
TRUTHS = Path(__file__).parent.parent / "helpers"

# IEC 60751:2008, table values of a 100 Ω platinum thermometer, rounded to 0.01 Ω.
PLATINUM = {-200: 18.52, -50: 80.31, 0: 100.00, 100: 138.51, 200: 175.86, 600: 313.71}

# A 10 kΩ NTC thermistor, B25/85 = 3977 K: resistance table published with its coefficients.
EXTENDED = {-40: 332094, 0: 32554, 25: 10000, 50: 3605, 85: 1070}

# A 10 kΩ NTC thermistor, B25/85 = 3435 K: published resistance table, nominal values.
NTC = {-40: 195652, -20: 68237, 0: 27219, 10: 17926, 25: 10000, 50: 4161, 85: 1452, 100: 974}


@pytest.mark.parametrize(("celsius", "ohms"), PLATINUM.items())
def test_platinum_within_a_hundredth_of_an_ohm(celsius: float, ohms: float) -> None:
    law = Platinum()
    assert law.inverse(np.array([celsius]))[0] == pytest.approx(ohms, abs=0.0051)
    # Half a digit of the table, through the slope of the curve.
    assert law(ohms) == pytest.approx(celsius, abs=0.0051 * abs(law.slope(np.array([ohms]))[0]))


@pytest.mark.parametrize(("celsius", "ohms"), EXTENDED.items())
def test_extended_pair_within_two_hundredths(celsius: float, ohms: float) -> None:
    for law in (SteinhartHartExtended(10e3, PAIR[0]), SteinhartHartExtended(10e3, None, PAIR[1])):
        assert law(ohms) == pytest.approx(celsius, abs=0.02)


def test_disagreement_of_the_two_sets_is_reported() -> None:
    both = SteinhartHartExtended(10e3, *PAIR)
    found = both.disagreement(-40, 85)
    assert found is not None
    # By hand at the place it names: ohms by the one set, kelvin by the other.
    t = found.at + 273.15
    a, b, c, d = PAIR[1]
    log = a + b / t + c / t**2 + d / t**3
    a, b, c, d = PAIR[0]
    back = 1 / (a + b * log + c * log**2 + d * log**3)
    assert found.kelvin == pytest.approx(abs(back - t), abs=1e-9)
    assert found.kelvin < 0.02
    assert SteinhartHartExtended(10e3, PAIR[0]).disagreement() is None


def test_three_coefficients_through_three_table_points() -> None:
    chosen = (-20, 25, 85)
    logs = np.log([NTC[t] for t in chosen])
    rows = np.stack([np.ones(3), logs, logs**3], axis=1)
    law = SteinhartHart(*np.linalg.solve(rows, 1 / (np.array(chosen) + 273.15)).tolist())
    for celsius, ohms in NTC.items():
        if -20 <= celsius <= 85:
            assert law(ohms) == pytest.approx(celsius, abs=0.35)
            assert law(law.inverse(np.array([celsius]))[0]) == pytest.approx(celsius, abs=1e-9)


def test_beta_of_the_table() -> None:
    # The part's own B25/85, from its table: B = ln(R25/R85) / (1/T25 − 1/T85).
    beta = np.log(NTC[25] / NTC[85]) / (1 / 298.15 - 1 / 358.15)
    assert beta == pytest.approx(3435, abs=2)
    law = Beta(10e3, beta)
    assert law([NTC[25], NTC[85]]) == pytest.approx([25, 85], abs=1e-9)


def test_reference_cancels_in_a_ratiometric_divider() -> None:
    chains = [Adc(12, vref) >> Divider(4700) >> Beta(100e3, 3950) for vref in (None, 3.3, 5.0)]
    counts = np.arange(4096)
    for chain in chains[1:]:
        np.testing.assert_array_equal(chain(counts), chains[0](counts))
    fixed = Adc(12, 3.3) >> Divider(4700, supply=3.3) >> Beta(100e3, 3950)
    np.testing.assert_allclose(fixed(counts), chains[0](counts), rtol=1e-11, atol=1e-9)


@pytest.mark.parametrize(
    ("law", "where"),
    [
        (Polynomial((1, 2, -1)), "x = 1"),
        (Polynomial((0, -1, 0, 1), domain=(-2, 2)), "x = −0.57"),
        (Table(((0, 0), (1, 5), (2, 3))), "x = 1"),
        (Table(((0, 0), (1, 5), (2, 5), (3, 6))), "x = 1"),
    ],
)
def test_no_inverse_says_where_the_curve_turns_back(law: Polynomial | Table, where: str) -> None:
    with pytest.raises(JetRulerError, match=f"turns back or is flat.*{where}"):
        law.inverse(np.array([0.5]))


@pytest.mark.parametrize("kind", sorted(_STRETCHES))
def test_thermocouples_by_the_published_table_there_and_back(kind: str) -> None:
    """IEC 60584-1: every value of the table to half its last digit; each degree comes back; the
    stretches of a reference function meet."""
    with (TRUTHS / "thermocouples.csv").open() as file:
        rows = [row for row in csv.DictReader(file) if row["type"] == kind]
    t = np.array([float(row["t90_degC"]) for row in rows])
    published = np.array([float(row["emf_mV"]) for row in rows])
    assert np.abs(emf(kind, t) - published).max() <= 0.0006
    law = Thermocouple(kind, cold="21 degC" if kind != "B" else "0 degC")  # type: ignore[arg-type]
    low, high = ends_of(kind)
    each = np.arange(max(low, 50.0 if kind == "B" else low), high + 1e-6)
    assert np.abs(law.forward(law.inverse(each)) - each).max() < 1e-3
    for (_, joint, _), _ in zip(_STRETCHES[kind], _STRETCHES[kind][1:], strict=False):
        beside = emf(kind, np.array([joint - 1e-9, joint, joint + 1e-9]))
        assert np.ptp(beside) < 1e-6
