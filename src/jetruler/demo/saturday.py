"""The made-up calibration files: the knob against a scale, a bath, and a rest log.

`python -m jetruler.demo.saturday FOLDER` writes the bundled files again, byte for byte. The parts
here are as parts are: near what is printed on them, and each a little different.
"""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np

from .generate import KNOB_ENDS, TOP, Array

SEED = 20_260_321
#: The two beads as they are: ohms at 25 °C and Beta. Printed on both: 100 kΩ ± 3 %, 3950 K.
BEAN, BEAN2 = (101_400.0, 3938.0), (99_700.0, 3949.0)
NOISE = 1.4
MISREAD = 4
"""The place of the mark at which somebody read 61 for 71 on the scale."""


def bead_counts(celsius: Array, bead: tuple[float, float]) -> Array:
    """Counts of a bead in the lower leg under 4.7 kΩ, before noise and rounding."""
    r25, beta = bead
    ohms = r25 * np.exp(beta * (1 / (celsius + 273.15) - 1 / 298.15))
    counts: Array = TOP * ohms / (ohms + 4700)
    return counts


def damper_marks() -> str:
    """The knob at seven places, its opening read off a scale in whole percent."""
    random = np.random.RandomState(SEED)
    low, high = KNOB_ENDS
    lines = ["# damper knob against the scale on the flap", "raw (count),true (%)"]
    for i, fraction in enumerate((0, 17, 33, 50, 71, 84, 100)):
        inner = 0 < fraction < 100
        raw = low + (high - low) * fraction / 100 + (random.uniform(-12, 12) if inner else 0)
        lines.append(f"{raw:.0f},{61 if i == MISREAD else fraction}")
    return "\n".join(lines) + "\n"


def bath() -> str:
    """The first bead in a stirred bath: the mean of 200 readings beside a thermometer's."""
    random = np.random.RandomState(SEED + 1)
    true = np.array([25.24, 60.05, 99.61, 150.32, 200.13])
    counts = bead_counts(true, BEAN) + NOISE / np.sqrt(200) * random.standard_normal(true.size)
    read = true + 0.05 * random.standard_normal(true.size)
    lines = ["# bean thermistor in a stirred bath, each the mean of 200 readings"]
    lines.append("raw (count),true (degC),u_true (K)")
    lines += [f"{c:.1f},{t:.2f},0.05" for c, t in zip(counts, read, strict=True)]
    return "\n".join(lines) + "\n"


def rest() -> str:
    """Two minutes of both beads in the warm drum at rest, with a thermometer every 5 s."""
    random = np.random.RandomState(SEED + 2)
    t = np.arange(600) / 5
    celsius = 63.4 - 1.1 * t / 120
    columns = [
        np.round(bead_counts(celsius, bead) + NOISE * random.standard_normal(t.size))
        for bead in (BEAN, BEAN2)
    ]
    reference = celsius + 0.03 * random.standard_normal(t.size)
    lines = ["time_s,ch0,ch1,reference_degC"]
    for i, time in enumerate(t):
        read = f"{reference[i]:.2f}" if i % 25 == 0 else ""
        lines.append(f"{time:.1f},{columns[0][i]:.0f},{columns[1][i]:.0f},{read}")
    return "\n".join(lines) + "\n"


#: Every file made here.
FILES = {"damper-marks.csv": damper_marks, "bath.csv": bath, "rest.csv": rest}


if __name__ == "__main__":
    for name, make in FILES.items():
        (Path(sys.argv[1]) / name).write_text(make(), encoding="utf-8")
