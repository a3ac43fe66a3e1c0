"""Small files of numbers: marks, and the points of a table. They are read as logs are: any
delimiter, decimal commas, units behind numbers, other encodings."""

from __future__ import annotations

import io
from collections.abc import Iterable
from pathlib import Path
from typing import IO, Any, cast

import numpy as np

from ..core.bench.bench import LogFormat
from ..core.error_types import LogError
from ..core.numerics import Array
from ..files import bytes_of_file
from ..samples.cells import as_text, read_samples
from ..samples.passes import EveryPass, SampleBatch, walk
from ..samples.source import NONE_TORN, LogReader, RowBatch
from ..samples.threads import Workers

#: More than anybody writes by hand.
MOST_ROWS = 1_000_000


class NumberFileError(LogError):
    """A cell that is no number, or a line that has none. where: the file and, most often, a line.
    column: of the cell. what: the cell, or the line."""

    def __init__(self, where: str, expected: str, what: str, column: str = "") -> None:
        self.where = where
        place = ": ".join(filter(None, (where, column)))
        super().__init__(f"{place}: expected {expected}, found {what!r}")


class _Rows(EveryPass):
    """Keeps all rows as they are written."""

    timed = False

    def __init__(self) -> None:
        self.batches: list[RowBatch] = []

    def begin(self, reader: LogReader) -> Iterable[int]:
        """Nothing is read as samples yet."""
        self.reader = reader
        return ()

    def add(self, batch: SampleBatch) -> None:
        """The next rows. Raises `LogError` for too many: a packed file may have any number."""
        self.batches.append(batch.rows)
        if batch.first > MOST_ROWS:
            expected = f"a small file, of up to {MOST_ROWS} rows"
            raise LogError(f"{self.reader.name}: expected {expected}, found more")


class NumberFile:
    """The rows of a small file.

    Attributes
    ----------
    columns : names of its columns; without a header, their numbers.
    units : the units that it states beside its columns.
    lines : the line of each row.
    """

    def __init__(self, path: Any, name: str, header: bool | None = None) -> None:
        """path: an open file, or its path. Raises `OSError`, and `LogError` for what is none."""
        given = path.read() if hasattr(path, "read") else bytes_of_file(Path(path).expanduser())
        file: Any = io.BytesIO(given if isinstance(given, bytes) else str(given).encode())
        file.name = name
        self.is_empty = not file.getvalue().strip()
        self.name = name
        self.columns: list[str] = []
        self.units: dict[str, str] = {}
        self._rows = _Rows()
        if self.is_empty:
            return
        form = LogFormat(header=header)
        walk(cast(IO[bytes], file), self._rows, form=form, workers=Workers(1), silent=True)
        reader = self._rows.reader
        self.columns, self.units = reader.columns, dict(reader.units)
        self._decimal = reader.form.decimal
        for number, _ in reader.quotes:
            raise NumberFileError(f"{name} line {number}", "a quote that is closed", "none")
        for line in reader.noise.first.values():
            raise NumberFileError(name, "numbers in each line", line)

    @property
    def lines(self) -> list[int]:
        """The line of each row."""
        return [int(line) for batch in self._rows.batches for line in batch.lines]

    def column(self, index: int, called: str) -> Array:
        """The numbers of a column; a row may lack its last cells, or have a few more.

        Raises `NumberFileError` for a cell that is none, `IndexError` for a column that is none.
        """
        _ = self.columns[index]
        found = [np.empty(0)]
        for batch in self._rows.batches:
            samples = read_samples(batch.numbers(index), self._decimal, NONE_TORN)
            if samples.missing is not None and samples.missing.any():
                row = int(np.argmax(samples.missing))
                cell = as_text(batch.columns[index].slice(row, 1))[0].as_py()
                text = cell.decode("utf-8", "replace") if isinstance(cell, bytes) else cell
                where = f"{self.name} line {batch.lines[row]}"
                separated = "," in text
                expected = "a number" + ", without separators, as in 1234.5" * separated
                raise NumberFileError(where, expected, text.strip(), called)
            found.append(samples.counts.astype(np.float64))
        return np.concatenate(found)
