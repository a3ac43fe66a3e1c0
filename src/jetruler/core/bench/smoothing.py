"""What remembers earlier samples: smoothing. Any batch size gives identical numbers."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from itertools import pairwise
from typing import Any, Literal, get_args

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view

from ..containers import to_array
from ..error_types import ParameterError
from ..numerics import AnyArray, Array
from ..result import refuses, refuses_fields
from ..ruler.converter import blocks
from ..ruler.quantity import quantity
from ..ruler.units import number

#: Up to here a window is looked at whole, and this many samples at once.
SHORT_WINDOW, AT_ONCE = 15, 8192
#: A log of this many samples is smoothed sooner than SciPy's filters are loaded.
SHORT_LOG = 2**21
Kind = Literal["mean", "median", "exponential", "spikes"]
Where = Literal["counts", "values"]


@refuses_fields
@dataclass(frozen=True)
class Smoothing:
    """How a channel is smoothed.

    Parameters
    ----------
    kind : Kind
        "mean", "median", "exponential" (weight 2/(n+1) for the newest sample, with the same lag as
        a mean of n), or "spikes" (replaces a sample that differs from the median of the last n by
        more than four robust standard deviations and by more than `beyond`; keeps all others).
    over : int | str
        The number of samples n, or a time as text ("2 s"). An even median is the mean of the two
        middle values.
    blocks : bool, default False
        One result from n readings: the result changes every n samples.
    where : Where, default "counts"
        "counts", before the laws, where the noise is even and a nonlinear law adds no bias; or
        "values", behind the laws.
    beyond : float, default 4.0
        For "spikes": the smallest deviation of a spike, in counts or values.

    Raises
    ------
    ParameterError
        For parameters that make no sense.

    Notes
    -----
    The first results use the samples that are there.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.smooth([1, 1, 9, 1, 1], jr.Smoothing("median", 3))
    [1.0, 1.0, 1.0, 1.0, 1.0]
    """

    kind: Kind
    """"mean", "median", "exponential" (weight 2/(n+1) for the newest sample, with the same lag as a
    mean of n), or "spikes" (replaces a sample that differs from the median of the last n by more
    than four robust standard deviations and by more than `beyond`; keeps all others)."""
    over: int | str
    """The number of samples n, or a time as text ("2 s"). An even median is the mean of the two
    middle values."""
    blocks: bool = False
    """One result from n readings: the result changes every n samples."""
    where: Where = "counts"
    """"counts", before the laws, where the noise is even and a nonlinear law adds no bias; or
    "values", behind the laws."""
    beyond: float = 4.0
    """For "spikes": the smallest deviation of a spike, in counts or values."""

    def __post_init__(self) -> None:
        for error in self.errors():
            raise error

    def errors(self) -> Iterator[ParameterError]:
        """The errors among the parameters."""
        for name, kinds in (("kind", Kind), ("where", Where)):
            if getattr(self, name) not in get_args(kinds):
                expected = ", ".join(map(repr, get_args(kinds)))
                yield ParameterError(name, getattr(self, name), f"one of {expected}")
        if isinstance(self.over, str):
            try:
                good = quantity(self.over, "s") > 0 and not self.over.strip().isdigit()
            except ValueError:
                good = False
            if not good:
                yield ParameterError("over", self.over, 'a number of samples or a time, "2 s"')
        elif isinstance(self.over, bool) or not isinstance(self.over, int) or self.over < 1:
            yield ParameterError("over", self.over, "at least 1 sample")
        if self.blocks and self.kind in ("exponential", "spikes"):
            yield ParameterError("blocks", True, "a mean or a median", "only these work in blocks")
        if not (isinstance(self.beyond, int | float) and self.beyond >= 0):
            yield ParameterError("beyond", self.beyond, "0 or more")

    def settled(self, interval: float | None) -> Smoothing:
        """With its number of samples: a time needs the seconds between two samples."""
        if isinstance(self.over, int):
            return self
        if interval is None or not interval > 0:
            why = "the log has no time column"
            raise ParameterError("over", self.over, "a number of samples", why)
        return replace(self, over=max(1, round(quantity(self.over, "s") / interval)))

    @property
    def samples(self) -> int:
        """The n samples."""
        if isinstance(self.over, str):
            raise ParameterError("over", self.over, "a number of samples")
        return self.over

    @property
    def averaged(self) -> float:
        """As many independent readings as would be as quiet when averaged: n for a mean and for
        this exponential; fewer for a median, of an odd n fewer than of the even n before it; the
        spike gate averages nothing.

        The variance of a median of n normal readings is π/(2n + c) of one reading's, with a c that
        order statistics give (held here to 0.5 %)."""
        n = self.samples
        if self.kind == "spikes":
            return 1.0
        c = 0.85 + 0.45 / n if n % 2 else 2.8 - 1 / n
        return float(n) if self.kind != "median" else min(float(n), (2 * n + c) / math.pi)

    @property
    def lag(self) -> float:
        """How many samples late a slow change shows. (n − 1)/2 for the running kinds, n − 1 on the
        average for blocks; none for the spike gate, though a sudden step waits n // 2."""
        if self.kind == "spikes":
            return 0.0
        return (self.samples - 1) / (1 if self.blocks else 2)

    def summary(self, interval: float | None) -> str:
        """What it does, with its lag in samples and seconds."""
        lag = number(self.lag)
        seconds = f" ({number(self.lag * interval)} s)" if interval else ""
        every = " by blocks" if self.blocks else ""
        return f"{self.kind} over {self.samples}{every} on {self.where}, lag {lag} samples{seconds}"


@refuses_fields
@dataclass
class Smoother:
    """A smoothing at work: batches in, batches of the same length out; state carries across.

    Parameters
    ----------
    smoothing : Smoothing
        What it does, with `over` in samples.
    seconds : float, optional
        What `over` represents: where samples have times, none older than this is in a result.

    Examples
    --------
    >>> import jetruler as jr
    >>> smoother = jr.Smoother(jr.Smoothing("mean", 2))
    >>> smoother.add([2, 4]), smoother.add([6])  # it remembers
    (array([2., 3.]), array([5.]))
    """

    smoothing: Smoothing
    seconds: float | None = None
    _past: Array = field(default_factory=lambda: np.empty(0))
    _level: float = math.nan
    _seen: int = 0
    _held: float = math.nan
    _times: Array = field(default_factory=lambda: np.empty(0))
    """When the samples in `_past` were taken, then the last one."""

    def add(
        self, samples: Any, missing: AnyArray | None = None, times: AnyArray | None = None
    ) -> Array:
        """The smoothed samples. Missing ones are left out, not spread: NaN there, and the others
        are as if they had never been. times: when each was taken, in seconds."""
        x = np.asarray(samples, dtype=np.float64)
        there = ~np.isnan(x) if missing is None else ~(missing | np.isnan(x))
        timed = times is not None and self.seconds is not None
        t = np.asarray(times, dtype=np.float64) if timed else None
        if there.all():
            return self._by_stretches(x, t)
        out = np.full(x.size, np.nan)
        out[there] = self._by_stretches(x[there], None if t is None else t[there])
        return out

    def _by_stretches(self, x: Array, t: Array | None) -> Array:
        """Smooth between gaps that are longer than `seconds`: behind one it starts again. What is
        left of shorter gaps are windows that reach too far back, which are looked at one by one."""
        if t is None or self.seconds is None or not x.size:
            return self._smooth(x)
        last = self._times[-1:] if self._times.size else t[:1]
        with np.errstate(invalid="ignore", over="ignore"):  # a misread time may be of any size
            steps = np.diff(np.concatenate((last, t)))
        gaps = np.flatnonzero(steps > self.seconds).tolist()
        parts = []
        for start, end in pairwise([0, *(g for g in gaps if g), x.size]):
            if start in gaps:
                self._past, self._times = np.empty(0), np.empty(0)
                self._level = self._held = math.nan
            parts.append(self._timed(x[start:end], t[start:end]))
        return parts[0] if len(parts) == 1 else np.concatenate(parts)

    def _timed(self, x: Array, t: Array) -> Array:
        assert self.seconds is not None
        before, times = self._past, np.concatenate((self._times[: self._past.size], t))
        out = self._smooth(x)
        if self.smoothing.kind in ("mean", "median") and not self.smoothing.blocks:
            whole, n = np.concatenate((before, x)), self.smoothing.samples
            combine = np.mean if self.smoothing.kind == "mean" else np.median
            places = np.arange(before.size, whole.size)
            first = np.maximum(places - (n - 1), 0)
            most = self.seconds * (1 - 1e-9)
            with np.errstate(invalid="ignore", over="ignore"):
                late = np.flatnonzero(times[places] - times[first] >= most)
            for i in late.tolist():
                place = int(places[i])
                window = slice(int(first[i]), place + 1)
                with np.errstate(invalid="ignore", over="ignore"):
                    near = ~(times[place] - times[window] >= most)
                out[i] = combine(whole[window][near])
        kept = max(1, self._past.size)
        self._times = times[times.size - kept :]
        return out

    def _smooth(self, x: Array) -> Array:
        if not x.size:
            return x
        if self.smoothing.kind == "exponential":
            return self._exponential(x)
        n = self.smoothing.samples
        if self.smoothing.blocks:
            return self._blocks(x, n)
        whole = np.concatenate((self._past, x))
        self._past = whole[max(0, whole.size - (n - 1)) :] if n > 1 else whole[:0]
        if self.smoothing.kind == "mean":
            return _running_mean(whole, n)[-x.size :]
        usual = _running_median(whole, n)[-x.size :]
        return usual if self.smoothing.kind == "median" else self._gate(whole, x, usual)

    def _exponential(self, x: Array) -> Array:
        weight = 2.0 / (self.smoothing.samples + 1)
        start = float(x[0]) if math.isnan(self._level) else self._level
        self._seen += x.size
        if self._seen > SHORT_LOG:
            from scipy.signal import lfilter  # which takes a second and more to load

            smooth: Array = lfilter([weight], [1.0, weight - 1.0], x, zi=[(1.0 - weight) * start])[
                0
            ]
        else:  # the same sums in the same order
            level, kept = start, 1.0 - weight
            smooth = np.array([level := kept * level + part for part in (weight * x).tolist()])
        self._level = float(smooth[-1])
        return smooth

    def _blocks(self, x: Array, n: int) -> Array:
        """The result of the last whole block; until there is one, that of the samples so far."""
        combine = np.mean if self.smoothing.kind == "mean" else np.median
        whole = np.concatenate((self._past, x))
        full = whole.size // n
        results = combine(whole[: full * n].reshape(full, n), axis=1)
        self._past = whole[full * n :]
        done = np.arange(whole.size - x.size + 1, whole.size + 1) // n  # blocks done at each
        known = np.concatenate(([self._held], results))
        out = known[done]
        if math.isnan(self._held):
            early = int(np.count_nonzero(done == 0))
            seen = whole.size - x.size
            for i in range(early):
                out[i] = combine(whole[: seen + i + 1])
        self._held = float(known[-1])
        return out

    def _gate(self, whole: Array, x: Array, usual: Array) -> Array:
        n = self.smoothing.samples
        off = np.abs(x - usual)
        suspects = np.flatnonzero(off > self.smoothing.beyond)
        out = x.copy()
        first = whole.size - x.size
        for i in suspects.tolist():
            window = whole[max(0, first + i - n + 1) : first + i + 1]
            deviation = 1.4826 * float(np.median(np.abs(window - usual[i])))
            if off[i] > 4.0 * deviation:
                out[i] = usual[i]
        return out


def _running_mean(x: Array, n: int) -> Array:
    """The mean of each sample and up to n − 1 before it, the same to the last bit wherever the
    array starts: whole numbers are summed exactly, others always in the same order."""
    early = min(n - 1, x.size)
    if np.array_equal(x, np.rint(x)) and max(-x.min(), x.max()) < 2**40:
        total = np.cumsum(x.astype(np.int64))
        sums = total.astype(np.float64)
        sums[n:] = total[n:] - total[:-n]
    else:
        padded = np.concatenate((np.zeros(n - 1), x))
        sums = np.zeros(x.size)
        for k in range(n):  # oldest first
            sums += padded[k : k + x.size]
    sums[early:] /= n
    sums[:early] /= np.arange(1, early + 1)
    return sums


def _running_median(x: Array, n: int) -> Array:
    """The median of each sample and up to n − 1 before it."""
    out = np.empty(x.size)
    early = min(n - 1, x.size)
    for i in range(early):
        out[i] = np.median(x[: i + 1])
    if x.size >= n:
        high = _ranked(x, n, n // 2)
        out[n - 1 :] = high if n % 2 else 0.5 * (_ranked(x, n, n // 2 - 1) + high)
    return out


def _ranked(x: Array, n: int, rank: int) -> Array:
    """Of each n samples in a row, the one that has this many below it."""
    if n > SHORT_WINDOW:
        from scipy.ndimage import rank_filter  # which takes a third of a second to load

        # It is centred: shifted by half a window it looks back only.
        whole: Array = rank_filter(x, rank, size=n, origin=(n - 1) // 2 if n % 2 else n // 2 - 1)
        return whole[n - 1 :]
    out = np.empty(x.size - n + 1)
    for start in range(0, out.size, AT_ONCE):  # in pieces that the processor's cache holds
        windows = sliding_window_view(x[start : start + AT_ONCE + n - 1], n)
        out[start : start + AT_ONCE] = np.partition(windows, rank, axis=1)[:, rank]
    return out


@refuses
def smooth(samples: Any, smoothing: Smoothing, axis: int = 0) -> Any:
    """Smooth a whole array (NaN is missing); the same numbers as batch by batch.

    Parameters
    ----------
    samples : anything that holds numbers
        Shape (n,), or any shape with one sample after another along `axis`: the columns of a frame
        are smoothed each by itself. NaN, NA, null and None are missing.
    smoothing : Smoothing
        How.
    axis : int, default 0
        Along which time goes.

    Returns
    -------
    The kind and shape of what was given; NaN where a sample is missing. A Series keeps its index
    and its name.

    Raises
    ------
    ParameterError
        For an axis that is none.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.smooth([2, 4, 6, 8], jr.Smoothing("mean", 2))
    [2.0, 3.0, 5.0, 7.0]
    """
    numbers, like = to_array(samples)
    x = np.atleast_1d(numbers).astype(np.float64)
    if not -x.ndim <= axis < x.ndim:
        raise ParameterError("axis", axis, f"an axis of an array of {x.ndim} dimensions")
    out = np.empty(x.shape)
    rows, into = np.moveaxis(x, axis, -1), np.moveaxis(out, axis, -1)
    for place in np.ndindex(rows.shape[:-1]):
        smoother, row = Smoother(smoothing), np.ascontiguousarray(rows[place])
        for part in blocks(row.size):  # what a block needs on the way stays in the cache
            into[place][part] = smoother.add(row[part])
    return like(out.reshape(numbers.shape))


@refuses
def block_averages(samples: Any, n: int) -> Array:
    """Average blocks of n readings, each to one; NaN are left out.

    Parameters
    ----------
    samples : array
        Shape (m,).
    n : int
        Readings in a block, 1 or more.

    Returns
    -------
    Array
        Shape (m // n,).

    Raises
    ------
    ParameterError
        For n below 1.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.block_averages([1, 3, 5, 7, 9], 2)
    array([2., 6.])
    """
    if n < 1:
        raise ParameterError("n", n, "at least 1 sample")
    numbers, _ = to_array(samples)
    x = numbers.astype(np.float64).reshape(-1)
    n = min(int(n), x.size + 1)  # no block of more samples than there are
    blocks = x[: x.size // n * n].reshape(-1, n)
    there = ~np.isnan(blocks)
    with np.errstate(invalid="ignore", over="ignore"):
        means: Array = np.where(there, blocks, 0.0).sum(axis=1) / there.sum(axis=1)
    return means
