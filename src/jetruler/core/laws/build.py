"""Laws from plain tables of parameters, as they stand in a bench file: all errors at once."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from ..error_types import ParameterError, ParameterErrors, UnitError
from ..model.from_table import from_table, frozen
from ..model.law import Law, hint_unit, holds_numbers, is_numeric, parameters
from ..model.law_values import needs_unit, read_hinted, read_number, read_numbers
from ..model.text import nearest
from ..model.unit_registry import factor_and_offset
from . import law_named, law_names


def build_law(table: Mapping[str, Any]) -> Law:
    """The law that a table describes: its name under `law`, its parameters beside it.

    Texts are read as quantities in the unit that each parameter stands for; a plain number
    stands for the SI unit, but a temperature says its unit.
    Raises `ParameterErrors` with every error in the table.
    """
    name = table.get("law")
    try:
        law = law_named(str(name))
    except ParameterError as error:
        raise ParameterErrors([error]) from None
    except KeyError:
        right = nearest(str(name), law_names())
        right = right if name else "a law is named: " + ", ".join(law_names())
        raise ParameterErrors([ParameterError("law", name, right)]) from None
    given = {key: value for key, value in table.items() if key != "law"}
    try:
        given = read_hinted(law.unit_hints, given)
    except ParameterError as error:
        raise ParameterErrors([error]) from None
    hints = parameters(law)
    return from_table(
        law,
        given,
        str(name),
        read=lambda key, value: _read(key, value, hints.get(key, float)),
        open_ended=law.open_ended,
    )


def _read(key: str, value: Any, hint: Any) -> Any:
    """One parameter: quantities read, lists turned into tuples, the rest as it stands."""
    unit = hint_unit(hint)
    if isinstance(value, str) and is_numeric(hint):
        return read_number(key, value, unit)
    if isinstance(value, list) and holds_numbers(hint):
        return read_numbers(key, value, unit)
    if needs_unit(unit) and isinstance(value, int | float):
        raise ParameterError(key, value, f'a temperature says its unit, as in "{value} degC"')
    return frozen(value)


def taking(law: Law, unit: str) -> Law:
    """Return a law that takes another unit of the same kind: marks in metres, taken in centimetres.
    Raises `UnitError` for a unit of another kind."""
    size, offset = factor_and_offset(str(law.takes), unit)

    def restated(value: Any) -> Any:
        if isinstance(value, int | float) and not isinstance(value, bool):
            return float(f"{value * size + offset:.12g}")
        return tuple(map(restated, value)) if isinstance(value, tuple) else value

    field = "takes" if "takes" in parameters(type(law)) else "unit"
    if getattr(law, field, None) != law.takes:
        raise UnitError(f"{law.name} takes {law.takes} only")
    changed: dict[str, Any] = {field: unit}
    for key, sides in law.unit_hints.items():
        value = getattr(law, key)
        if sides == field:
            changed[key] = restated(value)
        elif value is not None and isinstance(sides, tuple) and "takes" in sides:
            raw = sides.index("takes")
            changed[key] = tuple(
                tuple(restated(v) if i == raw else v for i, v in enumerate(pair)) for pair in value
            )
    return replace(law, **changed)  # type: ignore[type-var]
