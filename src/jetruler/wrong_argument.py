"""Which argument of a call is of another kind than its type hint: the sentence for it.

Nothing is looked at before a call: only where it has failed by an exception that is not ours are
its arguments held against the hints, so that a right call costs nothing.
"""

from __future__ import annotations

import builtins
import inspect
import sys
import typing
from collections.abc import Callable, Mapping
from typing import Any

import numpy as np
from typeguard import CollectionCheckStrategy, ForwardRefPolicy, TypeCheckError, check_type

import jetruler

from .core.error_types import KindError


class _Names(dict[str, Any]):
    """What the names of a hint mean: those of the module, of the package, or anything at all."""

    def __missing__(self, name: str) -> Any:
        if name == "Quantityish":  # without Pint it cannot be written as a type
            return _quantityish()
        for place in (typing, builtins, jetruler, jetruler.results, np):
            if hasattr(place, name):
                return getattr(place, name)
        return Any


def wrong_argument(function: Callable[..., Any], args: Any, options: Any) -> KindError | None:
    """The sentence for the first argument that is of another kind than its hint, or None."""
    function = inspect.unwrap(function)
    try:
        bound = inspect.signature(function).bind(*args, **options)
    except TypeError:  # too many, too few or unknown ones: Python says it
        return None
    names = _Names(vars(sys.modules[function.__module__]))
    names.pop("Quantityish", None)
    hints = {
        name: hint if isinstance(hint, str) else getattr(hint, "__name__", str(hint))
        for name, hint in function.__annotations__.items()
    }
    given = {name: value for name, value in bound.arguments.items() if name in hints}
    for name, value in given.items():
        if not _is_of(value, _kind(hints[name], names)):
            hint = hints[name].replace("Quantityish", "float | str")
            return KindError(f"{name}: expected {hint}, found {_found(value)}")
    return None


def _quantityish() -> Any:
    pint = sys.modules.get("pint")
    kinds: Any = float | str | np.number[Any]
    return kinds if pint is None else kinds | pint.Quantity


def _kind(hint: str, names: Mapping[str, Any]) -> Any:
    try:
        return eval(hint, {}, names)  # our own source's text
    except (TypeError, NameError, SyntaxError):
        return Any


def _is_of(value: object, kind: Any) -> bool:
    try:
        check_type(
            value,
            kind,
            forward_ref_policy=ForwardRefPolicy.IGNORE,
            collection_check_strategy=CollectionCheckStrategy.ALL_ITEMS,
        )
    except TypeCheckError:
        return False
    return True


def _found(value: object) -> str:
    shown = repr(value)
    kind = type(value).__name__
    return f"{kind} ({shown})" if len(shown) <= 40 and "\n" not in shown else kind
