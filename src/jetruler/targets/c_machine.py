"""Machines as C: a struct that starts zeroed, and a function that moves it on."""

from __future__ import annotations

import ast

from ..core.firmware.machine import Machine
from ..core.firmware.names import comment
from ..core.firmware.program import Program
from .c_code import CStatements, function
from .walk import assigned

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
    fields = [
        f"{'uint32_t' if name in m.times else 'int32_t'} {name}{f'[{n}]' if n else ''};"
        for name, n in m.state.items()
    ]
    inputs = "".join(f", {'uint32_t' if i == 'now' else 'int32_t'} {i}" for i in m.inputs)
    state = f"struct {m.name} *s" if fields else ""
    if fields:
        lines.append(f"struct {m.name} {{ {' '.join(fields)} }};")
    takes = f"{state}{inputs}" if fields else inputs.removeprefix(", ")
    lines += [f"static inline int32_t {m.update}({takes})", "{"]
    if names := assigned(m.tree):
        lines.append(f"    int32_t {', '.join(names)};")
    writer = _MachineStatements(m)
    for statement in m.tree:
        lines += writer.statement(statement, "    ")
    return [*lines, "}"]


class _MachineStatements(CStatements):
    """Statements of a machine: all in int32_t but the times."""

    def __init__(self, m: Machine) -> None:
        super().__init__(Program(m.update, "", {}, "int32"))
        self.narrow = m.narrow

    def given(self, e: ast.expr) -> str:
        return self.value(e)

    def value(self, e: ast.expr, above: int = 0) -> str:
        if isinstance(e, ast.Attribute):
            return f"s->{e.attr}"
        if isinstance(e, ast.Subscript):
            return f"{self.value(e.value)}[{self.value(e.slice)}]"
        if isinstance(e, ast.Call):
            assert isinstance(e.func, ast.Name)
            cast = "(int16_t)" if e.func.id in self.narrow else ""
            called = "jetruler_elapsed" if e.func.id == "elapsed" else e.func.id
            return f"{called}({', '.join(cast + self.value(a) for a in e.args)})"
        return super().value(e, above)
