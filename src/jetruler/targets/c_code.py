"""Programs as C: tables, functions, statements, expressions."""

from __future__ import annotations

import ast
from collections.abc import Iterator

import numpy as np

from ..core.firmware.program import Program, width_of
from .walk import BINDS, SIGNS, assigned, constant, wrapped

#: Functions of math.h for floats; a power has its own.
_CALLED = {"abs": "fabsf"}


def function(p: Program, second: str = "") -> list[str]:
    """The tables and the function of a program. second: a further parameter."""
    kind = "float" if p.arith == "float" else f"{p.arith}_t"
    takes = "int32_t" if p.arith == "float" else kind
    lines = []
    for name, values in p.tables.items():
        unsigned = "u" if min(values) >= 0 else ""
        cells = [literal(v) for v in values]
        lines.append(f"static const {unsigned}int{width_of(values)}_t {name}[{len(values)}] = {{")
        lines += [*wrapped(cells, "    "), "};"]
    more = f", {kind} {second}" if second else ""
    lines.append(f"static inline {kind} {p.name}({takes} n{more})")
    lines.append("{")
    names = assigned(p.tree)
    if names:
        lines.append(f"    {kind} {', '.join(names)};")
    writer = CStatements(p)
    for statement in p.tree:
        lines += writer.statement(statement, "    ")
    return [*lines, "}"]


def none_of(p: Program) -> str:
    """How a program's "no value" is written."""
    if p.arith == "float":
        return "NAN"
    return f"{'INT16' if p.arith == 'int16' else 'INT32'}_MIN"


def literal(value: int) -> str:
    """A whole number; the smallest one has no literal of its own in C."""
    return "(-2147483647 - 1)" if value == -(2**31) else str(value)


class CStatements:
    """Statements and expressions as C."""

    def __init__(self, program: Program) -> None:
        self.p = program
        self.float = program.arith == "float"
        self.kind = "float" if self.float else f"{program.arith}_t"

    def statement(self, s: ast.stmt, indent: str) -> Iterator[str]:
        if isinstance(s, ast.Return) and s.value is not None:
            yield f"{indent}return {self.given(s.value)};"
        elif isinstance(s, ast.Assign):
            yield f"{indent}{self.value(s.targets[0])} = {self.given(s.value)};"
        elif isinstance(s, ast.If):
            yield f"{indent}if ({self.condition(s.test)}) {{"
            yield from self._block(s.body, indent)
            if s.orelse:
                yield f"{indent}}} else {{"
                yield from self._block(s.orelse, indent)
            yield f"{indent}}}"
        elif isinstance(s, ast.While):
            yield f"{indent}while ({self.condition(s.test)}) {{"
            yield from self._block(s.body, indent)
            yield f"{indent}}}"

    def _block(self, body: list[ast.stmt], indent: str) -> Iterator[str]:
        for statement in body:
            yield from self.statement(statement, indent + "    ")

    def given(self, e: ast.expr) -> str:
        """What is assigned or returned, in the width of the arithmetic."""
        text = self.value(e)
        plain = isinstance(e, ast.Constant | ast.UnaryOp) and not self.float
        if isinstance(e, ast.Name):
            return f"({self.kind}){text}" if e.id == "n" and self.float else text
        return text if plain or self.float else f"({self.kind})({text})"

    def condition(self, e: ast.expr) -> str:
        if isinstance(e, ast.BoolOp):
            sign = " || " if isinstance(e.op, ast.Or) else " && "
            return sign.join(f"({self.condition(v)})" for v in e.values)
        assert isinstance(e, ast.Compare)
        sign = SIGNS[type(e.ops[0])]
        return f"{self.value(e.left)} {sign} {self.value(e.comparators[0])}"

    def value(self, e: ast.expr, above: int = 0) -> str:
        if isinstance(e, ast.Constant):
            if self.float:
                number = np.float32(constant(e))
                return f"{number!s}f" if np.isfinite(number) else "1e38f"
            return literal(int(constant(e)))
        if isinstance(e, ast.Name):
            return none_of(self.p) if e.id == "NONE" else e.id
        if isinstance(e, ast.Subscript):
            assert isinstance(e.value, ast.Name)
            return f"({self.kind}){e.value.id}[{self.value(e.slice)}]"
        if isinstance(e, ast.UnaryOp):
            inner = self.value(e.operand, 7)
            return f"(-{inner})" if above else f"-{inner}"
        if isinstance(e, ast.Call):
            assert isinstance(e.func, ast.Name)
            called = _CALLED.get(e.func.id, f"{e.func.id}f")
            return f"{called}({', '.join(self.value(a) for a in e.args)})"
        assert isinstance(e, ast.BinOp)
        if isinstance(e.op, ast.Pow):
            return f"powf({self.value(e.left)}, {self.value(e.right)})"
        binds = BINDS[type(e.op)]
        # A shift beside a sum is bracketed: compilers warn, and readers wonder.
        left, right = self.value(e.left, binds), self.value(e.right, binds + 1)
        if isinstance(e.op, ast.RShift) and isinstance(e.left, ast.BinOp):
            left = f"({self.value(e.left)})"
        text = f"{left} {SIGNS[type(e.op)]} {right}"
        return f"({text})" if binds < above else text
