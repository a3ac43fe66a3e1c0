"""A comparison of what a log has in pairs, with what is to be said beside it."""

from __future__ import annotations

import dataclasses

from ..core.calibrate.compare_series import compare
from ..core.calibrate.comparison import Comparison
from ..core.calibrate.relevance import relevant_difference
from ..core.model.channel import Bench, Channel
from ..core.model.units import symbol
from .pairs import Pairs


def compare_pairs(
    bench: Bench, channel: Channel, other: str, pairs: Pairs, within: float | None = None
) -> Comparison:
    """Compare a channel with another one, or with a column of the log, by their pairs."""
    found = compare(
        pairs.a,
        pairs.b,
        unit=channel.unit,
        within=within,
        resolution=relevant_difference(channel, pairs.a),
        interval=pairs.interval,
        missing=pairs.missing,
        names=(channel.name, other),
    )
    notes = list(found.notes)
    for name, count in zip((channel.name, other), pairs.left_out, strict=True):
        if count:
            notes.append(f"{count} samples of {name} left out: missing, or with a flag")
    if other not in bench.channels and pairs.unit_of_other != channel.unit:
        notes.append(f"{other} is in {symbol(pairs.unit_of_other)} and was converted")
    smoothed = [c.name for c in (channel, bench.channels.get(other)) if c and c.smooth]
    if smoothed:
        notes.append(f"{' and '.join(smoothed)} smoothed as the bench says")
    if pairs.in_time:
        notes.append("paired in time, in a straight line between two samples")
    return dataclasses.replace(found, notes=tuple(notes))
