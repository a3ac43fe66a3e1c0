"""The straight line, from gain and offset or through two marks; from one unit to another; how
lines and polynomials are fitted."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np

from ..error_types import ParameterError
from ..numerics import Array
from ..ruler.base_law import OF_RESULT, FitInput, FitModel, Role, constant, unit_fields
from ..ruler.quantity import Quantityish
from ..ruler.ruler import Law
from ..ruler.units import (
    bracketed,
    number,
    result_text,
)

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
        Unit of the result; None keeps that of the input.
    takes : str, optional
        Unit of the input; None accepts any.

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

    if TYPE_CHECKING:  # texts and quantities are read

        def __init__(
            self,
            gain: Quantityish | None = None,
            offset: Quantityish | None = None,
            marks: Sequence[Sequence[Quantityish]] | None = None,
            unit: str | None = None,
            takes: str | None = None,
        ) -> None: ...

    name: ClassVar[str] = "line"
    role: ClassVar[Role] = Role.CURVE
    unit_hints: ClassVar[Mapping[str, str | tuple[str, str]]] = {
        "marks": ("takes", "unit"),
        "gain": ("takes", "unit"),
        "offset": "unit",
    }
    fitted_name: ClassVar[str] = "a line"

    @classmethod
    def fit_model(cls, asked: FitInput) -> FitModel:

        return OffsetModel(asked, cls) if asked.gain_stays else LineModel(asked, cls)

    @classmethod
    def simpler_fits(cls, free: int) -> list[tuple[str, int | None]]:
        return [("offset", None)]

    @classmethod
    def richer_fits(cls, free: int) -> list[tuple[str, int | None]]:
        return [("line", None), ("polynomial", None)] if free == 1 else [("polynomial", None)]

    @classmethod
    def through(
        cls,
        first: Sequence[Quantityish],
        second: Sequence[Quantityish],
        unit: str | None = None,
        takes: str | None = None,
    ) -> Line:
        """The line through two marks, each a pair (raw, true)."""
        return cls(marks=(first, second), unit=unit, takes=takes)

    def __post_init__(self) -> None:
        super().__post_init__()
        unit_fields(self, "unit", "takes")

    @property
    def gives(self) -> str | None:
        return self.unit

    @property
    def is_correction(self) -> bool:
        return self.marks is None and self.unit is None

    def corrected(self, gain: float, offset: float) -> Line:
        own_gain, own_offset = self._gain_and_offset
        return Line(gain * own_gain, gain * own_offset + offset)

    def check(self) -> Iterator[ParameterError]:
        if self.marks is None:
            if self.gain is None:
                yield ParameterError("gain", None, "a gain, or two marks")
            elif self.gain == 0:
                yield ParameterError("gain", self.gain, "a gain other than 0")
            return
        if self.gain is not None or self.offset is not None:
            yield ParameterError("marks", self.marks, "either marks or gain and offset")
        yield from self._check_marks(self.marks)

    @staticmethod
    def _check_marks(marks: Any) -> Iterator[ParameterError]:
        expected = "two marks, each a pair of numbers: [[raw, true], [raw, true]]"
        try:
            numbers = np.array(marks)
        except (TypeError, ValueError):
            numbers = np.empty(0)
        if numbers.shape != (2, 2) or numbers.dtype.kind not in "iuf":
            yield ParameterError("marks", marks, expected)
            return
        ((x0, y0), (x1, y1)) = numbers.tolist()
        if not np.all(np.isfinite(numbers)):
            yield ParameterError("marks", marks, "finite numbers")
        elif x0 == x1:
            yield ParameterError("marks", marks, "two different raw values")
        elif y0 == y1:
            yield ParameterError("marks", marks, "two different true values")

    def forward(self, x: Array) -> Array:
        if self.marks is None:
            gain, offset = self._gain_and_offset
            return x * gain + offset
        return _between(x, *self.marks)

    @property
    def _gain_and_offset(self) -> tuple[float, float]:
        """As they are given, arrays of draws too; 0 in the place of one that is not."""
        gain, offset = self.gain, self.offset
        return 0.0 if gain is None else gain, 0.0 if offset is None else offset

    def inverse(self, y: Array) -> Array:
        if self.marks is None:
            gain, offset = self._gain_and_offset
            return (y - offset) / gain
        (x0, y0), (x1, y1) = self.marks
        return _between(y, (y0, x0), (y1, x1))

    def slope(self, x: Array) -> Array:
        return np.full_like(x, self._gain())

    def _gain(self) -> float:
        if self.marks is None:
            return self._gain_and_offset[0]
        (x0, y0), (x1, y1) = self.marks
        return (y1 - y0) / (x1 - x0)

    def slope_to(self, field: str, inside: tuple[int, ...], x: Array) -> Array | None:
        if self.marks is None:
            return x if field == "gain" else np.ones_like(x)
        (x0, y0), (x1, y1) = self.marks
        part, steep = (x - x0) / (x1 - x0), (y1 - y0) / (x1 - x0)
        mark, side = inside
        weight: Array = part if mark else 1.0 - part
        return weight if side else -steep * weight

    def worked_result(self, x: float, back: bool = False) -> float:
        if self.marks is None:
            return super().worked_result(x, back)
        (x0, y0), (x1, y1) = self.marks  # as the printed line says it, to the last digit
        if back:
            return x0 + (x - y0) * (x1 - x0) / (y1 - y0)
        return y0 + (x - x0) * (y1 - y0) / (x1 - x0)

    def formula(self, x: float) -> str:
        y = self.worked_result(x)
        if self.marks is None:
            gain, offset = self._gain_and_offset
            numbers = f"y = m · x + b = {number(gain)} · {bracketed(x)}"
            return f"{numbers} + {bracketed(offset)} = {result_text(y, self.unit)}"
        return _worked(("x", "y"), x, *self.marks, y, self.unit)

    def inverse_formula(self, y: float) -> str:
        x = self.worked_result(y, back=True)
        if self.marks is None:
            gain, offset = map(bracketed, self._gain_and_offset)
            numbers = f"x = (y − b) / m = ({number(y)} − {offset}) / {gain}"
            return f"{numbers} = {result_text(x, self.takes)}"
        (x0, y0), (x1, y1) = self.marks
        return _worked(("y", "x"), y, first=(y0, x0), second=(y1, x1), y=x, unit=self.takes)

    def program(self) -> list[str] | None:
        if self.marks is None:
            gain, offset = map(constant, self._gain_and_offset)
            return [f"x = x * {gain} + {offset}"]
        (x0, y0), (x1, y1) = self.marks
        return [
            f"x = (x - {constant(x0)}) / {constant(x1 - x0)}",
            f"x = {constant(y0)} * (1.0 - x) + {constant(y1)} * x",
        ]

    def typed(self) -> list[str]:
        if self.marks is None:
            gain, offset = map(constant, self._gain_and_offset)
            return [f"x = {gain} * x + {offset}"]
        (x0, y0), (x1, y1) = (map(constant, mark) for mark in self.marks)
        return [f"x = {y0} + (x - {x0}) * ({y1} - {y0}) / ({x1} - {x0})"]


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
    return f"{symbols} = {numbers} = {result_text(y, unit)}"


class PolynomialModel(FitModel):
    """c0 + c1 x + …"""

    def __init__(self, asked: FitInput, kind: Any, degree: int) -> None:
        x = asked.x
        self.asked, self.kind, self.degree = asked, kind, degree
        self.middle = 0.5 * float(x.min() + x.max())
        self.half = 0.5 * float(np.ptp(x)) or 1.0
        self.names = tuple(f"c{i}" for i in range(degree + 1))
        self.units: tuple[str | None, ...] = (OF_RESULT, *[None] * degree)
        self.neutral: Mapping[str, float] = {f"c{degree}": 0.0}
        # Column k: the powers of x in ((x − middle) / half)^k.
        self.to_powers = np.zeros((degree + 1, degree + 1))
        for k in range(degree + 1):
            power = np.polynomial.polynomial.polypow([-self.middle / self.half, 1 / self.half], k)
            self.to_powers[: k + 1, k] = power

    @property
    def paths(self) -> tuple[str, ...]:
        return tuple(f"coefficients[{i + 1}]" for i in range(self.degree + 1))

    def design(self, x: Array) -> Array:
        return np.vander((x - self.middle) / self.half, self.degree + 1, increasing=True)

    def values(self, theta: Array) -> Array:
        return self.to_powers @ theta

    def values_slope(self, theta: Array) -> Array:
        return self.to_powers

    def law(self, values: Array) -> Law:
        return self._made(tuple(values.tolist()))

    def _made(self, *parameters: Any, **named: Any) -> Law:
        law: Law = self.kind(*parameters, **named, unit=self.asked.unit, takes=self.asked.takes)
        return law


class LineModel(PolynomialModel):
    """gain · x + offset."""

    def __init__(self, asked: FitInput, kind: Any) -> None:
        super().__init__(asked, kind, 1)
        self.names, self.units = ("gain", "offset"), (None, OF_RESULT)
        # A line that keeps the unit corrects what is there already: it may be nothing at all.
        self.neutral = {"offset": 0.0} | ({"gain": 1.0} if asked.unit is None else {})
        self.to_powers = self.to_powers[::-1]

    @property
    def paths(self) -> tuple[str, ...]:
        return self.names

    def law(self, values: Array) -> Law:
        gain, offset = values.tolist()
        return self._made(gain, offset)

    def exact(self, asked: FitInput) -> Law | None:
        """A line through two marks is kept as the marks."""
        if asked.x.size != 2 or asked.unit is None:
            return None
        (x0, x1), (y0, y1) = asked.x.tolist(), asked.y.tolist()
        return self._made(marks=((x0, y0), (x1, y1)))


class OffsetModel(FitModel):
    """gain · x + offset with a gain that is given."""

    def __init__(self, asked: FitInput, kind: Any) -> None:
        self.asked, self.kind, self.gain = asked, kind, asked.fixed("gain", 1.0) or 1.0
        self.names, self.units = ("offset",), (OF_RESULT,)
        self.neutral = {"offset": 0.0}

    def design(self, x: Array) -> Array:
        return np.ones((x.size, 1))

    def fixed(self, x: Array) -> Array:
        return self.gain * x

    def values(self, theta: Array) -> Array:
        return theta

    def values_slope(self, theta: Array) -> Array:
        return np.eye(1)

    def law(self, values: Array) -> Law:
        asked = self.asked
        law: Law = self.kind(self.gain, float(values[0]), unit=asked.unit, takes=asked.takes)
        return law
