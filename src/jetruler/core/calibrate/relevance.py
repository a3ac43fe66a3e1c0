"""Which difference matters where nobody says one."""

from __future__ import annotations

import math

import numpy as np

from ..arrays import Array
from ..error_types import JetRulerError
from ..model.channel import Channel
from ..uncertainty.contributions import resolution_of


def relevant_difference(channel: Channel, values: Array) -> float:
    """What one count is worth at a channel's values (their median), or one of its last decimals,
    whichever is more; 0 where neither is known."""
    values = values[np.isfinite(values)]
    count = math.nan
    try:
        counts = channel.chain.inverse(values[:: max(1, values.size // 1000)])
        slopes = np.abs(channel.chain.slope(counts)) * resolution_of(channel.chain)
        if np.isfinite(slopes).any():
            count = float(np.median(slopes[~np.isnan(slopes)]))
    except JetRulerError:  # it turns back: no count can be named
        pass
    places = 10.0**-channel.decimals if channel.decimals is not None else 0.0
    return max(0.0 if math.isnan(count) else count, places)
