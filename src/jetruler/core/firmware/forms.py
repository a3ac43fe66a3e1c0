"""The forms that a conversion can take in whole numbers, the cheapest first; tables with as few
knots as a bound allows."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction

import numpy as np

from ..numerics import AnyArray, Array
from .program import LARGEST, Program, simplified, width_of
from .proof import StraightPieces
from .reference import ReferenceValues

#: Knots followed from each layer, heights tried at each count, the furthest knots kept of each of
#: them, and the margin against ties.
BEAM, HEIGHTS, FURTHEST, TIE = 16, 3, 8, 1e-7
Knot = tuple[int, int]


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
    most: int = 4000,
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


#: No product is larger, so that sums fit beside it.
WIDEST = 2**62
#: A staircase of at most so many steps is written as comparisons.
STEPS = 12


@dataclass(frozen=True)
class Form:
    """A program, what kind of form it is in words, and whether that is a table: of some knots, or
    (knots None) of every count."""

    kind: str
    program: Program
    is_table: bool = False
    knots: int | None = None
    pieces: StraightPieces | None = None
    """The lines that it rounds, if it does."""


@dataclass(frozen=True)
class Middle:
    """The counts between what has no value and what stands still at the ends."""

    wanted: ReferenceValues
    first: int
    last: int
    head: tuple[str, ...]
    """Statements that deal with everything outside."""

    @property
    def part(self) -> slice:
        """Places in the arrays of what is wanted."""
        return slice(self.first, self.last + 1)

    @property
    def start(self) -> int:
        """The first count."""
        return int(self.wanted.counts[self.first])

    @property
    def x(self) -> AnyArray:
        """How far each count is from the first."""
        counts: AnyArray = self.wanted.counts[self.part]
        off: AnyArray = counts - counts[0]
        return off

    @property
    def span(self) -> int:
        """How far the last count is from the first."""
        return int(self.x[-1])

    def rounding(self, at: Callable[[Array], Array]) -> StraightPieces:
        """Lines that are rounded here. at: their heights, by the distance from the first count."""
        last = int(self.wanted.counts[self.last])
        return StraightPieces(self.start, last, lambda n: at(n - self.start))


def middle(w: ReferenceValues, arith: str) -> Middle:
    """Cut off what has no value, and what a clamp holds, at both ends."""
    first, last = int(w.valid[0]), int(w.valid[-1])
    head = outside(int(w.counts[first]), int(w.counts[last]), arith)
    values = w.values[first : last + 1]
    with np.errstate(invalid="ignore"):
        left = int(np.argmax(values != values[0])) if np.any(values != values[0]) else 0
        right = int(np.argmax(values[::-1] != values[-1])) if left else 0
    if left > 2:
        first += left - 1
        head.append(f"if n <= {w.counts[first]}:\n    return {int(w.rounded[first])}")
    if right > 2:
        last -= right - 1
        head.append(f"if n >= {w.counts[last]}:\n    return {int(w.rounded[last])}")
    return Middle(w, first, last, tuple(head))


def outside(low: int, high: int, arith: str, result: object = "NONE") -> list[str]:
    """What counts beyond these give, those that the converter cannot give among them; nothing to
    say of a side on which the arithmetic has no number."""
    limit = LARGEST[arith]
    sides = [f"n < {low}"] if low > -limit - 1 else []
    sides += [f"n > {high}"] if high < limit else []
    return [f"if {' or '.join(sides)}:\n    return {result}"] if sides else []


def forms(w: ReferenceValues, name: str, arith: str) -> Iterator[Form]:
    """Every form that may serve, the cheapest first. Each must still be proven."""
    limit = min(LARGEST[arith], WIDEST)
    steps = staircase(w, name, arith)
    if steps is not None:
        yield steps
    if not w.has_holes and w.valid.size:
        m = middle(w, arith)
        if m.last == m.first:
            body = [*m.head, f"return {int(w.rounded[m.first])}"]
            yield Form("one constant", Program(name, "\n".join(body), {}, arith))
        else:
            yield from straight(m, name, arith, limit)
            yield from whole_steps(m, name, arith, limit)
            low, high = (side[m.part] for side in w.strip(w.reach))
            knots = fewest_knots(low, high, w.target[m.part], limit, x=m.x)
            tables = [] if knots is None else [interpolated(m, knots, name, arith)]
            if w.is_dense:
                tables.append(full(w, m.first, last=m.last, head=m.head, name=name, arith=arith))
            yield from sorted(tables, key=lambda form: form.program.table_bytes)
    elif w.is_dense:
        last = w.counts.size - 1
        head = outside(int(w.counts[0]), int(w.counts[last]), arith)
        yield full(w, 0, last=last, head=tuple(head), name=name, arith=arith)


def staircase(w: ReferenceValues, name: str, arith: str) -> Form | None:
    """Comparisons, for what has few different values: zones above all."""
    whole = w.rounded
    same = (whole[1:] == whole[:-1]) | (np.isnan(whole[1:]) & np.isnan(whole[:-1]))
    edges = np.flatnonzero(~same) + 1
    if edges.size > STEPS:
        return None
    outputs = [_output(whole[i]) for i in (0, *edges.tolist())]
    head = outside(int(w.counts[0]), int(w.counts[-1]), arith)
    body = [*head, *compared(w.counts[edges], outputs)]
    return Form("comparisons", Program(name, "\n".join(body), {}, arith))


def compared(edges: AnyArray, outputs: Sequence[object]) -> list[str]:
    """One output below the first edge, the next below the second, and so on."""
    lines = [
        f"if n < {edge}:\n    return {out}"
        for edge, out in zip(edges.tolist(), outputs, strict=False)
    ]
    return [*lines, f"return {outputs[-1]}"]


def _output(value: float) -> str:
    return "NONE" if value != value else str(int(value))


def straight(m: Middle, name: str, arith: str, limit: int) -> Iterator[Form]:
    """Multiply and shift, then multiply and divide, where one straight piece is near enough."""
    low, high = (side[m.part] for side in m.wanted.strip(m.wanted.reach))
    if np.any(low - high >= 1):
        return
    span = m.span
    whole = _whole_line(m)
    if whole is not None:
        kind = "the count itself" if whole[0] == "n" else "multiply and add"
        yield _form(kind, m, *whole, name, arith)
    exact = _most_exact(m, limit)
    if exact is not None:
        yield _form("multiply and shift", m, *exact, name, arith)
    y0 = _best_start(low, high, m.x)
    least, most = (float(side[-1]) for side in cone(low, high, y0, m.x))
    if least > most:
        return
    sign = -1 if least + most < 0 else 1
    a, b = (least, most) if sign > 0 else (-most, -least)
    base = math.floor(y0) if sign > 0 else math.ceil(y0)
    product = _shifted(
        m, base, rest=abs(y0 - base), slope=sign * 0.5 * (a + b), span=span, limit=limit
    )
    if product is not None:
        yield _form("multiply and shift", m, *product, name, arith)
    ratio = simplest_between(max(0.75 * a + 0.25 * b, 0.0), 0.25 * a + 0.75 * b)
    p, q = ratio.numerator, ratio.denominator
    added = round(abs(y0 - base) * q) + q // 2
    if span * p + added <= limit:
        body = f"{base} {'+' if sign > 0 else '-'} ((n - {m.start}) * {p} + {added}) // {q}"
        line = _line(base, sign, p, added=added - q // 2, over=q)
        yield _form("multiply and divide", m, body, line, name, arith)


def _line(base: int, sign: int, factor: int, *, added: int, over: int) -> Callable[[Array], Array]:
    """The line that base ± (x · factor + added) / over is."""
    return lambda x: base + sign * (x * factor + added) / over


def _best_start(low: Array, high: Array, x: AnyArray) -> float:
    """Where a line may start so that its slope has the most room: that room is concave in the
    start, so thirds of the interval can be left out one after the other."""

    def room(y0: float) -> float:
        least, most = cone(low, high, y0, x)
        return float(most[-1] - least[-1])

    left, right = float(low[0]) - 0.5, float(high[0]) + 0.5
    for _ in range(60):
        third = (right - left) / 3
        if room(left + third) < room(right - third):
            left += third
        else:
            right -= third
    return 0.5 * (left + right)


def whole_steps(m: Middle, name: str, arith: str, limit: int) -> Iterator[Form]:
    """What is rounded to whole units: straight in those, then times the scale."""
    w = m.wanted
    values = w.values[m.part]
    if w.scale == 1 or not np.array_equal(values, np.rint(values)):
        return
    for form in straight(replace(m, wanted=replace(w, scale=1)), name, arith, limit):
        *head, result = form.program.body.splitlines()
        body = [*head, f"return {w.scale} * ({result.removeprefix('return ')})"]
        yield Form(form.kind, replace(form.program, body="\n".join(body)))


#: A line as a result, and the heights that it rounds.
Line = tuple[str, Callable[[Array], Array]]


def _whole_line(m: Middle) -> Line | None:
    """A line of whole numbers that meets every value, if there is one."""
    y: Array = m.wanted.target[m.part]
    factor = round(float(y[-1] - y[0]) / m.span)
    added = round(float(y[0])) - factor * m.start
    if not factor or np.any(np.abs(m.wanted.counts[m.part] * factor + added - y) > 1e-9):
        return None
    sign = "+" if added >= 0 else "-"
    text = f"n * {factor} {sign} {abs(added)}"
    return simplified(text), _line(added + factor * m.start, 1, factor, added=0, over=1)


def _most_exact(m: Middle, limit: int) -> Line | None:
    """The line through the ends."""
    y: Array = m.wanted.target[m.part]
    slope = float(y[-1] - y[0]) / m.span
    base = math.floor(y[0]) if slope >= 0 else math.ceil(y[0])
    return _shifted(m, base, rest=abs(float(y[0]) - base), slope=slope, span=m.span, limit=limit)


def _shifted(m: Middle, base: int, rest: float, slope: float, span: int, limit: int) -> Line | None:
    """A line by the largest shift that fits: it costs no more than a small one."""
    for shift in range(62 if limit > 2**31 else 30, -1, -1):
        factor = round(abs(slope) * 2**shift)
        added = round(rest * 2**shift) + (2**shift >> 1)
        if span * factor + added <= limit:
            factor, added = _ties_away(m, base, factor, added, shift=shift, slope=slope)
            sign = "+" if slope >= 0 else "-"
            half = 2**shift >> 1
            line = _line(base, 1 if slope >= 0 else -1, factor, added=added - half, over=2**shift)
            return f"{base} {sign} ((n - {m.start}) * {factor} + {added} >> {shift})", line
    return None


def _ties_away(
    m: Middle, base: int, factor: int, added: int, *, shift: int, slope: float
) -> tuple[int, int]:
    """The factor and the addend of a shifted line, changed by so little that its ties go away from
    zero, as they do everywhere else; as they are where no such change does it.

    A line that turns very slightly about where it is 0 lies above its ties above 0, and below
    those below.
    """
    target: Array = m.wanted.target[m.part]
    ties = np.flatnonzero(np.abs(target - np.floor(target) - 0.5) < TIE)
    if not ties.size or target[0] == target[-1]:
        return factor, added
    exact = float(target[-1] - target[0]) / m.span
    sign, zero = (-1 if slope < 0 else 1), -float(target[0]) / exact
    wanted, one = m.wanted.rounded[m.part][ties], 2.0**shift
    ties = m.x[ties]
    for turned in (factor, *(math.ceil(abs(exact) * one) + turn for turn in (0, 1, 4, 16))):
        anchored = round(-sign * base * one + 0.5 * one - zero * turned)
        for lifted in dict.fromkeys((added, anchored, anchored - 1, anchored + 1)):
            if np.array_equal(base + sign * ((ties * turned + lifted) >> shift), wanted):
                return turned, lifted
    return factor, added


def _form(
    kind: str, m: Middle, result: str, line: Callable[[Array], Array], name: str, arith: str
) -> Form:
    body = "\n".join([*m.head, f"return {simplified(result)}"])
    return Form(kind, Program(name, body, {}, arith), pieces=m.rounding(line))


def simplest_between(low: float, high: float) -> Fraction:
    """The fraction with the smallest denominator from low to high (both at least 0)."""
    return _between(Fraction(low), Fraction(high))


def _between(a: Fraction, b: Fraction) -> Fraction:
    floor = math.floor(a)
    if a == floor:
        return Fraction(floor)
    if floor + 1 <= b:
        return Fraction(floor + 1)
    return floor + 1 / _between(1 / (b - floor), 1 / (a - floor))


_SEARCH = """\
i = 0
j = {last}
while j - i > 1:
    h = (i + j) // 2
    if n >= {x}[h]:
        i = h
    else:
        j = h
w = {x}[i + 1] - {x}[i]
d = {y}[i + 1] - {y}[i]
k = n - {x}[i]
if d < 0:
    return {y}[i] - (k * -d + w // 2) // w
return {y}[i] + (k * d + w // 2) // w"""


def interpolated(m: Middle, knots: list[tuple[int, int]], name: str, arith: str) -> Form:
    """A table of knots, searched by halves, straight in between."""
    x, y = f"{name}_x", f"{name}_y"
    body = [*m.head, _SEARCH.format(x=x, y=y, last=len(knots) - 1)]
    counts = (m.wanted.counts[m.first + place] for place, _ in knots)
    tables = {x: tuple(map(int, counts)), y: tuple(height for _, height in knots)}
    at = np.array(tables[x], dtype=np.float64), np.array(tables[y], dtype=np.float64)
    pieces = m.rounding(lambda off: np.interp(off + m.start, *at))
    kind = f"a table of {len(knots)} knots with straight lines between"
    program = Program(name, "\n".join(body), tables, arith)
    return Form(kind, program, is_table=True, knots=len(knots), pieces=pieces)


def full(
    w: ReferenceValues, first: int, last: int, head: tuple[str, ...], name: str, arith: str
) -> Form:
    """Every count in a table."""
    none = -LARGEST[arith] - 1
    y = w.rounded[first : last + 1]
    whole = tuple(none if v != v else int(v) for v in y.tolist())
    start = int(w.counts[first])
    index = "n" if start == 0 else f"n - {start}" if start > 0 else f"n + {-start}"
    body = [*head, f"return {name}_y[{index}]"]
    width_of(whole)
    kind = f"a full table of {len(whole)} values"
    program = Program(name, "\n".join(body), {f"{name}_y": whole}, arith)
    return Form(kind, program, is_table=True)


def straight_error(m: Middle) -> float:
    """How far the best straight line through the middle is off, in output steps (before its
    rounding): half the width of the narrowest strip that holds the curve, by its chord's sides."""
    y: Array = m.wanted.target[m.part]
    chord = y[0] + (y[-1] - y[0]) * m.x / max(1, m.span)
    off = y - chord
    return 0.5 * float(off.max() - off.min())


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
