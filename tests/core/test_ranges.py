"""The ends of every range that a parameter may be in: what is within is taken, and what is beyond
is refused by the parameter's name, as is what is no number."""

from __future__ import annotations

import contextlib
import dataclasses
import inspect
import math
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest

import jetruler as jr
from jetruler.errors import JetRulerError

ADC = jr.Adc(12, 3.3)
KNOB = jr.Channel("knob", ADC >> jr.Line.through((0, 0), (4095, 100), unit="%"), 1, decimals=1)
NTC = jr.Beta("10 kohm", 3950)
FEW = jr.Counts(4) >> jr.Line(2)
MARKS = ((0, 0), (100, 9))
ABOVE_0 = ([1e-9, 1.0], [0.0, -1e-9])
FROM_0 = ([0.0, 1.0], [-1e-9])
#: A parameter, how it is given, values at the ends of its range, and values just beyond.
RANGES: list[tuple[str, Callable[[Any], Any], tuple[list[float], list[float]]]] = [
    ("bits", lambda v: jr.Adc(v, 3.3), ([1, 32], [0, 33])),
    ("vref", lambda v: jr.Adc(12, v), ABOVE_0),
    ("count_at_vref", lambda v: jr.Adc(12, 3.3, count_at_vref=v), ([1, 4096], [0, -1])),
    ("offset_error", lambda v: jr.Adc(12, 3.3, offset_error=v), FROM_0),
    ("gain_error", lambda v: jr.Adc(12, 3.3, gain_error=v), ([0.0, 1 - 1e-9], [-1e-9, 1.0])),
    ("resolution", lambda v: jr.Input("V", range=(0, 10), resolution=v), ABOVE_0),
    ("error", lambda v: jr.Input("V", range=(0, 10), error=v), FROM_0),
    ("known", lambda v: jr.Divider(v), ABOVE_0),
    ("supply", lambda v: jr.Divider(1e4, supply=v), ABOVE_0),
    ("load", lambda v: jr.Divider(1e4, load=v), ABOVE_0),
    ("r0", lambda v: jr.Beta(v, 3950), ABOVE_0),
    ("beta", lambda v: jr.Beta(1e4, v), ABOVE_0),
    ("r0", lambda v: jr.Platinum(v), ABOVE_0),
    ("lead", lambda v: jr.Platinum(100, lead=v), FROM_0),
    ("hysteresis", lambda v: jr.Zones((1, 5), ("a", "b", "c"), hysteresis=v), FROM_0),
    ("low", lambda v: jr.Clamp(v, 1), ([0.0, 1 - 1e-9], [1.0, 1 + 1e-9])),
    ("over", lambda v: jr.Smoothing("mean", v), ([1, 500], [0, -1])),
    ("beyond", lambda v: jr.Smoothing("spikes", 5, beyond=v), FROM_0),
    ("noise", lambda v: jr.Channel("k", ADC, 1, noise=v), FROM_0),
    ("interval", lambda v: jr.LogFormat(interval=v), ABOVE_0),
    ("stale", lambda v: jr.LogFormat(stale=v), ABOVE_0),
    ("baud", lambda v: jr.LogFormat(baud=v), ([1, 115200], [0, -1])),
    ("release", lambda v: jr.Condition("knob", above=50, release=v), ([50.0, 0.0], [50 + 1e-9])),
    ("release", lambda v: jr.Condition("knob", below=50, release=v), ([50.0, 99.0], [50 - 1e-9])),
    ("bits", lambda v: jr.three_numbers(FEW, scale=1, bits=v), ([8, 32], [7, 33])),
    ("scale", lambda v: jr.export(KNOB, "c", scale=v), ([1, 1_000_000], [0, 1_000_001])),
    ("within", lambda v: jr.export(KNOB, "c", within=v), ([0.1, 5.0], [-1e-9])),
    ("level", lambda v: jr.budget(KNOB, 2000, level=v), ([1e-6, 1 - 1e-6], [0.0, 1.0])),
    ("dof", lambda v: jr.budget(KNOB, 2000, noise=1, dof=v), ([1e-3, 1e9], [0.0, -1.0])),
    ("readings", lambda v: jr.budget(KNOB, 2000, noise=1, readings=v), ([1, 1000], [0.99, 0])),
    ("noise", lambda v: jr.budget(KNOB, 2000, noise=v), FROM_0),
    ("draws", lambda v: jr.simulate(KNOB, 2000, noise=1, draws=v), ([1000, 2000], [999, 0])),
    ("margin", lambda v: jr.find_ends(np.arange(900), margin=v), FROM_0),
    ("dead_band", lambda v: jr.Drive("d", "knob", MARKS, dead_band=v, safe=0), FROM_0),
    ("slew", lambda v: jr.Drive("d", "knob", MARKS, slew=v, safe=0), ABOVE_0),
    ("decimals", lambda v: jr.Drive("d", "knob", MARKS, decimals=v, safe=0), ([0, 9], [-1, 10])),
    ("decimals", lambda v: jr.Channel("k", ADC, 1, decimals=v), ([0, 12], [-1, 13])),
    ("column", lambda v: jr.Channel("k", ADC, v), ([1, 999], [0, -1])),
]  # fmt: skip


@pytest.mark.parametrize(
    ("name", "give", "ends"), RANGES, ids=[f"{i} {r[0]}" for i, r in enumerate(RANGES)]
)
def test_the_ends_of_a_range(
    name: str, give: Callable[[Any], Any], ends: tuple[list[float], list[float]]
) -> None:
    allowed, refused = ends
    for value in allowed:
        give(value)
    for value in [*refused, math.nan]:
        with pytest.raises(JetRulerError, match=name) as error:
            give(value)
        assert "expected" in str(error.value)
        assert "found" in str(error.value)


def with_channel(channel: jr.Channel) -> None:
    use(jr.Bench("Desk", (channel,)))
    str(channel.ruler.trace(100.0))


def use(bench: jr.Bench) -> None:
    str(bench)
    str(jr.check(bench))
    for sample in jr.stream(["100", "200", "300"], bench):
        str(sample)


#: Each kind of thing that a bench describes: how it is made, and what is done with it then.
DESCRIBED: dict[type, tuple[dict[str, Any], Callable[[Any], Any]]] = {
    jr.Channel: ({"name": "k", "chain": KNOB.chain, "column": 1}, with_channel),
    jr.Drive: ({"name": "d", "source": "knob", "marks": MARKS, "safe": 0},
               lambda d: use(jr.Bench("Desk", (KNOB,), drives={"d": d}))),
    jr.Condition: ({"channel": "knob", "above": 50},
                   lambda c: use(jr.Bench("Desk", (KNOB,), trips={"t": jr.Trip("t", (c,))}))),
    jr.Trip: ({"name": "t", "conditions": (jr.Condition("knob", above=5),)},
              lambda t: use(jr.Bench("Desk", (KNOB,), trips={"t": t}))),
    jr.Smoothing: ({"kind": "mean", "over": 4},
                   lambda s: with_channel(dataclasses.replace(KNOB, smooth=s))),
    jr.LogFormat: ({}, lambda form: str(jr.look(b"1\n2\n3\n", form=form))),
    jr.Adc: ({"bits": 12, "vref": 3.3},
             lambda a: with_channel(jr.Channel("k", a >> jr.Line(2), 1))),
    jr.Input: ({"unit": "V", "range": (0, 10)},
               lambda i: with_channel(jr.Channel("k", i >> jr.Line(2, takes="V"), 1))),
}  # fmt: skip
FIELDS = [
    (kind, name)
    for kind in DESCRIBED
    for name in inspect.signature(kind).parameters
    if name != "lists_edge"  # of the bench file alone
]
GIVEN = [-1, 2.5, math.nan, True, "x", [], (1,), object()]


@pytest.mark.parametrize(("kind", "name"), FIELDS, ids=[f"{k.__name__}.{n}" for k, n in FIELDS])
@pytest.mark.filterwarnings("ignore")
def test_what_a_field_cannot_be_is_refused_when_it_is_given(kind: type, name: str) -> None:
    """Or when it is used; never by an error that is not ours."""
    others, used = DESCRIBED[kind]
    for value in GIVEN:
        with contextlib.suppress(JetRulerError):
            used(kind(**others | {name: value}))


CONDITION, DRIVE = jr.Condition("knob", above=50), jr.Drive("fan", "knob", MARKS, safe=0)


@pytest.mark.parametrize(
    ("trips", "drives", "says"),
    [
        (
            [jr.Trip("hot", (jr.Condition("knbo", above=1),))],
            [],
            "channel: expected a channel of the bench, found 'knbo': did you mean 'knob'",
        ),
        ([], [jr.Drive("fan", "knbo", MARKS, safe=0)], "source: expected a channel or a trip"),
        ([], [dataclasses.replace(DRIVE, safe_when=("hot",))], "safe_when: expected a trip"),
        ([jr.Trip("hot", (CONDITION,))] * 2, [], "trips: expected a name for each"),
        ([CONDITION], [], "trips: expected trips"),
        (3, [], "trips: expected trips"),
        ({}, "fan", "drives: expected drives"),
    ],
)
def test_a_bench_has_what_its_trips_and_drives_follow(trips: Any, drives: Any, says: str) -> None:
    with pytest.raises(JetRulerError, match=says):
        jr.Bench("Desk", (KNOB,), trips, drives)


def test_trips_and_drives_one_after_another_are_those_by_name() -> None:
    trip = jr.Trip("hot", (CONDITION,))
    listed = jr.Bench("Desk", [KNOB], [trip], [DRIVE])
    named = jr.Bench("Desk", {"knob": KNOB}, {"hot": trip}, {"fan": DRIVE})
    assert (listed.trips, listed.drives) == (named.trips, named.drives)
    assert list(listed.trips) + list(listed.drives) == ["hot", "fan"]
