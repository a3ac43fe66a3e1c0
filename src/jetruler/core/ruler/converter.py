"""Where every chain begins: the raw edge, with its unit, resolution, range and error; and the
table over all its counts."""

from __future__ import annotations

import contextlib
import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any, ClassVar, TypeAlias

import numpy as np

from ..error_types import JetRulerError, ParameterError
from ..numerics import AnyArray, Array, FlagArray
from .base_law import BaseLaw, Role
from .reading import Flag

#: Parameters of a converter that are errors for budgets: no reading depends on them.
ERRORS = ("error_lsb", "offset_error", "gain_error", "inl")


@dataclass(frozen=True)
class EdgeError:
    """An error of a raw value as a half-width, in its unit; or, where it grows, as a fraction of
    the raw value."""

    name: str
    half_width: float
    grows: bool = False


class RawInput(BaseLaw):
    """The raw edge of a ruler: what comes in. A converter is one kind of it."""

    role: ClassVar[Role] = Role.CONVERTER

    #: What people call it.
    noun: ClassVar[str] = "input"

    @property
    def lsb(self) -> float:
        """The smallest difference that it can show, in its unit; 0 if that is not known."""
        return 0.0

    @property
    def lowest(self) -> float:
        """The lower end of its range, −∞ if that is not known."""
        return -math.inf

    @property
    def highest(self) -> float:
        """The upper end of its range, ∞ if that is not known."""
        return math.inf

    @property
    def half_width(self) -> float:
        """The error that its maker allows for, as a half-width in its unit."""
        return 0.0

    @property
    def own_errors(self) -> tuple[EdgeError, ...]:
        """Everything that its maker allows for, source by source."""
        return (EdgeError("error", self.half_width),)

    @property
    def is_bounded(self) -> bool:
        """Whether its range is known."""
        return math.isfinite(self.lowest) and math.isfinite(self.highest)

    @property
    def top_code(self) -> float:
        """The largest raw value that it gives."""
        return self.highest

    def samples(self, many: int) -> Array:
        """Return raw values over its range: each that it can give, or this many evenly spaced."""
        low, high, lsb = self.lowest, self.highest, self.lsb
        each = int((high - low) / lsb) + 1 if lsb else many
        x = np.linspace(low, high, min(many, max(2, each)))
        return low + np.round((x - low) / lsb) * lsb if lsb else x


@dataclass(frozen=True)
class Converter(RawInput):
    """A converter with a finite set of counts. Counts outside it become NaN, flagged off_scale;
    the lowest and highest count are flagged as rails."""

    bits: int
    noun: ClassVar[str] = "converter"

    @property
    def vref(self) -> float | None:
        """The reference voltage; None where it is not known, or cancels."""
        return None

    @property
    def full_count(self) -> float | None:
        """The count that represents the reference voltage; None for counts of anything else."""
        return None

    @property
    def lsb(self) -> int:
        """Counts from one code to the next: 16 for codes of 12 bits in 16."""
        codes = getattr(self, "codes", None)
        return 2 ** (self.bits - codes) if codes else 1

    @property
    def top_code(self) -> int:
        """The largest count that the codes give: 65520 for 12 bits shifted into 16. Where the
        high bits are repeated below, it is the largest count itself; nothing lies between."""
        return self.highest - self.lsb + 1

    @property
    def half_width(self) -> float:
        return self._counts_of("error_lsb")

    def _counts_of(self, field: str) -> float:
        return self.lsb * float(getattr(self, field, 0.0))

    @property
    def own_errors(self) -> tuple[EdgeError, ...]:
        return (
            EdgeError("error", self.half_width),
            EdgeError("offset error", self._counts_of("offset_error")),
            EdgeError("gain error", float(getattr(self, "gain_error", 0.0)), grows=True),
            EdgeError("INL", self._counts_of("inl")),
        )

    @property
    def lowest(self) -> int:
        """The smallest count this converter gives."""
        return -(2 ** (self.bits - 1)) if self._is_signed() else 0

    @property
    def highest(self) -> int:
        """The largest count this converter gives."""
        return int(2 ** (self.bits - 1 if self._is_signed() else self.bits) - 1)

    def _is_signed(self) -> bool:
        return bool(getattr(self, "signed", False))

    @property
    def takes(self) -> str | None:
        return "count"

    def check(self) -> Iterator[ParameterError]:
        if isinstance(self.bits, float) or not 1 <= self.bits <= 32:
            yield ParameterError("bits", self.bits, "a whole number from 1 to 32")
        signed = getattr(self, "signed", False)
        if not isinstance(signed, bool | np.bool_):
            yield ParameterError("signed", signed, "True or False")
        codes = getattr(self, "codes", None)
        if codes is not None and (isinstance(codes, float) or not 1 <= codes <= self.bits):
            yield ParameterError("codes", codes, f"a whole number from 1 to {self.bits}")
        for field in ("error_lsb", "offset_error", "inl"):
            if (error := getattr(self, field, 0.0)) < 0:
                yield ParameterError(field, error, "0 counts or more")
        if not 0 <= (gain := getattr(self, "gain_error", 0.0)) < 1:
            yield ParameterError("gain_error", gain, 'a fraction of 0 or more, below 1, or "0.2 %"')

    def samples(self, many: int) -> Array:
        each = self.highest - self.lowest + 1
        return np.round(np.linspace(self.lowest, self.highest, min(many, each)))

    def on_scale(self, counts: Array) -> Array:
        """The counts, with NaN for those that this converter cannot give."""
        return np.where((counts >= self.lowest) & (counts <= self.highest), counts, np.nan)

    def reachable(self, counts: Array) -> Array:
        """The counts, with NaN for those more than half a step beyond the range."""
        inside = (counts >= self.lowest - 0.5) & (counts <= self.highest + 0.5)
        return np.where(inside, counts, np.nan)

    def flags(self, x: Array) -> FlagArray:
        out = np.zeros(x.shape, np.uint8)
        if self.bits == 1:  # on or off: neither says that there is more beyond
            out[(x < self.lowest) | (x > self.highest)] = Flag.OFF_SCALE
            return out
        out[x == self.lowest] = Flag.LOW_RAIL
        out[x >= self.top_code] = Flag.HIGH_RAIL
        out[(x < self.lowest) | (x > self.highest)] = Flag.OFF_SCALE
        return out


#: Counts in, values out: see `CountTable.gather`.
Gather: TypeAlias = Callable[[AnyArray, AnyArray], object]

#: Samples handled at a time: the block, its index copy and its result stay in the cache.
BLOCK = 16_384


#: The same where threads take turns: larger, since every block costs a turn.
THREAD_BLOCK = 8 * BLOCK

#: Fewer samples than these are converted before a thread has started.
THREAD_SIZE = 2**18


def blocks(n: int, size: int = BLOCK) -> Iterator[slice]:
    """Slices that cover n samples in cache-sized pieces."""
    for start in range(0, n, size):
        yield slice(start, min(start + size, n))


def for_blocks(n: int, work: Callable[[slice], None], threads: int) -> None:
    """Call `work` for every block of n samples. threads: how many share them, each a stretch of
    its own; NumPy lets the others run while it gathers."""
    if threads < 1:
        raise ValueError(f"threads: expected at least 1, found {threads}")
    stretches = min(threads, n // THREAD_SIZE)
    if stretches < 2:
        for part in blocks(n):
            work(part)
        return
    from concurrent.futures import ThreadPoolExecutor

    part_size = -(-n // stretches)

    def stretch(start: int) -> None:
        for part in blocks(min(part_size, n - start), THREAD_BLOCK):
            work(slice(start + part.start, start + part.stop))

    with ThreadPoolExecutor(threads) as pool:
        list(pool.map(stretch, range(0, n, part_size)))


class CountTable:
    """One number for every count from `lowest` up, and one for all counts outside.

    Counts of 8 and 16 bits are gathered from a table as wide as their type, so that no count
    needs a check; wider ones are shifted and clipped onto a table with a sentinel at each end.
    """

    def __init__(self, values: AnyArray, lowest: int, outside: float) -> None:
        self.lowest = lowest
        self.outside = outside
        self.values = values
        self._guarded = np.concatenate(([outside], values, [outside])).astype(values.dtype)
        self._whole: dict[str, AnyArray] = {}

    def gather(self, dtype: np.dtype[Any]) -> Gather:
        """What gathers a block of integer counts of this type into another array, both
        one-dimensional. Prepared once: every block costs a call."""
        native = dtype.newbyteorder("=")
        if dtype.itemsize <= 2:
            take, bits = self._whole_table(native).take, np.dtype(f"u{dtype.itemsize}")
            return lambda counts, out: take(
                counts.astype(native, copy=False).view(bits), None, out, "clip"
            )
        take, shift, huge = self._guarded.take, 1 - self.lowest, dtype.kind == "u"

        def wide(counts: AnyArray, out: AnyArray) -> None:
            if huge and counts.dtype.itemsize == 8:
                counts = np.minimum(counts, np.uint64(2**62))
            # A count so large that the shift overflows lands on a sentinel all the same.
            index = counts.astype(np.int64)
            index += shift
            take(index, None, out, "clip")

        return wide

    def _whole_table(self, dtype: np.dtype[Any]) -> AnyArray:
        key = dtype.str
        if key not in self._whole:
            info = np.iinfo(dtype)
            every = np.arange(info.min, info.max + 1)
            table = np.empty(every.size, self.values.dtype)
            np.take(self._guarded, every + (1 - self.lowest), out=table, mode="clip")
            # Counts are viewed as unsigned: negative ones stand in the upper half.
            self._whole[key] = np.roll(table, info.min)
        return self._whole[key]


#: Places of the raw edge at which the size of values is looked up.
_SIZED = 65
#: Zero of the temperatures that have one of their own: what a difference from it is taken of.
_ZEROS = {"degC": 273.15, "degF": 459.67}


def usual_sizes(laws: tuple[BaseLaw, ...], units: tuple[str | None, ...]) -> tuple[float, ...]:
    """What the values at every joint of laws, and those that they are differences of, are as large
    as: their middle magnitude over the raw edge; over an open one, about where the laws decide."""
    edge = laws[0]
    edges = [law.decides_at for law in laws]
    last = max((i for i, edge in enumerate(edges) if edge), default=0)
    x = edge.samples(_SIZED) if isinstance(edge, RawInput) and edge.is_bounded else None
    if x is None:  # an open range: about what the edges come from
        places = [0.0]
        for i in range(last + 1):
            found = np.array(edges[i], dtype=np.float64)
            with contextlib.suppress(JetRulerError, ArithmeticError), np.errstate(all="ignore"):
                for law in reversed(laws[:i]):
                    found = law.inverse(found)
                places += found[np.isfinite(found)].tolist()
        x = np.outer(np.array(places), [1.0, 2.0]).reshape(-1)
    sizes: list[float] = []
    with np.errstate(all="ignore"):
        for i, unit in enumerate(units):
            behind = 0.0
            if i:
                # A small difference of large values is off by their rounding.
                with contextlib.suppress(NotImplementedError):  # a law of another package
                    behind = sizes[-1] * _middle(laws[i - 1].slope(x))
                x = laws[i - 1].forward(x)
            sizes.append(max(_middle(x), behind, _ZEROS.get(unit or "", 0.0)))
    return tuple(sizes)


def _middle(x: Array) -> float:
    """Their middle magnitude; 0 of none."""
    there = np.abs(x[np.isfinite(x)])
    return float(np.median(there)) if there.size else 0.0
