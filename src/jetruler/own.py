"""All that the author of a law of one's own imports.

A law is a frozen dataclass below `Law`, offered by an entry point in the group `jetruler.laws`.
docs/architecture.md has the recipe, examples/own_law a whole package.
"""

from .core.error_types import ParameterError
from .core.numerics import Array, FlagArray, NoInverseError
from .core.ruler.base_law import (
    OF_RESULT,
    FitAsked,
    FitModel,
    Kelvin,
    Ohms,
    Role,
    Volts,
    at,
    constant,
    quiet,
    reject,
    reject_outside,
)
from .core.ruler.reading import Flag
from .core.ruler.ruler import Law
from .core.ruler.units import bracketed, number, shown

__all__ = [
    "OF_RESULT",
    "Array",
    "FitAsked",
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
    "at",
    "bracketed",
    "constant",
    "number",
    "quiet",
    "reject",
    "reject_outside",
    "shown",
]
