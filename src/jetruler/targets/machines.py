"""Smoothing, trips and drives of a bench, each as text of a target."""

from __future__ import annotations

from collections.abc import Sequence

from ..core.firmware.machine import machines_of
from ..core.firmware.selection import Exported
from ..core.model.channel import Bench
from .target import Target


def machines(
    bench: Bench, exported: Sequence[Exported], target: Target, interval: float | None
) -> tuple[list[str], tuple[str, ...]]:
    """Return the text of each machine, and notes on what could not be taken along."""
    found = machines_of(bench, exported, interval)
    texts = [target.smoothing(s) for s in found.smoothed]
    texts += [target.trip(t) for t in found.trips]
    texts += [target.drive(d) for d in found.drives]
    written = [text for text in texts if text is not None]
    without = len(texts) - len(written)
    if not without:
        return written, found.notes
    note = f"{without} of smoothing, trips and drives, for which {target.name} has no form"
    return written, (*(found.notes if written else ()), note)
