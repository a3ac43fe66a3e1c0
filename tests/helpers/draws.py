"""Draws through the textbook formulas, written here without the laws."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np


def drawn_through(
    name: str, raw: Any, even: Callable[[float], Any], random: np.random.RandomState
) -> Any:
    """What raw counts of a 12-bit converter on 3.3 V become behind the channels bean, rail and
    pin."""
    fraction = raw / 4095
    if name == "bean":  # 4.7 kΩ above a thermistor of 100 kΩ, Beta 3950
        ohms = 4700 * fraction / (1 - fraction)
        return 1 / (1 / 298.15 + np.log(ohms / 100e3) / 3950) - 273.15
    volts = fraction * (3.3 + even(0.033))
    if name == "rail":
        # Normal variables of the correlation 2 sin(0.9 π/6) are even ones of 0.9.
        r = 2 * np.sin(0.9 * np.pi / 6)
        a, b = random.standard_normal((2, raw.size))
        b = r * a + np.sqrt(1 - r**2) * b
        rank = [np.argsort(np.argsort(z)) / raw.size * 2 - 1 for z in (a, b)]
        upper, lower = 33e3 + 330 * rank[0], 10e3 + 100 * rank[1]
        return volts * (upper + lower) / lower
    return (10e3 + even(100.0)) * fraction / (1 - fraction)  # supply and reference are one
