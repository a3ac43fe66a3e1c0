"""Names for the arrays that flow through the laws, and what is asked of any of them.

The names are for type checkers only: importing NumPy's typing costs a command more than many a
conversion."""

from __future__ import annotations

import math
from collections.abc import Sequence
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

__all__ = ["AnyArray", "Array", "Distinct", "FlagArray", "Numbers", "Truths", "median", "steps_of"]


def steps_of(times: Array, before: float | None = None) -> Array:
    """The steps between times; infinite between two misread ones too far apart for a float.
    before: the time before the first, whose step is then the first."""
    with np.errstate(over="ignore", invalid="ignore"):
        steps: Array = np.diff(times) if before is None else np.diff(times, prepend=before)
    return steps


class Distinct:
    """Each different value of some, once and in order, and where it stands; NaN is one value.

    What `numpy.unique` does, which loads NumPy's masked arrays for it: 20 ms of a short command.
    """

    def __init__(self, values: AnyArray) -> None:
        flat = np.ravel(np.asarray(values))
        self._order = np.argsort(flat)
        ordered = flat[self._order]
        new = np.ones(flat.size, np.bool_)
        np.not_equal(ordered[1:], ordered[:-1], out=new[1:])
        if flat.dtype.kind == "f":  # NaN is unlike itself, and sorted to the end
            new[1:] &= ~np.isnan(ordered[:-1])
        self._new, self._starts = new, np.flatnonzero(new)
        self.values: AnyArray = ordered[self._starts]

    @property
    def first(self) -> AnyArray:
        """Where each comes up first."""
        return np.minimum.reduceat(self._order, self._starts) if self._starts.size else self._starts

    @property
    def which(self) -> AnyArray:
        """For each of the given, the place of its value among the different ones."""
        places = np.empty(self._order.size, np.intp)
        places[self._order] = np.cumsum(self._new) - 1
        return places

    @property
    def often(self) -> AnyArray:
        """How often each comes up."""
        return np.diff(self._starts, append=self._order.size)


def median(values: AnyArray | Sequence[float]) -> float:
    """The value in the middle, NaN if one is NaN. As `numpy.median`, without the masked arrays."""
    flat = np.array(values, np.float64).ravel()
    if not flat.size or np.isnan(flat).any():
        return math.nan
    low, high = (flat.size - 1) // 2, flat.size // 2
    flat.partition((low, high))
    return float(flat[low] if low == high else (flat[low] + flat[high]) / 2.0)
