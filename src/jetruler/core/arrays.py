"""Names for the arrays that flow through the laws, and what is asked of any of them.

The names are for type checkers only: importing NumPy's typing costs a command more than many a
conversion."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import NDArray

    Array = NDArray[np.float64]
    FlagArray = NDArray[np.uint8]
    Numbers = NDArray[np.number[Any]]
    AnyArray = NDArray[Any]
    Truths = NDArray[np.bool_]
else:
    Array = FlagArray = Numbers = AnyArray = Truths = np.ndarray

__all__ = ["AnyArray", "Array", "FlagArray", "Numbers", "Truths", "steps_of"]


def steps_of(times: Array, before: float | None = None) -> Array:
    """The steps between times; infinite between two misread ones too far apart for a float.
    before: the time before the first, whose step is then the first."""
    with np.errstate(over="ignore", invalid="ignore"):
        steps: Array = np.diff(times) if before is None else np.diff(times, prepend=before)
    return steps
