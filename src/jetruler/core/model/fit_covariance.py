"""How well a fit knows the parameters of a law, which depend on one another."""

from __future__ import annotations

import dataclasses
import math
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ..error_types import ParameterError
from .law import Law, is_finite

_PART = re.compile(r"\[(\d+)\]")


@dataclass(frozen=True)
class FitCovariance:
    """What a calibration left of a channel's error: the covariance of the law's parameters, and
    what the marks scatter about the law.

    Parameters
    ----------
    law : str
        Name of the law.
    parameters : tuple[str, ...]
        As the law spells them; `coefficients[2]` is a number in a list, counted from 1.
    covariance : tuple[tuple[float, ...], ...]
        Of the parameters, a row for each.
    left : float, default 0.0
        Standard deviation of the marks about the law, in the channel's unit; 0 where the
        uncertainties of the marks account for it.
    degrees : float, default inf
        Of freedom of the covariance; infinite where it comes from uncertainties that were given.
    which : int, default 1
        Which of the channel's laws of that name, counted from 1.

    Raises
    ------
    ParameterError
        For a matrix that is no covariance of so many parameters.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.FitCovariance("beta", ("r0", "beta"), ((100.0, -9.0), (-9.0, 1.0))).standard("r0")
    10.0
    """

    law: str
    parameters: tuple[str, ...]
    covariance: tuple[tuple[float, ...], ...]
    left: float = 0.0
    degrees: float = math.inf
    which: int = 1

    def __post_init__(self) -> None:
        for error in self.errors():
            raise error

    def errors(self) -> Iterator[ParameterError]:
        """Yield what is wrong."""
        if not isinstance(self.law, str):
            yield ParameterError("law", self.law, "the name of a law is right")
        names = self.parameters
        if not isinstance(names, tuple) or not all(isinstance(name, str) for name in names):
            yield ParameterError("parameters", names, "a list of names is right")
            return
        n = len(names)
        right = f"{n} rows of {n} numbers are right, as far below the diagonal as above"
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
            yield ParameterError("covariance", self.covariance, right)
        for name, least in (("left", 0.0), ("degrees", 1.0)):
            value = getattr(self, name)
            number = isinstance(value, int | float) and not isinstance(value, bool)
            fits = number and (is_finite(value) or value == math.inf)
            if not fits or not value >= least or (name == "left" and value == math.inf):
                yield ParameterError(name, value, f"{least:g} or more is right")

    def standard(self, name: str) -> float:
        """Standard uncertainty of a parameter."""
        i = self.parameters.index(name)
        return math.sqrt(self.covariance[i][i])

    def place(self, laws: tuple[Law, ...]) -> int:
        """Which of a channel's laws it belongs to. Raises `ParameterError` where none has all
        the parameters."""
        places = [i for i, law in enumerate(laws) if law.name == self.law]
        if not places:
            raise ParameterError("law", self.law, "the name of one of the channel's laws is right")
        if self.which not in range(1, len(places) + 1):
            right = f"1 to {len(places)} is right: so many laws are called {self.law}"
            raise ParameterError("which", self.which, right)
        place = places[self.which - 1]
        for name in self.parameters:
            if not isinstance(number_in(laws[place], *path_of(name)), int | float):
                right = f"the name of a number that {self.law} has here is right"
                raise ParameterError("parameters", name, right)
        return place

    def of_law(self, place: int, laws: Sequence[Law]) -> FitCovariance:
        """The same, of the law at this place."""
        return replace(self, which=sum(law.name == self.law for law in laws[: place + 1]))


def path_of(name: str) -> tuple[str, tuple[int, ...]]:
    """`coefficients[2]`: the field, and the place inside, from 0."""
    field = name.partition("[")[0]
    return field, tuple(int(part) - 1 for part in _PART.findall(name))


def number_in(law: Law, field: str, inside: tuple[int, ...]) -> Any:
    """What stands at a place of a law; None where there is nothing."""
    if field not in {one.name for one in dataclasses.fields(law)}:  # type: ignore[arg-type]
        return None
    value = getattr(law, field)
    for i in inside:
        if not isinstance(value, tuple) or not 0 <= i < len(value):
            return None
        value = value[i]
    return value
