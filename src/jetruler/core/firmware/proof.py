"""The proof: a program run over every count that exists, held against the ruler; where there are
too many, piece by piece."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..numerics import AnyArray, Array
from ..ruler.units import many, number, significant
from .program import LARGEST, Program, ProgramModel
from .reference import ReferenceValues

#: Counts are run in blocks of this size.
BLOCK = 2**16


@dataclass(frozen=True)
class StraightPieces:
    """The straight lines that a program rounds, from a first count to a last one.

    at: output steps, not rounded, at counts. It bends only at counts that are run. by: how far
    rounding moves it at most, in output steps.
    """

    first: int
    last: int
    at: Callable[[Array], Array]
    by: float = 0.5


@dataclass(frozen=True)
class Proof:
    """What running every count has shown.

    counts: how many there are. worst: the largest error, in the channel's unit, `at` that count.
    monotone: whether the output never turns back ("rising", "falling", "" for
    neither, None where that is not asked).
    exact_at_marks: whether it meets the marks of a line, rounded; None without marks. widest: the
    largest whole intermediate. no_value: counts without a value. run: how many counts were run;
    where that is fewer than all, `worst` bounds the others, but for floats.
    """

    counts: int
    worst: float
    at: int
    within: float
    monotone: str | None
    exact_at_marks: bool | None
    widest: int
    no_value: int
    run: int

    @property
    def holds(self) -> bool:
        """Whether the bound is kept."""
        return self.worst <= self.within * (1 + 1e-9) + 1e-12

    def lines(self, unit: str, noun: str = "count") -> list[str]:
        """For people; noun: what was run, a count or a step of the input."""
        worst = f"worst error {number(significant(self.worst, 3))} {unit}".rstrip()
        worst += f" at {noun} {self.at} (bound {number(self.within)})"
        every = f"all {self.counts} {noun}s were run"
        if self.run < self.counts:
            how = "the lines between them are bounded" if self.widest else "floats are not bounded"
            every = (
                f"{self.run} of {self.counts} {noun}s were run, every edge among them, and {how}"
            )
        found = [f"{every}: {worst if self.worst else 'exact'}"]
        if self.monotone is not None:
            found.append(f"{self.monotone} throughout" if self.monotone else "not monotone")
        if self.exact_at_marks is not None:
            found.append(("" if self.exact_at_marks else "not ") + "exact at the marks")
        if self.widest:
            found.append(f"no overflow: the widest intermediate is {self.widest}")
        if self.no_value:
            verb = "has" if self.no_value == 1 else "have"
            found.append(f"{many(self.no_value, noun)} {verb} no value")
        return found


@dataclass
class _Seen:
    """What blocks of counts have shown so far."""

    worst: float = 0.0
    at: int = 0
    none: int = 0
    last: float | None = None
    rises: bool = True
    falls: bool = True

    def add(self, counts: AnyArray, errors: Array, outputs: AnyArray, none: AnyArray) -> None:
        errors = np.nan_to_num(errors, nan=np.inf)
        place = int(np.argmax(errors))
        if errors[place] > self.worst or not self.at:
            self.worst, self.at = float(errors[place]), int(counts[place])
        self.none += int(np.count_nonzero(none))
        given = outputs[~none]
        if given.size:
            before = given[:1] if self.last is None else np.array([self.last])
            steps = np.diff(np.concatenate((before, given)))
            self.rises &= bool(np.all(steps >= 0))
            self.falls &= bool(np.all(steps <= 0))
            self.last = given[-1]

    @property
    def monotone(self) -> str:
        return "rising" if self.rises else "falling" if self.falls else ""


def prove(
    program: Program,
    w: ReferenceValues,
    kind: type[np.floating[Any]] = np.float32,
    pieces: StraightPieces | None = None,
) -> Proof | None:
    """Run every count. None if the program and the ruler do not agree on what has a value, or if
    there are too many counts and the program is no known line.

    pieces: the straight lines that a program of whole numbers rounds. Raises `TooWideError` where
    an intermediate does not fit.
    """
    model = ProgramModel(program, kind)
    whole = program.arith != "float"
    scale, seen, run = w.scale if whole else 1, _Seen(), 0
    for counts, values in _blocks(w):
        outputs = model.run(counts)
        none = outputs == -LARGEST[program.arith] - 1 if whole else np.isnan(outputs)
        if not np.array_equal(none, np.isnan(values)):
            return None
        errors = np.where(none, 0.0, np.abs(outputs.astype(np.float64) / scale - values))
        seen.add(counts, errors, outputs, none)
        run += counts.size
        if whole and run < w.every <= w.most and seen.worst > w.within * (1 + 1e-9) + 1e-12:
            break  # not near enough: there is no need to run the others
    worst, at = seen.worst, seen.at
    if w.every > w.most and whole and run == w.counts.size:
        bound = _between(w, pieces, outputs)
        if bound is None:
            return None
        worst, at = max((worst, at), bound)
    return Proof(
        w.every,
        worst,
        at=at,
        within=w.within,
        monotone=seen.monotone,
        exact_at_marks=_at_marks(model, w, whole),
        widest=model.widest,
        no_value=seen.none if run == w.every else _without_value(w),
        run=run,
    )


def _blocks(w: ReferenceValues) -> Iterator[tuple[AnyArray, Array]]:
    """All counts with their values, in blocks; of too many, those that matter."""
    if w.is_dense or w.every > w.most:
        yield w.counts, w.values
        return
    for first in range(int(w.counts[0]), int(w.counts[-1]) + 1, BLOCK):
        counts = np.arange(first, min(first + BLOCK, int(w.counts[-1]) + 1))
        yield counts, w.reads(counts)[0]


def _without_value(w: ReferenceValues) -> int:
    return w.every - sum(last - first + 1 for first, last in w.valued)


def _between(
    w: ReferenceValues, pieces: StraightPieces | None, outputs: AnyArray
) -> tuple[float, int] | None:
    """The largest error between the counts that were run, in the channel's unit, and where.

    Between two neighbours the program rounds a straight line, so it is off from that by half a
    step at most. The values bend away from their chord by at most a quarter of the stretch times
    the change of their slope, which the chords on both sides bound where they bend one way.
    """
    gaps = np.diff(w.counts)
    wide = np.flatnonzero((gaps > 1) & ~np.isnan(w.values[1:]) & ~np.isnan(w.values[:-1]))
    if not wide.size:
        return 0.0, int(w.counts[0])
    rises = np.diff(w.target) / gaps
    before, behind = np.maximum(wide - 1, 0), np.minimum(wide + 1, rises.size - 1)
    slopes = np.stack([rises[before], rises[wide], rises[behind]])
    change = np.nan_to_num(np.nanmax(slopes, axis=0) - np.nanmin(slopes, axis=0))
    # Where values stop, a rounded line, which never turns back, is furthest off at an end;
    # outside its lines a program compares, and must stop too.
    still, lined = rises[wide] == 0.0, np.zeros(wide.size, np.bool_)
    worst = np.zeros(wide.size)
    if pieces is not None:
        lined = (w.counts[wide] >= pieces.first) & (w.counts[wide + 1] <= pieces.last)
        off = np.abs(pieces.at(w.counts.astype(np.float64)) - w.target)
        bend = change * gaps[wide] / 4
        if w.on_steps_of(w.scale):  # steps have no slope: they are between their ends
            bend = np.minimum(bend, np.maximum(np.abs(rises[wide]) * gaps[wide], 1.0))
        bent = np.maximum(off[wide], off[wide + 1]) + bend + pieces.by
        worst = np.where(lined & ~still, bent, 0.0)
    if not np.all(lined | (still & (outputs[wide] == outputs[wide + 1]))):
        return None
    place = int(np.argmax(worst))
    return float(worst[place]) / w.scale, int(w.counts[wide[place]])


def _at_marks(model: ProgramModel, w: ReferenceValues, whole: bool) -> bool | None:
    laws = w.channel.ruler.laws
    marks = laws[1].marks if len(laws) > 1 else None
    if marks is None or w.channel.ruler.units[1] != "count":
        return None
    raws = [int(raw) for raw, _ in marks if raw == int(raw)]
    counts = np.array([raw for raw in raws if w.counts[0] <= raw <= w.counts[-1]], dtype=np.int64)
    if not counts.size:
        return True
    step, scale = (1.0 / w.scale, w.scale) if whole else (0.0, 1)
    off = np.abs(model.run(counts).astype(np.float64) / scale - w.reads(counts)[0])
    return all(o <= 0.5 * step + 1e-6 * max(1.0, abs(o)) for o in off.tolist())
