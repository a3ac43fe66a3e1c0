"""C99: one header of `static inline` functions, `stdint.h`, no allocation; machines as structs."""

from __future__ import annotations

import ast
from collections.abc import Iterator, Sequence

import numpy as np

from ..core.firmware.count_programs import flags_program, pattern_programs
from ..core.firmware.exported import Exported
from ..core.firmware.names import comment, plain_unit
from ..core.firmware.program import Machine, Program, is_of_count, width_of
from ..core.ruler.reading import READ_FLAGS
from .target import BINDS, SIGNS, ExportOptions, Target, about, assigned, constant, vectors, wrapped

#: Functions of math.h for floats; a power has its own.
_CALLED = {"abs": "fabsf", "min": "fminf", "max": "fmaxf"}


def function(p: Program) -> list[str]:
    """The tables and the function of a program."""
    kind = "float" if p.arith == "float" else f"{p.arith}_t"
    takes = f"{p.takes}_t"
    lines = []
    for name, values in p.tables.items():
        unsigned = "u" if min(values) >= 0 else ""
        cells = [literal(v) for v in values]
        lines.append(f"static const {unsigned}int{width_of(values)}_t {name}[{len(values)}] = {{")
        lines += [*wrapped(cells, "    "), "};"]
    given = [f"{takes} n"] if p.takes != "none" else []
    given += [f"{kind} {name}" for name in p.arguments]
    lines.append(f"static inline {kind} {p.name}({', '.join(given)})")
    lines.append("{")
    names = [name for name in assigned(p.tree) if name not in p.arguments]
    if names:
        lines.append(f"    {kind} {', '.join(names)};")
    writer = CStatements(p)
    for statement in p.tree:
        lines += writer.statement(statement, "    ")
    return [*lines, "}"]


def with_struct(e: Exported) -> list[str]:
    """A struct of the arguments, and the function that takes it."""
    kind = "float" if e.is_float else f"{e.program.arith}_t"
    fields = " ".join(f"{kind} {name};" for name in e.program.arguments)
    given = "".join(f", ends->{name}" for name in e.program.arguments)
    return [
        "",
        f"struct {e.name}_ends {{ {fields} }};",
        f"static inline {kind} {e.name}_with({e.program.takes}_t n, const struct {e.name}_ends *ends)",
        "{",
        f"    return {e.name}(n{given});",
        "}",
    ]


def as_float(e: Exported) -> list[str]:
    """A function that gives the whole result of the program as a float, if that is needed."""
    if not e.as_float:
        return []
    over = f" / {e.wanted.scale}.0f" if e.wanted.scale != 1 else ""
    return [
        f"static inline float {e.name}({e.program.takes}_t n)",
        "{",
        f"    const {e.program.arith}_t y = {e.program.name}(n);",
        f"    return y == {none_of(e.program)} ? NAN : (float)y{over};",
        "}",
    ]


def default(x: float, is_float: bool) -> str:
    """An argument as the bench file has it."""
    return f"{np.float32(x)!s}f" if is_float else literal(round(x))


def none_of(p: Program) -> str:
    """How a program's "no value" is written."""
    if p.arith == "float":
        return "NAN"
    return f"{p.arith.upper()}_MIN"


def literal(value: int) -> str:
    """A whole number; the smallest one has no literal of its own in C."""
    smallest = {-(2**31): "(-2147483647 - 1)", -(2**63): "(-9223372036854775807 - 1)"}
    return smallest.get(value, str(value))


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
        if self.float and is_of_count(e):
            return f"n {sign} {literal(ast.literal_eval(e.comparators[0]))}"
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


#: Milliseconds wrap after 49 days; their difference does not.
ELAPSED = """
/* Milliseconds from then to now, at most `most`; now may have wrapped. */
static inline int32_t jetruler_elapsed(uint32_t now, uint32_t then, int32_t most)
{
    uint32_t passed = now - then;
    return passed > (uint32_t)most ? most : (int32_t)passed;
}""".splitlines()


def machine_text(m: Machine, written: set[str]) -> list[str]:
    """A machine with the programs it needs, those in `written` left out."""
    lines = []
    for program in m.brought(written):
        lines += ["", *function(program)]
    lines += ["", *(f"/* {comment(line)} */" for line in m.about)]
    own = f"{m.arith}_t"
    fields = [
        f"{'uint32_t' if name in m.times else own} {name}{f'[{n}]' if n else ''};"
        for name, n in m.state.items()
    ]
    inputs = "".join(f", {'uint32_t' if i == 'now' else own} {i}" for i in m.inputs)
    state = f"struct {m.name} *s" if fields else ""
    if fields:
        lines.append(f"struct {m.name} {{ {' '.join(fields)} }};")
    takes = f"{state}{inputs}" if fields else inputs.removeprefix(", ")
    lines += [f"static inline {own} {m.update}({takes})", "{"]
    if names := assigned(m.tree):
        lines.append(f"    {own} {', '.join(names)};")
    writer = _MachineStatements(m)
    for statement in m.tree:
        lines += writer.statement(statement, "    ")
    return [*lines, "}"]


class _MachineStatements(CStatements):
    """Statements of a machine: all in its own type but the times."""

    def __init__(self, m: Machine) -> None:
        super().__init__(Program(m.update, "", {}, m.arith))
        self.arithmetics = m.arithmetics

    def given(self, e: ast.expr) -> str:
        return self.value(e)

    def value(self, e: ast.expr, above: int = 0) -> str:
        if isinstance(e, ast.Attribute):
            return f"s->{e.attr}"
        if isinstance(e, ast.Subscript):
            return f"{self.value(e.value)}[{self.value(e.slice)}]"
        if isinstance(e, ast.Call):
            assert isinstance(e.func, ast.Name)
            other = self.arithmetics.get(e.func.id)
            cast = f"({other}_t)" if other else ""
            called = "jetruler_elapsed" if e.func.id == "elapsed" else e.func.id
            return f"{called}({', '.join(cast + self.value(a) for a in e.args)})"
        return super().value(e, above)


def text_function(name: str, arith: str, scale: int, unit: str | None, width: int) -> list[str]:
    """A function that writes a scaled whole number into a buffer, for small displays."""
    none, size = f"{arith.upper()}_MIN", "64" if arith == "int64" else "32"
    decimals = len(str(scale)) - 1
    tail = plain_unit(unit)
    kind = f"{arith}_t"
    least = decimals + 2 if decimals else 1
    point = f"        if (many == {decimals}) digits[many++] = '.';\n" if decimals else ""
    return f"""\
/* Writes {name} right-aligned into {width} characters and a closing 0; a row of - if it does not fit. */
static inline void {name}_text({kind} value, char buffer[{width + 1}])
{{
    static const char unit[] = "{_escaped(tail)}";
    char digits[24];
    uint{size}_t left = value < 0 ? 0u - (uint{size}_t)value : (uint{size}_t)value;
    uint8_t many = 0, long_ = {len(tail)}, i, at;
    do {{
{point}        digits[many++] = (char)('0' + (char)(left % 10u));
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


class C99(Target):
    """One C99 header."""

    name = "c"
    writes_machines = True
    writes_text = True

    def function(self, program: Program) -> list[str]:
        return function(program)

    def file(self, exported: Sequence[Exported], options: ExportOptions) -> str:
        one = exported[0].name.upper() if len(exported) == 1 else "CONVERSIONS"
        guard = f"JETRULER_{one}"
        floats = any(e.is_float for e in exported) or bool(options.derived)
        out = [
            "/*",
            f" * {comment(options.bench.title or 'Conversions')}, made by Jet Ruler {options.version}",
        ]
        out += [" */", f"#ifndef {guard}_H", f"#define {guard}_H", "", "#include <stdint.h>"]
        out += ["#include <math.h>"] if floats else []
        out += [
            "",
            *(f"#define JETRULER_{name.upper()} {flag.value}" for flag, name in READ_FLAGS.items()),
        ]
        for e in exported:
            out += [
                "",
                "/*",
                *(f" * {line}" for line in about(e, options.bench, options.version)),
                " */",
            ]
            none = "NAN" if e.is_float else none_of(e.program)
            out.append(f"#define {e.name.upper()}_NO_VALUE {none}")
            if not e.is_float:
                out.append(f"#define {e.name.upper()}_SCALE {e.wanted.scale}")
            out += ["", *function(e.program), *as_float(e)]
            out += with_struct(e) if options.as_struct else []
            out += ["", "/* JETRULER_... bits of a count. */"]
            out += function(flags_program(e.wanted, e.name))
            for program in pattern_programs(e):
                out += ["", *function(program)]
            if options.text_width and not e.is_float:
                unit = e.channel.unit
                out += [
                    "",
                    *text_function(
                        e.name, e.program.arith, e.wanted.scale, unit, options.text_width
                    ),
                ]
        for t in options.thresholds:
            name = t.program.name.upper()
            out += ["", f"/* {comment(t.about)} */", f"#define {name}_ON {t.on}"]
            out += [f"#define {name}_OFF {t.off}", *function(t.program)]
        for d in options.derived:
            out += ["", "/*", *(f" * {comment(line)}" for line in d.about), " */"]
            out += function(d.program)
        out += ELAPSED if any(m.uses_time for m in options.machines) else []
        written: set[str] = set()
        for machine in options.machines:
            out += machine_text(machine, written)
        if options.selftest:
            out += ["", *_selftest(exported)]
        return "\n".join([*out, "", "#endif", ""])


def _selftest(exported: Sequence[Exported]) -> list[str]:
    out = ["/* Returns how many vectors fail. */", "static inline int selftest(void)", "{"]
    out.append("    int failed = 0;")
    for e in exported:
        whole = not e.is_float
        for n, y in vectors(e):
            given = "".join(f", {default(x, e.is_float)}" for x in e.defaults)
            call = f"{e.name}({n}{given})"
            if y == "none":
                ok = f"{call} == {none_of(e.program)}" if whole else f"isnan({call})"
            elif whole:
                ok = f"{call} == {y}"
            else:
                ok = f"fabsf({call} - {np.float32(float(y))!s}f) <= {1e-5 * max(1.0, abs(float(y))):.2g}f"
            out.append(f"    failed += !({ok});")
    return [*out, "    return failed;", "}"]
