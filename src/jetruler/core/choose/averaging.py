"""How many readings to average for a channel to hold a target."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..bench.channel import Channel, channel_of
from ..error_types import JetRulerError, ParameterError
from ..numerics import Array
from ..result import Content, Result, refuses
from ..ruler.ruler import Law, Ruler
from ..ruler.units import number, shown, significant
from ..survey.how_many import HowMany, how_many
from ..uncertainty.contributions import resolution_of


@dataclass(frozen=True, eq=False, repr=False)
class AveragingChoice(Result):
    """What averaging brings at one value of a channel.

    Attributes
    ----------
    value : float
        The value, in the channel's unit.
    unit : str | None
        The channel's unit.
    noise : float
        Noise of one reading in counts, as given or from the readings.
    slope : float
        The channel's unit per count there.
    answer : HowMany
        How many readings hold the target.
    interval : float, optional
        Seconds between two readings, if known.
    raw_unit : str, default "count"
        Unit of the noise.

    Examples
    --------
    >>> import jetruler as jr
    >>> ruler = jr.Adc(12, 3.3) >> jr.Divider(4700) >> jr.Beta(100e3, 3950)
    >>> sensor = jr.Channel("t", ruler, "ch0")
    >>> print(jr.choose_averaging(sensor, 0.05, at=100, noise=1.5))
    at 100 °C one count is worth 0.0358 °C, and the noise is 1.5 counts: 0.0537 °C in one reading
    2 readings: the standard deviation of their mean is 0.0386601
    smooth = { kind = "mean", over = 2 }
    """

    value: float
    """The value, in the channel's unit."""
    unit: str | None
    """The channel's unit."""
    noise: float
    """Noise of one reading in counts, as given or from the readings."""
    slope: float
    """The channel's unit per count there."""
    answer: HowMany
    """How many readings hold the target."""
    interval: float | None
    """Seconds between two readings, if known."""
    raw_unit: str | None
    """Unit of the noise."""

    @property
    def headline(self) -> str:
        return self.answer.headline

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        return {
            "value": [self.value],
            "noise": [self.noise],
            "slope": [self.slope],
            "readings": [self.answer.readings],
            "noise after": [self.answer.noise_after],
        }

    @property
    def content(self) -> Content:
        single = shown(significant(self.noise * self.slope, 3), self.unit)
        counts = self.raw_unit == "count"
        one = "one count" if counts else shown(1, self.raw_unit)
        rounded = significant(self.noise, 3)
        noise = shown(rounded, self.raw_unit)
        if counts:
            noise = "1 count" if rounded == 1 else f"{number(rounded)} counts"
        lines: list[Any] = [
            f"at {shown(self.value, self.unit)} {one} is worth "
            f"{shown(significant(self.slope, 3), self.unit)}, and the noise is {noise}: {single} "
            "in one reading",
            *self.answer.content,
        ]
        n = self.answer.readings
        if n is not None and n > 1:
            lines.append(f'smooth = {{ kind = "mean", over = {n} }}')
            late = (n - 1) / 2
            if self.interval:
                lines.append(f"it shows a change {number(round(late * self.interval, 3))} s late")
        return lines


@refuses
def choose_averaging(
    channel: Channel | Ruler | Law,
    target: float,
    *,
    at: float,
    noise: float | Sequence[float] | Array | None = None,
    interval: float | None = None,
) -> AveragingChoice:
    """How many readings of a channel to average for a standard deviation of `target`.

    Parameters
    ----------
    channel : Channel | Ruler | Law
        The channel; a ruler or a law is one without a name.
    target : float
        One standard deviation, in the channel's unit.
    at : float
        The value at which it matters; a count is worth more at one than at another.
    noise : float | array, optional
        Noise of one reading in counts, if readings are independent; or successive readings at
        rest, shape (n,), with their hum and slow noise. By default that of the channel.
    interval : float, optional
        Seconds between two readings, to tell the delay.

    Returns
    -------
    AveragingChoice
        How many readings, and what is left.

    Raises
    ------
    JetRulerError
        Where that is not known, or no count reads that value.

    Examples
    --------
    >>> import jetruler as jr
    >>> ruler = jr.Adc(12, 3.3) >> jr.Divider(4700) >> jr.Beta(100e3, 3950)
    >>> sensor = jr.Channel("t", ruler, "ch0")
    >>> jr.choose_averaging(sensor, 0.05, at=100, noise=1.5).answer.readings
    2
    """
    channel = channel_of(channel)
    noise = channel.noise if noise is None else noise
    if noise is None:
        raise JetRulerError(f"{channel.name}: its noise is not known; give it, or a log")
    if not target > 0:
        raise ParameterError("to", target, "a value above 0")
    count = float(channel.chain.inverse(at))
    slope = abs(float(channel.chain.slope(count)))
    if not slope > 0:
        raise JetRulerError(f"{channel.name}: no count reads {shown(at, channel.unit)}")
    if isinstance(noise, int | float | np.number):
        lsb = max(resolution_of(channel.chain), 1e-9 * float(noise))
        answer = how_many(float(noise) * slope, target, slope * lsb)
    else:
        readings = np.asarray(noise, dtype=np.float64)
        lsb = resolution_of(channel.chain) or 1e-9 * float(np.ptp(readings)) or 1.0
        answer = how_many(readings * slope, target, slope * lsb)
    return AveragingChoice(
        at,
        channel.unit,
        noise=answer.single / slope,
        slope=slope,
        answer=answer,
        interval=interval,
        raw_unit=channel.chain.takes,
    )
