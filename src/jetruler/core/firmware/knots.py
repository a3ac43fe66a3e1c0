"""A table with linear interpolation, with as few knots as a bound allows.

From a knot, a straight piece rounds into the bound at every count exactly if its slope lies in a
cone that narrows from count to count; so all knots that one piece can reach are found at once.
Layer by layer (one piece, two, …), the furthest are followed, those near them too, since a knot
a little earlier, or a step higher, may see further.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ..arrays import AnyArray, Array

#: Knots followed from each layer, heights tried at each count, and the margin against ties.
BEAM, HEIGHTS, TIE = 16, 3, 1e-7

Knot = tuple[int, int]


def cone(low: Array, high: Array, x0: int, y0: float, end: int) -> tuple[Array, Array]:
    """The slopes from (x0, y0) that round into low … high at each place x0 + 1 … end."""
    k = np.arange(1, end - x0 + 1)
    part = slice(x0 + 1, end + 1)
    least = np.maximum.accumulate((low[part] - 0.5 + TIE - y0) / k)
    most = np.minimum.accumulate((high[part] + 0.5 - TIE - y0) / k)
    return least, most


def fewest_knots(
    low: Array, high: Array, target: Array, limit: int, most: int = 4000
) -> list[Knot] | None:
    """Knots (place, whole height) from the first to the last place; None where there are none.

    low, high: the whole outputs that are near enough at each place. limit: of an intermediate.
    most: knots at most.
    """
    last = low.size - 1
    if np.any(low > high):
        return None
    heights = _heights(low, high, target)
    before: dict[Knot, Knot | None] = {(0, int(y)): None for y in _at(heights, 0)}
    layer = list(before)
    for _ in range(most):
        found: dict[Knot, Knot] = {}
        for start in layer:
            for knot in _reached(start, low, high=high, heights=heights, last=last, limit=limit):
                found.setdefault(knot, start)
        ends = [knot for knot in found if knot[0] == last]
        fresh = {k: v for k, v in found.items() if k not in before}
        before.update(fresh)
        if ends:
            nearest = min(ends, key=lambda knot: abs(knot[1] - target[last]))
            return _path(nearest, before)
        layer = sorted(fresh, reverse=True)[:BEAM]
        if not layer:
            return None
    return None


def _heights(low: Array, high: Array, target: Array) -> Array:
    """Up to a few whole heights at each place, the nearest to the target first; NaN for none."""
    nearest = np.clip(np.rint(target), low, high)
    tried = [nearest]
    for i in range(1, HEIGHTS // 2 + 1):
        tried += [nearest + i, nearest - i]
    out = np.stack(tried)
    return np.where((out >= low) & (out <= high), out, np.nan)


def _at(heights: Array, place: int) -> AnyArray:
    here = heights[:, place]
    return here[~np.isnan(here)]


def _reached(
    start: Knot, low: Array, high: Array, heights: Array, last: int, limit: int
) -> Iterator[Knot]:
    """The furthest knots that one piece from here reaches."""
    x0, y0 = start
    span = 64
    while True:
        end = min(last, x0 + span)
        least, most = cone(low, high, x0, y0, end)
        if least[-1] > most[-1] or end == last:
            break
        far = np.arange(span // 4, end - x0 + 1)  # where the arithmetic is too narrow, no knot is
        if np.all(np.abs(heights[0, x0 + far] - y0) * far > limit):
            break
        span *= 4
    open_to = int(np.searchsorted(least > most, True))
    k, least, most = np.arange(1, open_to + 1), least[:open_to], most[:open_to]
    tried = heights[:, x0 + 1 : x0 + 1 + open_to]
    rise = tried - y0
    slope = rise / k
    fits = (slope >= least) & (slope <= most) & (np.abs(rise) * k + k // 2 <= limit)
    for row, fit in zip(tried, fits, strict=True):
        for i in np.flatnonzero(fit)[-8:].tolist():
            yield x0 + 1 + i, int(row[i])


def _path(end: Knot, before: dict[Knot, Knot | None]) -> list[Knot]:
    path, knot = [], before[end]
    path.append(end)
    while knot is not None:
        path.append(knot)
        knot = before[knot]
    return path[::-1]
