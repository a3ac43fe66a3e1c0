"""Rows that say what must come out: a raw value, the value or command expected, and a tolerance."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from ..error_types import JetRulerError, ParameterError
from ..ruler.quantity import amount

#: What represents "no value comes out": a fault, or a value outside `expect`.
NO_VALUE = "none"


@dataclass(frozen=True)
class ExpectedRow:
    """What must come out of a raw value.

    raw: a count, or a text with a unit, as `explain --at` takes it; for a drive that follows a
    trip, 0 or 1. value: a number, a zone's label, or "none". within: the largest error; half of
    the last digit that the value is written with if left out.
    """

    raw: float | str
    value: float | str
    within: float = 0.0


def expected_rows(rows: Any, unit: str | None) -> tuple[ExpectedRow, ...]:
    """Rows `[raw, value]` or `[raw, value, tolerance]`. unit: of the values.
    Raises `ParameterError`."""
    found = []
    for i, row in enumerate(rows, start=1):
        if isinstance(row, ExpectedRow):
            found.append(row)
            continue
        good = isinstance(row, Sequence) and not isinstance(row, str) and len(row) in (2, 3)
        if not good or not all(_is_given(part) for part in row):
            expected = "[raw, value] or [raw, value, tolerance]"
            raise ParameterError(f"expected[{i}]", row, expected)
        raw, value, *rest = row
        if isinstance(value, str):
            value = _value(value, unit)
        within = abs(float(amount("expected", rest[0], unit, difference=True))) if rest else None
        found.append(ExpectedRow(raw, value, _half_a_digit(value) if within is None else within))
    return tuple(found)


def _is_given(part: Any) -> bool:
    number = isinstance(part, int | float) and not isinstance(part, bool) and math.isfinite(part)
    return number or isinstance(part, str)


def _value(text: str, unit: str | None) -> float | str:
    """A number with the unit, or else a label."""
    try:
        return float(amount("expected", text, unit))
    except (JetRulerError, ValueError):
        return text


def _half_a_digit(value: float | str) -> float:
    if isinstance(value, str):
        return 0.0
    places = -int(Decimal(repr(float(value))).normalize().as_tuple().exponent)
    return 0.5 * 10.0 ** -max(places, 0)
