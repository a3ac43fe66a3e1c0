"""A table with linear interpolation, with as few knots as a bound allows.

From a knot, a straight piece rounds into the bound at every count exactly if its slope lies in a
cone that narrows from count to count; so all knots that one piece can reach are found at once.
Layer by layer (one piece, two, …), the furthest are followed, those near them too, since a knot
a little earlier, or a step higher, may see further.
"""

from __future__ import annotations

import numpy as np

from ..arrays import AnyArray, Array

#: Knots followed from each layer, heights tried at each count, the furthest knots kept of each of
#: them, and the margin against ties.
BEAM, HEIGHTS, FURTHEST, TIE = 16, 3, 8, 1e-7

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
    layer: list[Knot] = [(0, int(y)) for y in _at(heights, 0)]
    before: dict[int, Knot | None] = dict.fromkeys(y for _, y in layer)
    span = 64
    for _ in range(most):
        start, place, height = _reached(
            layer, low, high=high, heights=heights, limit=limit, span=span
        )
        if place.size:  # the next pieces will be about as long
            span = int(np.clip(1.5 * (place.max() - layer[0][0]), 16, last))
        # Each knot once, from the first that reaches it, and none that fewer pieces reach.
        numbers, first = np.unique((place << _SHIFT) + height, return_index=True)
        each = zip(first.tolist(), numbers.tolist(), strict=True)
        fresh = [i for i, n in each if n not in before]
        knots: list[Knot] = []
        for i in fresh:
            knots.append((int(place[i]), int(height[i])))
            before[_number(knots[-1])] = layer[int(start[i])]
        ends = [knot for knot in knots if knot[0] == last]
        if ends:
            nearest = min(ends, key=lambda knot: abs(knot[1] - target[last]))
            return _path(nearest, before)
        layer = knots[::-1][:BEAM]
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
    layer: list[Knot], low: Array, high: Array, heights: Array, limit: int, span: int
) -> tuple[AnyArray, AnyArray, AnyArray]:
    """The furthest knots that one piece from any of these reaches: which of them, place, height.

    A row for each knot that is followed, a column for each place behind it. span: how far is looked
    first.
    """
    last = low.size - 1
    x0, y0 = (np.array(part, dtype=np.int64)[:, None] for part in zip(*layer, strict=True))
    while True:
        k = np.arange(1, span + 1)
        place = np.minimum(x0 + k, last)
        least = np.maximum.accumulate((low[place] - 0.5 + TIE - y0) / k, axis=1)
        most = np.minimum.accumulate((high[place] + 0.5 - TIE - y0) / k, axis=1)
        there = (least <= most) & (x0 + k <= last)
        # Where the arithmetic is too narrow for the far half, no knot is there either.
        far = slice(span // 2, None)
        narrow = np.abs(heights[0][place[:, far]] - y0) * k[far] > limit
        if not np.any(there[:, -1] & ~narrow.all(axis=1)):
            break
        span *= 4
    rise = heights[:, place] - y0
    slope = rise / k
    fits = there & (slope >= least) & (slope <= most) & (np.abs(rise) * k + k // 2 <= limit)
    back = fits[:, :, ::-1]
    row, start, off = np.nonzero(back & (np.cumsum(back, axis=2) <= FURTHEST))
    order = np.lexsort((row, start))
    row, start, k_at = row[order], start[order], span - 1 - off[order]
    place = place[start, k_at]
    return start, place, heights[row, place].astype(np.int64)


#: A knot as one whole number: its place, then its height.
_SHIFT = 34


def _number(knot: Knot) -> int:
    return (knot[0] << _SHIFT) + knot[1]


def _path(end: Knot, before: dict[int, Knot | None]) -> list[Knot]:
    path, knot = [], end
    while True:
        path.append(knot)
        start = before[_number(knot)]
        if start is None:
            return path[::-1]
        knot = start
