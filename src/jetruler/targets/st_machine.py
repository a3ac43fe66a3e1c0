"""Machines as structured text: a FUNCTION_BLOCK with its state."""

from __future__ import annotations

import ast

from ..core.firmware.machine import Machine
from ..core.firmware.names import comment
from ..core.firmware.program import Program
from .st_code import StructuredStatements, function
from .walk import assigned

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
    lines += [f"    {name} : {'UDINT' if name == 'now' else 'DINT'};" for name in m.inputs]
    lines += ["END_VAR", "VAR_OUTPUT", "    result : DINT;", "END_VAR"]
    names = [f"    {name} : DINT;" for name in assigned(m.tree)]
    for name, n in m.state.items():
        kind = "UDINT" if name in m.times else "DINT"
        names.append(f"    {name} : {f'ARRAY[0..{n - 1}] OF {kind}' if n else kind};")
    lines += ["VAR", *names, "END_VAR"] if names else []
    writer = _MachineStatements(m)
    for statement in m.tree:
        lines += writer.statement(statement, "")
    return [*lines, "END_FUNCTION_BLOCK"]


class _MachineStatements(StructuredStatements):
    """Statements of a machine: all in DINT but the times."""

    def __init__(self, m: Machine) -> None:
        super().__init__(Program("result", "", {}, "int32"))
        self.narrow = m.narrow

    def value(self, e: ast.expr, above: int = 0) -> str:
        if isinstance(e, ast.Attribute):
            return e.attr
        if isinstance(e, ast.Subscript):
            return f"{self.value(e.value)}[{self.value(e.slice)}]"
        if isinstance(e, ast.Call):
            assert isinstance(e.func, ast.Name)
            called = "jetruler_elapsed" if e.func.id == "elapsed" else e.func.id
            given = ", ".join(self.value(a) for a in e.args)
            if e.func.id in self.narrow:
                return f"INT_TO_DINT({called}(DINT_TO_INT({given})))"
            return f"{called}({given})"
        return super().value(e, above)
