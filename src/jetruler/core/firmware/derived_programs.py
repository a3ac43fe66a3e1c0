"""A channel that is computed from others as a function of their values, for firmware."""

from __future__ import annotations

import ast
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..bench.derived import TOGETHER, DerivedChannel
from ..laws.formula import FIXED
from ..ruler.base_law import constant
from ..ruler.ruler import Ruler
from ..ruler.units import symbol
from .floats import float_program
from .names import safe_name
from .program import Program


@dataclass(frozen=True)
class DerivedFunction:
    """The function of a derived channel: what it takes, in words, and its program."""

    channel: DerivedChannel
    program: Program

    @property
    def about(self) -> list[str]:
        """Sentences that are above it."""
        c = self.channel
        takes = ", ".join(f"{s.name} in {symbol(s.unit) or 'its unit'}" for s in c.sources)
        gives = symbol(c.unit) or "a number"
        title = f"{c.name}: {c.about}" if c.about else c.name
        smooth = ["without its smoothing, which is the caller's"] if c.smooth is not None else []
        return [
            title,
            *smooth,
            f"{c.combined.expression}, from the values of {takes}; gives {gives}",
        ]


class _Renamed(ast.NodeTransformer):
    """Names of sources as the function calls them; constants as their numbers."""

    def __init__(self, names: dict[str, str], numbers: dict[str, float]) -> None:
        self.names, self.numbers = names, numbers

    def visit_Name(self, node: ast.Name) -> ast.expr:
        if node.id in self.names:
            return ast.Name(self.names[node.id])
        if node.id in self.numbers:
            return ast.Constant(float(self.numbers[node.id]))
        return node

    def visit_Constant(self, node: ast.Constant) -> ast.expr:
        return ast.Constant(float(node.value)) if isinstance(node.value, int) else node


def derived_function(
    channel: DerivedChannel,
    kind: type[np.floating[Any]],
    functions: frozenset[str],
    has_nan: bool = True,
) -> DerivedFunction | str:
    """The function of a derived channel in a target's floats; or why there is none.

    functions: those that the target has. has_nan: whether what has no value is not a number
    there; else it is a number that means no value.
    """
    combined, names = channel.combined, {}
    body: list[str] = []
    for source, (times, plus) in zip(channel.sources, combined.scales, strict=True):
        name = names[source.name] = f"of_{safe_name(source.name)}"
        body.append(f"if {name} {'!=' if has_nan else '=='} {name if has_nan else 'NONE'}:")
        body[-1] += "\n    return NONE"
        if (times, plus) != (1.0, 0.0):
            body.append(f"{name} = {name} * {constant(times)} + {constant(plus)}")
    tree = ast.parse(combined.expression.strip(), mode="eval").body
    numbers = {**FIXED, **combined.numbers}
    expression = ast.unparse(_Renamed(names, numbers).visit(tree))
    scale = combined.result_factor
    body.append(f"x = {expression}" if scale == 1 else f"x = ({expression}) * {constant(scale)}")
    if has_nan:  # what is infinite less itself is no number
        body.append("if x - x != 0.0:\n    return NONE")
    if laws := channel.ruler.laws[1:]:
        behind = float_program(Ruler(laws), channel.name, kind)
        if isinstance(behind, str):
            return behind
        body.append(behind.body.replace("x = n\n", "", 1))
    else:
        body.append("return x")
    program = Program(
        safe_name(channel.name),
        "\n".join(body),
        arith="float",
        counts="none",
        arguments=tuple(names.values()),
    )
    missing = sorted(program.calls - functions - ({*TOGETHER} if has_nan else set()))
    if missing:
        return f"the target has no {', '.join(missing)}"
    return DerivedFunction(channel, program)
