"""Laws one behind another: how they are joined where their units fit, and evaluated on numbers of
any kind."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial, wraps
from typing import Any, TypeVar, cast

import numpy as np

from ..containers import lazily, to_array
from ..error_types import UnitError
from ..numerics import Array
from .base_law import BaseLaw, Role
from .quantity import magnitude
from .rounding import guard
from .units import TEMPERATURES, factor_and_offset, is_writing, symbol
from .worked import line_of

L = TypeVar("L", bound=BaseLaw)


def slope_of(laws: Sequence[BaseLaw], joints: list[Array]) -> Array:
    """The slope of laws in a row, by the chain rule, where this comes to each; of those that
    round, their trend's."""
    with np.errstate(all="ignore"):
        slope = np.ones_like(joints[0])
        for law, x in zip(laws, joints, strict=False):
            slope *= law.slope(x)
    return slope


def each_number(x: Any, compute: Callable[[Array], Array]) -> Any:
    """Apply to a contiguous float64 copy of x, without warnings, and give the same type."""
    if (later := lazily(x, partial(each_number, compute=compute))) is not None:
        return later
    numbers, like = to_array(x)
    with np.errstate(all="ignore"):
        result = compute(np.array(numbers, dtype=np.float64, order="C", ndmin=1))
    return like(result.reshape(numbers.shape))


def cleared(value: float, size: float) -> float:
    """Nothing, where only rounding is left of a difference of numbers of this size."""
    return 0.0 if abs(value) <= guard(0.0, size) else value


def one_number(compute: Callable[[Array], Array], x: float) -> float:
    """The result of one number."""
    return cast(float, each_number(x, compute))


def kept_unit(unit: str | None, law: BaseLaw) -> str | None:
    """The unit behind a law that names none: that before it, but for counts on which a curve
    is, whose values are no counts any more."""
    curve = unit == "count" and law.role is Role.CURVE
    return None if curve and float(law.slope(np.zeros(1))[0]) != 1.0 else unit


def meet(gives: str, takes: str | None) -> bool:
    """Whether two units differ in size only: mV and V, A and mA."""
    try:
        return takes is not None and factor_and_offset(gives, takes)[1] == 0.0
    except UnitError:
        return False


def misfit(before: BaseLaw, law: BaseLaw, gives: str | None, takes: str | None) -> str:
    """A sentence on a law that does not take what the law before it gives."""
    after = f"{law.name}, which follows it, takes {symbol(takes)}"
    text = f"{before.name} gives {symbol(gives)}, but {after}"
    if gives in TEMPERATURES and takes in TEMPERATURES:
        return f"{text}; a law `to` with unit {takes!r} between them converts"
    return text


def joined(
    laws: Sequence[L], between: Callable[[str, str], L]
) -> tuple[tuple[L, ...], tuple[str | None, ...]]:
    """The laws as they are beside one another, and the unit at every joint. between: makes the
    law that converts to a unit from one of another size."""
    if not laws:
        raise UnitError("a ruler needs at least one law")
    settled: list[L] = []
    units: list[str | None] = [laws[0].takes]
    for law in laws:
        if settled and law.takes not in (None, units[-1]):
            settled[-1] = cast(L, settled[-1].with_output(law.takes))
            units[-1] = settled[-1].gives or settled[-1].takes or units[-2]
        law = cast(L, law.with_input(units[-1]))
        before = units[-1]
        if before is not None and law.takes not in (None, before):
            if not meet(before, law.takes):
                raise UnitError(misfit(settled[-1], law, before, law.takes))
            settled.append(between(str(law.takes), before))
            units.append(law.takes)
        settled.append(law)
        units.append(law.gives or law.takes or kept_unit(units[-1], law))
    return tuple(settled), tuple(units)


def of_any_numbers(method: Callable[..., Array]) -> Callable[..., Any]:
    """A method of float64 arrays, for whatever a ruler takes: numbers, lists, integers, Series."""

    @wraps(method)
    def of_any(self: BaseLaw, x: Any) -> Any:
        if x.__class__ is np.ndarray and x.dtype == np.float64 and x.ndim:
            return method(self, x)
        unit = self.gives if method.__name__ == "inverse" else self.takes
        values, like = to_array(magnitude(x, unit))
        flat = np.asarray(values, np.float64).reshape(-1)
        with np.errstate(all="ignore"):
            return like(method(self, flat).reshape(values.shape))

    return of_any


def alone(method: Callable[..., str], back: bool) -> Callable[..., str]:
    """A worked line that chooses its own digits, where nobody has."""

    @wraps(method)
    def line(self: BaseLaw, x: float) -> str:
        return method(self, x) if is_writing() else line_of(self, float(x), back)

    return line
