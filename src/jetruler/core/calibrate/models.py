"""What each fitted law looks like to a regression: y = link(design(x) · θ + fixed(x)).

Every law here is straight in some θ behind a link: a thermistor's 1/T over ln R, the logarithm of
a power law. θ starts from the straight problem; `regression` then finds the least squares in the
units of the result. Columns are centred, so that digits are kept.
"""

from __future__ import annotations

from abc import ABC, abstractmethod

import numpy as np

from ..arrays import Array
from ..laws.temperature import from_kelvin, to_kelvin
from ..model.law import Law


class FitModel(ABC):
    """One kind of law with its free parameters."""

    #: Names of the free parameters, as the law spells them, and their units.
    names: tuple[str, ...]
    units: tuple[str | None, ...]

    @abstractmethod
    def design(self, x: Array) -> Array:
        """The columns over x: shape (n, p)."""

    def fixed(self, x: Array) -> Array:
        """What stands beside the columns without a parameter."""
        return np.zeros_like(x)

    def link(self, eta: Array) -> Array:
        """From the straight side to the law's result."""
        return eta

    def link_slope(self, eta: Array) -> Array:
        """The derivative of the link."""
        return np.ones_like(eta)

    def unlink(self, y: Array) -> Array:
        """From a result back to the straight side; NaN where no parameters give it."""
        return y

    @abstractmethod
    def values(self, theta: Array) -> Array:
        """The law's parameters of θ."""

    @abstractmethod
    def values_slope(self, theta: Array) -> Array:
        """Their derivatives: shape (p, p), a row a parameter."""

    @abstractmethod
    def law(self, values: Array) -> Law:
        """The law with these parameters. Raises `ParameterError` for those that make no sense."""


class PolynomialModel(FitModel):
    """c0 + c1 x + …; of the first degree it is a line."""

    def __init__(self, x: Array, degree: int, unit: str | None, takes: str | None) -> None:
        self.degree, self.unit, self.takes = degree, unit, takes
        self.middle = 0.5 * float(x.min() + x.max())
        self.half = 0.5 * float(np.ptp(x)) or 1.0
        self.names = (
            ("offset", "gain") if degree == 1 else tuple(f"c{i}" for i in range(degree + 1))
        )
        self.units = (None,) * (degree + 1)
        # Column k: the powers of x in ((x − middle) / half)^k.
        self.to_powers = np.zeros((degree + 1, degree + 1))
        for k in range(degree + 1):
            power = np.polynomial.polynomial.polypow([-self.middle / self.half, 1 / self.half], k)
            self.to_powers[: k + 1, k] = power

    def design(self, x: Array) -> Array:
        return np.vander((x - self.middle) / self.half, self.degree + 1, increasing=True)

    def values(self, theta: Array) -> Array:
        return self.to_powers @ theta

    def values_slope(self, theta: Array) -> Array:
        return self.to_powers

    def law(self, values: Array) -> Law:
        from ..laws.curve import Polynomial
        from ..laws.linear import Line

        if self.degree == 1:
            offset, gain = values.tolist()
            return Line(gain, offset, unit=self.unit, takes=self.takes)
        return Polynomial(tuple(values.tolist()), unit=self.unit, takes=self.takes)


class OffsetModel(FitModel):
    """gain · x + offset with a gain that is given."""

    def __init__(self, gain: float, unit: str | None, takes: str | None) -> None:
        self.gain, self.unit, self.takes = gain, unit, takes
        self.names, self.units = ("offset",), (None,)

    def design(self, x: Array) -> Array:
        return np.ones((x.size, 1))

    def fixed(self, x: Array) -> Array:
        return self.gain * x

    def values(self, theta: Array) -> Array:
        return theta

    def values_slope(self, theta: Array) -> Array:
        return np.eye(1)

    def law(self, values: Array) -> Law:
        from ..laws.linear import Line

        return Line(self.gain, float(values[0]), unit=self.unit, takes=self.takes)


class PowerModel(FitModel):
    """a · (x − x0)^b + c with x0 and c given."""

    def __init__(
        self, x: Array, x0: float, c: float, negative: bool, unit: str | None, takes: str | None
    ) -> None:
        self.x0, self.c, self.sign, self.unit, self.takes = (
            x0,
            c,
            -1.0 if negative else 1.0,
            unit,
            takes,
        )
        self.names, self.units = ("a", "b"), (None, None)
        with np.errstate(all="ignore"):
            self.middle = float(np.mean(np.log(x - x0)))

    def design(self, x: Array) -> Array:
        return np.stack([np.ones_like(x), np.log(x - self.x0) - self.middle], axis=1)

    def link(self, eta: Array) -> Array:
        return self.c + self.sign * np.exp(eta)

    def link_slope(self, eta: Array) -> Array:
        return self.sign * np.exp(eta)

    def unlink(self, y: Array) -> Array:
        return np.log(self.sign * (y - self.c))

    def values(self, theta: Array) -> Array:
        return np.array([self.sign * np.exp(theta[0] - theta[1] * self.middle), theta[1]])

    def values_slope(self, theta: Array) -> Array:
        a = self.values(theta)[0]
        return np.array([[a, -a * self.middle], [0.0, 1.0]])

    def law(self, values: Array) -> Law:
        from ..laws.power import PowerLaw

        a, b = values.tolist()
        return PowerLaw(a, b, self.x0, self.c, self.unit, self.takes)


class ThermistorModel(FitModel):
    """1/T over ln R; x is in Ω, the result in a temperature scale."""

    def __init__(self, scale: str) -> None:
        self.scale = scale
        self.degrees = 1.8 if scale == "degF" else 1.0

    def link(self, eta: Array) -> Array:
        return from_kelvin(1.0 / eta, self.scale)

    def link_slope(self, eta: Array) -> Array:
        return -self.degrees / eta**2

    def unlink(self, y: Array) -> Array:
        return 1.0 / to_kelvin(y, self.scale)


class BetaModel(ThermistorModel):
    """1/T = A + B · (ln R − middle), told as r0 at a given t0 and beta = 1/B."""

    def __init__(self, x: Array, t0: float, scale: str) -> None:
        super().__init__(scale)
        self.t0 = float(t0)
        self.names, self.units = ("r0", "beta"), ("ohm", "K")
        self.middle = float(np.mean(np.log(x)))

    def design(self, x: Array) -> Array:
        return np.stack([np.ones_like(x), np.log(x) - self.middle], axis=1)

    def values(self, theta: Array) -> Array:
        level, slope = theta
        return np.array([np.exp(self.middle + (1 / self.t0 - level) / slope), 1 / slope])

    def values_slope(self, theta: Array) -> Array:
        level, slope = theta
        r0 = self.values(theta)[0]
        return np.array(
            [[-r0 / slope, -r0 * (1 / self.t0 - level) / slope**2], [0.0, -1 / slope**2]]
        )

    def law(self, values: Array) -> Law:
        from ..laws.thermistor import Beta

        r0, beta = values.tolist()
        return Beta(r0, beta, self.t0, self.scale)  # type: ignore[arg-type]


class SteinhartHartModel(ThermistorModel):
    """1/T = a + b ln R + c (ln R)³; with `c` given, a and b only."""

    def __init__(self, scale: str, c: float | None = None) -> None:
        super().__init__(scale)
        self.c = c
        self.names = ("a", "b") if c is not None else ("a", "b", "c")
        self.units = ("1/K",) * len(self.names)

    def design(self, x: Array) -> Array:
        log = np.log(x)
        powers = (0, 1) if self.c is not None else (0, 1, 3)
        return np.stack([log**power for power in powers], axis=1)

    def fixed(self, x: Array) -> Array:
        return np.zeros_like(x) if self.c is None else self.c * np.log(x) ** 3

    def values(self, theta: Array) -> Array:
        return theta

    def values_slope(self, theta: Array) -> Array:
        return np.eye(theta.size)

    def law(self, values: Array) -> Law:
        from ..laws.thermistor import SteinhartHart

        a, b, *c = values.tolist()
        return SteinhartHart(a, b, c[0] if c else float(self.c or 0.0), self.scale)  # type: ignore[arg-type]
