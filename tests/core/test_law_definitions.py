"""What every law says of itself is one thing: its value, its worked line and its statements for
firmware at any place of its domain; and a table is what its points say, between them and beyond
its ends."""

from __future__ import annotations

import contextlib
import math
from itertools import pairwise
from typing import Any, Literal

import numpy as np
import pytest

from jetruler import (
    Counts,
    Flag,
    Formula,
    Input,
    Law,
    Line,
    SteinhartHartExtended,
    Steps,
    Table,
    Thermocouple,
    Whole,
    Zones,
)
from jetruler.core.laws import LAWS
from jetruler.core.numerics import NoInverseError
from jetruler.errors import ParameterError
from tests.core.test_laws import PAIR, TRUTH, WHOLE_DOMAINS, each_law
from tests.helpers.sizes import thinned

FRACTIONS = (0.0, 0.03, 0.29, 0.5, 0.53, 0.77, 0.97, 1.0)


@each_law
def test_the_worked_result_is_the_result(case: tuple[Law, float, float]) -> None:
    """Its numbers are rounded as they are printed, to six digits or so."""
    law, low, high = case
    ys = law.forward(np.array([low + fraction * (high - low) for fraction in FRACTIONS]))
    for fraction, y in zip(FRACTIONS, ys.tolist(), strict=True):
        x = low + fraction * (high - low)
        assert law.worked_result(x) == pytest.approx(y, rel=1e-4, abs=1e-4 * np.ptp(ys)), x
        try:
            back = float(law.inverse(np.array([y]))[0])
        except NoInverseError:
            continue
        found = law.worked_result(y, back=True)
        assert found == pytest.approx(back, rel=1e-4, abs=1e-4 * (high - low)), y


#: What the small language of firmware has, as Python computes it.
LANGUAGE: dict[str, Any] = {
    **{name: getattr(math, name) for name in dir(math) if not name.startswith("_")},
    "abs": abs,
    "NONE": math.nan,
    "tie": 16 * 2.0**-52,
}

#: Parameters that laws may have, and rulers seldom do: laws, with inputs.
SELDOM: list[tuple[Law, float, float]] = [
    (Line(2.0, 0.0), -3, 3),
    (Steps(0.1), -2, 2),
    (Steps(0.5, "up"), -2, 2),
    (Steps(3), -20, 20),
    (Steps(20, "down"), -200, 200),
    (Steps(0.25, "toward zero"), -2, 2),
    (Whole("up"), -9, 9),
    (Zones((1.0, 2.0), (5.0, 9.0, 2.0)), 0, 3),
    (SteinhartHartExtended(10e3, PAIR[0], PAIR[1], "degF"), 2e3, 2e5),
]


def statements_give(statements: list[str], x: float) -> float:
    """The statements of a law as plain Python runs them."""
    lines = "\n".join(statements).splitlines()
    scope = dict(LANGUAGE)
    exec("\n    ".join(["def law(x):", "n = x", *lines, "return x"]), scope)
    return float(scope["law"](x))


@pytest.mark.parametrize("case", [*WHOLE_DOMAINS, *SELDOM], ids=lambda case: repr(case[0]))
def test_its_statements_are_the_law(case: tuple[Law, float, float]) -> None:
    """Those for firmware, and those that people type, inside its domain."""
    law, low, high = case
    x = np.array([low + fraction * (high - low) for fraction in (*FRACTIONS, 0.2371, 0.8113)])
    ys = law.forward(x).tolist()
    for statements in (law.program(), law.typed()):
        if statements is not None and not isinstance(law, Input):
            found = [statements_give(statements, one) for one in x.tolist()]
            assert found == pytest.approx(ys, rel=1e-9, abs=1e-12 * (high - low)), statements
    if isinstance(law, Formula):  # nobody types what its domain refuses
        assert not any("NONE" in line for line in law.typed() or ())


def test_its_statements_have_a_value_where_the_law_has() -> None:
    """Inputs come in steps; what is infinite is nothing that a chip computes."""
    for law, x, y in TRUTH:
        statements = law.program()
        if statements is None or isinstance(law, Input) or not (math.isfinite(x) and x):
            continue
        try:
            found = statements_give(statements, x)
        except (ValueError, ZeroDivisionError):  # a chip's own library gives no number
            found = math.nan
        assert found == pytest.approx(y, rel=1e-9, nan_ok=True), (law, x)


def test_every_law_with_statements_is_among_these() -> None:
    tried = {type(law) for law, _, _ in (*WHOLE_DOMAINS, *SELDOM, *TRUTH)}
    assert {law for law in LAWS.values() if law.program is not Law.program} <= tried | {Counts}


@pytest.mark.parametrize("seed", thinned(range(40), 4))
def test_a_cubic_reads_on_its_rising_stretch_through_25_degrees(seed: int) -> None:
    """Found on a fine grid of L = ln R: from where 1/T is that of 25 °C, the nearest to 10 kΩ, as
    far as 1/T rises to both sides."""
    random = np.random.RandomState(seed)
    c1, c2, c3 = (random.uniform(-1, 1, 3) * [4e-4, 6e-5, 1e-5]).tolist()
    c0 = 3.354e-3
    grid = np.linspace(-14, 14, 280_001)
    reciprocal = c0 + grid * (c1 + grid * (c2 + grid * c3))
    rises = np.diff(reciprocal) > 0
    through = (reciprocal[:-1] < 1 / 298.15) & (reciprocal[1:] >= 1 / 298.15)
    starts = np.flatnonzero(rises & through)
    if not starts.size:
        with pytest.raises(ParameterError, match="T must fall as R rises at 25 °C"):
            SteinhartHartExtended(1e4, (c0, c1, c2, c3))
        return
    start = int(starts[np.argmin(np.abs(grid[starts]))])
    falls = np.flatnonzero(~rises)
    first = max(falls[falls < start].tolist(), default=-1) + 1
    last = min(falls[falls > start].tolist(), default=grid.size - 1)
    law = SteinhartHartExtended(1e4, (c0, c1, c2, c3))
    asked = np.arange(0, grid.size, 997)
    asked = asked[(np.abs(asked - first) > 2) & (np.abs(asked - last) > 2)]
    inside = (asked > first) & (asked < last) & (reciprocal[asked] > 0)
    wanted = np.where(inside, 1 / reciprocal[asked] - 273.15, np.nan)
    found = law.forward(1e4 * np.exp(grid[asked]))
    assert found == pytest.approx(wanted, rel=1e-6, abs=1e-6, nan_ok=True)
    back = law.inverse(wanted[inside])
    assert back == pytest.approx(1e4 * np.exp(grid[asked][inside]), rel=1e-6)


@pytest.mark.parametrize("seed", thinned(range(40), 4))
def test_ohms_over_temperature_are_read_on_the_stretch_through_25_degrees(seed: int) -> None:
    """ln R over 1/T, on a fine grid from 10 K to 10 000 K: as far as it rises from 25 °C on."""
    random = np.random.RandomState(seed)
    b, c, d = (
        random.uniform(-0.3, 1, 3) * [4e3, 4e5, 6e7] * [1, random.choice([-1, 1]), 1]
    ).tolist()
    room = np.geomspace(1e-4, 1e-1, 400_001)
    level = room * (b + room * (c + room * d))
    a = -float(np.interp(1 / 298.15, room, level))
    slope = b + room * (2 * c + room * 3 * d)
    here = int(np.searchsorted(room, 1 / 298.15))
    if slope[here] <= 0:
        with pytest.raises(ParameterError, match="R must fall as T rises at 25 °C"):
            SteinhartHartExtended(1e4, to_ohms=(a, b, c, d))
        return
    law = SteinhartHartExtended(1e4, to_ohms=(a, b, c, d))
    falls = np.flatnonzero(slope <= 0)
    first = max(falls[falls < here].tolist(), default=-1) + 1
    last = min(falls[falls > here].tolist(), default=room.size) - 1
    inner = np.linspace(first + 3, last - 3, 60).astype(int)
    ohms = 1e4 * np.exp(np.clip(a + level[inner], -300, 300))
    sound = np.abs(a + level[inner]) < 300
    assert law.forward(ohms[sound]) == pytest.approx(
        1 / room[inner][sound] - 273.15, rel=1e-6, abs=1e-5
    )
    for end, beyond in ((first, -0.1), (last, 0.1)):
        if abs(a + level[end]) < 300:
            outside = 1e4 * np.exp(a + level[end] + beyond)
            assert np.isnan(law.forward(np.array([outside]))).all()


#: Ends of the polynomials of IEC 60584-1 in °C; type B turns back below 50 °C.
THERMOCOUPLES = {
    "E": (-270, 1000), "J": (-210, 1200), "K": (-270, 1372), "N": (-270, 1300),
    "R": (-50, 1768.1), "S": (-50, 1768.1), "T": (-270, 400),
}  # fmt: skip


def test_the_way_back_from_a_zone_leads_into_it() -> None:
    law, values = Zones((1, 2, 5), (10, 20, 30, 40)), np.array([10.0, 20, 30, 40])
    assert law.inverse(values).tolist() == [np.nextafter(1, 0), 1.5, 3.5, 5.0]
    assert law.forward(law.inverse(values)).tolist() == values.tolist()


@pytest.mark.parametrize("step", [0.1, 0.3, 0.25, 1 / 3, 5, 1e-9, 7e6])
def test_what_is_on_a_step_comes_of_itself_and_nothing_else_does(step: float) -> None:
    law, on = Steps(step), np.arange(-2000.0, 2000.0) * step
    assert law.inverse(on) == pytest.approx(on, rel=1e-15)
    assert np.isnan(law.inverse(on + 0.01 * step)).all()


@pytest.mark.parametrize("kind", THERMOCOUPLES)
@pytest.mark.parametrize("unit", ["degC", "K", "degF"])
def test_a_thermocouple_reaches_its_ends_in_any_unit(kind: Any, unit: Any) -> None:
    ends = np.array(THERMOCOUPLES[kind], dtype=np.float64)
    scaled = {"degC": ends, "K": ends + 273.15, "degF": ends * 1.8 + 32}[unit]
    law = Thermocouple(kind, unit=unit)
    assert np.isfinite(law.inverse(scaled)).all()
    assert np.isnan(law.inverse(scaled + np.array([-0.01, 0.01]))).all()


POINTS = ((0.0, 9.0), (1.0, 4.0), (5.0, 1.0), (6.0, 0.5), (20.0, 0.0))
Ends = Literal["flag", "hold", "extend"]


def by_hand(x: float, ends: Ends, points: tuple[tuple[float, float], ...] = POINTS) -> float:
    """Straight lines through the points, and what is beyond them."""
    pieces = list(pairwise(points))
    if not points[0][0] <= x <= points[-1][0] and ends != "extend":
        beyond = points[0][1] if x < points[0][0] else points[-1][1]
        return beyond if ends == "hold" else math.nan
    (x0, y0), (x1, y1) = next((p for p in pieces if x <= p[1][0]), pieces[-1])
    return y0 + (y1 - y0) * (x - x0) / (x1 - x0)


@pytest.mark.parametrize("ends", ["flag", "hold", "extend"])
@pytest.mark.parametrize("turned", [1, -1])
@pytest.mark.parametrize("written", [1, -1])
def test_a_table_is_what_its_points_say(ends: Ends, turned: int, written: int) -> None:
    """Rising or falling, its points in any order: values, flags, slopes and the way back."""
    points = tuple((x, turned * y) for x, y in POINTS)
    law = Table(points[::written], ends=ends)
    places = [-3.0, -1e-9, 0.0, 0.4, 1.0, 3.0, 5.0, 5.5, 6.0, 13.0, 20.0, 20.000001, 31.0]
    wanted = np.array([turned * by_hand(x, ends) for x in places])
    assert law.forward(np.array(places)) == pytest.approx(wanted, rel=1e-12, nan_ok=True)
    beyond = [Flag.BELOW if x < 0 else Flag.ABOVE if x > 20 else Flag(0) for x in places]
    assert law.flags(np.array(places)).tolist() == [f * (ends != "extend") for f in beyond]
    # In the middle of each piece, and beyond the ends.
    slopes = {-3.0: -5.0, 0.4: -5.0, 3.0: -0.75, 5.5: -0.5, 13.0: -0.5 / 14, 31.0: -0.5 / 14}
    held = {"flag": math.nan, "hold": 0.0}
    for x, slope in slopes.items():
        inside = 0 <= x <= 20 or ends == "extend"
        expected = turned * slope if inside else held[ends]
        assert law.slope(np.array([x])) == pytest.approx(expected, rel=1e-12, nan_ok=True), x
    for x in (0.0, 0.4, 3.0, 5.5, 6.0, 13.0, 20.0):
        assert law.inverse(np.array([turned * by_hand(x, ends)])) == pytest.approx(x, abs=1e-12)
    for x in (-3.0, 31.0):
        found = law.inverse(np.array([turned * by_hand(x, "extend")]))
        assert found == pytest.approx(x if ends == "extend" else math.nan, nan_ok=True)


@pytest.mark.parametrize("ends", ["flag", "hold", "extend"])
def test_a_smooth_table_keeps_to_its_points(ends: Ends) -> None:
    """Through every point, between those beside it, straight on beyond; flagged as a linear one."""
    law = Table(POINTS, "smooth", ends=ends)
    xs, ys = np.array(POINTS).T
    assert law.forward(xs).tolist() == ys.tolist()
    for (x0, y0), (x1, y1) in pairwise(POINTS):
        inner = law.forward(np.linspace(x0, x1, 50))
        assert np.all((inner <= y0) & (inner >= y1) & (np.diff(inner, prepend=y0 + 1) < 0))
    places = np.array([-3.0, 0.0, 3.0, 5.5, 13.0, 20.0, 31.0])
    assert law.flags(places).tolist() == Table(POINTS, ends=ends).flags(places).tolist()
    if ends == "extend":
        below, above = law.slope(np.array([0.0, 20.0])).tolist()
        beyond = law.forward(np.array([-3.0, 31.0]))
        assert beyond == pytest.approx([9.0 - 3.0 * below, 11.0 * above])
        assert law.slope(np.array([-3.0, 31.0])).tolist() == [below, above]


@each_law
@pytest.mark.filterwarnings("ignore")
def test_no_law_gives_an_infinity(case: tuple[Law, float, float]) -> None:
    """Where a formula has a pole, or nothing beyond, there is no value: 0 ohm is no light."""
    law = case[0]
    x = np.array([0.0, -0.0, 1e-30, -1e-30, 1.0, -1.0, 1e6, -1e6, np.nan])
    assert not np.isinf(law.forward(x)).any()
    with contextlib.suppress(NoInverseError):
        assert not np.isinf(law.inverse(x)).any()
    with contextlib.suppress(NoInverseError):
        assert np.isnan(law.inverse(np.array([np.nan]))).all()
    assert np.isnan(law.forward(np.array([np.nan]))).all()
