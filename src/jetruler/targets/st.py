"""IEC 61131-3 structured text: one FUNCTION a conversion."""

from __future__ import annotations

from collections.abc import Sequence

from ..core.firmware.by_count import flags_program
from ..core.firmware.names import comment
from ..core.firmware.patterns import pattern_programs
from ..core.firmware.program import LARGEST
from ..core.firmware.selection import Exported
from .st_code import FUNCTIONS, NO_REAL, function
from .st_machine import ELAPSED, machine_text
from .target import Target, Wish, vectors
from .walk import about


class StructuredText(Target):
    """Functions of IEC 61131-3 structured text."""

    name = "st"
    writes_machines = True
    functions = FUNCTIONS

    def file(self, exported: Sequence[Exported], wish: Wish) -> str:
        out = [
            f"(* {comment(wish.bench.title or 'Conversions')}, made by Jet Ruler {wish.version} *)"
        ]
        for e in exported:
            out += ["", *(f"(* {line} *)" for line in about(e, wish.bench, wish.version))]
            none = NO_REAL if e.program.arith == "float" else str(-LARGEST[e.program.arith] - 1)
            out += [f"(* no value: {none} *)", *function(e.program), ""]
            out += function(flags_program(e.wanted, e.name))
            for program in pattern_programs(e):
                out += ["", *function(program)]
        for t in wish.thresholds:
            out += ["", f"(* {comment(t.about)} *)", *function(t.program, "was")]
        out += ELAPSED if any(m.uses_time for m in wish.machines) else []
        written: set[str] = set()
        for machine in wish.machines:
            out += machine_text(machine, written)
        if wish.selftest:
            out += ["", "(* Returns how many vectors fail. *)", "FUNCTION selftest : DINT"]
            out += ["VAR_INPUT", "    n : DINT;", "END_VAR", "selftest := 0;"]
            for e in exported:
                none = NO_REAL if e.program.arith == "float" else str(-LARGEST[e.program.arith] - 1)
                for n, y in vectors(e):
                    call = f"{e.name}({n})"
                    value = none if y == "none" else y
                    test = f"{call} <> {value}"
                    if e.program.arith == "float":
                        test = f"ABS({call} - ({float(value)!s})) > {1e-5 * max(1.0, abs(float(value))):.6f}"
                    out += [f"IF {test} THEN", "    selftest := selftest + 1;", "END_IF;"]
            out.append("END_FUNCTION")
        return "\n".join([*out, ""])
