"""What raw samples do: ends, noise, rails, stuck stretches, spikes; in one pass."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from ..numerics import AnyArray
from ..result import Content, Result, TextTable, public_fields
from ..ruler.units import brief, many, number, symbol
from .distribution import Distribution
from .running_statistics import MeanKnown


@dataclass(frozen=True)
class Stretch:
    """Successive samples at one count: how many, the count, and the row of the first."""

    length: int
    count: float
    row: int


@dataclass(frozen=True)
class OffScale:
    """Samples that are none: beyond the range, or apart from all others by more than their span.

    Attributes
    ----------
    samples : int
        How many.
    furthest : float
        The one that is furthest off.
    row : int
        Its row, counted from 0.
    """

    samples: int
    furthest: float
    row: int


@dataclass(frozen=True, eq=False, repr=False)
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
        Greatest common divisor of all counts: the resolution that they show.
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
    distribution : Distribution
        How often each whole number of steps came up.
    step : float, default 1.0
        What one of those steps is, in `unit`.
    unit : str, default "count"
        Unit of all these figures.
    known : MeanKnown
        What the mean is known to: its 95 % interval, and how many samples are independent.
    off_scale : OffScale | None
        Samples that are left out of all figures: beyond the range, or, where that is not known,
        apart from all others by more than their whole span.
    spike_row : int | None
        Row of the first spike.
    sudden : tuple[bool, bool]
        Whether the low and the high rail are reached by leaps, as when a wire comes off, and not
        by moving there.
    calm_noise : float
        Noise of the calmest tenth of the log, beside its longest stretch of one count.

    Examples
    --------
    >>> import jetruler as jr
    >>> import numpy as np
    >>> jr.survey(np.array([3, 5, 4, 5]), bits=12).distinct
    3
    """

    rows: int
    """Rows, with those without a sample."""
    missing: int
    """Rows without a sample."""
    smallest: float
    """Smallest count."""
    largest: float
    """Largest count."""
    low_end: float
    """The ends without a few strays."""
    high_end: float
    """The ends without a few strays."""
    mean: float
    """Of the counts."""
    median: float
    """Of the counts."""
    standard_deviation: float
    """Of the counts."""
    noise: float
    """Standard deviation of one sample round the slow movement, without the fraction that rounding
    to whole counts adds."""
    distinct: int
    """How many different counts."""
    lsb: float
    """Greatest common divisor of all counts: the resolution that they show."""
    stuck: Stretch | None
    """Longest stretch of one and the same count."""
    spikes: int
    """Isolated excursions of one sample."""
    lowest: float
    """The rails of the converter it is held against."""
    highest: float
    """The rails of the converter it is held against."""
    on_low_rail: float
    """Fraction of the samples on the low rail."""
    on_high_rail: float
    """Fraction of the samples on the high rail."""
    rail_stretch: Stretch | None
    """Longest stretch on a rail."""
    distribution: Distribution = field(repr=False, compare=False)
    """How often each whole number of steps came up."""
    step: float = 1.0
    """What one of those steps is, in `unit`."""
    unit: str = "count"
    """Unit of all these figures."""
    known: MeanKnown = field(default_factory=MeanKnown)
    """What the mean is known to: its 95 % interval, and how many samples are independent."""
    off_scale: OffScale | None = None
    """Samples that are left out of all figures: beyond the range, or, where that is not known,
    apart from all others by more than their whole span."""
    spike_row: int | None = None
    """Row of the first spike."""
    sudden: tuple[bool, bool] = (False, False)
    """Whether the low and the high rail are reached by leaps, as when a wire comes off, and not by
    moving there."""
    calm_noise: float = math.nan
    """Noise of the calmest tenth of the log, beside its longest stretch of one count."""

    @property
    def headline(self) -> str:
        row = dict(zip(SURVEY_HEADINGS, self.row(""), strict=True))
        figures = (f"{name} {row[name]}" for name in ("ends", "noise", "codes"))
        return f"{many(self.samples, 'sample')}, {', '.join(figures)}"

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        return {name.replace("_", " "): [getattr(self, name)] for name in FIGURES}

    @property
    def content(self) -> Content:
        return [TextTable(SURVEY_HEADINGS, [self.row("")])]

    def _fields(self) -> Mapping[str, Any]:
        fields = public_fields(self)
        del fields["distribution"], fields["known"]
        return fields | {
            "range_fraction": self.range_fraction,
            "effective_bits": self.effective_bits,
            "independent": self.known.independent,
            "mean_half_width": self.known.half_width,
            "why_no_interval": self.known.reason,
        }

    def row(self, name: str, bits: str = "") -> list[str]:
        """Its row below `SURVEY_HEADINGS`. bits: how many there are, in words."""
        if self.unit not in ("count", "1"):
            name = f"{name} in {symbol(self.unit)}".strip()
        places = max(0, round(-math.log10(self.step)))
        ends = (self.smallest, self.largest), (self.low_end, self.high_end)
        spans = [
            " … ".join(brief(f"{end:.{places}f}") for end in span).replace("-", "−")
            if self.samples
            else "–"
            for span in ends
        ]
        of = f" of {bits}" if bits else ""
        effective, used = self.effective_bits, self.range_fraction
        return [
            name,
            str(self.missing),
            *spans,
            *(self._with_places(x) for x in (self.mean, self.median)),
            *map(_short, (self.standard_deviation, self.noise)),
            "–" if math.isnan(effective) else f"{effective:.1f}{of}",
            "–" if math.isnan(used) else f"{used:.0%}",
            str(self.distinct),
        ]

    def _with_places(self, x: float) -> str:
        """A number with the places that the standard deviation has a meaning in."""
        deviation = self.standard_deviation
        if not deviation > 0 or math.isnan(x):
            return _short(x)
        places = 1 - math.floor(math.log10(deviation))
        places = min(places, 15 - math.floor(math.log10(abs(x)))) if x else places
        return brief(f"{x:.{max(0, places)}f}").replace("-", "−")

    @property
    def samples(self) -> int:
        """Rows that are neither missing nor off the scale."""
        return self.rows - self.missing - (self.off_scale.samples if self.off_scale else 0)

    def pairs(self) -> tuple[AnyArray, AnyArray]:
        """Return the raw values that came up, ascending, and how often each did."""
        steps, occurrences = self.distribution.pairs()
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
    if math.isnan(x):
        return "–"
    return (f"{x:.0f}" if abs(x) >= 1000 else number(x, 4)).replace("-", "−")


def stepped(steps: AnyArray | float, step: float) -> Any:
    """Return whole numbers of steps as raw values, as near as decimals can be."""
    whole = round(1 / step)
    return steps / whole if abs(whole * step - 1) < 1e-9 else steps * step


def in_units(found: Survey, step: float, unit: str) -> Survey:
    """A survey in steps as one in the unit of the raw values."""
    if step == 1.0:
        return replace(found, unit=unit)

    def scaled(stretch: Stretch | None) -> Stretch | None:
        return stretch and replace(stretch, count=stepped(stretch.count, step))

    names = "smallest largest low_end high_end mean median standard_deviation noise lsb calm_noise"
    figures = {n: stepped(getattr(found, n), step) for n in (*names.split(), "lowest", "highest")}
    stuck, rail = scaled(found.stuck), scaled(found.rail_stretch)
    known = replace(found.known, half_width=found.known.half_width * step)
    return replace(
        found, **figures, stuck=stuck, rail_stretch=rail, step=step, unit=unit, known=known
    )
