"""A fitted law with everything that says how far to trust it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np

from ..bench.covariance import FitCovariance, number_in, path_of
from ..error_types import JetRulerError
from ..laws import law_line
from ..numerics import AnyArray, Array, coverage_factors
from ..result import Content, Result, TextTable, Title, old_fields
from ..ruler.rounding import fixed
from ..ruler.ruler import Law, Ruler
from ..ruler.units import number, shown, significant, symbol, with_uncertainty
from .marks import Marks
from .regression import Solution


@dataclass(frozen=True)
class FittedParameter:
    """A fitted parameter: value, standard uncertainty, and the half-width of its 95 % interval.

    Both are NaN where there are no more marks than parameters and no uncertainties given.
    """

    name: str
    value: float
    uncertainty: float
    half_width: float
    unit: str | None


@old_fields(degrees="dof")
@dataclass(frozen=True, eq=False, repr=False)
class Fit(Result):
    """A law from marks.

    Attributes
    ----------
    law : Law
        The fitted law.
    ruler : Ruler
        The laws before it, the law, the laws behind it.
    parameters : tuple[FittedParameter, ...]
        The fitted parameters, in the order of `covariance`.
    covariance : array of float64
        Covariance of the fitted parameters, shape (p, p).
    marks : Marks
        The marks, in the ruler's units.
    x : array of float64
        What the law gets of each mark, shape (n,).
    read : array of float64
        What the law makes of x, shape (n,).
    error : array of float64
        Read − true, shape (n,).
    outliers : tuple[int, ...]
        Places of the marks that were set aside.
    dof : int
        Degrees of freedom.
    scatter : float
        Standard deviation of the errors; with uncertainties given, in units of those.
    was : array of float64, optional
        The errors before this fit, where there was another law.

    Examples
    --------
    >>> import jetruler as jr
    >>> found = jr.fit([(0, 1.0), (1, 3.1), (2, 4.9)])
    >>> [p.name for p in found.parameters]
    ['gain', 'offset']
    """

    law: Law
    """The fitted law."""
    ruler: Ruler
    """The laws before it, the law, the laws behind it."""
    parameters: tuple[FittedParameter, ...]
    """The fitted parameters, in the order of `covariance`."""
    covariance: Array
    """Covariance of the fitted parameters, shape (p, p)."""
    marks: Marks
    """The marks, in the ruler's units."""
    x: Array
    """What the law gets of each mark, shape (n,)."""
    read: Array
    """What the law makes of x, shape (n,)."""
    error: Array
    """Read − true, shape (n,)."""
    outliers: tuple[int, ...]
    """Places of the marks that were set aside."""
    dof: int
    """Degrees of freedom."""
    scatter: float
    """Standard deviation of the errors; with uncertainties given, in units of those."""
    was: Array | None = None
    """The errors before this fit, where there was another law."""
    _each_left_out: Callable[[], Array] = field(default=lambda: np.empty(0), repr=False)
    _before: Ruler | None = field(default=None, repr=False)
    _solution: Solution | None = field(default=None, repr=False)
    _widened: float = field(default=1.0, repr=False)
    _advise: Callable[[Fit], tuple[tuple[str, ...], str]] | None = field(default=None, repr=False)

    @cached_property
    def left_out(self) -> Array:
        """What each mark's error is when the law is fitted to the others, shape (n,); NaN for a
        mark that no other could replace. Worked out when somebody asks: it may take n fits."""
        return self._each_left_out()

    @cached_property
    def _remarks(self) -> tuple[tuple[str, ...], str]:
        """Worked out when somebody asks: it takes other fits."""
        return ((), "") if self._advise is None else self._advise(self)

    @property
    def notes(self) -> tuple[str, ...]:
        """Sentences on what was done and what to mind."""
        return self._remarks[0]

    @property
    def simpler(self) -> str:
        """Whether a simpler law would do as well."""
        return self._remarks[1]

    @property
    def kept(self) -> AnyArray:
        """True for the marks the law was fitted to."""
        kept = np.ones(len(self.marks), np.bool_)
        kept[list(self.outliers)] = False
        return kept

    @property
    def largest(self) -> float:
        """The largest error of a mark, without its sign; outliers are not counted."""
        return float(np.max(np.abs(self.error[self.kept])))

    @property
    def rms(self) -> float:
        """The root mean square of the errors; outliers are not counted."""
        return _rms(self.error[self.kept])

    @property
    def rms_left_out(self) -> float:
        """The same of the leave-one-out errors; NaN where every mark is needed."""
        return _rms(self.left_out[self.kept])

    @property
    def covers(self) -> tuple[float, float]:
        """The raw values between which there are marks."""
        raw = self.marks.raw[self.kept]
        return float(raw.min()), float(raw.max())

    def interval(self, raw: Array | float, level: float = 0.95) -> Array:
        """Half-width of the interval in which the true law is expected at raw; NaN where nothing
        tells it. Raises `JetRulerError` for a level outside 0 to 1.
        Source: first-order propagation of the parameters' covariance, Student's t."""
        if not 0 < level < 1:
            raise JetRulerError(
                f"level: expected a fraction between 0 and 1, found {number(level)}"
            )
        raw = np.atleast_1d(np.asarray(raw, dtype=np.float64))
        if self._solution is None:
            return np.full(raw.shape, np.nan)
        x = raw if self._before is None else np.asarray(self._before(raw), dtype=np.float64)
        with np.errstate(all="ignore"):
            rows = self._solution.problem.jacobian(self._solution.theta, x)
            own = self._widened**2 * np.einsum("ij,jk,ik->i", rows, self._solution.inverse, rows)
            variance = own + (self.marks.u_common * rows @ self._solution.common) ** 2
        half_width: Array = coverage(self.dof, self._known, own, variance, level) * np.sqrt(
            variance
        )
        return half_width

    @property
    def known_parameters(self) -> FitCovariance | None:
        """How well the law is known, for a channel's `calibration`; None if nothing determines it,
        or the law is not written by its parameters (a line through two marks)."""
        if self._solution is None or not np.all(np.isfinite(self.covariance)):
            return None
        paths = self._solution.problem.model.paths
        if any(number_in(self.law, *path_of(path)) is None for path in paths):
            return None
        return FitCovariance(
            self.law.name,
            paths,
            tuple(map(tuple, self.covariance.tolist())),
            left=0.0 if self._known else self._scatter,
            dof=float("inf") if self._known else self._dof_in_all,
        )

    @property
    def _dof_in_all(self) -> float:
        """Effective degrees of freedom of the covariance, in the middle of the marks: what the
        scatter does not tell, an error that all marks share, has infinitely many."""
        if self._solution is None or not self.marks.u_common:
            return float(self.dof)
        x = np.array([float(np.median(self.x))])
        rows = self._solution.problem.jacobian(self._solution.theta, x)[0]
        own = self._widened**2 * float(rows @ self._solution.inverse @ rows)
        common = float(self.marks.u_common * rows @ self._solution.common) ** 2
        return float(self.dof * ((own + common) / own) ** 2) if own else float("inf")

    @property
    def _scatter(self) -> float:
        """Standard deviation of the errors, in the unit of the result."""
        return float(np.sqrt(np.sum(self.error[self.kept] ** 2) / max(self.dof, 1)))

    @property
    def _known(self) -> bool:
        """Whether the uncertainties are as given, not learnt from the scatter."""
        return self.marks.u_true is not None and self._widened == 1.0

    @property
    def headline(self) -> str:
        return self.verdict()

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        return {
            "mark": self.marks.names,
            "raw": self.marks.raw.tolist(),
            "true": self.marks.true.tolist(),
            "read": self.read.tolist(),
            "error": self.error.tolist(),
            "left out": self.left_out.tolist(),
            "outlier": [i in self.outliers for i in range(len(self.marks))],
        }

    @property
    def content(self) -> Content:
        texts = [with_uncertainty(p.value, p.half_width, p.unit) for p in self.parameters]
        lines = [f"  {p.name} = {text}" for p, text in zip(self.parameters, texts, strict=True)]
        if any(np.isfinite(p.uncertainty) for p in self.parameters):
            lines.append("  (± at 95 %)")
        lines = [Title(self.law.name), *lines, ""]
        return [
            *lines,
            self.residuals(),
            "",
            self.verdict(),
            *self.notes,
            *filter(None, [self.simpler]),
        ]

    def _fields(self) -> Mapping[str, Any]:
        marks = zip(*self.table.values(), strict=True)
        keys = [name.replace("left out", "error_left_out") for name in self.table]
        return {
            "law": self.law.name,
            "line": law_line(self.law),
            "parameters": [
                {
                    "name": p.name,
                    "value": p.value,
                    "unit": p.unit,
                    "standard_uncertainty": p.uncertainty,
                    "half_width": p.half_width,
                }
                for p in self.parameters
            ],
            "marks": [dict(zip(keys, mark, strict=True)) for mark in marks],
            "unit": self.marks.true_unit,
            "largest_error": self.largest,
            "rms_error": self.rms,
            "rms_error_left_out": self.rms_left_out,
            "dof": self.dof,
            "notes": [*self.notes, *filter(None, [self.simpler])],
        }

    def residuals(self) -> TextTable:
        """The table of the marks: raw, true, read, error, and the error when left out."""
        unit, raw_unit = symbol(self.marks.true_unit), symbol(self.marks.raw_unit)
        errors = (
            [self.error, self.left_out]
            if self.was is None
            else [self.was, self.error, self.left_out]
        )
        names = ["error", "left out"] if self.was is None else ["before", "error", "left out"]
        places = decimals(self.error, self.left_out, self.marks.true)
        rows = []
        for i in range(len(self.marks)):
            pair = (self.marks.true[i], self.read[i])
            name = self.marks.names[i] + (" ✗" if i in self.outliers else "")
            rows.append(
                [
                    name,
                    number(self.marks.raw[i]),
                    *(fixed(v, places).replace("-", "−") for v in pair),
                    *(signed(column[i], places) for column in errors),
                ]
            )
        heading = ["mark", f"raw {raw_unit}", f"true {unit}", f"read {unit}", *names]
        return TextTable([h.strip() for h in heading], rows)

    def shown(self, value: float) -> str:
        """An error for people: three digits, with its unit."""
        return error_shown(value, self.marks.true, self.marks.true_unit)

    def verdict(self) -> str:
        """Largest, rms and leave-one-out error in a line."""
        text = f"largest error {self.shown(self.largest)}, rms {self.shown(self.rms)}"
        if np.isnan(self.rms_left_out):
            return f"{text}; the fit needs every mark, so none is left to check it"
        return f"{text}; {self.shown(self.rms_left_out)} rms when each mark is left out in turn"


def coverage(dof: int, known: bool, own: Array, variance: Array, level: float = 0.95) -> Array:
    """Student's factors for variances of which the part `own` was told by the scatter of this many
    degrees of freedom; the normal one where the uncertainties are known. NaN without freedom.
    Source: Welch and Satterthwaite, JCGM 100:2008, G.4.1."""
    if known:
        return coverage_factors(np.full(own.shape, np.inf), level)
    with np.errstate(all="ignore"):
        free = np.where(own > 0, dof * np.square(variance / own), np.inf if dof else np.nan)
    return coverage_factors(np.where(np.isfinite(variance), free, np.nan), level)


def _rms(errors: Array) -> float:
    return float(np.sqrt(np.mean(errors**2))) if errors.size else float("nan")


def error_shown(value: float, scale: Array, unit: str | None) -> str:
    """An error to three digits, with its unit; what is only rounding, against `scale`, is 0."""
    tiny = 1e-11 * float(np.max(np.abs(scale), initial=0.0))
    return shown(0.0 if abs(value) <= tiny else significant(value, 3), unit)


def decimals(*columns_of: Array) -> int:
    """Places that show the errors to two digits, without more than nine."""
    *errors, true = columns_of
    sizes = np.abs(np.concatenate(errors))
    sizes = sizes[np.isfinite(sizes) & (sizes > 1e-9 * np.max(np.abs(true), initial=1e-9))]
    typical = float(np.median(sizes)) if sizes.size else 1.0
    return int(np.clip(1 - np.floor(np.log10(typical)), 0, 9))


def signed(value: float, places: int) -> str:
    """`+0.31`, `−0.20`; a dash where there is none."""
    if not np.isfinite(value):
        return "–"
    text = f"{value:+.{places}f}"
    return (f"{0:.{places}f}" if not text.strip("+-0.") else text).replace("-", "−")
