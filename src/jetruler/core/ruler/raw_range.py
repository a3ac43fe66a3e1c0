"""The range of a ruler's raw edge, and raw values all over it."""

from __future__ import annotations

import contextlib

import numpy as np

from ..error_types import ParameterError
from ..numerics import Array, NoInverseError
from .base_law import Role
from .ruler import Ruler

#: A ruler is sampled at this many places at most to find its ticks.
SAMPLES = 8192


def raw_ends(ruler: Ruler) -> tuple[float, float]:
    """The range of the raw edge; where that is not known, what the marks or points of the first
    law behind it cover. Raises `ParameterError` where there are none."""
    edge = ruler.edge
    if edge is not None and edge.is_bounded:
        return float(edge.lowest), float(edge.highest)
    for i, law in enumerate(ruler.laws):
        if i > 1 and not all(one.role is Role.UNIT for one in ruler.laws[1:i]):
            break
        for key, sides in law.unit_hints.items():
            pairs = getattr(law, key)
            if isinstance(pairs, tuple) and isinstance(sides, tuple):
                raws = [pair[sides.index("takes")] for pair in pairs]
                if i:
                    raws = Ruler(ruler.laws[:i]).inverse(raws)
                return float(min(raws)), float(max(raws))
    expected = "the ends of the input, as in range = [0, 10]"
    raise ParameterError("input.range", None, expected)


def raw_samples(ruler: Ruler, most: int = SAMPLES) -> Array:
    """Raw values over the range of the raw edge: each, or evenly spaced ones where there are more
    than `most`."""
    low, high = raw_ends(ruler)
    edge = ruler.edge
    bounded = edge is not None and edge.is_bounded
    raw = edge.samples(most) if edge is not None and bounded else np.linspace(low, high, most)
    corners = law_corners(ruler)
    if ruler.converter is not None:
        corners = np.concatenate((np.floor(corners), np.ceil(corners)))
    corners = corners[(corners >= low) & (corners <= high)]
    return np.unique(np.concatenate((raw, corners))) if corners.size else raw


def law_corners(ruler: Ruler) -> Array:
    """The raw values at which the laws behind the first one bend or turn, in no order."""
    found: list[float] = []
    for i, law in enumerate(ruler.laws[1:], start=1):
        if law.corners:
            with contextlib.suppress(NoInverseError):
                back = Ruler(ruler.laws[:i]).inverse(np.array(law.corners, dtype=np.float64))
                found += back[np.isfinite(back)].tolist()
    return np.array(found)
