"""The ruler's own formula in floats, proven; or why floats of a target do not serve."""

from __future__ import annotations

from dataclasses import replace
from itertools import pairwise
from typing import Any

import numpy as np

from ..ruler.base_law import constant
from ..ruler.rounding import ULPS
from ..ruler.ruler import TABLE_BITS, Ruler
from ..ruler.units import number, symbol
from .exported import Exported, ExportError
from .forms import STEPS, outside
from .program import LARGEST, Program
from .proof import prove
from .reference import ReferenceValues

#: How far from a tie a value is taken for it, in units in the last place: a short float has no
#: room for as many as a long one.
TIES = {np.float32: 4, np.float64: ULPS}


#: A libm's logarithm may differ from ours in its last digits: this much, of the value.
LIBM = 4 * float(np.finfo(np.float32).eps)

#: Functions that every libm rounds alike.
EXACT = frozenset(("abs", "ceil", "floor", "sqrt", "trunc"))


def float_program(
    ruler: Ruler,
    name: str,
    kind: type[np.floating[Any]] = np.float32,
    valued: list[tuple[int, int]] | None = None,
    held: tuple[float, float] | None = None,
) -> Program | str:
    """The ruler's formula; or which of its laws has none.

    valued: the stretches of counts with a value, which the program then compares the count with;
    the laws themselves decide if it is left out. held: between what the result is held.
    """
    body = ["x = n"]
    ulps = TIES.get(kind, ULPS) * float(np.finfo(kind).eps)
    for law, put_on in zip(ruler.laws, _put_on_edges(ruler, ulps), strict=True):
        statements = law.program()
        if statements is None:
            return f"{law.name} has no formula in floats"
        if valued is not None:
            statements = [s for s in statements if not s.endswith(":\n    return NONE")]
        body += put_on + statements
    if held is not None:
        low, high = map(constant, held)
        body += [f"if x < {low}:\n    x = {low}", f"if x > {high}:\n    x = {high}"]
    if any("tie" in statement for statement in body):
        body.insert(0, f"tie = {ulps!r}")
    if valued is not None:
        lowest, highest = valued[0][0], valued[-1][1]
        wide = "int64" if max(-lowest - 1, highest) > LARGEST["int32"] else "int32"
        beyond = outside(lowest, highest, wide)
        gaps = [(a[1], b[0]) for a, b in pairwise(valued)]
        body = beyond + [f"if n > {a} and n < {b}:\n    return NONE" for a, b in gaps] + body
        return Program(name, "\n".join([*body, "return x"]), {}, "float", wide)
    return Program(name, "\n".join([*body, "return x"]), {}, "float")


def _put_on_edges(ruler: Ruler, ulps: float) -> list[list[str]]:
    """Statements before each law that put on an edge what a chip computes beside it; none for an
    edge that no raw value meets."""
    edge = ruler.edge
    if edge is None or not edge.is_bounded or not any(law.decides_at for law in ruler.laws[1:]):
        return [[] for _ in ruler.laws]
    found: list[list[str]] = [[]]
    joints = ruler.joints(edge.samples(2**TABLE_BITS))
    for law, x, size in list(zip(ruler.laws, joints, ruler.sizes, strict=False))[1:]:
        near = [(e, ulps * max(abs(e), size)) for e in law.decides_at]
        met = [(e, g) for e, g in near if np.any(np.abs(x - e) <= g)]
        put = "if abs(x - {e}) <= {g}:\n    x = {e}"
        found.append([put.format(e=constant(e), g=constant(g)) for e, g in met])
    return found


def float_form(
    w: ReferenceValues,
    name: str,
    kind: type[np.floating[Any]],
    *,
    free: bool,
    functions: frozenset[str],
    held: tuple[float, float] | None,
    misses_steps: bool = False,
) -> Exported | str:
    """The formula itself in a target's floats; or why it does not serve.

    free: whether no bound was asked for. held: between what the result is held. misses_steps:
    whether a whole result may be beside its step where no other form serves. Raises
    `ExportError` for a bound that floats do not keep.
    """
    stretches = w.valued
    if len(stretches) > STEPS:
        return f"values come and go {len(stretches)} times"
    program = float_program(w.channel.ruler, name, kind, stretches, held)
    if isinstance(program, str):
        return program
    missing = sorted(program.calls - functions)
    if missing:
        return f"the target has no {', '.join(missing)}"
    proof = prove(program, w, kind)
    if proof is None:
        return "floats of this target have no value at counts that have one"
    # The target's own library may round its functions otherwise than ours.
    by_library = kind is np.float32 and not (w.is_whole and program.calls <= EXACT)
    margin = LIBM * float(np.nanmax(np.abs(w.values))) if by_library else 0.0
    proof = replace(proof, worst=proof.worst + margin)
    unit = symbol(w.channel.unit)
    if free and w.is_whole and proof.worst >= 0.5 and not misses_steps:
        return f"floats of this target miss a step at count {proof.at}"
    if free:
        proof = replace(proof, within=max(proof.within, proof.worst))
    if not proof.holds:
        raise ExportError(
            f"{w.channel.name}: floats of this target are off by {number(proof.worst)} {unit} at "
            f"count {proof.at}; a bound of that, or --arith int32, can be met"
        )
    return Exported(
        w.channel,
        name,
        kind="the formula itself",
        float_kind=kind,
        program=program,
        wanted=w,
        proof=proof,
        cheaper="",
    )
