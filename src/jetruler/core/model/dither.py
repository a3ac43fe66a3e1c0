"""What rounding to steps does to the mean of noisy readings, exactly. All in steps.

A reading of level u is round(u + σZ), with Z normal. Its mean is off by a staircase seen through
the noise, which no number of readings averages out; its variance is averaged.
"""

from __future__ import annotations

import math

import numpy as np

from ..arrays import Array

#: Standard uncertainty of a rounding to whole steps: every error within half a step as likely.
ROUNDING = 1 / math.sqrt(12)
#: From so much noise on, nothing is left of the staircase: e^(−2π²σ²)/π < 1e-13.
SMOOTH = 1.25


def lasting_rounding(noise: float) -> float:
    """Root mean square of what averaging cannot take away, over all levels.
    Source: the staircase's Fourier series through Gaussian noise, Σ e^(−4π²k²σ²)/(2π²k²)."""
    if noise < 0.1:  # where many harmonics count, the sum is this but for e^(−1/(4σ²))
        return math.sqrt(ROUNDING**2 - noise / math.sqrt(math.pi) + noise**2)
    k = np.arange(1, 30)
    squares = np.exp(-4 * (math.pi * k * noise) ** 2) / (2 * (math.pi * k) ** 2)
    return math.sqrt(float(squares.sum()))


def rounded_readings(noise: float) -> tuple[Array, Array]:
    """How far the mean of a reading is off, and its variance, at levels from 0 to half a step."""
    # Close to half a step, where a reading flips between two steps, the levels lie close.
    level = 0.5 - np.concatenate((np.geomspace(0.5, 1e-4, 400), [0.0]))
    if noise == 0:
        return level, np.zeros_like(level)
    if noise >= SMOOTH:
        return np.zeros_like(level), np.full_like(level, noise**2 + ROUNDING**2)
    reach = math.ceil(9 * noise) + 1
    steps = np.arange(-reach, reach + 1)
    edges = (np.arange(-reach, reach + 2) - 0.5 - level[:, None]) / noise
    below = 0.5 * (1.0 + np.vectorize(math.erf)(edges / math.sqrt(2.0)))
    chance = np.diff(below, axis=1)
    mean = chance @ steps
    return mean - level, chance @ steps**2 - mean**2
