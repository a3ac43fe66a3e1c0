"""Python: one module that needs only `math`, or nothing, and runs on small interpreters."""

from __future__ import annotations

import ast
import copy
from collections.abc import Sequence

import numpy as np

from ..core.firmware.count_programs import flags_program, pattern_programs
from ..core.firmware.exported import Exported
from ..core.firmware.floats import DerivedFunction
from ..core.firmware.names import comment, plain_unit
from ..core.firmware.program import Machine, Program
from ..core.ruler.reading import READ_FLAGS
from .target import ExportOptions, Target, about, vectors, wrapped


def function(p: Program) -> list[str]:
    """The tables and the function of a program: its own text."""
    lines = []
    for name, values in p.tables.items():
        lines += [f"{name} = (", *wrapped([*map(str, values), ""], "    "), ")", "", ""]
    given = [*(["n"] if p.takes != "none" else []), *p.arguments]
    lines.append(f"def {p.name}({', '.join(given)}):")
    for statement in p.tree:
        text = unparsed(statement)
        lines += [f"    {line}" for line in text.splitlines()]
    return lines


def _guarded(d: DerivedFunction) -> list[str]:
    """The function, None where its formula has no value."""
    lines = function(d.program)
    at = next(i for i, line in enumerate(lines) if line.startswith("    x = "))
    lines[at] = f"    {lines[at]}"
    caught = "    except (ArithmeticError, ValueError):\n        return None".splitlines()
    return [*lines[:at], "    try:", lines[at], *caught, *lines[at + 1 :]]


def with_struct(e: Exported) -> list[str]:
    """A class whose fields are the arguments."""
    names = e.program.arguments
    starts = ", ".join(f"{n}={x!r}" for n, x in zip(names, e.defaults, strict=True))
    given = ", ".join(f"self.{name}" for name in names)
    return [
        f"class {class_name(e.name + '_ends')}:",
        f"    def __init__(self, {starts}):",
        *(f"        self.{name} = {name}" for name in names),
        "",
        "    def read(self, n):",
        f"        return {e.name}(n, {given})",
        *("", ""),
    ]


def as_float(e: Exported) -> list[str]:
    """A function that gives the whole result of the program as a float, if that is needed."""
    if not e.as_float:
        return []
    call = [f"def {e.name}(n):", f"    y = {e.program.name}(n)"]
    return [*call, f"    return None if y is None else y / {float(e.wanted.scale)}", "", ""]


def unparsed(statement: ast.stmt) -> str:
    """A statement as text."""
    return ast.unparse(_NoneByItsName().visit(copy.deepcopy(statement)))


class _NoneByItsName(ast.NodeTransformer):
    """What has no value is None in Python."""

    def visit_Compare(self, node: ast.Compare) -> ast.expr:
        none = isinstance(node.comparators[0], ast.Name) and node.comparators[0].id == "NONE"
        self.generic_visit(node)
        return ast.Compare(node.left, [ast.Is()], node.comparators) if none else node

    def visit_Name(self, node: ast.Name) -> ast.expr:
        return ast.Constant(None) if node.id == "NONE" else node


ELAPSED = """

# Milliseconds from then to now, at most `most`; now may have wrapped at 2**32.
def jetruler_elapsed(now, then, most):
    return min((now - then) % 4294967296, most)""".splitlines()


def class_name(name: str) -> str:
    """`too_hot` → `TooHot`."""
    return "".join(part.capitalize() for part in name.split("_"))


def machine_text(m: Machine, written: set[str]) -> list[str]:
    """A machine with the programs it needs, those in `written` left out."""
    lines = []
    for program in m.brought(written):
        lines += ["", "", *function(program)]
    lines += ["", "", *(f"# {comment(line)}" for line in m.about)]
    lines += [f"class {class_name(m.name)}:", "    def __init__(self):"]
    lines += [f"        self.{name} = {f'[0] * {n}' if n else 0}" for name, n in m.state.items()]
    lines += [] if m.state else ["        pass"]
    lines += ["", f"    def update({', '.join(['self', *m.inputs])}):"]
    for statement in m.tree:
        text = unparsed(_Self().visit(copy.deepcopy(statement)))
        lines += [f"        {line}" for line in text.splitlines()]
    return lines


class _Self(ast.NodeTransformer):
    """The state is that of the object."""

    def visit_Name(self, node: ast.Name) -> ast.expr:
        plain = {"s": "self", "elapsed": "jetruler_elapsed"}
        return ast.Name(plain.get(node.id, node.id), node.ctx)


def imports(programs: list[Program]) -> list[str]:
    """What the module takes from `math`."""
    called = sorted({name for p in programs for name in p.calls} - {"abs", "min", "max"})
    return [f"from math import {', '.join(called)}"] if called else []


def text_function(name: str, scale: int, unit: str | None, width: int) -> list[str]:
    """A function that writes a scaled whole number as text of a width, without floats."""
    decimals = len(str(scale)) - 1
    number = (
        f'sign + digits[:-{decimals}] + "." + digits[-{decimals}:]' if decimals else "sign + digits"
    )
    return f"""\
def {name}_text(value):
    if value is None:
        return "-" * {width}
    sign = "-" if value < 0 else ""
    digits = str(abs(value))
    while len(digits) < {decimals + 1}:
        digits = "0" + digits
    text = {number} + {plain_unit(unit)!r}
    if len(text) > {width}:
        return "-" * {width}
    return " " * ({width} - len(text)) + text""".splitlines()


class PythonModule(Target):
    """One module for small interpreters."""

    name = "python"
    has_nan = False
    writes_machines = True
    float_kind = np.float64
    writes_text = True

    def function(self, program: Program) -> list[str]:
        return function(program)

    def file(self, exported: Sequence[Exported], options: ExportOptions) -> str:
        out = [
            f"# {comment(options.bench.title or 'Conversions')}, made by Jet Ruler {options.version}"
        ]
        out += imports([*(e.program for e in exported), *(d.program for d in options.derived)])
        out += ["", *(f"{name.upper()} = {flag.value}" for flag, name in READ_FLAGS.items())]
        for e in exported:
            out += ["", "", *(f"# {line}" for line in about(e, options.bench, options.version))]
            if not e.is_float:
                out.append(f"{e.name.upper()}_SCALE = {e.wanted.scale}")
            out += ["", "", *function(e.program), "", "", *as_float(e)]
            out += with_struct(e) if options.as_struct else []
            out += function(flags_program(e.wanted, e.name))
            for program in pattern_programs(e):
                out += ["", "", *function(program)]
            if options.text_width and not e.is_float:
                text = text_function(e.name, e.wanted.scale, e.channel.unit, options.text_width)
                out += ["", "", *text]
        for t in options.thresholds:
            name = t.program.name.upper()
            out += ["", "", f"# {comment(t.about)}", f"{name}_ON = {t.on}", f"{name}_OFF = {t.off}"]
            out += ["", "", *function(t.program)]
        for d in options.derived:
            out += ["", "", *(f"# {comment(line)}" for line in d.about), *_guarded(d)]
        out += ELAPSED if any(m.uses_time for m in options.machines) else []
        written: set[str] = set()
        for machine in options.machines:
            out += machine_text(machine, written)
        if options.selftest:
            out += ["", "", "# Returns how many vectors fail.", "def selftest():", "    failed = 0"]
            for e in exported:
                cells = ", ".join(f"({n}, {'None' if y == 'none' else y})" for n, y in vectors(e))
                out.append(f"    for n, y in ({cells}):")
                near = (
                    ""
                    if not e.is_float
                    else " and (z is None or y is None or abs(z - y) > 1e-5 * max(1.0, abs(y)))"
                )
                out += [
                    f"        z = {', '.join([f'{e.name}(n', *map(repr, e.defaults)])})",
                    f"        if z != y{near}:",
                    "            failed += 1",
                ]
            out.append("    return failed")
        return "\n".join([*out, ""])
