"""Scaling for a target that knows only y = x · a / b + c: the three whole numbers with the least
worst error, proven; and what three given numbers do."""

from __future__ import annotations

import heapq
import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Any, Literal

import numpy as np

from ..bench.channel import Channel, channel_of
from ..error_types import ParameterError
from ..numerics import AnyArray, Array, Truths
from ..result import Content, Result, refuses
from ..ruler.ruler import Law, Ruler
from ..ruler.units import number, shown, significant, symbol
from .exported import BLOCK, ExportError
from .forms import middle
from .reference import ReferenceValues, takes_counts
from .selection import scale_of

Rounding = Literal["nearest", "toward zero"]
ROUNDINGS: tuple[Rounding, ...] = ("nearest", "toward zero")
#: Numbers that are judged have 32 bits at most.
LARGEST = 2**31 - 1
#: Pieces of the range of a / b, times counts, that are looked at before a proof is given up.
MOST_WORK = 10**8


@dataclass(frozen=True, eq=False, repr=False)
class ThreeNumbers(Result):
    """Three whole numbers that scale a count: y = x · a / b + c.

    Attributes
    ----------
    channel : str
        Name of the channel.
    a, b, c : int
        The numbers.
    scale : int
        Steps of y for one unit.
    unit : str | None
        The channel's unit.
    bits, product_bits : int
        Width of the numbers and of y, and of the product x · a.
    rounding : {"nearest", "toward zero"}
        What the division does.
    worst : float
        Largest error, in the channel's unit, from count `first` to count `last`.
    worst_at : int
        The count with that error.
    first, last : int
        The counts between which the values follow no clamp.
    beyond : tuple[tuple[int, float, float], ...]
        The lowest and the highest count where they are not those: what y gives there, and what the
        channel reads.
    run : int
        How many counts were run.
    noun : str
        What is scaled: "count", or "step" of an input.
    overflows : tuple[tuple[int, int, str], ...]
        Stretches of counts where something does not fit: from, to, what.
    least : float
        No three numbers of these widths have a smaller largest error than this.
    lost : str
        What was cut off from the given numbers; empty for numbers that were found.

    Examples
    --------
    >>> import jetruler as jr
    >>> ruler = jr.Counts(10) >> jr.Line.through((0, 0), (1023, 100), unit="%")
    >>> found = jr.three_numbers(jr.Channel("knob", ruler, 1), scale=1, product_bits=32)
    >>> found.formula, round(found.worst, 3)
    ('y = x * 100 / 1023 + 0', 0.5)
    """

    channel: str
    """Name of the channel."""
    a: int
    """The numbers."""
    b: int
    """The numbers."""
    c: int
    """The numbers."""
    scale: int
    """Steps of y for one unit."""
    unit: str | None
    """The channel's unit."""
    bits: int
    """Width of the numbers and of y, and of the product x · a."""
    product_bits: int
    """Width of the numbers and of y, and of the product x · a."""
    rounding: str
    """What the division does."""
    worst: float
    """Largest error, in the channel's unit, from count `first` to count `last`."""
    worst_at: int
    """The count with that error."""
    first: int
    """The counts between which the values follow no clamp."""
    last: int
    """The counts between which the values follow no clamp."""
    beyond: tuple[tuple[int, float, float], ...]
    """The lowest and the highest count where they are not those: what y gives there, and what the
    channel reads."""
    run: int
    """How many counts were run."""
    noun: str
    """What is scaled: "count", or "step" of an input."""
    overflows: tuple[tuple[int, int, str], ...]
    """Stretches of counts where something does not fit: from, to, what."""
    least: float
    """No three numbers of these widths have a smaller largest error than this."""
    lost: str
    """What was cut off from the given numbers; empty for numbers that were found."""

    @property
    def formula(self) -> str:
        """As it is typed in."""
        sign = "+" if self.c >= 0 else "-"
        return f"y = x * {self.a} / {self.b} {sign} {abs(self.c)}"

    @property
    def is_best(self) -> bool:
        """Whether no three numbers are better."""
        return not self.overflows and self.worst <= self.least * (1 + 1e-9) + 1e-12

    @property
    def headline(self) -> str:
        return f"{self.formula}: {self._off()}"

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        return {"number": ["a", "b", "c"], "value": [self.a, self.b, self.c]}

    @property
    def content(self) -> Content:
        unit = symbol(self.unit)
        step = f"1/{self.scale} {unit}".strip() if self.scale != 1 else unit or "a unit"
        lines = [
            f"{self.channel}: {self.formula}",
            f"  y is in steps of {step}; numbers and y of {self.bits} bits, x * a of "
            f"{self.product_bits}, divided with rounding {self.rounding}",
            *([f"  {self.lost}"] if self.lost else []),
            f"  {self._stretch(self.first, self.last)}, {self._how_many()}: {self._off()}",
            f"  {self._how_good()}",
        ]
        for first, last, what in self.overflows:
            lines.append(f"  {self._stretch(first, last)}: {what}")
        for count, value, true in self.beyond:
            if value == true:
                continue
            reads = "has no value" if math.isnan(true) else f"reads {shown(true, self.unit)}"
            here = f"at {self.noun} {number(count)} it gives {shown(value, self.unit)}"
            lines.append(f"  {here}, where {self.channel} {reads}")
        return lines

    def _off(self) -> str:
        if not self.worst:
            return "exact"
        return f"off by {self._amount(self.worst)} at most, at {self.noun} {number(self.worst_at)}"

    def _stretch(self, first: int, last: int) -> str:
        return f"{self.noun}s {number(first)} to {number(last)}"

    def _how_many(self) -> str:
        every = self.last - self.first + 1
        return "all run" if self.run == every else f"{self.run} of {every} run"

    def _how_good(self) -> str:
        if self.is_best:
            return "no three numbers of these widths have a smaller worst error"
        if self.overflows or self.worst > 1.01 * self.least:
            least = self._amount(self.least)
            return f"the best three numbers of these widths are off by {least}"
        better = self._amount(self.worst - self.least)
        return f"no three numbers of these widths are better by more than {better}"

    def _amount(self, value: float) -> str:
        return f"{number(significant(value, 3))} {symbol(self.unit)}".rstrip()


@refuses
def three_numbers(
    channel: Channel | Ruler | Law,
    *,
    scale: int | None = None,
    bits: int = 16,
    product_bits: int | None = None,
    rounding: Rounding = "nearest",
    numbers: tuple[float, float, float] | None = None,
) -> ThreeNumbers:
    """Find the three whole numbers that scale a count with the least worst error, or judge three.

    Parameters
    ----------
    channel : Channel | Ruler | Law
        The channel; a ruler or a law is one without a name.
    scale : int, optional
        Steps of y for one unit; as many as the channel's decimals show if left out.
    bits : int, default 16
        Width of a, b, c and y, all signed: 8 to 32.
    product_bits : int, optional
        Width of the product x · a; twice `bits` if left out.
    rounding : {"nearest", "toward zero"}, default "nearest"
        What the target's division does; half a step goes away from zero.
    numbers : tuple[float, float, float], optional
        a, b and c to be judged; what is no whole number is cut off, as a target would.

    Returns
    -------
    ThreeNumbers
        The numbers, and what they do at every count.

    Raises
    ------
    ExportError
        For a channel that no straight line serves: without a value in between, or of labels.
    ParameterError
        For widths, a scale or numbers that make no sense.

    Notes
    -----
    The search is exhaustive: ranges of a / b are cut at the simplest fraction in them, and left out
    only if no rounding in them can be better, or if none of their fractions fits the widths.

    Examples
    --------
    >>> import jetruler as jr
    >>> damper = jr.load_bench("bench.toml")["damper"]
    >>> jr.three_numbers(damper, numbers=(27, 100, -53.4)).lost
    'c = −53.4 is −53: 0.4 is cut off'
    """
    channel = channel_of(channel)
    _check_width("bits", bits, 8, 32)
    product_bits = 2 * bits if product_bits is None else product_bits
    _check_width("product_bits", product_bits, bits, 64)
    if rounding not in ROUNDINGS:
        raise ParameterError("rounding", rounding, f"one of {', '.join(ROUNDINGS)}")
    scale = scale_of(channel, scale)
    w = ReferenceValues.of(channel, scale, 1.0 / scale)
    if w.has_holes or channel.ruler.label(0.0) is not None or w.valid.size < 2:
        why = "labels" if channel.ruler.label(0.0) is not None else "counts without a value"
        raise ExportError(f"{channel.name}: three numbers make a straight line, and it has {why}")
    m = middle(w, "int64")
    largest = int(np.abs(w.counts).max())
    if largest >= 2 ** (product_bits - 1):
        what = f"its counts go up to {largest}, which {product_bits} bits do not hold"
        raise ExportError(f"{channel.name}: {what}; a wider product does")
    task = _Task(
        w.counts[m.part],
        w.target[m.part],
        every=w.counts,
        bits=bits,
        product_bits=product_bits,
        nearest=rounding == "nearest",
    )
    lost = ""
    if numbers is None:
        found, least = _search(task, channel.name)
    else:
        found, lost = _cut(numbers)
        least = _search(task, channel.name)[1]
    return _judged(w, task, found, least=least / scale, lost=lost)


def _check_width(name: str, width: object, low: int, high: int) -> None:
    if isinstance(width, bool) or not isinstance(width, int) or not low <= width <= high:
        raise ParameterError(name, width, f"a whole number from {low} to {high}")


@dataclass(frozen=True)
class _Task:
    """counts, target: between the clamps; every: all counts; nearest: whether it rounds."""

    counts: AnyArray
    target: Array
    every: AnyArray
    bits: int
    product_bits: int
    nearest: bool

    @property
    def most_a(self) -> int:
        """The largest a whose product fits at every count."""
        largest = max(1, int(np.abs(self.every).max()))
        return int(min(2 ** (self.bits - 1) - 1, (2 ** (self.product_bits - 1) - 1) // largest))

    @property
    def most_b(self) -> int:
        return int(2 ** (self.bits - 1) - 1)

    def quotient(self, a: int, b: int, counts: AnyArray) -> AnyArray:
        """x · a / b as the target divides; a may be below 0."""
        size = np.abs(counts) * abs(a)
        whole = (2 * size + b) // (2 * b) if self.nearest else size // b
        signed: AnyArray = np.sign(counts) * (1 if a >= 0 else -1) * whole
        return signed

    def given(
        self, found: tuple[int, int, int], counts: AnyArray
    ) -> tuple[AnyArray, Truths, Truths]:
        """What a target makes of three numbers, as it wraps round; where x · a does not fit, and
        where y does not."""
        a, b, c = found
        limit, wide = 2 ** (self.bits - 1), 2 ** (self.product_bits - 1)
        product = counts * a
        wrapped = (product + wide) % (2 * wide) - wide if self.product_bits < 64 else product
        size = np.abs(wrapped)
        whole = (2 * size + b) // (2 * b) if self.nearest else size // b
        exact = np.sign(wrapped) * whole + c
        y = (exact + limit) % (2 * limit) - limit
        return y, wrapped != product, y != exact

    def offset(self, high: float, low: float) -> tuple[int, float]:
        """The c for which the differences from low to high are least, and the largest of them."""
        limit = 2 ** (self.bits - 1)
        near = math.floor(-(high + low) / 2)
        tried = [min(max(c, -limit), limit - 1) for c in (near, near + 1)]
        return min(((c, max(high + c, -(low + c))) for c in tried), key=lambda one: one[1])


def _search(task: _Task, name: str) -> tuple[tuple[int, int, int], float]:
    """The best a, b, c, and the least error there can be, in steps. Best first: the piece of the
    range of |a / b| that promises most is cut at its simplest fraction."""
    n, t = task.counts, task.target
    rise, span = float(t[-1] - t[0]), int(n[-1] - n[0])
    sign = -1 if rise < 0 else 1

    def differences(ratio: Fraction) -> Array:
        return task.quotient(sign * ratio.numerator, ratio.denominator, n) - t

    def tried(ratio: Fraction) -> tuple[float, int, Fraction]:
        off = differences(ratio)
        c, worst = task.offset(float(off.max()), float(off.min()))
        return worst, c, ratio

    slope = abs(rise) / span
    start = _nearest_fraction(slope, task)
    best = tried(start)
    # Both ends are met within the best error and what rounding adds: a / b is so near the slope.
    near = Fraction(2 * (best[0] + 1) / span) + Fraction(1, 2**40)
    low = max(Fraction(0), _coarse(Fraction(slope) - near, up=False))
    high = _coarse(Fraction(slope) + near, up=True)
    zero = Fraction(0)
    if low == 0:
        best = min(best, tried(zero), key=lambda one: one[0])
    pieces: list[tuple[float, int, Fraction, Fraction]] = [(0.0, 0, low, high)]
    looked_at = 1
    while pieces and pieces[0][0] < best[0] - 1e-12:
        promise, _, low, high = heapq.heappop(pieces)
        if looked_at * n.size > MOST_WORK:
            return (sign * best[2].numerator, best[2].denominator, best[1]), promise
        middle_one = _simplest(low, high)
        if middle_one.numerator > task.most_a or middle_one.denominator > task.most_b:
            continue  # every other fraction in between has larger terms
        best = min(best, tried(middle_one), key=lambda one: one[0])
        for left, right in ((low, middle_one), (middle_one, high)):
            ends = differences(left), differences(right)
            least, most = np.minimum(*ends), np.maximum(*ends)
            promise = max(0.0, task.offset(float(least.max()), float(most.min()))[1])
            if promise < best[0] - 1e-12:
                looked_at += 1
                heapq.heappush(pieces, (promise, looked_at, left, right))
    a, b, c = sign * best[2].numerator, best[2].denominator, best[1]
    if np.any(np.abs(task.quotient(a, b, n) + c) >= 2 ** (task.bits - 1)):
        raise ExportError(f"{name}: its values do not fit {task.bits} bits at this scale")
    return (a, b, c), best[0]


def _nearest_fraction(slope: float, task: _Task) -> Fraction:
    """A fraction that fits the widths, near a slope."""
    b = min(task.most_b, int(task.most_a / slope) if slope > 0 else 1)
    found = Fraction(slope).limit_denominator(max(1, b))
    return found if found.numerator <= task.most_a else Fraction(task.most_a)


def _coarse(x: Fraction, up: bool) -> Fraction:
    """A fraction of few digits beside another one, so that products of its terms fit 64 bits."""
    parts = 2 ** max(0, 28 - max(0, math.floor(x).bit_length()))
    return Fraction(math.ceil(x * parts) if up else math.floor(x * parts), parts)


def _simplest(low: Fraction, high: Fraction) -> Fraction:
    """The fraction with the smallest terms between two others, neither of them included."""
    floor = math.floor(low)
    if floor + 1 < high:
        return Fraction(floor + 1)
    if low == floor:  # low < x < high ≤ floor + 1
        return floor + Fraction(1, math.floor(1 / (high - floor)) + 1)
    return floor + 1 / _simplest(1 / (high - floor), 1 / (low - floor))


def _cut(numbers: tuple[float, float, float]) -> tuple[tuple[int, int, int], str]:
    """Three numbers as a target keeps them, and what is lost."""
    for name, value in zip("abc", numbers, strict=True):
        low = 1 if name == "b" else -LARGEST
        if not low <= value <= LARGEST:
            raise ParameterError(name, value, f"a number from {low} to {LARGEST}")
    a, b, c = (math.trunc(value) for value in numbers)
    cut = [
        f"{name} = {number(given)} is {number(kept)}: "
        f"{number(significant(abs(given - kept), 3))} is cut off"
        for name, given, kept in zip("abc", numbers, (a, b, c), strict=True)
        if given != kept
    ]
    return (a, b, c), "; ".join(cut)


def _judged(
    w: ReferenceValues, task: _Task, found: tuple[int, int, int], *, least: float, lost: str
) -> ThreeNumbers:
    """What three numbers do at every count."""
    first, last = int(task.counts[0]), int(task.counts[-1])
    worst, at, run = 0.0, first, 0
    for counts, target in _every(w, task):
        off = np.abs(task.given(found, counts)[0] - target)
        place = int(np.argmax(off))
        run += counts.size
        if off[place] > worst:
            worst, at = float(off[place]), int(counts[place])
    y, overflown, unfit = task.given(found, task.every)
    limit = 2 ** (task.bits - 1)
    overflows = [
        *_stretches(task.every, overflown, f"x * a does not fit {task.product_bits} bits"),
        *_stretches(task.every, unfit, f"y does not fit {task.bits} bits"),
    ]
    ends = (int(task.every[0]), int(task.every[-1]))
    overflows += [
        (*ends, f"{name} = {value} does not fit {task.bits} bits")
        for name, value in zip("abc", found, strict=True)
        if not -limit <= value < limit
    ]
    beyond = [i for i, count in ((0, ends[0]), (-1, ends[1])) if not first <= count <= last]
    a, b, c = found
    return ThreeNumbers(
        w.channel.name,
        a=a,
        b=b,
        c=c,
        scale=w.scale,
        unit=w.channel.unit,
        bits=task.bits,
        product_bits=task.product_bits,
        rounding="nearest" if task.nearest else "toward zero",
        worst=worst / w.scale,
        worst_at=at,
        first=first,
        last=last,
        beyond=tuple(
            (int(task.every[i]), float(y[i]) / w.scale, float(w.values[i])) for i in beyond
        ),
        run=run,
        noun="count" if takes_counts(w.channel) else "step",
        overflows=tuple(overflows),
        least=least,
        lost=lost,
    )


def _every(w: ReferenceValues, task: _Task) -> Iterator[tuple[AnyArray, Array]]:
    """All counts between the clamps with their values in steps, in blocks; of too many, those that
    matter."""
    first, last = int(task.counts[0]), int(task.counts[-1])
    if w.is_dense or last - first >= w.most:
        yield task.counts, task.target
        return
    for start in range(first, last + 1, BLOCK):
        counts = np.arange(start, min(start + BLOCK, last + 1))
        yield counts, w.reads(counts)[0] * w.scale


def _stretches(counts: AnyArray, where: Truths, what: str) -> list[tuple[int, int, str]]:
    """The stretches of counts where something holds."""
    edges = np.flatnonzero(np.diff(np.concatenate(([False], where, [False]))))
    pairs = zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True)
    return [(int(counts[a]), int(counts[b - 1]), what) for a, b in pairs]
