"""Opening a log in whatever format and form it is written; Parquet; frames, Series and arrays in
the place of a log."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import replace
from os import PathLike
from pathlib import Path
from types import TracebackType
from typing import Any, Protocol, TypeAlias

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from ..core.bench.bench import LogFormat
from ..core.containers import NumbersError, is_a, to_array
from ..core.error_types import KindError, LogError
from ..files import note_read, reachable
from .cells import to_arrow, values_to_arrow
from .head import LONGEST_NAME, Above, Head, find_head, head_lines
from .source import Columns, Log, LogReader, LogSource, RowBatch, kind_of, name_of
from .text_log import BlockReader, TextReader
from .threads import Workers

#: A new column: numbers (NaN where there is none), truths, or texts from a dictionary.
NewColumn: TypeAlias = Any


class Kind(Protocol):
    """One library's frames."""

    def names(self, frame: Any) -> list[Any]:
        """The columns' names."""

    def rows(self, frame: Any) -> int:
        """How many rows."""

    def column(self, frame: Any, name: Any) -> pa.Array:
        """A column."""

    def beside(self, frame: Any) -> tuple[str, Callable[[], pa.Array]] | None:
        """A name and the values of what is beside the columns and may tell the time."""

    def changed(self, frame: Any, left_out: Sequence[Any], new: Mapping[str, NewColumn]) -> Any:
        """The frame without some columns and with new ones behind the others."""


class PandasFrames:
    """pandas.DataFrame: its index is kept; texts become categories."""

    def __init__(self, pandas: Any) -> None:
        self.pandas = pandas

    def names(self, frame: Any) -> list[Any]:
        return list(frame.columns)

    def rows(self, frame: Any) -> int:
        return len(frame)

    def column(self, frame: Any, name: Any) -> pa.Array:
        return self._array(frame[name])

    def _array(self, series: Any) -> pa.Array:
        if isinstance(series.dtype, np.dtype) and series.dtype.kind in "iuf":
            return to_arrow(series.to_numpy())
        try:
            found = pa.array(series, from_pandas=True)
        except (pa.ArrowInvalid, pa.ArrowTypeError):  # objects of several types
            found = pa.array(series.astype("string"), from_pandas=True)
        return found.combine_chunks() if isinstance(found, pa.ChunkedArray) else found

    def beside(self, frame: Any) -> tuple[str, Callable[[], pa.Array]] | None:
        index = frame.index
        if isinstance(index, self.pandas.DatetimeIndex):
            return str(index.name or "time"), lambda: self._array(index.to_series())
        if index.name is not None:
            return str(index.name), lambda: self._array(index.to_series())
        return None

    def changed(self, frame: Any, left_out: Sequence[Any], new: Mapping[str, NewColumn]) -> Any:
        added = {
            name: self.pandas.Series(self._new(column), index=frame.index)
            for name, column in new.items()
        }
        kept = frame.drop(columns=list(left_out))
        return self.pandas.concat([kept, self.pandas.DataFrame(added, index=frame.index)], axis=1)

    def _new(self, column: NewColumn) -> Any:
        if not isinstance(column, pa.DictionaryArray):
            return column
        codes = column.indices.fill_null(-1).to_numpy()
        # With a text among them, pandas takes no texts for texts too, and frames can be joined.
        texts = self.pandas.Index([*column.dictionary.to_pylist(), ""])[:-1]
        return self.pandas.Categorical.from_codes(codes, texts)


class ArrowFrames:
    """pyarrow.Table, or RecordBatch: null where there is no value."""

    def names(self, frame: Any) -> list[Any]:
        return list(frame.schema.names)

    def rows(self, frame: Any) -> int:
        return int(frame.num_rows)

    def column(self, frame: Any, name: Any) -> pa.Array:
        found = frame.column(name)
        if not isinstance(found, pa.ChunkedArray):
            return found
        whole = found.combine_chunks()
        # A column of no chunks stays one.
        return pa.concat_arrays(whole.chunks) if isinstance(whole, pa.ChunkedArray) else whole

    def beside(self, frame: Any) -> tuple[str, Callable[[], pa.Array]] | None:
        return None

    def changed(self, frame: Any, left_out: Sequence[Any], new: Mapping[str, NewColumn]) -> Any:
        for name in left_out:
            frame = (
                frame.remove_column(frame.schema.get_field_index(name))
                if isinstance(frame, pa.Table)
                else frame.drop_columns([name])
            )
        for name, column in new.items():
            frame = frame.append_column(name, arrow_column(column))
        return frame


class PolarsFrames:
    """polars.DataFrame: null where there is no value; texts become categories."""

    def __init__(self, polars: Any) -> None:
        self.polars = polars

    def names(self, frame: Any) -> list[Any]:
        return list(frame.columns)

    def rows(self, frame: Any) -> int:
        return int(frame.height)

    def column(self, frame: Any, name: Any) -> pa.Array:
        found = frame[name].to_arrow()
        if pa.types.is_large_string(found.type) or pa.types.is_string_view(found.type):
            return found.cast(pa.string())
        return found

    def beside(self, frame: Any) -> tuple[str, Callable[[], pa.Array]] | None:
        return None

    def changed(self, frame: Any, left_out: Sequence[Any], new: Mapping[str, NewColumn]) -> Any:
        series = [
            self.polars.from_arrow(arrow_column(column)).rename(name)
            for name, column in new.items()
        ]
        return frame.drop(list(left_out)).with_columns(series)


def arrow_column(column: NewColumn) -> pa.Array:
    """A new column as PyArrow's."""
    if isinstance(column, pa.DictionaryArray):
        return column
    if column.dtype == np.bool_:
        bits = pa.py_buffer(np.packbits(column, bitorder="little"))
        return pa.Array.from_buffers(pa.bool_(), column.size, [None, bits])
    return values_to_arrow(column, complete=False)


def frames_like(frame: Any) -> Kind:
    """The kind of a frame. Whoever has one has loaded its library: no import is paid here.
    Raises `TypeError` for what is no frame."""
    if is_a(frame, "pandas", "DataFrame"):
        return PandasFrames(sys.modules["pandas"])
    if isinstance(frame, pa.Table | pa.RecordBatch):
        return ArrowFrames()
    if is_a(frame, "polars", "DataFrame"):
        return PolarsFrames(sys.modules["polars"])
    if is_a(frame, "polars", "LazyFrame"):
        raise KindError("a Polars LazyFrame has no rows yet; .collect() it first")
    raise KindError(
        "expected a frame of pandas, PyArrow, Polars or Dask, found "
        f"{type(frame).__module__}.{type(frame).__qualname__}"
    )


class FrameReader(LogReader):
    """A frame in the place of a log: all of it is one batch."""

    counted = "row"

    def __init__(self, frame: Any, form: LogFormat | None = None) -> None:
        super().__init__("the frame", form or LogFormat())
        self.kind, self.frame = frames_like(frame), frame
        self.own = self.kind.names(frame)
        self.beside = self.kind.beside(frame)
        beside = [] if self.beside is None else [self.beside[0]]
        self.columns = [str(name) for name in [*self.own, *beside]]
        own = self.columns[: len(self.own)]
        twice = next((name for name in own if own.count(name) > 1), None)
        if twice is not None:
            raise LogError(
                f"{self.name}: expected columns with names of their own, found {twice!r} twice"
            )

    def batches(
        self, integers: Iterable[int] = (), workers: Workers | None = None
    ) -> Iterator[RowBatch]:
        """One batch."""
        if not self.kind.rows(self.frame):
            raise LogError(f"{self.name}: expected rows, found none")
        yield self.batch()

    def batch(self) -> RowBatch:
        """All rows; a column is fetched when it is asked for."""
        rows = self.kind.rows(self.frame)
        return RowBatch(Columns(len(self.columns), self._fetched), np.arange(1, rows + 1))

    def _fetched(self, index: int) -> pa.Array:
        if index < len(self.own):
            return self.kind.column(self.frame, self.own[index])
        assert self.beside is not None
        return self.beside[1]()


class ArrayReader(FrameReader):
    """Arrays and Series: columns with numbers for names, unless a Series has one."""

    def __init__(self, values: Any, form: LogFormat | None = None) -> None:
        name, numbers = getattr(values, "name", None), to_array(values)[0]
        if numbers.ndim not in (1, 2) or not numbers.size:
            found = f"an array of shape {numbers.shape}"
            raise LogError(f"expected an array of shape (n,) or (n, columns), found {found}")
        columns = list(numbers.T) if numbers.ndim == 2 else [numbers]
        names = [str(i + 1) for i in range(len(columns))] if name is None else [str(name)]
        table = {n: _column(column) for n, column in zip(names, columns, strict=True)}
        super().__init__(pa.table(table), form)
        self.name, self.unnamed = "the array", name is None
        self.has_header = False if self.unnamed else None


def _column(values: Any) -> pa.Array:
    found = np.ascontiguousarray(values)
    return values_to_arrow(found, complete=False) if found.dtype == np.float64 else to_arrow(found)


def reader_of(data: Any, form: LogFormat | None = None) -> FrameReader:
    """The reader of a frame, or of anything else that holds numbers. Raises `LogError`."""
    try:
        return FrameReader(data, form)
    except TypeError as error:
        try:
            return ArrayReader(data, form)
        except NumbersError:
            raise LogError(str(error)) from None


PARQUET_MAGIC = b"PAR1"

#: Bytes that are read at once, and rows of a typed log, where nothing else is said.
BLOCK_BYTES = 4 * 2**20


def open_log(
    path: Log,
    form: LogFormat | None = None,
    block_bytes: int = BLOCK_BYTES,
    wanted: Sequence[str | int] = (),
) -> LogReader:
    """A log's reader, or that of a frame or array; by `form`, else by its first bytes and lines and
    what its name ends in. "-" is standard input.

    block_bytes: about how much is read at once. wanted: columns that a bench asks for. Raises
    `LogError`.
    """
    form = form or LogFormat()
    if not isinstance(path, str | PathLike | bytes) and not hasattr(path, "read"):
        return reader_of(path, form)
    if isinstance(path, str | PathLike) and str(path) != "-":
        path = reachable(Path(path).expanduser())
    kind = form.format or ("parquet" if _starts_as_parquet(path) else kind_of(path))
    if kind == "parquet":
        if not isinstance(path, str | PathLike) or str(path) == "-":
            raise LogError(
                f"{name_of(path)}: expected a file, found a stream: Parquet is read from its end"
            )

        return ParquetReader(Path(path), form, block_bytes)
    source = LogSource(path)
    try:
        known = replace(form, format=kind) if kind == "jsonl" else form
        return _text_reader(source, known, wanted, source.blocks(block_bytes))
    except BaseException as error:
        source.__exit__(type(error), error, error.__traceback__)
        raise


def _text_reader(
    source: LogSource,
    form: LogFormat,
    wanted: Sequence[str | int],
    following: Iterator[tuple[bytes, bool]],
) -> TextReader:
    """The reader of a log of text, by its first lines."""
    above = Above(form.comment)
    while True:
        block, last = next(following, (b"", True))
        head = find_head(head_lines(block), form, wanted)
        if head is not None:
            break
        if not block:
            raise LogError(f"{source.name}: expected a log, found an empty file")
        above.add(block.decode("utf-8", "surrogateescape").split("\n")[:-1])
    longest = max(len(name) for name in head.shape.columns)
    if longest > LONGEST_NAME:
        expected = "is not a line of a CSV log"
        raise LogError(f"{source.name}: the first line, {longest} bytes long, {expected}")
    if head.shape.kind == "jsonl" and not head.is_record:
        from .text_log import fields_of

        # Fields that are declared may come later.
        names = tuple(dict.fromkeys([*fields_of(block), *(form.columns or ())]))
        head = replace(head, shape=replace(head.shape, names=names))
    elif form.format == "jsonl" and head.shape.kind != "jsonl":
        raise LogError(
            f"{source.name}: the first lines hold no JSON record; a record a line, "
            'like {"time_s": 0.2, "ch0": 1880}'
        )
    above.add(head.above, head.header, head.units)
    rest = block.split(b"\n", head.begin)
    reader = TextReader(
        source,
        head.form,
        blocks_of(head, head.form),
        following=following,
        held=(rest[-1] if len(rest) > head.begin else b"", last),
        line=above.lines + 1,
    )
    reader.first_line = rest[-1][:60].split(b"\n")[0].decode("utf-8", "replace").strip()
    reader.crlf = block[: block.find(b"\n") + 1].endswith(b"\r\n")
    above.comments -= head.is_record
    reader.comments, reader.blank_lines = above.comments, above.blank
    reader.noise.join(above.noise)
    return reader


def blocks_of(head: Head, form: LogFormat) -> BlockReader:
    """What reads lines of a form, from a file or a stream."""
    shape = head.shape
    blocks: BlockReader
    if shape.kind == "jsonl":
        from .text_log import JsonBlocks

        blocks = JsonBlocks(shape, form)
    elif shape.plain or (shape.delimiter == " " and not shape.stamped and not shape.brackets):
        from .csv_log import CsvBlocks

        blocks = CsvBlocks(shape, form, sorts=head.sorts, blank_is_row=head.blank_is_row)
    else:
        from .text_log import LineBlocks

        blocks = LineBlocks(shape, form)
    if head.is_record:
        from .text_log import RecordBlocks

        blocks = RecordBlocks(blocks)
    return blocks


def _starts_as_parquet(path: Log) -> bool:
    if not isinstance(path, str | PathLike) or str(path) == "-" or not Path(path).is_file():
        return False
    try:
        with Path(path).open("rb") as file:
            return file.read(4) == PARQUET_MAGIC
    except OSError:
        return False  # whoever opens it really says why


FEWEST_ROWS, MOST_ROWS = 2**14, 2**18


class ParquetReader(LogReader):
    """A Parquet log. Its rows are numbered from 1."""

    counted = "row"

    def __init__(self, path: Path, form: LogFormat, block_bytes: int) -> None:
        super().__init__(str(path), form)
        self._file = self._open(path)
        schema = self._file.schema_arrow
        self.types: list[pa.DataType] = list(schema.types)
        self.columns = list(schema.names)
        width = sum(_bytes_of(kind) for kind in self.types)
        self._rows = min(MOST_ROWS, max(FEWEST_ROWS, 4 * block_bytes // max(1, width)))
        self._read = 0

    def _open(self, path: Path) -> pq.ParquetFile:
        try:
            note_read(path)
            return pq.ParquetFile(path, pre_buffer=False)
        except FileNotFoundError:
            raise LogError(f"{self.name}: expected a log, found no such file") from None
        except IsADirectoryError:
            raise LogError(f"{self.name}: expected a log, found a folder") from None
        except (pa.ArrowException, OSError, ValueError) as error:
            raise self._damaged(error) from None

    def _damaged(self, error: BaseException) -> LogError:
        if isinstance(error, OSError) and error.strerror is not None:
            return LogError(f"{self.name}: cannot be read: {error.strerror}")
        why = str(error).split("\n")[0].split(". ")[0]
        return LogError(f"{self.name}: this Parquet file is damaged or cut short: {why}")

    @property
    def progress(self) -> tuple[int, int | None]:
        """Rows read, and of how many."""
        return self._read, self._file.metadata.num_rows

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        traceback: TracebackType | None,
    ) -> None:
        self._file.close()

    def batches(
        self, integers: Iterable[int] = (), workers: Workers | None = None
    ) -> Iterator[RowBatch]:
        """The rows in order."""
        with ExitStack() as stack:
            if workers is None:
                workers = stack.enter_context(Workers())
            for batch in workers.ahead(self._batches(workers.threads > 1)):
                self._read += batch.rows
                yield batch

    def _batches(self, threads: bool) -> Iterator[RowBatch]:
        start = 1
        try:
            for found in self._file.iter_batches(self._rows, use_threads=threads):
                lines = np.arange(start, start + found.num_rows)
                start += found.num_rows
                if found.num_rows:
                    yield RowBatch(found.columns, lines)
        except (pa.ArrowException, OSError, ValueError) as error:
            raise self._damaged(error) from None


def _bytes_of(kind: pa.DataType) -> int:
    """About what a cell of a type takes in memory."""
    try:
        return max(1, int(kind.bit_width) // 8)
    except ValueError:
        return 16
