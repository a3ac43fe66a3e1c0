"""Statements written as C by the tests alone, and what compiled C makes of them at every count."""

from __future__ import annotations

import ast
from typing import Any

from jetruler.core.bench.channel import Channel
from jetruler.core.firmware.orders import typed_chain

TYPES = {"int16": "int16_t", "int32": "int32_t", "uint16": "uint16_t", "float32": "float"}
SIGNS: dict[type, str] = {
    ast.Add: "+", ast.Sub: "-", ast.Mult: "*", ast.Lt: "<", ast.LtE: "<=", ast.Gt: ">",
    ast.GtE: ">=", ast.Eq: "==", ast.And: "&&", ast.Or: "||",
}  # fmt: skip
HEAD = """\
#include <stdint.h>
#include <math.h>
static int bad;
/* What C leaves undefined is noted; the type is that of the division. */
#define DIV(a, b) ((b) == 0 ? (bad = 1, (a) / 1 + 0 * (b)) : (a) / (b))
"""


class TypedC:
    """A chain as a C function of a count: every variable and constant of one type."""

    def __init__(self, channel: Channel, arith: str) -> None:
        self.kind, self.float = TYPES[arith], arith == "float32"
        self.constants: list[str] = []
        self.names: dict[str, None] = {}
        self.functions = False
        self.body: list[str] = []
        for _, statements in typed_chain(channel):
            for s in statements:
                self._statement(s, "    ")

    def function(self, name: str) -> str:
        declared = [f"    {self.kind} {n} = 0;" for n in self.names if n != "x"]
        return "\n".join([
            f"static {self.kind} {name}({self.kind} x)", "{", *self.constants, *declared,
            *self.body, "    return x;", "}", "",
        ])  # fmt: skip

    def _statement(self, s: ast.stmt, indent: str) -> None:
        if isinstance(s, ast.If):
            self.body.append(f"{indent}if ({self._value(s.test)}) {{")
            for one in s.body:
                self._statement(one, indent + "    ")
            self.body.append(f"{indent}}} else {{")
            for one in s.orelse:
                self._statement(one, indent + "    ")
            self.body.append(f"{indent}}}")
        elif isinstance(s, ast.Return):
            self.body.append(f"{indent}bad = 1; return x;")
        else:
            assert isinstance(s, ast.Assign)
            assert isinstance(s.targets[0], ast.Name)
            self.names[s.targets[0].id] = None
            self.body.append(f"{indent}{s.targets[0].id} = {self._value(s.value)};")

    def _constant(self, value: Any) -> str:
        name, number = f"k{len(self.constants)}", float(value)
        whole = number.is_integer() and abs(number) < 2**63
        text = f"{int(number)}LL" if whole and not self.float else repr(number)
        self.constants.append(f"    const {self.kind} {name} = ({self.kind}){text};")
        return name

    def _value(self, e: ast.expr) -> str:
        match e:
            case ast.Constant(value=number):
                return self._constant(number)
            case ast.Name(id=name):
                return name
            case ast.UnaryOp(operand=operand):
                return f"(-{self._value(operand)})"
            case ast.BoolOp(op=op, values=values):
                return f" {SIGNS[type(op)]} ".join(f"({self._value(v)})" for v in values)
            case ast.Compare(left=left, ops=[op], comparators=[right]):
                return f"{self._value(left)} {SIGNS[type(op)]} {self._value(right)}"
            case ast.Call(func=ast.Name(id="abs"), args=[value]) if not self.float:
                text = self._value(value)
                return f"({text} < 0 ? -({text}) : +({text}))"
            case ast.Call(func=ast.Name(id=name), args=args):
                self.functions = True
                called = {"asin": "asin", "abs": "fabs"}.get(name, name) + "f" * self.float
                return f"{called}({', '.join(self._value(a) for a in args)})"
            case ast.BinOp(left=left, op=ast.Pow(), right=right):
                self.functions = True
                return f"pow{'f' * self.float}({self._value(left)}, {self._value(right)})"
            case ast.BinOp(left=left, op=ast.Div(), right=right):
                a, b = self._value(left), self._value(right)
                return f"({a} / {b})" if self.float else f"DIV({a}, {b})"
            case ast.BinOp(left=left, op=op, right=right):
                return f"({self._value(left)} {SIGNS[type(op)]} {self._value(right)})"
        raise TypeError(ast.dump(e))
