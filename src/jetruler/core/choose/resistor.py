"""The fixed resistor of a divider that serves its sensor best over a range."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import get_args

from ..error_types import JetRulerError, ParameterError
from ..laws.adc import Adc
from ..laws.circuit import Divider
from ..model.channel import Channel, channel_of
from ..model.law import Law
from ..model.result import Content, Result, TextTable
from ..model.ruler import Ruler
from ..model.text import number, shown
from ..model.units import symbol
from .candidates import AIMS, Aim, Candidate, Judge, Leg
from .preferred import preferred


@dataclass(frozen=True, repr=False)
class ResistorChoice(Result):
    """The candidates, best first; the present part; and what no series limits: the optimum.

    Attributes
    ----------
    aim : Aim
        What is best.
    low : float
        Lower end of the range.
    high : float
        Upper end of the range.
    at : float | None
        The value that matters, if one was said.
    unit : str | None
        Unit of the three.
    leg : Leg
        The sensor's leg.
    series : str
        Series of the resistors.
    candidates : tuple[Candidate, ...]
        Best first.
    present : Candidate
        The resistor that is there.
    optimum : Candidate
        What no series limits.
    left_out : int
        How many exceed what is allowed.

    Examples
    --------
    >>> import jetruler as jr
    >>> ruler = jr.Adc(12, 3.3) >> jr.Divider(4700) >> jr.Beta(100e3, 3950)
    >>> sensor = jr.Channel("t", ruler, "ch0")
    >>> jr.choose_resistor(sensor, 20, 240).present.known
    4700.0
    """

    aim: Aim
    low: float
    high: float
    at: float | None
    unit: str | None
    leg: Leg
    series: str
    candidates: tuple[Candidate, ...]
    present: Candidate
    optimum: Candidate
    left_out: int
    """Candidates that exceed the limits of current or heating."""

    @property
    def best(self) -> Candidate:
        """The best of the series."""
        return self.candidates[0]

    @property
    def table(self) -> dict[str, list[float]]:
        """All candidates, a list a column: `jetruler.frame` makes a frame of it."""
        fields = Candidate.__dataclass_fields__
        return {name: [getattr(c, name) for c in self.candidates] for name in fields}

    @property
    def gain(self) -> str:
        """What the best part brings against the present one, in a sentence."""
        best, now = self.best, self.present
        if best.known == now.known:
            return f"the present part, {shown(now.known, 'ohm')}, is the best of {self.series}"
        text = f"{shown(best.known, 'ohm')} instead of {shown(now.known, 'ohm')}: "
        if self.aim == "counts":
            return f"{text}{best.used:.1%} of the counts in use instead of {now.used:.1%}"
        name = {"resolution": "worst resolution", "at": "resolution there", "straight": "bend"}[
            self.aim
        ]
        ends = (shown(_three(c.worth(self.aim)), self.unit) for c in (best, now))
        fraction = best.worth(self.aim) / now.worth(self.aim) - 1
        word = "less" if fraction < 0 else "more"
        change = " instead of ".join(ends)
        return f"{text}{name} {change}, {abs(fraction):.0%} {word}"

    @property
    def headline(self) -> str:
        return str(self.content[0])

    @property
    def content(self) -> Content:
        unit = symbol(self.unit)
        heading = [
            "",
            "known Ω",
            "counts",
            f"worst resolution {unit}",
            f"bend {unit}",
            "current mA",
            "power mW",
        ]
        point = self.at is not None
        heating = not math.isnan(self.present.heating)
        if point:
            heading.insert(4, f"resolution at {number(self.at or 0.0)} {unit}")
        if heating:
            heading.append("warms by K")
        named = [(f"{i}", c) for i, c in enumerate(self.candidates[:5], 1)]
        rows = [
            _row(name, c, point, heating)
            for name, c in [*named, ("present", self.present), ("optimum", self.optimum)]
        ]
        span = f"{number(self.low)} to {shown(self.high, self.unit)}"
        lines: list[str | TextTable] = [
            f"{AIMS[self.aim]} over {span}, {self.series}, sensor in the {self.leg} leg",
            "",
            TextTable([h.strip() for h in heading], rows),
            "",
            self.gain,
        ]
        if self.left_out:
            lines.append(f"{self.left_out} values left out: too much current or heating")
            lines.append("the optimum does not heed that")
        return lines


def _row(name: str, c: Candidate, point: bool, heating: bool) -> list[str]:
    cells = [name, number(_three(c.known)), f"{c.used:.1%}", number(_three(c.resolution))]
    cells += [number(_three(c.resolution_at))] if point else []
    cells += [number(_three(v)) for v in (c.bend, 1e3 * c.current, 1e3 * c.power)]
    return cells + ([number(_three(c.heating))] if heating else [])


def _three(value: float) -> float:
    return float(f"{value:.3g}")


def choose_resistor(
    channel: Channel | Ruler | Law,
    low: float,
    high: float,
    *,
    aim: Aim | None = None,
    at: float | None = None,
    series: str = "E24",
    between: tuple[float, float] | None = None,
    leg: Leg | None = None,
    most_current: float | None = None,
    most_heating: float | None = None,
) -> ResistorChoice:
    """The fixed resistor of a channel's divider that serves its sensor best from low to high.

    Parameters
    ----------
    channel : Channel
        A channel with a divider.
    low, high : float
        In the channel's unit.
    aim : Aim, optional
        "counts" (most of them in use), "resolution" (finest worst resolution; the default),
        "at" (finest resolution at the value `at`; the default if that is given) or "straight"
        (straightest curve of value over count).
    at : float, optional
        The value that matters, in the channel's unit.
    series : str, default "E24"
        As for `preferred`: "E3" to "E192".
    between : tuple[float, float], optional
        Two ends in Ω, by default a hundredth to a hundred times the sensor's own.
    leg : Leg, optional
        Of the sensor; the present one if left out.
    most_current : float, optional
        Through the divider, in A.
    most_heating : float, optional
        Of the sensor, in K, for which the channel's dissipation must be known.

    Returns
    -------
    ResistorChoice
        All candidates, best first, beside the present one and the optimum.

    Raises
    ------
    JetRulerError
        For a channel without a divider, or a range it has no ohms for.

    Notes
    -----
    Source: the voltage divider; IEC 60063.

    Examples
    --------
    >>> import jetruler as jr
    >>> ruler = jr.Adc(12, 3.3) >> jr.Divider(4700) >> jr.Beta(100e3, 3950)
    >>> sensor = jr.Channel("t", ruler, "ch0")
    >>> jr.choose_resistor(sensor, 20, 240, series="E12").best.known
    3900.0
    """
    channel = channel_of(channel)
    place, present = _divider(channel)
    aim = aim or ("resolution" if at is None else "at")
    _check(channel, aim, (low, high), at, most_heating)
    divider = replace(present, sensor=leg or present.sensor)
    judge = Judge(channel, place, divider=divider, low=low, high=high, at=at)
    middle = math.sqrt(float(judge.ohms.min()) * float(judge.ohms.max()))
    ends = between or (middle / 100, middle * 100)
    values = preferred(series, *ends)
    if not values.size:
        raise ParameterError("between", ends, f"no value of {series} lies there")
    found = [judge.candidate(known) for known in values.tolist()]
    fine = [c for c in found if _allowed(c, most_current, most_heating)]
    if not any(c.used for c in fine):
        first, last = (shown(_three(end), "ohm") for end in ends)
        every = f"every value of {series} between {first} and {last} exceeds what is allowed"
        none = "no resistor keeps the whole range on the converter: its reference is below what "
        why = f"{none}feeds the divider" if fine else every
        raise JetRulerError(f"{channel.name}: {why}")
    fine.sort(key=lambda c: (c.worth(aim), c.known))
    now = Judge(channel, place, divider=present, low=low, high=high, at=at)
    return ResistorChoice(
        aim,
        low,
        high=high,
        at=at,
        unit=channel.unit,
        leg=divider.sensor,
        series=series,
        candidates=tuple(fine),
        present=now.candidate(float(present.known)),
        optimum=judge.best(aim, *ends),
        left_out=len(found) - len(fine),
    )


def _check(
    channel: Channel,
    aim: str,
    ends: tuple[float, float],
    at: float | None,
    most_heating: float | None,
) -> None:
    """Refuse what cannot be asked. Raises `JetRulerError`."""
    low, high = ends
    if not low < high:
        raise ParameterError("from", low, f"a value below {number(high)} is right")
    if aim not in get_args(Aim):
        raise ParameterError("aim", aim, f"one of {', '.join(get_args(Aim))} is right")
    if aim == "at" and at is None:
        raise ParameterError("at", None, "the aim `at` needs the value that matters")
    if most_heating is not None and channel.dissipation is None:
        raise JetRulerError(f"{channel.name}: say its dissipation to limit its heating")


def _allowed(c: Candidate, most_current: float | None, most_heating: float | None) -> bool:
    current = most_current is None or c.current <= most_current
    return current and (most_heating is None or c.heating <= most_heating)


def _divider(channel: Channel) -> tuple[int, Divider]:
    for i, law in enumerate(channel.chain.laws):
        if isinstance(law, Divider):
            if not isinstance(channel.chain.converter, Adc):
                break
            return i, law
    raise JetRulerError(
        f"{channel.name} has no divider behind a converter: there is no fixed resistor to choose"
    )
