"""A conversion that was chosen for firmware, the error of one that cannot be, and
the proof: a program run over every count that exists, held against the ruler; where there are too
many, piece by piece."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from os import PathLike
from typing import Any

import numpy as np

from .. import OUTER
from ..bench.channel import Channel
from ..error_types import JetRulerError
from ..numerics import AnyArray, Array
from ..result import Content, Result, public_fields
from ..ruler.rounding import guard
from ..ruler.units import many, number, significant, symbol
from .program import LARGEST, Program, ProgramModel
from .reference import ReferenceValues, takes_counts

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
    by: float


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
        if whole:  # 0.3 · 218 is 65.4, whatever floats make of it
            errors[errors <= guard(values, w.channel.ruler.sizes[-1])] = 0.0
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
    values = w.reads(counts)[0]
    counts, values = counts[~np.isnan(values)], values[~np.isnan(values)]
    if not counts.size:
        return True
    step, scale = (1.0 / w.scale, w.scale) if whole else (0.0, 1)
    off = np.abs(model.run(counts).astype(np.float64) / scale - values)
    return all(o <= 0.5 * step + 1e-6 * max(1.0, abs(o)) for o in off.tolist())


class ExportError(JetRulerError):
    """A conversion that cannot be exported as asked; the sentence says what could be.

    Examples
    --------
    >>> import jetruler as jr
    >>> try:
    ...     jr.export(jr.Channel("k", jr.Counts(16) >> jr.Line(0.3), "k"), "k", "int16")
    ... except jr.errors.ExportError as error:
    ...     print(error)
    k: its counts go up to 65535, which int16 does not hold; --arith int32 does
    """


@dataclass(frozen=True, eq=False, repr=False)
class Exported(Result):
    """A channel's conversion for firmware.

    Attributes
    ----------
    channel : Channel
        The channel.
    name : str
        The program, as the target takes it.
    kind : str
        The form that was chosen, in words.
    program : Program
        The program that was chosen.
    wanted : ReferenceValues
        The values that it is held against, at every count.
    proof : Proof
        Over every count.
    cheaper : str
        What the next cheaper choice would cost in error.
    notes : tuple[str, ...], default ()
        What is left behind.

    Examples
    --------
    >>> import jetruler as jr
    >>> made = jr.export(jr.Channel("k", jr.Counts(8) >> jr.Line(0.5), "k"), "k", scale=2)
    >>> made.proof.worst
    0.0
    """

    channel: Channel
    """The channel."""
    name: str
    """The program, as the target takes it."""
    kind: str
    """The form that was chosen, in words."""
    program: Program
    """The program that was chosen."""
    wanted: ReferenceValues
    """The values that it is held against, at every count."""
    proof: Proof
    """Over every count."""
    cheaper: str
    """What the next cheaper choice would cost in error."""
    notes: tuple[str, ...] = ()
    """What is left behind."""
    float_kind: type[np.floating[Any]] = np.float32
    """The floating-point type that it was proven in."""
    defaults: tuple[float, ...] = ()
    """The arguments of its function behind the count, as the bench file has them."""
    as_float: bool = False
    """Whether the whole result of the program is given as a float, divided by its scale."""

    @property
    def is_float(self) -> bool:
        """Whether its function gives a float."""
        return self.as_float or self.program.arith == "float"

    def text(
        self,
        to: str = "c",
        *,
        selftest: bool = False,
        title: str | None = None,
        struct: bool = False,
    ) -> str:
        """The whole file in "c", "python" or "st" (IEC 61131-3 structured text), as the tool writes
        it. title: what its head says it belongs to; the channel's name if left out. struct: whether
        arguments are fields of a struct too.

        Raises `ExportError` for another language, and for one that computes floats otherwise than
        they were proven.
        """
        return OUTER.code(self, to, selftest, title, struct)

    def save(
        self,
        path: str | PathLike[str],
        *,
        selftest: bool = False,
        title: str | None = None,
        struct: bool = False,
    ) -> None:
        """Write that text; the language follows from the name (.h or .c, .py, .st). The file
        appears whole or not at all. Raises `ExportError` and `OSError`."""
        OUTER.save_code(self, path, selftest, title, struct)

    @property
    def headline(self) -> str:
        return self.lines()[0]

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        return {
            "what": list(public_fields(self.proof)),
            "value": list(public_fields(self.proof).values()),
        }

    def lines(self) -> list[str]:
        """What was chosen, what it costs, and the proof, for people."""
        p = self.program
        steps = p.operations
        gives = ", given as a float" if self.as_float else ""
        size = f"{p.table_bytes} bytes of tables, about {steps} operations"
        head = f"{self.kind}, {p.arith}{gives}: {size}"
        unit = symbol(self.channel.unit) if self.channel.unit != "zone" else ""
        return [
            head,
            *([self.cheaper] if self.cheaper else []),
            *self.proof.lines(unit, "count" if takes_counts(self.channel) else "step"),
            *self.notes,
        ]

    @property
    def content(self) -> Content:
        return self.lines()

    def _fields(self) -> Mapping[str, Any]:
        return {
            "channel": self.channel.name,
            "name": self.name,
            "form": self.kind,
            "arith": "float" if self.as_float else self.program.arith,
            "scale": self.wanted.scale,
            "table_bytes": self.program.table_bytes,
            "operations": self.program.operations,
            "cheaper": self.cheaper,
            "notes": self.notes,
            "proof": self.proof,
        }
