"""A small program in a restricted Python, the exact model of its arithmetic, and machines that
remember."""

from __future__ import annotations

import ast
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..numerics import AnyArray, Truths
from ..ruler.base_law import Evaluator

#: The widest number of each whole arithmetic.
LARGEST = {"int16": 2**15 - 1, "int32": 2**31 - 1, "int64": 2**63 - 1}

#: Functions that a program of floats may call.
FUNCTIONS: dict[str, Any] = {
    "log": np.log, "log10": np.log10, "log2": np.log2, "exp": np.exp, "sqrt": np.sqrt,
    "abs": np.abs, "sin": np.sin, "cos": np.cos, "tan": np.tan, "asin": np.arcsin,
    "acos": np.arccos, "atan": np.arctan, "sinh": np.sinh, "cosh": np.cosh, "tanh": np.tanh,
    "atan2": np.arctan2, "hypot": np.hypot, "min": np.minimum, "max": np.maximum,
    "floor": np.floor, "ceil": np.ceil, "trunc": np.trunc,
}  # fmt: skip


class TooWideError(ArithmeticError):
    """An intermediate that does not fit the target's arithmetic, or a negative one shifted."""


@dataclass(frozen=True)
class Program:
    """A function of a count. body: its statements. tables: constants by name. arith: "float",
    "int64", "int32" or "int16". counts: the type of its count; that of the arithmetic, and
    "int32" for floats, if left out; "none" for a function without one. arguments: of the function,
    behind the count. NONE in the body represents "no value"."""

    name: str
    body: str
    tables: Mapping[str, tuple[int, ...]] = field(default_factory=dict)
    arith: str = "int32"
    counts: str = ""
    arguments: tuple[str, ...] = ()

    @property
    def takes(self) -> str:
        """The type of its count."""
        return self.counts or ("int32" if self.arith == "float" else self.arith)

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
    for bits in (8, 16, 32, 64):
        if (low >= 0 and high < 2**bits) or (-(2 ** (bits - 1)) <= low and high < 2 ** (bits - 1)):
            return bits
    raise TooWideError(f"{low} … {high} do not fit 64 bits")


class ProgramModel(Evaluator[Any]):
    """Runs a program over many counts at once. widest: the largest whole intermediate met."""

    def __init__(self, program: Program, kind: type[np.floating[Any]] = np.float32) -> None:
        self.program, self.kind = program, kind
        self.widest = 0
        self._whole = program.arith != "float"
        self._limit = LARGEST.get(program.arith, 0)
        self._tables = {n: np.array(t, dtype=np.int64) for n, t in program.tables.items()}

    def run(self, counts: AnyArray, given: Mapping[str, Any] | None = None) -> AnyArray:
        """The result at each count: whole numbers, `none` where there is no value; or floats,
        NaN there. given: the arguments behind the count, numbers or one for each count."""
        self._n, self._counts = counts.size, counts
        start = counts.astype(np.int64 if self._whole else self.kind)
        self._names: dict[str, Any] = {"n": start, "NONE": -self._limit - 1}
        if not self._whole:
            self._names["NONE"] = self.kind(np.nan)
        for name, value in (given or {}).items():
            self._names[name] = np.broadcast_to(value, self._n).astype(start.dtype)
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

    def _in_lanes(self, e: ast.expr, lanes: Truths) -> Any:
        """The value of an expression; only what is in open lanes must fit."""
        self._lanes = lanes
        return self.value(e)

    def _statement(self, s: ast.stmt, lanes: Truths) -> Truths:
        if isinstance(s, ast.Return) and s.value is not None:
            self._result = np.where(lanes, self._in_lanes(s.value, lanes), self._result)
            return np.zeros_like(lanes)
        if isinstance(s, ast.Assign) and isinstance(s.targets[0], ast.Name):
            name, value = s.targets[0].id, self._in_lanes(s.value, lanes)
            if lanes.all():
                self._names[name] = np.broadcast_to(value, self._n)
                return lanes
            before = self._names.get(name, np.zeros(self._n, self._result.dtype))
            self._names[name] = np.where(lanes, value, before)
            return lanes
        if isinstance(s, ast.If):
            yes = lanes & self._in_lanes(s.test, lanes)
            return self._block(s.body, yes) | self._block(s.orelse, lanes & ~yes)
        if isinstance(s, ast.While):
            left = np.zeros_like(lanes)
            while lanes.any():
                go = lanes & self._in_lanes(s.test, lanes)
                left |= lanes & ~go
                lanes = self._block(s.body, go)
            return left
        raise TypeError(f"not part of the language: {ast.unparse(s)}")

    def constant(self, number: Any) -> Any:
        return self._kept(number)

    def name(self, name: str) -> Any:
        return self._names[name]

    def unary(self, op: ast.unaryop, value: Any) -> Any:
        return ~value if isinstance(op, ast.Not) else self._kept(-value)

    def call(self, name: str, values: list[Any]) -> Any:
        return FUNCTIONS[name](*values)

    def binary(self, op: ast.operator, left: Any, right: Any) -> Any:
        if isinstance(op, ast.FloorDiv):
            a, b = np.asarray(left), np.where(np.asarray(right) == 0, 1, right)
            return self._kept(np.sign(a) * np.sign(b) * (np.abs(a) // np.abs(b)))
        if isinstance(op, ast.RShift):
            if np.any(np.asarray(left < 0) & self._lanes):
                raise TooWideError("a negative number is shifted")
            return self._kept(np.asarray(left) >> right)
        if isinstance(op, ast.Mult) and self.program.arith == "int64":
            self._check_product(left, right)
        return self._kept(_COMPUTED[type(op)](left, right))

    def other(self, e: ast.AST) -> Any:
        if isinstance(e, ast.Subscript) and isinstance(e.value, ast.Name):
            table, i = self._tables[e.value.id], self.value(e.slice)
            return table[np.clip(i, 0, table.size - 1)]  # lanes that are closed may be anywhere
        if isinstance(e, ast.Compare) and not self._whole and is_of_count(e):
            assert isinstance(e.comparators[0], ast.Constant | ast.UnaryOp)
            limit = ast.literal_eval(e.comparators[0])
            return _COMPARED[type(e.ops[0])](self._counts, limit)  # a float may not hold it
        if isinstance(e, ast.Compare):
            return _COMPARED[type(e.ops[0])](self.value(e.left), self.value(e.comparators[0]))
        if isinstance(e, ast.BoolOp):
            joined = np.logical_or if isinstance(e.op, ast.Or) else np.logical_and
            return joined.reduce([self.value(part) for part in e.values])
        return super().other(e)

    def _check_product(self, left: Any, right: Any) -> None:
        """Refuse a product of 64 bits that would wrap round unseen."""
        size = np.abs(np.asarray(left, np.float64) * np.asarray(right, np.float64))
        here = size[self._lanes] if size.shape == self._lanes.shape else size
        if here.size and float(here.max()) >= 2.0**62:
            raise TooWideError(f"an intermediate of {here.max():.3g} does not fit int64")

    def _kept(self, value: Any) -> Any:
        """Note how wide a whole number is; refuse one that does not fit."""
        if not self._whole:
            return value if isinstance(value, np.ndarray) else self.kind(value)
        here, lanes = np.asarray(value), self._lanes
        if here.shape == lanes.shape and not lanes.all():
            here = here[lanes]
        widest = max(int(here.max()), -int(here.min())) if here.size else 0
        if widest > self._limit:
            raise TooWideError(f"an intermediate of {widest} does not fit {self.program.arith}")
        self.widest = max(self.widest, widest)
        return value


def is_of_count(e: ast.Compare) -> bool:
    """Whether a comparison is that of the count with a whole number."""
    return isinstance(e.left, ast.Name) and e.left.id == "n"


_COMPARED: dict[type[ast.cmpop], Any] = {
    ast.Lt: np.less, ast.LtE: np.less_equal, ast.Gt: np.greater, ast.GtE: np.greater_equal,
    ast.Eq: np.equal, ast.NotEq: np.not_equal,
}  # fmt: skip
_COMPUTED: dict[type[ast.operator], Any] = {
    ast.Add: np.add, ast.Sub: np.subtract, ast.Mult: np.multiply, ast.Div: np.true_divide,
    ast.Pow: np.power,
}  # fmt: skip


@dataclass(frozen=True)
class Machine:
    """One machine, the same for every target.

    name: of its state (a struct, a class, a function block). update: of the function that moves it
    on. about: what it is, a line each. inputs: whole numbers; `now` is a time in milliseconds that
    may wrap. state: names of what it remembers, with the length of a list or 0 for a number; all
    start at 0. times: those of them that are times. body: statements; the state is behind
    `s.`, NONE is no value, and `elapsed(now, then, most)` is the time since, at most `most`.
    programs: what it calls and brings along. calls: conversions that it calls, with their
    arithmetic. arith: of all its numbers but the times, "int32" or, for wider counts, "int64".
    """

    name: str
    update: str
    about: tuple[str, ...]
    inputs: tuple[str, ...]
    state: Mapping[str, int]
    body: str
    times: frozenset[str] = frozenset()
    programs: tuple[Program, ...] = ()
    calls: Mapping[str, str] = field(default_factory=dict)
    arith: str = "int32"

    @property
    def tree(self) -> list[ast.stmt]:
        """The statements."""
        return ast.parse(self.body).body

    @property
    def arithmetics(self) -> Mapping[str, str]:
        """The functions that it calls whose numbers are others than its own, with those."""
        brought = {program.name: program.arith for program in self.programs}
        return {name: a for name, a in {**brought, **self.calls}.items() if a != self.arith}

    @property
    def ram_bytes(self) -> int:
        """What its state takes."""
        return self._bytes()

    def _bytes(self, most: int | None = None) -> int:
        """Bytes of the state, if lists were no longer than this."""
        own = 8 if self.arith == "int64" else 4
        sizes = {
            name: size if most is None else min(size, most) for name, size in self.state.items()
        }
        return sum((4 if n in self.times else own) * max(1, size) for n, size in sizes.items())

    @property
    def window(self) -> int:
        """How many samples of a change within a time it remembers at most; 0 for none."""
        return max((n for name, n in self.state.items() if name in self.times), default=0)

    @property
    def cost(self) -> str:
        """What it takes of a chip, in words; of a window of samples, how it takes less."""
        flash = sum(program.table_bytes for program in self.programs)
        text = f"{self.ram_bytes} bytes of RAM, {flash} bytes of tables"
        text += f", about {self.operations} operations"
        if self.window <= 16:
            return text
        cheaper = f"--window 16 remembers fewer, in {self._bytes(16)} bytes of RAM"
        return f"{text}; of a change it remembers {self.window} samples: {cheaper}"

    @property
    def operations(self) -> int:
        """Arithmetic and comparisons in the text, of what it brings along too; a loop once."""
        counted = (ast.BinOp, ast.UnaryOp, ast.Compare, ast.Call)
        own = sum(isinstance(node, counted) for s in self.tree for node in ast.walk(s))
        return own + sum(program.operations for program in self.programs)

    def brought(self, written: set[str]) -> list[Program]:
        """The programs that it brings along, but for those in `written`; they are noted there."""
        new = {p.name: p for p in self.programs if p.name not in written}
        written.update(new)
        return list(new.values())

    @property
    def uses_time(self) -> bool:
        """Whether it asks how much time has passed."""
        return "elapsed(" in self.body


def simplified(result: str) -> str:
    """An expression without what changes nothing: `0 + …`, `n - 0`, `n - -5`, `… * 1`, `>> 0`."""
    return ast.unparse(_Simpler().visit(ast.parse(result, mode="eval").body))


def simplified_body(body: str) -> str:
    """Statements, each expression of them simplified."""
    return ast.unparse(_Simpler().visit(ast.parse(body)))


class _Simpler(ast.NodeTransformer):
    def visit_BinOp(self, node: ast.BinOp) -> ast.expr:
        self.generic_visit(node)
        left, right = _whole(node.left), _whole(node.right)
        match node.op:
            case ast.Add() if left == 0:
                return node.right
            case ast.Add() | ast.Sub() | ast.RShift() if right == 0:
                return node.left
            case ast.Mult() if right == 1:
                return node.left
            case ast.FloorDiv() if right == 1:
                return node.left
            case ast.Sub() if right is not None and right < 0:
                return ast.BinOp(node.left, ast.Add(), ast.Constant(-right))
        return node


def _whole(e: ast.expr) -> int | None:
    """The whole number that an expression is; None for any other."""
    if isinstance(e, ast.UnaryOp) and isinstance(e.op, ast.USub):
        inside = _whole(e.operand)
        return None if inside is None else -inside
    return e.value if isinstance(e, ast.Constant) and type(e.value) is int else None


def indented(lines: str, by: int = 1) -> str:
    """Statements as the body of another one."""
    return "\n".join("    " * by + line for line in lines.splitlines())
