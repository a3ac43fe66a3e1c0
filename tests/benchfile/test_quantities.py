"""Every place that holds a quantity takes one with a unit, and refuses one of another kind."""

from __future__ import annotations

import contextlib
import itertools
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest

from jetruler import Bench, Channel, Condition, Counts, Drive, Input, Line, Trip
from jetruler.benchfile.load import BenchError, parse_bench
from jetruler.core.error_types import ParameterError, UnitError
from jetruler.core.ruler.units import canonical, factor_and_offset
from tests.helpers.sizes import thinned

#: Where the quantity goes.
HERE = "@"
VOLTS = '[channel.a]\ncolumn = 1\nconverter = { bits = 12, vref = "3.3 V" }\n'
BARS = VOLTS + 'laws = [{ law = "line", marks = [["0.5 V", "0 bar"], ["4.5 V", "10 bar"]] }]\n'
CM = '[channel.a]\ncolumn = 1\ninput = { unit = "cm", @ }\n'


def trip(text: str) -> str:
    return BARS + f'[trip.t]\nany = [{{ channel = "a", {text} }}]\n'


def drive(text: str, ends: str = '"duty8"') -> str:
    return BARS + f'[drive.d]\nfrom = "a"\nrange = {ends}\nwhole = false\n{text}\n'


def laws(*texts: str, more: str = "") -> str:
    listed = ", ".join(f"{{ {text} }}" for text in texts)
    return f"{VOLTS}laws = [{listed}]\n{more}"


def limits(bench: Bench) -> Any:
    return bench["a"].limits


def in_condition(key: str) -> Callable[[Bench], Any]:
    return lambda bench: getattr(bench.trips["t"].conditions[0], key)


def in_drive(key: str) -> Callable[[Bench], Any]:
    return lambda bench: getattr(bench.drives["d"], key)


def in_law(index: int, key: str) -> Callable[[Bench], Any]:
    return lambda bench: getattr(bench["a"].chain.laws[index], key)


KNOWN, BETA = 'law = "divider", known = "10k"', 'law = "beta", r0 = "10k", beta = 3950'
PULSE, TEN = '"pulse"', '["0 V", "10 V"]'
#: The bench with the place, a right quantity, the unit of the place, what is read, where it is.
PLACES: dict[str, tuple[str, str, str, Any, Callable[[Bench], Any]]] = {
    "limits": (BARS + "limits = [0, @]", "900 kPa", "bar", (0, 9.0), limits),
    "noise": (BARS + "noise = @", "1.5 count", "count", 1.5, lambda b: b["a"].noise),
    "dissipation": (BARS + "dissipation = @", "1.5 mW", "W", 0.0015, lambda b: b["a"].dissipation),
    "above": (trip("above = @"), "800 kPa", "bar", 8.0, in_condition("above")),
    "below": (trip("below = @"), "0.8 MPa", "bar", 8.0, in_condition("below")),
    "release": (trip("above = 9, release = @"), "500 mbar", "bar", 0.5, in_condition("release")),
    "rise": (trip('rises_by = @, within = "5 s"'), "1e5 Pa", "bar", 1.0, in_condition("rises_by")),
    "fall": (trip('falls_by = @, within = "5 s"'), "1 bar", "bar", 1.0, in_condition("falls_by")),
    "mark of a drive": (drive("marks = [[0, 0], [@, 255]]\nsafe = 0"), "500 kPa", "bar",
                        ((0, 0), (5.0, 255)), in_drive("marks")),
    "pulse": (drive("marks = [[0, 1000], [9, @]]\nsafe = 1000", PULSE), "2 ms", "us",
              ((0, 1000), (9, 2000.0)), in_drive("marks")),
    "safe": (drive("marks = [[0, 1000], [9, 2000]]\nsafe = @", PULSE), "1.5 ms", "us", 1500.0,
             in_drive("safe")),
    "slew": (drive("marks = [[0, 0], [9, 10]]\nsafe = 0\nslew = @", TEN), "500 mV", "V", 0.5,
             in_drive("slew")),
    "clamp of a drive": (drive("marks = [[0, 0], [9, 5]]\nsafe = 0\nclamp = [0, @]", TEN),
                         "5000 mV", "V", (0, 5.0), in_drive("clamp")),
    "range of an input": (CM.replace(HERE, "range = [0, @]"), "4 m", "cm", (0, 400.0),
                          in_law(0, "range")),
    "resolution": (CM.replace(HERE, "resolution = @"), "1 mm", "cm", 0.1, in_law(0, "resolution")),
    "known": (laws('law = "divider", known = @'), "4.7 kohm", "ohm", 4700.0, in_law(1, "known")),
    "r0": (laws(KNOWN, 'law = "beta", r0 = @, beta = 1'), "4k7", "ohm", 4700.0, in_law(2, "r0")),
    "t0": (laws(KNOWN, BETA + ", t0 = @"), "77 degF", "K", 298.15, in_law(2, "t0")),
    "beta": (laws(KNOWN, 'law = "beta", r0 = 1, beta = @'), "3950 K", "K", 3950.0,
             in_law(2, "beta")),
    "limits in °C": (laws(KNOWN, BETA, more="limits = [0, @]"), "212 degF", "degC", (0, 100.0),
                     limits),
    "offset": (laws('law = "line", gain = 2, unit = "bar", offset = @'), "50 kPa", "bar", 0.5,
               in_law(1, "offset")),
    "vref": ('[channel.a]\ncolumn = 1\nconverter = { bits = 12, vref = @ }', "3300 mV", "V", 3.3,
             in_law(0, "vref")),
    "low of a clamp": (BARS.replace("}]", '}, { law = "clamp", low = @, unit = "bar" }]'), "50 kPa",
                       "bar", 0.5, in_law(2, "low")),
    "edge of zones": (BARS.replace("}]", '}, { law = "zones", edges = [@], values = [0, 1], '
                                   'takes = "bar" }]'), "50 kPa", "bar", (0.5,),
                      in_law(2, "edges")),
}  # fmt: skip

#: Quantities of many kinds; each is right in few places.
KINDS = ("5 kg", "5 V", "5 ohm", "5 s", "5 m", "300 K", "5 bar", "5 NTU", "5 deg", "5 A", "5 count")


def bench_with(text: str, quantity: str) -> Bench:
    return parse_bench(text.replace(HERE, f'"{quantity}"'))


@pytest.mark.parametrize("place", PLACES)
def test_a_quantity_is_read_in_its_place(place: str) -> None:
    text, right, _, read, where = PLACES[place]
    assert np.ravel(where(bench_with(text, right))) == pytest.approx(np.ravel(read))


@pytest.mark.parametrize(("place", "kind"), thinned(itertools.product(PLACES, KINDS), 3))
def test_a_quantity_of_another_kind_is_refused(place: str, kind: str) -> None:
    text, _, unit, _, _ = PLACES[place]
    if (place, kind) == ("noise", "5 V"):
        return  # what the converter makes counts of
    with contextlib.suppress(UnitError):
        factor_and_offset(canonical(kind.split()[1]), unit)
        return  # of the same kind
    with pytest.raises(BenchError, match=f"found .*{kind}"):
        bench_with(text, kind)


def test_a_command_may_be_a_part_of_the_range() -> None:
    text = 'marks = [[0, "0 %"], [9, "100 %"]]\nsafe = "50 %"\ndead_band = "2 %"'
    made = parse_bench(drive(text).replace("whole = false\n", "")).drives["d"]
    assert (made.marks, made.safe, made.dead_band) == (((0, 0.0), (9, 255.0)), 128.0, 5.1)
    made = parse_bench(drive(text, '["1 V", "5 V"]')).drives["d"]
    assert (made.safe, made.dead_band, made.output_column) == (3.0, 0.08, "d_V")


@pytest.mark.parametrize(
    ("gain", "unit", "expected"),
    [
        ("1/64", None, (1 / 64, None, None)),
        ("2.5 V / 16383", None, (2.5 / 16383, "V", None)),
        ("2.5 V / 16383", "mV", (2500 / 16383, "mV", None)),
        ("2 bar/V", None, (2.0, "bar", "V")),
        ("10 mV/K", None, (10.0, "mV", "K")),
        ("0.5 m/s", None, (0.5, "m/s", None)),
        ("5 %/count", None, (5.0, "%", "count")),
    ],
)
def test_a_gain_as_it_is_written(gain: Any, unit: str | None, expected: tuple[Any, ...]) -> None:
    line = Line(gain, unit=unit)
    assert (line.gain, line.unit, line.takes) == (pytest.approx(expected[0]), *expected[1:])


def test_python_takes_what_a_bench_file_takes() -> None:
    ruler = Counts(12) >> Line(0.01, unit="bar")
    channel = Channel("a", ruler, 1, limits=("0 bar", "900 kPa"), noise="2 count")
    hot = Trip("t", (Condition("a", above="800 kPa", release=7),))
    fan = Drive("d", "a", (("100 kPa", "0 %"), (9, "100 %")), safe="0 %")
    bench = Bench("Desk", {"a": channel}, {"t": hot}, {"d": fan})
    assert (channel.limits, channel.noise) == ((0.0, 9.0), 2.0)
    assert bench.trips["t"].conditions[0].above == 8.0
    assert bench.drives["d"].marks == ((1.0, 0.0), (9, 255.0))
    with pytest.raises(ParameterError, match="above: expected a quantity in bar, found '8 kg'"):
        Bench("Desk", {"a": channel}, {"t": Trip("t", (Condition("a", above="8 kg"),))})
    assert (Input("cm") >> Line.through(("83 cm", 0), ("2 m", 100)))(83) == 0.0


def test_units_of_one_kind_meet_and_stay_as_they_are_written() -> None:
    bench = parse_bench(
        laws(
            'law = "shunt", ohms = "150R"',
            'law = "expect", low = "3.6 mA"',
            'law = "line", marks = [["4 mA", 0], ["20 mA", "10 bar"]]',
        )
    )
    ruler = bench["a"].chain
    assert ruler.units == ("count", "V", "A", "mA", "mA", "bar")
    assert ruler.trace_back(5.625).steps[0].line.endswith("= 13 mA")
