"""The toleranced parameters of a ruler's laws, and the laws with other values in their place."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..arrays import Array
from ..model.fit_covariance import FitCovariance, number_in, path_of
from ..model.law import Law, hint_unit, parameters
from ..model.quantity import Toleranced
from ..model.ruler import Ruler


@dataclass(frozen=True)
class UncertainParameter:
    """A parameter that carries a tolerance: which law's, which field, where inside a list, and
    what people call it: `r0 of beta`, `marks[1][2] of line`."""

    law: int
    field: str
    inside: tuple[int, ...]
    value: Toleranced
    unit: str | None
    name: str


def toleranced(ruler: Ruler) -> list[UncertainParameter]:
    """Every toleranced parameter of a ruler, law by law."""
    found = []
    for i, law in enumerate(ruler.laws):
        hints = parameters(type(law))
        for field in dataclasses.fields(law):  # type: ignore[arg-type]
            unit = hint_unit(hints[field.name])
            for inside, value in _within(getattr(law, field.name)):
                symbol = None if unit is None else unit.symbol
                name = f"{_called(law, field.name, inside)} of {law.name}"
                found.append(
                    UncertainParameter(
                        i, field.name, inside=inside, value=value, unit=symbol, name=name
                    )
                )
    return found


def fitted_parameters(ruler: Ruler, fit: FitCovariance) -> list[UncertainParameter]:
    """The parameters of a fit in a channel's ruler."""
    place, found = fit.place(ruler.laws), []
    for name in fit.parameters:
        field, inside = path_of(name)
        value = Toleranced(
            float(number_in(ruler.laws[place], field, inside)), fit.standard(name), 1.0
        )
        called = f"{name} of {fit.law}"
        found.append(
            UncertainParameter(place, field, inside=inside, value=value, unit=None, name=called)
        )
    return found


def _called(law: Law, field: str, inside: tuple[int, ...]) -> str:
    """A field and the place in it; a constant of a formula by its own name."""
    if field == law.open_ended:
        return str(getattr(law, field)[inside[0]][0])
    return field + "".join(f"[{i + 1}]" for i in inside)


def _within(
    value: Any, inside: tuple[int, ...] = ()
) -> Iterator[tuple[tuple[int, ...], Toleranced]]:
    if isinstance(value, Toleranced):
        yield inside, value
    elif isinstance(value, tuple):
        for i, part in enumerate(value):
            yield from _within(part, (*inside, i))


def with_value(law: Law, parameter: UncertainParameter, value: Any) -> Law:
    """The law with another value (or an array of values) for a parameter, unchecked: a budget may
    move a parameter to where nobody would build it."""
    draft = object.__new__(type(law))
    for field in dataclasses.fields(law):  # type: ignore[arg-type]
        object.__setattr__(draft, field.name, getattr(law, field.name))
    old = getattr(law, parameter.field)
    object.__setattr__(draft, parameter.field, _replaced(old, parameter.inside, value))
    return draft


def _replaced(old: Any, inside: tuple[int, ...], value: Any) -> Any:
    if not inside:
        return value
    parts = list(old)
    parts[inside[0]] = _replaced(parts[inside[0]], inside[1:], value)
    return tuple(parts)


def through(laws: tuple[Law, ...], x: Array) -> Array:
    """x through laws, without warnings."""
    with np.errstate(all="ignore"):
        for law in laws:
            x = law.forward(x)
    return x


#: Step of a difference quotient, as a fraction of the tolerance: the curve hardly bends in it.
_STEP = 1e-3


def sensitivity(ruler: Ruler, parameter: UncertainParameter, x: Array) -> Array:
    """Units of the result per unit of a parameter, at every x: a central difference quotient."""
    law, rest = ruler.laws[parameter.law], ruler.laws[parameter.law + 1 :]
    before = through(ruler.laws[: parameter.law], x)
    step = _STEP * parameter.value.half_width or 1e-6 * abs(parameter.value) or 1e-6
    low, high = float(parameter.value) - step, float(parameter.value) + step
    ends = [through((with_value(law, parameter, end), *rest), before) for end in (low, high)]
    quotient: Array = (ends[1] - ends[0]) / (high - low)
    return quotient
