"""Worked lines that multiply out as printed, each with as many digits as that needs."""

from __future__ import annotations

import dataclasses
import math
from typing import Any

import numpy as np

from ..error_types import JetRulerError
from .base_law import BaseLaw, Role, as_array
from .reading import Step
from .units import USUAL_DIGITS, number, printed_as, written_with

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
