"""Reading a log of JSON Lines in batches: a record a line.

The usual block goes through PyArrow. One that PyArrow cannot take whole (a line that is no
record, a field that changes its type) goes through the json module line by line.
"""

from __future__ import annotations

import io
import json
from collections.abc import Iterator
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.json as pajson

from ..arrow import texts_to_arrow
from ..reader import RowBatch
from ..source import LogError, LogFormat, LogSource
from .text_log import Read, TextReader

#: Records that nest deeper than this are read with care.
DEEPEST = 200


class JsonReader(TextReader):
    """A log of JSON Lines, plain or packed. Its columns are the fields of the first block."""

    def __init__(self, source: LogSource, form: LogFormat, block_bytes: int | None = None) -> None:
        super().__init__(source, form, block_bytes)
        first = next(self._blocks, None)
        if first is None or not first[0].strip():
            raise LogError(f"{self.name}: the log is empty")
        self._held = first[0]
        self.columns = self._fields(self._held)

    def _fields(self, block: bytes) -> list[str]:
        try:
            return list(dict.fromkeys(self._parsed(block).column_names))
        except pa.ArrowInvalid:
            pass
        names: dict[str, None] = {}
        for line in io.BytesIO(block):
            record = _record(line)
            if record is not None:
                names |= dict.fromkeys(record)
        if not names:
            raise LogError(
                f"{self.name}: the first lines hold no JSON record; a record a line is wanted, "
                'like {"time_s": 0.2, "ch0": 1880}'
            )
        return list(names)

    def _pieces(self) -> Iterator[bytes]:
        yield self._held
        self._held = b""
        for block, _ in self._blocks:
            yield block

    def _read(self, piece: bytes) -> Read:
        return self._fast(piece) or self._careful(piece)

    def _fast(self, block: bytes) -> Read | None:
        """The columns as PyArrow reads them; None if it cannot."""
        ends = block.count(b"\n") + (not block.endswith(b"\n"))
        try:
            table = self._parsed(block)
        except pa.ArrowInvalid:
            return None
        if table.num_rows != ends or len(set(table.column_names)) != table.num_columns:
            return None  # blank lines, which have numbers; or a field that comes twice
        found = {name: table[name].combine_chunks() for name in table.column_names}
        late = {
            name: ends - column.null_count
            for name, column in found.items()
            if name not in self.columns
        }
        nothing = pa.nulls(ends)
        columns = [found.get(name, nothing) for name in self.columns]
        return Read(RowBatch(columns, np.arange(ends)), ends, late=late)

    def _parsed(self, block: bytes) -> pa.Table:
        if _is_deep(block):  # PyArrow would run out of its stack
            raise pa.ArrowInvalid("nested too deeply")
        options = pajson.ReadOptions(use_threads=False, block_size=len(block) + 1)
        table = pajson.read_json(pa.BufferReader(block), options)
        times = [f.name for f in table.schema if pa.types.is_temporal(f.type)]
        if times:
            schema = pa.schema([(name, pa.string()) for name in times])
            parsing = pajson.ParseOptions(explicit_schema=schema)
            table = pajson.read_json(pa.BufferReader(block), options, parsing)
        return table

    def _careful(self, block: bytes) -> Read:
        """Line by line: what is no record is a torn row, all of it missing."""
        records: list[dict[str, Any]] = []
        numbers, torn = [], []
        blank, number = 0, -1
        for number, line in enumerate(io.BytesIO(block)):
            if not line.strip():
                blank += 1
                continue
            record = _record(line)
            if record is None:
                torn.append(len(records))
            records.append(record or {})
            numbers.append(number)
        late: dict[str, int] = {}
        for record in records:
            for name in record.keys() - set(self.columns):
                late[name] = late.get(name, 0) + (record[name] is not None)
        columns = [_column([record.get(name) for record in records]) for name in self.columns]
        batch = RowBatch(columns, np.array(numbers, np.int64), np.array(torn, np.int64))
        return Read(batch, number + 1, blank=blank, late=late)


def _is_deep(block: bytes) -> bool:
    """Whether records nest deeply, brackets inside of texts counted too."""
    if block.count(b"[") + block.count(b"{") <= block.count(b"\n") + DEEPEST:
        return False  # flat records, and few that are not
    signs = np.frombuffer(block, np.uint8)
    opens = np.isin(signs, np.frombuffer(b"[{", np.uint8)).astype(np.int8)
    depth = np.cumsum(opens - np.isin(signs, np.frombuffer(b"]}", np.uint8)), dtype=np.int64)
    return int(depth.max(initial=0) - min(0, int(depth.min(initial=0)))) > DEEPEST


def _record(line: bytes) -> dict[str, Any] | None:
    try:
        found = json.loads(line)
    except (ValueError, RecursionError):
        return None
    return found if isinstance(found, dict) else None


def _column(values: list[Any]) -> pa.Array:
    """A column of one type; as text where its values have several."""
    kinds = {type(value) for value in values if value is not None}
    if kinds <= {int} or kinds <= {int, float} or kinds <= {str} or kinds <= {bool}:
        try:
            return pa.array(values, from_pandas=True)
        except (pa.ArrowInvalid, OverflowError):
            pass
    texts = [
        None if v is None else v if isinstance(v, str) else json.dumps(v, ensure_ascii=False)
        for v in values
    ]
    # Half a surrogate pair can be written as an escape, but is no text.
    encoded = [None if t is None else t.encode("utf-8", "replace") for t in texts]
    return texts_to_arrow(encoded)
