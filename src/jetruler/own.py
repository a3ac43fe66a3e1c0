"""All that the author of a law of one's own imports.

A law is a frozen dataclass below `Law`, offered by an entry point in the group `jetruler.laws`.
docs/architecture.md has the recipe, examples/own_law a whole package.
"""

from .core.arrays import Array, FlagArray
from .core.error_types import ParameterError
from .core.laws.statements import constant, reject, reject_outside
from .core.model.fit_model import OF_RESULT, FitAsked, FitModel
from .core.model.law import Kelvin, Law, Ohms, Role, Volts, at, quiet
from .core.model.reading import Flag
from .core.model.text import bracketed, number, shown
from .core.solve import NoInverseError

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
