"""Laws from plain tables of parameters, as they stand in a bench file: all mistakes at once."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping
from typing import Any

from ..errors import Mistakes, ParameterError, QuantityError
from ..quantity import quantity, unit_of
from ..text import nearest
from ..units import TEMPERATURES
from . import law_named, law_names
from .base import Law, hint_unit, is_numeric, parameters


def build_law(table: Mapping[str, Any]) -> Law:
    """The law that a table describes: its name under `law`, its parameters beside it.

    Texts are read as quantities in the unit that each parameter stands for; a plain number
    stands for the SI unit, but a temperature says its unit.
    Raises `Mistakes` with every mistake in the table.
    """
    name = table.get("law")
    if not isinstance(name, str) or name not in law_names():
        right = nearest(str(name), law_names())
        right = right if name else "a law is named: " + ", ".join(law_names())
        raise Mistakes([ParameterError("law", name, right)])
    law = law_named(name)
    given = {key: value for key, value in table.items() if key != "law"}
    known = parameters(law)
    mistakes = [
        ParameterError(key, given[key], f"unknown for {name}; {nearest(key, known)}")
        for key in given
        if key not in known
    ]
    values: dict[str, Any] = {}
    for key, hint in known.items():
        if key in given:
            try:
                values[key] = _read(key, given[key], hint)
            except ParameterError as mistake:
                mistakes.append(mistake)
        elif _required(law, key):
            mistakes.append(ParameterError(key, None, f"{name} needs it"))
    if mistakes:
        raise Mistakes(mistakes)
    values = _marks_with_units(values)
    return _made(law, values)


def _made(law: type[Law], values: dict[str, Any]) -> Law:
    try:
        return law(**values)
    except ParameterError:
        # Construction stops at the first mistake; ask an unfinished law for all of them.
        draft = object.__new__(law)
        for field in dataclasses.fields(law):  # type: ignore[arg-type]
            object.__setattr__(draft, field.name, values.get(field.name, field.default))
        raise Mistakes(draft.mistakes()) from None


def _required(law: type[Law], key: str) -> bool:
    field = next(f for f in dataclasses.fields(law) if f.name == key)  # type: ignore[arg-type]
    missing = dataclasses.MISSING
    return field.default is missing and field.default_factory is missing


def _read(key: str, value: Any, hint: Any) -> Any:
    """One parameter: quantities read, lists turned into tuples, the rest as it stands."""
    unit = hint_unit(hint)
    if isinstance(value, str) and is_numeric(hint):
        try:
            return quantity(value, unit.symbol if unit else None)
        except QuantityError as error:
            raise ParameterError(key, value, str(error)) from None
    if unit and unit.symbol in TEMPERATURES and isinstance(value, int | float):
        raise ParameterError(key, value, f'a temperature says its unit, as in "{value} degC"')
    if isinstance(value, list):
        return tuple(_read(key, item, hint) if isinstance(item, list) else item for item in value)
    return value


def _marks_with_units(values: dict[str, Any]) -> dict[str, Any]:
    """Marks may be quantities: `[["0.5 V", 0], ["4.5 V", "10 bar"]]` then tells both units."""
    marks = values.get("marks")
    pairs = isinstance(marks, tuple) and all(isinstance(m, tuple) for m in marks)
    if marks is None or not (
        pairs and any(isinstance(number, str) for mark in marks for number in mark)
    ):
        return values
    found: dict[str, str] = {}
    read = []
    for mark in marks:
        pair = []
        for number, side in zip(mark, ("takes", "unit"), strict=False):
            if isinstance(number, str):
                try:
                    unit = unit_of(number)
                    if unit is not None:
                        found.setdefault(side, values.get(side) or unit)
                    number = quantity(number, found.get(side, unit))
                except QuantityError as error:
                    raise Mistakes([ParameterError("marks", number, str(error))]) from None
            pair.append(number)
        read.append(tuple(pair))
    return values | found | {"marks": tuple(read)}
