"""Results as text: each possible value, and each combination of flags, is written once."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from ..core.channel import Channel
from ..core.follow import Follower
from ..core.reading import Reading, flag_names
from ..core.signal import Smoothing
from .cells import quote

if TYPE_CHECKING:
    from .uncertain import WidthTexts


class CellTexts:
    """A channel's values as text: for a compiled ruler, each possible one is written once.

    With `widths`, each value has its uncertainty behind it, as a column of its own.
    """

    def __init__(
        self,
        channel: Channel,
        decimal: str = ".",
        delimiter: str = ",",
        widths: WidthTexts | None = None,
    ) -> None:
        self.channel, self.decimal, self.delimiter = channel, decimal, delimiter
        self.widths = widths
        self.names = [channel.output_column] + ([] if widths is None else [widths.column])
        self._both: pa.Array | None = None
        tables = channel.ruler.compiled()
        self.texts: pa.Array | None = None
        if tables is not None:
            self.lowest = tables[0].lowest
            self.texts = self._written([np.nan, *tables[0].values.tolist(), np.nan])

    def _written(self, values: list[float]) -> pa.Array:
        cells = [self.channel.cell(value) for value in values]
        labels = self.channel.ruler.described(0.0) is not None
        if self.decimal == "," and not labels:
            cells = [cell.replace(".", ",") for cell in cells]
        texts = pa.array(cells, pa.string())
        return quote(texts, self.delimiter) if labels else texts

    def gather(self, counts: npt.NDArray[Any], reading: Reading, follower: Follower) -> pa.Array:
        """The text of every sample. counts: what its value stands for."""
        smoothing = follower.smoothing
        if self.texts is not None and counts.dtype.kind == "i" and follower.by_count:
            # Clipped first: the shift of a very large count would overflow.
            low, high = self.lowest - 1, self.lowest + len(self.texts) - 2
            texts = self._with_widths(smoothing)
            return texts.take(pa.array(np.clip(counts, low, high) - low))
        values = self._each(reading.value)
        if self.widths is None:
            return values
        return self._joined(values, self.widths.gather(counts, smoothing))

    def _with_widths(self, smoothing: Smoothing | None) -> pa.Array:
        """The text of every count, with its uncertainty if that is wanted."""
        if self.widths is None:
            return self.texts
        if self._both is None:
            self._both = self._joined(self.texts, self.widths.table(smoothing))
        return self._both

    def _joined(self, values: pa.Array, widths: pa.Array) -> pa.Array:
        return pc.binary_join_element_wise(values, widths, self.delimiter)

    def _each(self, values: npt.NDArray[np.float64]) -> pa.Array:
        """Values that come from no table of counts."""
        if self.channel.decimals is not None and self.channel.ruler.described(0.0) is None:
            values = _near(values, self.channel.decimals)
        kinds, which = np.unique(values, return_inverse=True)
        return self._written(kinds.tolist()).take(pa.array(which))


def _near(values: npt.NDArray[np.float64], decimals: int) -> npt.NDArray[np.float64]:
    """Values so near what they are rounded to that each text is written once; those near a tie
    stay as they are, to be rounded from their exact value."""
    scaled = values * 10.0**decimals
    whole = np.rint(scaled)
    clear = np.abs(np.abs(scaled - whole) - 0.5) > 1e-6
    return np.where(clear, whole / 10.0**decimals, values)


class FlagTexts:
    """The flags of each row in words: `bean:high_rail;rail:below`."""

    def __init__(self, names: Sequence[str], delimiter: str, end: bytes) -> None:
        self.names, self.delimiter, self.end = names, delimiter, end
        self._texts: dict[bytes, bytes] = {}

    def gather(self, codes: npt.NDArray[np.uint8]) -> pa.Array:
        """The flags of each row in words, with the line end: each combination written once."""
        rows, width = codes.shape
        packed = pa.FixedSizeBinaryArray.from_buffers(
            pa.binary(width), rows, [None, pa.py_buffer(codes)]
        ).dictionary_encode()
        texts = [self._text(code) for code in packed.dictionary.to_pylist()]
        return pa.array(texts, pa.binary()).take(packed.indices)

    def _text(self, codes: bytes) -> bytes:
        if codes not in self._texts:
            text = ";".join(
                f"{channel}:{name}"
                for channel, code in zip(self.names, codes, strict=True)
                for name in flag_names(code)
            )
            if self.delimiter in text:
                text = f'"{text}"'
            self._texts[codes] = text.encode() + self.end
        return self._texts[codes]


def width_texts(channel: Channel, decimal: str) -> WidthTexts | None:
    """The uncertainties of a channel; a zone has none."""
    if channel.ruler.described(0.0) is not None:
        return None
    from .uncertain import WidthTexts

    return WidthTexts(channel, decimal)
