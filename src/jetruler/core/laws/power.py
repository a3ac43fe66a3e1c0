"""A power of the input."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import ClassVar

from ..arrays import Array
from ..errors import ParameterError
from ..model.law import Role, quiet
from ..model.text import bracketed, number
from .curve import Curve, above_zero, finite_or_nan
from .statements import constant, reject


@dataclass(frozen=True)
class PowerLaw(Curve):
    """y = a · (x − x0)^b + c, for x above x0: optical distance sensors, photoresistors.

    a, b: not 0. x0: where the power starts. c: what is added. unit: unit out. takes: unit in.
    At or below x0 there is no value (at x0 itself there is one where b > 0).
    Raises `ParameterError`. Source: the power law of sensor datasheets.

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
