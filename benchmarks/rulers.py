"""Rulers in memory: the gather, the chain written by hand, one reading at a time."""

from __future__ import annotations

import math
import timeit
from collections.abc import Iterator
from typing import Any

import numpy as np
import numpy.typing as npt

from jetruler import Adc, Beta, Clamp, Divider, Input, Line, To
from jetruler.core.numerics import Array
from jetruler.core.ruler.converter import blocks

from .timing import Result, ratio

N = 10_000_000
VREF, TOP, KNOWN, R0, BETA, T0 = 3.3, 4095, 4700.0, 100e3, 3950.0, 298.15


def by_numpy(counts: npt.NDArray[Any]) -> Array:
    """The expression people write."""
    v = counts * VREF / TOP
    r = KNOWN * v / (VREF - v)
    celsius = 1 / (1 / T0 + np.log(r / R0) / BETA) - 273.15
    return np.clip(celsius * 1.8 + 32, 0, 500)


def level_by_numpy(cm: Array) -> Array:
    """The expression people write for the level of a tank."""
    return np.where((cm >= 1.95) & (cm <= 400.05), np.clip((14 - cm) * 10, 0, 100), np.nan)


def by_hand(n: int) -> float:
    """The function people write."""
    v = n * VREF / TOP
    r = KNOWN * v / (VREF - v)
    celsius = 1 / (1 / T0 + math.log(r / R0) / BETA) - 273.15
    return min(max(celsius * 1.8 + 32, 0), 500)


def results() -> Iterator[Result]:
    """Every figure of this room."""
    ruler = Adc(12, VREF) >> Divider(KNOWN) >> Beta(R0, BETA) >> To("degF") >> Clamp(0, 500)
    straight = Adc(12, VREF) >> Line(2)
    counts = np.random.RandomState(1).randint(1, TOP, N).astype(np.uint16)
    out, plain = np.empty(N), np.empty(N)
    table = ruler.direct(np.arange(TOP + 1))

    def take() -> None:
        for part in blocks(N):
            np.take(table, counts[part], out=plain[part], mode="clip")

    def read() -> None:
        ruler(counts, out=out)

    yield ratio("10 million counts: ruler / numpy.take over blocks", read, take, 1.5)
    yield ratio(
        "10 million counts: NumPy expression / ruler", lambda: by_numpy(counts), read, 10, True, 3
    )

    def read_straight() -> None:
        straight(counts, out=out)

    yield ratio("10 million counts: five laws / one line", read, read_straight, 1.1)
    averaged = counts + 0.25
    yield ratio(
        "10 million averaged counts (floats): five laws / NumPy expression",
        lambda: ruler(averaged),
        lambda: by_numpy(averaged),
        1.1,
        rounds=3,
    )
    echo = Input("cm", resolution=0.1, range=(2, 400)) >> Line.through((14, 0), (4, 100))
    tank = echo >> Clamp(0, 100)
    distances = np.random.RandomState(2).uniform(0, 410, N)
    yield ratio(
        "10 million distances (an input in cm): three laws / NumPy expression",
        lambda: tank(distances),
        lambda: level_by_numpy(distances),
        1.2,
        rounds=3,
    )
    one = timeit.Timer("f(1880)", globals={"f": ruler}).timeit
    hand = timeit.Timer("f(1880)", globals={"f": by_hand}).timeit
    yield ratio(
        "one count: ruler / plain Python with math.log",
        lambda: one(300_000),
        lambda: hand(300_000),
        0.5,
    )
    by_table = timeit.Timer("f[1880]", globals={"f": ruler.lookup()}).timeit
    yield ratio(
        "one count: lookup / plain Python with math.log",
        lambda: by_table(300_000),
        lambda: hand(300_000),
        0.1,
    )
