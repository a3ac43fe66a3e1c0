"""The forms that a conversion can take in whole numbers, the cheapest first."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction

import numpy as np

from ..numerics import AnyArray, Array
from .exported import StraightPieces
from .knots import MOST_KNOTS, Knot, cone, fewest_knots
from .program import LARGEST, Program, simplified, width_of
from .reference import ReferenceValues

#: No product is larger, so that sums fit beside it.
WIDEST = 2**62
#: What is off a tie by less is on it: values are floats.
NEAR_TIE = 1e-7
#: A staircase of at most this many steps is written as comparisons.
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
    """The counts between what has no value and what stops at the ends."""

    wanted: ReferenceValues
    first: int
    last: int
    head: tuple[str, ...]
    """Statements that deal with everything outside."""

    @property
    def part(self) -> slice:
        """Places in the arrays of what is needed."""
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

    def rounding(self, at: Callable[[Array], Array], by: float = 0.5) -> StraightPieces:
        """Lines that are rounded here, by so much. at: their heights, by the distance from the
        first count."""
        last = int(self.wanted.counts[self.last])
        return StraightPieces(self.start, last, lambda n: at(n - self.start), by)


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
            most = MOST_KNOTS if w.is_dense else MOST_KNOTS // 4
            knots = fewest_knots(low, high, w.target[m.part], limit, most, x=m.x)
            tables = [] if knots is None else [interpolated(m, knots, name, arith)]
            if knots is None and not w.is_dense:
                tables = _finer(m, low, high, limit=limit, name=name, arith=arith)
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
        yield _form(kind, m, whole, name, arith)
    exact = _most_exact(m, limit)
    if exact is not None:
        yield _form("multiply and shift", m, exact, name, arith)
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
        yield _form("multiply and shift", m, product, name, arith)
    ratio = simplest_between(max(0.75 * a + 0.25 * b, 0.0), 0.25 * a + 0.75 * b)
    p, q = ratio.numerator, ratio.denominator
    added = round(abs(y0 - base) * q) + q // 2
    if span * p + added <= limit:
        body = f"{base} {'+' if sign > 0 else '-'} ((n - {m.start}) * {p} + {added}) // {q}"
        line = _line(base, sign, p, added=added - q // 2, over=q)
        yield _form("multiply and divide", m, (body, line), name, arith)


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
    """What is rounded to steps of several outputs, such as whole units or 5 g: straight in those,
    then times as many."""
    target: Array = m.wanted.target[m.part]
    step = int(np.gcd.reduce(np.rint(target).astype(np.int64)))
    if step < 2 or np.any(np.abs(target - np.rint(target)) > 1e-9):
        return
    coarse = m.wanted.replaced(lambda values, _: values / step)
    coarse = replace(coarse, within=coarse.within / step)
    for form in straight(replace(m, wanted=coarse), name, arith, limit):
        *head, result = form.program.body.splitlines()
        body = [*head, f"return {step} * ({result.removeprefix('return ')})"]
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
    for shift in range(62, -1, -1):
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
    ties = np.flatnonzero(np.abs(target - np.floor(target) - 0.5) < NEAR_TIE)
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


def _form(kind: str, m: Middle, line: Line, name: str, arith: str) -> Form:
    result, heights = line
    body = "\n".join([*m.head, f"return {simplified(result)}"])
    return Form(kind, Program(name, body, {}, arith), pieces=m.rounding(heights))


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
"""
_ROUNDED = """\
if d < 0:
    return {y}[i] - (k * -d + w // 2) // w
return {y}[i] + (k * d + w // 2) // w"""
#: Heights in parts of a step, all at least 0, so that they can be shifted.
_ROUNDED_TWICE = """\
if d < 0:
    h = {y}[i] - (k * -d + w // 2) // w
else:
    h = {y}[i] + (k * d + w // 2) // w
return {base} + (h + {half} >> {parts})"""
#: Heights of a finer table: sixteenths of a step.
PARTS = 4


def interpolated(m: Middle, knots: list[Knot], name: str, arith: str, parts: int = 0) -> Form:
    """A table of knots, searched by halves, straight in between. parts: the heights are in steps
    divided by 2 to the power of this."""
    x, y = f"{name}_x", f"{name}_y"
    one, lowest = 2**parts, min(height for _, height in knots)
    base = math.floor(lowest / one) if parts else 0
    result = _ROUNDED_TWICE if parts else _ROUNDED
    result = result.format(y=y, base=base, half=one // 2, parts=parts)
    body = [*m.head, _SEARCH.format(x=x, y=y, last=len(knots) - 1) + result]
    counts = (m.wanted.counts[m.first + place] for place, _ in knots)
    heights = tuple(height - base * one for _, height in knots)
    tables = {x: tuple(map(int, counts)), y: heights}
    at = np.array(tables[x], dtype=np.float64), np.array(heights) / one + base
    pieces = m.rounding(lambda off: np.interp(off + m.start, *at), 0.5 + (0.5 / one) * bool(parts))
    kind = f"a table of {len(knots)} knots with straight lines between"
    program = Program(name, "\n".join(body), tables, arith)
    return Form(kind, program, True, knots=None if parts else len(knots), pieces=pieces)


def _finer(m: Middle, low: Array, high: Array, *, limit: int, name: str, arith: str) -> list[Form]:
    """A table with heights in parts of a step, where whole ones leave no room."""
    one = 2**PARTS
    strip = (low - 0.5) * one + 1.0, (high + 0.5) * one - 1.0
    target = m.wanted.target[m.part] * one
    knots = fewest_knots(*strip, target, limit // one, MOST_KNOTS // 4, m.x)
    return [] if knots is None else [interpolated(m, knots, name, arith, PARTS)]


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
