"""What each fixed resistor would do for a divider's sensor."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from ..arrays import Array
from ..error_types import JetRulerError
from ..laws.adc import Adc
from ..laws.circuit import Divider
from ..model.channel import Channel
from ..model.law import FRACTION
from ..model.ruler import Ruler
from ..model.text import shown

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

    def worth(self, aim: Aim) -> float:
        """What is to be small."""
        return {
            "counts": -self.used,
            "resolution": self.resolution,
            "at": self.resolution_at,
            "straight": self.bend,
        }[aim]


class Judge:
    """Judges resistors for one sensor over one range."""

    def __init__(
        self,
        channel: Channel,
        place: int,
        divider: Divider,
        low: float,
        high: float,
        at: float | None,
    ) -> None:
        laws = channel.chain.laws
        self.before, self.divider, self.at = laws[:place], divider, at
        self.dissipation = channel.dissipation
        behind = Ruler(laws[place + 1 :]) if laws[place + 1 :] else None
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
        assert isinstance(converter, Adc)
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
            i = int(np.argmin([c.worth(aim) for c in found]))
            logs = np.linspace(logs[max(0, i - 1)], logs[min(logs.size - 1, i + 1)], 41)
            if logs[-1] - logs[0] < 1e-5:
                break
        return self.candidate(found[i].known)


def _bend(counts: Array, values: Array) -> float:
    """The largest distance of a curve from the line that keeps it smallest: half the width of the
    narrowest strip round it, measured in values."""
    if np.min(np.abs(np.diff(counts))) <= 1e-12 * np.ptp(counts):
        return math.inf  # it stands still somewhere
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
