"""`propagate`: the scatter of raw readings into that of the result; and values that a reading may
represent, drawn through the real chain, parameters and all."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..bench.channel import Channel, ruler_of
from ..error_types import ParameterError
from ..numerics import ROUNDING, Array, coverage_factor
from ..result import Result, refuses
from ..ruler.quantity import Toleranced
from ..ruler.ruler import Law, Ruler
from ..ruler.units import rounded, symbol, with_uncertainty
from .contributions import (
    Conditions,
    UncertainParameter,
    fitted_parameters,
    groups,
    resolution_of,
    toleranced,
    with_value,
)


class Varied:
    """A ruler whose parameters are drawn again for every value."""

    def __init__(self, ruler: Ruler, given: Conditions) -> None:
        self.ruler, self.given = ruler, given
        self.parameters: list[list[UncertainParameter]] = [[] for _ in ruler.laws]
        for parameter in toleranced(ruler) if not given.calibrated else ():
            self.parameters[parameter.law].append(parameter)
        if given.fit is not None:
            fitted = fitted_parameters(ruler, given.fit)
            self.parameters[fitted[0].law] = fitted
        self.groups = groups(ruler, given) if not given.calibrated else []
        self.rounded = [law.rounds_to for law in ruler.laws]
        self.at_once: dict[int, bool] = {}

    def draw(self, random: np.random.Generator, at: float, n: int) -> Array:
        """n values that a reading of `at` may represent."""
        x = self._raw(random, at, n)
        together = self._together(random, n)
        with np.errstate(all="ignore"):
            for i, law in enumerate(self.ruler.laws):
                if resolution := self.rounded[
                    i
                ]:  # what was rounded away: anything within half a resolution
                    x = x + resolution * random.uniform(-0.5, 0.5, n)
                elif self.parameters[i]:
                    drawn = self._drawn(random, self.parameters[i], n, together)
                    x = self._through(i, law, drawn, x)
                else:
                    x = law.forward(x)
        if self.given.calibration:
            x = x + self.given.calibration * random.standard_normal(n)
        return x

    def _together(self, random: np.random.Generator, n: int) -> dict[str, Array]:
        """Values of the parameters that are off together, by name: normal variables with their
        correlation, taken through the distribution of each."""
        from scipy.special import ndtr

        found = {}
        for group, correlation in self.groups:
            # Even variables are as correlated as asked if normal ones are by 2 sin(πr/6).
            own = 2 * np.sin(np.pi * correlation.matrix / 6)
            even = all(p.value.k is None for p in group)
            values, ways = np.linalg.eigh(own if even else correlation.matrix)
            root = ways * np.sqrt(np.maximum(values, 0.0))
            for p, z in zip(group, root @ random.standard_normal((len(group), n)), strict=True):
                if p.value.k is None:
                    found[p.name] = float(p.value) + p.value.half_width * (2 * ndtr(z) - 1)
                else:
                    found[p.name] = float(p.value) + p.value.standard * z
        return found

    def _drawn(
        self,
        random: np.random.Generator,
        parameters: list[UncertainParameter],
        n: int,
        together: dict[str, Array],
    ) -> list[Array]:
        """Values of a law's parameters: together for those of a fit, else each by itself."""
        fit = self.given.fit
        if fit is None:
            return [
                together[p.name] if p.name in together else _drawn(random, p.value, n)
                for p in parameters
            ]
        # Scaled to a diagonal of 1 first, since the parameters' sizes may be far apart.
        size = np.array([p.value.standard or 1.0 for p in parameters])
        own, axes = np.linalg.eigh(np.array(fit.covariance) / np.outer(size, size))
        steps = axes * np.sqrt(np.maximum(own, 0.0)) @ random.standard_normal((len(size), n))
        if math.isfinite(fit.dof):
            steps *= np.sqrt(fit.dof / random.chisquare(fit.dof, n))
        return [float(p.value) + s * row for p, s, row in zip(parameters, size, steps, strict=True)]

    def _raw(self, random: np.random.Generator, at: float, n: int) -> Array:
        given = self.given
        lasting, dithered = given.roundings(resolution_of(self.ruler))
        x: Array = random.uniform(-0.5, 0.5, n)
        x *= lasting / ROUNDING
        x += at
        variance = given.noise**2 / given.readings + dithered**2
        if variance:
            known = math.isinf(given.dof)
            noise = random.standard_normal(n) if known else random.standard_t(given.dof, n)
            noise *= math.sqrt(variance)
            x += noise
        edge = self.ruler.edge
        for error in edge.own_errors if edge is not None and not given.calibrated else ():
            if error.half_width:
                off = random.uniform(-error.half_width, error.half_width, n)
                x += off * at if error.grows else off
        return x

    def _through(self, i: int, law: Law, drawn: list[Array], x: Array) -> Array:
        """A law with its own parameters for every value: at once where its formula takes arrays,
        else (a table) one value after another."""
        if i not in self.at_once:
            self.at_once[i] = _takes_arrays(law, self.parameters[i], drawn, x)
        if self.at_once[i]:
            return _with_values(law, self.parameters[i], drawn).forward(x)
        return _one_by_one(law, self.parameters[i], drawn, x)

    @property
    def slow(self) -> bool:
        """Whether a law computes one draw after another."""
        return not all(self.at_once.values())


def _drawn(random: np.random.Generator, value: Toleranced, n: int) -> Array:
    """A toleranced number, n times."""
    if value.k is None:
        return random.uniform(float(value) - value.half_width, float(value) + value.half_width, n)
    return random.normal(float(value), value.standard, n)


def _takes_arrays(
    law: Law, parameters: list[UncertainParameter], drawn: list[Array], x: Array
) -> bool:
    """Whether a law computes with an array for a parameter as it does with each of its numbers."""
    few = [values[:8] for values in drawn]
    try:
        found = _with_values(law, parameters, few).forward(x[:8])
    except Exception:  # whatever a law makes of an array that it did not expect
        return False
    each = _one_by_one(law, parameters, few, x[:8])
    return found.shape == each.shape and bool(np.allclose(found, each, rtol=1e-9, equal_nan=True))


def _with_values(law: Law, parameters: list[UncertainParameter], values: list[Any]) -> Law:
    for parameter, value in zip(parameters, values, strict=True):
        law = with_value(law, parameter, value)
    return law


def _one_by_one(
    law: Law, parameters: list[UncertainParameter], drawn: list[Array], x: Array
) -> Array:
    each = zip(x, *drawn, strict=True)
    laws = ((at, _with_values(law, parameters, list(map(float, values)))) for at, *values in each)
    return np.array([one.forward(np.array([at]))[0] for at, one in laws])


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
