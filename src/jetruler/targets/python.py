"""Python: one module that needs only `math`, or nothing, and runs on small interpreters."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..core.firmware.by_count import flags_program
from ..core.firmware.names import comment, plain_unit
from ..core.firmware.patterns import pattern_programs
from ..core.firmware.program import Program
from ..core.firmware.selection import Exported
from ..core.model.reading import READ_FLAGS
from .python_code import function
from .python_machine import ELAPSED, machine_text
from .target import Target, Wish, vectors
from .walk import about


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


class PythonModule(Target):
    """One module for small interpreters."""

    name = "python"
    writes_machines = True
    float_kind = np.float64
    writes_text = True

    def file(self, exported: Sequence[Exported], wish: Wish) -> str:
        out = [f"# {comment(wish.bench.title or 'Conversions')}, made by Jet Ruler {wish.version}"]
        out += imports([e.program for e in exported])
        out += ["", *(f"{name.upper()} = {flag.value}" for flag, name in READ_FLAGS.items())]
        for e in exported:
            out += ["", "", *(f"# {line}" for line in about(e, wish.bench, wish.version))]
            if e.program.arith != "float":
                out.append(f"{e.name.upper()}_SCALE = {e.wanted.scale}")
            out += ["", "", *function(e.program), "", ""]
            out += function(flags_program(e.wanted, e.name))
            for program in pattern_programs(e):
                out += ["", "", *function(program)]
            if wish.text_width and e.program.arith != "float":
                text = text_function(e.name, e.wanted.scale, e.channel.unit, wish.text_width)
                out += ["", "", *text]
        for t in wish.thresholds:
            name = t.program.name.upper()
            out += ["", "", f"# {comment(t.about)}", f"{name}_ON = {t.on}", f"{name}_OFF = {t.off}"]
            out += ["", "", *function(t.program, "was")]
        out += ELAPSED if any(m.uses_time for m in wish.machines) else []
        written: set[str] = set()
        for machine in wish.machines:
            out += machine_text(machine, written)
        if wish.selftest:
            out += ["", "", "# Returns how many vectors fail.", "def selftest():", "    failed = 0"]
            for e in exported:
                cells = ", ".join(f"({n}, {'None' if y == 'none' else y})" for n, y in vectors(e))
                out.append(f"    for n, y in ({cells}):")
                near = (
                    ""
                    if e.program.arith != "float"
                    else " and (z is None or y is None or abs(z - y) > 1e-5 * max(1.0, abs(y)))"
                )
                out += [
                    f"        z = {e.name}(n)",
                    f"        if z != y{near}:",
                    "            failed += 1",
                ]
            out.append("    return failed")
        return "\n".join([*out, ""])
