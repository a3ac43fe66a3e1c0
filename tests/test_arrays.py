"""What our array helpers share with NumPy's."""

from __future__ import annotations

import warnings

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from jetruler.core.arrays import AnyArray, Distinct, median

VALUES = st.sampled_from([-np.inf, -1.5, -0.0, 0.0, 1.0, 1e300, np.inf, np.nan])


@given(
    arrays(np.float64, st.integers(0, 40), elements=VALUES)
    | arrays(np.int64, st.integers(0, 40), elements=st.integers(-3, 3))
)
def test_different_values_are_numpys(values: AnyArray) -> None:
    wanted, first, which, often = np.unique(
        values, return_index=True, return_inverse=True, return_counts=True
    )
    found = Distinct(values)
    for ours, numpys in (
        (found.values, wanted),
        (found.first, first),
        (found.which, which),
        (found.often, often),
    ):
        np.testing.assert_array_equal(ours, numpys)


@given(arrays(np.float64, st.integers(0, 20), elements=VALUES | st.floats(-1e6, 1e6)))
def test_the_median_is_numpys(values: AnyArray) -> None:
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        wanted = np.median(values)
    assert median(values) == wanted or (np.isnan(wanted) and np.isnan(median(values)))
