"""One channel over a batch of rows: what the writers and the summary take from it."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from ..core.arrays import AnyArray, Array, FlagArray
from ..core.decide.channel_reader import ChannelReader
from ..core.decide.smoothing import Smoothing
from ..core.model.every_count import EveryCount
from ..core.model.reading import Reading


@dataclass(frozen=True, eq=False)
class ConvertedColumn:
    """One channel over a batch: places in the table of all its counts, or else a reading of its
    own; counts are then what its values stand for, and held says that they follow from more than
    the count (the zone that was held before)."""

    every: EveryCount | None = None
    places: AnyArray | None = None
    counts: AnyArray | None = None
    reading: Reading | None = None
    smoothing: Smoothing | None = None
    held: bool = False

    @classmethod
    def following(
        cls, every: EveryCount | None, counts: AnyArray, reading: Reading, reader: ChannelReader
    ) -> ConvertedColumn:
        """What a reader made of a batch."""
        return cls(
            every,
            None,
            counts=counts,
            reading=reading,
            smoothing=reader.smoothing,
            held=not reader.by_count,
        )

    @cached_property
    def flags(self) -> FlagArray:
        """The flags of every row."""
        if self.reading is not None:
            return np.asarray(self.reading.flags)
        every, places = self._by_place
        return np.take(every.flags, places, mode="clip")

    @cached_property
    def values(self) -> Array:
        """The value of every row."""
        if self.reading is not None:
            return np.asarray(self.reading.value)
        every, places = self._by_place
        return np.take(every.values, places, mode="clip")

    @cached_property
    def histogram(self) -> AnyArray:
        """How many rows stand at each place."""
        every, places = self._by_place
        return every.histogram(places)

    @property
    def complete(self) -> bool:
        """Whether every row has a value."""
        if self.places is None:
            return not np.isnan(self.values).any()
        return not self.histogram[np.isnan(self._by_place[0].values)].any()

    @property
    def _by_place(self) -> tuple[EveryCount, AnyArray]:
        assert self.every is not None
        assert self.places is not None
        return self.every, self.places
