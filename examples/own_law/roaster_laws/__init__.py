"""A law of our own: the balance of a quarter bridge with a hopper's strain gauge in it."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from jetruler import Law, ParameterError
from jetruler.core.arrays import Array
from jetruler.core.model.law import Volts
from jetruler.core.model.text import number, shown


@dataclass(frozen=True)
class Wheatstone(Law):
    """Volts of a quarter bridge to strain: e = 4 U / (k · (Us − 2 U)).

    supply: of the bridge in V. k: gauge factor, above 0. Raises `ParameterError`.
    Source: the unbalanced Wheatstone bridge with one active arm, without approximation.
    """

    supply: Volts
    k: float = 2.0
    name: ClassVar[str] = "wheatstone"

    @property
    def takes(self) -> str | None:
        return "V"

    @property
    def gives(self) -> str | None:
        return "strain"

    def check(self) -> Iterator[ParameterError]:
        for field in ("supply", "k"):
            if getattr(self, field) <= 0:
                yield ParameterError(field, getattr(self, field), "a value above 0 is right")

    def forward(self, x: Array) -> Array:
        strain: Array = 4 * x / (self.k * (self.supply - 2 * x))
        return np.where(2 * x < self.supply, strain, np.nan)

    def inverse(self, y: Array) -> Array:
        volts: Array = self.supply * self.k * y / (4 + 2 * self.k * y)
        return volts

    def slope(self, x: Array) -> Array:
        slope: Array = 4 * self.supply / (self.k * (self.supply - 2 * x) ** 2)
        return slope

    def formula(self, x: float) -> str:
        y = float(self.forward(np.array([x]))[0])
        numbers = (
            f"4 · {shown(x, 'V')} / ({number(self.k)} · ({number(self.supply)} − 2 · {number(x)}))"
        )
        return f"e = 4 U / (k · (Us − 2 U)) = {numbers} = {number(y)}"

    def inverse_formula(self, y: float) -> str:
        x = float(self.inverse(np.array([y]))[0])
        return f"U = Us · k · e / (4 + 2 k e) = {shown(x, 'V')}"
