"""The expanded uncertainty of every row as text: a budget is a function of the count."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from ..core.arrays import Array
from ..core.budget.budget import expanded
from ..core.budget.contributions import conditions_of
from ..core.channel import Channel
from ..core.rounding import rounded
from ..core.signal import Smoothing


class WidthTexts:
    """A channel's expanded uncertainties at 95 %, to two digits: each written once.

    Noise is averaged as much as the channel's smoothing averages it. Empty where there is no
    value, or where a law holds the value at an end.
    """

    def __init__(self, channel: Channel, decimal: str) -> None:
        self.channel, self.decimal = channel, decimal
        self._texts: pa.Array | None = None
        self._lowest = 0
        self._ready = False

    @property
    def column(self) -> str:
        """Name of the column."""
        return f"{self.channel.output_column}_u"

    def table(self, smoothing: Smoothing | None) -> pa.Array | None:
        """The text of every count, one more at each end for those outside; None for a ruler that
        has no finite input."""
        if not self._ready:
            self._prepare(smoothing)
        return self._texts

    def gather(self, counts: npt.NDArray[Any], smoothing: Smoothing | None) -> pa.Array:
        """The text of every sample; an averaged count has that of the nearest whole one."""
        texts = self.table(smoothing)
        if texts is None:
            kinds, which = np.unique(counts, return_inverse=True)
            widths = expanded(self.channel, kinds.astype(np.float64), self._given)
            return pa.array(self._written(widths)).take(pa.array(which))
        low, high = self._lowest - 1, self._lowest + len(texts) - 2
        whole = np.where(np.isnan(counts), low, np.rint(counts))
        return texts.take(pa.array((np.clip(whole, low, high) - low).astype(np.int64)))

    def _prepare(self, smoothing: Smoothing | None) -> None:
        readings = None if smoothing is None else smoothing.averaged
        self._given = conditions_of(self.channel, readings=readings)
        self._ready = True
        tables = self.channel.ruler.compiled()
        if tables is not None:
            low, high = tables[0].lowest, tables[0].lowest + len(tables[0].values) - 1
            self._lowest = low
            widths = expanded(self.channel, np.arange(low, high + 1, dtype=np.float64), self._given)
            self._texts = pa.array(["", *self._written(widths), ""], pa.string())

    def _written(self, widths: Array) -> list[str]:
        texts = ["" if np.isnan(u) else rounded(u, u)[1] for u in widths.tolist()]
        return [text.replace(".", ",") for text in texts] if self.decimal == "," else texts
