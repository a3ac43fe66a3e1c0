"""Isolated spikes: samples that lie off both neighbours, which agree with one another."""

from __future__ import annotations

import math
from copy import deepcopy
from dataclasses import dataclass, field

import numpy as np

from ..numerics import AnyArray, Truths
from .distribution import Distribution, rescaled

#: A spike is at least this many counts, and this many times the noise of the log off.
COUNTS, NOISES = 5.0, 10.0
#: And this many times the noise of so many samples before it, and of those behind it, wherever in
#: the log it is noisy; of no fewer.
AROUND, WINDOW, FEWEST = 8.0, 32, 10
#: The median size of second differences of white noise, in its standard deviations.
OF_MEDIAN = 0.6745 * math.sqrt(6.0)
#: Of this many of the largest the rows are kept.
LARGEST = 256
_NONE: AnyArray = np.empty(0, np.int64)


def isolated_in(
    x: AnyArray, step: AnyArray, follows: AnyArray | None, first: int, last: int
) -> tuple[AnyArray, AnyArray]:
    """Samples that lie off both neighbours, which agree with one another: how far, and where.

    A turning point is none: there the neighbours bend the same way. Beside a spike they bend the
    other way.

    Parameters
    ----------
    x : samples.
    step : their differences.
    follows : which follow directly on the one before; None where all do.
    first, last : those from first to before last are looked at, not those at the ends.
    """
    if x.size < 3:
        return _NONE, _NONE
    bend = np.diff(step)
    sizes = np.abs(bend)
    large = sizes > int(2 * COUNTS)
    if not large.any():
        return _NONE, _NONE
    # Noise has many that are large, so all of it is masks, and no index, until few are left.
    large &= np.abs(x[2:] - x[:-2]) <= sizes >> 3
    large[: max(0, first - 1)] = False
    large[max(0, last - 1) :] = False
    if follows is not None:
        large &= follows[1:-1] & follows[2:]
    there = np.flatnonzero(large)
    turns = np.zeros(there.size, bool)
    for side, joint in ((-1, 0), (1, 3)):  # the bend beside each, and the sample that joins them
        i = np.clip(there + side, 0, bend.size - 1)  # at an end, a bend is beside itself
        turn = (np.sign(bend[i]) == np.sign(bend[there])) & (i != there)
        turns |= turn if follows is None else turn & follows[np.minimum(there + joint, x.size - 1)]
    there = there[~turns]
    return sizes[there] // 2, there + 1


def among_quiet(x: AnyArray, follows: AnyArray | None, sizes: AnyArray, places: AnyArray) -> Truths:
    """Which isolated samples are larger than the noise on both sides of them, up to the next gap.

    Of the second differences there, half must be small: other spikes do not change that.
    """
    begun: AnyArray = np.zeros(places.size, np.int64)
    ended: AnyArray = np.full(places.size, x.size)
    if follows is not None:
        # Where the samples that follow on one another begin; the first gap is before all of them.
        begins = np.concatenate(([0], np.flatnonzero(~follows[1:]) + 1, [x.size]))
        i = np.searchsorted(begins, places, side="right")
        begun, ended = begins[i - 1], begins[i]
    limits = (OF_MEDIAN / AROUND * sizes)[:, None]
    quiet = np.ones(places.size, bool)
    for side in (np.arange(-WINDOW, 0), np.arange(1, WINDOW + 1)):
        at = places[:, None] + side  # a row for each, with the samples on that side
        there = (at >= begun[:, None]) & (at < ended[:, None])
        bends = np.abs(np.diff(x[np.clip(at, 0, x.size - 1)], 2, axis=1))
        known = there[:, 2:] & there[:, :-2]
        small = np.count_nonzero(known & (bends < limits), axis=1)
        many = np.count_nonzero(known, axis=1)
        quiet &= (2 * small > many) | (many < FEWEST)
    return quiet


@dataclass
class Spikes:
    """Collects isolated samples, batch by batch; which of them are spikes, the noise says at last.

    Attributes
    ----------
    most : of how many of the largest the rows are kept.
    """

    most: int = LARGEST
    _sizes: Distribution = field(default_factory=Distribution)
    """How far all of them are off."""
    _largest: list[tuple[int, int, bool]] = field(default_factory=list)
    """Minus the size, and the row, of the largest, and whether it is quiet around them: sorted."""

    def scaled(self, by: int, over: int = 1) -> None:
        """Multiply every size, or divide it: what is counted is now another step."""
        self._sizes.scaled(by, over)
        self._largest = [(-rescaled(-s, by, over), row, quiet) for s, row, quiet in self._largest]

    def add(
        self,
        x: AnyArray,
        follows: AnyArray | None,
        isolated: tuple[AnyArray, AnyArray],
        rows: AnyArray,
    ) -> None:
        """Take what `isolated_in` has found in x, and its rows."""
        sizes, places = isolated
        if not sizes.size:
            return
        self._sizes.add(sizes)
        found = np.arange(sizes.size)
        if len(self._largest) == self.most:
            found = np.flatnonzero(sizes > -self._largest[-1][0])
        if not found.size:
            return
        found = found[np.argsort(-sizes[found], kind="stable")[: self.most]]
        quiet = among_quiet(x, follows, sizes[found], places[found])
        new = zip((-sizes[found]).tolist(), rows[found].tolist(), quiet.tolist(), strict=True)
        self._largest = sorted([*self._largest, *new])[: self.most]

    def add_last(self, tail: list[int], row: int) -> None:
        """Take the isolated samples of a tail that nothing follows on.

        Parameters
        ----------
        tail : the last samples that follow on one another.
        row : of the last.
        """
        x = np.array(tail, np.int64)
        found = isolated_in(x, np.diff(x), None, x.size - WINDOW, x.size - 1)
        self.add(x, None, found, row - (x.size - 1) + found[1])

    def copy(self) -> Spikes:
        """One that takes what this one does not."""
        return Spikes(self.most, deepcopy(self._sizes), list(self._largest))

    def found(self, limit: float, reach: float) -> tuple[int, int | None]:
        """How many are spikes, larger than the limit and within reach; and the row of the first.

        Parameters
        ----------
        limit : what noise reaches.
        reach : what lies further off is another fault.
        """
        sizes, occurrences = self._sizes.pairs()
        many = int(occurrences[(sizes > limit) & (sizes <= reach)].sum())
        known = [(row, quiet) for size, row, quiet in self._largest if limit < -size <= reach]
        rows = [row for row, quiet in known if quiet]
        # More than are kept are as most of those are.
        others = many - len(known) if 2 * len(rows) > len(known) else 0
        return len(rows) + others, min(rows, default=None)
