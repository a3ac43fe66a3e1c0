"""`adjust`: some parameters of a channel's laws from marks, while all others stay."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ..bench.bench import Bench
from ..bench.channel import Channel, channel_of
from ..bench.covariance import found_by, is_measure, measures, number_in
from ..error_types import ParameterError
from ..numerics import Array
from ..result import Content, Result, TextTable, Title, refuses
from ..ruler.base_law import Role, hint_unit, parameters
from ..ruler.quantity import Toleranced
from ..ruler.raw_range import raw_samples
from ..ruler.rounding import fixed
from ..ruler.ruler import Law, Ruler
from ..ruler.units import factor, nearest, number, shown, symbol, with_uncertainty
from ..uncertainty.contributions import UncertainParameter, sensitivity, with_value
from .fit_result import FittedParameter, coverage, decimals, error_shown, signed
from .in_channel import on_rails
from .marks import Marks, MarksError


@dataclass(frozen=True)
class MarkedLaws:
    """The laws of a channel between the unit of the raw side of marks and that of their true side;
    what holds or rounds a result (limits, clamps, steps) left out."""

    marks: Marks
    places: tuple[int, ...]
    """Where each of its laws is in the channel."""
    ruler: Ruler

    @classmethod
    def of(cls, channel: Channel, marks: Marks) -> MarkedLaws:
        """Raises `MarksError` where the channel has no such units."""
        units, laws = channel.chain.units, channel.chain.laws
        wanted = marks.raw_unit or units[0]
        marks = marks.in_units((units[0], *filter(None, units)), marks.true_unit)
        start = units.index(marks.raw_unit or wanted)
        zones = next((i for i, law in enumerate(laws) if law.role is Role.LABEL), len(laws))
        ends = [i for i in range(zones, start, -1) if _meets(units[i], marks.true_unit)]
        if not ends:
            has = ", ".join(dict.fromkeys(symbol(unit) for unit in units[start + 1 :] if unit))
            raise MarksError(
                f"marks: true is in {symbol(marks.true_unit)}; behind its raw values "
                f"{channel.name} has {has or 'no unit'}"
            )
        marks = marks.in_units((marks.raw_unit,), units[ends[0]])
        behind = range(start, ends[0])
        kept = tuple(i for i in behind if laws[i].role not in (Role.HOLD, Role.ROUND))
        return cls(marks, kept, Ruler(tuple(laws[i] for i in kept)))


def _meets(unit: str | None, wanted: str | None) -> bool:
    """Whether values in one unit can be told in the other."""
    if wanted is None or unit == wanted:
        return True
    own, its = (factor(one) if one else None for one in (unit, wanted))
    temperatures = ("degC", "K", "degF")
    if unit in temperatures or wanted in temperatures:
        return unit in temperatures and wanted in temperatures
    return own is not None and its is not None and own[0] == its[0]


@dataclass(frozen=True, eq=False, repr=False)
class Adjustment(Result):
    """Some parameters of a channel, from marks.

    Attributes
    ----------
    channel : Channel
        The channel before the fit.
    adjusted : Channel
        The channel with the fitted parameters and their uncertainties, if known.
    parameters : tuple[FittedParameter, ...]
        The free ones.
    before : tuple[float, ...]
        What they were.
    marks : Marks
        The marks.
    read : array of float64
        What the adjusted channel makes of the raw values, shape (n,).
    error : array of float64
        Read − true, shape (n,).
    error_before : array of float64
        The same of the channel as it was.
    dof : int
        Marks beyond the parameters.

    Examples
    --------
    >>> import jetruler as jr
    >>> tap = jr.Channel("tap", jr.Ruler.of(jr.Adc(12, 3.3)), "ch0")
    >>> found = jr.adjust(tap, [(2048, 1.62)], free=["vref"])
    >>> round(found.parameters[0].value, 4)
    3.2392
    """

    channel: Channel
    """The channel before the fit."""
    adjusted: Channel
    """The channel with the fitted parameters and their uncertainties, if known."""
    parameters: tuple[FittedParameter, ...]
    """The free ones."""
    before: tuple[float, ...]
    """What they were."""
    marks: Marks
    """The marks."""
    read: Array
    """What the adjusted channel makes of the raw values, shape (n,)."""
    error: Array
    """Read − true, shape (n,)."""
    error_before: Array
    """The same of the channel as it was."""
    dof: int
    """Marks beyond the parameters."""

    @property
    def headline(self) -> str:
        return "; ".join(self._lines())

    def _lines(self) -> list[str]:
        lines = []
        for p, was in zip(self.parameters, self.before, strict=True):
            now = (
                with_uncertainty(p.value, p.half_width, p.unit) + " (95 %)"
                if np.isfinite(p.half_width)
                else shown(float(f"{p.value:.6g}"), p.unit)
            )
            lines.append(f"{p.name} = {now}, was {shown(was, p.unit)}")
        return lines

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        return {
            "mark": self.marks.names,
            "raw": self.marks.raw.tolist(),
            "true": self.marks.true.tolist(),
            "read": self.read.tolist(),
            "error": self.error.tolist(),
            "before": self.error_before.tolist(),
        }

    @property
    def content(self) -> Content:
        largest = error_shown(
            float(np.max(np.abs(self.error))), self.marks.true, self.marks.true_unit
        )
        lines: list[Any] = [
            Title(f"{self.channel.name}: {', '.join(p.name for p in self.parameters)} from marks"),
            *(f"  {line}" for line in self._lines()),
            "",
            points(self.marks, self.read, self.error_before, self.error),
            "",
            f"largest error {largest}",
        ]
        if not self.dof:
            lines.append("the fit needs every mark, so none is left to check it")
        if not all(np.isfinite(p.half_width) for p in self.parameters):
            lines.append("the marks have no uncertainties, so the tolerances stay as they were")
        return [*lines, *on_rails(self.channel, self.marks)]

    def _fields(self) -> Mapping[str, Any]:
        return {
            "channel": self.channel.name,
            "parameters": [
                {
                    "name": p.name,
                    "value": p.value,
                    "unit": p.unit,
                    "before": was,
                    "standard_uncertainty": p.uncertainty,
                    "half_width": p.half_width,
                }
                for p, was in zip(self.parameters, self.before, strict=True)
            ],
            "marks": records(self),
            "unit": self.marks.true_unit,
            "dof": self.dof,
        }


def records(result: Result) -> list[dict[str, Any]]:
    """The rows of a result's table, for programs."""
    table = result.table
    return [dict(zip(table, row, strict=True)) for row in zip(*table.values(), strict=True)]


def points(marks: Marks, read: Array, *errors: Array) -> TextTable:
    """Marks with what is read there, and errors: before and after, or one."""
    unit, raw_unit = symbol(marks.true_unit), symbol(marks.raw_unit)
    places = decimals(*errors, marks.true)
    rows = [
        [
            marks.names[i],
            number(marks.raw[i]),
            *(fixed(v, places).replace("-", "−") for v in (marks.true[i], read[i])),
            *(signed(column[i], places) for column in errors),
        ]
        for i in range(len(marks))
    ]
    names = ["before", "error"] if len(errors) > 1 else ["error"]
    heading = ["mark", f"raw {raw_unit}", f"true {unit}", f"read {unit}", *names]
    return TextTable([h.strip() for h in heading], rows)


@refuses
def adjust(
    channel: Channel | Ruler | Law,
    marks: Marks | Sequence[Sequence[float]] | Array,
    free: Iterable[str],
) -> Adjustment:
    """Find some parameters of a channel's laws from marks, while all others stay.

    Parameters
    ----------
    channel : Channel | Ruler | Law
        The channel; a ruler or a law is one without a name.
    marks : Marks | Sequence[Sequence[float]] | Array
        As for `calibrate`; true may be in the unit at any joint of the channel: volts of a meter
        for the reference voltage.
    free : str or iterable of str
        The parameters: `vref`, `known`, `r0`, `offset`, `coefficients[2]`; `beta.r0` says of which
        law.

    Returns
    -------
    Adjustment
        The parameters, the channel with them, and the errors at the marks.

    Raises
    ------
    ParameterError
        For a parameter that no law has.
    MarksError
        For marks that do not tell the parameters.

    Notes
    -----
    Source: least squares by the steps of Gauss and Newton.

    Examples
    --------
    >>> import jetruler as jr
    >>> probe = jr.Channel("probe", jr.Adc(12, 3.3) >> jr.Line(gain=100, offset=0), "ch0")
    >>> jr.adjust(probe, [(1000, 80.0), (3000, 241.5)], ["gain", "offset"]).dof
    0
    """
    channel = channel_of(channel)
    used = MarkedLaws.of(channel, Marks.of(marks))
    free = [free] if isinstance(free, str) else list(free)
    if not free or not all(isinstance(name, str) for name in free):
        raise ParameterError("free", free, "one or more names of parameters")
    found = [_parameter(channel, name, used) for name in dict.fromkeys(free)]
    marks, n, p = used.marks, len(used.marks), len(found)
    if np.unique(marks.raw).size < p:
        raise MarksError(
            f"{', '.join(one.name for one in found)}: expected marks at {p} different raw values "
            f"or more, found {np.unique(marks.raw).size}"
        )
    weight = np.ones(n) if marks.u_true is None else 1.0 / marks.u_true
    values, before = np.array([float(one.value) for one in found]), used.ruler
    ruler = before
    with np.errstate(all="ignore"):
        for _ in range(60):
            rest = weight * (marks.true - read_at(ruler, marks))
            rows = weight[:, None] * _slopes(ruler, found, values, marks.raw)
            _check(found, rows, rest)
            size = np.linalg.norm(rows, axis=0)
            step = np.linalg.lstsq(rows / size, rest, rcond=None)[0] / size
            for _ in range(30):
                trial = _with(before, found, values + step)
                after = weight * (marks.true - read_at(trial, marks))
                if after @ after <= rest @ rest * (1 + 1e-12):
                    break
                step = step / 2
            values, ruler = values + step, trial
            if np.all(np.abs(step) <= 1e-13 * np.abs(values)):
                break
    read = read_at(ruler, marks)
    parts = _fitted(found, values, rows, weight * (marks.true - read), marks)
    return Adjustment(
        channel,
        _adjusted(channel, found, parts, used.places),
        parameters=parts,
        before=tuple(float(one.value) for one in found),
        marks=marks,
        read=read,
        error=read - marks.true,
        error_before=read_at(before, marks) - marks.true,
        dof=n - p,
    )


def others_changed(was: Bench, now: Bench, channel: str) -> list[str]:
    """Other channels of a bench that read otherwise after a change of it."""
    others = []
    for name, before in was.channels.items():
        if name == channel or (after := now[name].chain) == before.chain:
            continue
        try:
            raw = raw_samples(after)
        except ParameterError:  # an input without a range
            raw = np.linspace(-1e3, 1e3, 2001)
        if not np.array_equal(after(raw), before.chain(raw), equal_nan=True):
            others.append(name)
    return others


def _parameter(channel: Channel, name: str, used: MarkedLaws) -> UncertainParameter:
    """A parameter by its name; its law is a place in the stretch between the marks' units."""
    path, laws = name.rpartition(".")[2], channel.chain.laws
    having, field, inside = found_by(name, laws, is_measure)
    if not having:
        raise ParameterError(
            "free",
            name,
            f"a number among the parameters of {channel.name}",
            nearest(name, measures(laws)),
        )
    within = [i for i in having if i in used.places]
    if not within:
        raise ParameterError(
            "free", name, "a parameter between the marks' raw and true values", "it is not there"
        )
    if len(within) > 1:
        each = " or ".join(f"{laws[i].name}.{path}" for i in within)
        raise ParameterError("free", name, each, "several laws have it")
    law = laws[within[0]]
    if law.cancels(field):
        raise MarksError(f"{name}: the readings do not depend on it; the reference cancels")
    unit = hint_unit(parameters(type(law))[field])
    value = number_in(law, field, inside)
    known_to = value if isinstance(value, Toleranced) else Toleranced(float(value), 0.0)
    return UncertainParameter(
        used.places.index(within[0]),
        field,
        inside=inside,
        value=known_to,
        unit=None if unit is None else unit.symbol,
        name=path,
    )


def _with(ruler: Ruler, found: list[UncertainParameter], values: Array) -> Ruler:
    laws = list(ruler.laws)
    for one, value in zip(found, values.tolist(), strict=True):
        laws[one.law] = with_value(laws[one.law], one, value)
    return Ruler(tuple(laws))


def read_at(ruler: Ruler, marks: Marks) -> Array:
    """What the laws make of the raw values of marks."""
    return np.asarray(ruler.direct(marks.raw), dtype=np.float64)


def _slopes(ruler: Ruler, found: list[UncertainParameter], values: Array, raw: Array) -> Array:
    now = [
        replace(one, value=Toleranced(value, one.value.half_width))
        for one, value in zip(found, values.tolist(), strict=True)
    ]
    return np.stack([sensitivity(ruler, one, raw) for one in now], axis=1)


def _check(found: list[UncertainParameter], rows: Array, rest: Array) -> None:
    """Whether the marks tell the parameters."""
    names = ", ".join(one.name for one in found)
    if not np.all(np.isfinite(rest)) or not np.all(np.isfinite(rows)):
        raise MarksError(f"{names}: the channel has no value at one of the marks")
    for one, column in zip(found, rows.T, strict=True):
        if not np.any(column):
            raise MarksError(f"{one.name}: the readings at the marks do not depend on it")
    size = np.linalg.norm(rows, axis=0)
    if np.linalg.matrix_rank(rows / size, tol=1e-9) < len(found):
        raise MarksError(f"{names}: the marks cannot distinguish them; free fewer of them")


def _fitted(
    found: list[UncertainParameter], values: Array, rows: Array, rest: Array, marks: Marks
) -> tuple[FittedParameter, ...]:
    """The values with their uncertainties: by those of the marks, else by the scatter."""
    dof = rest.size - values.size
    size = np.linalg.norm(rows, axis=0)
    back = np.linalg.pinv(rows / size) / size[:, None]
    known = marks.u_true is not None or (not dof and marks.u_common > 0)
    variance = 1.0 if known else float(rest @ rest) / dof if dof else math.nan
    variance = 0.0 if known and marks.u_true is None else variance
    weight = np.ones(rest.size) if marks.u_true is None else 1.0 / marks.u_true
    own = variance * np.sum(back**2, axis=1)
    total = own + (marks.u_common * back @ weight) ** 2
    standard = np.sqrt(total)
    half = coverage(dof, known, own, total) * standard
    each = zip(found, values.tolist(), standard.tolist(), half.tolist(), strict=True)
    return tuple(FittedParameter(one.name, v, u, h, one.unit) for one, v, u, h in each)


def _adjusted(
    channel: Channel,
    found: list[UncertainParameter],
    parts: tuple[FittedParameter, ...],
    places: tuple[int, ...],
) -> Channel:
    """The channel with the values, and their uncertainties where they are known."""
    laws = list(channel.chain.laws)
    for one, part in zip(found, parts, strict=True):
        value: float | Toleranced = float(f"{part.value:.9g}")
        if part.uncertainty > 0:
            value = Toleranced(value, float(f"{part.uncertainty:.3g}"), 1.0)
        elif one.value.half_width:
            size = abs(part.value / float(one.value)) if one.value else 1.0
            value = Toleranced(value, float(f"{one.value.half_width * size:.3g}"), one.value.k)
        i = places[one.law]
        drawn = with_value(laws[i], one, value)
        try:
            laws[i] = replace(laws[i], **{one.field: getattr(drawn, one.field)})  # type: ignore[type-var]
        except ParameterError as error:
            raise MarksError(f"{one.name}: these marks describe none: {error}") from None
    return replace(channel, chain=Ruler(tuple(laws)))
