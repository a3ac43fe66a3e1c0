"""What a target is: a language that conversions are written in, one class a language; walking through
a program, and the comments on top."""

from __future__ import annotations

import ast
from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from ..core.bench.bench import Bench
from ..core.firmware.count_programs import Threshold
from ..core.firmware.exported import Exported
from ..core.firmware.floats import DerivedFunction
from ..core.firmware.names import comment
from ..core.firmware.program import FUNCTIONS, LARGEST, Machine, Program, ProgramModel
from ..core.firmware.reference import takes_counts
from ..core.ruler.units import symbol


@dataclass(frozen=True)
class ExportOptions:
    """What a file shall hold beside the conversions."""

    bench: Bench
    version: str
    thresholds: Sequence[Threshold] = ()
    text_width: int | None = None
    selftest: bool = False
    as_struct: bool = False
    """Whether arguments are fields of a struct too."""
    machines: Sequence[Machine] = ()
    """Smoothing, holding zones, trips and drives."""
    derived: Sequence[DerivedFunction] = ()
    """Functions of the values of other channels."""


class Target(ABC):
    """A language: what it can compute, and how a whole file in it is written.

    The same input gives the same bytes.
    """

    name: ClassVar[str]
    #: The type in which its floats are computed.
    float_kind: ClassVar[type[np.floating[Any]]] = np.float32
    #: The functions that its floats may call.
    functions: ClassVar[frozenset[str]] = frozenset(FUNCTIONS)
    #: Whether what has no value is not a number in its floats.
    has_nan: ClassVar[bool] = True
    #: Whether it has functions that write a value for a display.
    writes_text: ClassVar[bool] = False
    #: Whether it writes smoothing, holding zones, trips and drives.
    writes_machines: ClassVar[bool] = False

    @abstractmethod
    def function(self, program: Program) -> list[str]:
        """Return the lines of one program, its tables before it."""

    @abstractmethod
    def file(self, exported: Sequence[Exported], options: ExportOptions) -> str:
        """Return the whole file: comments, tables, functions, machines, self-test."""


def vectors(e: Exported, many: int = 48) -> list[tuple[int, str]]:
    """Counts over the whole range with what they must give; the ends and the knots among them."""
    counts = e.wanted.counts
    places = np.linspace(0, counts.size - 1, min(many, counts.size)).astype(int)
    found = set(counts[places].tolist())
    for table in e.program.tables.values():
        if len(table) < 200 and list(table) == sorted(table):
            found |= {k for k in table if counts[0] <= k <= counts[-1]}
    chosen = np.array(sorted(found))
    defaults = dict(zip(e.program.arguments, e.defaults, strict=True))
    outputs = ProgramModel(e.program, e.float_kind).run(chosen, defaults)
    whole = e.program.arith != "float"
    none = outputs == -LARGEST[e.program.arith] - 1 if whole else np.isnan(outputs)
    given = outputs / e.wanted.scale if e.as_float else outputs
    each = zip(chosen.tolist(), given.tolist(), none.tolist(), strict=True)
    return [(int(n), "none" if gone else repr(y)) for n, y, gone in each]


PRODUCT = "Jet Ruler"

#: How tightly each operation binds, so that no bracket is written in vain, and none is missing.
BINDS = {
    ast.BitOr: 1, ast.RShift: 4, ast.Add: 5, ast.Sub: 5, ast.Mult: 6, ast.Div: 6, ast.FloorDiv: 6,
    ast.Pow: 8,
}  # fmt: skip
SIGNS: dict[type[ast.AST], str] = {
    ast.Add: "+", ast.Sub: "-", ast.Mult: "*", ast.Div: "/", ast.FloorDiv: "/", ast.Lt: "<",
    ast.LtE: "<=", ast.Gt: ">", ast.GtE: ">=", ast.Eq: "==", ast.NotEq: "!=", ast.RShift: ">>",
}  # fmt: skip


def about(e: Exported, bench: Bench, version: str) -> list[str]:
    """What is above a conversion: what it is, how it is computed, and the proof."""
    c = e.channel
    unit = symbol(c.unit) if c.unit != "zone" else ""
    lines = [f"{c.name}: {c.about}" if c.about else c.name]
    lines.append(
        f"{PRODUCT} {version}, bench {bench.title or 'without a title'}, column {c.column}"
    )
    place = e.wanted.valid[e.wanted.valid.size // 2]
    middle, raw = int(e.wanted.counts[place]), float(e.wanted.raw[place])
    noun = "count" if takes_counts(c) else "step"
    lines.append(f"worked at {noun} {middle}:")
    lines += [f"  {step.law}: {step.line}" for step in c.ruler.trace(raw).steps]
    if e.is_float:
        lines.append(f"returns {unit or 'a number'}; takes {e.wanted.raw_name}")
    else:
        step = f"1/{e.wanted.scale} {unit}".rstrip() if e.wanted.scale != 1 else unit or "a number"
        lines.append(f"returns whole steps of {step}; takes {e.wanted.raw_name}")
    if c.ruler.label(0.0) is not None:
        zones = next(law for law in reversed(c.ruler.laws) if getattr(law, "names", None))
        lines += [f"{i}: {zones.label(float(i))}" for i in range(len(zones.values))]  # type: ignore[attr-defined]
    return [comment(line) for line in [*lines, *e.lines()]]


def constant(e: ast.Constant) -> int | float:
    """The number that a constant is."""
    assert isinstance(e.value, int | float)
    return e.value


def assigned(body: Sequence[ast.stmt]) -> list[str]:
    """The variables of a program, in the order they are met."""
    names: dict[str, None] = {}
    for statement in body:
        for node in ast.walk(statement):
            if isinstance(node, ast.Assign) and isinstance(node.targets[0], ast.Name):
                names[node.targets[0].id] = None
    return list(names)


def wrapped(values: Sequence[str], indent: str, width: int = 92) -> Iterator[str]:
    """Values, separated by commas, on lines of a width."""
    line = indent
    for i, value in enumerate(values):
        cell = value + ("," if i < len(values) - 1 else "")
        if len(line) + len(cell) + 1 > width and line.strip():
            yield line.rstrip()
            line = indent
        line += cell + " "
    yield line.rstrip()
