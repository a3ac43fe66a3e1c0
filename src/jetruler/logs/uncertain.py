"""The expanded uncertainty of every row as text: a budget is a function of the count."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
import pyarrow as pa

from ..core.arrays import AnyArray, Array
from ..core.decide.smoothing import Smoothing
from ..core.model.channel import Channel
from ..core.model.every_count import EveryCount
from ..core.uncertainty.budget import expanded
from ..core.uncertainty.contributions import conditions_of
from ..core.uncertainty.rounding import rounded
from ..samples.arrow import texts_to_arrow, to_arrow

if TYPE_CHECKING:
    from ..samples.cells import Encode
    from .column import ConvertedColumn


class UncertaintyTexts:
    """A channel's expanded uncertainties at 95 %, to two digits: each written once.

    Noise is averaged as much as the channel's smoothing averages it. Empty where there is no
    value, or where a law holds the value at an end.
    """

    def __init__(self, channel: Channel, decimal: str = ".", encode: Encode | None = None) -> None:
        self.channel, self.decimal, self.encode = channel, decimal, encode
        self._every = EveryCount.of(channel)
        self._uncertainties: Array | None = None
        self._texts: pa.Array | None = None
        self._ready = False

    @property
    def column(self) -> str:
        """Name of the column."""
        return f"{self.channel.output_column}_u"

    def of(self, column: ConvertedColumn) -> pa.Array:
        """The text of every row; an averaged count has that of the nearest whole one."""
        self._prepare(column.smoothing)
        if self._uncertainties is not None:
            places = self._places(_counts(column)) if column.places is None else column.places
            if self._texts is None and places.size < self._uncertainties.size:  # a short log
                return self._written(self._uncertainties[places])
            if self._texts is None:
                self._texts = self._written(self._uncertainties)
            return self._texts.take(to_arrow(places))
        kinds, index = np.unique(_counts(column), return_inverse=True)
        return self._written(self._expanded(kinds)).take(to_arrow(index))

    def values(self, column: ConvertedColumn) -> Array:
        """The expanded uncertainty of every row of a column, as numbers; NaN for none."""
        self._prepare(column.smoothing)
        if self._uncertainties is None:
            kinds, index = np.unique(_counts(column), return_inverse=True)
            found: Array = self._expanded(kinds)[index]
            return found
        places = self._places(_counts(column)) if column.places is None else column.places
        return np.take(self._uncertainties, places, mode="clip")

    def _places(self, counts: AnyArray) -> AnyArray:
        assert self._every is not None
        without = np.isnan(counts)
        whole = np.rint(np.where(without, 0, counts))
        beyond = 2.0**40  # far outside every converter that has a table
        return self._every.places(np.clip(whole, -beyond, beyond).astype(np.int64), without)

    def _prepare(self, smoothing: Smoothing | None) -> None:
        if self._ready:
            return
        readings = None if smoothing is None else smoothing.averaged
        self._given = conditions_of(self.channel, readings=readings)
        if self._every is not None:
            low = self._every.lowest
            uncertainties = self._expanded(np.arange(low, low + self._every.values.size - 3))
            self._uncertainties = np.concatenate(([np.nan], uncertainties, [np.nan, np.nan]))
        self._ready = True

    def _expanded(self, counts: AnyArray) -> Array:
        return expanded(self.channel, counts.astype(np.float64), self._given)

    def _written(self, uncertainties: Array) -> pa.Array:
        # A straight law has one width at all counts: each is written once.
        kinds, index = np.unique(uncertainties, return_inverse=True)
        texts = ["" if np.isnan(u) else rounded(u, u)[1] for u in kinds.tolist()]
        if self.encode is not None:
            texts = [self.encode(self.column, text) for text in texts]
        elif self.decimal == ",":
            texts = [text.replace(".", ",") for text in texts]
        return texts_to_arrow(texts).take(to_arrow(index))


def _counts(column: ConvertedColumn) -> AnyArray:
    assert column.counts is not None
    return column.counts
