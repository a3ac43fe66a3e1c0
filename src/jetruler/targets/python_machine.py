"""Machines as Python: classes that run on small interpreters."""

from __future__ import annotations

import ast
import copy

from ..core.firmware.machine import Machine
from ..core.firmware.names import comment
from .python_code import function, unparsed

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
