"""The proof: a program run over every count that exists, held against the ruler."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from ..arrays import AnyArray
from ..laws.linear import Line
from ..model.text import number
from .program import LARGEST, Program, ProgramModel
from .wanted import ExactValues


@dataclass(frozen=True)
class Proof:
    """What running every count has shown.

    counts: how many were run. worst: the largest error, in the channel's unit, `at` that count.
    monotone: whether the output never turns back ("rising", "falling", or "" for neither).
    exact_at_marks: whether it meets the marks of a line, rounded; None without marks. widest: the
    largest whole intermediate. no_value: counts without a value.
    """

    counts: int
    worst: float
    at: int
    within: float
    monotone: str
    exact_at_marks: bool | None
    widest: int
    no_value: int

    @property
    def holds(self) -> bool:
        """Whether the bound is kept."""
        return self.worst <= self.within * (1 + 1e-9) + 1e-12

    def lines(self, unit: str, noun: str = "count") -> list[str]:
        """For people; noun: what was run, a count or a step of the input."""
        worst = f"worst error {number(float(f'{self.worst:.3g}'))} {unit}".rstrip()
        worst += f" at {noun} {self.at} (bound {number(self.within)})"
        found = [
            f"all {self.counts} {noun}s were run: {worst if self.worst else 'each is equal'}",
            f"{self.monotone} throughout" if self.monotone else "not monotone",
        ]
        if self.exact_at_marks is not None:
            found.append(("" if self.exact_at_marks else "not ") + "exact at the marks")
        if self.widest:
            found.append(f"no overflow: the widest intermediate is {self.widest}")
        if self.no_value:
            found.append(f"{self.no_value} {noun}s have no value")
        return found


def prove(
    program: Program, w: ExactValues, kind: type[np.floating[Any]] = np.float32
) -> Proof | None:
    """Run every count. None if the program and the ruler do not agree on what has a value.
    Raises `TooWideError` where an intermediate does not fit."""
    model = ProgramModel(program, kind)
    outputs = model.run(w.counts)
    whole = program.arith != "float"
    none = outputs == -LARGEST[program.arith] - 1 if whole else np.isnan(outputs)
    if not np.array_equal(none, np.isnan(w.values)):
        return None
    scale = w.scale if whole else 1
    errors = np.where(none, 0.0, np.abs(outputs.astype(np.float64) / scale - w.values))
    worst = int(np.argmax(np.nan_to_num(errors, nan=np.inf)))
    return Proof(
        int(w.counts.size),
        float(errors[worst]),
        at=int(w.counts[worst]),
        within=w.within,
        monotone=_monotone(outputs[~none]),
        exact_at_marks=_at_marks(outputs, w, whole),
        widest=model.widest,
        no_value=int(np.count_nonzero(none)),
    )


def _monotone(outputs: AnyArray) -> str:
    steps = np.diff(outputs)
    if not steps.size or np.all(steps >= 0):
        return "rising"
    return "falling" if np.all(steps <= 0) else ""


def _at_marks(outputs: AnyArray, w: ExactValues, whole: bool) -> bool | None:
    laws = w.channel.ruler.laws
    if len(laws) < 2 or not isinstance(laws[1], Line) or laws[1].marks is None:
        return None
    if w.channel.ruler.units[1] != "count":
        return None
    raws = [int(raw) for raw, _ in laws[1].marks if raw == int(raw)]
    places = [raw - int(w.counts[0]) for raw in raws if w.counts[0] <= raw <= w.counts[-1]]
    step = 1.0 / w.scale if whole else 0.0
    off = [abs(float(outputs[p]) / (w.scale if whole else 1) - w.values[p]) for p in places]
    return all(o <= 0.5 * step + 1e-6 * max(1.0, abs(o)) for o in off)
