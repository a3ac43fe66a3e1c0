"""Opening a log in whatever format and form it is written; Parquet."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from contextlib import ExitStack
from dataclasses import replace
from os import PathLike
from pathlib import Path
from types import TracebackType

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from ..core.bench.bench import LogFormat
from ..core.error_types import LogError
from ..system import reachable
from .frame_log import reader_of
from .head import LONGEST_NAME, Above, Head, find_head, head_lines
from .source import Log, LogReader, LogSource, RowBatch, Workers, kind_of, name_of
from .text_log import BlockReader, TextReader

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
        path = reachable(Path(path))
    kind = form.format or ("parquet" if _starts_as_parquet(path) else kind_of(path))
    if kind == "parquet":
        if not isinstance(path, str | PathLike) or str(path) == "-":
            raise LogError(f"{name_of(path)}: Parquet is read from its end, so it needs a file")

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
            raise LogError(f"{source.name}: the log is empty")
        above.add(block.decode("utf-8", "surrogateescape").split("\n")[:-1])
    longest = max(len(name) for name in head.shape.columns)
    if longest > LONGEST_NAME:
        expected = "is no line of a CSV log"
        raise LogError(f"{source.name}: the first line, {longest} bytes long, {expected}")
    if head.shape.kind == "jsonl" and not head.is_record:
        from .text_log import fields_of

        head = replace(head, shape=replace(head.shape, names=fields_of(block)))
    elif form.format == "jsonl" and head.shape.kind != "jsonl":
        raise LogError(
            f"{source.name}: the first lines hold no JSON record; a record a line, "
            'like {"time_s": 0.2, "ch0": 1880}'
        )
    above.add(head.above, head.header)
    rest = block.split(b"\n", head.begin)
    reader = TextReader(
        source,
        form,
        blocks_of(head, form),
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
        return False  # whoever opens it in earnest says why


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
