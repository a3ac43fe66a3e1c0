"""The cheapest program that keeps a bound, with its proof; or the ruler's own formula in floats."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, Literal

import numpy as np

from ..bench.channel import Channel, channel_of
from ..error_types import ParameterError
from ..result import refuses
from ..ruler.base_law import Role
from ..ruler.ruler import TABLE_BITS, Law, Ruler
from ..ruler.units import number, significant, symbol
from .arguments import arguments_of, with_arguments
from .exported import Exported, ExportError, prove
from .floats import float_form
from .forms import Form, forms, middle, straight_error
from .knots import fewest_knots, least_knots
from .names import safe_name
from .program import FUNCTIONS, LARGEST, ProgramModel, TooWideError
from .reference import ReferenceValues, ends_of, everything

Arith = Literal["float", "int64", "int32", "int16"]


#: What is wider, for those whom it may serve.
WIDER = {"int16": "int32", "int32": "int64"}


def usual_arith(channel: Channel) -> Arith:
    """The arithmetic of whole numbers that has room for a product of its counts."""
    low, high = ends_of(channel)
    return "int32" if high - low < 2**TABLE_BITS else "int64"


def scale_of(channel: Channel, asked: int | None) -> int:
    """Output steps for one unit: those asked for, or the usual ones. Raises `ParameterError`."""
    if asked is None:
        return usual_scale(channel)
    if isinstance(asked, bool) or not isinstance(asked, int) or not 1 <= asked <= 10**6:
        raise ParameterError("scale", asked, "a whole number from 1 to 1000000")
    return asked


def usual_scale(channel: Channel) -> int:
    """Output steps for one unit: as many as the decimals shown; 1 for what is whole."""
    if any(
        (law.rounds_to or 0.5) % 1 == 0 or law.role is Role.LABEL for law in channel.ruler.laws[-2:]
    ):
        values = everything(channel)[1]
        if np.array_equal(values[~np.isnan(values)], np.rint(values[~np.isnan(values)])):
            return 1
    return int(10 ** min(4, 1 if channel.decimals is None else channel.decimals))


@refuses
def export(
    channel: Channel | Ruler | Law,
    name: str | None = None,
    arith: Arith | None = None,
    scale: int | None = None,
    within: float | None = None,
    inside_limits: bool = False,
    kind: type[np.floating[Any]] = np.float32,
    functions: frozenset[str] = frozenset(FUNCTIONS),
    arguments: Mapping[str, tuple[float, float] | None] | None = None,
) -> Exported:
    """The cheapest program of a channel that keeps a bound, proven over every count.

    Parameters
    ----------
    channel : Channel | Ruler | Law
        The channel; a ruler or a law is one without a name.
    name : str, optional
        Name of the function, safe in the target's language; made of the channel's if left out.
    arith : Arith, optional
        Widest arithmetic: "float", "int64", "int32" or "int16". If left out, "int32", or "int64"
        for counts of more than 16 bits.
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
    arguments : Mapping[str, tuple[float, float] | None], optional
        Parameters that are arguments of the function, each with the range in which it is proven,
        or None for a usual one: "lo", "hi" (the counts of a line's marks), "at_lo", "at_hi" (their
        values), or a parameter of any law as the bench file names it, which needs floats.

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
    arith = usual_arith(channel) if arith is None else arith
    scale = scale_of(channel, scale)
    if labels and scale != 1:
        raise ParameterError("scale", scale, f"{channel.name} has labelled zones: 1")
    w = ReferenceValues.of(channel, scale, 1.0 / scale if within is None else within, inside_limits)
    if not w.within >= 0:
        raise ParameterError("within", within, f"0 or more, as in {number(1.0 / scale)}")
    if not w.valid.size:
        raise ExportError(f"{channel.name}: not one of its counts has a value")
    if arguments:
        return with_arguments(w, name, arith, kind, arguments_of(channel, arguments))
    exact = replace(w, within=0.0) if within is None and w.is_whole else w
    if arith != "float":
        return _whole(exact, w, name, arith)
    held = channel.limits if inside_limits else None
    asked: dict[str, Any] = {"free": within is None, "functions": functions, "held": held}
    found = float_form(exact, name, kind, **asked)
    if isinstance(found, Exported):
        return found
    try:
        whole = _whole(exact, w, f"{name}_steps", usual_arith(channel))
    except ExportError:
        nearly = float_form(exact, name, kind, **asked, misses_steps=True)
        if isinstance(nearly, Exported):
            return replace(nearly, notes=(*nearly.notes, found))
        raise
    # What is divided by the scale is rounded once more.
    last = float(np.finfo(kind).eps) * float(np.nanmax(np.abs(w.values)))
    worst = whole.proof.worst if scale == 1 else whole.proof.worst + last
    proof = replace(whole.proof, worst=worst, within=max(whole.proof.within, worst))
    note = f"not the formula itself: {found}"
    return replace(
        whole, name=name, proof=proof, notes=(*whole.notes, note), float_kind=kind, as_float=True
    )


def _whole(exact: ReferenceValues, w: ReferenceValues, name: str, arith: str) -> Exported:
    """A form in whole numbers: an exact one, or, of more counts than are all run, one that keeps
    the bound."""
    if exact is w or w.is_dense:
        return whole_form(exact, name, arith)
    found = form_or_none(exact, name, arith)
    if found is not None:
        return found
    found = whole_form(w, name, arith)
    return replace(found, notes=(*found.notes, "no form is proven to equal every value"))


def whole_form(w: ReferenceValues, name: str, arith: str) -> Exported:
    """The cheapest whole-number form that keeps a bound. Raises `ExportError`."""
    found = form_or_none(w, name, arith)
    if found is None:
        raise ExportError(_what_could_be(w, name, arith))
    return found


def form_or_none(
    w: ReferenceValues, name: str, arith: str, explained: bool = True
) -> Exported | None:
    """The same; None where none keeps the bound. explained: whether it is sought what a cheaper and
    an exact form would be. Raises `ExportError` for values that are too large for the
    arithmetic."""
    _check_room(w, arith, LARGEST[arith])
    return next(iter(_proven(w, name, arith, explained)), None)


def _check_room(w: ReferenceValues, arith: str, limit: int) -> None:
    counts, largest = int(np.abs(w.counts).max()), float(np.nanmax(np.abs(w.target)))
    if counts > limit:
        raise ExportError(
            f"{w.channel.name}: its counts go up to {counts}, which {arith} does not hold; "
            f"--arith {WIDER.get(arith, 'float')} does"
        )
    if largest + 1 > limit:
        possible = int(limit / float(np.nanmax(np.abs(w.values))))
        what = f"--scale {possible} fits" if possible >= 1 else "no scale does"
        wider = f", --arith {WIDER[arith]} is wider" if arith in WIDER else ""
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


def _proven(w: ReferenceValues, name: str, arith: str, explained: bool = True) -> list[Exported]:
    """The first form that keeps the bound, if there is one; of one kind, that which is exact."""
    tried: list[str] = []
    for form in forms(w, name, arith):
        try:
            if not w.is_dense and not _near(form, w):
                tried.append(form.kind)
                continue
            proof = prove(form.program, w, pieces=form.pieces)
        except TooWideError:
            proof = None
        if proof is None or not proof.holds:
            tried.append(form.kind)
            continue
        cheaper = _cheaper(form, w, tried) if explained else ""
        if explained and proof.worst > 0 and w.is_exact_possible:
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


def _near(form: Form, w: ReferenceValues) -> bool:
    """Whether a form is near enough at the counts that matter, before all others are run."""
    outputs = ProgramModel(form.program).run(w.counts)
    there = ~np.isnan(w.values)
    off = np.abs(outputs[there] / w.scale - w.values[there])
    return bool(np.all(off <= w.within * (1 + 1e-9) + 1e-12))


def _cheaper(form: Form, w: ReferenceValues, tried: list[str]) -> str:
    """What the next cheaper choice would cost in error."""
    unit = symbol(w.channel.unit) if w.channel.unit != "zone" else ""
    table = form.is_table and not w.has_holes
    straight = straight_error(middle(w, form.program.arith)) / w.scale if table else 0.0
    if table and straight < w.within:
        return f"one straight line is near enough, but does not fit {form.program.arith}"
    if form.knots is not None and table:
        fewer = _one_less(form, w)
        if fewer is not None:
            off = number(significant(fewer, 3))
            part = middle(w, form.program.arith).part
            if not w.is_dense:
                return f"one knot fewer would be off by up to {off} {unit}".rstrip()
            least = least_knots(w.low[part], w.high[part])
            proven = "no table has fewer" if least == form.knots else f"at least {least} are needed"
            return f"one knot fewer would be off by up to {off} {unit}".rstrip() + f"; {proven}"
    if table:
        off = number(significant(straight, 2))
        return f"one straight line would be off by {off} {unit}".rstrip()
    others = [kind for kind in tried if kind != form.kind]
    if others:
        return f"{others[-1]} does not keep the bound"
    return "no form is cheaper"


def _one_less(form: Form, w: ReferenceValues) -> float | None:
    """The smallest bound that one knot fewer can keep, to a few per cent."""
    m = middle(w, form.program.arith)
    target, limit = w.target[m.part], LARGEST[form.program.arith]
    have = len(form.program.tables[f"{form.program.name}_x"])
    if have <= 2:
        return None

    def knots(steps: float) -> int:
        low, high = (side[m.part] for side in w.strip(steps))
        found = fewest_knots(low, high, target, limit, most=have, x=m.x)
        return have if found is None else len(found)

    for more in (1.03, 1.1, 1.3, 2.0):
        if knots(more * w.reach) < have:
            return more * w.reach / w.scale
    return None


def _what_could_be(w: ReferenceValues, name: str, arith: str) -> str:
    """A bound that this arithmetic can keep, and what else may serve."""
    unit = symbol(w.channel.unit)
    could = [f"--arith {WIDER.get(arith, 'float')}"]
    limits = w.channel.limits
    if limits is not None and (np.nanmin(w.values) < limits[0] or np.nanmax(w.values) > limits[1]):
        could.insert(0, "--inside-limits")
    for factor in (1.0, 2.0, 5.0, 10.0, 50.0):
        looser = replace(w, within=max(w.within, 0.5 / w.scale) * factor)
        found = form_or_none(looser, name, arith, explained=False)
        if found is not None:
            best = number(significant(found.proof.worst, 3))
            could.insert(0, f"--within {best}")
            break
    cannot = f"{w.channel.name}: {arith} cannot keep {number(w.within)} {unit}".rstrip()
    return f"{cannot}; use {' or '.join(could)}"
