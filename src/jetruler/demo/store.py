"""The made-up green-bean store: five minutes at 2 Hz, four columns of no counts, one of counts.

`python -m jetruler.demo.store > store.csv` writes the bundled log again, byte for byte. The
physics here is written out on its own, as that of the roast is.
"""

from __future__ import annotations

import sys

import numpy as np

from .generate import TOP, Array

SEED = 20_261_126
SECONDS, RATE_HZ = 300, 2
#: A silo 90 cm deep, its echo sensor 8 cm above the brim; 62 kg of beans fill it.
DEPTH_CM, ABOVE_CM, FULL_G = 90.0, 8.0, 62_000.0
DRAWN_S = (60.0, 210.0)
"""While beans are drawn, 120 g a second, and the conveyor shakes."""
NO_ECHO_S = (140.0, 142.0)
"""While dust swallows the echo: the sensor then reads its largest distance."""
FARTHEST_CM = 250.0


def grams(t: Array) -> Array:
    """What is left in the silo."""
    drawn = np.clip(t, *DRAWN_S) - DRAWN_S[0]
    left: Array = 48_000.0 - 120.0 * drawn
    return left


def as_csv() -> str:
    """The log as the lab box wrote it."""
    random = np.random.RandomState(SEED)  # its stream is frozen for good
    t = np.arange(SECONDS * RATE_HZ) / RATE_HZ
    left, runs = grams(t), (t >= DRAWN_S[0]) & (t < DRAWN_S[1])
    scale = np.round((left + 12 * random.standard_normal(t.size)) / 5) * 5
    echo = ABOVE_CM + DEPTH_CM * (1 - left / FULL_G) + 0.15 * random.standard_normal(t.size)
    echo = np.round(echo * 5) / 5
    echo[(t >= NO_ECHO_S[0]) & (t < NO_ECHO_S[1])] = FARTHEST_CM
    supply = 5.02 - 0.31 * runs + 0.002 * random.standard_normal(t.size)
    shake = runs * 6.5 * np.sin(2 * np.pi * 0.07 * t) + 0.05 * random.standard_normal(t.size)
    warmth = 14.0 + 9.0 * np.sin(t / 130)
    ohms = 100e3 * np.exp(3950 * (1 / (warmth + 273.15) - 1 / 298.15))
    counts = TOP * ohms / (ohms + 100e3) + 1.4 * random.standard_normal(t.size)
    lines = ["time_s,scale_g,echo_cm,supply_V,shake,ch0"]
    for i, time in enumerate(t):
        cells = f"{scale[i]:.0f},{echo[i]:.1f},{supply[i]:.3f},{shake[i] + 0.0:.2f},{counts[i]:.0f}"
        lines.append(f"{time:.1f},{cells}".replace("-0.00", "0.00"))
    return "\n".join(lines) + "\n"


FILES = {"store.csv": as_csv}


if __name__ == "__main__":
    sys.stdout.write(as_csv())
