"""A channel at every count it can have: what samples read, found by a place in a table."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..arrays import AnyArray, Array, FlagArray
from .channel import Channel
from .reading import Flag, Reading


@dataclass(frozen=True, eq=False)
class EveryCount:
    """The readings of a channel at all its counts, and at three places more.

    values, flags: one for all counts below, then one a count from `lowest` up, then one for all
    counts above, then one for a sample that is missing. A place is an index into both.
    """

    lowest: int
    values: Array
    flags: FlagArray

    @classmethod
    def of(cls, channel: Channel) -> EveryCount | None:
        """None for a ruler that has no finite input."""
        tables = channel.ruler.compiled()
        if tables is None:
            return None
        values, flags = (table.values for table in tables)
        off, gone = np.uint8(Flag.OFF_SCALE), np.uint8(Flag.MISSING)
        return cls(
            tables[0].lowest,
            np.concatenate(([np.nan], values, [np.nan, np.nan])),
            np.concatenate(([off], flags, [off, gone])).astype(np.uint8),
        )

    @property
    def missing(self) -> int:
        """The place of a missing sample."""
        return self.values.size - 1

    def places(self, counts: AnyArray, missing: AnyArray | None = None) -> AnyArray:
        """The place of each of some integer counts (int32)."""
        low, high = self.lowest - 1, self.lowest + self.values.size - 3
        kind, size = counts.dtype.kind, counts.dtype.itemsize
        if kind == "u" and size == 8:
            counts = np.minimum(counts, np.uint64(2**62))
        if size < 4:
            counts = counts.astype(np.int32)
        elif kind == "u" or not counts.dtype.isnative:
            counts = counts.astype(np.int64)
        # Clipped first: the shift of a very large count would overflow.
        places = np.clip(counts, low, high)
        places -= low
        if missing is not None:
            places[missing] = self.missing
        return places if places.dtype == np.int32 else places.astype(np.int32)

    def histogram(self, places: AnyArray) -> AnyArray:
        """How many samples stand at each place."""
        return np.bincount(places, minlength=self.values.size)

    def read(self, places: AnyArray, unit: str | None = None) -> Reading:
        """The readings at some places."""
        values = np.take(self.values, places, mode="clip")
        return Reading(values, np.take(self.flags, places, mode="clip"), unit)
