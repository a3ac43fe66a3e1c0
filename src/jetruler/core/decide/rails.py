"""Whether a sample on a rail is a fault or only the end of a travel."""

from __future__ import annotations

import contextlib

import numpy as np

from ..error_types import JetRulerError
from ..model.channel import Channel
from ..model.law import Role
from ..model.reading import NO_FAULTS, Flag
from ..model.ruler import Ruler

#: A rail within so much of the travel beyond its end is the end itself.
NEAR = 0.02


def travel(channel: Channel) -> tuple[float, float] | None:
    """Return the raw ends that a channel spans: those of the marks on its raw edge, else of a
    clamp or of its limits; None where it has none of them."""
    laws = channel.chain.laws
    for i, law in enumerate(laws[1:], start=1):
        if channel.chain.units[i] == channel.chain.units[0] and getattr(law, "marks", None):
            raws = [float(raw) for raw, _ in law.marks]  # type: ignore[attr-defined]
            return min(raws), max(raws)
    for i, law in enumerate(laws[1:], start=1):
        if law.role is Role.HOLD and law.corners:
            return _raw_ends(Ruler(laws[:i]), law.corners)
    return _raw_ends(channel.chain, channel.limits) if channel.limits is not None else None


def _raw_ends(before: Ruler, ends: tuple[float, ...]) -> tuple[float, float] | None:
    with contextlib.suppress(JetRulerError):
        raw = np.asarray(before.inverse(np.array(ends, dtype=np.float64)))
        raw = raw[np.isfinite(raw)]
        if raw.size:
            return float(raw.min()), float(raw.max())
    return None


def rail_faults(channel: Channel) -> int:
    """Return the rail flags, as bits, that tell of a fault of this channel.

    A rail is a fault where the laws have no value there, or where it lies clearly beyond what the
    channel spans; it is an end where the channel's own travel reaches it. `Channel.rails` says so
    outright. Where nothing tells, a rail is a fault.
    """
    both = Flag.LOW_RAIL | Flag.HIGH_RAIL
    if channel.rails is not None or channel.chain.edge is None:
        return 0 if channel.rails == "ends" else int(both)
    edge, span = channel.chain.edge, travel(channel)
    if span is None:
        return int(both)
    room = max(2.0 * edge.lsb, NEAR * (span[1] - span[0]))
    faults = 0
    for flag, rail, beyond in (
        (Flag.LOW_RAIL, edge.lowest, span[0] - edge.lowest),
        (Flag.HIGH_RAIL, edge.highest, edge.highest - span[1]),
    ):
        if not np.isfinite(channel.chain(float(rail))) or beyond > room:
            faults |= int(flag)
    return faults


def fault_mask(channel: Channel) -> int:
    """Return the flags, as bits, that tell of a fault of this channel: all but a value below or
    above a limit, and a rail that is only an end."""
    all_flags = sum(Flag)
    ends = int(Flag.LOW_RAIL | Flag.HIGH_RAIL) & ~rail_faults(channel)
    return int(all_flags) & ~int(NO_FAULTS) & ~ends
