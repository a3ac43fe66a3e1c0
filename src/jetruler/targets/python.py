"""Python: one module that needs only `math`, or nothing, and runs on small interpreters."""

from __future__ import annotations

import ast

from ..core.firmware.names import plain_unit
from ..core.firmware.program import Program
from .walk import wrapped


def function(p: Program, second: str = "") -> list[str]:
    """The tables and the function of a program: its own text."""
    lines = []
    for name, values in p.tables.items():
        lines += [f"{name} = (", *wrapped([*map(str, values), ""], "    "), ")", "", ""]
    lines.append(f"def {p.name}(n{', ' + second if second else ''}):")
    body = "\n".join(ast.unparse(s) for s in p.tree).replace("NONE", "None")
    return [*lines, *(f"    {line}" for line in body.splitlines())]


def imports(programs: list[Program]) -> list[str]:
    """What the module takes from `math`."""
    called = sorted({name for p in programs for name in p.calls} - {"abs"})
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
