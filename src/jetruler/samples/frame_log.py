"""Frames, Series and arrays in the place of a log: their columns, all rows in one batch."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Any, Protocol, TypeAlias

import numpy as np
import pyarrow as pa

from ..core.bench.bench import LogFormat
from ..core.error_types import LogError
from ..core.numerics import as_samples
from ..core.ruler.reading import loaded
from .cells import to_arrow, values_to_arrow
from .source import Columns, LogReader, RowBatch, Workers

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
        """A name and the values of what stands beside the columns and may tell the time."""

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
        return self.pandas.Categorical.from_codes(codes, column.dictionary.to_pylist())


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


def is_a(frame: Any, module: str, name: str) -> bool:
    """Whether it is of a class of a module that may not be loaded."""
    kind = loaded(module, name)
    return kind is not None and isinstance(frame, kind)


def kind_of(frame: Any) -> Kind:
    """The kind of a frame. Whoever has one has loaded its library: no import is paid here.
    Raises `TypeError` for what is no frame."""
    if is_a(frame, "pandas", "DataFrame"):
        return PandasFrames(sys.modules["pandas"])
    if isinstance(frame, pa.Table | pa.RecordBatch):
        return ArrowFrames()
    if is_a(frame, "polars", "DataFrame"):
        return PolarsFrames(sys.modules["polars"])
    if is_a(frame, "polars", "LazyFrame"):
        raise TypeError("a Polars LazyFrame has no rows yet; .collect() it first")
    raise TypeError(
        "expected a frame of pandas, PyArrow, Polars or Dask, found "
        f"{type(frame).__module__}.{type(frame).__qualname__}"
    )


class FrameReader(LogReader):
    """A frame in the place of a log: all of it is one batch."""

    counted = "row"

    def __init__(self, frame: Any, form: LogFormat | None = None) -> None:
        super().__init__("the frame", form or LogFormat())
        self.kind, self.frame = kind_of(frame), frame
        self.own = self.kind.names(frame)
        self.beside = self.kind.beside(frame)
        beside = [] if self.beside is None else [self.beside[0]]
        self.columns = [str(name) for name in [*self.own, *beside]]

    def batches(
        self, integers: Iterable[int] = (), workers: Workers | None = None
    ) -> Iterator[RowBatch]:
        """One batch."""
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
        name = getattr(values, "name", None)
        columns = np.moveaxis(np.ma.asanyarray(values), -1, 0) if _is_table(values) else [values]
        names = [str(i + 1) for i in range(len(columns))] if name is None else [str(name)]
        table = {n: _column(column) for n, column in zip(names, columns, strict=True)}
        super().__init__(pa.table(table), form)
        self.name, self.unnamed = "the array", name is None
        self.has_header = False if self.unnamed else None


def _is_table(values: Any) -> bool:
    return getattr(values, "ndim", 1) == 2


def _column(values: Any) -> pa.Array:
    found, missing = as_samples(values)
    if missing is not None:
        found = np.where(missing, np.nan, found)
    return values_to_arrow(found, complete=False) if found.dtype == np.float64 else to_arrow(found)


def reader_of(data: Any, form: LogFormat | None = None) -> FrameReader:
    """The reader of a frame, a Series or an array. Raises `LogError` for anything else."""
    try:
        return FrameReader(data, form)
    except TypeError as error:
        if not isinstance(data, Sequence) and not hasattr(data, "__array__"):
            raise LogError(str(error)) from None
    return ArrayReader(data, form)
