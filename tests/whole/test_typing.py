"""What a type checker knows: the kind that comes in comes out. `make lint` checks it as well."""

from __future__ import annotations

from typing import assert_type

import numpy as np
import numpy.typing as npt
import pandas as pd

import jetruler as jr

RULER = jr.Counts(12) >> jr.Line(0.5)


def test_the_kind_that_comes_in_comes_out() -> None:
    assert assert_type(RULER(10), float) == 5.0
    counts: npt.NDArray[np.float64] = np.array([10.0])
    assert assert_type(RULER(counts), npt.NDArray[np.float64]).tolist() == [5.0]
    assert assert_type(RULER([10.0]), list[float]) == [5.0]
    assert assert_type(RULER(pd.Series([10.0])), "pd.Series[float]").tolist() == [5.0]
    assert assert_type(RULER.lookup(), dict[int, float])[10] == 5.0
