"""The questions of a comparison, judged together: does one series differ from another by an offset,
a gain, a bend, a delay or a drift?

The model: a = truth + offset + gain part + bend + drift + noise, delayed; b = truth + noise. All
questions are columns of one fit of the differences a − b. Each is asked at its share of one level,
so that any false answer at all has the chance 1 − `SURE`.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view

from ..numerics import Array, Truths, coverage_factor
from ..series import FEWEST_PAIRS, LongRun, hum, long_run_beside, noise_of

#: Any verdict on two equal sensors is a false one in one comparison of a hundred.
SURE = 0.99
#: The correlation of two series from which they are taken to see one movement.
TOGETHER = 0.9
#: The correlation, of either sign, without which no factor between two series is told.
ALIKE = 0.7
#: Pairs from which a bend, and a delay or a drift, are looked for.
FOR_BEND, FOR_TIME = 6, 40
#: What a column must keep of itself beside the others to be told from them.
OWN = 0.1


def without_spikes(a: Array, b: Array) -> tuple[Array, Array, int]:
    """The pairs, with a straight line across those that hold a sample which stands alone, away from
    those round it and from the other series; and how many that were. None where they would be more
    than one in ten, or where too few samples tell."""
    at, out = np.arange(a.size), np.zeros(a.size, np.bool_)
    whole, more = (a, b), out
    for _ in range(3):  # what is beside a larger one shows when that is gone
        if a.size >= FEWEST_PAIRS:
            more = _stands_out(a - b) & (_stands_out(a) | _stands_out(b)) & ~out
        if not np.any(more):
            break
        out = out | more
        a, b = (np.interp(at, at[~out], series[~out]) for series in whole)
    many = int(np.count_nonzero(out))
    return (a, b, many) if many <= 0.1 * a.size else (*whole, 0)


#: Robust standard deviations beyond which a sample stands out.
FAR = 6.0


def _stands_out(samples: Array) -> Truths:
    """Which samples are far off the median of the five round them, which a step is not."""
    ends = [_ahead(samples[4::-1])[::-1], _ahead(samples[-5:])]
    padded = np.concatenate((ends[0], samples, ends[1]))
    off = np.abs(samples - np.median(sliding_window_view(padded, 5), axis=1))
    usual = float(np.quantile(off, 0.8)) / 1.2816
    if not usual:  # quiet counts: most of them are the same, and one step is usual
        usual = float(np.min(off[off > 0], initial=np.inf))
    far: Truths = off > FAR * usual
    return far


def _ahead(five: Array) -> Array:
    """The two samples that would follow five, of which one may stand out."""
    return np.median(five) + np.median(np.diff(five)) * np.array([3.0, 4.0])


@dataclass(frozen=True)
class Delay:
    """How far one series lags behind: `samples` of the first behind the second (negative: it is
    ahead), and their standard uncertainty; 0 where none shows."""

    samples: float
    uncertainty: float = 0.0


@dataclass(frozen=True)
class Scale:
    """How much the first moves when the second moves by one: between which two factors, at 99 %."""

    low: float
    high: float

    @property
    def reversed(self) -> bool:
        """Whether the two run against each other."""
        return self.high < 0

    @property
    def is_far(self) -> bool:
        """Whether the first moves less than half or more than twice as much as the second."""
        return self.low > 2.0 or self.high < 0.5


@dataclass(frozen=True)
class Answers:
    """What the fit of the differences says. Half-widths are those of 95 % intervals."""

    a: Array = field(repr=False)
    b: Array = field(repr=False)
    noise: tuple[float, float]
    weight: float
    """Of b in the value along which gain and bend are sought."""
    middle: float
    bias: float
    half_width: float
    bound: float
    """The same at the level at which offsets are judged."""
    gain: float
    gain_half_width: float
    bend: float
    delay: Delay
    drift: float
    """From the first pair to the last."""
    sure: frozenset[str]
    """The questions answered with yes."""
    asked: tuple[str, ...]
    run: LongRun
    independent: float
    hums: int
    """Steady swings that were taken out of both."""


class _Fit:
    """A least-squares fit of the differences by some columns. tiny: what rounding alone makes of
    one of them."""

    def __init__(
        self,
        columns: dict[str, Array],
        d: Array,
        ordered: bool,
        tiny: float,
        waves: Sequence[Array] = (),
    ) -> None:
        self.names, self.tiny = list(columns), tiny
        rows = np.stack([*columns.values(), *waves], axis=1)
        self.size = np.linalg.norm(rows, axis=0)
        q, r = np.linalg.qr(rows / self.size)
        back = np.linalg.inv(r)
        self.theta = back @ (q.T @ d)
        self.rest = d - q @ (q.T @ d)
        self.inverse = np.sum(back**2, axis=1)
        dof = d.size - rows.shape[1]
        if ordered:
            self.run = long_run_beside(rows, self.rest, tiny)
        elif dof > 0:
            self.run = LongRun(float(self.rest @ self.rest) / dof, dof, 1.0)
        else:
            self.run = LongRun(float("nan"), 0, 1.0)

    def value(self, name: str) -> float:
        """The column's coefficient."""
        i = self.names.index(name)
        return float(self.theta[i] / self.size[i])

    def half_width(self, name: str, level: float = 0.95) -> float:
        """Of the interval of a coefficient; NaN if nothing determines it."""
        i = self.names.index(name)
        if not self.run.dof:
            return float("nan")
        standard = float(np.sqrt(self.run.variance * self.inverse[i]) / self.size[i])
        return coverage_factor(self.run.dof, level) * standard

    def differs(self, name: str, level: float) -> bool:
        """Whether a coefficient is not 0."""
        i = self.names.index(name)
        least = self.tiny * math.sqrt(self.rest.size) / float(self.size[i])
        return abs(self.value(name)) > self.half_width(name, level) + least


def answers(a: Array, b: Array, ordered: bool, u_common: float) -> Answers:
    """Ask all questions of pairs in time order (or of marks, which have none).
    u_common: standard uncertainty of an error that all values of b share."""
    moved = _whole_delay(a, b) if ordered and a.size >= FOR_TIME else 0
    found = _asked(*_earlier(a, b, moved), ordered, u_common, moved)
    for _ in range(3):  # whole samples are moved, so that the rest is small
        more = round(found.delay.samples) - moved
        if not more or a.size - abs(moved + more) < FOR_TIME:
            break
        moved += more
        found = _asked(*_earlier(a, b, moved), ordered, u_common, moved)
    return found


def _earlier(a: Array, b: Array, by: int) -> tuple[Array, Array]:
    """a by this many samples earlier, beside b."""
    return (a[by:], b[: b.size - by]) if by >= 0 else (a[:by], b[-by:])


#: A delay of whole samples: the longest looked for, as a fraction of the pairs and in samples;
#: pairs that are enough to look; how much smaller it makes the variance, of all and of each half.
LONGEST, LONGEST_SAMPLES, ENOUGH = 0.1, 100, 50_000
ALL_SMALLER, HALF_SMALLER = 2.0, 1.3
#: Movement is sudden where one change in twenty is this many times the median one.
SUDDEN = 3.0


def _whole_delay(a: Array, b: Array) -> int:
    """The delay of sudden movements, which hardly show in the rate of the slow one: the number of
    samples by which the first must be moved to differ least from the second, beside an offset and a
    gain; 0 unless all pairs and both halves of them call for it. Hum, which has a phase of its own,
    would differ less while nothing moves, too: a delay does not."""
    if not _move_together(a, b):
        return 0
    a, b = a[:ENOUGH], b[:ENOUGH]
    least = noise_of(a) ** 2 + noise_of(b) ** 2
    if _left(a, b).var() < ALL_SMALLER * least:
        return 0  # no shift takes away more than is there beside the noise
    most = int(min(LONGEST * a.size, LONGEST_SAMPLES))
    shifts = range(-most, most + 1)
    whole = [float(_left(*_earlier(a, b, by)).var()) for by in shifts]
    best = shifts[int(np.argmin(whole))]
    if not best or whole[most] < ALL_SMALLER * min(whole):
        return 0
    half = a.size // 2
    for part in (slice(None, half), slice(half, None)):
        without, with_it = (_left(*_earlier(a[part], b[part], by)).var() for by in (0, best))
        if without < HALF_SMALLER * with_it:
            return 0
    inner = b[most : b.size - most]
    now, then = (_left(a[most + by : a.size - most + by], inner) for by in (0, best))
    early, late = (b[most + by : b.size - most + by] for by in (-abs(best), abs(best)))
    change = np.abs(late - early)
    still = change <= np.median(change)
    if np.quantile(change, 0.95) < SUDDEN * np.median(change):
        return 0
    # Most of what the delay explains must be where something moves.
    calm = now[still].var() / max(float(then[still].var()), 1e-300)
    return best if calm < math.sqrt(whole[most] / max(min(whole), 1e-300)) else 0


def _left(a: Array, b: Array) -> Array:
    """What an offset and a gain leave of the differences."""
    u, d = 0.5 * (a + b), a - b
    u, d = u - u.mean(), d - d.mean()
    square = float(u @ u)
    left: Array = d - float(u @ d) / square * u if square else d
    return left


def _asked(a: Array, b: Array, ordered: bool, u_common: float, moved: int) -> Answers:
    tiny = 1e-12 * float(np.max(np.abs(b)))
    waves: list[Array] = []
    for _ in range(2):
        noise = (noise_of(a), noise_of(b)) if ordered else (float("nan"), float("nan"))
        weight = _weight(noise) if ordered else 1.0
        d, u = a - b, weight * b + (1.0 - weight) * a
        middle = float(u.mean())
        columns = _columns(a, b, u - middle, ordered)
        if not ordered or a.size < FOR_TIME or waves:
            break
        # Hum is found beside what the columns explain, and taken out of both: it is no movement.
        waves = hum(_Fit(columns, d, False, tiny).rest)
        if not waves:
            break
        q, _ = np.linalg.qr(np.stack(waves, axis=1))
        a, b = (series - q @ (q.T @ (series - series.mean())) for series in (a, b))
    splits = {name: 2.0 if name.startswith("bend") else 1.0 for name in columns}
    asked = tuple(dict.fromkeys(name.partition(" ")[0] for name in columns))
    level = {name: 1.0 - (1.0 - SURE) / len(asked) / split for name, split in splits.items()}

    full = _Fit(columns, d, ordered, tiny, waves)
    sure = {n for n in columns if n not in ("offset", "gain") and full.differs(n, level[n])}
    if moved:
        sure.add("delay")
    if any(name.startswith("bend") for name in sure):
        sure |= {name for name in columns if name.startswith("bend")}
    kept = {name: column for name, column in columns.items() if name in sure | {"offset", "gain"}}
    straight = _Fit(kept, d, ordered, tiny, waves)
    if "gain" in kept and straight.differs("gain", level["gain"]):
        sure.add("gain")
    last = straight
    if "gain" in kept and "gain" not in sure and "bend 2" not in sure:
        kept = {name: column for name, column in kept.items() if name != "gain"}
        last = _Fit(kept, d, ordered, tiny, waves)
    known_to = [
        math.hypot(last.half_width("offset", at), coverage_factor(math.inf, at) * u_common)
        for at in (level["offset"], 0.95, SURE)
    ]
    if abs(last.value("offset")) > known_to[0] + tiny:
        sure.add("offset")

    delay, aligned = Delay(float(moved)), a
    if "delay" in sure and "delay" in last.names:
        part = -last.value("delay")
        delay = Delay(moved + part, last.half_width("delay") / 1.96)
        aligned = a - last.value("delay") * columns["delay"]
    bend = sum((last.value(n) * columns[n] for n in last.names if n.startswith("bend")), 0.0 * d)
    variance = last.run.variance
    independent = d.size / last.run.time
    if ordered and last.run.dof > 0 and variance > 0:
        independent = min(float(d.size), d.size * float(last.rest.var()) / variance)
    has_gain = "gain" in straight.names
    return Answers(
        aligned,
        b,
        noise=noise,
        weight=weight,
        middle=middle,
        bias=last.value("offset"),
        half_width=known_to[1],
        bound=known_to[2],
        gain=straight.value("gain") if has_gain else float("nan"),
        gain_half_width=straight.half_width("gain") if has_gain else float("nan"),
        bend=float(np.max(np.abs(bend))),
        delay=delay,
        drift=last.value("drift") * np.ptp(columns["drift"]) if "drift" in last.names else 0.0,
        sure=frozenset(name.partition(" ")[0] for name in sure),
        asked=asked,
        run=last.run,
        independent=independent,
        hums=len(waves) // 2,
    )


def _weight(noise: tuple[float, float]) -> float:
    """Of b in the value along which gain and bend are sought: that of the other's noise, so that
    the noise of the value has nothing in common with that of the differences. Noises that differ
    by less than half are taken as equal: their estimates are no surer."""
    squares = np.square(noise)
    if not np.isfinite(squares).all() or squares.sum() == 0:
        return 0.5
    ratio = float(np.sqrt(squares.max() / max(squares.min(), 1e-300)))
    return float(squares[0] / squares.sum()) if ratio > 1.5 else 0.5


def _columns(a: Array, b: Array, u: Array, ordered: bool) -> dict[str, Array]:
    """The questions that these pairs can answer, each with its column over the pairs."""
    n = a.size
    found = {"offset": np.ones(n)}
    moves = n >= 3 and _move_together(a, b) and (not ordered or _are_slow(a, b, 40))
    if moves:
        found["gain"] = u
    if moves and n >= (FOR_TIME if ordered else FOR_BEND):
        for degree in (2, 3) if n >= FOR_BEND + 2 else (2,):
            column = (u / float(np.max(np.abs(u)))) ** degree
            if (own := _own_part(column, found, 1e-4)) is not None:
                found[f"bend {degree}"] = own
    if not ordered or n < FOR_TIME:
        return found
    if moves and (rate := _rate(a, b, u)) is not None and _own_part(rate, found, OWN) is not None:
        found["delay"] = rate
    time = np.linspace(-0.5, 0.5, n)
    if _own_part(time, found, OWN) is not None:
        found["drift"] = time
    return found


def _move_together(a: Array, b: Array) -> bool:
    """Whether two series see one movement, beside which their noise is small."""
    varies = min(np.ptp(a), np.ptp(b)) > 0
    return bool(varies and np.corrcoef(a, b)[0, 1] >= TOGETHER)


def _are_slow(a: Array, b: Array, periods: int) -> bool:
    """Whether most of the movement of both has fewer periods than this many. What swings faster may
    be hum, which has a phase of its own in each."""
    width = max(3, a.size // periods) | 1
    return all(2.0 * _smoothed(series, width).var() >= series.var() for series in (a, b))


def _own_part(column: Array, others: dict[str, Array], least: float) -> Array | None:
    """What a column has beside the others; None where that is less than a fraction of its power."""
    q, _ = np.linalg.qr(np.stack(list(others.values()), axis=1))
    own: Array = column - q @ (q.T @ column)
    off = column - column.mean()
    return own if own @ own > least * (off @ off) else None


def _rate(a: Array, b: Array, u: Array) -> Array | None:
    """The rate of the slow movement, per sample; None where it hardly changes (on a steady ramp a
    delay and an offset are the same), or where the two do not show it alike."""
    width = max(5, u.size // 20) | 1
    each = [_slow_rate(series, width) for series in (u, a, b)]
    varies = all(float(rate.std()) > 0.3 * abs(float(rate.mean())) for rate in each)
    if not varies or float(np.corrcoef(each[1], each[2])[0, 1]) < TOGETHER:
        return None
    return each[0]


def _slow_rate(series: Array, width: int) -> Array:
    rate: Array = np.gradient(_smoothed(series, width))
    return rate


def _smoothed(series: Array, width: int) -> Array:
    """Its running mean over an odd number of samples."""
    middle = float(series.mean())  # sums of what is small lose no digits
    padded = np.pad(series - middle, width // 2, mode="reflect", reflect_type="odd")
    sums = np.concatenate(([0.0], np.cumsum(padded)))
    smoothed: Array = middle + (sums[width:] - sums[:-width]) / width
    return smoothed


def scale_of(a: Array, b: Array, ordered: bool) -> Scale | None:
    """How much a moves for each unit of b; None where it is unknown.

    The noise of b makes the slope of a over b too small, that of a makes the slope of b over a too
    small: the truth lies between the first and the inverse of the second."""
    n = a.size
    if n < (FOR_TIME if ordered else FOR_BEND):
        return None
    if min(np.ptp(a), np.ptp(b)) == 0:
        stuck = ordered and np.ptp(b) > 0 and _are_slow(b, b, 12)
        return Scale(0.0, 0.0) if stuck else None  # a steady b may be one true value
    if ordered and not _are_slow(a, b, 12):
        return None
    if abs(float(np.corrcoef(a, b)[0, 1])) < ALIKE:
        return None
    ends = []
    for y, x in ((a, b), (b, a)):
        fit = _Fit(
            {"offset": np.ones(n), "gain": x - x.mean()},
            y - y.mean(),
            ordered,
            1e-12 * float(np.max(np.abs(y))),
        )
        slope, half_width = fit.value("gain"), fit.half_width("gain", SURE)
        if not abs(slope) > half_width:
            return None
        ends.append((slope - half_width, slope + half_width))
    (low, high), other = ends[0], sorted(1.0 / end for end in ends[1])
    return Scale(min(low, other[0]), max(high, other[1]))
