"""A chain computed as a chip does it when its formulas are typed in unchanged, and otherwise."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from .. import OUTER
from ..bench.channel import Channel, channel_of
from ..error_types import ParameterError
from ..numerics import AnyArray, Array
from ..result import Content, Result, TextTable, refuses
from ..ruler.raw_range import raw_samples
from ..ruler.ruler import Law, Ruler
from ..ruler.units import number, shown, significant, symbol
from .c_arithmetic import FLOAT32, KINDS, CType, Operation
from .exported import Exported, ExportError
from .orders import Typed, orders_of
from .program import LARGEST, ProgramModel
from .selection import Arith, export, usual_scale

ARITHMETICS = tuple(KINDS)
#: A form of more lines is not shown.
SHORT = 18
#: Widths that `int` has: 16 bits on the smallest chips, 32 on all others.
INT_BITS = (16, 32)


@dataclass(frozen=True)
class NaiveStep:
    """One operation as the chip does it.

    law: whose it is. line: the operation and its result. lost: what is cut off or overflows, in
    words; empty where nothing is.
    """

    law: str
    line: str
    lost: str


@dataclass(frozen=True)
class NaiveOrder:
    """The same formulas in one order.

    Attributes
    ----------
    order : str
        The order in words.
    result : float
        What comes out at this raw value; NaN for nothing, or nothing defined.
    error : float
        Error of the result there.
    lost : str
        The operation that loses most.
    worst : float
        The largest error over all raw values; infinite where one has no result that is defined.
    worst_at : float
        The raw value with that error.
    worst_lost : str
        The operation that loses most there.
    code : tuple[str, ...]
        The statements.
    """

    order: str
    result: float
    error: float
    lost: str
    worst: float
    worst_at: float
    worst_lost: str
    code: tuple[str, ...]


@dataclass(frozen=True, eq=False, repr=False)
class Naive(Result):
    """A reading computed in a chip's arithmetic, operation by operation.

    Attributes
    ----------
    channel : str
        Name of the channel.
    at : float
        The raw value.
    arith : str
        "int16", "int32", "uint16", "uint16-wraps", "uint16-saturates" or "float32".
    int_bits : int
        The width of `int` on the chip, 16 or 32.
    steps : tuple[NaiveStep, ...]
        The operations in order, as the worked lines are typed in.
    result : float
        What comes out; NaN where there is nothing.
    true : float
        What it should be.
    unit : str | None
        Unit of both.
    orders : tuple[NaiveOrder, ...]
        The formulas as typed in, and in other orders.
    other_int : float
        What comes out on a chip whose `int` has the other width.
    right : tuple[str, ...]
        The cheapest form that is right, as `export` writes it, with its worst error.

    Examples
    --------
    >>> import jetruler as jr
    >>> volts = jr.Channel("pin", jr.Adc(10, 5.0), 1, decimals=2)
    >>> found = jr.naive(volts, 383, "int16")
    >>> found.result, round(found.true, 3)
    (1.0, 1.872)
    >>> print(found.steps[-1].line, found.steps[-1].lost, sep="; ")
    1915 / 1023 = 1; 0.872 is cut off
    >>> [(one.order, one.result) for one in found.orders][:2]
    [('as typed in: multiply first', 1.0), ('divide first', 0.0)]
    """

    channel: str
    """Name of the channel."""
    at: float
    """The raw value."""
    arith: str
    """"int16", "int32", "uint16", "uint16-wraps", "uint16-saturates" or "float32"."""
    int_bits: int
    """The width of `int` on the chip, 16 or 32."""
    steps: tuple[NaiveStep, ...]
    """The operations in order, as the worked lines are typed in."""
    result: float
    """What comes out; NaN where there is nothing."""
    true: float
    """What it should be."""
    unit: str | None
    """Unit of both."""
    orders: tuple[NaiveOrder, ...]
    """The formulas as typed in, and in other orders."""
    other_int: float
    """What comes out on a chip whose `int` has the other width."""
    right: tuple[str, ...]
    """The cheapest form that is right, as `export` writes it, with its worst error."""

    @property
    def headline(self) -> str:
        text = f"{self.arith}: {shown(_round(self.result), self.unit)}; "
        text += f"the true value is {shown(_round(self.true), self.unit)}"
        return text if self.result != self.true else f"{text}: nothing is lost"

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        return {
            "law": [step.law for step in self.steps],
            "operation": [step.line for step in self.steps],
            "lost": [step.lost for step in self.steps],
        }

    @property
    def content(self) -> Content:
        wide = max((len(step.law) for step in self.steps), default=0)
        where = (
            "" if self.arith == FLOAT32.name else f" on a chip whose int has {self.int_bits} bits"
        )
        lines: list[Any] = [
            f"{self.channel} at {number(self.at)}, typed in unchanged, in {self.arith}{where}"
        ]
        lines += [f"  {line}" for line in self.orders[0].code]
        lines += ["", "operation by operation:"]
        for step in self.steps:
            lost = f"   ← {step.lost}" if step.lost else ""
            lines.append(f"  {step.law:<{wide}}  {step.line}{lost}")
        lines.append(f"= {self.headline}")
        if not _same(self.other_int, self.result):
            other = sum(INT_BITS) - self.int_bits
            result = shown(_round(self.other_int), self.unit)
            lines.append(f"an int of {other} bits gives {result}: numbers between have its width")
        lines += ["", self._orders()]
        seen = {self.orders[0].code}
        for one in self.orders[1:]:
            if one.code not in seen:
                lines += ["", f"{one.order}:", *(f"  {line}" for line in one.code)]
                seen.add(one.code)
        return [*lines, "", *(f"right: {line}" for line in self.right[:1]), *self._rest()]

    def _rest(self) -> list[str]:
        return [f"  {line}" for line in self.right[1:]]

    def _orders(self) -> TextTable:
        unit = symbol(self.unit) or "value"
        heads = (
            "order",
            f"result {unit}",
            "error",
            "lost at",
            "worst error",
            "at",
            "lost there",
        )
        rows = [
            [
                one.order, _short(one.result), _short(one.error), one.lost or "–",
                "not defined" if math.isinf(one.worst) else _short(one.worst),
                number(one.worst_at) if one.worst else "–", one.worst_lost or "–",
            ]
            for one in self.orders
        ]  # fmt: skip
        return TextTable(heads, rows)


@refuses
def naive(
    channel: Channel | Ruler | Law,
    at: float,
    arith: str,
    *,
    int_bits: int = 16,
    language: str = "c",
) -> Naive:
    """Compute a reading as a chip does when each law's worked line is typed in unchanged.

    Parameters
    ----------
    channel : Channel | Ruler | Law
        Whose laws are typed in.
    at : float
        A raw value: a whole count, or of an input a multiple of its resolution, which a chip gets
        as the number of its steps.
    arith : {"int16", "int32", "uint16", "uint16-wraps", "uint16-saturates", "float32"}
        The type of every variable and constant. Whole numbers are cut off toward zero, constants
        too; what does not fit wraps round. The last two unsigned ones are those of chips that
        promote nothing: they wrap, or stop at their ends, after every operation.
    int_bits : {16, 32}, default 16
        The width of `int`: narrower numbers are computed in it.
    language : {"c", "python", "st"}, default "c"
        Language of the correct form.

    Returns
    -------
    Naive
        Each operation, what it loses, what comes out, the same in other orders, the true value,
        and the form that is right.

    Raises
    ------
    ParameterError
        For an arithmetic that is none of these, and a raw value that is no count of the channel.

    Notes
    -----
    Signed overflow is taken to wrap, as compilers for small chips usually have it. The worst
    errors are those over all counts of a converter of up to 16 bits, and over several thousand of
    a wider one. Source: ISO/IEC 9899:1999, 6.3.1 and 6.5.5.

    Examples
    --------
    >>> import jetruler as jr
    >>> damper = jr.load_bench("bench.toml")["damper"]
    >>> jr.naive(damper, 1880, "int16").headline
    'int16: 0 %; the true value is 45.3859 %'
    >>> jr.naive(damper, 1880, "int16", int_bits=32).headline
    'int16: 45 %; the true value is 45.3859 %'
    """
    if arith not in KINDS:
        raise ParameterError("arith", arith, f"one of {', '.join(ARITHMETICS)}")
    if int_bits not in INT_BITS:
        raise ParameterError("int_bits", int_bits, "16 or 32")
    channel = channel_of(channel)
    kind, n = KINDS[arith], _number(channel, at)
    typed = Typed.of(channel)
    here = typed.run(kind, int_bits, np.array([n]))
    raw = np.unique(np.append(_raw(channel), at))
    every = np.array([_number(channel, one) for one in raw.tolist()])
    held = _Held(int_bits, raw, counts=every, true=channel.ruler(raw))
    orders: list[tuple[str, Typed, CType]] = []
    for name, how, wide in orders_of(typed, kind, usual_scale(channel), every):
        if any(one[1].code == how.code and one[2] == wide for one in orders):
            continue
        orders.append((name, how, wide))
    other = typed.run(kind, sum(INT_BITS) - int_bits, np.array([n]))
    return Naive(
        channel.name,
        at=at,
        arith=arith,
        int_bits=int_bits,
        steps=tuple(NaiveStep(law, one.line, one.lost) for law, one in here.operations),
        result=float(here.values[0]),
        true=float(channel.ruler(at)),
        unit=channel.unit,
        orders=tuple(held.order(name, how, wide, at) for name, how, wide in orders),
        other_int=float(other.values[0]),
        right=_right(channel, n, arith, language),
    )


@dataclass(frozen=True)
class _Held:
    """Raw values with the counts that a chip gets of them and what they truly read."""

    int_bits: int
    raw: AnyArray
    counts: AnyArray
    true: Array

    def order(self, name: str, how: Typed, kind: CType, at: float) -> NaiveOrder:
        """One order at this raw value, and at its worst."""
        found = how.run(kind, self.int_bits, self.counts).values
        off = np.where(np.isnan(self.true), 0.0, np.abs(found - self.true))
        off[off <= 1e-12 * np.abs(self.true)] = 0.0  # no more than the true value's own rounding
        off[np.isnan(found) & ~np.isnan(self.true)] = np.inf
        here, worst = int(np.searchsorted(self.raw, at)), int(np.argmax(off))

        def lost(place: int) -> str:
            one = self.counts[place : place + 1]
            return _most(how.run(kind, self.int_bits, one).operations)

        return NaiveOrder(
            name,
            result=float(found[here]),
            error=float(found[here] - self.true[here]),
            lost=lost(here) if found[here] != self.true[here] else "",
            worst=float(off[worst]),
            worst_at=float(self.raw[worst]),
            worst_lost=lost(worst) if off[worst] else "",
            code=how.code,
        )


def _most(operations: list[tuple[str, Operation]]) -> str:
    """The operation that loses most: the first that overflows, or else the largest part."""
    losing = [one for _, one in operations if one.lost]
    if not losing:
        return ""
    overflowing = [one for one in losing if one.overflows]
    return (overflowing[0] if overflowing else max(losing, key=lambda one: one.off)).line


def _raw(channel: Channel) -> AnyArray:
    """All raw values, or several thousand of many, that a chip can get."""
    tables = channel.ruler.compiled()
    edge = channel.ruler.edge
    if tables is not None:
        return np.arange(tables[0].lowest, tables[0].lowest + tables[0].values.size, dtype=float)
    if edge is None or not edge.is_bounded:
        return np.zeros(0)
    raw = raw_samples(channel.ruler)
    if edge.lsb:
        raw = np.rint(raw / edge.lsb) * edge.lsb
    return raw[(raw >= edge.lowest) & (raw <= edge.highest)]


def _number(channel: Channel, at: float) -> float:
    """The whole number that a chip gets: the count, or how many steps of its resolution an input
    is, as `export` takes it."""
    edge = channel.ruler.edge
    if edge is None or edge.takes == "count":
        if at != math.floor(at):
            raise ParameterError("at", at, "a whole count")
        return at
    if not edge.lsb:
        raise ParameterError(
            "at", at, "an input with a resolution", "without one it is no whole number to a chip"
        )
    steps = round(at / edge.lsb)
    if abs(steps * edge.lsb - at) > 1e-6 * edge.lsb:
        step = shown(float(edge.lsb), edge.takes)
        raise ParameterError("at", at, f"a multiple of the resolution, {step}")
    return float(steps)


def _right(channel: Channel, at: float, arith: str, language: str) -> tuple[str, ...]:
    """What `export` would write, and what it gives here."""
    wide: Arith = "float" if arith == "float32" else "int16" if arith == "int16" else "int32"
    kinds: list[Arith] = [wide, "int32", "int64"]
    made: Exported | None = None
    for kind in dict.fromkeys(kinds):
        try:
            made = export(channel, arith=kind)
            break
        except (ExportError, ParameterError) as error:
            why = str(error)
    if made is None:
        return (why,)
    place = int(np.searchsorted(made.wanted.counts, at))
    lines = [made.lines()[0]]
    if place < made.wanted.counts.size and made.wanted.counts[place] == at:
        lines.append(f"here it gives {channel.shown(_given(made, at))}")
    worst = f"{made.proof.worst:.3g} {symbol(channel.unit)}".rstrip()
    lines.append(f"worst error over all counts: {worst}")
    stands = f"its results represent {1.0 / made.wanted.scale:g} each"
    scaled = made.program.arith != "float" and made.wanted.scale != 1
    code = OUTER.function(made, language)
    if len(code) > SHORT:
        to = "" if made.program.arith == "int32" else f" --arith {made.program.arith}"
        written = f"jetruler export {channel.name} --to {language}{to} writes it"
        return (*lines, f"{stands}; {written}" if scaled else written)
    return (*lines, *([f"{stands}:"] if scaled else []), *(f"  {line}" for line in code))


def _given(made: Exported, at: float) -> float:
    """What an export gives at a count; NaN for no value."""
    out = float(ProgramModel(made.program, made.float_kind).run(np.array([at]))[0])
    if made.program.arith == "float":
        return out
    return math.nan if out == -LARGEST[made.program.arith] - 1 else out / made.wanted.scale


def _same(a: float, b: float) -> bool:
    return a == b or (a != a and b != b)


def _round(value: float) -> float:
    """To seven digits, but for whole numbers, which a chip has to the last digit."""
    whole = value == round(value) if abs(value) < 2.0**53 else not math.isfinite(value)
    return value if whole else significant(value, 7)


def _short(value: float) -> str:
    return number(significant(value, 4)) if math.isfinite(value) else "not defined"
