"""The cheapest program that keeps a bound, with its proof; or the ruler's own formula in floats."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from os import PathLike
from typing import Any, Literal

import numpy as np

from .. import OUTER
from ..bench.channel import Channel, channel_of
from ..error_types import JetRulerError, ParameterError
from ..result import Content, Result, public_fields
from ..ruler.base_law import Role, constant
from ..ruler.rounding import ULPS
from ..ruler.ruler import TABLE_BITS, Law, Ruler
from ..ruler.units import number, significant, symbol
from .forms import Form, fewest_knots, forms, least_knots, middle, straight_error
from .program import FUNCTIONS, LARGEST, Program, TooWideError, safe_name
from .proof import Proof, ReferenceValues, everything, prove

#: How far from a tie a value is taken for it, in units in the last place: a short float has no
#: room for as many as a long one.
TIES = {np.float32: 4, np.float64: ULPS}


def float_program(
    ruler: Ruler, name: str, kind: type[np.floating[Any]] = np.float32
) -> Program | None:
    """The ruler's formula; None if one of its laws has none."""
    body = ["x = n"]
    ulps = TIES.get(kind, ULPS) * float(np.finfo(kind).eps)
    for law, put_on in zip(ruler.laws, _put_on_edges(ruler, ulps), strict=True):
        statements = law.program()
        if statements is None:
            return None
        body += put_on + statements
    if any("tie" in statement for statement in body):
        body.insert(0, f"tie = {ulps!r}")
    body.append("return x")
    return Program(name, "\n".join(body), {}, "float")


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


Arith = Literal["float", "int32", "int16"]

#: A libm's logarithm may differ from ours in its last digits: this much, of the value.
LIBM = 4 * float(np.finfo(np.float32).eps)

#: Functions that every libm rounds alike.
EXACT = frozenset(("abs", "ceil", "floor", "sqrt", "trunc"))


class ExportError(JetRulerError):
    """A conversion that cannot be exported as asked; the sentence says what could be.

    Examples
    --------
    >>> import jetruler as jr
    >>> try:
    ...     jr.export(jr.Channel("k", jr.Counts(16) >> jr.Line(0.3), "k"), "k", "int16")
    ... except jr.errors.ExportError as error:
    ...     print(error)
    k: its counts go up to 65535, which int16 does not hold; --arith int32 does
    """


@dataclass(frozen=True, repr=False)
class Exported(Result):
    """A channel's conversion for firmware.

    Attributes
    ----------
    channel : Channel
        The channel.
    name : str
        As the target takes it.
    kind : str
        The form that was chosen, in words.
    program : Program
        The program that was chosen.
    wanted : ExactValues
        The values that it is held against, at every count.
    proof : Proof
        Over every count.
    cheaper : str
        What the next cheaper choice would cost in error.
    notes : tuple[str, ...], default ()
        What is left behind.

    Examples
    --------
    >>> import jetruler as jr
    >>> made = jr.export(jr.Channel("k", jr.Counts(8) >> jr.Line(0.5), "k"), "k", scale=2)
    >>> made.proof.worst
    0.0
    """

    channel: Channel
    name: str
    kind: str
    program: Program
    wanted: ReferenceValues
    proof: Proof
    cheaper: str
    notes: tuple[str, ...] = ()
    float_kind: type[np.floating[Any]] = np.float32
    """The floating-point type that it was proven in."""

    def text(self, to: str = "c", *, selftest: bool = False, title: str | None = None) -> str:
        """The whole file in "c", "python" or "st" (IEC 61131-3 structured text), as the tool writes
        it. title: what its head says it belongs to; the channel's name if left out.

        Raises `ExportError` for another language, and for one that computes floats otherwise than
        they were proven.
        """
        return OUTER.code(self, to, selftest, title)

    def save(
        self, path: str | PathLike[str], *, selftest: bool = False, title: str | None = None
    ) -> None:
        """Write that text; the language follows from the name (.h or .c, .py, .st). The file
        appears whole or not at all. Raises `ExportError` and `OSError`."""
        OUTER.save_code(self, path, selftest, title)

    @property
    def headline(self) -> str:
        return self.lines()[0]

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        return {
            "what": list(public_fields(self.proof)),
            "value": list(public_fields(self.proof).values()),
        }

    def lines(self) -> list[str]:
        """What was chosen, what it costs, and the proof, for people."""
        p = self.program
        steps = p.operations
        head = f"{self.kind}, {p.arith}: {p.table_bytes} bytes of tables, about {steps} operations"
        unit = symbol(self.channel.unit) if self.channel.unit != "zone" else ""
        return [
            head,
            *([self.cheaper] if self.cheaper else []),
            *self.proof.lines(unit, "count" if self.channel.ruler.takes == "count" else "step"),
            *self.notes,
        ]

    @property
    def content(self) -> Content:
        return self.lines()

    def _fields(self) -> Mapping[str, Any]:
        return {
            "channel": self.channel.name,
            "name": self.name,
            "form": self.kind,
            "arith": self.program.arith,
            "scale": self.wanted.scale,
            "table_bytes": self.program.table_bytes,
            "operations": self.program.operations,
            "cheaper": self.cheaper,
            "notes": self.notes,
            "proof": self.proof,
        }


def usual_scale(channel: Channel) -> int:
    """Output steps for one unit: as many as the decimals shown; 1 for what is whole."""
    if any(law.rounds_to == 1.0 or law.role is Role.LABEL for law in channel.ruler.laws[-2:]):
        values = everything(channel)[1]
        if np.array_equal(values[~np.isnan(values)], np.rint(values[~np.isnan(values)])):
            return 1
    return int(10 ** min(4, 1 if channel.decimals is None else channel.decimals))


def export(
    channel: Channel | Ruler | Law,
    name: str | None = None,
    arith: Arith = "int32",
    scale: int | None = None,
    within: float | None = None,
    inside_limits: bool = False,
    kind: type[np.floating[Any]] = np.float32,
    functions: frozenset[str] = frozenset(FUNCTIONS),
) -> Exported:
    """The cheapest program of a channel that keeps a bound, proven over every count.

    Parameters
    ----------
    channel : Channel | Ruler | Law
        The channel; a ruler or a law is one without a name.
    name : str, optional
        Name of the function, safe in the target's language; made of the channel's if left out.
    arith : Arith, default "int32"
        Widest arithmetic: "float", "int32" or "int16".
    scale : int, optional
        Output steps for one unit; as many as the channel's decimals show if left out.
    within : float, optional
        Largest error, in the channel's unit; one step of the output if left out.
    inside_limits : bool, default False
        Whether values beyond the limits are held at them.
    kind : type[np.floating[Any]], default np.float32
        The target's floating-point type.
    functions : frozenset[str], default frozenset(FUNCTIONS)
        Functions that the target has.

    Returns
    -------
    Exported
        Program and proof.

    Raises
    ------
    ExportError
        If no program can keep the bound.
    ParameterError
        For a scale or a bound that makes no sense.

    Examples
    --------
    >>> import jetruler as jr
    >>> ruler = jr.Counts(10) >> jr.Line.through((0, 0), (1023, 100), unit="%")
    >>> made = jr.export(jr.Channel("knob", ruler, "k"), "knob", scale=10)
    >>> made.kind, made.proof.holds
    ('multiply and shift', True)
    """
    channel = channel_of(channel)
    name = safe_name(channel.name) if name is None else name
    labels = channel.ruler.label(0.0) is not None
    scale = usual_scale(channel) if scale is None else scale
    if isinstance(scale, bool) or not isinstance(scale, int) or not 1 <= scale <= 10**6:
        raise ParameterError("scale", scale, "a whole number from 1 to 1000000")
    if labels and scale != 1:
        raise ParameterError("scale", scale, f"{channel.name} has labelled zones: 1")
    w = ReferenceValues.of(channel, scale, 1.0 / scale if within is None else within, inside_limits)
    if not w.within >= 0:
        raise ParameterError("within", within, f"0 or more, as in {number(1.0 / scale)}")
    if not w.valid.size:
        raise ExportError(f"{channel.name}: not one of its counts has a value")
    if within is None and w.is_whole:
        w = replace(w, within=0.0)
    if arith == "float":
        found = _float(w, name, kind, within is None, functions)
        if found is not None:
            return found
        whole = whole_form(w, name, "int32")
        note = "the formula in floats of this target does not serve: the table form is used"
        return replace(whole, notes=(*whole.notes, note))
    return whole_form(w, name, arith)


def _float(
    w: ReferenceValues,
    name: str,
    kind: type[np.floating[Any]],
    free: bool,
    functions: frozenset[str],
) -> Exported | None:
    program = float_program(w.channel.ruler, name, kind)
    if program is None or not program.calls <= functions:
        return None
    _, values, _ = everything(w.channel)
    if not np.array_equal(np.nan_to_num(w.values), np.nan_to_num(values)):
        return None
    proof = prove(program, w, kind)
    if proof is None:
        return None
    # The target's own library may round its functions otherwise than ours.
    by_library = kind is np.float32 and not (w.is_whole and program.calls <= EXACT)
    margin = LIBM * float(np.nanmax(np.abs(w.values))) if by_library else 0.0
    proof = replace(proof, worst=proof.worst + margin)
    if free and w.is_whole and proof.worst >= 0.5:
        return None  # floats miss a step: the exact table form serves
    if free:
        proof = replace(proof, within=max(proof.within, proof.worst))
    if not proof.holds:
        unit = symbol(w.channel.unit)
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


def whole_form(w: ReferenceValues, name: str, arith: str) -> Exported:
    """The cheapest whole-number form that keeps a bound. Raises `ExportError`."""
    limit = LARGEST[arith]
    _check_room(w, arith, limit)
    for form in _proven(w, name, arith):
        return form
    raise ExportError(_what_could_be(w, name, arith))


def _check_room(w: ReferenceValues, arith: str, limit: int) -> None:
    counts, largest = int(np.abs(w.counts).max()), float(np.nanmax(np.abs(w.target)))
    if counts > limit:
        raise ExportError(
            f"{w.channel.name}: its counts go up to {counts}, which {arith} does not hold; "
            "--arith int32 does"
        )
    if largest + 1 > limit:
        possible = int(limit / float(np.nanmax(np.abs(w.values))))
        what = f"--scale {possible} fits" if possible >= 1 else "no scale does"
        wider = ", --arith int32 is wider" if arith == "int16" else ""
        raise ExportError(
            f"{w.channel.name}: at scale {w.scale} its values go up to {largest:.0f}, which "
            f"{arith} does not hold; {what}{wider}"
        )
    if np.any(w.low > w.high):
        step = number(1.0 / w.scale)
        finer = next((s for s in (1, 10, 100, 1000, 10000) if w.on_steps_of(s)), None)
        expected = "a larger --scale" if finer is None else f"--scale {finer}, where each is whole,"
        raise ExportError(
            f"{w.channel.name}: a bound of {number(w.within)} is finer than half an output step "
            f"({step} at scale {w.scale}); {expected} or --within {step} can be met"
        )


def _proven(w: ReferenceValues, name: str, arith: str) -> list[Exported]:
    """The first form that keeps the bound, if there is one; of one kind, that which is exact."""
    tried: list[str] = []
    for form in forms(w, name, arith):
        try:
            proof = prove(form.program, w)
        except TooWideError:
            proof = None
        if proof is None or not proof.holds:
            tried.append(form.kind)
            continue
        cheaper = _cheaper(form, w, tried)
        if proof.worst > 0 and w.is_exact_possible:
            for exact in _proven(replace(w, within=0.0), name, arith):
                if exact.kind == form.kind:
                    proof = replace(exact.proof, within=w.within)
                    return [replace(exact, wanted=w, proof=proof, cheaper=cheaper)]
                cheaper += f"; exact, with --within 0: {exact.kind}"
        return [
            Exported(
                w.channel,
                name,
                kind=form.kind,
                program=form.program,
                wanted=w,
                proof=proof,
                cheaper=cheaper,
            )
        ]
    return []


def _cheaper(form: Form, w: ReferenceValues, tried: list[str]) -> str:
    """What the next cheaper choice would cost in error."""
    unit = symbol(w.channel.unit) if w.channel.unit != "zone" else ""
    table = form.is_table and not w.has_holes
    straight = straight_error(middle(w, form.program.arith)) / w.scale if table else 0.0
    if table and straight < w.within:
        return f"one straight line would do, but does not fit {form.program.arith}"
    if form.knots is not None and table:
        fewer = _one_less(form, w)
        if fewer is not None:
            off = number(significant(fewer, 3))
            part = middle(w, form.program.arith).part
            least = least_knots(w.low[part], w.high[part])
            proven = "no table has fewer" if least == form.knots else f"{least} at least are needed"
            return f"one knot fewer would be off by up to {off} {unit}".rstrip() + f"; {proven}"
    if table:
        off = number(significant(straight, 2))
        return f"one straight line would be off by {off} {unit}".rstrip()
    others = [kind for kind in tried if kind != form.kind]
    if others:
        return f"{others[-1]} does not keep the bound"
    return "nothing is cheaper"


def _one_less(form: Form, w: ReferenceValues) -> float | None:
    """The smallest bound that one knot fewer can keep, to a few per cent."""
    m = middle(w, form.program.arith)
    target, limit = w.target[m.part], LARGEST[form.program.arith]
    have = len(form.program.tables[f"{form.program.name}_x"])
    if have <= 2:
        return None

    def knots(steps: float) -> int:
        found = fewest_knots(np.ceil(target - steps), np.floor(target + steps), target, limit, have)
        return have if found is None else len(found)

    for more in (1.03, 1.1, 1.3, 2.0):
        if knots(more * w.reach) < have:
            return more * w.reach / w.scale
    return None


def _what_could_be(w: ReferenceValues, name: str, arith: str) -> str:
    """A bound that this arithmetic can keep."""
    unit = symbol(w.channel.unit)
    for factor in (1.0, 2.0, 5.0, 10.0, 50.0):
        wider = replace(w, within=max(w.within, 0.5 / w.scale) * factor)
        found = _proven(wider, name, arith)
        if found:
            best = number(significant(found[0].proof.worst, 3))
            return (
                f"{w.channel.name}: {arith} cannot keep {number(w.within)} {unit}; "
                f"--within {best} can be kept" + (", or --arith int32" if arith == "int16" else "")
            )
    return (
        f"{w.channel.name}: {arith} cannot keep {number(w.within)} {unit}; --arith int32 is wider"
    )
