"""From one unit to another of the same kind, through Pint."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from ..arrays import Array
from ..error_types import ParameterError, UnitError
from ..model.law import Law, Role, unit_fields
from ..model.text import finer, number, shown
from ..model.unit_registry import factor_and_offset, is_unit
from ..model.units import symbol
from .statements import constant


@dataclass(frozen=True)
class To(Law):
    """The same quantity in another unit: `To("degF")`, `To("mA")`, `To("psi")`.

    Parameters
    ----------
    unit : str
        Unit out.
    source : str, optional
        Unit in; a ruler fills it in from the law before.

    Raises
    ------
    ParameterError
        For a unit that nobody knows and, when the ruler is made.
    UnitError
        For one of another kind.

    Notes
    -----
    Conversions are exact fractions, rounded once.

    Source: Pint's unit registry.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.To("degF", "degC")(100)
    212.0
    """

    unit: str
    source: str | None = None
    name: ClassVar[str] = "to"
    role: ClassVar[Role] = Role.UNIT

    def __post_init__(self) -> None:
        unit_fields(self, "unit", "source")
        super().__post_init__()

    def check(self) -> Iterator[ParameterError]:
        for field in ("unit", "source"):
            value = getattr(self, field)
            if value is not None and not is_unit(value):
                yield ParameterError(field, value, "a unit is right, as in degF, mA or psi")

    @property
    def takes(self) -> str | None:
        return self.source

    @property
    def gives(self) -> str | None:
        return self.unit

    def with_input(self, unit: str | None) -> Law:
        if unit is None and self.source is None:
            raise UnitError(f"to {symbol(self.unit)}: the unit before it is not known; say source")
        if self.source is None:
            factor_and_offset(str(unit), self.unit)
            return replace(self, source=unit)
        return self

    def _line(self) -> tuple[float, float]:
        return factor_and_offset(self.source or self.unit, self.unit)

    def forward(self, x: Array) -> Array:
        factor, offset = self._line()
        return x * factor + offset

    def inverse(self, y: Array) -> Array:
        factor, offset = factor_and_offset(self.unit, self.source or self.unit)
        return y * factor + offset

    def slope(self, x: Array) -> Array:
        return np.full_like(x, self._line()[0])

    def formula(self, x: float) -> str:
        return self._worked(x, self.source, self.unit)

    def inverse_formula(self, y: float) -> str:
        return self._worked(y, self.unit, self.source)

    @staticmethod
    def _worked(x: float, source: str | None, unit: str | None) -> str:
        factor, offset = factor_and_offset(source or "", unit or "")
        result = x * factor + offset
        line = f"{shown(x, source)} = {number(x)} · "
        if not offset:
            return f"{line}{finer(factor, 10)} = {shown(result, unit)}"
        steep = abs(offset / result) if result else 1.0  # two large terms, a small difference
        sign, size = ("−", -offset) if offset < 0 else ("+", offset)
        line += f"{finer(factor, 10 * steep)} {sign} {finer(size, steep)}"
        return f"{line} = {shown(result, unit)}"

    def program(self) -> list[str] | None:
        factor, offset = self._line()
        return [f"x = x * {constant(factor)} + {constant(offset)}"]
