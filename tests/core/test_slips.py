"""Slips that students make, each on five converters: found, and its cause comes first."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator

import pytest

import jetruler as jr
from tests.helpers.sizes import sizes, soak
from tests.helpers.typed_changes import typed

#: Bits and reference of five boards.
BOARDS = ((12, 3.3), (24, 3.3), (10, 5.0), (14, 3.3), (16, 5.0))

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
    ("an attenuator's resistors swapped", 'laws = [{{ law = "attenuator", upper = "10 kohm", '
     'lower = "{lower} kohm" }}]\nlimits = [10.8, 13.2]', "limits-out-of-reach"),
    ("a table in volts beyond the reference", 'laws = [{{ law = "table", points = [["0.4 V", 80], '
     '["{vref} V", 20], ["{more} V", 10]], unit = "cm" }}]', "above-reference"),
    ("a supply above the reference", 'laws = [{{ law = "divider", known = "10 kohm", supply = '
     '"{more} V" }}, {{ law = "beta", r0 = "10 kohm", beta = 3435 }}]', "above-reference"),
    ("limits beyond the reference", 'laws = [{{ law = "line", marks = [["0 V", 0], ["1 V", 1]], '
     'unit = "bar" }}]\nlimits = [0, 10]', "above-reference"),
    ("coefficients of a thermistor swapped", 'laws = [{{ law = "divider", known = "10 kohm" }}, '
     '{{ law = "steinhart-hart", a = 2.4e-4, b = 1.1e-3, c = 8e-8 }}]', "unlikely-thermistor"),
    ("a coefficient with a slipped decimal", 'laws = [{{ law = "divider", known = "10 kohm" }}, '
     '{{ law = "steinhart-hart", a = 1.1e-3, b = 2.4e-3, c = 8e-8 }}]', "unlikely-thermistor"),
    ("Beta and R0 swapped", 'laws = [{{ law = "divider", known = "10 kohm" }}, {{ law = "beta", '
     'r0 = 3435, beta = 10000 }}]', "unlikely-thermistor"),
    ("R0 in milliohms", 'laws = [{{ law = "divider", known = "10 kohm" }}, {{ law = "beta", '
     'r0 = "0.01 ohm", beta = 3435 }}]', "unlikely-thermistor"),
    ("a Beta of 40.9", 'laws = [{{ law = "divider", known = "10 kohm" }}, {{ law = "beta", '
     'r0 = "10 kohm", beta = 40.9 }}]\nlimits = [0, 100]', "unlikely-thermistor"),
    ("megohms for kiloohms", 'laws = [{{ law = "divider", known = "4.7 Mohm" }}, {{ law = "beta", '
     'r0 = "10 kohm", beta = 3435 }}]\nlimits = [0, 100]', "unit-slip"),
    ("a resistor far from the sensor's", 'laws = [{{ law = "divider", known = "220 ohm" }}, '
     '{{ law = "beta", r0 = "10 kohm", beta = 3435 }}]\nlimits = [0, 50]', "far-resistor"),
    ("a resistor far above the sensor's", 'laws = [{{ law = "divider", known = "470 kohm" }}, '
     '{{ law = "beta", r0 = "10 kohm", beta = 3435 }}]\nlimits = [0, 50]', "far-resistor"),
    ("a sensor that warms itself", 'laws = [{{ law = "divider", known = "1 kohm" }}, {{ law = '
     '"beta", r0 = "1 kohm", beta = 3435 }}]\nlimits = [0, 50]\ndissipation = "1 mW"',
     "self-heating"),
    ("another reference in the law", 'laws = [{{ law = "adc", vref = {other} }}, {{ law = "line", '
     'gain = 20, unit = "%" }}]', "other-reference"),
    ("2^n here, 2^n - 1 there", 'laws = []\n[channel.b]\ncolumn = 2\nconverter = {{ count_at_vref '
     '= {over} }}\nlaws = []', "top-counts-disagree"),
    ("more decimals than there are", 'laws = [{{ law = "line", marks = [[0, 0], [{top}, 100]], '
     'unit = "%" }}]\nlimits = [0, 100]\ndecimals = {many}', "coarse-step"),
    ("limits below what can come", 'laws = [{{ law = "line", marks = [[0, 0], [{top}, 100]], '
     'unit = "%" }}]\nlimits = [-20, 100]', "limits-out-of-reach"),
    ("limits in millivolts", 'laws = []\nlimits = [100, 2900]', "limits-out-of-reach"),
    ("limits in psi", 'laws = [{{ law = "line", marks = [[0, 0], [{top}, 10]], unit = "bar" }}]\n'
     'limits = [20, 130]', "limits-out-of-reach"),
    ("a zone narrower than the noise", 'laws = [{{ law = "line", marks = [[0, 0], [{top}, 100]], '
     'unit = "%" }}, {{ law = "zones", edges = [20, 20.5, 60], values = ["a", "b", "c", "d"] }}]\n'
     'noise = {noise}', "narrow-zones"),
    ("expect in mA behind a shunt", 'laws = [{{ law = "shunt", ohms = 100 }}, {{ law = "expect", '
     "low = 3.6, high = 21 }}]", "excludes-marks"),
    ("expect of another sensor", 'laws = [{{ law = "line", marks = [[0, 0], [{top}, 10]], unit = '
     '"bar" }}, {{ law = "expect", low = 20, high = 250 }}]', "excludes-marks"),
    ("a clamp of percent on a fraction", 'laws = [{{ law = "line", marks = [[0, 0], [{top}, 1]] '
     '}}, {{ law = "clamp", low = 0, high = 100 }}]', "misplaced-clamp"),
    ("a reversed line, a clamp that is not", 'laws = [{{ law = "line", marks = [[0, 0], [{top}, '
     '-100]], unit = "%" }}, {{ law = "clamp", low = 0, high = 100 }}]', "misplaced-clamp"),
    ("a clamp before a curve", 'laws = [{{ law = "line", marks = [[0, 0], [{top}, 1]] }}, {{ law = '
     '"clamp", low = 0, high = 1 }}, {{ law = "polynomial", coefficients = [1, 20, 3] }}]',
     "clamp-too-early"),
    ("whole before a clamp and a line", 'laws = [{{ law = "line", marks = [[0, 0], [{top}, 100]], '
     'unit = "%" }}, {{ law = "whole" }}, {{ law = "clamp", low = 0, high = 100 }}, {{ law = '
     '"line", gain = 2.55 }}]', "rounded-too-early"),
    ("rounded toward zero", 'laws = [{{ law = "line", marks = [[0, 0], [{top}, 100]], unit = "%" }}'
     ', {{ law = "whole", rounding = "toward zero" }}]', "rounding-misses-top"),
    ("an output with gaps", 'laws = [{{ law = "line", marks = [[0, 0], [{top}, {gaps}]] }}, {{ law '
     '= "whole" }}]\nrails = "ends"', "skipped-numbers"),
    ("a curve that turns back", 'laws = [{{ law = "line", marks = [[0, 0], [{top}, 1]] }}, {{ law '
     '= "polynomial", coefficients = [0, 200, -160] }}]\nlimits = [0, 62]', "turns-back"),
    ("marks of four times the counts", 'laws = [{{ law = "line", marks = [[0, 0], [{fourth}, '
     '100]], unit = "%" }}]', "outside-marks"),
    ("volts for counts", 'laws = [{{ law = "line", marks = [[0.5, 0], [2.5, 10]], unit = "bar" }}]',
     "marks-of-another"),
    ("counts on an input in volts", 'input = {{ unit = "V", range = [0, {vref}] }}\nlaws = [{{ law '
     '= "line", marks = [[0, 0], [{top}, 100]], unit = "%" }}]', "outside-marks"),
    ("a drive that takes a broken wire for a stop", 'laws = [{{ law = "line", marks = [[0, 0], '
     '[{top}, 100]], unit = "%" }}, {{ law = "clamp", low = 0, high = 100 }}]\n[drive.d]\nfrom = '
     '"a"\nmarks = [[0, 0], [100, 255]]\nsafe = 0', "stop-or-wire"),
    ("a drive whose channel says no travel", 'laws = [{{ law = "line", gain = 20, takes = "V" }}]\n'
     '[drive.d]\nfrom = "a"\nmarks = [[0, 0], [60, 255]]\nsafe = 0', "unstated-ends"),
    ("a drive with marks of 0 to 1", 'laws = [{{ law = "line", marks = [[30, 0], [{near}, 100]], '
     'unit = "%" }}, {{ law = "clamp", low = 0, high = 100 }}]\n[drive.d]\nfrom = "a"\nmarks = '
     "[[0, 0], [1, 255]]\nsafe = 0", "range-of-another"),
    ("a drive behind slow smoothing", 'laws = [{{ law = "line", marks = [[30, 0], [{near}, 100]], '
     'unit = "%" }}, {{ law = "clamp", low = 0, high = 100 }}]\nsmooth = {{ kind = "mean", over = '
     '"30 s" }}\n[drive.d]\nfrom = "a"\nmarks = [[0, 0], [100, 255]]\nsafe = 0', "slow-drive"),
    ("smoothing slower than the slew", 'laws = [{{ law = "line", marks = [[30, 0], [{near}, 100]], '
     'unit = "%" }}, {{ law = "clamp", low = 0, high = 100 }}]\nsmooth = {{ kind = "mean", over = '
     '"1.5 s" }}\n[drive.d]\nfrom = "a"\nmarks = [[0, 0], [100, 255]]\nsafe = 0\nslew = 510',
     "slow-drive"),
    ("a trip behind slow smoothing", 'laws = []\nsmooth = {{ kind = "mean", over = "1 min" }}\n'
     '[trip.t]\nany = [{{ channel = "a", rises_by = 1, within = "5 s" }}]', "slow-smoothing"),
    ("a threshold below all", 'laws = []\n[trip.t]\nany = [{{ channel = "a", below = -0.5 }}]',
     "unreachable-threshold"),
    ("a threshold without a release point", 'laws = [{{ law = "line", marks = [[0, 0], [{top}, '
     '100]], unit = "%" }}]\nnoise = {noise}\n[trip.t]\nany = [{{ channel = "a", above = 50 }}]',
     "flickering-threshold"),
    ("a row that another sensor would give", 'laws = [{{ law = "line", marks = [[0, 0], [{top}, '
     '100]] }}]\nrails = "ends"\nexpected = [[0, 0], [{top}, 80]]', "unexpected-value"),
    ("a few counts for a fine reading", 'laws = [{{ law = "line", marks = [["0 V", 0], '
     '["{vref} V", {wide}]], unit = "g" }}]\nlimits = [0, 100]\ndecimals = 1', "few-counts"),
]  # fmt: skip


def benches(boards: tuple[tuple[int, float], ...]) -> Iterator[tuple[str, str, str]]:
    for what, lines, rule in SLIPS:
        for bits, vref in boards:
            top = 2**bits - 1
            body = lines.format(
                top=top,
                over=top + 1,
                near=top - 30,
                fourth=4 * top + 3,
                gaps=4 * top,
                vref=vref,
                more=round(1.5 * vref, 2),
                other={3.3: 5, 5.0: 3.3}[vref],
                lower={3.3: 33, 5.0: 20}[vref],
                many=math.ceil(math.log10(30 * 2**bits / 100)),
                noise=max(1, round(0.003 * top)),
                wide=10 * 2 ** (bits - 3),
            )
            head = f'[converter]\nbits = {bits}\nvref = "{vref} V"\n[channel.a]\ncolumn = 1\n'
            yield f"{what}, {bits} bits", head + body + "\n", rule


@soak
@pytest.mark.parametrize("boards", sizes(2, 5))
def test_slips_are_found_and_their_cause_comes_first(boards: int) -> None:
    missed = []
    for what, text, rule in benches(BOARDS[:boards]):
        found = jr.check(jr.parse_bench(text))
        if not found or found[0].rule != rule:
            missed.append(f"{what}: {[f.rule for f in found]}, not {rule}")
        elif found[0].change:  # it clears the finding and raises none, when it is typed
            after = jr.check(jr.parse_bench(typed(text, found[0].change))).flat
            assert rule not in {f.rule for f in after}, (what, found[0].change)
            assert {f.rule for f in after} <= {f.rule for f in found.flat}, (what, found[0].change)
    assert len(missed) <= 0.05 * len(SLIPS) * boards, "\n".join(missed)


def test_a_clamp_at_the_limits_hides_no_slip() -> None:
    clamp = r', { law = "clamp", low = \1, high = \2 }]\nlimits = [\1, \2]'
    hidden = []
    for what, text, rule in benches(BOARDS[:2]):
        clamped, many = re.subn(r"\]\nlimits = \[(.+), (.+)\]", clamp, text)
        if many and rule != "limits-out-of-reach":  # what a clamp keeps within them reaches them
            found = [finding.rule for finding in jr.check(jr.parse_bench(clamped))]
            hidden += [(what, rule, found)] if rule not in found else []
    assert not hidden


@pytest.mark.parametrize(
    ("what", "lines"),
    [
        ("a 24-bit load cell", 'laws = [{ law = "line", marks = [[100000, 0], [9000000, 20000]], '
         'unit = "g" }]\nlimits = [0, 2000]\ndecimals = 1'),
        ("limits at a table's ends", 'laws = [{ law = "table", points = [[1000, 0], [9000000, 5], '
         '[16000000, 40]], unit = "cm" }]\nlimits = [0, 40]'),
        ("ohms that a clamp leaves out", 'laws = [{ law = "divider", known = 7400 }, { law = '
         '"steinhart-hart", a = 0.00088, b = 0.00023, c = 1.1e-07, unit = "K" }, { law = "clamp", '
         'low = 279, high = 407 }]\nlimits = [279, 407]'),
        ("a knob from rail to rail", 'laws = [{ law = "line", marks = [[0, 0], [16777215, 100]], '
         'unit = "%" }, { law = "clamp", low = 0, high = 100 }]\nrails = "ends"'),
    ],
)  # fmt: skip
def test_sound_benches_are_not_accused(what: str, lines: str) -> None:
    head = '[channel.a]\ncolumn = 1\nconverter = { bits = 24, vref = "3.3 V" }\n'
    found = [f for f in jr.check(jr.parse_bench(f"{head}{lines}\n")) if f.severity.value < 2]
    assert not found, (what, found)
