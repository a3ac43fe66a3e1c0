"""The laws, one class each. Importing this room makes every one known by name in `LAWS`."""

from .base import LAWS, Law
from .converter import Adc, Converter, Counts
from .linear import Line
from .shape import Clamp, Limits, Whole

__all__ = ["LAWS", "Adc", "Clamp", "Converter", "Counts", "Law", "Limits", "Line", "Whole"]
