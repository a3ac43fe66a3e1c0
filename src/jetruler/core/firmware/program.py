"""A small program in a restricted Python, and the exact model of the arithmetic it runs on.

One text serves all targets: it is checked here over every count at once, translated to C and
structured text, and is itself the Python export. Whole numbers: + − * and comparisons as they
are; // truncates toward zero; >> is for what is never negative. Every intermediate is checked
against the width of the target, so that what passes here cannot overflow there.
"""

from __future__ import annotations

import ast
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..arrays import AnyArray, Truths

#: The widest number of each whole arithmetic.
LARGEST = {"int16": 2**15 - 1, "int32": 2**31 - 1}

#: Functions that a program of floats may call.
FUNCTIONS: dict[str, Any] = {
    "log": np.log, "log10": np.log10, "log2": np.log2, "exp": np.exp, "sqrt": np.sqrt,
    "abs": np.abs, "sin": np.sin, "cos": np.cos, "tan": np.tan, "asin": np.arcsin,
    "acos": np.arccos, "atan": np.arctan, "sinh": np.sinh, "cosh": np.cosh, "tanh": np.tanh,
    "floor": np.floor, "ceil": np.ceil, "trunc": np.trunc,
}  # fmt: skip


class TooWideError(ArithmeticError):
    """An intermediate that does not fit the target's arithmetic, or a negative one shifted."""


@dataclass(frozen=True)
class Program:
    """A function of a count. body: its statements. tables: constants by name. arith: "float",
    "int32" or "int16". NONE in the body stands for "no value"."""

    name: str
    body: str
    tables: Mapping[str, tuple[int, ...]] = field(default_factory=dict)
    arith: str = "int32"

    @property
    def tree(self) -> list[ast.stmt]:
        """The statements."""
        return ast.parse(self.body).body

    @property
    def calls(self) -> frozenset[str]:
        """The functions that it calls."""
        nodes = (node for statement in self.tree for node in ast.walk(statement))
        called = (n.func for n in nodes if isinstance(n, ast.Call))
        return frozenset(f.id for f in called if isinstance(f, ast.Name))

    @property
    def table_bytes(self) -> int:
        """What the tables take."""
        return sum(len(t) * width_of(t) // 8 for t in self.tables.values())

    @property
    def operations(self) -> int:
        """Arithmetic and comparisons in the text; what a loop holds counts once a turn."""
        counted = (ast.BinOp, ast.UnaryOp, ast.Compare, ast.Call)
        turns = max((len(t) for t in self.tables.values()), default=1)
        total = 0
        for statement in self.tree:
            n = sum(isinstance(node, counted) for node in ast.walk(statement))
            total += n * max(1, (turns - 1).bit_length()) if isinstance(statement, ast.While) else n
        return total


def width_of(values: tuple[int, ...]) -> int:
    """Bits of the smallest usual type that holds them, signed unless none is below 0."""
    low, high = min(values), max(values)
    for bits in (8, 16, 32):
        if (low >= 0 and high < 2**bits) or (-(2 ** (bits - 1)) <= low and high < 2 ** (bits - 1)):
            return bits
    raise TooWideError(f"{low} … {high} do not fit 32 bits")


class ProgramModel:
    """Runs a program over many counts at once. widest: the largest whole intermediate met."""

    def __init__(self, program: Program, kind: type[np.floating[Any]] = np.float32) -> None:
        self.program, self.kind = program, kind
        self.widest = 0
        self._whole = program.arith != "float"
        self._limit = LARGEST.get(program.arith, 0)
        self._tables = {n: np.array(t, dtype=np.int64) for n, t in program.tables.items()}

    def run(self, counts: AnyArray, was: AnyArray | None = None) -> AnyArray:
        """The result at each count: whole numbers, `none` where there is no value; or floats,
        NaN there. was: a second parameter, for functions that have one."""
        self._n = counts.size
        start = counts.astype(np.int64 if self._whole else self.kind)
        self._names: dict[str, Any] = {"n": start, "NONE": -self._limit - 1}
        if not self._whole:
            self._names["NONE"] = self.kind(np.nan)
        if was is not None:
            self._names["was"] = was.astype(np.int64)
        self._result: AnyArray = np.zeros(self._n, start.dtype)
        open_lanes = np.ones(self._n, np.bool_)
        with np.errstate(all="ignore"):
            left = self._block(self.program.tree, open_lanes)
        if left.any():
            raise TooWideError("the program ends without a result")
        return self._result

    def _block(self, statements: list[ast.stmt], lanes: Truths) -> Truths:
        """Run statements where lanes are open; the lanes that are open still."""
        for statement in statements:
            if not lanes.any():
                return lanes
            lanes = self._statement(statement, lanes)
        return lanes

    def _statement(self, s: ast.stmt, lanes: Truths) -> Truths:
        if isinstance(s, ast.Return) and s.value is not None:
            self._result = np.where(lanes, self._value(s.value, lanes), self._result)
            return np.zeros_like(lanes)
        if isinstance(s, ast.Assign) and isinstance(s.targets[0], ast.Name):
            name, value = s.targets[0].id, self._value(s.value, lanes)
            before = self._names.get(name, np.zeros(self._n, self._result.dtype))
            self._names[name] = np.where(lanes, value, before)
            return lanes
        if isinstance(s, ast.If):
            yes = lanes & self._value(s.test, lanes)
            return self._block(s.body, yes) | self._block(s.orelse, lanes & ~yes)
        if isinstance(s, ast.While):
            left = np.zeros_like(lanes)
            while lanes.any():
                go = lanes & self._value(s.test, lanes)
                left |= lanes & ~go
                lanes = self._block(s.body, go)
            return left
        raise TypeError(f"not part of the language: {ast.unparse(s)}")

    def _value(self, e: ast.expr, lanes: Truths) -> Any:
        if isinstance(e, ast.Constant):
            return self._kept(e.value, lanes)
        if isinstance(e, ast.Name):
            return self._names[e.id]
        if isinstance(e, ast.Subscript) and isinstance(e.value, ast.Name):
            table, i = self._tables[e.value.id], self._value(e.slice, lanes)
            return table[np.clip(i, 0, table.size - 1)]  # lanes that are closed may be anywhere
        if isinstance(e, ast.UnaryOp):
            value = self._value(e.operand, lanes)
            return ~value if isinstance(e.op, ast.Not) else self._kept(-value, lanes)
        if isinstance(e, ast.Compare):
            left, right = self._value(e.left, lanes), self._value(e.comparators[0], lanes)
            return _COMPARED[type(e.ops[0])](left, right)
        if isinstance(e, ast.BoolOp):
            joined = np.logical_or if isinstance(e.op, ast.Or) else np.logical_and
            return joined.reduce([self._value(v, lanes) for v in e.values])
        if isinstance(e, ast.Call) and isinstance(e.func, ast.Name):
            return FUNCTIONS[e.func.id](*(self._value(a, lanes) for a in e.args))
        if isinstance(e, ast.BinOp):
            left, right = self._value(e.left, lanes), self._value(e.right, lanes)
            return self._kept(self._binary(e.op, left, right, lanes), lanes)
        raise TypeError(f"not part of the language: {ast.unparse(e)}")

    def _binary(self, op: ast.operator, a: Any, b: Any, lanes: Truths) -> Any:
        if isinstance(op, ast.FloorDiv):
            a, b = np.asarray(a), np.where(np.asarray(b) == 0, 1, b)
            return np.sign(a) * np.sign(b) * (np.abs(a) // np.abs(b))
        if isinstance(op, ast.RShift):
            if np.any(np.asarray(a < 0) & lanes):
                raise TooWideError("a negative number is shifted")
            return np.asarray(a) >> b
        return _COMPUTED[type(op)](a, b)

    def _kept(self, value: Any, lanes: Truths) -> Any:
        """Note how wide a whole number is; refuse one that does not fit."""
        if not self._whole:
            return value if isinstance(value, np.ndarray) else self.kind(value)
        here = np.asarray(value)
        size = np.abs(here[lanes] if here.shape == lanes.shape else here)
        widest = int(size.max()) if size.size else 0
        if widest > self._limit:
            raise TooWideError(f"an intermediate of {widest} does not fit {self.program.arith}")
        self.widest = max(self.widest, widest)
        return value


_COMPARED: dict[type[ast.cmpop], Any] = {
    ast.Lt: np.less, ast.LtE: np.less_equal, ast.Gt: np.greater, ast.GtE: np.greater_equal,
    ast.Eq: np.equal, ast.NotEq: np.not_equal,
}  # fmt: skip
_COMPUTED: dict[type[ast.operator], Any] = {
    ast.Add: np.add, ast.Sub: np.subtract, ast.Mult: np.multiply, ast.Div: np.true_divide,
    ast.Pow: np.power,
}  # fmt: skip
