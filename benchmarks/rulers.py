"""Rulers in memory: the gather, the chain written by hand, one reading at a time."""

from __future__ import annotations

import math
import timeit
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from jetruler import Adc, Law
from jetruler.core.arrays import Array
from jetruler.core.lookup import blocks

from .timing import Result, ratio

N = 10_000_000
VREF, TOP, KNOWN, R0, BETA, T0 = 3.3, 4095, 4700.0, 100e3, 3950.0, 298.15


@dataclass(frozen=True)
class Thermistor(Law):
    """Stand-in for a divider and a Beta law, until there are such laws."""

    def forward(self, x: Array) -> Array:
        r = KNOWN * x / (VREF - x)
        return 1 / (1 / T0 + np.log(r / R0) / BETA) - 273.15

    def inverse(self, y: Array) -> Array:
        raise NotImplementedError

    def slope(self, x: Array) -> Array:
        raise NotImplementedError

    def formula(self, x: float) -> str:
        return ""

    def inverse_formula(self, y: float) -> str:
        return ""


def by_numpy(counts: npt.NDArray[Any]) -> Array:
    """The expression people write."""
    v = counts * VREF / TOP
    r = KNOWN * v / (VREF - v)
    return 1 / (1 / T0 + np.log(r / R0) / BETA) - 273.15


def by_hand(n: int) -> float:
    """The function people write."""
    v = n * VREF / TOP
    r = KNOWN * v / (VREF - v)
    return 1 / (1 / T0 + math.log(r / R0) / BETA) - 273.15


def results() -> Iterator[Result]:
    """Every figure of this room."""
    ruler = Adc(12, VREF) >> Thermistor()
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
        "10 million counts: NumPy expression / ruler", lambda: by_numpy(counts), read, 8, True, 3
    )
    one = timeit.Timer("f(1880)", globals={"f": ruler}).timeit
    hand = timeit.Timer("f(1880)", globals={"f": by_hand}).timeit
    yield ratio(
        "one count: ruler / plain Python with math.log",
        lambda: one(300_000),
        lambda: hand(300_000),
        0.5,
    )
