"""What a lab report asks for of each column: how many, the mean with its 95 % interval, and the
standard deviation, raw and in the channel's unit."""

from __future__ import annotations

from ..core.model.text import shown
from ..core.survey.unit_mean import unit_mean
from ..core.uncertainty.rounding import with_uncertainty
from .look_at_log import ColumnLook

MEANS = ("mean at 95 %", "samples", "independent", "raw", "in its unit", "std dev")


def mean_row(each: ColumnLook) -> list[str]:
    """A column's row, below `MEANS`."""
    v = each.survey
    own = None if each.channel is None else unit_mean(v, each.channel)
    row = ["–", "–"]
    if own is not None and each.channel is not None and own.mean == own.mean:
        unit = each.channel.unit
        deviation = shown(float(f"{own.standard_deviation:.2g}"), unit)
        row = [_mean(own.mean, own.half_width, unit), deviation]
    independent = v.known.independent
    told = f"{independent:.0f}" if independent == independent else "–"
    return [each.name, str(v.samples), told, _mean(v.mean, v.known.half_width, None), *row]


def _mean(mean: float, half_width: float, unit: str | None) -> str:
    """`(225.31 ± 0.12) °C`; the mean alone where no interval is known."""
    if half_width == half_width:
        return with_uncertainty(mean, half_width, unit)
    return shown(float(f"{mean:.5g}"), unit) if mean == mean else "–"
