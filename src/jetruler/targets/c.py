"""C99: one header of `static inline` functions, `stdint.h`, no allocation."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..core.firmware.by_count import flags_program
from ..core.firmware.names import comment, plain_unit
from ..core.firmware.patterns import pattern_programs
from ..core.firmware.selection import Exported
from ..core.model.reading import READ_FLAGS
from .c_code import function, none_of
from .c_machine import ELAPSED, machine_text
from .target import Target, Wish, vectors
from .walk import about


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


class C99(Target):
    """One C99 header."""

    name = "c"
    writes_machines = True
    writes_text = True

    def file(self, exported: Sequence[Exported], wish: Wish) -> str:
        one = exported[0].name.upper() if len(exported) == 1 else "CONVERSIONS"
        guard = f"JETRULER_{one}"
        floats = any(e.program.arith == "float" for e in exported)
        out = [
            "/*",
            f" * {comment(wish.bench.title or 'Conversions')}, made by Jet Ruler {wish.version}",
        ]
        out += [" */", f"#ifndef {guard}_H", f"#define {guard}_H", "", "#include <stdint.h>"]
        out += ["#include <math.h>"] if floats else []
        out += [
            "",
            *(f"#define JETRULER_{name.upper()} {flag.value}" for flag, name in READ_FLAGS.items()),
        ]
        for e in exported:
            out += ["", "/*", *(f" * {line}" for line in about(e, wish.bench, wish.version)), " */"]
            out.append(f"#define {e.name.upper()}_NO_VALUE {none_of(e.program)}")
            if e.program.arith != "float":
                out.append(f"#define {e.name.upper()}_SCALE {e.wanted.scale}")
            out += ["", *function(e.program), "", "/* JETRULER_... bits of a count. */"]
            out += function(flags_program(e.wanted, e.name))
            for program in pattern_programs(e):
                out += ["", *function(program)]
            if wish.text_width and e.program.arith != "float":
                unit = e.channel.unit
                out += [
                    "",
                    *text_function(e.name, e.program.arith, e.wanted.scale, unit, wish.text_width),
                ]
        for t in wish.thresholds:
            name = t.program.name.upper()
            out += ["", f"/* {comment(t.about)} */", f"#define {name}_ON {t.on}"]
            out += [f"#define {name}_OFF {t.off}", *function(t.program, "was")]
        out += ELAPSED if any(m.uses_time for m in wish.machines) else []
        written: set[str] = set()
        for machine in wish.machines:
            out += machine_text(machine, written)
        if wish.selftest:
            out += ["", *_selftest(exported)]
        return "\n".join([*out, "", "#endif", ""])


def _selftest(exported: Sequence[Exported]) -> list[str]:
    out = ["/* Returns how many vectors fail. */", "static inline int selftest(void)", "{"]
    out.append("    int failed = 0;")
    for e in exported:
        whole = e.program.arith != "float"
        for n, y in vectors(e):
            call = f"{e.name}({n})"
            if y == "none":
                ok = f"{call} == {none_of(e.program)}" if whole else f"isnan({call})"
            elif whole:
                ok = f"{call} == {y}"
            else:
                ok = f"fabsf({call} - {np.float32(float(y))!s}f) <= {1e-5 * max(1.0, abs(float(y))):.2g}f"
            out.append(f"    failed += !({ok});")
    return [*out, "    return failed;", "}"]
