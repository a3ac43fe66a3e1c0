"""Laws of our own: a quarter bridge with a strain gauge in it, and the display of a scale."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from jetruler.own import (
    Array,
    FitInput,
    FitModel,
    Law,
    ParameterError,
    Role,
    Volts,
    constant,
    number,
    reject,
    shown,
)


@dataclass(frozen=True)
class Wheatstone(Law):
    """Volts of a quarter bridge to strain: e = 4 U / (k · (Us − 2 U)).

    supply: of the bridge in V. k: gauge factor, above 0. Raises `ParameterError`.
    Source: the unbalanced Wheatstone bridge with one active arm, without approximation.
    """

    supply: Volts
    k: float = 2.0
    name: ClassVar[str] = "wheatstone"
    role: ClassVar[Role] = Role.CURVE
    fitted_name: ClassVar[str] = "a quarter bridge"
    fit_takes: ClassVar[str | None] = "V"
    fit_gives: ClassVar[tuple[str, ...]] = ("strain",)

    @classmethod
    def fit_model(cls, asked: FitInput) -> FitModel:
        return BridgeModel(asked)

    @property
    def takes(self) -> str | None:
        return "V"

    @property
    def gives(self) -> str | None:
        return "strain"

    def check(self) -> Iterator[ParameterError]:
        for field in ("supply", "k"):
            if getattr(self, field) <= 0:
                yield ParameterError(field, getattr(self, field), "a value above 0")

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

    def program(self) -> list[str]:
        supply, k = constant(self.supply), constant(self.k)
        return [reject(f"2.0 * x >= {supply}"), f"x = 4.0 * x / ({k} * ({supply} - 2.0 * x))"]


class BridgeModel(FitModel):
    """The gauge factor from marks: e is straight in 1/k, and the supply stays."""

    names = ("k",)
    units = (None,)

    def __init__(self, asked: FitInput) -> None:
        self.supply = asked.fixed("supply", 3.3)

    def design(self, x: Array) -> Array:
        return (4 * x / (self.supply - 2 * x))[:, np.newaxis]

    def values(self, theta: Array) -> Array:
        return 1 / theta

    def values_slope(self, theta: Array) -> Array:
        return np.diag(-1 / theta**2)

    def law(self, values: Array) -> Law:
        return Wheatstone(self.supply, float(values[0]))


@dataclass(frozen=True)
class Display(Law):
    """The nearest step, as a shop's scale shows it: y = step · floor(x / step + 1/2).

    step: of the display, above 0. Raises `ParameterError`.
    Source: rounding half up to a multiple.
    """

    step: float
    name: ClassVar[str] = "display"
    role: ClassVar[Role] = Role.ROUND

    def check(self) -> Iterator[ParameterError]:
        if self.step <= 0:
            yield ParameterError("step", self.step, "a value above 0")

    @property
    def rounds_to(self) -> float:
        return self.step

    def forward(self, x: Array) -> Array:
        y: Array = self.step * np.floor(x / self.step + 0.5)
        return y

    def inverse(self, y: Array) -> Array:
        return y

    def slope(self, x: Array) -> Array:
        return np.ones_like(x)  # of the trend

    def formula(self, x: float) -> str:
        y = float(self.forward(np.array([x]))[0])
        return (
            f"y = {number(self.step)} · floor({number(x)} / {number(self.step)} + ½) = {number(y)}"
        )

    def inverse_formula(self, y: float) -> str:
        return f"any x nearest to {number(y)}, in the middle {number(y)}"

    def program(self) -> list[str]:
        return [f"x = {constant(self.step)} * floor(x / {constant(self.step)} + 0.5)"]
