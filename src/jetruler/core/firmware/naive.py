"""A chain computed as a chip does it when the formula is typed in unchanged."""

from __future__ import annotations

import ast
import math
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..bench.channel import Channel
from ..error_types import ParameterError
from ..result import Content, Result
from ..ruler.base_law import Evaluator
from ..ruler.units import number, shown, significant, symbol
from .program import FUNCTIONS
from .selection import Arith, Exported, ExportError, export

#: Each arithmetic: its lowest and highest number, and whether what is beyond stops at the end (or
#: wraps round, as two's complement and unsigned numbers do).
WHOLE: Mapping[str, tuple[int, int, bool]] = {
    "int16": (-(2**15), 2**15 - 1, False),
    "int32": (-(2**31), 2**31 - 1, False),
    "uint16-wraps": (0, 2**16 - 1, False),
    "uint16-saturates": (0, 2**16 - 1, True),
}
ARITHMETICS = (*WHOLE, "float32")

#: What a program allows for beside a tie, which nobody types.
_TIE = re.compile(r" [+-] tie \* (?:x|abs\(x\))")
#: A program of so many lines is shown whole.
SHORT = 8
_SIGNS: dict[type[ast.operator], str] = {
    ast.Add: "+",
    ast.Sub: "−",
    ast.Mult: "·",
    ast.Div: "/",
    ast.Pow: "^",
}


@dataclass(frozen=True)
class NaiveStep:
    """One operation as the chip does it.

    law: whose it is. line: the operation and its result. lost: what is cut off or overflows, in
    words; empty where nothing is.
    """

    law: str
    line: str
    lost: str = ""


@dataclass(frozen=True, eq=False, repr=False)
class Naive(Result):
    """A reading computed in a chip's arithmetic, operation by operation.

    Attributes
    ----------
    channel : str
        Its name.
    at : float
        The raw value.
    arith : str
        "int16", "int32", "uint16-wraps", "uint16-saturates" or "float32".
    steps : tuple[NaiveStep, ...]
        The operations in order.
    result : float
        What comes out; NaN where a law has no value.
    true : float
        What it should be.
    unit : str | None
        Unit of both.
    right : tuple[str, ...]
        The form that is right, as `export` writes it, with its worst error.

    Examples
    --------
    >>> import jetruler as jr
    >>> volts = jr.Channel("pin", jr.Adc(10, 5.0), 1, decimals=2)
    >>> found = jr.naive(volts, 383, "int16")
    >>> found.result, round(found.true, 3)
    (0.0, 1.872)
    >>> print(found.steps[0].line, found.steps[0].lost, sep="; ")
    383 / 1023 = 0; 0.374 is cut off
    """

    channel: str
    at: float
    arith: str
    steps: tuple[NaiveStep, ...]
    result: float
    true: float
    unit: str | None
    right: tuple[str, ...]

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
        lines = [f"{self.channel} at {number(self.at)}, typed in unchanged, in {self.arith}"]
        for step in self.steps:
            lost = f"   ← {step.lost}" if step.lost else ""
            lines.append(f"  {step.law:<{wide}}  {step.line}{lost}")
        lines += [f"= {self.headline}", *(f"right: {line}" for line in self.right[:1])]
        return [*lines, *(f"  {line}" for line in self.right[1:])]


def naive(channel: Channel, at: float, arith: str) -> Naive:
    """Compute a reading as a chip does when each law's formula is typed in unchanged.

    Parameters
    ----------
    channel : Channel
        Whose laws are typed in.
    at : float
        A raw value: a whole count, or of an input a multiple of its resolution, which a chip gets
        as the number of its steps.
    arith : {"int16", "int32", "uint16-wraps", "uint16-saturates", "float32"}
        The chip's numbers. Whole numbers are cut off toward zero, constants too; what does not fit
        wraps round, or stops at the end.

    Returns
    -------
    Naive
        Each operation, what it loses, what comes out, the true value, and the form that is right.

    Raises
    ------
    ParameterError
        For an arithmetic that is none of these, and a raw value that is no count of the channel.

    Notes
    -----
    Whole division and conversion cut off toward zero, and signed overflow is taken to wrap, as
    compilers for small chips usually have it. Source: ISO/IEC 9899:1999, 6.3.1 and 6.5.5.

    Examples
    --------
    >>> import jetruler as jr
    >>> damper = jr.load_bench("bench.toml")["damper"]
    >>> jr.naive(damper, 1880, "int16").headline
    'int16: 0 %; the true value is 45.3859 %'
    """
    if arith not in ARITHMETICS:
        raise ParameterError("arith", arith, f"one of {', '.join(ARITHMETICS)}")
    machine: _Machine = _Floats() if arith == "float32" else _Whole(*WHOLE[arith])
    n = _number(channel, at)
    x: float = machine.typed_in(n)[0]
    steps: list[NaiveStep] = []
    for law in channel.ruler.laws:
        source = law.program()
        if source is None:
            raise ParameterError(
                "arith", arith, "laws that are formulas", f"{law.name} has none to type in"
            )
        if math.isnan(x):
            break
        typed = _TIE.sub("", "\n".join(source))
        x = machine.run(ast.parse(typed).body, x)
        steps += (NaiveStep(law.name, line, lost) for line, lost in machine.steps)
    true = float(channel.ruler(at))
    return Naive(
        channel.name,
        at=at,
        arith=arith,
        steps=tuple(steps),
        result=float(x),
        true=true,
        unit=channel.unit,
        right=_right(channel, n, arith),
    )


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


def _right(channel: Channel, at: float, arith: str) -> tuple[str, ...]:
    """What `export` would write, and what it gives here."""
    wide: Arith = "float" if arith == "float32" else "int16" if arith == "int16" else "int32"
    kinds: list[Arith] = [wide, "int32"]
    made: Exported | None = None
    for kind in dict.fromkeys(kinds):
        try:
            made = export(channel, arith=kind)
            break
        except ExportError as error:
            why = str(error)
    if made is None:
        return (why,)
    place = int(np.searchsorted(made.wanted.counts, at))
    lines = [made.lines()[0]]
    if place < made.wanted.counts.size and made.wanted.counts[place] == at:
        lines.append(f"here it gives {channel.shown(_given(made, at))}")
    worst = f"{made.proof.worst:.3g} {symbol(channel.unit)}".rstrip()
    lines.append(f"worst error over all counts: {worst}")
    body = made.program.body.splitlines()
    if not made.program.tables and len(body) <= SHORT:
        scale = made.wanted.scale
        if made.program.arith != "float" and scale != 1:
            lines.append(f"as a program, whose results stand for {1.0 / scale:g} each:")
        lines += (f"  {line}" for line in body)
    return tuple(lines)


def _given(made: Exported, at: float) -> float:
    from .program import ProgramModel

    out = ProgramModel(made.program, made.float_kind).run(np.array([at]))
    return float(out[0]) / (made.wanted.scale if made.program.arith != "float" else 1.0)


class _Machine(Evaluator[float]):
    """Runs a law's statements on one number, and tells each operation."""

    def run(self, statements: Sequence[ast.stmt], x: float) -> float:
        """What a law's statements make of a number; its operations are in `steps`."""
        self.steps: list[tuple[str, str]] = []
        """Each operation, and what is lost by it."""
        self._names: dict[str, float] = {"x": x}
        self._block(statements)
        return self._names["x"]

    def _block(self, statements: Sequence[ast.stmt]) -> None:
        for statement in statements:
            if isinstance(statement, ast.If):
                test = self._truth(statement.test)
                self._block(statement.body if test else statement.orelse)
            elif isinstance(statement, ast.Return):
                self._names["x"] = math.nan
                self.steps.append(("no value: the law has none here", ""))
                return
            elif isinstance(statement, ast.Assign) and isinstance(statement.targets[0], ast.Name):
                value = self.value(statement.value)
                self._names[statement.targets[0].id] = value
            else:
                raise TypeError(f"not part of the language: {ast.unparse(statement)}")
            if math.isnan(self._names["x"]):
                return

    def _truth(self, e: ast.expr) -> bool:
        if isinstance(e, ast.BoolOp):
            found = [self._truth(part) for part in e.values]
            return all(found) if isinstance(e.op, ast.And) else any(found)
        assert isinstance(e, ast.Compare)
        left = self.value(e.left)
        for op, right_side in zip(e.ops, e.comparators, strict=True):
            right = self.value(right_side)
            if not _COMPARE[type(op)](left, right):
                return False
            left = right
        return True

    def value(self, e: ast.AST) -> float:
        """The value of an expression; its operations come one by one."""
        if (
            isinstance(e, ast.BinOp)
            and isinstance(e.op, ast.Add)
            and isinstance(e.right, ast.UnaryOp)
        ):
            e = ast.BinOp(e.left, ast.Sub(), e.right.operand)  # nobody types "+ −50"
        return super().value(e)

    def constant(self, number: Any) -> float:
        value, lost = self.typed_in(float(number))
        if lost:
            self.steps.append((f"{shown(float(number))} typed in as {shown(value)}", lost))
        return value

    def name(self, name: str) -> float:
        return math.nan if name == "NONE" else self._names[name]

    def unary(self, op: ast.unaryop, value: float) -> float:
        return self.kept(-value)[0] if isinstance(op, ast.USub) else value

    def call(self, name: str, values: list[float]) -> float:
        with np.errstate(all="ignore"):
            exact = float(FUNCTIONS[name](*values))
        value, lost = self.kept(exact)
        self.steps.append((f"{name}({', '.join(map(_written, values))}) = {_written(value)}", lost))
        return value

    def binary(self, op: ast.operator, left: float, right: float) -> float:
        sign = _SIGNS[type(op)]
        value, lost = self.operation(sign, left, right)
        self.steps.append((f"{_written(left)} {sign} {_written(right)} = {_written(value)}", lost))
        return value

    def other(self, e: ast.AST) -> float:
        if isinstance(e, ast.IfExp):
            return self.value(e.body if self._truth(e.test) else e.orelse)
        return super().other(e)

    def operation(self, sign: str, left: float, right: float) -> tuple[float, str]:
        """The result of an operation, and what is lost."""
        with np.errstate(all="ignore"):
            if sign == "/" and right == 0:
                return math.nan, "division by zero: what comes out is not defined"
            exact = _EXACT[sign](left, right)
        return self.kept(exact)

    def typed_in(self, value: float) -> tuple[float, str]:
        """A constant as it is typed in."""
        return self.kept(value)

    def kept(self, value: float) -> tuple[float, str]:
        """A value as it is kept, and what is lost of it."""
        raise NotImplementedError


class _Whole(_Machine):
    """Whole numbers of a width."""

    def __init__(self, low: int, high: int, saturates: bool) -> None:
        self._low, self._high, self._saturates = low, high, saturates

    def kept(self, value: float) -> tuple[float, str]:
        if not math.isfinite(value):
            return math.nan, "not defined in whole numbers"
        whole = math.trunc(value)
        lost = ""
        if whole != value:
            lost = f"{number(significant(abs(value - whole), 3))} is cut off"
        if self._low <= whole <= self._high:
            return float(whole), lost
        if self._saturates:
            end = self._low if whole < self._low else self._high
            return float(end), f"{number(whole)} does not fit: it stops at {number(end)}"
        span = self._high - self._low + 1
        wrapped = (whole - self._low) % span + self._low
        return float(wrapped), f"{number(whole)} does not fit: it wraps round to {number(wrapped)}"


class _Floats(_Machine):
    """Floating-point numbers of 32 bits."""

    def kept(self, value: float) -> tuple[float, str]:
        with np.errstate(all="ignore"):
            kept = float(np.float32(value))
        if math.isinf(kept) and math.isfinite(value):
            return kept, f"{value:.3g} does not fit a float of 32 bits"
        off = abs(kept - value)
        relative = off / abs(value) if value else 0.0
        # Half a unit in the last place is what every float is rounded by: more is worth a word.
        return kept, f"{off:.2g} is rounded away" if relative > 1e-7 else ""


_EXACT: dict[str, Callable[[float, float], float]] = {
    "+": lambda a, b: a + b,
    "−": lambda a, b: a - b,
    "·": lambda a, b: a * b,
    "/": lambda a, b: a / b,
    "^": lambda a, b: float(np.power(a, b)),
}
_COMPARE: dict[type[ast.cmpop], Callable[[float, float], bool]] = {
    ast.Lt: lambda a, b: a < b,
    ast.LtE: lambda a, b: a <= b,
    ast.Gt: lambda a, b: a > b,
    ast.GtE: lambda a, b: a >= b,
    ast.Eq: lambda a, b: a == b,
    ast.NotEq: lambda a, b: a != b,
}


def _written(value: float) -> str:
    return number(_round(value)) if value == value else "nothing"


def _round(value: float) -> float:
    return significant(value, 7) if math.isfinite(value) else value
