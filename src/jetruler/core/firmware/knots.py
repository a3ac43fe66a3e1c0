"""Tables with as few knots as a bound allows, and how few any table could have."""

from __future__ import annotations

import numpy as np

from ..numerics import AnyArray, Array

#: Knots followed from each layer, heights tried at each count, the furthest knots kept of each of
#: them, and the margin against ties.
BEAM, HEIGHTS, FURTHEST, TIE = 16, 3, 8, 1e-9
Knot = tuple[int, int]
#: A table has no more knots than these.
MOST_KNOTS = 4000


def cone(low: Array, high: Array, y0: float, x: AnyArray) -> tuple[Array, Array]:
    """The slopes from height y0 at the first place that round into low … high at each other one.
    x: how far each place is from the first."""
    least = np.maximum.accumulate((low[1:] - 0.5 + TIE - y0) / x[1:])
    most = np.minimum.accumulate((high[1:] + 0.5 - TIE - y0) / x[1:])
    return least, most


def fewest_knots(
    low: Array,
    high: Array,
    target: Array,
    limit: int,
    most: int = MOST_KNOTS,
    x: AnyArray | None = None,
) -> list[Knot] | None:
    """Knots (place, whole height) from the first to the last place; None where there are none.

    low, high: the whole outputs that are near enough at each place. limit: of an intermediate.
    most: knots at most. x: how far each place is from the first, in counts; places are counts if
    it is left out.
    """
    last = low.size - 1
    x = np.arange(low.size) if x is None else x
    if np.any(low - high >= 1):
        return None
    heights = _heights(low, high, target)
    layer: list[Knot] = [(0, int(y)) for y in _at(heights, 0)]
    before: dict[int, Knot | None] = dict.fromkeys(y for _, y in layer)
    span = 64
    for _ in range(most):
        start, place, height = _reached(
            layer, low, high=high, heights=heights, limit=limit, span=span, x=x
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
    nearest = np.rint(target)
    nearest = np.where(low <= high, np.clip(nearest, low, high), nearest)
    tried = [nearest]
    for i in range(1, HEIGHTS // 2 + 1):
        tried += [nearest + i, nearest - i]
    out = np.stack(tried)
    return np.where((out >= low - 0.5 + TIE) & (out <= high + 0.5 - TIE), out, np.nan)


def _at(heights: Array, place: int) -> AnyArray:
    here = heights[:, place]
    return here[~np.isnan(here)]


def _reached(
    layer: list[Knot],
    low: Array,
    high: Array,
    heights: Array,
    limit: int,
    span: int,
    x: AnyArray,
) -> tuple[AnyArray, AnyArray, AnyArray]:
    """The furthest knots that one piece from any of these reaches: which of them, place, height.

    A row for each knot that is followed, a column for each place behind it. span: how far is looked
    first.
    """
    last = low.size - 1
    x0, y0 = (np.array(part, dtype=np.int64)[:, None] for part in zip(*layer, strict=True))
    while True:
        ahead = np.arange(1, span + 1)
        place = np.minimum(x0 + ahead, last)
        k = np.maximum(x[place] - x[x0], 1)
        least = np.maximum.accumulate((low[place] - 0.5 + TIE - y0) / k, axis=1)
        most = np.minimum.accumulate((high[place] + 0.5 - TIE - y0) / k, axis=1)
        there = (least <= most) & (x0 + ahead <= last)
        # Where the arithmetic is too narrow for the far half, no knot is there either.
        far = slice(span // 2, None)
        narrow = np.abs(heights[0][place[:, far]] - y0) * k[:, far] > limit
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
_SHIFT = 45


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


Point = tuple[int, float]


def least_knots(low: Array, high: Array) -> int:
    """Knots that a table with straight pieces needs at least, to round into low … high at every
    place. Its knots are at places; their heights may be anything."""
    lows, highs = (low - 0.5 + TIE / 2).tolist(), (high + 0.5 - TIE / 2).tolist()
    last, start, pieces = len(lows) - 1, 0, 0
    while start < last:
        start = _furthest(lows, highs, start)
        pieces += 1
    return pieces + 1


def _furthest(lows: list[float], highs: list[float], start: int) -> int:
    """The last place that one straight line from here, between all lows and highs, can reach."""
    # Of the lows only the upper hull can touch a line from below, of the highs the lower hull. The
    # steepest line passes an early low and a late high; the flattest an early high, a late low.
    upper: list[Point] = [(start, lows[start])]
    lower: list[Point] = [(start, highs[start])]
    first_low, first_high = 0, 0
    steepest, flattest = float("inf"), float("-inf")
    on_steepest, on_flattest = upper[0], lower[0]
    for x in range(start + 1, len(lows)):
        low, high = lows[x], highs[x]
        if on_steepest[1] + steepest * (x - on_steepest[0]) < low:
            return x - 1
        if on_flattest[1] + flattest * (x - on_flattest[0]) > high:
            return x - 1
        if on_steepest[1] + steepest * (x - on_steepest[0]) > high:
            first_low, steepest = _tangent(upper, first_low, (x, high), least=True)
            on_steepest = upper[first_low]
        if on_flattest[1] + flattest * (x - on_flattest[0]) < low:
            first_high, flattest = _tangent(lower, first_high, (x, low), least=False)
            on_flattest = lower[first_high]
        _push(upper, first_low, (x, low), up=True)
        _push(lower, first_high, (x, high), up=False)
    return len(lows) - 1


def _slope(a: Point, b: Point) -> float:
    return (b[1] - a[1]) / (b[0] - a[0])


def _tangent(hull: list[Point], first: int, to: Point, least: bool) -> tuple[int, float]:
    """Where a line from a hull to a new point touches it, and its slope. The touching point only
    moves on, so that nothing before it is looked at again."""
    best = _slope(hull[first], to)
    while first + 1 < len(hull):
        following = _slope(hull[first + 1], to)
        if (following > best) if least else (following < best):
            break
        first, best = first + 1, following
    return first, best


def _push(hull: list[Point], first: int, point: Point, up: bool) -> None:
    """A point more on a hull; what lies inside is dropped, but not before the touching point."""
    while len(hull) - first >= 2:
        before, last = _slope(hull[-2], hull[-1]), _slope(hull[-1], point)
        if (last < before) if up else (last > before):
            break
        hull.pop()
    hull.append(point)
