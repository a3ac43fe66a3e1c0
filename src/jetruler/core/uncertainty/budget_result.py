"""A budget of uncertainty: its rows, what they combine to, and how it is shown."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ..numerics import Array, Truths, coverage_factors
from ..result import Content, Result, TextTable, old_fields
from ..ruler.reading import Flag
from ..ruler.ruler import Ruler
from ..ruler.units import (
    TEMPERATURES,
    number,
    rounded,
    shown,
    significant,
    symbol,
    with_uncertainty,
)
from .contributions import Conditions, Contribution


@old_fields(degrees="dof", factor="coverage_factor", expanded="expanded_uncertainty")
@dataclass(frozen=True, eq=False, repr=False)
class Budget(Result):
    """The uncertainty budget of one reading.

    Attributes
    ----------
    at : float
        The count.
    value : float
        What it reads.
    unit : str | None
        Unit of the value.
    rows : tuple[Contribution, ...]
        The contributions, in the order of the chain.
    combined : float
        Standard uncertainty.
    systematic : float
        Part of `combined` that a calibration reduces.
    random : float
        Part of `combined` that averaging reduces.
    dof : float
        Effective degrees of freedom (infinite where every figure is known).
    coverage_factor : float
        Coverage factor.
    expanded_uncertainty : float
        `combined` times the coverage factor: the ± at `level`.
    level : float
        Probability that the expanded uncertainty represents.
    why : str
        Why there is none, in words; empty where there is one.

    Notes
    -----
    All NaN where there is no value, where a law (a clamp) holds it at an end, or where the raw
    value is on a rail: the true value may be anywhere beyond it.

    Examples
    --------
    >>> import jetruler as jr
    >>> found = jr.budget(jr.Adc(12, 3.3) >> jr.Line(10), 1000, noise=2)
    >>> [row.source for row in found.rows]
    ['converter resolution', 'noise']
    """

    at: float
    """The count."""
    value: float
    """What it reads."""
    unit: str | None
    """Unit of the value."""
    rows: tuple[Contribution, ...]
    """The contributions, in the order of the chain."""
    combined: float
    """Standard uncertainty."""
    systematic: float
    """Part of `combined` that a calibration reduces."""
    random: float
    """Part of `combined` that averaging reduces."""
    dof: float
    """Effective degrees of freedom (infinite where every figure is known)."""
    coverage_factor: float
    """What `combined` is multiplied by."""
    expanded_uncertainty: float
    """`combined` times the coverage factor: the ± at `level`."""
    level: float
    """Probability that the expanded uncertainty represents."""
    why: str = ""
    """Why there is none, in words; empty where there is one."""

    def fraction(self, row: Contribution) -> float:
        """A row's fraction of the combined variance, 0 to 1."""
        return float(row.effect) ** 2 / self.combined**2 if self.combined else 0.0

    @property
    def dominant(self) -> Contribution | None:
        """The row with the largest effect."""
        return max(self.rows, key=lambda row: float(row.effect), default=None)

    @property
    def headline(self) -> str:
        return self.summary()[-1]

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        return {
            "source": [row.source for row in self.rows],
            "size": [row.size for row in self.rows],
            "standard": [row.standard for row in self.rows],
            "unit": [row.unit for row in self.rows],
            "sensitivity": [float(row.sensitivity) for row in self.rows],
            "effect": [float(row.effect) for row in self.rows],
            "fraction": [self.fraction(row) for row in self.rows],
            "kind": ["random" if row.random else "systematic" for row in self.rows],
        }

    @property
    def content(self) -> Content:
        if math.isnan(self.combined) or not self.rows:
            return self.summary()
        unit = symbol(self.unit)
        heading = [
            "source",
            "size",
            "standard",
            f"{unit} per unit",
            f"effect {unit}",
            "fraction",
            "",
        ]
        rows = [
            [
                row.source,
                row.size,
                shown(significant(row.standard, 3), row.unit),
                number(significant(float(row.sensitivity), 3)),
                _two(float(row.effect), None),
                f"{100 * self.fraction(row):.1f} %",
                "random" if row.random else "systematic",
            ]
            for row in self.rows
        ]
        table = TextTable([h.strip() for h in heading], rows, 2)
        notes = [f"{row.source} {row.note}" for row in self.rows if row.note]
        return [table, *notes, "", *self.summary()]

    def _fields(self) -> Mapping[str, Any]:
        return {
            "at": self.at,
            "value": self.value,
            "unit": self.unit,
            "rows": [
                {
                    "source": row.source,
                    "size": row.size,
                    "standard_uncertainty": row.standard,
                    "unit": row.unit,
                    "sensitivity": float(row.sensitivity),
                    "effect": float(row.effect),
                    "fraction": self.fraction(row),
                    "kind": "random" if row.random else "systematic",
                    "note": row.note,
                }
                for row in self.rows
            ],
            "combined": self.combined,
            "systematic": self.systematic,
            "random": self.random,
            "dof": self.dof,
            "coverage_factor": self.coverage_factor,
            "expanded_uncertainty": self.expanded_uncertainty,
            "level": self.level,
        }

    def summary(self) -> list[str]:
        """Combined, its two parts, what dominates, and the result."""
        if not math.isfinite(self.combined):
            return [f"no budget: the reading {self.why}"]
        if not self.rows:
            reads = shown(self.value, self.unit)
            missing = "give a resolution, an error, a noise or a tolerance"
            return [f"the uncertainty of {reads} is unknown: {missing}"]
        parts = (
            f"systematic {_two(self.systematic, self.unit)} (calibration reduces it), "
            f"random {_two(self.random, self.unit)} (averaging reduces it)"
        )
        few = self.dof < 1000
        dof = f", {number(self.dof, 3)} degrees of freedom" if few else ""
        lines = [f"combined standard uncertainty {_two(self.combined, self.unit)}: {parts}"]
        if self.dominant is not None and self.combined:
            lines.append(
                f"most of it: {self.dominant.source}, {100 * self.fraction(self.dominant):.0f} %"
            )
        result = with_uncertainty(self.value, self.expanded_uncertainty, self.unit)
        if self.value and self.unit not in (*TEMPERATURES, "%"):
            part = 100 * self.expanded_uncertainty / abs(self.value)
            result += f", which is {number(significant(part, 2))} %," if part < 1000 else ""
        lines.append(
            f"{result} at {number(100 * self.level)} % "
            f"(factor {number(round(self.coverage_factor, 3))}{dof})"
        )
        return lines


def _two(value: float, unit: str | None) -> str:
    text = rounded(value, value)[1]
    return f"{text} {symbol(unit)}" if unit else text


def budget_of_rows(
    rows: list[Contribution],
    at: float,
    value: float,
    unit: str | None,
    given: Conditions,
    why: str,
) -> Budget:
    """What rows of one reading combine to. why: there is no budget, if it is not empty."""
    combined, free, coverage_factor = (
        float(part[0]) for part in combine(rows, np.array([at]), given)
    )
    single = tuple(
        replace(
            row,
            standard=float(row.effect[0] if math.isnan(row.standard) else row.standard),
            sensitivity=row.sensitivity[0],
            effect=row.effect[0],
        )
        for row in rows
    )
    if not why and not math.isfinite(combined):
        why = "is too steep there"
    combined = math.nan if why else combined
    systematic, random = (
        math.sqrt(sum(float(row.effect) ** 2 for row in single if row.random is kind))
        for kind in (False, True)
    )
    return Budget(
        at,
        value,
        unit=unit,
        rows=single,
        combined=combined,
        systematic=systematic,
        random=random,
        dof=free,
        coverage_factor=coverage_factor,
        expanded_uncertainty=coverage_factor * combined,
        level=given.level,
        why=why,
    )


def combine(rows: list[Contribution], x: Array, given: Conditions) -> tuple[Array, Array, Array]:
    """Combined standard uncertainty, effective degrees of freedom, coverage factor, at every x."""
    effects = [row.effect for row in rows]
    square = np.zeros_like(x)
    for effect in effects:
        square += effect**2
    free = effective_degrees(effects, [row.dof for row in rows], square)
    return np.sqrt(square), free, coverage_factors(free, given.level)


def effective_degrees(effects: list[Array], dof: list[float], square: Array) -> Array:
    """Welch and Satterthwaite: u⁴ / Σ uᵢ⁴/νᵢ; infinite where no part is uncertain itself.
    Source: JCGM 100:2008, G.4.1."""
    below = np.zeros_like(square)
    for effect, free in zip(effects, dof, strict=True):
        if math.isfinite(free):
            below += effect**4 / free
    with np.errstate(all="ignore"):
        free_in_all: Array = np.where(below > 0, square**2 / below, np.inf)
    return free_in_all


def on_rail(ruler: Ruler, x: Array) -> Truths:
    """Where raw values are on a rail: what they came from may lie anywhere beyond."""
    rails: Truths = (ruler.read(x).flags & int(Flag.LOW_RAIL | Flag.HIGH_RAIL)) != 0
    return rails
