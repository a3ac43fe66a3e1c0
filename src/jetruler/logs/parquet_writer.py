"""Writing a converted log as Parquet: values at full precision, units and title in the metadata."""

from __future__ import annotations

from typing import BinaryIO

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from ..core.bench.channel import Channel
from ..samples.cells import name_text, texts_to_arrow, to_arrow, values_to_arrow
from .conversion import FLAGS_COLUMN, Converted, Layout
from .passed_types import Given, PassedTypes
from .summary import ConvertedColumn
from .texts import FlagTexts, uncertainty_texts

#: Rows of one row group: a whole one is kept in memory.
GROUP_ROWS = 2**19


class ParquetWriter:
    """A result as Parquet. What has no value is null; flags are a dictionary column.

    Every value column has its `unit`, the bench's `title`, its `channel` and the `decimals` it is
    shown to in its metadata.
    """

    def __init__(
        self, layout: Layout, file: BinaryIO, given: dict[int, Given] | None = None
    ) -> None:
        self.layout = layout
        self._sink = pa.PythonFile(file, "w")
        self.pass_through = PassedTypes(layout.reader, layout.pass_through, given or {})
        self.flag_texts = FlagTexts([channel.name for channel in layout.channels], "", encode=str)
        self.uncertainties = [
            uncertainty_texts(channel, ".") if layout.uncertainty else None
            for channel in layout.channels
        ]
        added: list[str] = []
        for channel, uncertainties in zip(layout.channels, self.uncertainties, strict=True):
            added += [channel.output_column] + (
                [] if uncertainties is None else [uncertainties.column]
            )
        self.names = layout.names(added)
        self._schema: pa.Schema | None = None
        self._writer: pq.ParquetWriter | None = None
        self._waiting: list[pa.RecordBatch] = []
        self._rows = 0

    @property
    def types(self) -> dict[str, str]:
        """Types of the columns that pass through."""
        return self.pass_through.named

    def begin(self, first: Converted) -> None:
        """Settle the types of what passes through and what all batches share; open the file."""
        for uncertainties, column in zip(self.uncertainties, first.columns, strict=True):
            if uncertainties is not None:
                uncertainties.values(column)
        layout = self.layout
        self.pass_through.settle(first.batch.rows)
        passed = [self.pass_through.type_of(index) for index in layout.pass_through]
        kinds, kept = [p.kind for p in passed], [name_text(name) for name in layout.kept]
        fields = [
            pa.field(name, p.kind, metadata=p.metadata)
            for name, p in zip(kept, passed, strict=True)
        ]
        for channel, uncertainties in zip(layout.channels, self.uncertainties, strict=True):
            about = self._about(channel)
            kind = _LABELS if channel.ruler.label(0.0) is not None else pa.float64()
            fields.append(pa.field(channel.output_column, kind, metadata=about))
            if uncertainties is not None:
                fields.append(pa.field(uncertainties.column, pa.float64(), metadata=about))
        if layout.commands:
            fields += [pa.field(name, pa.bool_()) for name in layout.bench.trips]
            fields += [
                pa.field(drive.output_column, pa.float64(), metadata={"unit": drive.unit})
                for drive in layout.bench.drives.values()
            ]
        fields.append(pa.field(FLAGS_COLUMN, _LABELS))
        self._schema = pa.schema(fields, metadata={"title": layout.bench.title})
        # Times and measured values differ from row to row: a dictionary of them would be given up.
        once = {n for n, k in zip(kept, kinds, strict=True) if pa.types.is_floating(k)}
        # A row group spans a day and so all values: their ends would help nobody to find one.
        self._writer = pq.ParquetWriter(
            self._sink,
            self._schema,
            use_dictionary=[f.name for f in fields if f.name not in once],
            write_statistics=kept,
        )

    def _about(self, channel: Channel) -> dict[str, str]:
        about = {
            "unit": channel.unit or "",
            "title": self.layout.bench.title,
            "channel": channel.name,
        }
        return about | ({} if channel.decimals is None else {"decimals": str(channel.decimals)})

    def encoded(self, converted: Converted) -> pa.RecordBatch | None:
        """A batch as arrays; None where the log is read again."""
        columns = self.pass_through.of(converted.batch.rows)
        if columns is None:
            return None
        for channel, uncertainties, column in zip(
            self.layout.channels, self.uncertainties, converted.columns, strict=True
        ):
            if channel.ruler.label(0.0) is not None:
                columns.append(labelled(channel, column))
            else:
                columns.append(values_to_arrow(column.values, column.complete))
            if uncertainties is not None:
                columns.append(values_to_arrow(uncertainties.values(column), False))
        if self.layout.commands and converted.decided is not None:
            columns += [pa.array(on) for on in converted.decided.trips.values()]
            columns += [to_arrow(values) for values in converted.decided.drives.values()]
        columns.append(self.flag_texts.encoded(converted.flags()))
        return pa.RecordBatch.from_arrays(columns, schema=self._schema)

    def write(self, encoded: pa.RecordBatch | None) -> None:
        """Append a batch; a row group is written when it is whole."""
        if encoded is None:
            return
        self._waiting.append(encoded)
        self._rows += encoded.num_rows
        if self._rows >= GROUP_ROWS:
            self._flush()

    def _flush(self) -> None:
        assert self._writer is not None
        if self._waiting:
            self._writer.write_table(pa.Table.from_batches(self._waiting), 2**30)
        self._waiting, self._rows = [], 0

    def finish(self) -> None:
        """Write what waits, and the end of the file. Raises `OtherTypeError`."""
        self.pass_through.finish()
        self._flush()
        assert self._writer is not None
        self._writer.close()
        self._sink.flush()

    def close(self) -> None:
        """Let go. PyArrow's writer would write the file's end when it is deleted."""
        if self._writer is not None:
            self._writer.is_open = False


_LABELS = pa.dictionary(pa.int32(), pa.string())


def labelled(channel: Channel, column: ConvertedColumn) -> pa.DictionaryArray:
    """Zones by their labels; null where there is none."""
    kinds, index = np.unique(column.values, return_inverse=True)
    labels = [None if np.isnan(kind) else channel.ruler.label(kind) for kind in kinds]
    known = texts_to_arrow(labels).dictionary_encode()
    return pa.DictionaryArray.from_arrays(
        known.indices.take(to_arrow(index.astype(np.int32))), known.dictionary
    )
