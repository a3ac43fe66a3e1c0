"""`propagate`: the scatter of raw readings into that of the result."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..bench.channel import Channel, ruler_of
from ..error_types import ParameterError
from ..numerics import coverage_factor
from ..result import Result, refuses
from ..ruler.ruler import Law, Ruler
from ..ruler.units import rounded, symbol, with_uncertainty


@dataclass(frozen=True, eq=False, repr=False)
class Propagated(Result):
    """What many raw readings become behind a ruler.

    Attributes
    ----------
    mean : float
        Mean of the results.
    standard_deviation : float
        Standard deviation of single results.
    standard_uncertainty : float
        Standard uncertainty of their mean, as far as the scatter tells it.
    unit : str | None
        Unit of all three.
    order : int
        1 or 2, the order of the propagation.

    Examples
    --------
    >>> import jetruler as jr
    >>> print(jr.propagate(jr.Adc(12, 4.095) >> jr.Line(1000), mean=100, std=3, n=9).headline)
    single readings 100.0 V, standard deviation 3.0 V; their mean (100.0 ± 2.0) V at 95 %
    """

    mean: float
    """Mean of the results."""
    standard_deviation: float
    """Standard deviation of single results."""
    standard_uncertainty: float
    """Standard uncertainty of their mean, as far as the scatter tells it."""
    unit: str | None
    """Unit of all three."""
    order: int
    """1 or 2, the order of the propagation."""

    @property
    def headline(self) -> str:
        mean, deviation = rounded(self.mean, self.standard_deviation)
        unit = f" {symbol(self.unit)}" if self.unit else ""
        half_width = coverage_factor(math.inf) * self.standard_uncertainty
        return (
            f"single readings {mean}{unit}, standard deviation {deviation}{unit}; their mean "
            f"{with_uncertainty(self.mean, half_width, self.unit)} at 95 %"
        )

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        return {
            "mean": [self.mean],
            "standard deviation": [self.standard_deviation],
            "standard uncertainty": [self.standard_uncertainty],
            "unit": [self.unit],
        }


@refuses
def propagate(
    what: Ruler | Law | Channel, mean: float, std: float, n: int = 1, *, order: int = 2
) -> Propagated:
    """What raw readings of a mean and a standard deviation become behind a ruler.

    Parameters
    ----------
    what : Ruler | Law | Channel
        A ruler, one law, or a channel.
    mean : float
        Mean of the raw readings.
    std : float
        Standard deviation of the raw readings.
    n : int, default 1
        How many readings.
    order : int, default 2
        1 takes the standard deviation times the slope; 2 (the default) the bend too, which
        shifts the mean by f″·std²/2, for normal readings.

    Returns
    -------
    Propagated
        Mean and standard deviation of the results.

    Raises
    ------
    ParameterError
        For parameters that make no sense.

    Notes
    -----
    Source: JCGM 100:2008, 5.1.2 and the note there on higher orders.

    Examples
    --------
    >>> import jetruler as jr
    >>> found = jr.propagate(jr.Adc(12, 4.095) >> jr.Line(1000), mean=100, std=3, n=9)
    >>> round(found.standard_uncertainty, 6)
    1.0
    """
    ruler = ruler_of(what)
    if order not in (1, 2):
        raise ParameterError("order", order, "1 or 2")
    if not (std >= 0 and math.isfinite(std)):
        raise ParameterError("std", std, "0 or more")
    if n < 1:
        raise ParameterError("n", n, "1 reading or more")
    middle, slope = float(ruler.direct(mean)), float(ruler.slope(mean))
    if order == 1 or std == 0:
        deviation = abs(slope) * std
        return Propagated(middle, deviation, deviation / math.sqrt(n), ruler.gives, order)
    step = 1e-2 * std
    low, high = np.asarray(ruler.slope(np.array([mean - step, mean + step]))).tolist()
    bend = (high - low) / (2 * step)
    variance = (slope * std) ** 2 + 0.5 * (bend * std**2) ** 2
    deviation = math.sqrt(variance)
    return Propagated(
        middle + 0.5 * bend * std**2, deviation, deviation / math.sqrt(n), ruler.gives, order
    )
