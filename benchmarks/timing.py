"""Timing two ways of doing the same in turn, so that a machine that drifts drifts for both."""

from __future__ import annotations

import math
import os
import statistics
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class Result:
    """One figure: a ratio (or a size) and what it should at most, or at least, be."""

    name: str
    value: float
    spread: tuple[float, float]
    wanted: float
    at_least: bool = False
    unit: str = "×"

    @property
    def reached(self) -> bool:
        """Whether the figure is as wanted."""
        return self.value >= self.wanted if self.at_least else self.value <= self.wanted

    def __str__(self) -> str:
        sign = "≥" if self.at_least else "≤"
        low, high = self.spread
        wanted = f"   wanted {sign} {self.wanted:g}" if math.isfinite(self.wanted) else ""
        verdict = "" if self.reached else "   NOT REACHED"
        return (
            f"{self.name:<72} {self.value:8.2f} {self.unit:<2} ({low:.2f} … {high:.2f})"
            f"{wanted}{verdict}"
        )


def seconds(work: Callable[[], object]) -> float:
    """The time one call takes."""
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


def ratio(
    name: str,
    top: Callable[[], object],
    bottom: Callable[[], object],
    wanted: float,
    at_least: bool = False,
    rounds: int = 7,
    warm: bool = True,
) -> Result:
    """Median of top/bottom over rounds in turn; warm: after one round that does not count."""
    if warm:
        top()
        bottom()
    found = sorted(seconds(top) / seconds(bottom) for _ in range(rounds))
    return Result(name, statistics.median(found), (found[0], found[-1]), wanted, at_least)


def measured(name: str, value: float, wanted: float, unit: str = "×") -> Result:
    """One figure that was measured once and should not be more than wanted."""
    return Result(name, value, (value, value), wanted, unit=unit)


def process(*args: str) -> Callable[[], object]:
    """A whole process, its output thrown away; with compiled bytecode, as an installed one has."""
    usual = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}
    return lambda: subprocess.run(args, check=True, capture_output=True, env=usual)


def python(code: str) -> Callable[[], object]:
    """A Python process that runs some code."""
    return process(sys.executable, "-c", code)
