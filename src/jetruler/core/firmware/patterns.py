"""Zones that stand for on/off patterns: one program an output, each of the zone's number."""

from __future__ import annotations

import numpy as np

from ..laws.zones import Zones
from .by_count import by_count
from .program import Program
from .selection import Exported


def pattern_programs(e: Exported) -> list[Program]:
    """The outputs of a channel's zones as functions of the zone, 0 for none; empty for zones that
    are no patterns of whole numbers."""
    zones = next((law for law in reversed(e.channel.ruler.laws) if isinstance(law, Zones)), None)
    if zones is None or e.channel.ruler.label(0.0) is None:
        return []
    patterns = [value for value in zones.values if isinstance(value, tuple)]
    whole = all(isinstance(v, int | float) and v == int(v) for pattern in patterns for v in pattern)
    if len(patterns) < len(zones.values) or not whole:
        return []
    outputs = np.array(patterns, dtype=np.float64).T
    zone = np.arange(len(patterns))
    named = [f"{e.name}_output{i}" for i in range(1, len(outputs) + 1)]
    return [by_count(zone, output, name, 0) for name, output in zip(named, outputs, strict=True)]
