"""Reading a Parquet log in batches; what it holds is typed already."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import ExitStack
from pathlib import Path
from types import TracebackType

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from ..core.model.log_format import LogFormat
from .ahead import Workers
from .reader import LogReader, RowBatch
from .source import LogError

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
            raise LogError(f"{self.name}: there is no such file; a log is wanted") from None
        except IsADirectoryError:
            raise LogError(f"{self.name}: this is a folder; a log is wanted") from None
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
