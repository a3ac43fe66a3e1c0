"""Collecting a survey batch by batch, in constant memory."""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from ..containers import as_samples
from ..laws.raw_edge import Counts
from ..numerics import AnyArray
from ..result import refuses
from .blocks import MOST as BLOCKS
from .blocks import Blocks, noise_of
from .distribution import Distribution, core_of, rescaled
from .running_statistics import MOST as MEANS
from .running_statistics import BlockSums
from .spikes import COUNTS, LARGEST, NOISES, WINDOW, Spikes, isolated_in
from .survey import OffScale, Stretch, Survey, in_units, stepped

#: The fraction of samples that robust ends leave out on each side.
STRAY = 1e-3

#: What is further off is nobody's sample.
FURTHEST = 2.0**60
#: Steps that the digits of a float can distinguish.
DIGITS = 1e15

#: Counts below these leave room in 16 or 32 bits for second differences: half the memory is half
#: the time.
NARROW = ((np.int16, 2**13), (np.int32, 2**26))

#: So much of the noise of the noisiest tenth counts for what spikes are.
ROUGH = 0.8
#: A step of this part of the range is a leap.
LEAP = 16
#: Samples that are kept for what follows: a spike is told by those on each side.
TAIL = 2 * WINDOW + 2
#: This many columns have all blocks of samples that noise is told from; more share their room.
MANY = 32


class _BatchRows:
    """The rows of a batch's samples. Few are asked for, so none is made for the others."""

    def __init__(self, first: int, there: AnyArray | None = None) -> None:
        """first: of the batch. there: which of its rows have samples; None if all do."""
        self._first, self._there = first, there

    def of(self, samples: AnyArray) -> AnyArray:
        """The rows of these samples, by their numbers."""
        rows = samples if self._there is None else self._there[samples]
        return self._first + rows

    def row(self, sample: int) -> int:
        """The row of a sample."""
        return self._first + (sample if self._there is None else int(self._there[sample]))


@dataclass
class Surveyor:
    """Collects a survey batch by batch; any batch size gives the same survey.

    Attributes
    ----------
    lowest, highest : ends of the raw edge, infinite where they are not known.
    resolution : the step of the raw values if it is known, else 0: found out.
    lsb : what one LSB is at least, where that is known: of counts whose high bits are repeated it
        is more than any of their differences shows.
    """

    lowest: float = -math.inf
    highest: float = math.inf
    resolution: float = 0.0
    lsb: float = 0.0
    rows: int = 0
    missing: int = 0
    step: float = 0.0
    """What is counted, in the unit of the samples."""
    distribution: Distribution = field(default_factory=Distribution)
    blocks: Blocks = field(default_factory=Blocks)
    _means: BlockSums = field(default_factory=BlockSums)
    _spikes: Spikes = field(default_factory=Spikes)
    _beyond: OffScale | None = None
    _tail: list[int] = field(default_factory=list)
    """The last samples, as far as they follow on one another, and the row of the last."""
    _last: int = 0
    _run: Stretch | None = None
    _longest: dict[int, Stretch] = field(default_factory=dict)
    """The longest stretch anywhere (key 0), and at the smallest (−1) and largest (1) count."""
    _jumps: dict[int, tuple[int, AnyArray]] = field(default_factory=dict)
    """The smallest (−1) and largest (1) count, and how often it was entered by jumps of each number
    of bits."""

    def keep_less(self, columns: int) -> None:
        """Keep fewer blocks, means and spikes where a log has many columns."""
        part = min(1.0, MANY / columns)
        self.blocks.most = max(8, int(BLOCKS * part))
        self._means.most = max(256, int(MEANS * part))
        self._spikes.most = max(16, int(LARGEST * part))

    def add(self, samples: AnyArray, missing: AnyArray | None = None) -> None:
        """Take a batch of numbers; missing is True where there is no sample, as NaN is too."""
        if not samples.size:
            return
        first = self.rows
        self.rows += samples.size
        if samples.dtype.kind == "f":
            gone = np.isnan(samples)
            if gone.any():
                missing = gone if missing is None else missing | gone
        elif samples.dtype.kind != "i":
            samples = np.minimum(samples.astype(np.uint64), np.uint64(2**62)).astype(np.int64)
        if missing is not None and missing.any():
            self.missing += int(missing.sum())
        else:
            missing = None
        missing = self._off_scale(samples, missing, first)
        if missing is not None and missing.all():
            counts: AnyArray = np.zeros(samples.size, np.int64)
        else:
            counts = self._in_steps(samples, missing)
        self.blocks.add(counts, missing)
        if missing is None:
            if counts.size:
                self._take(counts, _BatchRows(first), None)
            return
        rows = np.flatnonzero(~missing)
        if missing[0]:
            self._break()
        if rows.size:
            self._take(counts[rows], _BatchRows(first, rows), np.diff(rows, prepend=0) == 1)
        if missing[-1]:
            self._break()

    def _off_scale(
        self, samples: AnyArray, missing: AnyArray | None, first: int
    ) -> AnyArray | None:
        """What is missing, with all that lies beyond the range or is infinite."""
        lowest, highest = max(self.lowest, -FURTHEST), min(self.highest, FURTHEST)
        there = samples if missing is None else samples[~missing]
        if not there.size or (there.min() >= lowest and there.max() <= highest):
            return missing
        beyond = (samples < lowest) | (samples > highest)
        if missing is not None:
            beyond &= ~missing
        rows = np.flatnonzero(beyond)
        values = samples[rows].astype(np.float64)
        middle = 0.5 * (lowest + highest)
        i = int(np.argmax(np.abs(values - middle)))
        worst = OffScale(rows.size, float(values[i]), first + int(rows[i]))
        known = self._beyond
        if known is not None:
            further = abs(worst.furthest - middle) > abs(known.furthest - middle)
            worst = replace(worst if further else known, samples=known.samples + rows.size)
        self._beyond = worst
        return beyond if missing is None else missing | beyond

    def _in_steps(self, samples: AnyArray, missing: AnyArray | None) -> AnyArray:
        """The samples as whole numbers of steps; the step becomes finer where they need it."""
        there = samples if missing is None else samples[~missing]
        if not self.step:
            known = self.resolution
            self.step = known if known and _are_multiples(there, known) else 1.0
        if samples.dtype.kind == "f" or self.step != 1.0:
            low, high = self.distribution.smallest or 0, self.distribution.largest or 0
            largest = max(float(np.abs(there).max(initial=0.0)), max(-low, high) * self.step)
            finer, coarser = _finer(there, self.step, largest), 1
            while largest / self.step * finer > coarser * FURTHEST:
                coarser *= 10  # so far a smaller one has had all the digits
            if finer > 1 or coarser > 1:
                self.step *= coarser / finer
                self._scaled(finer, coarser)
            if missing is not None:
                samples = np.where(missing, 0, samples)
            whole = round(1 / self.step)
            exact = abs(whole * self.step - 1) < 1e-9
            steps = samples * np.float64(whole) if exact else samples / self.step
            return np.rint(np.clip(steps, -FURTHEST, FURTHEST)).astype(np.int64)
        if missing is not None:
            samples = np.where(missing, there[0], samples)
        kind, most = NARROW[-1]
        if samples.dtype.itemsize == 8 and samples.min() > -most and samples.max() < most:
            return samples.astype(kind)
        return samples

    def _scaled(self, by: int, over: int) -> None:
        """What is counted is now a finer step (by), or a coarser one (over)."""
        for part in (self.distribution, self.blocks, self._means, self._spikes):
            part.scaled(by, over)
        self._tail = [rescaled(count, by, over) for count in self._tail]

        def moved(stretch: Stretch) -> Stretch:
            return replace(stretch, count=rescaled(int(stretch.count), by, over))

        self._run = self._run and moved(self._run)
        self._longest = {key: moved(stretch) for key, stretch in self._longest.items()}
        bits = by.bit_length() - over.bit_length()  # a jump has as many bits more
        for key, (count, jumps) in self._jumps.items():
            at = np.clip(np.arange(64) + bits, 0, 63)
            jumps = np.bincount(at, jumps, 64).astype(np.int64)
            self._jumps[key] = rescaled(count, by, over), jumps

    def _break(self) -> None:
        self._spikes.add_last(self._tail, self._last)
        self._tail = []
        self._end_run()

    def _take(self, counts: AnyArray, rows: _BatchRows, joined: AnyArray | None) -> None:
        """Samples and their rows. joined: which follow directly on the one before, the first of
        all left aside; None where all do."""
        self.distribution.add(counts)
        low, high = self.distribution.smallest or 0, self.distribution.largest or 0
        reach = max(-low, high, *map(abs, self._tail))
        kind = next((kind for kind, most in NARROW if reach < most), np.int64)
        counts = counts.astype(kind, copy=False)
        self._means.add(counts)
        before = np.array(self._tail, kind)
        x, n = np.concatenate((before, counts)), before.size
        follows = None
        if joined is not None:
            follows = np.concatenate((np.arange(n) > 0, [n > 0], joined[1:]))
        step = np.diff(x)
        same = step[x.size - counts.size :] == 0
        self._runs(counts, np.flatnonzero(same if joined is None else same & joined[1:]), rows)
        self._at_extremes(counts, step[x.size - counts.size - (n > 0) :], rows)
        unbroken = 0 if follows is None else int(np.flatnonzero(~follows)[-1])
        # What so many follow on, or a gap; the others wait.
        isolated = isolated_in(x, step, follows, n - WINDOW, max(x.size - WINDOW, unbroken))
        places = isolated[1]
        # Places before the batch are rows directly before its first.
        at = np.where(places < n, rows.row(0) - n + places, rows.of(np.maximum(places - n, 0)))
        self._spikes.add(x, follows, isolated, at)
        self._tail = x[max(unbroken, x.size - TAIL) :].tolist()
        self._last = rows.row(counts.size - 1)

    def _extremes(self) -> tuple[tuple[int, int], ...]:
        smallest, largest = self.distribution.smallest, self.distribution.largest
        return () if smallest is None or largest is None else ((-1, smallest), (1, largest))

    def _runs(self, counts: AnyArray, same: AnyArray, rows: _BatchRows) -> None:
        """Stretches at one count; the first may go on from the batch before, the last into the
        next. same: where a sample is followed by its like: few, mostly."""
        firsts = (
            np.concatenate(([0], np.flatnonzero(np.diff(same) != 1) + 1)) if same.size else same
        )
        starts = same[firsts]
        lengths = np.diff(np.concatenate((firsts, [same.size]))) + 1
        head = int(lengths[0]) if starts.size and starts[0] == 0 else 1
        if self._run is None or self._run.count != counts[0]:
            self._end_run()
            self._run = Stretch(0, int(counts[0]), rows.row(0))
        self._run = replace(self._run, length=self._run.length + head)
        if head == counts.size:
            return
        self._end_run()
        if lengths.size:
            i = int(np.argmax(lengths))
            start = int(starts[i])
            self._consider(0, Stretch(int(lengths[i]), int(counts[start]), rows.row(start)))
        reaches_end = starts.size and starts[-1] + lengths[-1] == counts.size
        tail = int(lengths[-1]) if reaches_end else 1
        self._run = Stretch(tail, int(counts[-1]), rows.row(counts.size - tail))

    def _at_extremes(self, counts: AnyArray, step: AnyArray, rows: _BatchRows) -> None:
        """The longest stretch at the smallest and at the largest count of all, but for those that
        the batch begins and ends with; and by which steps they were reached."""
        for key, extreme in self._extremes():
            there = np.flatnonzero(counts == extreme)
            if not there.size:
                continue
            at = rows.of(there)
            self._consider(key, Stretch(1, extreme, int(at[0])))
            # Rows that follow on one another are one stretch.
            firsts = np.concatenate(([0], np.flatnonzero(np.diff(at) != 1) + 1))
            lengths = np.diff(firsts, append=there.size)
            i = int(np.argmax(lengths))
            self._consider(key, Stretch(int(lengths[i]), extreme, int(at[firsts[i]])))
            known, jumps = self._jumps.get(key, (extreme, np.zeros(64, np.int64)))
            if known != extreme:
                jumps = np.zeros(64, np.int64)
            taken = there[firsts] + step.size - counts.size  # the step to the first of a stretch
            sizes = np.abs(step[taken[taken >= 0]]).astype(np.float64)
            bits = np.frexp(sizes[sizes > 0])[1]
            self._jumps[key] = extreme, jumps + np.bincount(bits, minlength=64)

    def _consider(self, key: int, stretch: Stretch) -> None:
        known = self._longest.get(key)
        stale = known is not None and key and known.count != stretch.count
        if known is None or stale or stretch.length > known.length:
            self._longest[key] = stretch

    def _end_run(self) -> None:
        if self._run is not None:
            run, self._run = self._run, None
            self._consider(0, run)
            for key, extreme in self._extremes():
                if run.count == extreme:
                    self._consider(key, run)

    def survey(
        self,
        ends: tuple[float, float] | None = None,
        unit: str = "count",
        top: float | None = None,
    ) -> Survey:
        """The survey so far, held against the ends of the raw edge.

        Parameters
        ----------
        ends : those of the raw edge; None for those that are known.
        unit : of the samples.
        top : the largest that can be, where that is less than the high end: of left-scaled counts.
        """
        step = self.step or 1.0
        lowest, highest = ends or (self.lowest, self.highest)
        if top is None:
            top = highest - (self.distribution.divisor - 1 if unit == "count" else 0)
        found = self._found(lowest / step, highest / step, top / step)
        return in_units(found, step, unit)

    @property
    def core(self) -> tuple[float, float]:
        """The ends of what is not apart from all others."""
        low, high = core_of(self.distribution)
        step = self.step or 1.0
        return float(stepped(low, step)), float(stepped(high, step))

    def _found(self, lowest: float, highest: float, top: float) -> Survey:
        going = self._run
        self._end_run()
        self._run = going
        core = core_of(self.distribution)
        # Without a range, what is apart is off the scale; within one, it may be a spike.
        ends = (
            core[0] if math.isinf(lowest) else min(lowest, core[0]),
            core[1] if math.isinf(highest) else max(highest, core[1]),
        )
        found = self.distribution.between(*ends)
        of_core = self.distribution.between(*core)
        lsb = max(found.divisor, round(self.lsb / (self.step or 1.0)))
        found_noise = noise_of(self.blocks, ends, lsb)
        noise, noisiest = found_noise.whole, found_noise.noisiest
        stuck = self._longest.get(0)
        still = stuck.length / self.rows if stuck else 0.0
        # Where only a part of the log is noisy, what is usual there is no spike.
        rough = 0.0 if math.isnan(noisiest) else max(ROUGH * noisiest, noise)
        limit = max(COUNTS * lsb, NOISES * rough)
        span = ends[1] - ends[0] if math.isfinite(ends[1] - ends[0]) else math.inf
        smallest, largest = found.smallest, found.largest
        reach = min(span, largest - smallest) if smallest is not None and largest is not None else 0
        isolated = self._spikes.copy()
        isolated.add_last(self._tail, self._last)
        spikes, spike_row = isolated.found(limit, reach)
        on_rail = (s for s in self._longest.values() if s.count == lowest or s.count >= top)
        rails = [s for s in on_rail if s.count <= highest]
        values, occurrences = found.pairs()
        on_high = int(occurrences[values >= top].sum()) if math.isfinite(top) else 0
        deviation = found.standard_deviation
        return Survey(
            rows=self.rows,
            missing=self.missing,
            smallest=math.nan if smallest is None else smallest,
            largest=math.nan if largest is None else largest,
            low_end=of_core.quantile(STRAY),
            high_end=of_core.quantile(1 - STRAY),
            mean=found.mean,
            median=found.median,
            standard_deviation=deviation,
            noise=noise,
            distinct=found.distinct,
            lsb=lsb,
            stuck=stuck,
            spikes=spikes,
            lowest=lowest,
            highest=highest,
            on_low_rail=found.fraction_at(lowest) if math.isfinite(lowest) else 0.0,
            on_high_rail=on_high / max(found.total, 1),
            rail_stretch=max(rails, key=lambda s: s.length, default=None),
            distribution=found,
            known=self._means.known(deviation, ends, lsb),
            off_scale=self._all_off_scale(ends),
            spike_row=spike_row,
            sudden=(self._sudden(-1, lowest, ends), self._sudden(1, top, ends)),
            calm_noise=found_noise.calmest(still, lsb),
        )

    def _sudden(self, key: int, rail: float, ends: tuple[float, float]) -> bool:
        """Whether a rail is reached by leaps, most times, and not by moving there."""
        extreme, jumps = self._jumps.get(key, (None, np.zeros(64)))
        if extreme is None or key * extreme < key * rail or not jumps.sum():
            return False
        large = max(2.0, (ends[1] - ends[0]) / LEAP)
        return bool(jumps[math.frexp(large)[1] :].sum() >= 0.5 * jumps.sum())

    def _all_off_scale(self, ends: tuple[float, float]) -> OffScale | None:
        """What was left out as it came, and what is left out now."""
        values, occurrences = self.distribution.pairs()
        out = (values < ends[0]) | (values > ends[1])
        if not out.any():
            return self._beyond
        side = -1 if ends[0] - values[0] > values[-1] - ends[1] else 1
        extreme = values[0] if side < 0 else values[-1]
        stretch = self._longest.get(side) or Stretch(1, float(extreme), 0)
        furthest = float(stepped(float(extreme), self.step or 1.0))
        found = OffScale(int(occurrences[out].sum()), furthest, stretch.row)
        known = self._beyond
        return found if known is None else replace(known, samples=known.samples + found.samples)


def _are_multiples(values: AnyArray, step: float) -> bool:
    """Whether values are whole numbers of steps, as far as their digits go."""
    steps = values / step
    exact = np.finfo(values.dtype).eps if values.dtype.kind == "f" else np.finfo(np.float64).eps
    room = 1e-9 * min(1.0, float(np.abs(steps).max(initial=0.0)))  # all of them may be that small
    return bool(np.all(np.abs(steps - np.rint(steps)) <= room + 4 * exact * np.abs(steps)))


def _finer(values: AnyArray, step: float, largest: float) -> int:
    """By which power of ten a step must be divided so that all values are whole numbers of it; no
    more than the digits of the largest of all allow."""
    finer = 1
    while not _are_multiples(values, step / finer) and largest / step * finer < DIGITS:
        finer *= 10
    return finer


@refuses
def survey(counts: Any, bits: int, signed: bool = False) -> Survey:
    """Survey an array of counts against a converter of this many bits.

    Parameters
    ----------
    counts : array, masked array, Series or sequence
        Counts, shape (n,). What is missing (masked, null, NaN) or beyond the range is left out of
        every figure, and counted.
    bits : int
        Bits of the converter.
    signed : bool, default False
        Whether it gives two's complement.

    Returns
    -------
    Survey
        What the samples do.

    Examples
    --------
    >>> import jetruler as jr
    >>> import numpy as np
    >>> found = jr.survey(np.arange(100, 200), bits=12)
    >>> found.smallest, found.largest
    (100, 199)
    """
    edge = Counts(bits, signed=signed)
    surveyor = Surveyor(edge.lowest, edge.highest)
    surveyor.add(*as_samples(counts))
    return surveyor.survey()
