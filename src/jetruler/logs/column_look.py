"""What is seen of one column of a log: its survey, its mean in every unit, the ± of its parts."""

from __future__ import annotations

from dataclasses import dataclass
from math import nan
from typing import Any

from ..core.bench.channel import Channel
from ..core.error_types import JetRulerError
from ..core.result import old_fields
from ..core.ruler.ruler import Ruler
from ..core.ruler.units import (
    TEMPERATURES,
    number,
    rounded,
    shown,
    significant,
    symbol,
    with_uncertainty,
)
from ..core.survey.blocks import Floating
from ..core.survey.ends import UnitMean, unit_mean
from ..core.survey.survey import SURVEY_HEADINGS, Survey
from ..core.uncertainty.budget import tolerated

#: What a lab report asks for of each column.
MEANS = ("mean at 95 %", "samples", "independent", "raw", "in its unit", "std dev", "± of parts")
#: The same at the joints of a channel's chain.
JOINT_MEANS = ("mean in every unit", "at 95 %", "std dev", "± of parts")
#: The column with the bits.
BITS = SURVEY_HEADINGS.index("bits")


@old_fields(place="index")
@dataclass(frozen=True)
class ColumnLook:
    """One column: its survey, the channel it belongs to, and what could not be read."""

    name: str
    column: str
    channel: Channel | None
    survey: Survey
    bits: int | None
    bits_guessed: bool
    empty: int
    unreadable: int
    fractional: int
    floating: Floating | None = None
    index: int = 0
    """Where it is, from 0."""

    @property
    def in_unit(self) -> UnitMean | None:
        """Its mean in the channel's unit."""
        return None if self.channel is None else unit_mean(self.survey, self.channel)

    def in_every_unit(self) -> list[list[str]]:
        """Its mean at 95 %, its deviation and the ± of its parts at every joint of the channel's
        chain: rows below `JOINT_MEANS`."""
        if self.channel is None:
            mean = _mean(self.survey.mean, self.survey.known.half_width, None)
            return [[self.name, mean, "–", "–"]]
        laws = self.channel.chain.laws
        rows: list[list[str]] = []
        for end in range(1, len(laws) + 1):
            chain = Ruler(laws[:end])
            unit = chain.gives
            joint = Channel(self.name, chain, self.channel.column)
            found = unit_mean(self.survey, joint)
            known = found is not None and found.mean == found.mean
            if found is None or not known or unit in (None, "1", "fraction"):
                continue
            deviation = shown(significant(found.standard_deviation, 2), unit)
            whole = joint if end < len(laws) else self.channel  # which may be calibrated
            parts = _of_parts(whole, found.mean)
            cells = [_mean(found.mean, found.half_width, unit), deviation, parts]
            if not rows or rows[-1][1:] != cells:
                rows.append(["" if rows else self.name, *cells])
        return rows

    def row(self) -> list[str]:
        """Its row in the table of columns."""
        also = self.column and self.column != self.name
        name = f"{self.name} ({self.column})" if also else self.name
        bits = f"{self.bits}{'?' * self.bits_guessed}" if self.bits else ""
        row = self.survey.row(name, bits)
        return row if bits else ["–" if i == BITS else cell for i, cell in enumerate(row)]

    def mean_row(self) -> list[str]:
        """Its row below `MEANS`."""
        v, own = self.survey, self.in_unit
        row = ["–", "–", "–"]
        if own is not None and self.channel is not None and own.mean == own.mean:
            deviation = shown(significant(own.standard_deviation, 2), self.channel.unit)
            parts = _of_parts(self.channel, own.mean)
            row = [_mean(own.mean, own.half_width, self.channel.unit), deviation, parts]
        independent = v.known.independent
        independent_text = f"{independent:.0f}" if independent == independent else "–"
        return [
            self.name,
            str(v.samples),
            independent_text,
            _mean(v.mean, v.known.half_width, None),
            *row,
        ]

    def figures(self) -> dict[str, Any]:
        """What it tells, by name."""
        own = self.in_unit
        return {
            "column": self.column,
            "bits": self.bits,
            "bits_guessed": self.bits_guessed,
            "empty": self.empty,
            "unreadable": self.unreadable,
            "fractional": self.fractional,
            "in_unit": None
            if own is None or self.channel is None
            else {
                "unit": self.channel.unit,
                "samples": own.samples,
                "mean": own.mean,
                "standard_deviation": own.standard_deviation,
                "mean_half_width": own.half_width,
                "parts_half_width": tolerated_at(self.channel, own.mean),
            },
        } | self.survey.to_dict()


def tolerated_at(channel: Channel, value: float) -> float:
    """What the tolerances of a channel's parts allow at a value, at 95 %; NaN if none is known."""
    try:
        allowed = tolerated([(channel, value)], channel.unit)
    except JetRulerError:  # no inverse, no budget
        return nan
    return allowed if allowed > 0 else nan


def _of_parts(channel: Channel, value: float) -> str:
    """`± 2.1 °C`; of a unit without a zero of its own also in percent: `± 0.031 V (1.1 %)`."""
    allowed = tolerated_at(channel, value)
    if not allowed > 0:
        return "–"
    text = f"± {rounded(allowed, allowed)[1]} {symbol(channel.unit)}".rstrip()
    if not value or channel.unit in (*TEMPERATURES, "%"):
        return text
    return f"{text} ({number(significant(100 * allowed / abs(value), 2))} %)"


def _mean(mean: float, half_width: float, unit: str | None) -> str:
    """`(225.31 ± 0.12) °C`; the mean alone where no interval is known."""
    if half_width == half_width:
        return with_uncertainty(mean, half_width, unit)
    return shown(significant(mean, 5), unit) if mean == mean else "–"
