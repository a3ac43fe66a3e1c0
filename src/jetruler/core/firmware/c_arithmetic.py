"""Statements computed as C computes them: promotion, conversion, truncation and wrapping, operation
by operation, at many counts at once."""

from __future__ import annotations

import ast
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from ..numerics import AnyArray, Array, Truths
from ..ruler.base_law import Evaluator
from ..ruler.units import number, shown, significant
from .program import FUNCTIONS


@dataclass(frozen=True)
class CType:
    """A type of C. bits: its width. wraps: whether it is never promoted and wraps at its own
    width; saturates: whether it stops at its ends instead (no type of C does, some chips do)."""

    name: str
    bits: int
    signed: bool = True
    floating: bool = False
    wraps: bool = False
    saturates: bool = False

    @property
    def ends(self) -> tuple[int, int]:
        """The lowest and the highest whole number."""
        if self.signed:
            return -(2 ** (self.bits - 1)), 2 ** (self.bits - 1) - 1
        return 0, 2**self.bits - 1

    @property
    def dtype(self) -> type[np.generic]:
        """In which its values are held: whole numbers in 64 bits."""
        if not self.floating:
            return np.int64
        return np.float32 if self.bits == 32 else np.float64


INT16, UINT16 = CType("int16", 16), CType("uint16", 16, signed=False)
INT32, INT64 = CType("int32", 32), CType("int64", 64)
FLOAT32, DOUBLE = CType("float32", 32, floating=True), CType("double", 64, floating=True)
KINDS = {
    kind.name: kind
    for kind in (
        INT16, INT32, UINT16, CType("uint16-wraps", 16, signed=False, wraps=True),
        CType("uint16-saturates", 16, signed=False, saturates=True), FLOAT32,
    )
}  # fmt: skip


def promoted(kind: CType, int_bits: int) -> CType:
    """What an operation makes of a number first: whole types narrower than `int` become `int`.
    Source: ISO/IEC 9899:1999, 6.3.1.1."""
    if kind.floating or kind.wraps or kind.saturates or kind.bits >= int_bits:
        return kind
    return INT32 if int_bits == 32 else INT16


def common(a: CType, b: CType, int_bits: int) -> CType:
    """The type in which two numbers meet. Source: ISO/IEC 9899:1999, 6.3.1.8."""
    a, b = promoted(a, int_bits), promoted(b, int_bits)
    if a.floating or b.floating:
        return max(a, b, key=lambda kind: (kind.floating, kind.bits))
    if a.signed == b.signed:
        return a if a.bits >= b.bits else b
    unsigned, signed = (b, a) if a.signed else (a, b)
    return unsigned if unsigned.bits >= signed.bits else signed


class Value(NamedTuple):
    """Values of one type, one for each count (or one for all)."""

    values: AnyArray
    kind: CType


@dataclass(frozen=True)
class Operation:
    """One operation, where a single count is computed.

    line: the operation and its result. lost: what is cut off or overflows, in words; empty where
    nothing is. overflows: whether it is that. off: how much is lost, as a part of the exact result.
    """

    line: str
    lost: str = ""
    overflows: bool = False
    off: float = 0.0


SIGNS: dict[type[ast.operator], str] = {
    ast.Add: "+", ast.Sub: "−", ast.Mult: "·", ast.Div: "/", ast.Pow: "^",
}  # fmt: skip
_COMPARISONS: dict[type[ast.cmpop], str] = {
    ast.Lt: "<", ast.LtE: "≤", ast.Gt: ">", ast.GtE: "≥", ast.Eq: "=", ast.NotEq: "≠",
}  # fmt: skip
_COMPARED: dict[type[ast.cmpop], Any] = {
    ast.Lt: np.less, ast.LtE: np.less_equal, ast.Gt: np.greater, ast.GtE: np.greater_equal,
    ast.Eq: np.equal, ast.NotEq: np.not_equal,
}  # fmt: skip


class CMachine(Evaluator[Value]):
    """Runs statements in which every variable and constant has one type.

    kind: that type. int_bits: the width of `int`, which decides what narrower numbers are promoted
    to. Signed overflow and conversions that do not fit wrap round, as compilers have it (the
    standard leaves the first undefined); division by zero and a float too large for a whole number
    have no value.
    """

    def __init__(self, kind: CType, int_bits: int) -> None:
        self.kind, self.int_bits = kind, int_bits
        self.operations: list[Operation] = []
        self.undefined: Truths = np.zeros(0, np.bool_)
        """Where something has happened that C does not define."""
        self.left: Truths = np.zeros(0, np.bool_)
        """Where the statements end without a value."""
        self.overflows = False
        """Whether anything has not fitted, at any count."""

    def start(self, counts: AnyArray) -> AnyArray:
        """Take counts in; they are what `run` begins with."""
        self.undefined = np.zeros(counts.size, np.bool_)
        self.left = np.zeros(counts.size, np.bool_)
        self._lanes = ~self.left
        self.operations = []
        return self._converted(Value(counts.astype(np.int64), INT64), self.kind).values

    def run(self, statements: Sequence[ast.stmt], x: AnyArray) -> AnyArray:
        """What statements make of x; their operations are in `operations`."""
        self.operations = []
        self._names = {"x": Value(x, self.kind)}
        with np.errstate(all="ignore"):
            self._block(statements, ~self.left)
        return self._names["x"].values

    @property
    def _one(self) -> bool:
        return self.undefined.size == 1

    def _block(self, statements: Sequence[ast.stmt], lanes: Truths) -> None:
        for s in statements:
            lanes = lanes & ~self.left
            if not lanes.any():
                return
            self._lanes = lanes
            if isinstance(s, ast.If):
                test = self._truth(s.test)
                if self._one and test[0] and isinstance(s.test, ast.Compare):
                    held = self._held(s.test)
                    self.operations.append(Operation(held))
                self._block(s.body, lanes & test)
                self._block(s.orelse, lanes & ~test)
            elif isinstance(s, ast.Return):
                self.left = self.left | lanes
                if self._one:
                    self.operations.append(Operation("no value: the law has none here"))
            elif isinstance(s, ast.Assign) and isinstance(s.targets[0], ast.Name):
                self._assign(s.targets[0].id, s.value)
            else:
                raise TypeError(f"not part of the language: {ast.unparse(s)}")

    def _held(self, e: ast.Compare) -> str:
        """A comparison that holds, as it is computed."""
        noted = list(self.operations)
        left, right = (self.value(side).values for side in (e.left, e.comparators[0]))
        self.operations = noted
        return f"{_written(left)} {_COMPARISONS[type(e.ops[0])]} {_written(right)} holds"

    def _assign(self, name: str, e: ast.expr) -> None:
        lanes = self._lanes
        found = self.value(e)
        kept = self._converted(found, self.kind)
        self._note_assigned(found, kept)
        before = self._names.get(name, Value(np.zeros(1, self.kind.dtype), self.kind))
        self._names[name] = Value(np.where(lanes, kept.values, before.values), self.kind)

    def _truth(self, e: ast.expr) -> Truths:
        if isinstance(e, ast.BoolOp):
            joined = np.logical_and if isinstance(e.op, ast.And) else np.logical_or
            return np.asarray(joined.reduce([self._truth(part) for part in e.values]))
        assert isinstance(e, ast.Compare)
        held, left = np.ones(self.undefined.shape, np.bool_), self.value(e.left)
        for op, other in zip(e.ops, e.comparators, strict=True):
            right = self.value(other)
            kind = common(left.kind, right.kind, self.int_bits)
            held &= _COMPARED[type(op)](
                *(self._converted(side, kind).values for side in (left, right))
            )
            left = right
        return held

    def constant(self, number: Any) -> Value:
        exact = float(number)
        if exact.is_integer() and abs(exact) < 2**63:  # written without a point, it wraps
            literal = Value(np.array([int(exact)]), INT64)
        else:
            literal = Value(np.array([exact]), DOUBLE)
        kept = self._converted(literal, self.kind)
        value = float(kept.values[0])
        self.overflows |= abs(value - exact) >= 1 and not self.kind.floating
        if self._one and value != exact:
            self._note(f"{shown(exact)} typed in as {shown(value)}", exact, value)
        return kept

    def name(self, name: str) -> Value:
        return self._names[name]

    def unary(self, op: ast.unaryop, value: Value) -> Value:
        kind = promoted(value.kind, self.int_bits)
        values, overflown = self._fitted(-value.values, kind)
        if self._one and overflown.any():
            of = _written(value.values)
            text = f"−{f'({of})' if of.startswith('−') else of} = {_written(values)}"
            self._note(text, -float(value.values[0]), float(values[0]), kind, over=True)
        return Value(values, kind)

    def other(self, e: ast.AST) -> Value:
        if not isinstance(e, ast.IfExp):
            return super().other(e)
        lanes, test = self._lanes, self._truth(e.test)
        if self._one:
            return self.value(e.body if test[0] else e.orelse)
        self._lanes = lanes & test
        yes = self.value(e.body)
        self._lanes = lanes & ~test
        no = self.value(e.orelse)
        self._lanes = lanes
        kind = common(yes.kind, no.kind, self.int_bits)
        both = (self._converted(side, kind).values for side in (yes, no))
        return Value(np.where(test, *both), kind)

    def binary(self, op: ast.operator, left: Value, right: Value) -> Value:
        if isinstance(op, ast.Pow):
            return self.call("pow", [left, right])
        kind = common(left.kind, right.kind, self.int_bits)
        a, b = (self._converted(side, kind).values for side in (left, right))
        exact: AnyArray
        if isinstance(op, ast.Div) and not kind.floating:
            none = b == 0
            self._no_value(none)
            # Whole division cuts off toward zero. Source: ISO/IEC 9899:1999, 6.5.5.
            cut = np.where(none, 1, b)
            values = np.sign(a) * np.sign(cut) * (np.abs(a) // np.abs(cut))
            exact = np.true_divide(a, cut)
        else:
            values = exact = _COMPUTED[type(op)](a, b)
        values, overflown = self._fitted(values, kind)
        if kind.bits == 64 and not kind.floating and not isinstance(op, ast.Div):
            exact = _COMPUTED[type(op)](a.astype(np.float64), b.astype(np.float64))
            overflown = np.abs(exact) >= 2.0**63
        self.overflows |= bool(np.any(overflown & self._lanes))
        if self._one:
            gone = isinstance(op, ast.Div) and not kind.floating and bool(b[0] == 0)
            text = f"{_written(a)} {SIGNS[type(op)]} {_written(b)}"
            text += "" if gone else f" = {_written(values)}"
            self._note(text, float("nan") if gone else float(exact[0]), float(values[0]), kind,
                       bool(overflown[0]))  # fmt: skip
        return Value(values, kind)

    def call(self, name: str, values: list[Value]) -> Value:
        """A function. Those of whole numbers give a double, but for `abs`."""
        given = [promoted(v.kind, self.int_bits) for v in values]
        if name == "abs" and not given[0].floating:
            return Value(self._fitted(np.abs(values[0].values), given[0])[0], given[0])
        kind = FLOAT32 if all(k == FLOAT32 for k in given) else DOUBLE
        taken = [v.values.astype(np.float64) for v in values]
        exact = np.power(*taken) if name == "pow" else FUNCTIONS[name](*taken)
        found = np.asarray(exact).astype(kind.dtype)
        if self._one:
            text = f"{name}({', '.join(_written(v) for v in taken)}) = {_written(found)}"
            self._note(text, exact.item(), found.item(), kind)
        return Value(found, kind)

    def _converted(self, value: Value, kind: CType) -> Value:
        """A value as another type has it."""
        if value.kind == kind:
            return value
        if kind.floating:
            return Value(value.values.astype(kind.dtype), kind)
        values = value.values
        if value.kind.floating:
            cut = np.trunc(values.astype(np.float64))
            low, high = kind.ends
            # A float that does not fit has no meaning in C. Source: 6.3.1.4.
            fits = (cut >= low) & (cut <= high) if not kind.saturates else ~np.isnan(cut)
            self._no_value(~fits)
            values = np.clip(np.where(fits, cut, 0.0), -(2.0**62), 2.0**62).astype(np.int64)
        return Value(self._fitted(values, kind)[0], kind)

    def _fitted(self, values: AnyArray, kind: CType) -> tuple[AnyArray, Truths]:
        """Whole numbers wrapped round (or stopped) at the ends of a type, and where they were."""
        if kind.floating or kind.bits == 64:
            return values, np.zeros(values.shape, np.bool_)
        low, high = kind.ends
        beyond = (values < low) | (values > high)
        if not beyond.any():
            return values, beyond
        if kind.saturates:
            return np.clip(values, low, high), beyond
        return (values - low) % (high - low + 1) + low, beyond

    def _no_value(self, where: Truths) -> None:
        self.undefined = self.undefined | (
            np.broadcast_to(where, self.undefined.shape) & self._lanes
        )

    def _note_assigned(self, found: Value, kept: Value) -> None:
        """What is lost where a result goes into a variable."""
        was, now = float(found.values[0]), float(kept.values[0])
        if self._one and found.kind != self.kind and was != now:
            text = f"{_written(found.values)} kept in {self.kind.name}"
            text += f" = {_written(kept.values)}" if np.isfinite(was) else ""
            self._note(text, was, now, self.kind)

    def _note(
        self, line: str, exact: float, value: float, kind: CType | None = None, over: bool = False
    ) -> None:
        kind = self.kind if kind is None else kind
        off = abs(exact - value)
        relative = off / abs(exact) if exact else off
        if exact != exact or (not kind.floating and not np.isfinite(exact)):
            operation = Operation(line, "not defined", overflows=True, off=np.inf)
        elif kind.floating:
            # Half a unit in the last place is what every float is rounded by: more is worth a word.
            gone = np.isinf(value) and np.isfinite(exact)
            lost = f"{exact:.3g} does not fit a float of 32 bits" if gone else ""
            if not lost and relative > 1e-7:
                lost = f"{off:.2g} is rounded away"
            operation = Operation(line, lost, overflows=bool(gone), off=relative)
        elif over or (abs(exact) < 2**53 and abs(np.trunc(exact) - value) >= 1):
            does = "stops at" if kind.saturates else "wraps round to"
            text = f"{number(np.trunc(exact))} does not fit: it {does} {number(value)}"
            operation = Operation(line, text, overflows=True, off=relative)
        else:
            lost = f"{number(significant(off, 3))} is cut off" if off else ""
            operation = Operation(line, lost, off=relative)
        self.operations.append(operation)


_COMPUTED: dict[type[ast.operator], Any] = {
    ast.Add: np.add, ast.Sub: np.subtract, ast.Mult: np.multiply, ast.Div: np.true_divide,
}  # fmt: skip


def _written(values: Array | AnyArray) -> str:
    value = float(values[0])
    if value != value:
        return "nothing"
    whole = values.dtype.kind == "i" or not np.isfinite(value)
    return number(value if whole else significant(value, 7))
