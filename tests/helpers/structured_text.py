"""A small evaluator of the structured text in use: FUNCTIONs and FUNCTION_BLOCKs as Python."""

from __future__ import annotations

import re
from typing import Any

import numpy as np

_CALLS = (
    "LN|EXP|SQRT|ABS|DINT_TO_REAL|DINT_TO_UDINT|UDINT_TO_DINT|INT_TO_DINT|DINT_TO_INT|"
    "LINT_TO_DINT|DINT_TO_LINT|LINT_TO_INT|INT_TO_LINT|LINT_TO_REAL"
)


class _Unsigned(int):
    """A UDINT: its differences wrap."""

    def __sub__(self, other: int) -> _Unsigned:
        return _Unsigned((int(self) - int(other)) % 2**32)


def structured(text: str) -> dict[str, Any]:
    """Functions take their inputs in order; a function block is a class whose objects do."""
    text = re.sub(r"\(\*.*?\*\)", "", text)
    out: list[str] = []
    for unit in re.findall(
        r"^(FUNCTION(?:_BLOCK)? .*?^END_FUNCTION(?:_BLOCK)?)$", text, re.M | re.S
    ):
        out += _unit(unit)
    calls = {f"_{name}": int for name in _CALLS.split("|")}
    scope: dict[str, Any] = {
        **calls, "_LN": np.log, "_EXP": np.exp, "_DINT_TO_REAL": float, "_ABS": abs,
        "_SQRT": np.sqrt, "_Unsigned": _Unsigned, "_DINT_TO_UDINT": _Unsigned,
    }  # fmt: skip
    exec("\n".join(out), scope)  # our own text
    return scope


def _unit(unit: str) -> list[str]:
    head = re.match(r"FUNCTION(_BLOCK)? (\w+)", unit)
    assert head is not None
    block, name = bool(head[1]), head[2]
    declared: dict[str, list[tuple[str, str]]] = {}
    for kind, lines in re.findall(r"VAR(|_INPUT|_OUTPUT| CONSTANT)\n(.*?)END_VAR", unit, re.S):
        found = re.findall(r"(\w+) : ((?:ARRAY.*?\bOF )?\w+)(?: := \[(.*?)\])?;", lines, re.S)
        declared.setdefault(kind.strip(), []).extend((n, f"{k}|{v}") for n, k, v in found)
    body = re.sub(r"VAR(_INPUT|_OUTPUT| CONSTANT)?\n.*?END_VAR\n", "", unit, flags=re.S)
    inputs = [n for n, _ in declared.get("_INPUT", [])]
    times = {n for kind in declared.values() for n, k in kind if k.startswith("UDINT")}
    own = {n for n, _ in declared.get("", [])} | set(inputs) | {"result"} if block else set()
    out = [f"{n} = [{k.split('|')[1].strip()}]" for n, k in declared.get("CONSTANT", [])]
    depth = 1
    if block:
        out += [f"class {name}:", "    def __init__(self):", "        self.result = 0"]
        for n, k in declared.get("", []):
            array = re.match(r"ARRAY\[0\.\.(\d+)\]", k)
            zero = "_Unsigned(0)" if "UDINT" in k else "0"
            out.append(f"        self.{n} = {f'[{zero}] * {int(array[1]) + 1}' if array else zero}")
        out.append(f"    def __call__(self, {', '.join(inputs)}):")
        out += [f"        self.{n} = {f'_Unsigned({n})' if n in times else n}" for n in inputs]
        depth = 2
    else:
        out.append(f"def {name}({', '.join(f'{n}=0' if n == 'was' else n for n in inputs)}):")
        out += [f"    {n} = _Unsigned({n})" for n in inputs if n in times]
    given = "self.result" if block else f"{name}__"
    for line in body.splitlines()[1:]:
        line = re.sub(r"(?<![<>:=])=(?!=)", "==", line.strip().rstrip(";"))
        line = line.replace("<>", "!=").replace(":=", "=")
        line = line.replace(" OR ", " or ").replace(" AND ", " and ")
        line = re.sub(rf"\b({_CALLS})\(", lambda m: f"_{m[1]}(", line)
        line = re.sub(
            r"\b[a-z_]\w*\b(?!\()", lambda m: f"self.{m[0]}" if m[0] in own else m[0], line
        )
        if line.startswith(("IF ", "WHILE ")):
            word, condition = line.split(" ", 1)
            out.append("    " * depth + f"{word.lower()} {condition.rsplit(' ', 1)[0]}:")
            depth += 1
        elif line == "ELSE":
            out.append("    " * (depth - 1) + "else:")
        elif line in ("END_IF", "END_WHILE"):
            depth -= 1
        elif line == "RETURN" or line.startswith("END_FUNCTION"):
            out.append("    " * depth + f"return {given}")
        elif "=" in line:
            if not block:
                line = re.sub(rf"^{name} =", f"{given} =", line)
            real = ".0" in line or "E" in line or "_LN" in line
            out.append("    " * depth + (line if real else line.replace(" / ", " // ")))
    return out
