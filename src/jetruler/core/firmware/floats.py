"""A ruler's own formula as a program of floats: each law writes its equation."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..laws.shape import ULPS
from ..model.ruler import Ruler
from .program import Program

#: How far from a tie a value is taken for it, in units in the last place: a short float has no
#: room for as many as a long one.
TIES = {np.float32: 4, np.float64: ULPS}


def float_program(
    ruler: Ruler, name: str, kind: type[np.floating[Any]] = np.float32
) -> Program | None:
    """The ruler's formula; None if one of its laws has none."""
    body = ["x = n"]
    for law in ruler.laws:
        statements = law.program()
        if statements is None:
            return None
        body += statements
    if any("tie" in statement for statement in body):
        body.insert(0, f"tie = {TIES.get(kind, ULPS) * float(np.finfo(kind).eps)!r}")
    body.append("return x")
    return Program(name, "\n".join(body), {}, "float")
