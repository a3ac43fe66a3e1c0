"""The fixed resistor of a divider that suits its sensor best over a range, among preferred
values."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Literal, get_args

import numpy as np

from ..bench.channel import Channel, channel_of, raw_from
from ..error_types import JetRulerError, ParameterError
from ..laws.circuit import Divider
from ..laws.preferred import preferred
from ..numerics import Array
from ..result import Content, Result, TextTable, refuses
from ..ruler.base_law import FRACTION
from ..ruler.quantity import Quantityish
from ..ruler.ruler import Law, Ruler
from ..ruler.units import number, shown, significant, symbol

Aim = Literal["counts", "resolution", "at", "straight"]
Leg = Literal["upper", "lower"]

#: What each aim asks for, for people.
AIMS: dict[str, str] = {
    "counts": "most counts in use",
    "resolution": "finest worst resolution",
    "at": "finest resolution at a point",
    "straight": "straightest curve",
}
#: Places over the range at which a candidate is judged.
_GRID = 241


@dataclass(frozen=True)
class Candidate:
    """One fixed resistor over the range.

    known: in Ω. used: fraction of the converter's counts between the ends of the range. resolution:
    the coarsest count over it, in the channel's unit; resolution_at: at the point that matters (NaN
    without one). bend: how far the curve is off its best straight line, in the unit. current:
    largest through the divider, in A. power: largest in the sensor, in W; heating: what that warms
    it by, in K (NaN where the dissipation constant is not known).
    """

    known: float
    used: float
    resolution: float
    resolution_at: float
    bend: float
    current: float
    power: float
    heating: float

    def cost(self, aim: Aim) -> float:
        """What is to be small."""
        return {
            "counts": -self.used,
            "resolution": self.resolution,
            "at": self.resolution_at,
            "straight": self.bend,
        }[aim]


class DividerEvaluator:
    """Judges resistors for one sensor over one range."""

    def __init__(
        self,
        channel: Channel,
        index: int,
        divider: Divider,
        low: float,
        high: float,
        at: float | None,
    ) -> None:
        laws = channel.chain.laws
        self.before, self.divider, self.at = laws[:index], divider, at
        self.dissipation = channel.dissipation
        behind = Ruler(laws[index + 1 :]) if laws[index + 1 :] else None
        self.values = np.linspace(low, high, _GRID)
        if at is not None:
            self.values = np.append(self.values, at)
        self.ohms = self.values if behind is None else behind.inverse(self.values)
        self.per_ohm = np.ones_like(self.ohms) if behind is None else behind.slope(self.ohms)
        sound = np.isfinite(self.ohms) & (self.ohms > 0)
        if not np.all(sound):
            worst = float(self.values[int(np.flatnonzero(~sound)[0])])
            raise JetRulerError(
                f"{channel.name}: no resistance of the sensor means {shown(worst, channel.unit)}"
            )
        converter = channel.chain.converter
        assert converter is not None
        self.converter = converter
        own = divider.supply if divider.takes != FRACTION else converter.vref
        self.supply = math.nan if own is None else float(own)

    def candidate(self, known: float, with_bend: bool = True) -> Candidate:
        """One fixed resistor over the range; its bend takes longer than all else."""
        divider = replace(self.divider, known=known)
        with np.errstate(all="ignore"):
            x = divider.inverse(self.ohms)
            per_count = divider.slope(x) * self.per_ohm
            for law in reversed(self.before):
                x = law.inverse(x)
                per_count = per_count * law.slope(x)
        grid = slice(0, _GRID)
        counts, resolutions = x[grid], np.abs(per_count) * self.converter.lsb
        amps, watts = self._currents(divider, self.ohms[grid])
        seen = bool(np.all(np.isfinite(x)))  # else a part of the range is beyond the converter
        span = self.converter.highest - self.converter.lowest
        return Candidate(
            known,
            float(np.ptp(counts)) / span if seen else 0.0,
            resolution=float(np.max(resolutions[grid])) if seen else math.inf,
            resolution_at=math.nan
            if self.at is None
            else float(resolutions[-1])
            if seen
            else math.inf,
            bend=_bend(counts, self.values[grid]) if seen and with_bend else math.inf,
            current=float(np.max(amps)),
            power=watts,
            heating=watts / (self.dissipation or math.nan),
        )

    def _currents(self, divider: Divider, ohms: Array) -> tuple[Array, float]:
        """The current from the supply at each of the sensor's ohms, and the most power in it, with
        the load beside the lower leg."""
        load = math.inf if divider.load is None else divider.load
        known = np.full_like(ohms, divider.known)
        lower, rest = (ohms, known) if divider.sensor == "lower" else (known, ohms)
        leg = 1 / (1 / lower + 1 / load)
        amps = self.supply / (leg + rest)
        across = amps * (leg if divider.sensor == "lower" else rest)
        return amps, float(np.max(across**2 / ohms))

    def best(self, aim: Aim, low: float, high: float) -> Candidate:
        """The best of all resistors there could be: a search over decades, narrowed."""
        logs = np.linspace(math.log(low), math.log(high), 121)
        for _ in range(6):  # each round a fortieth of the one before
            found = [self.candidate(math.exp(x), aim == "straight") for x in logs.tolist()]
            i = int(np.argmin([c.cost(aim) for c in found]))
            logs = np.linspace(logs[max(0, i - 1)], logs[min(logs.size - 1, i + 1)], 41)
            if logs[-1] - logs[0] < 1e-5:
                break
        return self.candidate(found[i].known)


def _bend(counts: Array, values: Array) -> float:
    """The largest distance of a curve from the line that keeps it smallest: half the width of the
    narrowest strip round it, measured in values."""
    if np.min(np.abs(np.diff(counts))) <= 1e-12 * np.ptp(counts):
        return math.inf  # it stops somewhere
    scaled = (counts - counts.mean()) / np.ptp(counts)
    slopes = np.gradient(values, scaled)
    # The best slope lies between those of the curve's parts. The width is convex in it, so that
    # the smallest of some lies beside the smallest of all.
    tried = np.linspace(slopes.min(), slopes.max(), 17)
    for _ in range(14):  # each round an eighth of the one before, down to the last digit
        widths = np.ptp(values - np.outer(tried, scaled), axis=1)
        i = int(np.argmin(widths))
        tried = np.linspace(tried[max(0, i - 1)], tried[min(16, i + 1)], 17)
    return 0.5 * float(widths[i])


@dataclass(frozen=True, eq=False, repr=False)
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
    seen : tuple[tuple[str, float, float, float], ...], default ()
        What was seen, by name: raw value, ohms, and the raw value with the best.

    Examples
    --------
    >>> import jetruler as jr
    >>> ruler = jr.Adc(12, 3.3) >> jr.Divider(4700) >> jr.Beta(100e3, 3950)
    >>> sensor = jr.Channel("t", ruler, "ch0")
    >>> jr.choose_resistor(sensor, 20, 240).present.known
    4700.0
    """

    aim: Aim
    """What is best."""
    low: float
    """Lower end of the range."""
    high: float
    """Upper end of the range."""
    at: float | None
    """The value that matters, if one was said."""
    unit: str | None
    """Unit of the three."""
    leg: Leg
    """The sensor's leg."""
    series: str
    """Series of the resistors."""
    candidates: tuple[Candidate, ...]
    """Best first."""
    present: Candidate
    """The resistor that is there."""
    optimum: Candidate
    """What no series limits."""
    left_out: int
    """Candidates that exceed the limits of current or heating."""
    seen: tuple[tuple[str, float, float, float], ...]
    """What was seen: its name, raw value and ohms, and the raw value with the best."""

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
        ends = (shown(significant(c.cost(self.aim)), self.unit) for c in (best, now))
        fraction = best.cost(self.aim) / now.cost(self.aim) - 1
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
        lines += [
            f"{name}: {number(raw)} now, which is {shown(significant(ohms, 4), 'ohm')}; "
            f"{number(round(new))} with {shown(self.best.known, 'ohm')}"
            for name, raw, ohms, new in self.seen
        ]
        if self.left_out:
            lines.append(f"{self.left_out} values left out: too much current or heating")
            lines.append("the optimum ignores these limits")
        return lines


def _row(name: str, c: Candidate, point: bool, heating: bool) -> list[str]:
    cells = [name, number(significant(c.known)), f"{c.used:.1%}", number(significant(c.resolution))]
    cells += [number(significant(c.resolution_at))] if point else []
    cells += [number(significant(v)) for v in (c.bend, 1e3 * c.current, 1e3 * c.power)]
    return cells + ([number(significant(c.heating))] if heating else [])


@refuses
def choose_resistor(
    channel: Channel | Ruler | Law,
    low: float | None = None,
    high: float | None = None,
    *,
    seen: Mapping[str, Quantityish] | None = None,
    aim: Aim | None = None,
    at: float | None = None,
    series: str = "E24",
    between: tuple[float, float] | None = None,
    leg: Leg | None = None,
    most_current: float | None = None,
    most_heating: float | None = None,
) -> ResistorChoice:
    """The fixed resistor of a channel's divider that suits its sensor best from low to high.

    Parameters
    ----------
    channel : Channel
        A channel with a divider.
    low, high : float
        Ends of the range, in the channel's unit.
    seen : Mapping[str, float | str], optional
        In their place two raw values or more that the present divider gave, by what was seen: the
        sensor's ohms there are the range, and most counts between them the aim.
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
        Leg of the sensor; by default the present one.
    most_current : float, optional
        Through the divider, in A.
    most_heating : float, optional
        Largest self-heating of the sensor in K; the channel needs its dissipation.

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
    index, present = divider_of(channel)
    marks: dict[str, tuple[float, float]] = {}
    if seen is not None:
        channel, marks = _ohms_seen(channel, index, seen)
        low, high = min(ohms for _, ohms in marks.values()), max(o for _, o in marks.values())
        aim = aim or "counts"
    if low is None or high is None:
        raise ParameterError("low", low, "two ends of a range, or what was seen")
    aim = aim or ("resolution" if at is None else "at")
    _check(channel, aim, (low, high), at, most_heating)
    divider = replace(present, sensor=leg or present.sensor)
    evaluator = DividerEvaluator(channel, index, divider=divider, low=low, high=high, at=at)
    middle = math.sqrt(float(evaluator.ohms.min()) * float(evaluator.ohms.max()))
    ends = between or (middle / 100, middle * 100)
    values = preferred(series, *ends)
    if not values.size:
        raise ParameterError("between", ends, f"a range with a value of {series} in it")
    found = [evaluator.candidate(known) for known in values.tolist()]
    fine = [c for c in found if _allowed(c, most_current, most_heating)]
    if not any(c.used for c in fine):
        first, last = (shown(significant(end), "ohm") for end in ends)
        every = f"every value of {series} between {first} and {last} exceeds the limits"
        none = "no resistor keeps the whole range on the converter: its reference is below what "
        why = f"{none}feeds the divider" if fine else every
        raise JetRulerError(f"{channel.name}: {why}")
    fine.sort(key=lambda c: (c.cost(aim), c.known))
    now = DividerEvaluator(channel, index, divider=present, low=low, high=high, at=at)
    best = Ruler((*channel.chain.laws[:index], replace(divider, known=fine[0].known)))
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
        optimum=evaluator.best(aim, *ends),
        left_out=len(found) - len(fine),
        seen=tuple((n, raw, ohms, float(best.inverse(ohms))) for n, (raw, ohms) in marks.items()),
    )


def _ohms_seen(
    channel: Channel, index: int, seen: Mapping[str, Quantityish]
) -> tuple[Channel, dict[str, tuple[float, float]]]:
    """The channel as far as the sensor's ohms, and the raw value and ohms of each that was seen."""
    if len(seen) < 2:
        raise ParameterError("seen", dict(seen), "two raw values or more, each with a name")
    chain = Ruler(channel.chain.laws[: index + 1])
    ohms = Channel(channel.name, chain, channel.column, dissipation=channel.dissipation)
    marks = {}
    for name, given in seen.items():
        raw = raw_from(channel, given, f"seen {name}")
        marks[name] = (raw, float(chain(raw)))
        if not math.isfinite(marks[name][1]):
            raise ParameterError(f"seen {name}", given, "a raw value with a resistance behind it")
    return ohms, marks


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
        raise ParameterError("from", low, f"a value below {number(high)}")
    if aim not in get_args(Aim):
        raise ParameterError("aim", aim, f"one of {', '.join(get_args(Aim))}")
    if aim == "at" and at is None:
        raise ParameterError("at", None, "the value that matters, for the aim `at`")
    if most_heating is not None and channel.dissipation is None:
        raise JetRulerError(f"{channel.name}: give its dissipation to limit its heating")


def _allowed(c: Candidate, most_current: float | None, most_heating: float | None) -> bool:
    current = most_current is None or c.current <= most_current
    return current and (most_heating is None or c.heating <= most_heating)


def loads_at(channel: Channel, at: float) -> str:
    """Current through a channel's divider and power in its sensor at a raw value, in a sentence;
    empty without a divider, and where the supply or the resistance is not known."""
    try:
        index, divider = divider_of(channel)
    except JetRulerError:
        return ""
    ohms = float(Ruler(channel.chain.laws[: index + 1])(at))
    if not (math.isfinite(ohms) and ohms > 0):
        return ""
    chain = Channel(channel.name, Ruler(channel.chain.laws[: index + 1]), channel.column)
    evaluator = DividerEvaluator(chain, index, divider, low=ohms, high=ohms, at=None)
    amps, watts = evaluator._currents(divider, np.array([ohms]))
    if math.isnan(watts):
        return ""
    text = f"through the divider {number(significant(1e3 * float(amps[0]), 3))} mA, "
    text += f"in the sensor {number(significant(1e3 * watts, 3))} mW"
    if channel.dissipation:
        text += f", which warms it by {number(significant(watts / channel.dissipation, 2))} K"
    return text


def divider_of(channel: Channel) -> tuple[int, Divider]:
    """The divider behind a channel's converter, and its index. Raises `JetRulerError`."""
    for i, law in enumerate(channel.chain.laws):
        if isinstance(law, Divider):
            converter = channel.chain.converter
            if converter is None or converter.full_count is None:
                break
            return i, law
    raise JetRulerError(
        f"{channel.name} has no divider behind a converter: there is no fixed resistor to choose"
    )
