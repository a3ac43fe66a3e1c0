"""A whole file for a target: comments, tables, functions, self-test. The same input gives the same
bytes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from ..core.firmware.flagged import Threshold, flags_program
from ..core.firmware.names import comment
from ..core.firmware.program import LARGEST, Model
from ..core.firmware.selection import Exported
from ..core.model.channel import Bench
from ..core.model.reading import FLAG_NAMES
from . import c, python, st
from .walk import about


@dataclass(frozen=True)
class Wish:
    """What a file shall hold beside the conversions."""

    bench: Bench
    version: str
    thresholds: Sequence[Threshold] = ()
    text_width: int | None = None
    selftest: bool = False
    machines: Sequence[str] = field(default_factory=tuple)
    """Smoothing, trips and drives, ready as text."""


def vectors(e: Exported, many: int = 48) -> list[tuple[int, str]]:
    """Counts over the whole range with what they must give; the ends and the knots among them."""
    counts = e.wanted.counts
    places = set(np.linspace(0, counts.size - 1, min(many, counts.size)).astype(int).tolist())
    for table in e.program.tables.values():
        places |= {k - int(counts[0]) for k in table if counts[0] <= k <= counts[-1]} if (
            len(table) < 200 and list(table) == sorted(table)) else set()  # fmt: skip
    chosen = counts[sorted(places)]
    outputs = Model(e.program).run(chosen).tolist()
    none = -LARGEST.get(e.program.arith, 0) - 1
    return [
        (int(n), "none" if y != y or (e.program.arith != "float" and y == none) else repr(y))
        for n, y in zip(chosen.tolist(), outputs, strict=True)
    ]


def whole_file(target: str, exported: Sequence[Exported], wish: Wish) -> str:
    """The file for a target: "c", "python" or "st"."""
    if target == "c":
        one = exported[0].name.upper() if len(exported) == 1 else "CONVERSIONS"
        return c_file(exported, wish, f"JETRULER_{one}")
    return python_file(exported, wish) if target == "python" else st_file(exported, wish)


def c_file(exported: Sequence[Exported], wish: Wish, guard: str) -> str:
    """One C99 header."""
    floats = any(e.program.arith == "float" for e in exported)
    out = [
        "/*",
        f" * {comment(wish.bench.title or 'Conversions')}, made by Jet Ruler {wish.version}",
    ]
    out += [" */", f"#ifndef {guard}_H", f"#define {guard}_H", "", "#include <stdint.h>"]
    out += ["#include <math.h>"] if floats else []
    out += [
        "",
        *(f"#define JETRULER_{name.upper()} {flag.value}" for flag, name in FLAG_NAMES.items()),
    ]
    for e in exported:
        out += ["", "/*", *(f" * {line}" for line in about(e, wish.bench, wish.version)), " */"]
        out.append(f"#define {e.name.upper()}_NO_VALUE {c.none_of(e.program)}")
        if e.program.arith != "float":
            out.append(f"#define {e.name.upper()}_SCALE {e.wanted.scale}")
        out += ["", *c.function(e.program), "", "/* JETRULER_... bits of a count. */"]
        out += c.function(flags_program(e.wanted, e.name))
        if wish.text_width and e.program.arith != "float":
            unit = e.channel.unit
            out += [
                "",
                *c.text_function(e.name, e.program.arith, e.wanted.scale, unit, wish.text_width),
            ]
    for t in wish.thresholds:
        name = t.program.name.upper()
        out += ["", f"/* {comment(t.about)} */", f"#define {name}_ON {t.on}"]
        out += [f"#define {name}_OFF {t.off}", *c.function(t.program, "was")]
    out += [line for text in wish.machines for line in ("", text)]
    if wish.selftest:
        out += ["", *_c_selftest(exported)]
    return "\n".join([*out, "", "#endif", ""])


def _c_selftest(exported: Sequence[Exported]) -> list[str]:
    out = ["/* Returns how many vectors fail. */", "static inline int selftest(void)", "{"]
    out.append("    int failed = 0;")
    for e in exported:
        whole = e.program.arith != "float"
        for n, y in vectors(e):
            call = f"{e.name}({n})"
            if y == "none":
                ok = f"{call} == {c.none_of(e.program)}" if whole else f"isnan({call})"
            elif whole:
                ok = f"{call} == {y}"
            else:
                ok = f"fabsf({call} - {np.float32(float(y))!s}f) <= {1e-5 * max(1.0, abs(float(y))):.2g}f"
            out.append(f"    failed += !({ok});")
    return [*out, "    return failed;", "}"]


def python_file(exported: Sequence[Exported], wish: Wish) -> str:
    """One module."""
    out = [f"# {comment(wish.bench.title or 'Conversions')}, made by Jet Ruler {wish.version}"]
    out += python.imports([e.program for e in exported])
    out += ["", *(f"{name.upper()} = {flag.value}" for flag, name in FLAG_NAMES.items())]
    for e in exported:
        out += ["", "", *(f"# {line}" for line in about(e, wish.bench, wish.version))]
        if e.program.arith != "float":
            out.append(f"{e.name.upper()}_SCALE = {e.wanted.scale}")
        out += ["", "", *python.function(e.program), "", ""]
        out += python.function(flags_program(e.wanted, e.name))
        if wish.text_width and e.program.arith != "float":
            text = python.text_function(e.name, e.wanted.scale, e.channel.unit, wish.text_width)
            out += ["", "", *text]
    for t in wish.thresholds:
        name = t.program.name.upper()
        out += ["", "", f"# {comment(t.about)}", f"{name}_ON = {t.on}", f"{name}_OFF = {t.off}"]
        out += ["", "", *python.function(t.program, "was")]
    out += [line for text in wish.machines for line in ("", "", text)]
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


def st_file(exported: Sequence[Exported], wish: Wish) -> str:
    """Functions of structured text."""
    out = [f"(* {comment(wish.bench.title or 'Conversions')}, made by Jet Ruler {wish.version} *)"]
    for e in exported:
        out += ["", *(f"(* {line} *)" for line in about(e, wish.bench, wish.version))]
        none = st.NO_REAL if e.program.arith == "float" else str(-LARGEST[e.program.arith] - 1)
        out += [f"(* no value: {none} *)", *st.function(e.program), ""]
        out += st.function(flags_program(e.wanted, e.name))
    for t in wish.thresholds:
        out += ["", f"(* {comment(t.about)} *)", *st.function(t.program, "was")]
    if wish.selftest:
        out += ["", "(* Returns how many vectors fail. *)", "FUNCTION selftest : DINT"]
        out += ["VAR_INPUT", "    n : DINT;", "END_VAR", "selftest := 0;"]
        for e in exported:
            none = st.NO_REAL if e.program.arith == "float" else str(-LARGEST[e.program.arith] - 1)
            for n, y in vectors(e):
                call = f"{e.name}({n})"
                value = none if y == "none" else y
                test = f"{call} <> {value}"
                if e.program.arith == "float":
                    test = f"ABS({call} - ({float(value)!s})) > {1e-5 * max(1.0, abs(float(value))):.6f}"
                out += [f"IF {test} THEN", "    selftest := selftest + 1;", "END_IF;"]
        out.append("END_FUNCTION")
    return "\n".join([*out, ""])
