"""How many readings to average: what the noise that is there, and the steps, leave of a mean."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np

from ..containers import to_array
from ..error_types import ParameterError
from ..numerics import (
    Array,
    rounded_readings,
)
from ..result import Content, Result, old_fields, refuses
from ..ruler.units import number
from ..series import LongRun, deviation_of_means, long_run, noise_of, spreads_of_means

#: Means are measured up to this part of the readings: fewer than fifty of them tell too little.
OF_ALL = 50
#: This many candidates are measured where the spread of means goes up and down, as with hum.
CANDIDATES = 100


@old_fields(alike="correlation_length")
@dataclass(frozen=True, eq=False, repr=False)
class HowMany(Result):
    """How many readings to average.

    Attributes
    ----------
    readings : int | None
        Number of readings for the target; None if no number reaches it.
    noise_after : float
        What is left of a mean of that many: its standard deviation and the error of the steps,
        at the level where both together are the most.
    target : float
        The standard deviation that was asked for.
    limit : float
        The largest error of the mean that is left however many are averaged, since noise too
        small to dither the steps cannot average them out.
    single : float
        Standard deviation of one reading, without the rounding.
    correlation_length : float, default 1.0
        How many successive readings tell as much as one independent one; 1 where the noise was
        said to be independent.
    best : int, optional
        Number of readings above which averaging stops helping, because they move.
    noise : {"said", "seen", "between neighbours"}
        Where the noise comes from: a figure; the readings with all that they do slowly; or the
        differences between neighbours, because slow noise cannot be distinguished from a
        movement.

    Examples
    --------
    >>> import jetruler as jr
    >>> print(jr.how_many(noise=2.0, target=0.5))
    17 readings: the standard deviation of their mean is 0.490098
    """

    readings: int | None
    """Number of readings for the target; None if no number reaches it."""
    noise_after: float
    """What is left of a mean of that many: its standard deviation and the error of the steps, at
    the level where both together are the most."""
    target: float
    """The standard deviation that was asked for."""
    limit: float
    """The largest error of the mean that is left however many are averaged, since noise too small
    to dither the steps cannot average them out."""
    single: float
    """Standard deviation of one reading, without the rounding."""
    correlation_length: float = 1.0
    """How many successive readings tell as much as one independent one; 1 where the noise was said
    to be independent."""
    best: int | None = None
    """Number of readings above which averaging stops helping, because they move."""
    noise: Literal["said", "seen", "between neighbours"] = "said"
    """Where the noise comes from: a figure; the readings with all that they do slowly; or the
    differences between neighbours, because slow noise cannot be distinguished from a
    movement."""

    @property
    def headline(self) -> str:
        return self._answer()

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        return {
            "readings": [self.readings],
            "noise after": [self.noise_after],
            "target": [self.target],
            "limit": [self.limit],
            "alike": [self.correlation_length],
        }

    @property
    def content(self) -> Content:
        return [self._answer(), *self._doubt()]

    def _answer(self) -> str:
        if self.readings is None:
            return (
                f"no number of readings reaches {number(self.target)}: with so little noise, "
                f"rounding leaves an error of {number(self.limit)}"
            )
        if self.readings == 1:
            return "one reading is enough"
        after = number(self.noise_after)
        return f"{self.readings} readings: the standard deviation of their mean is {after}"

    def _doubt(self) -> list[str]:
        if self.noise == "between neighbours":
            return [
                f"the readings move: averaging more than {self.best} adds more movement than it "
                "removes noise; slow noise cannot be separated from movement, so use readings at "
                "rest"
            ]
        if self.correlation_length > 1.5 and self.readings != 1:
            return [
                f"{self.correlation_length:.0f} successive readings are worth one independent one"
            ]
        return []


#: Noise of more steps, or of more times what is needed, is a slip.
MOST_NOISE = 1e12


@refuses
def how_many(noise: Any, target: float, lsb: float | None = None) -> HowMany:
    """How many readings to average so that their mean has a standard deviation of `target`.

    Parameters
    ----------
    noise : float, or anything that holds numbers
        Standard deviation of one reading, if they are independent; or readings at rest, one after
        another, shape (n,): then hum and slow noise are in what is left.
    target : float
        The standard deviation that the mean may have.
    lsb : float, optional
        Size of one count; all three in one unit. Left out, 1 beside a figure for the noise, and the
        step that the readings themselves show.

    Returns
    -------
    HowMany
        The number, and what is left.

    Raises
    ------
    ParameterError
        For a negative noise, a target or an LSB that is not above 0, or fewer than 20 readings.

    Notes
    -----
    The mean of n independent readings has noise/√n. Rounding to steps is averaged out only as far
    as the noise dithers it; what is left is computed from the normal distribution, at the level
    where it is the most. Of readings, the means of n that follow one another are measured, up to a
    fiftieth of them; beyond, they fall as the long-run variance says. Readings that move have no
    such variance: the differences of neighbours represent the noise then, and the means of n next
    to one another differ least where averaging stops helping.

    Sources: JCGM 100:2008, 4.2.7 and C.2; Allan, Proc. IEEE 54 (1966) 221.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.how_many(noise=2.0, target=0.5).readings
    17
    """
    for name, value in (("target", target), ("lsb", lsb)):
        if value is not None and not 0 < value < math.inf:
            raise ParameterError(name, value, "a finite value above 0")
    if isinstance(noise, int | float | np.number):
        most = MOST_NOISE * min(target, lsb or 1.0)
        if not 0 <= noise <= most:
            raise ParameterError("noise", noise, f"0 to {most:g}, which is {MOST_NOISE:g} steps")
        return _of_independent(float(noise), target, lsb or 1.0)
    readings = to_array(noise)[0].astype(np.float64).reshape(-1)
    readings = readings[np.isfinite(readings)]
    if readings.size < 20:
        expected = "a standard deviation, or 20 readings or more"
        raise ParameterError("noise", f"{readings.size} readings", expected)
    lsb = lsb or _step(readings)
    if not np.ptp(readings):  # quieter than their steps
        return replace(_of_independent(0.0, target, lsb), noise="seen")
    run = long_run(readings)
    if run.dof:
        return _of_readings(readings, run, target, lsb)
    near = noise_of(readings)
    steps = readings.std() if math.isnan(near) else math.sqrt(max(near**2 - lsb**2 / 12, 0.0))
    found = _of_independent(float(steps), target, lsb)
    best = _least_apart(readings)
    return replace(found, correlation_length=run.time, best=best, noise="between neighbours")


def _step(readings: Array) -> float:
    """The usual step between readings that repeat one another; almost nothing for others."""
    different = np.unique(readings)
    if different.size < 2:
        raise ParameterError("noise", readings[0], "readings that differ")
    repeats = different.size < readings.size / 2
    return float(np.median(np.diff(different))) if repeats else 1e-9 * float(np.ptp(readings))


def _least_apart(readings: Array) -> int:
    """Of how many readings, in powers of two, the means next to one another differ least."""
    apart = {}
    n = 1
    while readings.size >= 4 * n:
        means = readings[: readings.size // n * n].reshape(-1, n).mean(axis=1)
        apart[n] = float(np.mean(np.diff(means) ** 2))
        n *= 2
    return min(apart, key=lambda n: apart[n])


def _of_independent(noise: float, target: float, lsb: float) -> HowMany:
    """At every level: the squared error of the steps and an nth of the variance are no more than
    the target's square."""
    off, variance = (part * lsb**i for i, part in enumerate(rounded_readings(noise / lsb), 1))
    limit = float(np.max(np.abs(off)))
    if limit >= target:
        return HowMany(None, math.nan, target, limit, single=noise)
    needed = float(np.max(variance / (target - off) / (target + off)))
    readings = max(1, math.ceil(needed * (1 - 1e-9)))
    left = math.sqrt(float(np.max(off**2 + variance / readings)))
    return HowMany(readings, left, target, limit, single=noise)


def _of_readings(readings: Array, run: LongRun, target: float, lsb: float) -> HowMany:
    """By what means of successive readings do."""
    deviation = math.sqrt(max(float(readings.var()) - lsb**2 / 12, 0.0))
    limit = lsb * float(np.max(np.abs(rounded_readings(deviation / lsb)[0])))

    def answer(n: int | None, left: float) -> HowMany:
        return HowMany(
            n,
            math.hypot(left, limit),
            target,
            limit,
            single=deviation,
            correlation_length=max(1.0, run.variance / float(readings.var())),
            noise="seen",
        )

    if limit >= target:
        return answer(None, math.nan)
    goal = math.sqrt(target - limit) * math.sqrt(target + limit)
    reach = max(1, readings.size // OF_ALL)
    of_all = run.variance / readings.size
    deviations = spreads_of_means(readings, reach, of_all)
    for n in (np.flatnonzero(deviations <= 1.02 * goal)[:CANDIDATES] + 1).tolist():
        left = deviation_of_means(readings, n, of_all)
        if left <= goal:
            return answer(n, left)
    hum = _hum(deviations, run.variance)
    # goal² = variance/n + hum/n², solved for n
    half = run.variance / (2 * goal**2)
    n = max(math.ceil(half + math.sqrt(half**2 + hum / goal**2)), reach + 1)
    return answer(n, math.sqrt(run.variance / n + hum / n**2))


def _hum(deviations: Array, variance: float) -> float:
    """n² times what hum adds to the variance of a mean of many, beyond the noise's variance/n; 0
    where it is not more than half of that."""
    n = np.arange(1, deviations.size + 1)
    last = deviations.size // 2
    added = float(np.mean((n * deviations)[last:] ** 2 - n[last:] * variance))
    return added if added > 0.5 * float(np.mean(n[last:])) * variance else 0.0
