"""What stands exactly at an edge in the written numbers is at it: through every door, in any order
of marks. The truth is computed in fractions."""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator
from decimal import Decimal
from fractions import Fraction
from typing import Any

import numpy as np
import pytest

import jetruler as jr
from jetruler.core.bench.conditions import Conditioner
from jetruler.core.firmware.count_programs import threshold
from jetruler.core.firmware.floats import float_program
from jetruler.core.firmware.program import Program, ProgramModel
from jetruler.core.ruler.rounding import fixed, nearest, to_place
from tests.helpers.sizes import sizes, soak

#: Spans of raw values that give short decimals.
SPANS = (10, 16, 80, 125, 640, 800, 1000, 1250, 2000, 3125, 4000)

#: A step that a short float tells from none, at the values that are used here.
FINE = 0.01


class Case:
    """A straight chain with an edge that one of its counts meets exactly."""

    def __init__(self, seed: int) -> None:
        pick = random.Random(seed)
        span = pick.choice(SPANS)
        first = pick.randrange(0, 4095 - span)
        places = pick.choice((0, 0, 1, 2, 3))
        low, high = (Decimal(pick.randrange(-900, 900)).scaleb(-places) for _ in range(2))
        if low == high:
            high += 1
        self.bits = pick.choice((12, 12, 24))
        self.count = first + pick.randrange(0, span + 1)
        marks = [(first, low), (first + span, high)]
        pick.shuffle(marks)
        one, other = ((float(raw), float(true)) for raw, true in marks)
        self.marks = one, other
        slope = Fraction(high - low) / span
        self.exact: Callable[[int], Fraction] = lambda n: Fraction(low) + (n - first) * slope
        self.edge = float(self.exact(self.count))  # one rounding, as the parser's
        self.counts = [n for n in range(self.count - 2, self.count + 3) if 0 <= n < 4096]
        self.line = jr.Counts(self.bits) >> jr.Line(marks=self.marks)
        self.places = places

    @property
    def sides(self) -> list[int]:
        """Below, at or above the edge, by fractions."""
        at = self.exact(self.count)
        return [(self.exact(n) > at) - (self.exact(n) < at) for n in self.counts]


def doors(
    ruler: jr.Ruler, counts: list[int]
) -> Iterator[tuple[str, list[float], list[int] | None]]:
    """Values and flags of the counts, by every way into a ruler."""
    reading = ruler.read(np.array(counts))
    yield "read", np.asarray(reading.value).tolist(), np.asarray(reading.flags).tolist()
    reading = ruler.read(np.array(counts, dtype=np.float64))
    yield "read of floats", np.asarray(reading.value).tolist(), np.asarray(reading.flags).tolist()
    each = [ruler.read(n) for n in counts]
    yield "read of one", [r.value for r in each], [int(r.flags) for r in each]
    yield "call", ruler(np.array(counts)).tolist(), None
    yield "direct", ruler.direct(counts), None
    yield "trace", [ruler.trace(n).steps[-1].result for n in counts], None
    compiled = ruler.converter is not None and ruler.converter.bits < 16
    kinds: list[type[np.floating[Any]]] = [np.float32, np.float64] if compiled else []
    if kinds and np.min(np.abs(np.diff(ruler.joints(np.array(counts, float))[2]))) < FINE:
        kinds.remove(np.float32)  # it cannot tell one count from the next
    for kind in kinds:
        program = float_program(ruler, "f", kind)
        assert isinstance(program, Program)
        got = ProgramModel(program, kind).run(np.array(counts))
        yield f"{kind.__name__} of a chip", np.asarray(got, np.float64).tolist(), None


def differing(case: Case) -> list[str]:
    """The doors at which an edge is met otherwise than the fractions say."""
    wrong = []
    edge, sides = case.edge, case.sides
    zones = case.line >> jr.Zones(edges=(edge,), values=(0, 1))
    wrong += [
        f"zones, {d}" for d, v, _ in doors(zones, case.counts) if v != [s >= 0 for s in sides]
    ]
    for low, high, out in ((edge, None, -1), (None, edge, 1)):
        expected = [side == out for side in sides]
        for law in (jr.Expect(low, high), jr.Clamp(low, high), jr.Limits(low, high)):
            for door, values, flags in doors(case.line >> law, case.counts):
                found = flags
                if isinstance(law, jr.Expect):
                    found = [int(v != v) for v in values]
                if found is not None and [bool(f) for f in found] != expected:
                    wrong.append(f"{law.name} {low} {high}, {door}")
    channel = jr.Channel("a", case.line, "a")
    none = np.zeros(len(case.counts), np.uint8)
    times = np.arange(len(case.counts), dtype=np.float64)
    read = np.asarray(channel(np.array(case.counts)))
    for condition in (jr.Condition("a", above=edge), jr.Condition("a", below=edge)):
        on = Conditioner(condition, channel).add(times, read, none)
        if on.tolist() != [(s >= 0) == (condition.above is not None) for s in sides]:
            wrong.append(f"{condition}")
    if case.bits < 16:
        made = threshold(jr.Bench("Desk", {"a": channel}), channel, "f", edge, edge)
        if made.on != (case.count if sides[-1] > 0 or sides[0] < 0 else made.on):
            wrong.append(f"exported threshold: {made.about}")
    return wrong


@pytest.mark.parametrize("many", sizes(12, 300))
def test_an_edge_is_met_through_every_door(many: int) -> None:
    bad = {
        f"{case.marks}, edge {case.edge}": found
        for case in map(Case, range(many))
        if (found := differing(case))
    }
    assert not bad


@soak
@pytest.mark.parametrize("many", sizes(40, 400))
def test_a_tie_goes_away_from_zero_whatever_shows_it(many: int) -> None:
    """Shown, written in a log, made whole by a law, and by the law's program on a chip."""
    for seed in range(many):
        pick = random.Random(seed)
        span = pick.choice((8, 16, 40, 80, 1000, 2000))
        first, gain = pick.randrange(0, 2000), pick.choice((-1, 1)) * pick.randrange(1, 400)
        marks = [(first, -gain), (first + span, gain)]
        pick.shuffle(marks)
        decimals = pick.choice((0, 0, 1, 2))
        line = jr.Counts(12) >> jr.Line(marks=(marks[0], marks[1]))
        channel = jr.Channel("a", line, "a", decimals=decimals)
        exact = [Fraction(-gain) + Fraction(2 * gain * (n - first), span) for n in range(4096)]
        steps = [value * 10**decimals for value in exact]
        ties = [n for n, step in enumerate(steps) if step.denominator == 2][:40]
        for n in ties:
            away = Fraction(int(abs(steps[n]) + Fraction(1, 2)), 10**decimals)
            truth = float(away if steps[n] > 0 else -away)
            assert float(channel.cell(line(n))) == truth
            assert float(channel.shown(line(n)).split()[0].replace("−", "-")) == truth
            if not decimals:
                whole = line >> jr.Whole()
                assert (whole(n), whole.direct(n)) == (truth, truth)


@pytest.mark.parametrize(
    ("value", "decimals", "text"),
    [
        (2.675, 2, "2.68"), (0.125, 2, "0.13"), (-0.125, 2, "-0.13"), (-0.001, 2, "0.00"),
        (0.5, 0, "1"), (-0.5, 0, "-1"), (2.5, 0, "3"), (1.005, 2, "1.01"), (1e300, 1, None),
        (177.79999999999998, 1, "177.8"), (0.1, 20, "0.10000000000000000555"), (4e15, 1, None),
    ],
)  # fmt: skip
def test_one_rule_for_ties(value: float, decimals: int, text: str | None) -> None:
    assert fixed(value, decimals) == (f"{value:.{decimals}f}" if text is None else text)
    if text is not None and decimals < 10:
        assert to_place(value, Decimal(1).scaleb(-decimals)) == text
    beyond = 2.0**60 + 256  # ten times it is no double
    assert Decimal(to_place(beyond, Decimal("0.1"))) == Decimal(beyond)


@pytest.mark.parametrize(
    ("laws", "decimals", "texts"),
    [
        (jr.Line(0.25), None, ["", "-0.5", "0.75"]), (jr.Line(0.25), 1, ["", "-0.5", "0.8"]),
        (jr.Ruler.of(jr.Line(1.0), jr.Whole()), None, ["", "-2", "3"]),
        (jr.Zones((0, 2), ("a", "b", "c")), None, ["", "a", "c"]),
        (jr.Zones((0, 2), ((1, 0), (0, 1), (1, 1))), None, ["", "1 0", "1 1"]),
    ],
)  # fmt: skip
def test_cells_of_a_log(laws: Any, decimals: int | None, texts: list[str]) -> None:
    channel = jr.Channel("x", jr.Counts(8, signed=True) >> laws, 1, decimals=decimals)
    values = [np.nan, channel.ruler(-2), channel.ruler(3)]
    assert channel.cells(values) == texts
    assert list(map(channel.cell, values)) == texts


@pytest.mark.parametrize("many", sizes(15, 120))
def test_a_chip_rounds_as_the_display_does(many: int) -> None:
    for seed in range(many):
        pick = random.Random(seed)
        gain = pick.choice((0.5, 0.25, -0.5, 1.5, 0.125, -2.5, 0.05, -0.05, 0.75))
        offset, decimals = pick.choice((0, 10, -3, 2.5, -7.25, 0.1)), pick.choice((0, 0, 1))
        line = jr.Counts(pick.choice((8, 10, 12)), signed=pick.random() < 0.6) >> jr.Line(
            gain, offset
        )
        channel = jr.Channel("a", line, 1, decimals=decimals)
        program = jr.export(channel, "a", "int32").program
        assert line.converter is not None
        counts = np.arange(line.converter.lowest, line.converter.highest + 1)
        shown = [float(cell) for cell in channel.cells(np.asarray(line(counts)).tolist())]
        made = np.asarray(ProgramModel(program).run(counts), np.float64) / 10**decimals
        np.testing.assert_allclose(made, shown, atol=1e-9, err_msg=f"{seed}: {program.body}")


def test_ties_of_numbers_that_a_rounding_left_beside_them() -> None:
    beside = np.array([195.5, np.nextafter(195.5, 0), np.nextafter(-195.5, 0), 195.4999999])
    assert nearest(beside).tolist() == [196.0, 196.0, -196.0, 195.0]


@pytest.mark.parametrize("base", [0.0, 300.0, -1e6, 1e8])
@pytest.mark.parametrize("factor", [1.0, -1000.0, 1e-6])
def test_a_difference_of_large_values_is_on_the_edge_that_it_means(
    base: float, factor: float
) -> None:
    """0.1 · n less a base, times a factor, and all of it back: by whole numbers of tenths."""
    n = np.arange(-500, 500)
    back = jr.Line(0.1, -base), jr.Line(factor), jr.Line(1 / factor, base)
    ruler = jr.Ruler((jr.Counts(10, signed=True), *back))
    away = np.sign(n) * ((np.abs(n) + 5) // 10)
    assert (ruler >> jr.Whole())(n).tolist() == (away + 0.0).tolist()
    assert (ruler >> jr.Whole("down"))(n).tolist() == (n // 10).tolist()
    channel = jr.Channel("x", ruler, 1)
    for tenths in (-33, 7, 17, 290):
        found = threshold(jr.Bench("b", {"x": channel}), channel, "x", tenths / 10, None)
        assert (found.on, found.off) == (tenths, tenths - 1)
    zones = ruler >> jr.Zones((-3.3, 0.7, 1.7, 29.0), (0, 1, 2, 3, 4))
    edges = np.array([-33, 7, 17, 290])
    assert zones(n).tolist() == np.sum(n[:, None] >= edges, axis=1).tolist()
