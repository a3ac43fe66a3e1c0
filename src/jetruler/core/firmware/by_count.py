"""What follows from a count alone, as a program that is exact at every count by construction."""

from __future__ import annotations

import numpy as np

from ..arrays import AnyArray
from ..model.reading import Flag
from .forms import STEPS, compared, outside
from .program import Program
from .wanted import ExactValues

#: A decision that leaves things as they are.
AS_IT_WAS = 2


def by_count(counts: AnyArray, outputs: AnyArray, name: str, beyond: int) -> Program:
    """A whole number for each count: comparisons where there are few changes, else a table.

    counts: ascending, without a gap. beyond: the output for counts that cannot come.
    """
    low, high = int(counts[0]), int(counts[-1])
    head = outside(low, high, "int32", beyond)
    edges = np.flatnonzero(np.diff(outputs)) + 1
    if edges.size <= 2 * STEPS:
        each = [int(outputs[i]) for i in (0, *edges.tolist())]
        return Program(name, "\n".join([*head, *compared(counts[edges], each)]))
    place = f"n - {low}" if low > 0 else f"n + {-low}" if low else "n"
    body = [*head, f"return {name}_of[{place}]"]
    return Program(name, "\n".join(body), {f"{name}_of": tuple(outputs.astype(int).tolist())})


def flags_program(w: ExactValues, name: str) -> Program:
    """The flags of every count."""
    return by_count(w.counts, w.flags, f"{name}_flags", int(Flag.OFF_SCALE))


def has_value(w: ExactValues, name: str) -> Program:
    """Whether a count has a value: 1 or 0."""
    return by_count(w.counts, ~np.isnan(w.values) * 1, f"{name}_has_value", 0)


def decided(w: ExactValues, name: str, on: AnyArray, off: AnyArray) -> Program:
    """What each count decides: 1 for on, 0 for off, `AS_IT_WAS` for neither."""
    outputs = np.where(on, 1, np.where(off, 0, AS_IT_WAS))
    return by_count(w.counts, outputs, name, AS_IT_WAS)
