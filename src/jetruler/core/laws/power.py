"""A power of the input."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from ..arrays import Array
from ..error_types import ParameterError
from ..model.fit_model import FitAsked, FitModel
from ..model.law import Law, Role, quiet
from ..model.text import bracketed, number
from .curve import Curve, above_zero, finite_or_nan
from .statements import constant, reject


@dataclass(frozen=True)
class PowerLaw(Curve):
    """y = a · (x − x0)^b + c, for x above x0: optical distance sensors, photoresistors.

    Parameters
    ----------
    a : float
        Factor; not 0.
    b : float
        Exponent; not 0.
    x0 : float, default 0.0
        Where the power starts.
    c : float, default 0.0
        What is added.
    unit : str, optional
        Unit out.
    takes : str, optional
        Unit in.

    Raises
    ------
    ParameterError
        For parameters that make no sense.

    Notes
    -----
    At or below x0 there is no value (at x0 itself there is one where b > 0).

    Source: the power law of sensor datasheets.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.PowerLaw(a=2, b=0.5)(9)
    6.0
    """

    a: float
    b: float
    x0: float = 0.0
    c: float = 0.0
    unit: str | None = None
    takes: str | None = None
    name: ClassVar[str] = "power"
    role: ClassVar[Role] = Role.CURVE
    unit_hints: ClassVar[Mapping[str, str | tuple[str, str]]] = {"x0": "takes", "c": "unit"}
    fitted_name: ClassVar[str] = "a power law"

    @classmethod
    def fit_model(cls, asked: FitAsked) -> FitModel:
        return PowerModel(asked)

    @classmethod
    def simpler_fits(cls, free: int) -> list[tuple[str, int | None]]:
        return [("line", None)]

    def check(self) -> Iterator[ParameterError]:
        for field in ("a", "b"):
            if getattr(self, field) == 0:
                yield ParameterError(field, 0, "a number other than 0 is right")

    @quiet
    def forward(self, x: Array) -> Array:
        return finite_or_nan(self.a * above_zero(x - self.x0) ** self.b + self.c)

    @quiet
    def inverse(self, y: Array) -> Array:
        return finite_or_nan(above_zero((y - self.c) / self.a) ** (1.0 / self.b) + self.x0)

    @quiet
    def slope(self, x: Array) -> Array:
        return finite_or_nan(self.a * self.b * above_zero(x - self.x0) ** (self.b - 1.0))

    def formula(self, x: float) -> str:
        base = f"({number(x)} − {bracketed(self.x0)})"
        numbers = f"{bracketed(self.a)} · {base}^{bracketed(self.b)} + {bracketed(self.c)}"
        return f"y = a · (x − x0)^b + c = {numbers} = {self._y(x)}"

    def inverse_formula(self, y: float) -> str:
        base = f"(({number(y)} − {bracketed(self.c)}) / {bracketed(self.a)})"
        numbers = f"{bracketed(self.x0)} + {base}^(1/{bracketed(self.b)})"
        return f"x = x0 + ((y − c) / a)^(1/b) = {numbers} = {self._x(y)}"

    def program(self) -> list[str] | None:
        base_text = f"(x - {constant(self.x0)})"
        out = [reject(f"x <= {constant(self.x0)}")]
        return [
            *out,
            f"x = {constant(self.a)} * {base_text} ** {constant(self.b)} + {constant(self.c)}",
        ]


class PowerModel(FitModel):
    """a · (x − x0)^b + c with x0 and c given."""

    def __init__(self, asked: FitAsked) -> None:
        self.asked, self.x0, self.c = asked, asked.fixed("x0", 0.0), asked.fixed("c", 0.0)
        self.sign = -1.0 if np.median(asked.y) < self.c else 1.0
        self.names, self.units = ("a", "b"), (None, None)
        with np.errstate(all="ignore"):
            self.middle = float(np.mean(np.log(asked.x - self.x0)))

    def refuse(self, asked: FitAsked, robust: bool) -> Iterator[tuple[tuple[int, ...], str]]:
        right = f"a power law needs what it is raised from above x0 = {number(self.x0)}"
        for i in np.flatnonzero(asked.x <= self.x0).tolist():
            yield (i,), f"x is {number(asked.x[i])}; {right}"

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
        a, b = values.tolist()
        return PowerLaw(a, b, self.x0, self.c, unit=self.asked.unit, takes=self.asked.takes)
