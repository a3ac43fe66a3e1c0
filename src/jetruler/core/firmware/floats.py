"""The ruler's own formula in floats, proven; or why floats of a target do not serve;
and the formula of a computed channel."""

from __future__ import annotations

import ast
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Any

import numpy as np

from ..bench.derived import TOGETHER, DerivedChannel
from ..laws.formula import FIXED
from ..ruler.base_law import constant
from ..ruler.rounding import ULPS
from ..ruler.ruler import TABLE_BITS, Ruler
from ..ruler.units import number, symbol
from .exported import Exported, ExportError, prove
from .forms import STEPS, outside
from .names import safe_name
from .program import LARGEST, Program
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
    kind: type[np.floating[Any]],
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
    has_nan: bool,
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
