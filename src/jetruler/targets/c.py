"""C99: one header of `static inline` functions, `stdint.h`, no allocation."""

from __future__ import annotations

import ast
from collections.abc import Iterator

import numpy as np

from ..core.firmware.names import plain_unit
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
        cells = [_literal(v) for v in values]
        lines.append(f"static const {unsigned}int{width_of(values)}_t {name}[{len(values)}] = {{")
        lines += [*wrapped(cells, "    "), "};"]
    more = f", {kind} {second}" if second else ""
    lines.append(f"static inline {kind} {p.name}({takes} n{more})")
    lines.append("{")
    names = assigned(p.tree)
    if names:
        lines.append(f"    {kind} {', '.join(names)};")
    writer = _Writer(p)
    for statement in p.tree:
        lines += writer.statement(statement, "    ")
    return [*lines, "}"]


def none_of(p: Program) -> str:
    """How a program's "no value" is written."""
    if p.arith == "float":
        return "NAN"
    return f"{'INT16' if p.arith == 'int16' else 'INT32'}_MIN"


def _literal(value: int) -> str:
    return "(-2147483647 - 1)" if value == -(2**31) else str(value)


class _Writer:
    """Statements and expressions as C."""

    def __init__(self, program: Program) -> None:
        self.p = program
        self.float = program.arith == "float"
        self.kind = "float" if self.float else f"{program.arith}_t"

    def statement(self, s: ast.stmt, indent: str) -> Iterator[str]:
        if isinstance(s, ast.Return) and s.value is not None:
            yield f"{indent}return {self._given(s.value)};"
        elif isinstance(s, ast.Assign) and isinstance(s.targets[0], ast.Name):
            yield f"{indent}{s.targets[0].id} = {self._given(s.value)};"
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

    def _given(self, e: ast.expr) -> str:
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
                return f"{np.float32(constant(e))!s}f".replace("inf", "1e38")
            return _literal(int(constant(e)))
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


def text_function(name: str, arith: str, scale: int, unit: str | None, width: int) -> list[str]:
    """A function that writes a scaled whole number into a buffer, for small displays."""
    none = "INT16_MIN" if arith == "int16" else "INT32_MIN"
    decimals = len(str(scale)) - 1
    tail = plain_unit(unit)
    kind = f"{arith}_t"
    least = decimals + 2 if decimals else 1
    return f"""\
/* Writes {name} right-aligned into {width} characters and a closing 0; a row of - if it does not fit. */
static inline void {name}_text({kind} value, char buffer[{width + 1}])
{{
    static const char unit[] = "{_escaped(tail)}";
    char digits[16];
    uint32_t left = value < 0 ? 0u - (uint32_t)value : (uint32_t)value;
    uint8_t many = 0, long_ = {len(tail)}, i, at;
    do {{
        if (many == {decimals} && many > 0) digits[many++] = '.';
        digits[many++] = (char)('0' + (char)(left % 10u));
        left /= 10u;
    }} while (left > 0 || many < {least});
    if (value < 0) digits[many++] = '-';
    long_ = (uint8_t)(long_ + many);
    buffer[{width}] = 0;
    if (long_ > {width} || value == {none}) {{
        for (i = 0; i < {width}; i++) buffer[i] = '-';
        return;
    }}
    at = (uint8_t)({width} - long_);
    for (i = 0; i < at; i++) buffer[i] = ' ';
    while (many > 0) buffer[at++] = digits[--many];
    for (i = 0; unit[i]; i++) buffer[at++] = unit[i];
}}""".splitlines()


def _escaped(text: str) -> str:
    return text.replace("\\", "\\\\").replace('"', '\\"')
