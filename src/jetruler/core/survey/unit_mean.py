"""The mean of a column in its channel's unit."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ..model.channel import Channel
from .survey import Survey


@dataclass(frozen=True)
class UnitMean:
    """A column in its channel's unit. samples: those that have a value; half_width: of the 95 %
    interval of the mean."""

    samples: int
    mean: float
    standard_deviation: float
    half_width: float


def unit_mean(survey: Survey, channel: Channel) -> UnitMean | None:
    """Mean and deviation of the values themselves: each count's, as often as it came up. The
    interval widens as the deviation does. None for a channel that reads zones."""
    if channel.ruler.label(0.0) is not None:
        return None
    raw, often = survey.pairs()
    values = np.asarray(channel.read(raw).value)
    there = np.isfinite(values)
    values, often = values[there], often[there].astype(np.float64)
    n = int(often.sum())
    if n < 2:
        return UnitMean(n, math.nan, math.nan, math.nan)
    mean = float(values @ often) / n
    deviation = math.sqrt(float((values - mean) ** 2 @ often) / (n - 1))
    per_raw = deviation / survey.standard_deviation if survey.standard_deviation else math.nan
    return UnitMean(n, mean, deviation, survey.known.half_width * per_raw)
