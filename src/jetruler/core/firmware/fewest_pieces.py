"""How many knots a table must have at least: a bound below, to hold what was found against.

The pieces of a table share their knots. Straight lines that need not meet there, each through as
many places as one line can, are as few or fewer: a table with fewer pieces would make them fewer
still. One pass, with the two convex hulls that a line must pass between.
Source: O'Rourke, Comm. ACM 24 (1981) 574.
"""

from __future__ import annotations

from ..arrays import Array
from .knots import TIE

Point = tuple[int, float]


def least_knots(low: Array, high: Array) -> int:
    """Knots that a table with straight pieces needs at least, to round into low … high at every
    place. Its knots stand at places; their heights may be anything."""
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
