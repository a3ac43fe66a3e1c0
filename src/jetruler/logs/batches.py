"""A log as batches of samples with their times: what every command that reads a log begins with."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from functools import cached_property

import numpy as np

from ..core.arrays import Array
from ..core.model.stream import Stream
from .ahead import Workers
from .cells import Samples, read_samples
from .reader import LogReader, RowBatch
from .source import LogError
from .times import TimeColumn, find_time_column

#: Called after each batch with how much is read and, where it is known, of how much.
Progress = Callable[[int, int | None], None]


class SampleBatch:
    """Some rows of a log: their times, and the samples of any column.

    Attributes
    ----------
    rows : the rows as the log has them.
    time_column : the log's time column, None if it has none.
    first : number of rows before these.
    """

    def __init__(
        self, rows: RowBatch, time_column: TimeColumn | None, first: int = 0, decimal: str = "."
    ) -> None:
        self.rows, self.time_column, self.first = rows, time_column, first
        self._decimal = decimal
        self._samples: dict[int, Samples] = {}

    def __len__(self) -> int:
        return self.rows.rows

    @cached_property
    def times(self) -> Array:
        """Time of each row in seconds; the number of the row where the log has no time column."""
        if self.time_column is None:
            return np.arange(self.first, self.first + len(self), dtype=np.float64)
        return self.time_column.seconds(self.rows.columns[self.time_column.place])

    @cached_property
    def interval(self) -> float | None:
        """The usual time between two samples in these rows, in seconds; None without times."""
        if self.time_column is None:
            return None
        return self.time_column.interval(self.rows.columns[self.time_column.place])

    def samples(self, place: int) -> Samples:
        """Return the counts in a column, read once."""
        if place not in self._samples:
            cells = self.rows.columns[place]
            self._samples[place] = read_samples(cells, self._decimal, self.rows.torn)
        return self._samples[place]

    def head(self, rows: int) -> SampleBatch:
        """Return the first rows."""
        return SampleBatch(self.rows.head(rows), self.time_column, self.first, self._decimal)

    def time_cell(self, row: int) -> object:
        """Return the time of a row as the log has it."""
        assert self.time_column is not None
        return self.rows.columns[self.time_column.place][row].as_py()


def sample_batches(
    reader: LogReader,
    used: Iterable[int],
    *,
    stream: Stream | None = None,
    timed: bool = True,
    integers: Iterable[int] | None = None,
    workers: Workers | None = None,
    progress: Progress | None = None,
) -> Iterator[SampleBatch]:
    """Yield a log's batches of samples with their times.

    Parameters
    ----------
    used : positions of the columns that hold counts; the time column is another one.
    stream : what the bench says of its stream, which may name the time column.
    timed : whether anybody asks for times; a log may have many columns to look through.
    integers : positions of the columns that need not stay as they are written; `used` if None.
    workers : what reads ahead.
    progress : is called after each batch.

    Raises
    ------
    LogError : if the log has no rows, or is damaged.
    """
    used = set(used)
    time_column: TimeColumn | None = None
    first = 0
    for batch in reader.batches(used if integers is None else integers, workers):
        if timed and not first:
            time_column = find_time_column(reader, batch, used, stream)
        yield SampleBatch(batch, time_column, first, reader.form.decimal)
        first += batch.rows
        if progress:
            progress(*reader.progress)
    if not first:
        raise LogError(f"{reader.name}: the log has a header but no rows")
