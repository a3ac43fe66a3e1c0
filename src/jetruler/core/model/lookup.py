"""A ruler compiled to a table over all counts: one gather, whatever the laws cost."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any, TypeAlias

import numpy as np

from ..arrays import AnyArray

#: Counts in, values out: see `CountTable.gather`.
Gather: TypeAlias = Callable[[AnyArray, AnyArray], object]

#: Samples handled at a time: the block, its index copy and its result stay in the cache.
BLOCK = 16_384


#: The same where threads take turns: larger, since every block costs a turn.
THREAD_BLOCK = 8 * BLOCK

#: Fewer samples than these are converted before a thread has started.
WORTH_A_THREAD = 2**18


def blocks(n: int, size: int = BLOCK) -> Iterator[slice]:
    """Slices that cover n samples in cache-sized pieces."""
    for start in range(0, n, size):
        yield slice(start, min(start + size, n))


def for_blocks(n: int, work: Callable[[slice], None], threads: int = 1) -> None:
    """Call `work` for every block of n samples. threads: how many share them, each a stretch of
    its own; NumPy lets the others run while it gathers."""
    if threads < 1:
        raise ValueError(f"threads: found {threads}; at least 1 is right")
    if threads == 1 or n < 2 * WORTH_A_THREAD:
        for part in blocks(n):
            work(part)
        return
    from concurrent.futures import ThreadPoolExecutor

    part_size = -(-n // min(threads, n // WORTH_A_THREAD))

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
            if dtype.isnative:
                return lambda counts, out: take(counts.view(bits), None, out, "clip")
            return lambda counts, out: take(counts.astype(native).view(bits), None, out, "clip")
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
