"""All that the author of a law of one's own imports.

A law is a frozen dataclass below `Law`, offered by an entry point in the group `jetruler.laws`.
docs/architecture.md has the recipe, examples/own_law a whole package.
"""

import warnings
from typing import Any

from .core.error_types import ParameterError
from .core.numerics import Array, FlagArray, NoInverseError
from .core.ruler.base_law import (
    OF_RESULT,
    FitInput,
    FitModel,
    Kelvin,
    Ohms,
    Role,
    Volts,
    as_array,
    constant,
    ignore_fp_warnings,
    reject,
    reject_outside,
)
from .core.ruler.reading import Flag
from .core.ruler.ruler import Law
from .core.ruler.units import bracketed, number, shown

__all__ = [
    "OF_RESULT",
    "Array",
    "FitInput",
    "FitModel",
    "Flag",
    "FlagArray",
    "Kelvin",
    "Law",
    "NoInverseError",
    "Ohms",
    "ParameterError",
    "Role",
    "Volts",
    "as_array",
    "bracketed",
    "constant",
    "ignore_fp_warnings",
    "number",
    "reject",
    "reject_outside",
    "shown",
]

#: Names of the version before, for one version more.
_OLD_NAMES = {"FitAsked": "FitInput", "at": "as_array", "quiet": "ignore_fp_warnings"}


def __getattr__(name: str) -> Any:
    if name not in _OLD_NAMES:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    new = _OLD_NAMES[name]
    warnings.warn(f"{__name__}.{name} is called {new} now", DeprecationWarning, stacklevel=2)
    return globals()[new]
