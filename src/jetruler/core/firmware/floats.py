"""A ruler's own formula as a program of floats: each law writes its equation."""

from __future__ import annotations

from ..model.ruler import Ruler
from .program import Program


def float_program(ruler: Ruler, name: str) -> Program | None:
    """The ruler's formula; None if one of its laws has none."""
    body = ["x = n"]
    for law in ruler.laws:
        statements = law.program()
        if statements is None:
            return None
        body += statements
    body.append("return x")
    return Program(name, "\n".join(body), {}, "float")
