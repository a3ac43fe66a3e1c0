"""A log as batches of samples with their times: what every command that reads a log begins with."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from functools import cached_property

from ..core.arrays import Array
from .ahead import Workers
from .cells import Samples, read_samples
from .reader import LogReader, RowBatch
from .source import LogError
from .times import LogClock, TimeColumn, clock_of

#: Called after each batch with how much is read and, where it is known, of how much.
Progress = Callable[[int, int | None], None]


class SampleBatch:
    """Some rows of a log: their times, and the samples of any column.

    Attributes
    ----------
    rows : the rows as the log has them.
    clock : when each row was sampled.
    first : number of rows before these.
    """

    def __init__(self, rows: RowBatch, clock: LogClock, first: int = 0, decimal: str = ".") -> None:
        self.rows, self.clock, self.first = rows, clock, first
        self._decimal = decimal
        self._samples: dict[int, Samples] = {}

    def __len__(self) -> int:
        return self.rows.rows

    @property
    def time_column(self) -> TimeColumn | None:
        """The log's time column, None if it has none."""
        return self.clock.column

    @cached_property
    def times(self) -> Array:
        """Time of each row in seconds; the number of the row where the log has no clock."""
        return self.clock.times(self.rows, self.first)

    @property
    def clock_times(self) -> Array | None:
        """The times; None where the log has no clock."""
        return self.times if self.clock.is_known else None

    @cached_property
    def interval(self) -> float | None:
        """The usual time between two samples in these rows, in seconds; None without a clock."""
        return self.clock.interval(self.rows)

    def samples(self, place: int) -> Samples:
        """Return the counts in a column, read once."""
        if place not in self._samples:
            cells = self.rows.columns[place]
            self._samples[place] = read_samples(cells, self._decimal, self.rows.torn)
        return self._samples[place]

    def head(self, rows: int) -> SampleBatch:
        """Return the first rows."""
        return SampleBatch(self.rows.head(rows), self.clock, self.first, self._decimal)

    def time_cell(self, row: int) -> object:
        """Return the time of a row as the log has it, else in seconds, else its number from 1."""
        if self.time_column is None:
            return f"{self.times[row]:.6g}" if self.clock.is_known else self.first + row + 1
        return self.rows.columns[self.time_column.place][row].as_py()


def sample_batches(
    reader: LogReader,
    used: Iterable[int],
    *,
    timed: bool = True,
    integers: Iterable[int] | None = None,
    workers: Workers | None = None,
    progress: Progress | None = None,
) -> Iterator[SampleBatch]:
    """Yield a log's batches of samples with their times.

    Parameters
    ----------
    used : positions of the columns that hold counts; the time column is another one.
    timed : whether anybody asks for times; a log may have many columns to look through.
    integers : positions of the columns that need not stay as they are written; `used` if None.
    workers : what reads ahead.
    progress : is called after each batch.

    Raises
    ------
    LogError : if the log has no rows, or is damaged.
    """
    used = set(used)
    clock = LogClock(step=reader.form.seconds_between)
    first = 0
    for batch in reader.batches(used if integers is None else integers, workers):
        if timed and not first:
            clock = clock_of(reader, batch, used)
        found = SampleBatch(batch, clock, first, reader.form.decimal)
        if clock.column is not None and clock.column.is_of_day:
            _ = found.times  # in order, for the midnights
        yield found
        first += batch.rows
        if progress:
            progress(*reader.progress)
    if not first and any(reader.noise.counts.values()):
        raise reader.nothing_read(reader.columns[place].strip() for place in sorted(used))
    if not first:
        raise LogError(f"{reader.name}: the log has a header but no rows")
