"""Worked lines that multiply out as printed, each with as many digits as that needs."""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Callable
from typing import Any

import numpy as np

from ..error_types import JetRulerError
from ..numerics import Array
from .base_law import BaseLaw, as_array
from .reading import Step
from .units import USUAL_DIGITS, written_with

#: A float has no more digits than these.
MOST_DIGITS = 17


def digits_of(law: BaseLaw, back: bool, x: float) -> int:
    """Return how many significant digits the worked line of a law needs at x.

    With that many, the law computed from the numbers as they are printed gives the result to half a
    unit of its sixth digit, in the same zone, on the same side of every limit. back: the line of
    the inverse.
    """
    y, flags = _result(law, back, x)
    if not math.isfinite(x):
        return USUAL_DIGITS
    unit = 0.0
    if y and math.isfinite(y):
        unit = 10.0 ** (math.floor(math.log10(abs(y))) - USUAL_DIGITS + 1)
    for digits in range(USUAL_DIGITS, MOST_DIGITS):
        try:
            printed = _as_printed(law, digits)
            y_printed, flags_printed = _result(printed, back, _rounded(x, digits))
        except (JetRulerError, ValueError):  # such as points of a table that fall on one another
            continue
        both_none = math.isnan(y) and math.isnan(y_printed)
        if flags == flags_printed and (both_none or abs(y_printed - y) <= 0.5 * unit):
            return digits
    return USUAL_DIGITS  # no digits help: nothing but rounding is left of the result


def _result(law: BaseLaw, back: bool, x: float) -> tuple[float, int]:
    compute: Callable[[Array], Array] = law.inverse if back else law.forward
    with np.errstate(all="ignore"):
        flags = None if back else law.flags(as_array(x))
        return float(compute(as_array(x))[0]), 0 if flags is None else int(flags[0])


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
    return float(f"{value:.{digits}g}") if isinstance(value, float) else value


def steps_of(
    laws: tuple[BaseLaw, ...], units: tuple[str | None, ...], values: list[float], back: bool
) -> tuple[Step, ...]:
    """A worked line for each law that something comes to, all with the digits that the most
    delicate one needs."""
    pairs = list(zip(laws, values, strict=False))
    steps = []
    digits = max(digits_of(law, back, value) for law, value in pairs)
    for (law, value), result, unit in zip(pairs, values[1:], units, strict=False):
        with written_with(digits, unit), np.errstate(all="ignore"):
            line = law.inverse_formula(value) if back else law.formula(value)
        steps.append(Step(law.name, line, result, unit))
    return tuple(steps)
