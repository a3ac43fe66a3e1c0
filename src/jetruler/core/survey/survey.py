"""What raw samples do: ends, noise, rails, stuck stretches, spikes; in one pass."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from ..numerics import AnyArray
from ..result import Content, Result, TextTable, public_fields
from ..ruler.units import symbol
from .running_statistics import BlockSums, Histogram, MeanKnown

#: The fraction of samples that robust ends leave out on each side.
STRAY = 1e-3

#: Counts beyond this are taken for this.
FURTHEST = 2**40

#: Counts below this leave room in 32 bits for eight times a difference.
NARROW = 2**26

#: A spike is this many times the noise off both its neighbours, and at least so many counts.
SPIKE_NOISES, SPIKE_COUNTS = 8.0, 4.0


@dataclass(frozen=True)
class Stretch:
    """Successive samples at one count: how many, the count, and the row of the first."""

    length: int
    count: float
    row: int


@dataclass(frozen=True, repr=False)
class Survey(Result):
    """What the samples of one column do. Counts throughout; NaN where there is nothing to say.

    Attributes
    ----------
    rows : int
        Rows, with those without a sample.
    missing : int
        Rows without a sample.
    smallest : float
        Smallest count.
    largest : float
        Largest count.
    low_end, high_end : float
        The ends without a few strays.
    mean : float
        Of the counts.
    median : float
        Of the counts.
    standard_deviation : float
        Of the counts.
    noise : float
        Standard deviation of one sample round the slow movement, without the fraction that
        rounding to whole counts adds.
    distinct : int
        How many different counts.
    lsb : int
        Greatest common divisor of all counts.
    stuck : Stretch | None
        Longest stretch of one and the same count.
    spikes : int
        Isolated excursions of one sample.
    lowest, highest : int
        The rails of the converter it is held against.
    on_low_rail : float
        Fraction of the samples on the low rail.
    on_high_rail : float
        Fraction of the samples on the high rail.
    rail_stretch : Stretch | None
        Longest stretch on a rail.
    histogram : Histogram, optional
        How often each whole number of steps came up.
    step : float, default 1.0
        What one of those steps is, in `unit`.
    unit : str, default "count"
        Unit of all these figures.
    known : MeanKnown
        What the mean is known to: its 95 % interval, and how many samples are independent.

    Examples
    --------
    >>> import jetruler as jr
    >>> import numpy as np
    >>> jr.survey(np.array([3, 5, 4, 5]), bits=12).distinct
    3
    """

    rows: int
    missing: int
    smallest: float
    largest: float
    low_end: float
    high_end: float
    mean: float
    median: float
    standard_deviation: float
    noise: float
    distinct: int
    lsb: float
    stuck: Stretch | None
    spikes: int
    lowest: float
    highest: float
    on_low_rail: float
    on_high_rail: float
    rail_stretch: Stretch | None
    histogram: Histogram = field(repr=False, compare=False)
    step: float = 1.0
    unit: str = "count"
    known: MeanKnown = field(default_factory=MeanKnown)

    @property
    def headline(self) -> str:
        row = dict(zip(SURVEY_HEADINGS, self.row(""), strict=True))
        figures = (f"{name} {row[name]}" for name in ("ends", "noise", "codes"))
        return f"{self.samples} samples, {', '.join(figures)}"

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        return {name.replace("_", " "): [getattr(self, name)] for name in FIGURES}

    @property
    def content(self) -> Content:
        return [TextTable(SURVEY_HEADINGS, [self.row("")])]

    def _fields(self) -> Mapping[str, Any]:
        fields = public_fields(self)
        del fields["histogram"], fields["known"]
        return fields | {
            "range_fraction": self.range_fraction,
            "effective_bits": self.effective_bits,
            "independent": self.known.independent,
            "mean_half_width": self.known.half_width,
        }

    def row(self, name: str, bits: str = "") -> list[str]:
        """Its row below `SURVEY_HEADINGS`. bits: how many there are, as it is said."""
        if self.unit not in ("count", "1"):
            name = f"{name} in {symbol(self.unit)}".strip()
        places = max(0, round(-math.log10(self.step)))
        ends = (self.smallest, self.largest), (self.low_end, self.high_end)
        spans = [f"{a:.{places}f} … {b:.{places}f}" if self.samples else "–" for a, b in ends]
        of = f" of {bits}" if bits else ""
        effective, used = self.effective_bits, self.range_fraction
        return [
            name,
            str(self.missing),
            *spans,
            *map(_short, (self.mean, self.median, self.standard_deviation, self.noise)),
            "–" if math.isnan(effective) else f"{effective:.1f}{of}",
            "–" if math.isnan(used) else f"{used:.0%}",
            str(self.distinct),
        ]

    @property
    def samples(self) -> int:
        """Rows that are not missing."""
        return self.rows - self.missing

    def pairs(self) -> tuple[AnyArray, AnyArray]:
        """Return the raw values that came up, ascending, and how often each did."""
        steps, occurrences = self.histogram.pairs()
        return (steps if self.step == 1.0 else stepped(steps, self.step)), occurrences

    @property
    def range_fraction(self) -> float:
        """Fraction of the range between the robust ends; NaN where the range is not known."""
        if not math.isfinite(self.highest - self.lowest):
            return math.nan
        return (self.high_end - self.low_end) / (self.highest - self.lowest)

    @property
    def effective_bits(self) -> float:
        """Bits of an ideal converter of this range whose rounding is as large as the noise and
        the rounding here: log2(range / (√12 · u)). NaN for samples that are all the same: they
        show neither noise nor steps."""
        if self.distinct < 2:
            return math.nan
        u = math.sqrt(self.noise**2 + self.lsb**2 / 12)
        span = self.highest - self.lowest + self.step
        return math.log2(span / (math.sqrt(12) * u)) if math.isfinite(span) else math.nan


#: The headings of a table of surveys, and the figures of its frame.
SURVEY_HEADINGS = (
    *("column", "missing", "ends", "robust ends", "mean", "median", "std dev"),
    *("noise", "bits", "range", "codes"),
)
FIGURES = (
    *("samples", "smallest", "largest", "mean", "standard_deviation"),
    *("noise", "effective_bits"),
)


def _short(x: float) -> str:
    return "–" if math.isnan(x) else f"{x:.0f}" if abs(x) >= 1000 else f"{x:.4g}"


@dataclass
class Surveyor:
    """Collects a survey batch by batch; any batch size gives the same survey."""

    rows: int = 0
    missing: int = 0
    histogram: Histogram = field(default_factory=Histogram)
    _means: BlockSums = field(default_factory=BlockSums)
    _curvature: Histogram = field(default_factory=Histogram)
    """|x₊ − 2x + x₋|: slow movement cancels, noise stays (its variance sixfold)."""
    _isolated: Histogram = field(default_factory=Histogram)
    """How far samples are off neighbours that agree with one another."""
    _tail: list[int] = field(default_factory=list)
    _run: Stretch | None = None
    _longest: dict[int, Stretch] = field(default_factory=dict)
    """The longest stretch anywhere (key 0), and at the smallest (−1) and largest (1) count."""

    def add(self, counts: AnyArray, missing: AnyArray | None = None) -> None:
        """Take a batch of whole counts; missing is True where there is no sample."""
        first = self.rows
        self.rows += counts.size
        if counts.dtype.itemsize == 8 and counts.size:
            if counts.min() > -NARROW and counts.max() < NARROW:
                counts = counts.astype(np.int32)  # half the memory is half the time
            else:  # no converter gives more: room for sums and differences
                counts = np.clip(counts, -FURTHEST, FURTHEST)
        if missing is not None and missing.any():
            self.missing += int(missing.sum())
            # Differences do not reach over a hole.
            starts = np.flatnonzero(np.diff(np.concatenate(([True], missing))) & ~missing)
            ends = np.flatnonzero(np.diff(np.concatenate((missing, [True]))) & ~missing) + 1
            for start, end in zip(starts.tolist(), ends.tolist(), strict=True):
                if start:
                    self._break()
                self._piece(counts[start:end], first + start)
            if missing[-1]:
                self._break()
        elif counts.size:
            self._piece(counts, first)

    def _break(self) -> None:
        self._tail = []
        self._end_run()

    def _piece(self, counts: AnyArray, row: int) -> None:
        """Successive samples, the first of them at a row."""
        low, high = self.histogram.add(counts)
        self._means.add(counts)
        if max(-low, high) >= NARROW and counts.dtype.itemsize < 8:
            counts = counts.astype(np.int64)
        try:
            tail = np.array(
                self._tail, dtype=counts.dtype
            )  # narrow counts stay narrow: it is faster
        except OverflowError:
            tail = np.array(self._tail, dtype=np.int64)
        x = np.concatenate((tail, counts))
        self._tail = x[-2:].tolist()
        step = np.diff(x)
        self._runs(counts, step[x.size - counts.size :], row)
        if x.size < 3:
            return
        curvature = np.abs(np.diff(step))
        self._curvature.add(curvature)
        across = np.abs(x[2:] - x[:-2])
        across *= 8
        isolated = curvature[across <= curvature]
        self._isolated.add(isolated[isolated > 2 * SPIKE_COUNTS] // 2)

    def _runs(self, counts: AnyArray, step: AnyArray, row: int) -> None:
        """Stretches at one count; the first may go on from the piece before, the last into the
        next."""
        same = np.flatnonzero(step == 0)  # where a sample is followed by its like: few, mostly
        firsts = (
            np.concatenate(([0], np.flatnonzero(np.diff(same) != 1) + 1)) if same.size else same
        )
        starts = same[firsts]
        lengths = np.diff(np.concatenate((firsts, [same.size]))) + 1
        head = int(lengths[0]) if starts.size and starts[0] == 0 else 1
        if self._run is None or self._run.count != counts[0]:
            self._end_run()
            self._run = Stretch(0, int(counts[0]), row)
        self._run = replace(self._run, length=self._run.length + head)
        if head == counts.size:
            return
        self._end_run()
        if lengths.size:
            i = int(np.argmax(lengths))
            start = int(starts[i])
            self._consider(0, Stretch(int(lengths[i]), int(counts[start]), row + start))
        self._at_extremes(counts, starts, lengths, row)
        reaches_end = starts.size and starts[-1] + lengths[-1] == counts.size
        tail = int(lengths[-1]) if reaches_end else 1
        self._run = Stretch(tail, int(counts[-1]), row + counts.size - tail)

    def _at_extremes(self, counts: AnyArray, starts: AnyArray, lengths: AnyArray, row: int) -> None:
        """The longest stretch at the smallest and at the largest count of all."""
        for key, extreme in ((-1, self.histogram.smallest), (1, self.histogram.largest)):
            there = np.flatnonzero(counts == extreme)
            if there.size:
                self._consider(key, Stretch(1, int(extreme or 0), row + int(there[0])))
                of_these = np.flatnonzero(counts[starts] == extreme)
                if of_these.size:
                    i = int(of_these[np.argmax(lengths[of_these])])
                    start = int(starts[i])
                    self._consider(key, Stretch(int(lengths[i]), int(extreme or 0), row + start))

    def _consider(self, key: int, stretch: Stretch) -> None:
        known = self._longest.get(key)
        stale = known is not None and key and known.count != stretch.count
        if known is None or stale or stretch.length > known.length:
            self._longest[key] = stretch

    def _end_run(self) -> None:
        if self._run is not None:
            run, self._run = self._run, None
            self._consider(0, run)
            for key, extreme in ((-1, self.histogram.smallest), (1, self.histogram.largest)):
                if run.count == extreme:
                    self._consider(key, run)

    def survey(
        self, lowest: float, highest: float, step: float = 1.0, unit: str = "count"
    ) -> Survey:
        """The survey so far, held against the ends of the raw edge.

        Parameters
        ----------
        lowest, highest : in `unit`, infinite where they are not known.
        step : what a whole number that was added stands for, in `unit`.
        """
        lowest, highest = lowest / step, highest / step
        return _in_units(self._in_steps(lowest, highest), step, unit)

    def _in_steps(self, lowest: float, highest: float) -> Survey:
        going = self._run
        self._end_run()
        self._run = going
        histogram = self.histogram
        counts, _ = histogram.pairs()
        lsb = int(np.gcd.reduce(counts)) or 1 if counts.size else 1
        noise = noise_of(self._curvature, lsb)
        sizes, occurrences = self._isolated.pairs()
        limit = max(SPIKE_COUNTS, SPIKE_NOISES * (0 if math.isnan(noise) else noise))
        ends = [round(end) for end in (lowest, highest) if math.isfinite(end)]
        rails = [s for s in self._longest.values() if s.count in ends]
        return Survey(
            rows=self.rows,
            missing=self.missing,
            smallest=math.nan if histogram.smallest is None else histogram.smallest,
            largest=math.nan if histogram.largest is None else histogram.largest,
            low_end=histogram.quantile(STRAY),
            high_end=histogram.quantile(1 - STRAY),
            mean=histogram.mean,
            median=histogram.quantile(0.5),
            standard_deviation=histogram.standard_deviation,
            noise=noise,
            distinct=counts.size,
            lsb=lsb,
            stuck=self._longest.get(0),
            spikes=int(occurrences[sizes > limit].sum()),
            lowest=lowest,
            highest=highest,
            on_low_rail=_fraction_at(histogram, lowest),
            on_high_rail=_fraction_at(histogram, highest),
            rail_stretch=max(rails, key=lambda s: s.length, default=None),
            histogram=histogram,
            known=self._means.known(histogram.standard_deviation),
        )


def _fraction_at(histogram: Histogram, end: float) -> float:
    return histogram.fraction_at(round(end)) if math.isfinite(end) else 0.0


def stepped(steps: AnyArray | float, step: float) -> Any:
    """Return whole numbers of steps as raw values, as near as decimals can be."""
    whole = round(1 / step)
    return steps / whole if abs(whole * step - 1) < 1e-9 else steps * step


def _in_units(found: Survey, step: float, unit: str) -> Survey:
    """A survey in steps as one in the unit of the raw values."""
    if step == 1.0:
        return replace(found, unit=unit)

    def scaled(stretch: Stretch | None) -> Stretch | None:
        return stretch and replace(stretch, count=stepped(stretch.count, step))

    names = "smallest largest low_end high_end mean median standard_deviation noise lsb"
    figures = {n: stepped(getattr(found, n), step) for n in (*names.split(), "lowest", "highest")}
    stuck, rail = scaled(found.stuck), scaled(found.rail_stretch)
    known = replace(found.known, half_width=found.known.half_width * step)
    return replace(
        found, **figures, stuck=stuck, rail_stretch=rail, step=step, unit=unit, known=known
    )


def noise_of(curvature: Histogram, lsb: int = 1) -> float:
    """Noise in counts from second differences, with jumps and spikes trimmed off.

    For independent noise of variance s² the second difference has 6 s²; rounding to whole steps
    adds lsb²/12 to the variance of a sample, which is taken off again (Sheppard's correction).
    NaN for fewer than three samples in a row.
    """
    sizes, occurrences = curvature.pairs()
    if not sizes.size:
        return math.nan
    squares = sizes.astype(np.float64) ** 2
    scale = 1.4826 * curvature.quantile(0.5) + lsb
    for _ in range(50):
        inside = sizes <= 4.0 * scale
        rms = math.sqrt(
            float(squares[inside] @ occurrences[inside]) / float(occurrences[inside].sum())
        )
        if abs(rms - scale) <= 1e-9 * scale:
            break
        scale = max(rms, 0.5 * lsb)
    return math.sqrt(max(rms**2 / 6 - lsb**2 / 12, 0.0))


def survey(counts: AnyArray, bits: int, signed: bool = False) -> Survey:
    """Survey an array of whole counts against a converter of so many bits.

    Parameters
    ----------
    counts : array
        Whole counts, shape (n,).
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
    surveyor = Surveyor()
    surveyor.add(np.ascontiguousarray(counts, dtype=np.int64).reshape(-1))
    lowest = -(2 ** (bits - 1)) if signed else 0
    return surveyor.survey(lowest, lowest + 2**bits - 1)
