"""Reading a log of JSON Lines in batches: a record a line.

The usual block goes through PyArrow. One that PyArrow cannot take whole (a line that is no
record, a field that changes its type) goes through the json module line by line.
"""

from __future__ import annotations

import io
import json
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.json as pajson

from ..core.model.log_format import LogFormat
from .arrow import texts_to_arrow
from .reader import RowBatch
from .shapes import Noise, Shape
from .text_log import BlockReader, Read

#: Records that nest deeper than this are read with care.
DEEPEST = 200
#: Lines that are worth the way through PyArrow.
WORTH_IT = 20


class JsonBlocks(BlockReader):
    """Blocks of JSON objects, one a line. Its columns are the fields of the first lines."""

    def __init__(self, shape: Shape, form: LogFormat) -> None:
        self.shape, self.columns = shape, shape.columns
        self._comment = form.comment.encode()

    def read(self, block: bytes) -> Read:
        """The rows of a block."""
        many = block.count(b"\n") >= WORTH_IT
        return (self._fast(block) if many else None) or self._careful(block)

    def _fast(self, block: bytes) -> Read | None:
        """The columns as PyArrow reads them; None if it cannot."""
        ends = block.count(b"\n") + (not block.endswith(b"\n"))
        try:
            table = _parsed(block)
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

    def _careful(self, block: bytes) -> Read:
        """Line by line: a record that is broken is a torn row, all of it missing; any other line is
        no sample."""
        records: list[dict[str, Any]] = []
        numbers, torn = [], []
        blank, comments, number, noise = 0, 0, -1, Noise()
        for number, line in enumerate(io.BytesIO(block)):
            if not line.strip() or line.startswith(self._comment):
                blank += not line.strip()
                comments += bool(line.strip())
                continue
            record = record_in(line)
            if record is None and not line.lstrip().startswith(b"{"):
                noise.add("other text", line)
                continue
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
        return Read(batch, number + 1, comments, blank, late=late, noise=noise)


def fields_of(block: bytes) -> tuple[str, ...]:
    """The fields of the first block of a log."""
    try:
        return tuple(dict.fromkeys(_parsed(block).column_names))
    except pa.ArrowInvalid:
        records = (record_in(line) or {} for line in io.BytesIO(block))
        return tuple(dict.fromkeys(name for record in records for name in record))


def _parsed(block: bytes) -> pa.Table:
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


def _is_deep(block: bytes) -> bool:
    """Whether records nest deeply, brackets inside of texts counted too."""
    if block.count(b"[") + block.count(b"{") <= block.count(b"\n") + DEEPEST:
        return False  # flat records, and few that are not
    signs = np.frombuffer(block, np.uint8)
    opens = np.isin(signs, np.frombuffer(b"[{", np.uint8)).astype(np.int8)
    depth = np.cumsum(opens - np.isin(signs, np.frombuffer(b"]}", np.uint8)), dtype=np.int64)
    return int(depth.max(initial=0) - min(0, int(depth.min(initial=0)))) > DEEPEST


def record_in(line: bytes) -> dict[str, Any] | None:
    """The object in a line; None where it is none."""
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
