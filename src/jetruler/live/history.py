"""What a channel did in the last minutes, as thin as a picture needs it."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np

from ..core.arrays import AnyArray, Array, FlagArray
from ..core.model.reading import Reading

#: Seconds of one piece, and how many pieces are kept: ten minutes.
PIECE, PIECES = 0.05, 12_000
#: So many raw samples are kept to find ends in; older ones go.
RAW = 2**20


@dataclass(frozen=True)
class Window:
    """A stretch of time in columns: lowest and highest value in each (NaN: none), and its flags."""

    low: Array
    high: Array
    flags: FlagArray


@dataclass
class History:
    """The lowest and highest value and the flags of each twentieth of a second; and the raw samples
    since the ends were last looked for anew."""

    _low: Array = field(default_factory=lambda: np.full(PIECES, np.nan))
    _high: Array = field(default_factory=lambda: np.full(PIECES, np.nan))
    _flags: FlagArray = field(default_factory=lambda: np.zeros(PIECES, np.uint8))
    _last: int = -1
    _raw: list[AnyArray] = field(default_factory=list)
    _raw_size: int = 0

    def add(self, at: Array, raw: AnyArray | None, reading: Reading) -> None:
        """A batch. at: seconds since the start, never going back. raw: the samples that tell of
        ends; None while the channel is held."""
        pieces = np.maximum((at / PIECE).astype(np.int64), self._last)
        starts = np.flatnonzero(np.diff(pieces, prepend=pieces[0] - 1))
        low = np.fmin.reduceat(reading.value, starts)
        high = np.fmax.reduceat(reading.value, starts)
        flags = np.bitwise_or.reduceat(np.asarray(reading.flags, np.uint8), starts)
        for piece, lowest, highest, flag in zip(
            pieces[starts].tolist(), low.tolist(), high.tolist(), flags.tolist(), strict=True
        ):
            self._clear_up_to(piece)
            place = piece % PIECES
            self._low[place] = np.fmin(self._low[place], lowest)
            self._high[place] = np.fmax(self._high[place], highest)
            self._flags[place] |= flag
        if raw is not None:
            self._raw.append(raw)
            self._raw_size += raw.size
        while self._raw_size > RAW:
            self._raw_size -= self._raw.pop(0).size

    def _clear_up_to(self, piece: int) -> None:
        """Nothing came between the last piece and this one."""
        if piece - self._last >= PIECES:
            self._low[:] = self._high[:] = np.nan
            self._flags[:] = 0
        else:
            gone = np.arange(self._last + 1, piece + 1) % PIECES
            self._low[gone] = self._high[gone] = np.nan
            self._flags[gone] = 0
        self._last = piece

    @property
    def raw(self) -> AnyArray:
        """The raw samples since `forget`."""
        return np.concatenate(self._raw) if self._raw else np.empty(0)

    def forget(self) -> None:
        """Look for ends anew."""
        self._raw, self._raw_size = [], 0

    def window(self, now: float, span: float, columns: int) -> Window:
        """The last `span` seconds before `now`, in so many columns."""
        edges = np.linspace((now - span) / PIECE, now / PIECE, columns + 1)
        first, last = math.floor(edges[0] + 1e-6), math.ceil(edges[-1] - 1e-6)
        pieces = np.arange(max(first, 0, self._last - PIECES + 1), min(last, self._last + 1))
        low, high = np.full(columns, np.nan), np.full(columns, np.nan)
        flags = np.zeros(columns, np.uint8)
        if pieces.size:
            column = np.clip(np.searchsorted(edges, pieces, "right") - 1, 0, columns - 1)
            starts = np.flatnonzero(np.diff(column, prepend=-1))
            at, places = column[starts], pieces % PIECES
            low[at] = np.fmin.reduceat(self._low[places], starts)
            high[at] = np.fmax.reduceat(self._high[places], starts)
            flags[at] = np.bitwise_or.reduceat(self._flags[places], starts)
        return Window(low, high, flags)
