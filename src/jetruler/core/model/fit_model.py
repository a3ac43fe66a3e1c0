"""How a law is fitted: what it looks like to a regression, y = link(design(x) · θ + fixed(x)).

Every law that can be fitted is straight in some θ behind a link: a thermistor's 1/T over ln R, the
logarithm of a power law. θ starts from the straight problem; `calibrate` then finds the least
squares in the units of the result. Columns are centred, so that digits are kept.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from types import MappingProxyType

import numpy as np

from ..arrays import Array
from .law import Law

#: In the place of a parameter's unit: that of the law's result.
OF_RESULT = "result"


@dataclass(frozen=True, eq=False)
class FitAsked:
    """What a law is fitted to.

    Attributes
    ----------
    x, y : what the law takes and should give at each mark: shape (n,).
    unit : the law's unit out, as it says it; None where it keeps the one that comes in.
    takes : the law's unit in, where it says one.
    like : a law of the same kind whose fixed parameters stay.
    degree : of a polynomial.
    gain_stays : whether an offset alone is fitted.
    """

    x: Array
    y: Array
    unit: str | None = None
    takes: str | None = None
    like: Law | None = None
    degree: int | None = None
    gain_stays: bool = False

    def fixed(self, name: str, default: float) -> float:
        """Return a parameter that stays as it was."""
        value = getattr(self.like, name, None)
        return default if value is None else float(value)


class FitModel(ABC):
    """One kind of law with its free parameters."""

    #: Names of the free parameters, as the law spells them, and their units.
    names: tuple[str, ...]
    units: tuple[str | None, ...]

    @property
    def paths(self) -> tuple[str, ...]:
        """Where the law has them: `coefficients[2]` is a number in a list, counted from 1."""
        return self.names

    #: Parameters that may be missing, and the value that each then has.
    neutral: Mapping[str, float] = MappingProxyType({})

    #: What to mind about any fit of this model.
    notes: tuple[str, ...] = ()

    def refuse(self, asked: FitAsked, robust: bool) -> Iterator[tuple[tuple[int, ...], str]]:
        """Yield marks (by their places) that the law cannot have, and why."""
        yield from ()

    @abstractmethod
    def design(self, x: Array) -> Array:
        """Return the columns over x: shape (n, p)."""

    def fixed(self, x: Array) -> Array:
        """Return what stands beside the columns without a parameter."""
        return np.zeros_like(x)

    def link(self, eta: Array) -> Array:
        """Return the law's result for a value of the straight side."""
        return eta

    def link_slope(self, eta: Array) -> Array:
        """Return the derivative of the link."""
        return np.ones_like(eta)

    def unlink(self, y: Array) -> Array:
        """Return the straight side of a result; NaN where no parameters give it."""
        return y

    @abstractmethod
    def values(self, theta: Array) -> Array:
        """Return the law's parameters for θ."""

    @abstractmethod
    def values_slope(self, theta: Array) -> Array:
        """Return their derivatives: shape (p, p), a row for each parameter."""

    @abstractmethod
    def law(self, values: Array) -> Law:
        """Return the law with these parameters. Raises `ParameterError` if they make no sense."""

    def exact(self, asked: FitAsked) -> Law | None:
        """Return the law that is exact at all marks, where there is a better way to write it."""
        return None
