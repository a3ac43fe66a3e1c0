"""The straight line, from gain and offset or through two marks."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np

from ..arrays import Array
from ..error_types import ParameterError
from ..model.law import Law, Role, at, unit_fields
from ..model.text import bracketed, number, shown
from .statements import constant

if TYPE_CHECKING:
    from ..model.fit_model import FitAsked, FitModel

Mark = tuple[float, float]


@dataclass(frozen=True)
class Line(Law):
    """y = gain · x + offset, or the line through two marks (raw, true).

    Marks may come in either order and direction; the line is exact at both, to the last bit.

    Parameters
    ----------
    gain : float, optional
        Slope; not 0.
    offset : float, optional
        Value at x = 0.
    marks : tuple[Mark, Mark], optional
        Two pairs (raw, true) instead of gain and offset.
    unit : str, optional
        Unit out (None keeps the unit in).
    takes : str, optional
        Unit in (None is any).

    Raises
    ------
    ParameterError
        For a gain of 0, marks with equal raw or equal true values, or both forms at once.

    Notes
    -----
    Source: the two-point form of the straight line.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.Line.through((198, 0), (3904, 100), unit="%")(2051)
    50.0
    """

    gain: float | None = None
    offset: float | None = None
    marks: tuple[Mark, Mark] | None = None
    unit: str | None = None
    takes: str | None = None
    name: ClassVar[str] = "line"
    role: ClassVar[Role] = Role.CURVE
    unit_hints: ClassVar[Mapping[str, str | tuple[str, str]]] = {"marks": ("takes", "unit")}
    fitted_name: ClassVar[str] = "a line"

    @classmethod
    def fit_model(cls, asked: FitAsked) -> FitModel:
        from .straight_fit import LineModel, OffsetModel

        return OffsetModel(asked, cls) if asked.gain_stays else LineModel(asked, cls)

    @classmethod
    def simpler_fits(cls, free: int) -> list[tuple[str, int | None]]:
        return [("offset", None)]

    @classmethod
    def richer_fits(cls, free: int) -> list[tuple[str, int | None]]:
        return [("line", None), ("polynomial", None)] if free == 1 else [("polynomial", None)]

    @classmethod
    def through(
        cls, first: Mark, second: Mark, unit: str | None = None, takes: str | None = None
    ) -> Line:
        """The line through two marks, each a pair (raw, true)."""
        return cls(marks=(first, second), unit=unit, takes=takes)

    def __post_init__(self) -> None:
        super().__post_init__()
        unit_fields(self, "unit", "takes")

    @property
    def gives(self) -> str | None:
        return self.unit

    def check(self) -> Iterator[ParameterError]:
        if self.marks is None:
            if self.gain is None:
                yield ParameterError("gain", None, "a gain, or two marks, is wanted")
            elif self.gain == 0:
                yield ParameterError("gain", self.gain, "a gain other than 0 is right")
            return
        if self.gain is not None or self.offset is not None:
            yield ParameterError("marks", self.marks, "give either marks or gain and offset")
        yield from self._check_marks(self.marks)

    @staticmethod
    def _check_marks(marks: Any) -> Iterator[ParameterError]:
        right = "two marks are right, each a pair of numbers: [[raw, true], [raw, true]]"
        try:
            numbers = np.array(marks)
        except (TypeError, ValueError):
            numbers = np.empty(0)
        if numbers.shape != (2, 2) or numbers.dtype.kind not in "iuf":
            yield ParameterError("marks", marks, right)
            return
        ((x0, y0), (x1, y1)) = numbers.tolist()
        if not np.all(np.isfinite(numbers)):
            yield ParameterError("marks", marks, "finite numbers are right")
        elif x0 == x1:
            yield ParameterError("marks", marks, "two different raw values are right")
        elif y0 == y1:
            yield ParameterError("marks", marks, "two different true values are right")

    def forward(self, x: Array) -> Array:
        if self.marks is None:
            return x * self._slope_and_zero[0] + self._slope_and_zero[1]
        return _between(x, *self.marks)

    @property
    def _slope_and_zero(self) -> tuple[float, float]:
        gain, offset = self.gain, self.offset
        return 0.0 if gain is None else gain, 0.0 if offset is None else offset

    def inverse(self, y: Array) -> Array:
        if self.marks is None:
            return (y - (self.offset or 0.0)) / (self.gain or np.nan)
        (x0, y0), (x1, y1) = self.marks
        return _between(y, (y0, x0), (y1, x1))

    def slope(self, x: Array) -> Array:
        return np.full_like(x, self._gain())

    def _gain(self) -> float:
        if self.marks is None:
            return self.gain or 0.0
        (x0, y0), (x1, y1) = self.marks
        return (y1 - y0) / (x1 - x0)

    def formula(self, x: float) -> str:
        y = float(self.forward(at(x))[0])
        if self.marks is None:
            numbers = f"y = m · x + b = {number(self.gain or 0)} · {bracketed(x)}"
            return f"{numbers} + {bracketed(self.offset or 0.0)} = {shown(y, self.unit)}"
        return _worked(("x", "y"), x, *self.marks, y, self.unit)

    def inverse_formula(self, y: float) -> str:
        x = float(self.inverse(at(y))[0])
        if self.marks is None:
            numbers = f"x = (y − b) / m = ({number(y)} − {bracketed(self.offset or 0.0)})"
            return f"{numbers} / {bracketed(self.gain or 0)} = {shown(x, self.takes)}"
        (x0, y0), (x1, y1) = self.marks
        return _worked(("y", "x"), y, first=(y0, x0), second=(y1, x1), y=x, unit=self.takes)

    def program(self) -> list[str] | None:
        if self.marks is None:
            return [f"x = x * {constant(self.gain or 0.0)} + {constant(self.offset or 0.0)}"]
        (x0, y0), (x1, y1) = self.marks
        return [
            f"x = (x - {constant(x0)}) / {constant(x1 - x0)}",
            f"x = {constant(y0)} * (1.0 - x) + {constant(y1)} * x",
        ]


def _between(x: Array, first: Mark, second: Mark) -> Array:
    """The line through two points, weighted so that each is met exactly."""
    (x0, y0), (x1, y1) = first, second
    fraction = (x - x0) / (x1 - x0)
    return y0 * (1.0 - fraction) + y1 * fraction


def _worked(
    names: tuple[str, str], x: float, first: Mark, second: Mark, y: float, unit: str | None
) -> str:
    (x0, y0), (x1, y1) = first, second
    a, b = names
    symbols = f"{b} = {b}₀ + ({a} − {a}₀) · ({b}₁ − {b}₀) / ({a}₁ − {a}₀)"
    numbers = (
        f"{number(y0)} + ({number(x)} − {bracketed(x0)}) · ({number(y1)} − {bracketed(y0)}) / "
        f"({number(x1)} − {bracketed(x0)})"
    )
    return f"{symbols} = {numbers} = {shown(y, unit)}"
