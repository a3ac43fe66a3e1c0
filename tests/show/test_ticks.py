"""Ticks by what a ruler shows, held against its own conversion; labels that keep apart."""

from __future__ import annotations

import math
from itertools import pairwise

import numpy as np
import pytest

import jetruler as jr
from jetruler.show.ticks import EdgeKind, Tick, decades, edge_kind, labelled, short, true_ticks

COUNTS = jr.Counts(12)
KNOB = COUNTS >> jr.Line(marks=((300, -5), (3700, 105)), unit="%")
OHMS = jr.Adc(12, 3.3) >> jr.Divider(4700)
LUX = OHMS >> jr.PowerLaw(2e7, -1.4, takes="ohm", unit="lx")
BEAN = OHMS >> jr.Beta(100e3, 3950)
TENS = COUNTS >> jr.Line(marks=((0, 0), (4095, 18))) >> jr.Whole()
PERCENT = KNOB >> jr.Clamp(0, 100) >> jr.Whole()
FAN = KNOB >> jr.Zones((15, 60), ("off", "slow", "fast"))

KINDS = {
    "a line": (KNOB, None, EdgeKind.VALUES),
    "ohms": (OHMS, None, EdgeKind.DECADES),
    "lux": (LUX, None, EdgeKind.DECADES),
    "lux within a decade": (LUX, (100, 900), EdgeKind.VALUES),
    "degrees": (BEAN, (1, 260), EdgeKind.VALUES),
    "a line over three decades": (COUNTS >> jr.Line(0.001, 0.001), None, EdgeKind.VALUES),
    "few whole numbers": (TENS, None, EdgeKind.STEPS),
    "many whole numbers": (PERCENT, None, EdgeKind.VALUES),
    "zones": (FAN, None, EdgeKind.ZONES),
}


@pytest.mark.parametrize(("ruler", "limits", "kind"), KINDS.values(), ids=KINDS)
def test_an_edge_shows_what_the_result_is(
    ruler: jr.Ruler, limits: tuple[float, float] | None, kind: EdgeKind
) -> None:
    assert edge_kind(ruler, limits) is kind


@pytest.mark.parametrize("ruler", [OHMS, LUX], ids=["ohms", "lux"])
def test_decades_stand_where_the_conversion_puts_them(ruler: jr.Ruler) -> None:
    ticks = true_ticks(ruler, 20)
    assert len(ticks) > 5
    for tick in ticks:
        mantissa = tick.value / 10 ** math.floor(math.log10(tick.value) + 1e-9)
        assert round(mantissa, 9) in (1, 2, 3, 5)
        low, high = sorted(np.asarray(ruler(np.floor([tick.raw, tick.raw + 1]))))
        assert low * (1 - 1e-9) <= tick.value <= high * (1 + 1e-9)


def test_no_tick_stands_where_a_ruler_leaps_over_its_value() -> None:
    knob = COUNTS >> jr.Line(0.01)
    resting = knob >> jr.DeadBand(7.5, 12.5, 9.2)
    assert [tick.value for tick in true_ticks(resting, 10)] == [0, 5, 15, 20, 25, 30, 35, 40]
    shown = [tick.value for tick in true_ticks(resting, 50)]
    assert (9 in shown, 10 in shown) == (False, False)
    places = np.array([tick.raw for tick in true_ticks(OHMS >> jr.Beta(100e3, 3950), 12)])
    read = np.asarray((OHMS >> jr.Beta(100e3, 3950))(places))
    assert read == pytest.approx(np.round(read), abs=1e-3)


def test_steps_stand_where_the_number_changes() -> None:
    ticks = true_ticks(TENS, 40)
    assert [tick.value for tick in ticks] == list(range(19))
    for tick in ticks[1:]:
        assert (TENS(tick.raw), TENS(tick.raw - 1)) == (tick.value, tick.value - 1)
    assert [tick.value for tick in true_ticks(TENS, 7)] == [0, 3, 6, 9, 12, 15, 18]


def test_a_rounded_number_has_one_tick_within_its_counts() -> None:
    ticks = true_ticks(PERCENT, 20)
    assert [tick.value for tick in ticks] == list(range(0, 101, 5))
    assert all(PERCENT(round(tick.raw)) == tick.value for tick in ticks)
    assert ticks[0].raw > 400  # at the clamp's end, not in the middle of what it holds


def test_zones_have_edges_and_names_between() -> None:
    off, first, slow, second, fast = true_ticks(FAN, 9)
    assert [t.label for t in (off, first, slow, second, fast)] == [
        "off", "15 %", "slow", "60 %", "fast"
    ]  # fmt: skip
    assert [t.is_line for t in (off, first, slow, second, fast)] == [False, True] * 2 + [False]
    for edge in (first, second):
        below, above = math.floor(edge.raw), math.ceil(edge.raw)
        assert KNOB(below) < edge.value <= KNOB(above)


@pytest.mark.parametrize(
    ("value", "text"),
    [
        (22e6, "22 M"),
        (10_000, "10 k"),
        (3000, "3000"),
        (0.5, "0.5"),
        (1e9, "1 G"),
        (-2e5, "−200 k"),
    ],
)
def test_short_numbers(value: float, text: str) -> None:
    assert short(value) == text


def test_so_many_decades() -> None:
    assert decades(3, 2000, 9) == [5, 10, 20, 50, 100, 200, 500, 1000, 2000]
    assert decades(1e-3, 1e9, 7) == [1e-3, 1e-1, 1e1, 1e3, 1e5, 1e7, 1e9]


@pytest.mark.parametrize("at", [None, 0.0, 500.0, 2050.0, 4095.0])
@pytest.mark.parametrize("ruler", [KNOB, OHMS, LUX, BEAN, TENS, PERCENT], ids=range(6))
def test_labels_keep_apart_and_on_the_plate(ruler: jr.Ruler, at: float | None) -> None:
    ticks = true_ticks(ruler, 20, (0, 260) if ruler is BEAN else None)
    kept = labelled(ticks, (0.0, 4095.0), at)

    def half(tick: Tick) -> float:
        return 0.5 * len(tick.label) * 0.0085 * 4095

    assert len(kept) >= 3
    for (one, x), (other, y) in pairwise(kept):
        assert abs(x - y) >= half(one) + half(other)
    for tick, x in kept:
        assert x - half(tick) >= -0.02 * 4095
        assert x + half(tick) <= 1.02 * 4095
        assert at is None or abs(x - at) >= half(tick)
