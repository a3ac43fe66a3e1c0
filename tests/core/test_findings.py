"""Each rule of `look` with an example it speaks about and one it is silent on."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from jetruler import Adc, Channel, Clamp, Counts, Expect, Line, Shunt
from jetruler.core.result import Severity
from jetruler.core.survey.findings import Subject, findings
from jetruler.core.survey.surveyor import Surveyor

RANDOM = np.random.RandomState(8)


@pytest.fixture(autouse=True)
def _the_same_numbers_in_any_order() -> None:
    RANDOM.seed(8)


def noisy(level: Any, noise: float = 2.0) -> Any:
    level = np.asarray(level, dtype=np.float64)
    counts = np.round(level + noise * RANDOM.standard_normal(level.size))
    return np.clip(counts, 0, 4095).astype(np.int64)


REST = noisy(np.full(3000, 1500.0))
SLOPE = np.linspace(500, 3500, 3000)
KNOB = np.interp(
    np.arange(3000), [0, 700, 1200, 2000, 2400, 3000], [198, 198, 3904, 3904, 198, 198]
)
VOLTS = Channel("c", Adc(12, 3.3) >> Line(1), "x", limits=(0.3, 3.0), decimals=2)
LOOP = Channel("c", Adc(12, 3.3) >> Shunt(150) >> Expect(3.6e-3, 21e-3), "x")
PERCENT = Channel("c", Counts(12) >> Line.through((0, 0), (4095, 100), unit="%") >> Clamp(0), "x")


def replaced(counts: Any, where: slice, value: int) -> Any:
    out = counts.copy()
    out[where] = value
    return out


# what is said; counts it is said of; counts it is not said of; the channel, if one is needed.
RULES: list[tuple[Severity, str, Any, Any, Channel | None]] = [
    (Severity.ERROR, "not one sample can be read", np.empty(0, np.int64), noisy(SLOPE), None),
    (Severity.WARNING, "every sample is 7", np.full(50, 7), noisy(SLOPE), None),
    (Severity.ERROR, "is on its high rail (4095) for 20 samples (4 s), from line 102",
     replaced(noisy(SLOPE), slice(100, 120), 4095), noisy(SLOPE), None),
    (Severity.WARNING, "is on its low rail (0) for 1 sample (0.2 s), from line 102",
     replaced(noisy(SLOPE), slice(100, 101), 0), noisy(SLOPE), None),
    (Severity.ERROR, "has values that no working sensor gives", noisy(SLOPE),
     noisy(SLOPE / 2 + 800), LOOP),
    (Severity.WARNING, "falls below its limit of 0.3 V for 10 samples (2 s), as far as 0.16 V",
     replaced(noisy(SLOPE), slice(50, 60), 200), noisy(SLOPE), VOLTS),
    (Severity.WARNING, "rises above its limit of 3 V for 10 samples (2 s), as far as 3.14 V",
     replaced(noisy(SLOPE), slice(50, 60), 3900), noisy(SLOPE), VOLTS),
    (Severity.WARNING, "stuck at 777 for 200 samples (40 s) from line 1002, though its noise is",
     replaced(noisy(SLOPE), slice(1000, 1200), 777), noisy(SLOPE), None),
    # what rests lies against no stop, not at its own smallest either
    (Severity.WARNING, f"stuck at {min(REST)} for 200 samples (40 s) from line 1002",
     replaced(REST, slice(1000, 1200), min(REST)), noisy(KNOB), None),
    (Severity.WARNING, "2 isolated spikes of one sample",
     replaced(noisy(SLOPE), slice(100, 2000, 1000), 3900), noisy(SLOPE), None),
    (Severity.NOTE, "uses 15% of the converter's range", noisy(np.linspace(1000, 1600, 3000)),
     noisy(SLOPE), None),
    (Severity.NOTE, "its travel ends at 19", noisy(KNOB), noisy(SLOPE), PERCENT),
    (Severity.NOTE, "all codes are multiples of 16: results of 8 bits, left-scaled to 12 bits",
     noisy(SLOPE) // 16 * 16, noisy(SLOPE), None),
    (Severity.NOTE, "is quiet: its noise of 0", noisy(SLOPE, 0.1), noisy(SLOPE), None),
    (Severity.NOTE, "averaged readings keep its last decimal steady (to 0.005 V)",
     noisy(SLOPE, 20.0), noisy(SLOPE, 0.1), VOLTS),
    (Severity.NOTE, "One reading keeps its last decimal", noisy(SLOPE), noisy(SLOPE, 20.0), VOLTS),
]  # fmt: skip


def said_of(counts: Any, channel: Channel | None) -> list[tuple[Severity, str]]:
    surveyor = Surveyor(0, 4095)
    surveyor.add(counts)
    subject = Subject("c", surveyor.survey(), channel, 0.2, lambda row: f"line {row + 2}")
    found = findings(subject)
    assert [f.severity for f in found] == sorted(f.severity for f in found)
    return [(f.severity, str(f)) for f in found]


@pytest.mark.parametrize(
    ("severity", "says", "of", "not_of", "channel"), RULES, ids=[rule[1] for rule in RULES]
)
def test_rule(severity: Severity, says: str, of: Any, not_of: Any, channel: Channel | None) -> None:
    spoken = [found for found in said_of(of, channel) if says in found[1]]
    assert spoken, said_of(of, channel)
    assert spoken[0][0] == severity
    assert not any(says in text for _, text in said_of(not_of, channel))


def test_missing_samples_are_told() -> None:
    surveyor = Surveyor()
    counts = noisy(SLOPE)
    missing = np.zeros(counts.size, bool)
    missing[::10] = True
    surveyor.add(counts, missing)
    subject = Subject("c", surveyor.survey((0, 4095)), None, None, str)
    assert "c: 300 of 3000 samples are missing (10.00%)" in str(findings(subject)[0])
