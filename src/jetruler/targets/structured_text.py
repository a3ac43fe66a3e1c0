"""IEC 61131-3 structured text: one FUNCTION a conversion, a FUNCTION_BLOCK a machine."""

from __future__ import annotations

import ast
from collections.abc import Iterator, Sequence

import numpy as np

from ..core.firmware.count_programs import flags_program, pattern_programs
from ..core.firmware.exported import Exported
from ..core.firmware.names import comment
from ..core.firmware.program import LARGEST, Machine, Program, is_of_count
from .target import BINDS, SIGNS, ExportOptions, Target, about, assigned, constant, vectors, wrapped

_KINDS = {"int16": "INT", "int32": "DINT", "int64": "LINT", "float": "REAL"}
_CALLED = {"log": "LN", "log10": "LOG"}
_SIGNS = SIGNS | {ast.Eq: "=", ast.NotEq: "<>"}

#: The functions that structured text has, by our names.
FUNCTIONS = frozenset(
    ("log", "log10", "exp", "sqrt", "abs", "sin", "cos", "tan", "asin", "acos", "atan")
)

#: What represents "no value", since REAL has no NaN that every controller agrees on.
NO_REAL = "-1.0E30"


def function(p: Program) -> list[str]:
    """The function of a program, with its tables as constants."""
    kind = _KINDS[p.arith]
    lines = [
        f"FUNCTION {p.name} : {kind}",
        "VAR_INPUT",
        *([f"    n : {_KINDS[p.takes]};"] if p.takes != "none" else []),
    ]
    lines += [f"    {name} : {kind};" for name in p.arguments]
    lines.append("END_VAR")
    if p.tables:
        lines.append("VAR CONSTANT")
        for name, values in p.tables.items():
            lines.append(f"    {name} : ARRAY[0..{len(values) - 1}] OF {kind} := [")
            lines += [*wrapped([*map(str, values)], "        "), "    ];"]
        lines.append("END_VAR")
    if names := [name for name in assigned(p.tree) if name not in p.arguments]:
        lines += ["VAR", *(f"    {name} : {kind};" for name in names), "END_VAR"]
    writer = StructuredStatements(p)
    for statement in p.tree:
        lines += writer.statement(statement, "")
    return [*lines, "END_FUNCTION"]


def with_struct(e: Exported) -> list[str]:
    """A structure of the arguments, and the function that takes it."""
    kind, names = _KINDS["float" if e.is_float else e.program.arith], e.program.arguments
    fields = [f"    {n} : {kind} := {x!r};" for n, x in zip(names, e.defaults, strict=True)]
    given = "".join(f", ends.{name}" for name in names)
    return [
        *(f"TYPE {e.name}_ends :", "STRUCT", *fields, "END_STRUCT;", "END_TYPE"),
        f"FUNCTION {e.name}_with : {kind}",
        *("VAR_INPUT", f"    n : {_KINDS[e.program.takes]};", f"    ends : {e.name}_ends;"),
        *("END_VAR", f"{e.name}_with := {e.name}(n{given});", "END_FUNCTION", ""),
    ]


def as_float(e: Exported) -> list[str]:
    """A function that gives the whole result of the program as a REAL, if that is needed."""
    if not e.as_float:
        return []
    kind, none = _KINDS[e.program.arith], -LARGEST[e.program.arith] - 1
    return [
        f"FUNCTION {e.name} : REAL",
        *("VAR_INPUT", f"    n : {kind};", "END_VAR", "VAR", f"    y : {kind};", "END_VAR"),
        f"y := {e.program.name}(n);",
        f"IF y = {none} THEN",
        f"    {e.name} := {NO_REAL};",
        "ELSE",
        f"    {e.name} := {kind}_TO_REAL(y) / {float(e.wanted.scale)};",
        *("END_IF;", "END_FUNCTION", ""),
    ]


class StructuredStatements:
    """Statements and expressions as structured text."""

    def __init__(self, program: Program) -> None:
        self.p = program
        self.float = program.arith == "float"
        self.none = NO_REAL if self.float else str(-LARGEST[program.arith] - 1)

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
            return f"{_KINDS[self.p.takes]}_TO_REAL(n)"
        return self.value(e)

    def _condition(self, e: ast.expr) -> str:
        if isinstance(e, ast.BoolOp):
            sign = " OR " if isinstance(e.op, ast.Or) else " AND "
            return sign.join(f"({self._condition(v)})" for v in e.values)
        assert isinstance(e, ast.Compare)
        if self.float and is_of_count(e):
            return f"n {_SIGNS[type(e.ops[0])]} {ast.literal_eval(e.comparators[0])}"
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


ELAPSED = """
(* Milliseconds from then to now, at most `most`; now may have wrapped. *)
FUNCTION jetruler_elapsed : DINT
VAR_INPUT
    now : UDINT;
    since : UDINT;
    most : DINT;
END_VAR
IF now - since > DINT_TO_UDINT(most) THEN
    jetruler_elapsed := most;
ELSE
    jetruler_elapsed := UDINT_TO_DINT(now - since);
END_IF;
END_FUNCTION""".splitlines()


def machine_text(m: Machine, written: set[str]) -> list[str]:
    """A machine with the programs it needs, those in `written` left out."""
    lines = []
    for program in m.brought(written):
        lines += ["", *function(program)]
    lines += ["", *(f"(* {comment(line)} *)" for line in m.about)]
    lines += [f"FUNCTION_BLOCK {m.update}", "VAR_INPUT"]
    own = _KINDS[m.arith]
    lines += [f"    {name} : {'UDINT' if name == 'now' else own};" for name in m.inputs]
    lines += ["END_VAR", "VAR_OUTPUT", f"    result : {own};", "END_VAR"]
    names = [f"    {name} : {own};" for name in assigned(m.tree)]
    for name, n in m.state.items():
        kind = "UDINT" if name in m.times else own
        names.append(f"    {name} : {f'ARRAY[0..{n - 1}] OF {kind}' if n else kind};")
    lines += ["VAR", *names, "END_VAR"] if names else []
    writer = _MachineStatements(m)
    for statement in m.tree:
        lines += writer.statement(statement, "")
    return [*lines, "END_FUNCTION_BLOCK"]


class _MachineStatements(StructuredStatements):
    """Statements of a machine: all in its own type but the times."""

    def __init__(self, m: Machine) -> None:
        super().__init__(Program("result", "", {}, m.arith))
        self.own, self.arithmetics = _KINDS[m.arith], m.arithmetics

    def value(self, e: ast.expr, above: int = 0) -> str:
        if isinstance(e, ast.Attribute):
            return e.attr
        if isinstance(e, ast.Subscript):
            return f"{self.value(e.value)}[{self.value(e.slice)}]"
        if isinstance(e, ast.Call):
            assert isinstance(e.func, ast.Name)
            called = "jetruler_elapsed" if e.func.id == "elapsed" else e.func.id
            given = ", ".join(self.value(a) for a in e.args)
            if e.func.id in self.arithmetics:
                other = _KINDS[self.arithmetics[e.func.id]]
                return f"{other}_TO_{self.own}({called}({self.own}_TO_{other}({given})))"
            return f"{called}({given})"
        return super().value(e, above)


class StructuredText(Target):
    """Functions of IEC 61131-3 structured text."""

    name = "st"
    has_nan = False
    writes_machines = True
    functions = FUNCTIONS

    def function(self, program: Program) -> list[str]:
        return function(program)

    def file(self, exported: Sequence[Exported], options: ExportOptions) -> str:
        out = [
            f"(* {comment(options.bench.title or 'Conversions')}, made by Jet Ruler {options.version} *)"
        ]
        for e in exported:
            out += ["", *(f"(* {line} *)" for line in about(e, options.bench, options.version))]
            none = NO_REAL if e.is_float else str(-LARGEST[e.program.arith] - 1)
            out += [f"(* no value: {none} *)", *function(e.program), "", *as_float(e)]
            out += with_struct(e) if options.as_struct else []
            out += function(flags_program(e.wanted, e.name))
            for program in pattern_programs(e):
                out += ["", *function(program)]
        for t in options.thresholds:
            out += ["", f"(* {comment(t.about)} *)", *function(t.program)]
        for d in options.derived:
            out += ["", *(f"(* {comment(line)} *)" for line in d.about), *function(d.program)]
        out += ELAPSED if any(m.uses_time for m in options.machines) else []
        written: set[str] = set()
        for machine in options.machines:
            out += machine_text(machine, written)
        if options.selftest:
            out += ["", "(* Returns how many vectors fail. *)", "FUNCTION selftest : DINT"]
            out += ["VAR_INPUT", "    n : DINT;", "END_VAR", "selftest := 0;"]
            for e in exported:
                none = NO_REAL if e.is_float else str(-LARGEST[e.program.arith] - 1)
                for n, y in vectors(e):
                    call = f"{', '.join([f'{e.name}({n}', *map(repr, e.defaults)])})"
                    value = none if y == "none" else y
                    test = f"{call} <> {value}"
                    if e.is_float:
                        test = f"ABS({call} - ({float(value)!s})) > {1e-5 * max(1.0, abs(float(value))):.6f}"
                    out += [f"IF {test} THEN", "    selftest := selftest + 1;", "END_IF;"]
            out.append("END_FUNCTION")
        return "\n".join([*out, ""])
