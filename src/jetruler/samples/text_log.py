"""Logs of text: blocks of whole lines, read side by side and numbered in order; JSON Lines, lines
that are no plain cells, and records of a stream."""

from __future__ import annotations

import io
import json
import math
from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator
from contextlib import ExitStack
from dataclasses import dataclass, field, replace
from types import TracebackType
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.json as pajson

from ..core.bench.bench import LogFormat
from .cells import texts_to_arrow, to_arrow
from .head import CUT
from .shapes import Noise, Shape, is_value
from .source import LogReader, LogSource, RowBatch
from .threads import Workers
from .times import RECEIVED


@dataclass(frozen=True)
class Read:
    """What became of a block: its rows, with lines counted from 0, and what was left out.

    ends: the lines it took. noise: lines that are no samples.
    """

    batch: RowBatch
    ends: int
    comments: int = 0
    blank: int = 0
    late: dict[str, int] = field(default_factory=dict)
    quotes: list[tuple[int, int]] = field(default_factory=list)
    noise: Noise = field(default_factory=Noise)


class BlockReader(ABC):
    """Reads blocks of whole lines of one form, in any thread: what files and streams share."""

    shape: Shape
    columns: list[str]

    @abstractmethod
    def read(self, block: bytes) -> Read:
        """The rows of a block, which ends with a line end."""

    def ask(self, types: dict[int, pa.DataType]) -> None:  # noqa: B027
        """From one of the next blocks on, columns come in these types where they can."""

    def is_open(self, block: bytes) -> bool:
        """Whether a block ends within a row."""
        return False

    def read_part(self, block: bytes, last: bool) -> tuple[Read, bytes]:
        """The rows of a block that may end within one, and the bytes of that one."""
        return self.read(block), b""


class TextReader(LogReader):
    """A log of text, plain or packed.

    held: the first block, from the first sample on, and whether it is the last one. line: the
    number of its first line.
    """

    of_text = True

    def __init__(
        self,
        source: LogSource,
        form: LogFormat,
        blocks: BlockReader,
        *,
        following: Iterator[tuple[bytes, bool]],
        held: tuple[bytes, bool],
        line: int,
    ) -> None:
        super().__init__(source.name, form)
        self.source, self.blocks, self.columns = source, blocks, blocks.columns
        self.shape = blocks.shape
        self.unnamed = self.shape.kind == "csv" and not self.shape.names
        self.units = dict(self.shape.units)
        self.of_text = blocks.shape.kind != "jsonl"
        self.has_header = blocks.shape.header or not self.unnamed or not blocks.shape.plain
        self.delimiter = blocks.shape.delimiter if blocks.shape.plain else ","
        self._following, self._held, self._line = following, held, line

    @property
    def line_format(self) -> str:
        """How its lines are read; empty where that is as usual, or as somebody said."""
        known = self.shape.plain and (self.form.header is not None or self.form.columns is not None)
        encoding = f"text in {self.source.encoding}" if self.source.encoding else ""
        return ", ".join(filter(None, ("" if known else self.shape.description, encoding)))

    @property
    def without_names(self) -> str:
        return "" if self.shape.header else self.line_format

    @property
    def progress(self) -> tuple[int, int | None]:
        """Bytes read, and of how many."""
        return self.source.bytes_read, self.source.bytes_total

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        traceback: TracebackType | None,
    ) -> None:
        self.source.__exit__(kind, error, traceback)

    def ask(self, integers: Iterable[int], floats: Iterable[int] = ()) -> None:
        """From one of the next batches on, columns come as int32 or float64 where they can."""
        self.blocks.ask(dict.fromkeys(floats, pa.float64()) | dict.fromkeys(integers, pa.int32()))

    def _pieces(self) -> Iterator[bytes | Read]:
        """Blocks that can be read side by side; one that ends within a row is read here."""
        carried = b""
        for block, last in self._all_blocks():
            block, carried = carried + block, b""
            if last and block and not block.endswith(b"\n"):
                block += b"\n"
            if self.blocks.is_open(block):
                found, carried = self.blocks.read_part(block, last)
                yield found
            else:
                yield block

    def _all_blocks(self) -> Iterator[tuple[bytes, bool]]:
        yield self._held
        self._held = (b"", True)
        yield from self._following

    def _read(self, piece: bytes | Read) -> Read:
        return piece if isinstance(piece, Read) else self.blocks.read(piece)

    def batches(
        self, integers: Iterable[int] = (), workers: Workers | None = None
    ) -> Iterator[RowBatch]:
        """The rows in order."""
        self.blocks.ask(dict.fromkeys(integers, pa.int64()))
        with ExitStack() as stack:
            if workers is None:
                workers = stack.enter_context(Workers())
            for found in workers.in_order(self._pieces(), self._read):
                np.add(found.batch.lines, self._line, out=found.batch.lines)
                self.quotes += [(line + self._line, used) for line, used in found.quotes]
                self._line += found.ends
                self.comments += found.comments
                self.blank_lines += found.blank
                self.noise.join(found.noise)
                for name, count in found.late.items():
                    self.late[name] = self.late.get(name, 0) + count
                if found.batch.rows:
                    yield found.batch


#: Records that nest deeper than this are read with care.
DEEPEST = 200
#: Lines that are worth the way through PyArrow.
PARALLEL_BYTES = 20


class JsonBlocks(BlockReader):
    """Blocks of JSON objects, one a line. Its columns are the fields of the first lines."""

    def __init__(self, shape: Shape, form: LogFormat) -> None:
        self.shape, self.columns = shape, shape.columns
        self._comment = form.comment.encode()

    def read(self, block: bytes) -> Read:
        """The rows of a block."""
        many = block.count(b"\n") >= PARALLEL_BYTES
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
        if any(map(_is_rounded, table.columns)):
            return None
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
            for name in record if record.keys() - set(self.columns) else ():
                if name in self.columns:
                    continue
                late[name] = late.get(name, 0) + (record[name] is not None)
        columns = [_column([record.get(name) for record in records]) for name in self.columns]
        batch = RowBatch(columns, np.array(numbers, np.int64), np.array(torn, np.int64))
        return Read(batch, number + 1, comments, blank, late=late, noise=noise)


#: From here on a float64 represents more than one whole number.
_WHOLE_NUMBERS = 2.0**53


def _is_rounded(column: pa.ChunkedArray) -> bool:
    """Whether PyArrow may have read whole numbers that have no room as floats."""
    if not pa.types.is_floating(column.type) or column.null_count == len(column):
        return False
    largest = pc.max(pc.abs(column)).as_py()
    return not largest < _WHOLE_NUMBERS


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
        names = table.column_names
        table = pajson.read_json(pa.BufferReader(block), options, parsing).select(names)
    return table


def _is_deep(block: bytes) -> bool:
    """Whether records nest deeply, brackets inside of texts counted too."""
    if block.count(b"[") + block.count(b"{") <= block.count(b"\n") + DEEPEST:
        return False  # flat records, and few that are not
    signs = np.frombuffer(block, np.uint8)
    opens = np.isin(signs, np.frombuffer(b"[{", np.uint8)).astype(np.int8)
    depth = np.cumsum(opens - np.isin(signs, np.frombuffer(b"]}", np.uint8)), dtype=np.int64)
    return int(depth.max(initial=0) - min(0, int(depth.min(initial=0)))) > DEEPEST


def _number(text: str) -> float | str:
    """A number of JSON; as its text where no float is as large."""
    value = float(text)
    return value if math.isfinite(value) else text


def record_in(line: bytes) -> dict[str, Any] | None:
    """The object in a line; None where it is none."""
    try:
        found = json.loads(line, parse_float=_number)
    except (ValueError, RecursionError):
        return None
    return found if isinstance(found, dict) else None


def _column(values: list[Any]) -> pa.Array:
    """A column of one type; as text where its values have several."""
    kinds = {type(value) for value in values if value is not None}
    if kinds and (kinds <= {int, float} or kinds == {bool}):
        there = np.array([value is not None and value == value for value in values], np.bool_)
        numbers = [value if is_there else 0 for value, is_there in zip(values, there, strict=True)]
        widest = max((abs(number) for number in numbers if isinstance(number, int)), default=0)
        if widest <= (2**53 if float in kinds else 2**62):
            kind = np.float64 if float in kinds else np.bool_ if bool in kinds else np.int64
            return to_arrow(np.array(numbers, kind), None if there.all() else there)
    texts = [
        None if v is None else v if isinstance(v, str) else json.dumps(v, ensure_ascii=False)
        for v in values
    ]
    # Half a surrogate pair can be written as an escape, but is no text: the escape is.
    encoded = [None if t is None else t.encode("utf-8", "backslashreplace") for t in texts]
    return texts_to_arrow(encoded)


class LineBlocks(BlockReader):
    """Blocks of lines that are taken apart by their shape."""

    def __init__(self, shape: Shape, form: LogFormat) -> None:
        self.shape, self.columns = shape, shape.columns
        self._comment, self._decimal = form.comment, form.decimal

    def read(self, block: bytes) -> Read:
        """The rows of a block."""
        noise, late = Noise(), dict[str, int]()
        rows: list[list[str]] = []
        numbers: list[int] = []
        torn: list[int] = []
        comments = blank = 0
        lines = block.decode("utf-8", "surrogateescape").removesuffix("\n").split("\n")
        for number, line in enumerate(lines):
            text = line.strip()
            if not text or text.startswith(self._comment):
                blank += not text
                comments += bool(text)
                continue
            cells = self._paired(text, late) if self.shape.kind == "pairs" else self._cells(text)
            if cells is None:
                noise.add("other text", text)
                continue
            if len(cells) != len(self.columns):
                torn.append(len(rows))
                cells = (cells + [""] * len(self.columns))[: len(self.columns)]
            rows.append(cells)
            numbers.append(number)
        columns = [
            texts_to_arrow([_bytes(row[i]) for row in rows], pa.binary())
            for i in range(len(self.columns))
        ]
        places = np.array(numbers, np.int64), np.array(torn, np.int64)
        batch = RowBatch(columns, *places, quoted=True, behind=self.shape.behind)
        return Read(batch, len(lines), comments, blank, late, noise=noise)

    def _paired(self, line: str, late: dict[str, int]) -> list[str] | None:
        found = self.shape.pairs(line)
        if found is None or found.keys().isdisjoint(self.columns):
            return None
        for name in found.keys() - set(self.columns):
            late[name] = late.get(name, 0) + 1
        return [found.get(name, "") for name in self.columns]

    def _cells(self, line: str) -> list[str] | None:
        """The cells of a line; None where none of them is a value, or where it is prose."""
        cells = self.shape.cells(line)
        if cells is None:
            return None
        data = self.shape.bare(cells)[self.shape.stamped :]
        known = [is_value(cell, self._decimal) for cell in data]
        prose = len(cells) != len(self.columns) or self.shape.delimiter == " "
        return cells if all(known) or (any(known) and not prose) else None


def _bytes(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")


class RecordBlocks(BlockReader):
    """Blocks of a record: the lines are read as the stream's were, and the times stand in the last
    column, so that the stream's own keep their numbers."""

    def __init__(self, inner: BlockReader) -> None:
        self.inner, self.shape = inner, inner.shape
        self.columns = [*inner.columns, RECEIVED]

    def ask(self, types: dict[int, pa.DataType]) -> None:
        """From one of the next blocks on, columns come in these types where they can."""
        times = len(self.columns) - 1
        self.inner.ask({index: kind for index, kind in types.items() if index != times})

    def read(self, block: bytes) -> Read:
        """The rows of a block."""
        stamps: list[bytes] = []
        lines: list[bytes] = []
        cut = CUT.encode()
        torn = 0
        for line in block.removesuffix(b"\n").split(b"\n"):
            stamp, _, rest = line.partition(b",")
            stamped = stamp.endswith(b"Z") and not line.startswith(b"#")
            is_torn = stamped and rest.rstrip(b"\r").endswith(cut)
            torn += is_torn
            stamps.append(stamp if stamped else b"")
            lines.append(b"#" if is_torn or not stamped else rest)
        found = self.inner.read(b"\n".join(lines) + b"\n")
        for _ in range(torn):
            found.noise.add("torn", "")
        batch = found.batch
        times = texts_to_arrow([stamps[number] for number in batch.lines.tolist()], pa.binary())
        columns = [*(batch.columns[i] for i in range(len(self.columns) - 1)), times]
        return replace(found, batch=replace(batch, columns=columns))
