"""A fitted law in its place in a channel: instead of the law that was there, or on top of all."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, cast

import numpy as np

from ..bench.channel import Channel, channel_of
from ..bench.covariance import FitCovariance
from ..error_types import JetRulerError
from ..laws import law_line, law_named
from ..laws.linear import Line
from ..numerics import Array
from ..result import Content, Result, Title, old_fields, refuses
from ..ruler.base_law import Role
from ..ruler.quantity import Toleranced
from ..ruler.ruler import Law, Ruler
from ..ruler.units import symbol
from .fit import fit, kind_of_fit
from .fit_result import Fit, error_shown
from .marks import Marks, MarksError


@old_fields(place="index")
@dataclass(frozen=True, eq=False, repr=False)
class Calibration(Result):
    """A fit and its place in a channel.

    Attributes
    ----------
    channel : Channel
        The channel as it was.
    fit : Fit
        The fitted law.
    index : int
        Place of the law among the channel's laws, from 0.
    replaced : Law | None
        The law that it takes the place of; None if it is between those that are there.
    error_before : array of float64
        What the channel read before less the truth at each mark; NaN where it read nothing.

    Examples
    --------
    >>> import jetruler as jr
    >>> knob = jr.Channel("knob", jr.Counts(12) >> jr.Line(0.1), "ch0")
    >>> found = jr.calibrate(knob, [(0, 1.0), (1000, 101.0)])
    >>> round(found.calibrated.ruler(500), 3)
    51.0
    """

    channel: Channel
    """The channel as it was."""
    fit: Fit
    """The fitted law."""
    index: int
    """Place of the law among the channel's laws, from 0."""
    replaced: Law | None
    """The law that it takes the place of; None if it is between those that are there."""
    error_before: Array
    """What the channel read before less the truth at each mark; NaN where it read nothing."""

    @property
    def calibrated(self) -> Channel:
        """The channel with the fitted law in its place, and what the fit left of its error: the
        covariance of the parameters, or the errors of the marks, each left out in turn."""
        laws = list(self.channel.chain.laws)
        laws[self.index : self.index + (self.replaced is not None)] = [self.fit.law]
        left: float | FitCovariance | None = None
        if self.fit.marks.true_unit == self.channel.unit:
            left = self.fit.known_parameters
            if left is None and np.isfinite(self.fit.rms_left_out):
                known = math.hypot(self.fit.rms_left_out, self.fit.marks.u_common)
                left = Toleranced(0.0, known, 1.0)
        if isinstance(left, FitCovariance):
            left = left.of_law(self.index, laws)
        return replace(self.channel, chain=Ruler(tuple(laws)), calibration=left)

    @property
    def headline(self) -> str:
        return f"{calibration_title(self)}; {self.fit.headline}"

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        return {**self.fit.table, "before": self.error_before.tolist()}

    @property
    def content(self) -> Content:
        """The fit, with what the channel read before."""
        was = self.error_before[self.fit.kept]
        was = was[np.isfinite(was)]
        _, *rest = replace(self.fit, was=self.error_before).content
        lines: list[Any] = [
            Title(calibration_title(self)),
            *rest,
            *on_rails(self.channel, self.fit.marks),
        ]
        if was.size:
            unit, scale = self.fit.marks.true_unit, self.fit.marks.true
            rms = error_shown(float(np.sqrt(np.mean(was**2))), scale, unit)
            largest = error_shown(float(np.max(np.abs(was))), scale, unit)
            lines.append(f"before the fit, the largest error was {largest}, rms {rms}")
        return [*lines, "", law_line(self.fit.law)]

    def _fields(self) -> Mapping[str, Any]:
        found = dict(self.fit.to_dict())
        for mark, error in zip(found["marks"], self.error_before.tolist(), strict=True):
            mark["error_before"] = error
        replaces = None if self.replaced is None else self.replaced.name
        return {"channel": self.channel.name, "replaces": replaces} | found


@refuses
def calibrate(
    channel: Channel | Ruler | Law,
    marks: Marks | Sequence[Sequence[float]] | Array,
    law: str | None = None,
    *,
    correction: bool = False,
    degree: int | None = None,
    robust: bool = False,
) -> Calibration:
    """Fit a law to marks in its place in a channel.

    The law takes the place of the last one of its name, else of the last curve, behind the laws
    before it; where the channel has none it comes last.

    Parameters
    ----------
    channel : Channel | Ruler | Law
        The channel; a ruler or a law is one without a name.
    marks : Marks | Sequence[Sequence[float]] | Array
        As for `fit`; raw in counts unless `Marks` says the unit at another joint of the
        channel, true in the channel's unit or one that converts to it.
    law : str, optional
        As for `fit`; None fits the present law again, or a line.
    correction : bool, default False
        Keep every law and add an offset (one mark) or a line (more) on top; an earlier
        correction is refitted instead.
    degree : int, optional
        Degree of a polynomial, as for `fit`.
    robust : bool, default False
        Whether to set outliers aside, as for `fit`.

    Returns
    -------
    Calibration
        The fit, its place, and the channel with it.

    Raises
    ------
    MarksError
        For marks that cannot give this law.
    JetRulerError
        For a law that cannot be fitted.

    Examples
    --------
    >>> import jetruler as jr
    >>> knob = jr.Channel("knob", jr.Counts(12) >> jr.Line(0.1), "ch0")
    >>> jr.calibrate(knob, [(0, 1.0), (1000, 99.0), (2000, 201.0)]).fit.law.name
    'line'
    """
    channel = channel_of(channel)
    used = Marks.of(marks)
    laws = channel.chain.laws
    if correction:
        index, replaced = _on_top(laws)
        law = law or ("offset" if np.unique(used.raw).size == 1 else "line")
        if law not in ("offset", "line"):
            raise JetRulerError(
                f"law: expected an offset or a line for a correction, found {law!r}"
            )
    else:
        index, replaced = _in_place(channel, law)
        present = replaced.name if replaced is not None else "line"
        law = law or (present if law_named(present).fitted_name else "line")
    units = channel.chain.units
    joints = [i for i in range(index + 1) if units[i] == (used.raw_unit or units[0])]
    if not joints:
        used = used.in_units(tuple(filter(None, units[: index + 1])), used.true_unit)
        joints = [i for i in range(index + 1) if units[i] == used.raw_unit]
    upstream = Ruler(laws[joints[0] : index]) if joints[0] < index else None
    if used.raw_unit is None:
        used = replace(used, raw_unit=units[0])
    downstream = _downstream(laws[index + (replaced is not None) :])
    unit = units[index + 1] if replaced is not None else units[index]
    if correction:
        unit = None
    result_unit = downstream.gives if downstream is not None else unit or units[index]
    found = fit(
        used.in_units((used.raw_unit,), result_unit or units[index + (replaced is not None)]),
        law,
        upstream=upstream,
        downstream=downstream,
        degree=degree,
        robust=robust,
        unit=unit,
        like=replaced
        if replaced is not None and (replaced.name == law or law == "offset")
        else None,
        limits=channel.limits,
    )
    plain = Ruler.of(*laws[joints[0] : index], *_kept(laws[index:]))
    was = np.asarray(plain(found.marks.raw), dtype=np.float64) - found.marks.true
    return Calibration(channel, found, index, replaced, was)


def on_rails(channel: Channel, marks: Marks) -> list[str]:
    """A sentence on marks that are where the converter ends: there a reading says only that the
    truth is that far or further."""
    edge = channel.chain.edge
    if edge is None or marks.raw_unit not in (None, channel.chain.takes):
        return []
    there = (marks.raw <= edge.lowest) | (marks.raw >= edge.highest)
    names = [name for name, on in zip(marks.names, there, strict=True) if on]
    if not names:
        return []
    subject = f"{', '.join(names)} {'stands' if len(names) == 1 else 'stand'} on a rail"
    return [f"{subject} of the converter: perhaps saturated, and no mark"]


def joined(channel: Channel, correction: Line) -> tuple[int, bool, Line]:
    """Where a correction goes on top of a channel, whether it replaces an earlier one, and the
    line that then is there: both in one."""
    index, upstream = _on_top(channel.chain.laws)
    if upstream is None:
        return index, False, correction
    both = upstream.corrected(correction.gain or 1.0, correction.offset or 0.0)
    return index, True, cast(Line, both)


def _in_place(channel: Channel, law: str | None) -> tuple[int, Law | None]:
    """Where a law goes, and the one it replaces."""
    laws = channel.chain.laws
    takes = kind_of_fit(law).fit_takes if law is not None else None
    same = [i for i, one in enumerate(laws) if one.name == law]
    curves = [
        i for i, one in enumerate(laws) if one.role is Role.CURVE and takes in (None, one.takes)
    ]
    for indices in (same, curves):
        if indices:
            return indices[-1], laws[indices[-1]]
    if takes is not None:
        if takes not in channel.chain.units:
            raise MarksError(
                f"{law} takes {symbol(takes)}, and no law of {channel.name} gives them"
            )
        return channel.chain.units.index(takes), None
    return _last(laws), None


def _on_top(laws: tuple[Law, ...]) -> tuple[int, Law | None]:
    """Behind the last law that moves the result; or in place of a correction that is there."""
    index = _last(laws)
    last = laws[index - 1]
    if last.is_correction and index > 1:
        return index - 1, last
    return index, None


def _last(laws: tuple[Law, ...]) -> int:
    """The place behind the last law that moves the result."""
    zones = [i for i, law in enumerate(laws) if law.role is Role.LABEL]
    index = zones[0] if zones else len(laws)
    while index > 1 and laws[index - 1].role.shapes:
        index -= 1
    return index


def _kept(laws: tuple[Law, ...]) -> list[Law]:
    """The laws that move a result, up to the first that makes zones of it."""
    kept: list[Law] = []
    for law in laws:
        if law.role is Role.LABEL:
            break
        if not law.role.shapes:
            kept.append(law)
    return kept


def _downstream(laws: tuple[Law, ...]) -> Ruler | None:
    kept = _kept(laws)
    return Ruler(tuple(kept)) if kept else None


def calibration_title(calibration: Calibration) -> str:
    """One line: what was fitted, and where."""
    name, channel = calibration.fit.law.name, calibration.channel
    if calibration.replaced is not None:
        if calibration.replaced.name == name:
            return f"{channel.name}: {name}, fitted again"
        return f"{channel.name}: {name} instead of {calibration.replaced.name}"
    upstream = channel.chain.laws[calibration.index - 1].name
    return f"{channel.name}: {name} behind {upstream}"
