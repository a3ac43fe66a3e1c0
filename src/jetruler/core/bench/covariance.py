"""What is known of several parameters of a channel together: the covariance that a fit left, and
tolerances that are off together."""

from __future__ import annotations

import dataclasses
import math
import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ..error_types import ParameterError
from ..result import old_fields, refuses_fields
from ..ruler.base_law import is_finite
from ..ruler.converter import ERRORS
from ..ruler.quantity import Toleranced
from ..ruler.ruler import Law

_PART = re.compile(r"\[(\d+)\]")


@old_fields(degrees="dof", place="index")
@dataclass(frozen=True)
class FitCovariance:
    """What a calibration left of a channel's error: the covariance of the law's parameters, and
    what the marks scatter about the law.

    Parameters
    ----------
    law : str
        Name of the law.
    parameters : tuple[str, ...]
        Names of the parameters; `coefficients[2]` is a number in a list, counted from 1.
    covariance : tuple[tuple[float, ...], ...]
        Covariance matrix of the parameters, by rows.
    left : float, default 0.0
        Standard deviation of the marks about the law, in the channel's unit; 0 if the uncertainties
        of the marks explain it.
    dof : float, default inf
        Degrees of freedom of the covariance; infinite if it comes from given uncertainties.
    which : int, default 1
        Which of the channel's laws with this name, counted from 1.

    Raises
    ------
    ParameterError
        For a matrix that is no covariance of this many parameters.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.FitCovariance("beta", ("r0", "beta"), ((100.0, -9.0), (-9.0, 1.0))).standard("r0")
    10.0
    """

    law: str
    """Name of the law."""
    parameters: tuple[str, ...]
    """Names of the parameters; `coefficients[2]` is a number in a list, counted from 1."""
    covariance: tuple[tuple[float, ...], ...]
    """Covariance matrix of the parameters, by rows."""
    left: float = 0.0
    """Standard deviation of the marks about the law, in the channel's unit; 0 if the uncertainties
    of the marks explain it."""
    dof: float = math.inf
    """Degrees of freedom of the covariance; infinite if it comes from given uncertainties."""
    which: int = 1
    """Which of the channel's laws with this name, counted from 1."""

    def __post_init__(self) -> None:
        for error in self.errors():
            raise error

    def errors(self) -> Iterator[ParameterError]:
        """Yield what is wrong."""
        if not isinstance(self.law, str):
            yield ParameterError("law", self.law, "the name of a law")
        names = self.parameters
        if not isinstance(names, tuple) or not all(isinstance(name, str) for name in names):
            yield ParameterError("parameters", names, "a list of names")
            return
        n = len(names)
        expected = f"{n} rows of {n} numbers, as far below the diagonal as above"
        try:
            matrix = np.array(self.covariance, dtype=np.float64)
        except (TypeError, ValueError, OverflowError):
            matrix = np.empty(0)
        fine = matrix.shape == (n, n) and n > 0 and bool(np.all(np.isfinite(matrix)))
        if fine:
            size = np.sqrt(np.abs(np.diag(matrix)))
            scaled = matrix / np.where(size > 0, np.outer(size, size), 1.0)
            fine = bool(np.all(np.diag(matrix) >= 0)) and np.allclose(scaled, scaled.T)
            fine = fine and float(np.linalg.eigvalsh(scaled).min()) > -1e-6
        if not fine:
            yield ParameterError("covariance", self.covariance, expected)
        for name, least in (("left", 0.0), ("dof", 1.0)):
            value = getattr(self, name)
            number = isinstance(value, int | float) and not isinstance(value, bool)
            fits = number and (is_finite(value) or value == math.inf)
            if not fits or not value >= least or (name == "left" and value == math.inf):
                yield ParameterError(name, value, f"{least:g} or more")

    def standard(self, name: str) -> float:
        """Standard uncertainty of a parameter."""
        i = self.parameters.index(name)
        return math.sqrt(self.covariance[i][i])

    def index(self, laws: tuple[Law, ...]) -> int:
        """Which of a channel's laws it belongs to. Raises `ParameterError` where none has all
        the parameters."""
        indices = [i for i, law in enumerate(laws) if law.name == self.law]
        if not indices:
            raise ParameterError("law", self.law, "the name of one of the channel's laws")
        if self.which not in range(1, len(indices) + 1):
            why = f"the number of laws called {self.law}"
            raise ParameterError("which", self.which, f"1 to {len(indices)}", why)
        index = indices[self.which - 1]
        for name in self.parameters:
            if not isinstance(number_in(laws[index], *path_of(name)), int | float):
                expected = f"the name of a number that {self.law} has here"
                raise ParameterError("parameters", name, expected)
        return index

    def of_law(self, index: int, laws: Sequence[Law]) -> FitCovariance:
        """The same, of the law at this place."""
        return replace(self, which=sum(law.name == self.law for law in laws[: index + 1]))


def path_of(name: str) -> tuple[str, tuple[int, ...]]:
    """`coefficients[2]`: the field, and the place inside, from 0."""
    field = name.partition("[")[0]
    return field, tuple(int(part) - 1 for part in _PART.findall(name))


def number_in(law: Law, field: str, inside: tuple[int, ...]) -> Any:
    """What is at a place of a law; None where there is nothing."""
    if field not in {one.name for one in dataclasses.fields(law)}:  # type: ignore[arg-type]
        return None
    value = getattr(law, field)
    for i in inside:
        if not isinstance(value, tuple) or not 0 <= i < len(value):
            return None
        value = value[i]
    return value


def found_by(
    name: str, laws: Sequence[Law], fits: Callable[[Law, str, tuple[int, ...]], bool]
) -> tuple[list[int], str, tuple[int, ...]]:
    """Which laws have a parameter of this name that fits, its field, and its place inside:
    `known`, `marks[1][2]`, or `beta.r0` for that of one law."""
    of, _, path = name.rpartition(".")
    field, inside = path_of(path)
    indices = [i for i, law in enumerate(laws) if of in ("", law.name) and fits(law, field, inside)]
    return indices, field, inside


def is_measure(law: Law, field: str, inside: tuple[int, ...]) -> bool:
    """Whether a parameter is a number that a reading depends on: not one that counts (bits), nor
    an error for budgets."""
    counts = any(
        one.name == field and "int" in str(one.type).split(" | ")
        for one in dataclasses.fields(law)  # type: ignore[arg-type]
    )
    value = number_in(law, field, inside)
    return (
        not counts
        and field not in ERRORS
        and isinstance(value, int | float)
        and not isinstance(value, bool)
    )


def measures(laws: Sequence[Law]) -> set[str]:
    """The names of such parameters."""
    return {
        one.name
        for law in laws
        for one in dataclasses.fields(law)  # type: ignore[arg-type]
        if is_measure(law, one.name, ())
    }


def with_number(law: Law, field: str, inside: tuple[int, ...], value: Any) -> Law:
    """The law with another number (or an array of numbers) in a place, unchecked: a parameter may
    be moved to where nobody would build the law."""
    draft = object.__new__(type(law))
    for one in dataclasses.fields(law):  # type: ignore[arg-type]
        object.__setattr__(draft, one.name, getattr(law, one.name))
    object.__setattr__(draft, field, _replaced(getattr(law, field), inside, value))
    return draft


def _replaced(old: Any, inside: tuple[int, ...], value: Any) -> Any:
    if not inside:
        return value
    parts = list(old)
    parts[inside[0]] = _replaced(parts[inside[0]], inside[1:], value)
    return tuple(parts)


@refuses_fields
@dataclass(frozen=True)
class Correlation:
    """Toleranced parameters that are off together, as two resistors of one batch are.

    Parameters
    ----------
    parameters : tuple[str, ...]
        Names of two or more parameters with a tolerance.
    r : float, default 1.0
        Their correlation coefficient, up to 1.

    Raises
    ------
    ParameterError
        For fewer than two parameters, or an r that no such parameters can have.

    Examples
    --------
    >>> import jetruler as jr
    >>> one_batch = jr.Correlation(("upper", "lower"), 0.9)
    >>> upper, lower = jr.Toleranced(33e3, 330), jr.Toleranced(10e3, 100)
    >>> chain = jr.Adc(12, 3.3) >> jr.Attenuator(upper, lower)
    >>> rail = jr.Channel("rail", chain, "ch5", correlated=(one_batch,))
    >>> jr.budget(rail, 3400).combined < jr.budget(chain, 3400).combined
    True
    """

    parameters: tuple[str, ...]
    """Names of two or more parameters with a tolerance."""
    r: float = 1.0
    """Their correlation coefficient, up to 1."""

    def __post_init__(self) -> None:
        for error in self.errors():
            raise error

    def errors(self) -> Iterator[ParameterError]:
        """Yield what is wrong."""
        names = self.parameters
        if (
            not isinstance(names, tuple)
            or not all(isinstance(name, str) for name in names)
            or len(set(names)) != len(names)
            or len(names) < 2
        ):
            yield ParameterError("parameters", names, "a list of two or more different names")
            return
        least = -1.0 / (len(names) - 1)
        if not isinstance(self.r, int | float) or not least <= self.r <= 1.0:
            yield ParameterError("r", self.r, f"a number from {least:.3g} to 1")

    @property
    def matrix(self) -> np.ndarray[tuple[int, int], np.dtype[np.float64]]:
        """The correlations of the parameters, shape (n, n)."""
        n = len(self.parameters)
        return np.full((n, n), float(self.r)) + (1.0 - self.r) * np.eye(n)

    def places(self, laws: Sequence[Law]) -> list[tuple[int, str, tuple[int, ...]]]:
        """Where the parameters are: law, field, and place inside. Raises `ParameterError` for
        one that is not there, has no tolerance, or is in several laws."""
        found = []
        for name in self.parameters:
            indices, field, inside = found_by(
                name, laws, lambda *at: isinstance(number_in(*at), Toleranced)
            )
            if not indices:
                raise ParameterError("correlated", name, "a parameter that has a tolerance (±)")
            if len(indices) > 1:
                path = name.rpartition(".")[2]
                each = " or ".join(f"{laws[i].name}.{path}" for i in indices)
                raise ParameterError("correlated", name, each, "several laws have it")
            found.append((indices[0], field, inside))
        return found
