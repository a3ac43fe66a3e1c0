"""Smoothing: time a sample, and the running median against SciPy's."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

import numpy as np
from scipy.ndimage import median_filter

from jetruler import Smoothing, smooth

from .timing import Result, ratio, seconds

N = 4_000_000


def results() -> Iterator[Result]:
    """Every figure of this room."""
    counts = np.random.RandomState(3).randint(0, 4096, N).astype(np.float64)
    for kind, over in (("mean", 16), ("exponential", 16)):
        smoothing = Smoothing(kind, over)  # type: ignore[arg-type]
        times = sorted(seconds(partial(smooth, counts, smoothing)) / N * 1e9 for _ in range(7))
        name = f"running {kind} over {over}"
        yield Result(name, times[3], (times[0], times[-1]), 20, unit="ns")
    median = Smoothing("median", 5)
    yield ratio(
        "running median over 5 / SciPy's median filter",
        lambda: smooth(counts, median),
        lambda: median_filter(counts, 5),
        3,
    )
