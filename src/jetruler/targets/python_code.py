"""Programs as Python: their own text, but for what has no value."""

from __future__ import annotations

import ast
import copy

from ..core.firmware.program import Program
from .walk import wrapped


def function(p: Program, second: str = "") -> list[str]:
    """The tables and the function of a program: its own text."""
    lines = []
    for name, values in p.tables.items():
        lines += [f"{name} = (", *wrapped([*map(str, values), ""], "    "), ")", "", ""]
    lines.append(f"def {p.name}(n{', ' + second if second else ''}):")
    for statement in p.tree:
        text = unparsed(statement)
        lines += [f"    {line}" for line in text.splitlines()]
    return lines


def unparsed(statement: ast.stmt) -> str:
    """A statement as text."""
    return ast.unparse(_NoneByItsName().visit(copy.deepcopy(statement)))


class _NoneByItsName(ast.NodeTransformer):
    """What has no value is None in Python."""

    def visit_Compare(self, node: ast.Compare) -> ast.expr:
        none = isinstance(node.comparators[0], ast.Name) and node.comparators[0].id == "NONE"
        self.generic_visit(node)
        return ast.Compare(node.left, [ast.Is()], node.comparators) if none else node

    def visit_Name(self, node: ast.Name) -> ast.expr:
        return ast.Constant(None) if node.id == "NONE" else node
