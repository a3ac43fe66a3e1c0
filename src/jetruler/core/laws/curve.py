"""Curves that bend: tables of points, polynomials, powers."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from copy import copy
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise
from typing import TYPE_CHECKING, Any, ClassVar, Literal, Self

import numpy as np

from ..error_types import ParameterError
from ..numerics import AnyArray, Array, FlagArray, NoInverseError, solve_monotone, turning_point
from ..ruler.base_law import (
    Role,
    as_array,
    constant,
    ignore_fp_warnings,
    reject,
    reject_outside,
    unit_fields,
)
from ..ruler.quantity import Quantityish
from ..ruler.reading import Flag
from ..ruler.ruler import Law
from ..ruler.units import bracketed, number, result_text

if TYPE_CHECKING:
    from ..ruler.base_law import FitInput, FitModel

Point = tuple[float, float]


class Curve(Law):
    """A curve from any unit to any unit: `unit` out, `takes` in, either may be left open."""

    @property
    def gives(self) -> str | None:
        return getattr(self, "unit", None)

    def __post_init__(self) -> None:
        super().__post_init__()
        unit_fields(self, "unit", "takes")

    def _y(self, x: float) -> str:
        return result_text(float(self.forward(as_array(x))[0]), self.gives)

    def _x(self, y: float) -> str:
        return result_text(float(self.inverse(as_array(y))[0]), self.takes)


def check_domain(domain: object) -> Iterator[ParameterError]:
    """The errors of a domain: two numbers, the low one first, or None."""
    if domain is None:
        return
    try:
        ends = np.array(domain)
        good = ends.shape == (2,) and ends.dtype.kind in "iuf" and bool(ends[0] < ends[1])
    except ValueError:
        good = False
    if not good:
        yield ParameterError("domain", domain, "two numbers, the low one first")


class OnDomain(Curve):
    """A curve declared between two values of x. Outside there is no value: NaN, flagged."""

    @property
    def ends(self) -> tuple[float, float] | None:
        """The domain; None is everywhere."""
        return getattr(self, "domain", None)

    def inside(self, x: Array) -> Array:
        """x, with NaN outside the domain."""
        return x if self.ends is None else np.where(self.flags(x) == 0, x, np.nan)

    def flags(self, x: Array) -> FlagArray:
        out = np.zeros(x.shape, np.uint8)
        if self.ends is not None:
            out[x < self.ends[0]] = Flag.BELOW
            out[x > self.ends[1]] = Flag.ABOVE
        return out

    def on(self, low: float, high: float) -> Self:
        if self.ends is not None or not low < high:
            return self
        made = copy(self)
        object.__setattr__(made, "domain", (low, high))
        return made

    def solved(self, y: Array, low: float, high: float) -> Array:
        """The inverse on a stretch; raises `NoInverseError` where the curve turns back in it."""
        turn = turning_point(self.forward, low, high)
        if turn is not None:
            raise NoInverseError(
                f"{self.name}: no inverse, it turns back or is flat near x = {number(turn)}; "
                "a domain on one side of that has one"
            )
        return solve_monotone(
            self.forward, self.slope, y, np.full_like(y, low), np.full_like(y, high)
        )


@dataclass(frozen=True)
class Table(Curve):
    """Points of a datasheet or a calibration, joined by a curve through all of them.

    Parameters
    ----------
    points : tuple[Point, ...]
        Pairs (x, y) in any order; in a bench file also the name of a CSV file with two columns.
    method : {"linear", "smooth"}, default "linear"
        "linear", or "smooth" (a monotone cubic without overshoot).
    ends : {"flag", "extend", "hold"}, default "flag"
        Outside the points: "flag" (no value), "extend" (along the slope of the end) or "hold" (the
        value of the end). "flag" and "hold" set the flag below or above, by the side of x.
    unit : str, optional
        Unit of the result.
    takes : str, optional
        Unit of the input.

    Raises
    ------
    ParameterError
        For parameters that make no sense.
    NoInverseError
        By the inverse of a curve that is not monotone.

    Notes
    -----
    The inverse needs a table that is strictly monotone.

    Source: linear interpolation; Fritsch and Butland, SIAM J. Sci. Stat. Comput. 5 (1984) 300.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.Table(((0, 0), (10, 100), (20, 400)))(15)
    250.0
    """

    points: tuple[Point, ...]
    method: Literal["linear", "smooth"] = "linear"
    ends: Literal["flag", "extend", "hold"] = "flag"
    unit: str | None = None
    takes: str | None = None

    if TYPE_CHECKING:  # texts and quantities are read

        def __init__(
            self,
            points: Sequence[Sequence[Quantityish]] | AnyArray,
            method: Literal["linear", "smooth"] = "linear",
            ends: Literal["flag", "extend", "hold"] = "flag",
            unit: str | None = None,
            takes: str | None = None,
        ) -> None: ...

    name: ClassVar[str] = "table"
    pairs_key: ClassVar[str] = "points"
    role: ClassVar[Role] = Role.CURVE
    unit_hints: ClassVar[Mapping[str, str | tuple[str, str]]] = {"points": ("takes", "unit")}
    fitted_name: ClassVar[str] = "a table"

    @property
    def pairs(self) -> tuple[tuple[float, float], ...]:
        return self.points

    @classmethod
    def joining(cls, points: tuple[Point, ...], asked: FitInput) -> Law:
        return cls(points, unit=asked.unit, takes=asked.takes)

    @classmethod
    def simpler_fits(cls, free: int) -> list[tuple[str, int | None]]:
        return [("line", None), ("polynomial", 2), ("polynomial", 3)]

    def check(self) -> Iterator[ParameterError]:
        if self.method not in ("linear", "smooth"):
            yield ParameterError("method", self.method, '"linear" or "smooth"')
        if self.ends not in ("flag", "extend", "hold"):
            yield ParameterError("ends", self.ends, '"flag", "extend" or "hold"')
        expected = "two points or more, each a pair of numbers [x, y]"
        try:
            points = np.array(self.points)
        except ValueError:
            points = np.empty(0)
        if points.ndim != 2 or points.shape[1] != 2 or len(points) < 2:
            yield ParameterError("points", self.points, expected)
        elif points.dtype.kind not in "iuf" or not np.all(np.isfinite(points)):
            yield ParameterError("points", self.points, expected + ", all finite")
        else:
            x, counts = np.unique(points[:, 0], return_counts=True)
            if np.any(counts > 1):
                repeated = number(float(x[counts > 1][0]))
                yield ParameterError("points", f"x = {repeated} twice", "each x once")

    @cached_property
    def _sorted(self) -> tuple[Array, Array]:
        points = sorted(self.points, key=lambda point: float(np.mean(point[0])))
        x, y = (
            np.array(np.broadcast_arrays(*side), np.float64) for side in zip(*points, strict=True)
        )
        if x.ndim < y.ndim:
            x = np.broadcast_to(x[:, None], y.shape)
        return x, np.broadcast_to(y if y.ndim == x.ndim else y[:, None], x.shape)

    def _piece(self, x: Array) -> tuple[AnyArray, AnyArray]:
        """Where the points on both sides of x are: places in `_sorted`. Its columns are one for
        each x, where a simulation draws the points."""
        xs, _ = self._sorted
        if xs.ndim == 1:
            behind = np.clip(np.searchsorted(xs, x, side="right"), 1, len(xs) - 1)
            return behind - 1, behind
        behind = np.clip(np.count_nonzero(xs <= x, axis=0), 1, len(xs) - 1)
        draws = np.arange(xs.shape[1])
        return (behind - 1, draws), (behind, draws)  # type: ignore[return-value]

    @cached_property
    def _smooth(self) -> tuple[Any, Any]:
        """The monotone cubic and its derivative."""
        from scipy.interpolate import PchipInterpolator

        curve = PchipInterpolator(*self._sorted)
        return curve, curve.derivative()

    @cached_property
    def _end_slopes(self) -> tuple[float, float]:
        x = self._sorted[0]
        low, high = self._inner_slope(x[[0, -1]])
        return float(low), float(high)

    def _inner(self, x: Array) -> Array:
        xs, ys = self._sorted
        if self.method == "linear" and xs.ndim == 1:
            return np.interp(x, xs, ys)
        before, behind = (ys[place] for place in self._piece(x))
        if self.method == "linear":
            return before + (x - xs[self._piece(x)[0]]) * self._inner_slope(x)
        # Rounding may carry the cubic past a point; a value beyond the last one had no inverse.
        inner: Array = np.clip(
            self._smooth[0](x), np.minimum(before, behind), np.maximum(before, behind)
        )
        return np.where(x == xs[-1], ys[-1], inner)

    def _inner_slope(self, x: Array) -> Array:
        if self.method == "smooth":
            inner: Array = self._smooth[1](x)
            return inner
        xs, ys = self._sorted
        before, behind = self._piece(x)
        slope: Array = (ys[behind] - ys[before]) / (xs[behind] - xs[before])
        return slope

    def forward(self, x: Array) -> Array:
        xs, ys = self._sorted
        low, high = xs[0], xs[-1]
        y = self._inner(np.clip(x, low, high))
        if self.ends == "extend":
            below, above = self._end_slopes
            y = np.where(x < low, ys[0] + (x - low) * below, y)
            return np.where(x > high, ys[-1] + (x - high) * above, y)
        return np.where((x < low) | (x > high), np.nan, y) if self.ends == "flag" else y

    def slope(self, x: Array) -> Array:
        xs, _ = self._sorted
        slope = self._inner_slope(np.clip(x, xs[0], xs[-1]))
        if self.ends == "extend":
            return slope
        outside = (x < xs[0]) | (x > xs[-1])
        return np.where(outside, 0.0 if self.ends == "hold" else np.nan, slope)

    def flags(self, x: Array) -> FlagArray:
        out = np.zeros(x.shape, np.uint8)
        if self.ends != "extend":
            out[x < self._sorted[0][0]] = Flag.BELOW
            out[x > self._sorted[0][-1]] = Flag.ABOVE
        return out

    def inverse(self, y: Array) -> Array:
        xs, ys = self._sorted
        step = np.sign(np.diff(ys))
        turned = np.flatnonzero((step != step[0]) | (step == 0))
        if turned.size:
            raise NoInverseError(
                f"table: no inverse, it turns back or is flat at x = {number(xs[turned[0]])}"
            )
        falling = step[0] < 0
        rising_y, its_x = (ys[::-1], xs[::-1]) if falling else (ys, xs)
        low, high = rising_y[0], rising_y[-1]
        if self.method == "smooth":
            ends = np.full_like(y, xs[0]), np.full_like(y, xs[-1])
            x = solve_monotone(self._inner, self._inner_slope, np.clip(y, low, high), *ends)
        else:
            x = np.interp(y, rising_y, its_x)
        if self.ends != "extend":
            return np.where((y < low) | (y > high), np.nan, x)
        first, last = self._end_slopes[::-1] if falling else self._end_slopes
        with np.errstate(all="ignore"):
            x = np.where(y < low, its_x[0] + (y - low) / first, x)
            return np.where(y > high, its_x[-1] + (y - high) / last, x)

    def formula(self, x: float) -> str:
        return self._worked("y", x, self._y(x), *self._sorted)

    def inverse_formula(self, y: float) -> str:
        xs, ys = self._sorted
        order = np.argsort(ys)
        return self._worked("x", y, self._x(y), ys[order], xs[order])

    def _worked(self, result: str, at: float, value: str, marks: Array, others: Array) -> str:
        if not marks[0] <= at <= marks[-1]:
            where = f"beyond the table, {number(marks[0])} to {number(marks[-1])}"
            return f"{result}: {number(at)} is {where}: {value}"
        i = int(np.clip(np.searchsorted(marks, at, side="right"), 1, len(marks) - 1))
        a = f"({number(marks[i - 1])}, {number(others[i - 1])})"
        b = f"({number(marks[i])}, {number(others[i])})"
        how = "smooth curve" if self.method == "smooth" else "straight line"
        return f"{result} on the {how} from {a} to {b} at {number(at)} = {value}"

    def program(self) -> list[str] | None:
        xs, ys = self._sorted
        if len(xs) > MOST_POINTS:
            return None
        if self.method == "smooth":
            pieces = [(x, *c[::-1]) for x, c in zip(xs, self._smooth[0].c.T, strict=False)]
        else:
            pieces = [*zip(xs, ys, self._inner_slope(xs[:-1]), strict=False)]
        names = ("k", "c0", "c1", "c2", "c3")[: len(pieces[0])]
        text = names[-1]
        for name in names[-2:0:-1]:
            text = f"{name} + d * ({text})" if text != names[-1] else f"{name} + d * {text}"
        body = [*chosen(names, pieces), "d = x - k", f"x = {text}"]
        if self.ends != "extend":
            return [*self._at_the_ends(), *body]
        if self.method == "linear":
            return body
        low, high = self._end_slopes
        below = f"{constant(ys[0])} + (x - {constant(xs[0])}) * {constant(low)}"
        above = f"{constant(ys[-1])} + (x - {constant(xs[-1])}) * {constant(high)}"
        inside = "\n".join(body).replace("\n", "\n        ")
        return [
            f"if x < {constant(xs[0])}:\n    x = {below}\n"
            f"else:\n    if x > {constant(xs[-1])}:\n        x = {above}\n"
            f"    else:\n        {inside}"
        ]

    def typed(self) -> list[str] | None:
        if self.method != "linear":
            return self.program()
        points = [*zip(*self._sorted, strict=True)]
        pieces = [(*a, *b) for a, b in pairwise(points)]
        line = "x = b + (x - a) * (d - b) / (c - a)"
        ends = self._at_the_ends() if self.ends != "extend" else []
        return [*ends, *chosen(("a", "b", "c", "d"), pieces), line]

    def _at_the_ends(self) -> list[str]:
        low, high = (constant(float(end)) for end in self._sorted[0][[0, -1]])
        if self.ends == "flag":
            return [reject(f"x < {low} or x > {high}")]
        return [f"if x < {low}:\n    x = {low}", f"if x > {high}:\n    x = {high}"]


#: A table of more points has no formula in floats: nobody types in this many lines.
MOST_POINTS = 64


def chosen(names: tuple[str, ...], pieces: Sequence[Sequence[float]]) -> list[str]:
    """The numbers of the piece that x is on, under names; each piece begins with its x."""

    def assigned(piece: Sequence[float]) -> str:
        each = zip(names, piece, strict=True)
        return "\n".join(f"{name} = {constant(float(value))}" for name, value in each)

    found = [assigned(pieces[0])]
    for piece in pieces[1:]:
        inside = assigned(piece).replace("\n", "\n    ")
        found.append(f"if x >= {constant(float(piece[0]))}:\n    {inside}")
    return found


@dataclass(frozen=True)
class Polynomial(OnDomain):
    """y = c0 + c1 x + c2 x² + …

    Parameters
    ----------
    coefficients : tuple[float, ...]
        The constant c0 first, then c1, ….
    domain : tuple[float, float], optional
        (low, high) of x; outside there is no value.
    unit : str, optional
        Unit of the result.
    takes : str, optional
        Unit of the input.

    Raises
    ------
    ParameterError
        For parameters that make no sense.
    NoInverseError
        By the inverse of a curve that is not monotone.

    Notes
    -----
    The inverse needs a domain on which the polynomial is monotone, unless it is monotone
    everywhere. Behind a converter, or an input with a range, the domain is what these can give.

    Source: Horner's scheme.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.Polynomial((1, 2, 3))(2)  # 1 + 2·2 + 3·2²
    17.0
    """

    coefficients: tuple[float, ...]
    domain: tuple[float, float] | None = None
    unit: str | None = None
    takes: str | None = None

    if TYPE_CHECKING:  # texts and quantities are read

        def __init__(
            self,
            coefficients: Sequence[Quantityish],
            domain: Sequence[Quantityish] | None = None,
            unit: str | None = None,
            takes: str | None = None,
        ) -> None: ...

    name: ClassVar[str] = "polynomial"
    role: ClassVar[Role] = Role.CURVE
    unit_hints: ClassVar[Mapping[str, str | tuple[str, str]]] = {"domain": "takes"}
    fitted_name: ClassVar[str] = "a polynomial"
    fit_degrees: ClassVar[int] = 6

    @classmethod
    def fit_model(cls, asked: FitInput) -> FitModel:
        from .linear import Line, LineModel, PolynomialModel

        degree = asked.degree or 1
        return LineModel(asked, Line) if degree == 1 else PolynomialModel(asked, cls, degree)

    @classmethod
    def simpler_fits(cls, free: int) -> list[tuple[str, int | None]]:
        return [("line", None), *(("polynomial", degree) for degree in range(2, free - 1))]

    @classmethod
    def richer_fits(cls, free: int) -> list[tuple[str, int | None]]:
        return [("polynomial", degree) for degree in range(free, cls.fit_degrees + 1)]

    def check(self) -> Iterator[ParameterError]:
        expected = "two finite numbers or more, c0 first, one beyond c0 not 0"
        try:
            numbers = np.array(self.coefficients)
        except ValueError:
            numbers = np.empty(0)
        fine = numbers.ndim == 1 and len(numbers) >= 2 and numbers.dtype.kind in "iuf"
        if not fine or not np.all(np.isfinite(numbers)) or not np.any(numbers[1:]):
            yield ParameterError("coefficients", self.coefficients, expected)
        yield from check_domain(self.domain)

    def forward(self, x: Array) -> Array:
        return _horner(self.coefficients, self.inside(x))

    def slope(self, x: Array) -> Array:
        return _horner(self._derived, self.inside(x))

    @property
    def _derived(self) -> tuple[float, ...]:
        return tuple(i * c for i, c in enumerate(self.coefficients))[1:]

    @ignore_fp_warnings
    def inverse(self, y: Array) -> Array:
        if self.domain is not None:
            return self.solved(y, *self.domain)
        turns = np.roots(self._derived[::-1])
        real = sorted(turns[np.isreal(turns)].real)
        if real and len(self.coefficients) > 2:
            raise NoInverseError(
                f"polynomial: no inverse, it turns back or is flat at x = {number(real[0])}; "
                "a domain on one side of that has one"
            )
        reach = 1.0
        finite = np.nan_to_num(y, nan=0.0, posinf=0.0, neginf=0.0)
        while reach < 1e150:  # far enough for the curve to pass every y
            ends = _horner(self.coefficients, np.array([-reach, reach]))
            if np.min(ends) < np.min(finite) and np.max(ends) > np.max(finite):
                break
            reach *= 4
        low, high = np.full_like(y, -reach), np.full_like(y, reach)
        return solve_monotone(self.forward, self.slope, y, low, high)

    def slope_to(self, field: str, inside: tuple[int, ...], x: Array) -> Array | None:
        return x ** inside[0] if field == "coefficients" else None

    def formula(self, x: float) -> str:
        terms = [_term(c, i, bracketed(x)) for i, c in enumerate(self.coefficients) if c or not i]
        symbols = " + ".join(_term(f"c{i}", i, "x") for i in range(len(self.coefficients)))
        return f"y = {symbols} = {' + '.join(terms)} = {self._y(x)}"

    def inverse_formula(self, y: float) -> str:
        symbols = " + ".join(_term(f"c{i}", i, "x") for i in range(len(self.coefficients)))
        return f"{symbols} = {number(y)} solved for x = {self._x(y)}"

    def program(self) -> list[str] | None:
        text = constant(self.coefficients[-1])
        for c in reversed(self.coefficients[:-1]):
            text = f"{constant(c)} + x * ({text})"
        return [*reject_outside(self.domain), f"x = {text}"]

    def typed(self) -> list[str]:
        terms = [constant(c) + " * x" * i for i, c in enumerate(self.coefficients) if c or not i]
        return [f"x = {' + '.join(terms)}"]


def _horner(coefficients: tuple[float, ...], x: Array) -> Array:
    y = np.full_like(x, coefficients[-1])
    for c in reversed(coefficients[:-1]):
        y = y * x + c
    return np.where(np.isnan(x), np.nan, y)


_POWERS = str.maketrans("0123456789", "⁰¹²³⁴⁵⁶⁷⁸⁹")


def _term(c: float | str, power: int, x: str) -> str:
    factor = c if isinstance(c, str) else bracketed(c)
    if power == 0:
        return factor
    return f"{factor} · {x}" + ("" if power == 1 else str(power).translate(_POWERS))


def above_zero(base: Array) -> Array:
    """What may be raised to a power; NaN below 0."""
    return np.where(base >= 0, base, np.nan)


def finite_or_nan(y: Array) -> Array:
    """y, with NaN for what is infinite."""
    return np.where(np.isfinite(y), y, np.nan)
