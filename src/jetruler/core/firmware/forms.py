"""The forms that a conversion can take in whole numbers, the cheapest first."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction

import numpy as np

from ..arrays import AnyArray, Array
from .knots import cone, fewest_knots
from .program import LARGEST, Program, width_of
from .wanted import ExactValues

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


@dataclass(frozen=True)
class Middle:
    """The counts between what has no value and what stands still at the ends."""

    wanted: ExactValues
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


def middle(w: ExactValues, arith: str) -> Middle:
    """Cut off what has no value, and what a clamp holds, at both ends."""
    first, last = int(w.valid[0]), int(w.valid[-1])
    head = outside(int(w.counts[first]), int(w.counts[last]), arith)
    values = w.values[first : last + 1]
    with np.errstate(invalid="ignore"):
        left = int(np.argmax(values != values[0])) if np.any(values != values[0]) else 0
        right = int(np.argmax(values[::-1] != values[-1])) if left else 0
    if left > 2:
        first += left - 1
        head.append(f"if n <= {w.counts[first]}:\n    return {round_whole(w.target[first])}")
    if right > 2:
        last -= right - 1
        head.append(f"if n >= {w.counts[last]}:\n    return {round_whole(w.target[last])}")
    return Middle(w, first, last, tuple(head))


def outside(low: int, high: int, arith: str, result: object = "NONE") -> list[str]:
    """What counts beyond these give, those that the converter cannot give among them; nothing to
    say of a side on which the arithmetic has no number."""
    limit = LARGEST[arith]
    sides = [f"n < {low}"] if low > -limit - 1 else []
    sides += [f"n > {high}"] if high < limit else []
    return [f"if {' or '.join(sides)}:\n    return {result}"] if sides else []


def round_whole(value: float) -> int:
    """To the nearest whole number, ties away from zero."""
    return int(math.copysign(math.floor(abs(value) + 0.5), value))


def forms(w: ExactValues, name: str, arith: str) -> Iterator[Form]:
    """Every form that may serve, the cheapest first. Each must still be proven."""
    limit = LARGEST[arith]
    steps = staircase(w, name, arith)
    if steps is not None:
        yield steps
    if not w.has_holes and w.valid.size:
        m = middle(w, arith)
        if m.last == m.first:
            body = [*m.head, f"return {round_whole(w.target[m.first])}"]
            yield Form("one constant", Program(name, "\n".join(body), {}, arith))
        else:
            yield from straight(m, name, arith, limit)
            yield from whole_steps(m, name, arith, limit)
            knots = fewest_knots(w.low[m.part], w.high[m.part], w.target[m.part], limit)
            tables = [] if knots is None else [interpolated(m, knots, name, arith)]
            tables.append(full(m.wanted, m.first, last=m.last, head=m.head, name=name, arith=arith))
            yield from sorted(tables, key=lambda form: form.program.table_bytes)
    else:
        last = w.counts.size - 1
        head = outside(int(w.counts[0]), int(w.counts[last]), arith)
        yield full(w, 0, last=last, head=tuple(head), name=name, arith=arith)


def staircase(w: ExactValues, name: str, arith: str) -> Form | None:
    """Comparisons, for what has few different values: zones above all."""
    whole = np.where(np.isnan(w.target), np.nan, np.rint(w.target))
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
    low, high = m.wanted.low[m.part], m.wanted.high[m.part]
    if np.any(low > high):
        return
    span = low.size - 1
    exact = _most_exact(m, limit)
    if exact is not None:
        yield _form("multiply and shift", m, exact, name, arith)
    y0 = _best_start(low, high, span)
    least, most = (float(side[-1]) for side in cone(low, high, 0, y0, span))
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
        yield _form("multiply and divide", m, body, name, arith)


def _best_start(low: Array, high: Array, span: int) -> float:
    """Where a line may start so that its slope has the most room: that room is concave in the
    start, so thirds of the interval can be left out one after the other."""

    def room(y0: float) -> float:
        least, most = cone(low, high, 0, y0, span)
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


def _most_exact(m: Middle, limit: int) -> str | None:
    """The line through the ends."""
    y: Array = m.wanted.target[m.part]
    slope = float(y[-1] - y[0]) / (y.size - 1)
    base = math.floor(y[0]) if slope >= 0 else math.ceil(y[0])
    return _shifted(
        m, base, rest=abs(float(y[0]) - base), slope=slope, span=y.size - 1, limit=limit
    )


def _shifted(m: Middle, base: int, rest: float, slope: float, span: int, limit: int) -> str | None:
    """A line by the largest shift that fits: it costs no more than a small one."""
    for shift in range(30, -1, -1):
        factor = round(abs(slope) * 2**shift)
        added = round(rest * 2**shift) + (2**shift >> 1)
        if span * factor + added <= limit:
            sign = "+" if slope >= 0 else "-"
            return f"{base} {sign} ((n - {m.start}) * {factor} + {added} >> {shift})"
    return None


def _form(kind: str, m: Middle, result: str, name: str, arith: str) -> Form:
    return Form(kind, Program(name, "\n".join([*m.head, f"return {result}"]), {}, arith))


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
    tables = {
        x: tuple(m.start + place for place, _ in knots),
        y: tuple(height for _, height in knots),
    }
    kind = f"a table of {len(knots)} knots with straight lines between"
    program = Program(name, "\n".join(body), tables, arith)
    return Form(kind, program, is_table=True, knots=len(knots))


def full(
    w: ExactValues, first: int, last: int, head: tuple[str, ...], name: str, arith: str
) -> Form:
    """Every count in a table."""
    none = -LARGEST[arith] - 1
    y: AnyArray = w.target[first : last + 1]
    whole = tuple(none if v != v else round_whole(v) for v in y.tolist())
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
    x = np.arange(y.size)
    chord = y[0] + (y[-1] - y[0]) * x / max(1, y.size - 1)
    off = y - chord
    return 0.5 * float(off.max() - off.min())
