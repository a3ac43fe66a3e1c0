"""Programs as structured text: tables, functions, statements, expressions."""

from __future__ import annotations

import ast
from collections.abc import Iterator

import numpy as np

from ..core.firmware.program import Program
from .walk import BINDS, SIGNS, assigned, constant, wrapped

_KINDS = {"int16": "INT", "int32": "DINT", "float": "REAL"}
_CALLED = {"log": "LN", "log10": "LOG"}
_SIGNS = SIGNS | {ast.Eq: "=", ast.NotEq: "<>"}

#: The functions that structured text has, by our names.
FUNCTIONS = frozenset(
    ("log", "log10", "exp", "sqrt", "abs", "sin", "cos", "tan", "asin", "acos", "atan")
)

#: What stands for "no value", since REAL has no NaN that every controller agrees on.
NO_REAL = "-1.0E30"


def function(p: Program, second: str = "") -> list[str]:
    """The function of a program, with its tables as constants."""
    kind = _KINDS[p.arith]
    lines = [
        f"FUNCTION {p.name} : {kind}",
        "VAR_INPUT",
        f"    n : {_KINDS['int32'] if p.arith == 'float' else kind};",
    ]
    lines += [f"    {second} : {kind};"] if second else []
    lines.append("END_VAR")
    if p.tables:
        lines.append("VAR CONSTANT")
        for name, values in p.tables.items():
            lines.append(f"    {name} : ARRAY[0..{len(values) - 1}] OF {kind} := [")
            lines += [*wrapped([*map(str, values)], "        "), "    ];"]
        lines.append("END_VAR")
    if names := assigned(p.tree):
        lines += ["VAR", *(f"    {name} : {kind};" for name in names), "END_VAR"]
    writer = StructuredStatements(p)
    for statement in p.tree:
        lines += writer.statement(statement, "")
    return [*lines, "END_FUNCTION"]


class StructuredStatements:
    """Statements and expressions as structured text."""

    def __init__(self, program: Program) -> None:
        self.p = program
        self.float = program.arith == "float"
        self.none = (
            NO_REAL if self.float else ("-32768" if program.arith == "int16" else "-2147483648")
        )

    def statement(self, s: ast.stmt, indent: str) -> Iterator[str]:
        if isinstance(s, ast.Return) and s.value is not None:
            yield f"{indent}{self.p.name} := {self._given(s.value)};"
            yield f"{indent}RETURN;"
        elif isinstance(s, ast.Assign):
            yield f"{indent}{self.value(s.targets[0])} := {self._given(s.value)};"
        elif isinstance(s, ast.If):
            yield f"{indent}IF {self._condition(s.test)} THEN"
            yield from self._block(s.body, indent)
            if s.orelse:
                yield f"{indent}ELSE"
                yield from self._block(s.orelse, indent)
            yield f"{indent}END_IF;"
        elif isinstance(s, ast.While):
            yield f"{indent}WHILE {self._condition(s.test)} DO"
            yield from self._block(s.body, indent)
            yield f"{indent}END_WHILE;"

    def _block(self, body: list[ast.stmt], indent: str) -> Iterator[str]:
        for statement in body:
            yield from self.statement(statement, indent + "    ")

    def _given(self, e: ast.expr) -> str:
        if self.float and isinstance(e, ast.Name) and e.id == "n":
            return "DINT_TO_REAL(n)"
        return self.value(e)

    def _condition(self, e: ast.expr) -> str:
        if isinstance(e, ast.BoolOp):
            sign = " OR " if isinstance(e.op, ast.Or) else " AND "
            return sign.join(f"({self._condition(v)})" for v in e.values)
        assert isinstance(e, ast.Compare)
        return f"{self.value(e.left)} {_SIGNS[type(e.ops[0])]} {self.value(e.comparators[0])}"

    def value(self, e: ast.expr, above: int = 0) -> str:
        if isinstance(e, ast.Constant):
            if self.float:
                text = str(np.float32(constant(e))).replace("e", "E")
                return text if "." in text else text.replace("E", ".0E")
            return str(e.value)
        if isinstance(e, ast.Name):
            return self.none if e.id == "NONE" else e.id
        if isinstance(e, ast.Subscript):
            assert isinstance(e.value, ast.Name)
            return f"{e.value.id}[{self.value(e.slice)}]"
        if isinstance(e, ast.UnaryOp):
            inner = self.value(e.operand, 7)
            return f"(-{inner})" if above else f"-{inner}"
        if isinstance(e, ast.Call):
            assert isinstance(e.func, ast.Name)
            called = _CALLED.get(e.func.id, e.func.id.upper())
            return f"{called}({', '.join(self.value(a) for a in e.args)})"
        assert isinstance(e, ast.BinOp)
        if isinstance(e.op, ast.Pow):
            return f"EXPT({self.value(e.left)}, {self.value(e.right)})"
        if isinstance(e.op, ast.RShift):  # of what is never negative: a division by a power of two
            shift = e.right.value if isinstance(e.right, ast.Constant) else 0
            return f"({self.value(e.left)}) / {2 ** int(shift)}"  # type: ignore[arg-type]
        binds = BINDS[type(e.op)]
        text = f"{self.value(e.left, binds)} {SIGNS[type(e.op)]} {self.value(e.right, binds + 1)}"
        return f"({text})" if binds < above else text
