"""`simulate`: the distribution of a reading by Monte Carlo, through the real chain with parameters
drawn again for every value."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..bench.channel import Channel, raw_at, ruler_of
from ..error_types import ParameterError
from ..numerics import Array
from ..result import Content, Result, old_keywords, refuses
from ..ruler.converter import blocks
from ..ruler.quantity import Quantityish
from ..ruler.ruler import Law, Ruler
from ..ruler.units import many, number, rounded, shown, significant
from .budget import budget_under
from .budget_result import Budget
from .contributions import (
    conditions_of,
)
from .draws import Varied


@dataclass(frozen=True, eq=False, repr=False)
class Simulation(Result):
    """What a reading may be in truth, by Monte Carlo.

    Attributes
    ----------
    values : array of float64, optional
        The draws, sorted, those without a value left out.
    unit : str | None
        Unit of the draws.
    mean, standard : float
        Mean and standard deviation of the draws.
    interval : tuple[float, float]
        The interval that holds `level` of the draws, with equal tails.
    lost : int
        How many those are.
    budget : Budget
        The first-order one.
    tolerance : float
        The numerical tolerance of the comparison, half a unit in the second digit of the
        standard uncertainty.
    end_error : float
        Standard error of the interval's ends, the larger of the two: what other draws would
        change.
    stable : bool
        Whether the ends are known to a quarter of the tolerance.
    first_order : bool
        Whether both ends of the first-order interval are as near as the tolerance, as far as the
        draws can tell.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.simulate(jr.Adc(12, 3.3) >> jr.Line(10), 2000, draws=5000).values.size
    5000
    """

    values: Array = field(repr=False)
    """The draws, sorted, those without a value left out."""
    unit: str | None
    """Unit of the draws."""
    mean: float
    """Mean of the draws."""
    standard: float
    """Standard deviation of the draws."""
    interval: tuple[float, float]
    """The interval that holds `level` of the draws, with equal tails."""
    lost: int
    """How many those are."""
    budget: Budget
    """The first-order one."""
    tolerance: float
    """The numerical tolerance of the comparison, half a unit in the second digit of the standard
    uncertainty."""
    end_error: float
    """Standard error of the interval's ends, the larger of the two: what other draws would
    change."""

    @property
    def stable(self) -> bool:
        """Whether more draws would change nothing that is shown."""
        return self.end_error <= STABLE * self.tolerance

    @property
    def decided(self) -> bool:
        """Whether more draws would not change the statements."""
        beyond = max(self.end_deviations) - self.tolerance
        near = 0 < beyond <= CERTAIN * self.end_error
        return self.stable and (not near or self.end_error <= FINEST * self.tolerance)

    @property
    def end_deviations(self) -> tuple[float, float]:
        """How far the ends of the first-order interval are from these."""
        low, high = self.interval
        first = self.budget
        return (
            abs(first.value - first.expanded_uncertainty - low),
            abs(first.value + first.expanded_uncertainty - high),
        )

    @property
    def first_order(self) -> bool:
        """Whether the first-order budget will do."""
        return max(self.end_deviations) <= self.tolerance + CERTAIN * self.end_error

    @property
    def bent(self) -> bool:
        """Whether it is the chain's bend that the first order misses: an interval that lies to one
        side of the value, or another variance (which few degrees of freedom change too)."""
        first = self.budget
        error = CERTAIN * self.standard / math.sqrt(self.values.size or 1)
        if abs(sum(self.interval) / 2 - first.value) > self.tolerance + CERTAIN * self.end_error:
            return True
        other = abs(self.standard - first.combined) > 0.03 * self.standard + error
        return other and not self.few_dof

    @property
    def few_dof(self) -> bool:
        """Whether a figure of few degrees of freedom, drawn from Student's distribution, counts:
        the coverage factor of the budget combines it with the others by a rule of thumb."""
        first = self.budget
        return any(row.dof < FEW_DOF and first.fraction(row) > 0.01 for row in first.rows)

    def _why(self) -> str:
        """Why the first order will not do."""
        if self.bent:
            return "the chain is too nonlinear"
        if self.lost > 0.001 * self.values.size:
            return "some possible inputs have no value"
        largest = self.budget.dominant
        if largest is not None and self.budget.fraction(largest) > RULES and not largest.random:
            return "one uniform tolerance dominates"
        return "few degrees of freedom" if self.few_dof else "uniform tolerances dominate"

    @property
    def headline(self) -> str:
        return str(self.content[0])

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        return {
            "draws": [self.values.size],
            "mean": [self.mean],
            "standard": [self.standard],
            "low": [self.interval[0]],
            "high": [self.interval[1]],
            "end error": [self.end_error],
            "first order will do": [self.first_order],
        }

    @property
    def content(self) -> Content:
        if self.values.size < 2:
            return [f"not one of {self.values.size + self.lost} draws has a value"]
        low, high = (shown(significant(end, 5), self.unit) for end in self.interval)
        level = f"{number(100 * self.budget.level)} %"
        mean, standard = (
            shown(float(text.replace("−", "-")), self.unit)
            for text in rounded(self.mean, self.standard)
        )
        lines = [
            f"{self.values.size} draws: mean {mean}, standard uncertainty {standard}",
            f"{level} of them lie between {low} and {high}",
        ]
        if not self.stable:
            known = shown(significant(self.end_error, 2), self.unit)
            lines.append(f"these ends are known to {known} only; use more draws")
        if self.lost:
            have = "has no value and is" if self.lost == 1 else "have no value and are"
            lines.append(f"{many(self.lost, 'draw')} {have} left out")
        off = shown(significant(max(self.end_deviations), 2), self.unit)
        allowed = shown(self.tolerance, self.unit)
        if self.first_order:
            less = max(self.end_deviations) <= self.tolerance
            how = f"less than {allowed}" if less else f"{allowed}, as far as these draws show"
            lines.append(f"the first-order interval is off by {off}, {how}: it is good enough")
        else:
            text = f"the first-order interval is off by {off}, more than {allowed}"
            lines.append(f"{text}: {self._why()}; use this one")
        return lines

    def _fields(self) -> Mapping[str, Any]:
        return {
            "draws": self.values.size,
            "lost": self.lost,
            "mean": self.mean,
            "standard_uncertainty": self.standard,
            "interval": self.interval,
            "end_standard_error": self.end_error,
            "first_order_will_do": self.first_order,
        }


#: Draws whose mean is known to a thousandth of its standard deviation; more show nothing new.
MOST_DRAWS = 10_000_000
#: Draws without which nobody asks for more, through a law that takes no arrays: some seconds.
MOST_ONE_BY_ONE = 100_000
#: The draws that a run begins with, if it goes on until it is stable.
FIRST_DRAWS = 50_000
#: Ends are stable when their standard error is so much of the tolerance, and known as finely as
#: anybody wants at so much. Source: JCGM 101, 7.9.4.
STABLE, FINEST = 0.25, 0.1
#: Standard errors beyond which a difference is no chance: once in 16,000 runs.
CERTAIN = 4.0
#: Degrees of freedom from which Student's distribution is as good as normal.
FEW_DOF = 50.0
#: The fraction of the variance from which one source rules.
RULES = 0.7


@refuses
@old_keywords(degrees="dof")
def simulate(
    what: Ruler | Law | Channel,
    at: Quantityish,
    *,
    noise: float | None = None,
    dof: float | None = None,
    readings: float | None = None,
    calibration: float | None = None,
    level: float = 0.95,
    draws: int | None = None,
    seed: int = 1,
) -> Simulation:
    """The distribution of a reading by Monte Carlo, and whether the first-order budget will do.

    Arguments as for `budget`;

    Parameters
    ----------
    what : Ruler | Law | Channel
        Ruler or channel, as for `budget`.
    at : float
        The count.
    noise : float, optional
        As for `budget`.
    dof : float, optional
        As for `budget`.
    readings : float, optional
        As for `budget`.
    calibration : float, optional
        As for `budget`.
    level : float, default 0.95
        As for `budget`.
    draws : int, optional
        How many; without it, in growing batches until the ends of the interval are known to a
        quarter of the tolerance of the comparison (10 million at most).
    seed : int, default 1
        The same one gives the same draws.

    Returns
    -------
    Simulation
        The draws and what they say.

    Raises
    ------
    ParameterError
        For fewer than 1000 draws, or more than 10 million.

    Notes
    -----
    Rounding and tolerances are drawn evenly between their ends, those with k or sigma and the noise
    from a normal distribution (Student's, for a noise of few degrees of freedom).

    Source: JCGM 101:2008, 7 (7.9 for the number of draws) and 8.

    Examples
    --------
    >>> import jetruler as jr
    >>> ruler = jr.Adc(12, 3.3) >> jr.Line(1000)
    >>> run = jr.simulate(ruler, 2000, noise=2, draws=20_000)
    >>> round(run.mean), round(run.standard, 1)
    (1612, 1.6)
    """
    if draws is not None and not 1000 <= draws <= MOST_DRAWS:
        raise ParameterError("draws", draws, f"from 1000 to {MOST_DRAWS}")
    ruler = ruler_of(what)
    given = conditions_of(
        what, noise, dof=dof, readings=readings, calibration=calibration, level=level
    )
    at = raw_at(what, at)
    first = budget_under(ruler, at, given)
    varied = Varied(ruler, given)
    random = np.random.Generator(np.random.PCG64(seed))
    values, wanted = np.empty(0), draws or FIRST_DRAWS
    while True:
        new = np.empty(wanted - values.size)
        for part in blocks(new.size):  # what a block needs on the way stays in the cache
            new[part] = varied.draw(random, at, part.stop - part.start)
        values = np.sort(np.concatenate((values, new)))  # NaN to the end
        run = _from_draws(values, ruler.gives, level, first)
        most = MOST_ONE_BY_ONE if varied.slow else MOST_DRAWS
        if draws is not None or run.decided or wanted >= most or run.values.size < 2:
            return run
        # The error falls with the root of the draws; a little more, so that one round suffices.
        aim = (STABLE if not run.stable else FINEST) * run.tolerance
        more = 1.1 * wanted * (run.end_error / max(aim, 1e-300)) ** 2
        wanted = int(min(max(2 * wanted, more), most))


def _from_draws(values: Array, unit: str | None, level: float, first: Budget) -> Simulation:
    """What sorted draws say."""
    lost = int(np.isnan(values[-1:]).any() and np.count_nonzero(np.isnan(values)))
    values = values[: values.size - lost]
    n = values.size
    if n < 2:
        nan = math.nan
        none = (nan, nan)
        return Simulation(
            values, unit, nan, nan, none, lost=lost, budget=first, tolerance=nan, end_error=nan
        )
    tail = 0.5 - level / 2
    ends = [float(values[min(n - 1, int(q * n))]) for q in (tail, 1 - tail)]
    # As many draws lie below an end as a coin of this weight would say: half the distance of the
    # draws a standard deviation of that to either side is the end's standard error.
    off = math.sqrt(n * tail * (1 - tail))
    places = [(max(0, int(q * n - off)), min(n - 1, int(q * n + off))) for q in (tail, 1 - tail)]
    standard = float(values.std(ddof=1))
    return Simulation(
        values,
        unit,
        mean=float(values.mean()),
        standard=standard,
        interval=(ends[0], ends[1]),
        lost=lost,
        budget=first,
        tolerance=tolerance_of(standard),
        end_error=max(float(values[high] - values[low]) / 2 for low, high in places),
    )


def tolerance_of(standard: float) -> float:
    """Half a unit in the second significant digit. Source: JCGM 101:2008, 7.9.2."""
    if not standard > 0:
        return 0.0
    two = f"{standard:.1e}"  # rounded first: 0.0996 is 0.10
    return 0.5 * 10.0 ** (int(two.split("e")[1]) - 1)
