"""Dataclasses from plain tables, as they stand in a bench file: all errors at once."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Iterable, Mapping
from typing import Any, TypeVar

from ..error_types import ParameterError, ParameterErrors
from .text import nearest

Made = TypeVar("Made")


def frozen(value: Any) -> Any:
    """Return lists as tuples, at every depth."""
    return tuple(map(frozen, value)) if isinstance(value, list) else value


def from_table(
    kind: type[Made],
    table: Mapping[str, Any],
    noun: str,
    *,
    read: Callable[[str, Any], Any] = lambda key, value: frozen(value),
    given: Mapping[str, Any] | None = None,
    open_ended: str | None = None,
) -> Made:
    """Return the object that a table describes.

    Parameters
    ----------
    kind : dataclass whose method `errors` yields what is wrong with its fields.
    table : values by the names of its fields.
    noun : what messages call it.
    read : makes a field's value of a table's; raises `ParameterError`.
    given : values that do not stand in the table.
    open_ended : field that takes all other names of the table, as pairs.

    Raises
    ------
    ParameterErrors : with every error in the table.
    """
    values = dict(given or {})
    fields = {f.name: f for f in dataclasses.fields(kind) if f.init}  # type: ignore[arg-type]
    known = [name for name in fields if name not in values and name != open_ended]
    other = [key for key in table if key not in known]
    errors = []
    if not open_ended:
        errors = [_unknown(key, table[key], noun, known) for key in other]
        other = []
    for name in [*known, *other]:
        if name in table:
            try:
                values[name] = read(name, table[name])
            except ParameterError as error:
                errors.append(error)
        elif _is_required(fields[name]):
            errors.append(ParameterError(name, None, f"{noun} needs it"))
    if errors:
        raise ParameterErrors(errors)
    try:
        return kind(**values)
    except ParameterError:
        raise ParameterErrors(_all_errors(kind, values, open_ended)) from None


def _unknown(key: str, value: Any, noun: str, known: Iterable[str]) -> ParameterError:
    return ParameterError(key, value, f"unknown for {noun}; {nearest(key, known)}")


def _is_required(field: dataclasses.Field[Any]) -> bool:
    missing = dataclasses.MISSING
    return field.default is missing and field.default_factory is missing


def _all_errors(
    kind: type[Made], values: Mapping[str, Any], open_ended: str | None
) -> list[ParameterError]:
    """Construction stops at the first error; an unfinished object is asked for all of them."""
    draft: Any = object.__new__(kind)
    fields = dataclasses.fields(kind)  # type: ignore[arg-type]
    for field in fields:
        object.__setattr__(draft, field.name, values.get(field.name, field.default))
    if open_ended:
        extra = values.keys() - {field.name for field in fields}
        object.__setattr__(draft, open_ended, tuple((k, values[k]) for k in sorted(extra)))
    return list(draft.errors())
