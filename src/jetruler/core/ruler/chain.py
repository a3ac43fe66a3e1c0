"""Laws one behind another: how they are joined where their units fit, and evaluated on numbers of
any kind; and their worked lines, which multiply out as printed."""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Callable, Sequence
from functools import partial, wraps
from typing import Any, TypeVar, cast

import numpy as np

from ..containers import lazily, to_array
from ..error_types import JetRulerError, UnitError
from ..numerics import Array
from .base_law import BaseLaw, Role, as_array
from .quantity import magnitude
from .reading import Step
from .rounding import guard
from .units import (
    TEMPERATURES,
    USUAL_DIGITS,
    factor_and_offset,
    is_writing,
    number,
    printed_as,
    symbol,
    written_with,
)

#: A float has no more digits than these.
MOST_DIGITS = 17


def steps_of(
    laws: tuple[BaseLaw, ...], units: tuple[str | None, ...], values: list[float], back: bool
) -> tuple[Step, ...]:
    """A worked line for each law that something comes to.

    Each is computed from the numbers as they are printed, as a hand would do it, and its printed
    result goes into the next. All have as many digits as the end needs to be right in its sixth,
    in the same zone and on the same side of every limit.

    Parameters
    ----------
    values : what comes to each law, and the result.
    """
    laws = laws[: len(values) - 1]
    for digits in range(USUAL_DIGITS, MOST_DIGITS + 1):
        try:
            lines, printed = _lines(laws, units, values[0], back, digits)
        except (JetRulerError, ValueError):  # such as points of a table that fall on one another
            continue
        if _agree(laws, values, printed, back):
            break
    else:
        lines, _ = _lines(laws, units, values[0], back, None)
    steps = zip(laws, lines, values[1:], units, strict=False)
    return tuple(Step(law.name, line, result, unit) for law, line, result, unit in steps)


def line_of(law: BaseLaw, x: float, back: bool) -> str:
    """The worked line of one law by itself, with as many digits as it needs."""
    with np.errstate(all="ignore"):
        y = float((law.inverse if back else law.forward)(as_array(x))[0])
    return steps_of((law,), (None,), [x, y], back)[0].line


def _lines(
    laws: tuple[BaseLaw, ...],
    units: tuple[str | None, ...],
    x: float,
    back: bool,
    digits: int | None,
) -> tuple[list[str], list[float]]:
    """The lines with this many digits, and the numbers between them; all digits for none."""
    lines: list[str] = []
    numbers = [x if digits is None else _rounded(x, digits)]
    # What only holds a result in its range repeats it: nothing more is computed from it.
    last = max((i for i, law in enumerate(laws) if back or law.role is not Role.HOLD), default=0)
    for law, unit in zip(laws, units, strict=False):
        one = law if digits is None else _as_printed(law, digits)
        end = USUAL_DIGITS if len(lines) >= last else None
        with written_with(digits or MOST_DIGITS, unit, end), np.errstate(all="ignore"):
            lines.append(one.inverse_formula(numbers[-1]) if back else one.formula(numbers[-1]))
            result = one.worked_result(numbers[-1], back)
        with written_with(end or digits or MOST_DIGITS):
            numbers.append(result if digits is None else printed_as(result))
    return lines, numbers


def _agree(
    laws: tuple[BaseLaw, ...], values: list[float], printed: list[float], back: bool
) -> bool:
    """Whether the printed numbers are those of the calculation: half a unit of the sixth digit on
    the way, the same six digits at the end, the same flags."""
    for law, x, y in zip(laws, values, printed, strict=False):
        if not back and _flags(law, x) != _flags(law, y):
            return False
    for true, found in zip(values, printed, strict=True):
        if math.isnan(true) != math.isnan(found):
            return False
        if math.isfinite(true) and abs(found - true) > _sixth(true):
            return False
    return number(values[-1]) == number(printed[-1])


def _sixth(x: float) -> float:
    """A unit of the sixth digit."""
    return 10.0 ** (math.floor(math.log10(abs(x))) - USUAL_DIGITS + 1) if x else 0.0


def _flags(law: BaseLaw, x: float) -> int:
    with np.errstate(all="ignore"):
        flags = law.flags(as_array(x))
    return 0 if flags is None else int(flags[0])


def _as_printed(law: BaseLaw, digits: int) -> BaseLaw:
    fields = {f.name: getattr(law, f.name) for f in dataclasses.fields(law) if f.init}  # type: ignore[arg-type]
    rounded = {name: _rounded(value, digits) for name, value in fields.items()}
    if rounded == fields:
        return law
    printed = object.__new__(type(law))  # as a law may take its parameters in its own way
    for name, value in rounded.items():
        object.__setattr__(printed, name, value)
    printed.__post_init__()
    return printed


def _rounded(value: Any, digits: int) -> Any:
    if isinstance(value, tuple):
        return tuple(_rounded(one, digits) for one in value)
    if not isinstance(value, float) or not math.isfinite(value):
        return value
    with written_with(digits):
        return printed_as(value)


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
