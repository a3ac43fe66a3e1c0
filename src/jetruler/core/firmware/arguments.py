"""Exports whose parameters an operator's panel can change: ends of a line, or numbers of any law,
as arguments of the function, proven over a range."""

from __future__ import annotations

import ast
import itertools
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ..bench.channel import Channel
from ..bench.covariance import found_by, is_measure, measures, number_in, with_number
from ..error_types import ParameterError
from ..numerics import AnyArray, Array
from ..ruler.base_law import constant
from ..ruler.reading import Flag
from ..ruler.ruler import Law, Ruler
from ..ruler.units import nearest, number
from .exported import Exported, ExportError, Proof
from .floats import LIBM
from .forms import outside
from .names import safe_name
from .program import LARGEST, Program, ProgramModel, simplified_body
from .reference import ReferenceValues, ends_of, raw_of

#: The ends of a line, by the names that they have on a panel.
ENDS = {"lo": "marks[1][1]", "at_lo": "marks[1][2]", "hi": "marks[2][1]", "at_hi": "marks[2][2]"}
#: This many ends are run, the corners of their ranges among them; each over this many counts.
MANY_ENDS, MANY_COUNTS = 200, 2**14
#: Flags that depend on no parameter of a law.
OF_THE_EDGE = Flag.LOW_RAIL | Flag.HIGH_RAIL | Flag.OFF_SCALE | Flag.MISSING


@dataclass(frozen=True)
class Argument:
    """A parameter that is an argument of the function.

    name: as the function has it. parameter: as the bench file has it. law, field, inside: where it
    is. value: as the bench file says it, for tests. low, high: between these it is proven. is_true:
    whether it is a value of the true side, which a function of whole numbers takes in steps.
    """

    name: str
    parameter: str
    law: int
    field: str
    inside: tuple[int, ...]
    value: float
    low: float
    high: float
    is_true: bool


def arguments_of(
    channel: Channel, asked: Mapping[str, tuple[float, float] | None]
) -> list[Argument]:
    """The parameters that were asked for, with their ranges. Raises `ParameterError`."""
    laws = channel.ruler.laws
    found: list[Argument] = []
    for name, between in asked.items():
        having, field, inside = found_by(ENDS.get(name, name), laws, is_measure)
        if len(having) != 1:
            ends = [*ENDS] if any(law.marks is not None for law in laws) else []
            expected = f"a parameter of one law of {channel.name}"
            known = nearest(name, [*ends, *measures(laws)])
            why = known if not having else f"{len(having)} laws have it"
            raise ParameterError("arguments", name, expected, why)
        if any((one.law, one.field, one.inside) == (having[0], field, inside) for one in found):
            raise ParameterError("arguments", name, "each parameter once")
        law = laws[having[0]]
        value = float(number_in(law, field, inside))
        called = safe_name(name.replace("[", "_").replace("]", "").replace(".", "_"))
        is_raw = field == law.pairs_key and inside[-1:] == (0,)
        is_true = not is_raw and (field == law.pairs_key or law.keeps_within is not None)
        if between is None:
            between = _usual_range(channel, law, value, is_raw, is_true)
        low, high = between
        if not (math.isfinite(low) and math.isfinite(high) and low <= value <= high):
            expected = f"a range with its own value, {number(value)}, in it"
            raise ParameterError("arguments", f"{name} = {low:g}..{high:g}", expected)
        found.append(
            Argument(
                called,
                name,
                law=having[0],
                field=field,
                inside=inside,
                value=value,
                low=low,
                high=high,
                is_true=is_true,
            )
        )
    for corner in _corners(found):
        _ruler_with(channel.ruler, found, corner)
    return found


def _usual_range(
    channel: Channel, law: Law, value: float, is_raw: bool, is_true: bool
) -> tuple[float, float]:
    """Of a raw end: all counts. Of a true one: the span more on both sides. Of another number: from
    half of it to twice."""
    if is_raw and channel.ruler.units[1] == "count":
        lowest, highest = ends_of(channel)
        return float(lowest), float(highest)
    marks = law.marks
    if is_true and marks is not None:
        low, high = sorted((marks[0][1], marks[1][1]))
        return low - (high - low), high + (high - low)
    if value == 0:
        raise ParameterError("arguments", "0", "its range, as in offset=-5..5")
    low, high = sorted((value / 2, value * 2))
    return low, high


def _corners(arguments: Sequence[Argument]) -> list[tuple[float, ...]]:
    return list(itertools.product(*((one.low, one.high) for one in arguments)))


def _ruler_with(
    ruler: Ruler, arguments: Sequence[Argument], values: Sequence[float]
) -> Ruler | None:
    """The ruler with other values; None for a line whose ends fall on one another. Raises
    `ParameterError` for values that make no sense."""
    laws = list(ruler.laws)
    by_law: dict[int, Law] = {}
    for one, value in zip(arguments, values, strict=True):
        law = by_law.get(one.law, laws[one.law])
        by_law[one.law] = with_number(law, one.field, one.inside, value)  # checked when all moved
    for place, law in by_law.items():
        marks = law.marks
        if marks is not None and marks[0][0] == marks[1][0]:
            return None
        flat = marks is not None and marks[0][1] == marks[1][1]  # a constant, to the function
        for error in [] if flat else law.errors():
            raise error
        laws[place] = law
    return Ruler(tuple(laws))


def with_arguments(
    w: ReferenceValues,
    name: str,
    arith: str,
    kind: type[np.floating[Any]],
    arguments: Sequence[Argument],
) -> Exported:
    """A conversion whose function takes these arguments behind the count. Raises `ExportError`."""
    channel = w.channel
    if arith == "float":
        program: Program = _float_program(channel.ruler, name, arguments, w)
    else:
        program = _whole_program(w, name, arith, arguments)
    proof, many = _proven(program, w, kind, arguments)
    ranges = ", ".join(
        f"{one.name} ({one.parameter}) from {number(one.low)} to {number(one.high)}"
        for one in arguments
    )
    steps = [one.name for one in arguments if one.is_true and arith != "float"]
    notes = [f"proven for {ranges}: {many} of their values, the corners among them"]
    if steps and w.scale != 1:
        notes.append(f"{', '.join(steps)}: in steps of 1/{w.scale}, as the result")
    notes.append("the flags are those of the converter alone")
    read = w.reads

    def rails_at(counts: AnyArray) -> tuple[Array, AnyArray]:
        values, flags = read(counts)
        return values, flags & OF_THE_EDGE

    made = Exported(
        channel,
        name,
        kind="a line with free ends" if arith != "float" else "the formula with free parameters",
        program=program,
        wanted=replace(w, flags=w.flags & OF_THE_EDGE, reads=rails_at),
        proof=proof,
        cheaper="",
        notes=tuple(notes),
        float_kind=kind,
        defaults=tuple(_given(arguments, [one.value for one in arguments], w.scale, arith)),
    )
    if not proof.holds:
        unit = channel.unit or ""
        raise ExportError(
            f"{channel.name}: with these arguments it is off by {number(proof.worst)} {unit}; "
            f"--within {number(proof.worst)} can be kept"
        )
    return made


def _given(
    arguments: Sequence[Argument], values: Sequence[float], scale: int, arith: str
) -> list[float]:
    """Values as the function takes them."""
    if arith == "float":
        return [float(value) for value in values]
    return [
        round(value * scale) if one.is_true else round(value)
        for one, value in zip(arguments, values, strict=True)
    ]


_LINE = """\
k = n - {lo}
w = {hi} - {lo}
if w == 0:
    return NONE
if w < 0:
    w = -w
    k = -k
d = ({at_hi} - {at_lo}) * k
if d < 0:
    y = {at_lo} - (-d + w // 2) // w
else:
    y = {at_lo} + (d + w // 2) // w"""


def _whole_program(
    w: ReferenceValues, name: str, arith: str, arguments: Sequence[Argument]
) -> Program:
    """A line through marks in counts, and what holds its result."""
    laws, scale = w.channel.ruler.laws, w.scale
    line = laws[1] if len(laws) > 1 else None
    if line is None or line.marks is None or w.channel.ruler.units[1] != "count":
        raise ExportError(
            f"{w.channel.name}: free arguments in whole numbers need a line through marks in "
            "counts; --arith float takes any law"
        )
    free = {(one.law, one.field, one.inside): one.name for one in arguments}

    def text(law: int, field: str, inside: tuple[int, ...], true: bool) -> str:
        known = free.get((law, field, inside))
        if known is not None:
            return known
        value = float(number_in(laws[law], field, inside)) * (scale if true else 1)
        if not true and value != round(value):
            raise ExportError(f"{w.channel.name}: {number(value)} is no whole count; use floats")
        return f"({round(value)})" if value < 0 else str(round(value))

    key = line.pairs_key
    ends = {end: text(1, key, (i // 2, i % 2), bool(i % 2)) for i, end in enumerate(ENDS)}
    body = [_LINE.format(**ends)]
    for place, law in enumerate(laws[2:], start=2):
        kept = law.keeps_within
        if kept is None and law.changes_value and law.rounds_to is None:
            raise ExportError(
                f"{w.channel.name}: {law.name} behind the line has no form with free arguments in "
                "whole numbers; --arith float has"
            )
        if kept is None or not law.changes_value:
            continue
        for field, sign in (("low", "<"), ("high", ">")):
            if number_in(law, field, ()) is not None:
                end = text(place, field, (), True)
                body.append(f"if y {sign} {end}:\n    y = {end}")
    low, high = ends_of(w.channel)
    text_of_body = simplified_body("\n".join([*outside(low, high, arith), *body, "return y"]))
    program = Program(
        name, text_of_body, {}, arith,
        arguments=tuple(one.name for one in arguments),
    )  # fmt: skip
    _check_room(w, arith, arguments, (low, high))
    return program


def _check_room(
    w: ReferenceValues, arith: str, arguments: Sequence[Argument], counts: tuple[int, int]
) -> None:
    """Whether the widest product fits, whatever the arguments in their ranges."""
    line = w.channel.ruler.laws[1]
    assert line.marks is not None
    ends = {name: (value, value) for name, value in zip(ENDS, _flat(line.marks), strict=True)}
    paths = {(0, 0): "lo", (0, 1): "at_lo", (1, 0): "hi", (1, 1): "at_hi"}
    for one in arguments:
        if one.law == 1 and one.inside in paths:
            ends[paths[one.inside]] = (one.low, one.high)
    far = max(abs(counts[i] - ends["lo"][1 - i]) for i in (0, 1))
    rise = max(
        abs(ends["at_hi"][i] - ends["at_lo"][j]) for i in (0, 1) for j in (0, 1)
    ) * w.scale  # fmt: skip
    width = max(abs(ends["hi"][i] - ends["lo"][j]) for i in (0, 1) for j in (0, 1))
    widest = far * (rise + 1) + width
    if widest > LARGEST[arith]:
        wider = {"int16": "int32", "int32": "int64"}.get(arith, "float")
        raise ExportError(
            f"{w.channel.name}: with these ranges a product of {widest:.0f} does not fit {arith}; "
            f"--arith {wider}, a smaller --scale or narrower ranges do"
        )


def _flat(marks: tuple[tuple[float, float], tuple[float, float]]) -> tuple[float, ...]:
    return (*marks[0], *marks[1])


def _float_program(
    ruler: Ruler, name: str, arguments: Sequence[Argument], w: ReferenceValues
) -> Program:
    """The formula with names in the place of numbers."""
    body = ["x = n"]
    for place, law in enumerate(ruler.laws):
        mine = [one for one in arguments if one.law == place]
        statements = law.program() if not mine else _with_names(law, mine)
        if statements is None:
            raise ExportError(f"{w.channel.name}: {law.name} has no formula in floats")
        ends = [one for one in mine if one.field == law.pairs_key and one.inside[-1:] == (0,)]
        if ends and law.marks is not None:
            others = [constant(mark[0]) for mark in law.marks]
            for one in ends:
                others[one.inside[0]] = one.name
            body.append(f"if {others[0]} == {others[1]}:\n    return NONE")
        body += statements
    if any("tie" in statement for statement in body):
        body.insert(0, f"tie = {4 * float(np.finfo(np.float32).eps)!r}")
    return Program(
        name, "\n".join([*body, "return x"]), {}, "float",
        arguments=tuple(one.name for one in arguments),
    )  # fmt: skip


def _with_names(law: Law, arguments: Sequence[Argument]) -> list[str] | None:
    """A law's statements with names for its free numbers: each number of the formula that moves
    with a parameter must be that parameter."""
    for statements_of in (type(law).program, type(law).typed):
        own = statements_of(law)
        if own is None:
            return None
        found = ast.parse("\n".join(own))
        placed = _Placed(law, arguments, statements_of)
        try:
            named = placed.visit(found)
        except _NotPlainError:
            continue
        text = ast.unparse(named)
        rejects = _rejects(law)
        # What is typed in rejects nothing; what depends on no free number still holds.
        keeps = statements_of is type(law).typed and rejects == _rejects(_moved(law, arguments))
        return [*rejects, text] if keeps else [text]
    return None


def _rejects(law: Law) -> list[str]:
    return [s for s in law.program() or [] if s.endswith(":\n    return NONE")]


def _moved(law: Law, arguments: Sequence[Argument]) -> Law:
    """The law with each free number at another value that no other number has."""
    for i, one in enumerate(arguments):
        law = with_number(law, one.field, one.inside, _mark(i))
    return law


def _mark(i: int) -> float:
    return 1234.567890123 + 17.25 * (i + 1)


class _NotPlainError(Exception):
    """A number of a formula that is made from a free parameter and others."""


class _Placed(ast.NodeTransformer):
    """Names in the place of the numbers that are free, found by moving them."""

    def __init__(self, law: Law, arguments: Sequence[Argument], statements_of: Any) -> None:
        self.names = {_mark(i): one.name for i, one in enumerate(arguments)}
        moved = statements_of(_moved(law, arguments))
        if moved is None:
            raise _NotPlainError
        tree = ast.parse("\n".join(moved))
        self.numbers = [n for n in ast.walk(tree) if isinstance(n, ast.Constant)]
        own = statements_of(law)
        self.own = [n for n in ast.walk(ast.parse("\n".join(own))) if isinstance(n, ast.Constant)]
        self.mine = tree

    def visit_Module(self, node: ast.Module) -> ast.Module:
        if len(self.numbers) != len(self.own):
            raise _NotPlainError
        for mine, own in zip(self.numbers, self.own, strict=True):
            if mine.value != own.value and mine.value not in self.names:
                raise _NotPlainError
        module: ast.Module = self.generic_visit(self.mine)  # type: ignore[assignment]
        return module

    def visit_Constant(self, node: ast.Constant) -> ast.expr:
        name = self.names.get(node.value)  # type: ignore[arg-type]
        return node if name is None else ast.Name(name)


def _proven(
    program: Program,
    w: ReferenceValues,
    kind: type[np.floating[Any]],
    arguments: Sequence[Argument],
) -> tuple[Proof, int]:
    """The program run at many values of its arguments, the corners of their ranges among them."""
    random = np.random.RandomState(1)
    cases = [tuple(one.value for one in arguments), *_corners(arguments)]
    while len(cases) < MANY_ENDS:
        cases.append(tuple(_drawn(one, random, program, w.scale) for one in arguments))
    step = max(1, w.counts.size // MANY_COUNTS)
    counts = np.union1d(w.counts[::step], w.counts[[0, -1]])
    model = ProgramModel(program, kind)
    whole = program.arith != "float"
    scale = w.scale if whole else 1
    worst, at = 0.0, int(counts[0])
    widest = 0
    for case in cases:
        taken = _given(arguments, case, w.scale, program.arith)
        # The ends that the function is given, which it takes in whole steps.
        meant = [
            value / w.scale if whole and one.is_true else value
            for one, value in zip(arguments, taken, strict=True)
        ]
        ruler = _ruler_with(w.channel.ruler, arguments, meant)
        out = model.run(counts, dict(zip(program.arguments, taken, strict=True)))
        none = out == -LARGEST[program.arith] - 1 if whole else np.isnan(out)
        widest = max(widest, model.widest)
        if ruler is None:
            assert none.all()
            continue
        values = np.asarray(ruler.direct(np.asarray(raw_of(w.channel, counts), np.float64)))
        there = ~np.isnan(values)
        if whole and not np.array_equal(none, ~there):
            raise ExportError(f"{w.channel.name}: its values come and go with the arguments")
        both = there & ~none
        off = np.zeros(counts.size)
        off[both] = np.abs(out[both].astype(np.float64) / scale - values[both])
        if not whole:
            off[both] += LIBM * np.abs(values[both])
        place = int(np.argmax(off))
        if off[place] > worst:
            worst, at = float(off[place]), int(counts[place])
    within = w.within if whole else max(w.within, worst)
    proof = Proof(
        w.every, worst, at=at, within=within, monotone=None, exact_at_marks=None, widest=widest,
        no_value=0, run=int(counts.size),
    )  # fmt: skip
    return proof, len(cases)


def _drawn(one: Argument, random: np.random.RandomState, program: Program, scale: int) -> float:
    value = float(random.uniform(one.low, one.high))
    if program.arith == "float":
        return value
    step = 1 / scale if one.is_true else 1.0
    return min(max(round(value / step) * step, one.low), one.high)
