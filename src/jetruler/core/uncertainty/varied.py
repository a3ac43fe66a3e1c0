"""A ruler whose parameters are drawn anew for every value."""

from __future__ import annotations

import math

import numpy as np

from ..arrays import Array
from ..model.dither import ROUNDING, lasting_rounding
from ..model.law import Law
from ..model.quantity import Toleranced
from ..model.ruler import Ruler
from .contributions import Conditions, resolution_of
from .parameters import UncertainParameter, fitted_parameters, toleranced, with_value


class Varied:
    """A ruler whose parameters are drawn anew for every value."""

    def __init__(self, ruler: Ruler, given: Conditions) -> None:
        self.ruler, self.given = ruler, given
        self.parameters: list[list[UncertainParameter]] = [[] for _ in ruler.laws]
        for parameter in toleranced(ruler) if not given.calibrated else ():
            self.parameters[parameter.law].append(parameter)
        if given.fit is not None:
            fitted = fitted_parameters(ruler, given.fit)
            self.parameters[fitted[0].law] = fitted
        self.rounded = [law.rounds_to for law in ruler.laws]
        self.straight: dict[int, bool] = {}

    def draw(self, random: np.random.Generator, at: float, n: int) -> Array:
        """n values that a reading of `at` may stand for."""
        x = self._raw(random, at, n)
        with np.errstate(all="ignore"):
            for i, law in enumerate(self.ruler.laws):
                if resolution := self.rounded[
                    i
                ]:  # what was rounded away: anything within half a resolution
                    x = x + resolution * random.uniform(-0.5, 0.5, n)
                elif self.parameters[i]:
                    drawn = self._drawn(random, self.parameters[i], n)
                    x = self._through(i, law, drawn, x)
                else:
                    x = law.forward(x)
        if self.given.calibration:
            x = x + self.given.calibration * random.standard_normal(n)
        return x

    def _drawn(
        self, random: np.random.Generator, parameters: list[UncertainParameter], n: int
    ) -> list[Array]:
        """Values of a law's parameters: together for those of a fit, else each by itself."""
        fit = self.given.fit
        if fit is None:
            return [_drawn(random, p.value, n) for p in parameters]
        # Scaled to a diagonal of 1 first, since the parameters' sizes may be far apart.
        size = np.array([p.value.standard or 1.0 for p in parameters])
        own, axes = np.linalg.eigh(np.array(fit.covariance) / np.outer(size, size))
        steps = axes * np.sqrt(np.maximum(own, 0.0)) @ random.standard_normal((len(size), n))
        if math.isfinite(fit.degrees):
            steps *= np.sqrt(fit.degrees / random.chisquare(fit.degrees, n))
        return [float(p.value) + s * row for p, s, row in zip(parameters, size, steps, strict=True)]

    def _raw(self, random: np.random.Generator, at: float, n: int) -> Array:
        given = self.given
        averaged = given.readings != 1
        resolution = resolution_of(self.ruler)
        lasting = (
            lasting_rounding(given.noise / resolution) if averaged and resolution else ROUNDING
        )
        x: Array = random.uniform(-0.5, 0.5, n)
        x *= resolution * lasting / ROUNDING
        x += at
        variance = given.noise**2
        if averaged:
            variance += resolution**2 * max(0.0, ROUNDING**2 - lasting**2)
        if variance:
            known = math.isinf(given.degrees)
            noise = random.standard_normal(n) if known else random.standard_t(given.degrees, n)
            noise *= math.sqrt(variance / given.readings)
            x += noise
        error = self.ruler.edge.half_width if self.ruler.edge is not None else 0.0
        if error and not given.calibrated:
            x += random.uniform(-error, error, n)
        return x

    def _through(self, i: int, law: Law, drawn: list[Array], x: Array) -> Array:
        """A law with its own parameters for every value: at once where its formula allows it,
        else by a parabola through each parameter's ends."""
        if i not in self.straight:
            self.straight[i] = _takes_arrays(law, self.parameters[i], drawn, x)
        if self.straight[i]:
            for parameter, values in zip(self.parameters[i], drawn, strict=True):
                law = with_value(law, parameter, values)
            return law.forward(x)
        y = middle = law.forward(x)
        for parameter, values in zip(self.parameters[i], drawn, strict=True):
            half_width = parameter.value.half_width or 1.0
            ends = [with_value(law, parameter, parameter.value + s * half_width) for s in (-1, 1)]
            low, high = (end.forward(x) for end in ends)
            t = (values - float(parameter.value)) / half_width
            y = y + 0.5 * t * (high - low) + 0.5 * t**2 * (high - 2 * middle + low)
        return y


def _drawn(random: np.random.Generator, value: Toleranced, n: int) -> Array:
    """A toleranced number, n times."""
    if value.k is None:
        return random.uniform(float(value) - value.half_width, float(value) + value.half_width, n)
    return random.normal(float(value), value.standard, n)


def _takes_arrays(
    law: Law, parameters: list[UncertainParameter], drawn: list[Array], x: Array
) -> bool:
    """Whether a law computes with an array for a parameter as it does with each of its numbers."""
    few = slice(0, 8)
    try:
        whole = law
        for parameter, values in zip(parameters, drawn, strict=True):
            whole = with_value(whole, parameter, values[few])
        found = whole.forward(x[few])
        for i in range(x[few].size):
            one = law
            for parameter, values in zip(parameters, drawn, strict=True):
                one = with_value(one, parameter, float(values[i]))
            if not np.allclose(one.forward(x[i : i + 1]), found[i], rtol=1e-9, equal_nan=True):
                return False
    except Exception:  # whatever a law makes of an array that it did not expect
        return False
    return bool(found.shape == x[few].shape)
