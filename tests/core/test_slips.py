"""Slips that students make, each on five converters: found, and its cause comes first."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

import jetruler as jr

#: Bits and reference of five boards.
BOARDS = ((10, 5.0), (12, 3.3), (14, 3.3), (16, 5.0), (24, 3.3))

#: What the slip is, the channel's lines, and the rule that names its cause. {top}: the top count;
#: {vref}: the reference; {more}: one and a half of it.
SLIPS = [
    ("marks in volts above the reference", 'laws = [{{ law = "line", marks = [["0.5 V", 0], '
     '["{more} V", 10]], unit = "bar" }}]', "above-reference"),
    ("a loop over too large a resistor", 'laws = [{{ law = "shunt", ohms = 500 }}, '
     '{{ law = "line", marks = [["4 mA", 0], ["20 mA", 10]], unit = "bar" }}]', "above-reference"),
    ("an amplifier that saturates", 'laws = [{{ law = "amplifier", gain = 150 }}, {{ law = "line", '
     'marks = [["0 mV", 0], ["50 mV", 100]], unit = "kg" }}]', "above-reference"),
    ("an attenuator that divides too little", 'laws = [{{ law = "attenuator", upper = "1 kohm", '
     'lower = "10 kohm" }}, {{ law = "line", marks = [["0 V", 0], ["12 V", 100]] }}]',
     "above-reference"),
    ("marks of another converter, clamped", 'laws = [{{ law = "line", marks = [[0, 0], '
     '[255, 100]], unit = "%" }}, {{ law = "clamp", low = 0, high = 100 }}]', "marks-of-another"),
    ("marks of another converter", 'laws = [{{ law = "line", marks = [[0, 0], [256, 100]], '
     'unit = "%" }}]', "marks-of-another"),
    ("2^n for the top count", 'laws = [{{ law = "line", marks = [[0, 0], [{over}, 100]], '
     'unit = "%" }}]', "outside-marks"),
    ("expect behind another unit", 'laws = [{{ law = "shunt", ohms = 100 }}, {{ law = "line", '
     'marks = [["4 mA", 0], ["20 mA", 10]], unit = "bar" }}, {{ law = "expect", low = 3.6, '
     "high = 21 }}]", "excludes-marks"),
    ("whole before the line", 'laws = [{{ law = "line", marks = [[0, 0], [{top}, 100]], unit = "%" '
     '}}, {{ law = "whole" }}, {{ law = "line", gain = 10, unit = "us" }}]', "rounded-too-early"),
    ("whole before a curve", 'laws = [{{ law = "whole" }}, {{ law = "polynomial", coefficients = '
     '[1, 2, 3], takes = "count" }}]', "rounded-too-early"),
    ("a zone narrower than its hysteresis", 'laws = [{{ law = "line", marks = [[0, 0], '
     '[{top}, 100]], unit = "%" }}, {{ law = "zones", edges = [20, 22, 60], values = ["a", "b", '
     '"c", "d"], hysteresis = 3 }}]', "wide-hysteresis"),
    ("a clamp of another range", 'laws = [{{ law = "line", marks = [[0, 0], [{top}, 100]], '
     'unit = "%" }}, {{ law = "clamp", low = 1000, high = 2000 }}]', "misplaced-clamp"),
    ("a clamp before the line", 'laws = [{{ law = "clamp", low = 10, high = 200 }}, '
     '{{ law = "line", marks = [[0, 0], [{top}, 100]], unit = "%" }}]', "clamp-too-early"),
    ("ohms for kiloohms", 'laws = [{{ law = "divider", known = 4.7 }}, {{ law = "beta", '
     'r0 = "10 kohm", beta = 3435 }}]\nlimits = [0, 100]', "unit-slip"),
    ("a Beta with a slipped decimal", 'laws = [{{ law = "divider", known = "10 kohm" }}, '
     '{{ law = "beta", r0 = "10 kohm", beta = 343.5 }}]', "unlikely-thermistor"),
    ("R0 in megohms", 'laws = [{{ law = "divider", known = "10 kohm" }}, {{ law = "beta", '
     'r0 = "100 Mohm", beta = 3435 }}]', "unlikely-thermistor"),
    ("the supply said twice", 'laws = [{{ law = "divider", known = "10 kohm", supply = "{vref} V" '
     '}}, {{ law = "beta", r0 = "10 kohm", beta = 3435 }}]', "reference-would-cancel"),
    ("limits in another unit", 'laws = [{{ law = "line", marks = [[0, 0], [{top}, 10]], '
     'unit = "bar" }}]\nlimits = [20, 150]', "limits-out-of-reach"),
    ("a rounding that cuts off all", 'laws = [{{ law = "line", marks = [[0, 0], [{top}, 0.9]] }}, '
     '{{ law = "whole", rounding = "down" }}]', "one-number"),
    ("rounded down", 'laws = [{{ law = "line", marks = [[0, 0], [{top}, 100]], unit = "%" }}, '
     '{{ law = "whole", rounding = "down" }}]', "rounding-misses-top"),
    ("a drive with marks in counts", 'laws = [{{ law = "line", marks = [[30, 0], [{near}, 100]], '
     'unit = "%" }}, {{ law = "clamp", low = 0, high = 100 }}]\n[drive.d]\nfrom = "a"\n'
     'range = "duty8"\nmarks = [[0, 0], [4095, 255]]\nsafe = 0', "range-of-another"),
    ("a drive with marks in percent", 'laws = []\n[drive.d]\nfrom = "a"\nrange = "duty8"\n'
     "marks = [[0, 0], [100, 255]]\nsafe = 0", "range-of-another"),
    ("a threshold out of range", 'laws = [{{ law = "line", marks = [[0, 0], [{top}, 100]], '
     'unit = "%" }}]\n[trip.t]\nany = [{{ channel = "a", above = 150 }}]', "unreachable-threshold"),
]  # fmt: skip


def benches() -> Iterator[tuple[str, str, str]]:
    for what, lines, rule in SLIPS:
        for bits, vref in BOARDS:
            top = 2**bits - 1
            body = lines.format(
                top=top, over=top + 1, near=top - 30, vref=vref, more=round(1.5 * vref, 2)
            )
            head = f'[channel.a]\ncolumn = 1\nconverter = {{ bits = {bits}, vref = "{vref} V" }}\n'
            yield f"{what}, {bits} bits", head + body + "\n", rule


def test_slips_are_found_and_their_cause_comes_first() -> None:
    missed = []
    for what, text, rule in benches():
        found = jr.check(jr.parse_bench(text))
        if not found or found[0].rule != rule:
            missed.append(f"{what}: {[f.rule for f in found]}, not {rule}")
    assert len(missed) <= 0.05 * len(SLIPS) * len(BOARDS), "\n".join(missed)


@pytest.mark.parametrize(
    ("what", "lines"),
    [
        ("a 24-bit load cell", 'laws = [{ law = "line", marks = [[100000, 0], [9000000, 20000]], '
         'unit = "g" }]\nlimits = [0, 2000]\ndecimals = 1'),
        ("limits at a table's ends", 'laws = [{ law = "table", points = [[1000, 0], [9000000, 5], '
         '[16000000, 40]], unit = "cm" }]\nlimits = [0, 40]'),
        ("a knob from rail to rail", 'laws = [{ law = "line", marks = [[0, 0], [16777215, 100]], '
         'unit = "%" }, { law = "clamp", low = 0, high = 100 }]\nrails = "ends"'),
    ],
)  # fmt: skip
def test_sound_benches_are_not_accused(what: str, lines: str) -> None:
    head = '[channel.a]\ncolumn = 1\nconverter = { bits = 24, vref = "3.3 V" }\n'
    found = [f for f in jr.check(jr.parse_bench(f"{head}{lines}\n")) if f.severity.value < 2]
    assert not found, (what, found)
