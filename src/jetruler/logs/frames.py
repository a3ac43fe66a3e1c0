"""Frames through a bench (pandas, PyArrow, Polars, Dask): the same readings as a log's, as columns
of the same kind of frame."""

from __future__ import annotations

import contextlib
import copy
import pickle
from dataclasses import dataclass, field
from importlib import import_module
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa

from ..core.bench.bench import Bench
from ..core.bench.channel import Channel
from ..core.bench.channel_reader import ChannelReader
from ..core.bench.decisions import Decided, Decisions
from ..core.containers import is_a
from ..core.error_types import PackageError
from ..core.result import Result, old_keywords
from ..samples.cells import to_arrow
from ..samples.opening import FrameReader, NewColumn, frames_like
from ..samples.passes import SampleBatch
from ..samples.times import HEAD_ROWS, LogClock, find_time_column
from .conversion import (
    FLAGS_COLUMN,
    Conversion,
    Layout,
    ResultOptions,
    StatefulBatch,
    decisions_of,
)
from .log_writers import labelled
from .summary import ConvertedColumn
from .texts import FlagTexts, uncertainty_texts

if TYPE_CHECKING:
    pass


@dataclass
class Memory:
    """What a conversion remembers from frame to frame: smoothing, zones that hold, trips."""

    readers: dict[int, ChannelReader] = field(default_factory=dict)
    decisions: Decisions | None = None
    clock: LogClock = field(default_factory=LogClock)


class FrameConversion:
    """One frame (or one partition of many) through a bench."""

    def __init__(self, bench: Bench, frame: Any, options: ResultOptions) -> None:
        self.bench, self.frame, self.options = bench, frame, options
        self.kind = frames_like(frame)
        self.reader = FrameReader(frame, bench.log)
        self.layout = Layout.of(self.reader, bench, options)
        looked_at = [c.name for c in self.layout.channels] if options.commands else []
        self.conversion = Conversion(self.reader, self.layout.channels, looked_at)

    @property
    def remembers(self) -> bool:
        """Whether what a row reads depends on those before it."""
        return self.options.commands or self.conversion.remembers

    def first(self) -> Memory:
        """The memory before the first row, settled by the frame's first rows."""
        rows = self.reader.batch()
        clock = LogClock(step=1.0)  # of a frame without rows: nothing asks it for a time
        if not rows.rows:
            return Memory({}, self._decisions(clock))
        clock = LogClock()
        if self.remembers:
            clock = LogClock(find_time_column(self.reader, rows, self.layout.counts))
        readers = self.conversion.readers_for(SampleBatch(rows, clock))
        return Memory(readers, self._decisions(clock), clock)

    def _decisions(self, clock: LogClock) -> Decisions | None:
        if not self.options.commands:
            return None
        channels, name = self.layout.channels, self.reader.name
        return decisions_of(self.bench, channels, clock, name, drives=True)

    def after(self, memory: Memory) -> Memory:
        """The memory behind the frame's last row."""
        memory = copy.deepcopy(memory)
        self._followed(memory)
        return memory

    def converted(self, memory: Memory | None = None) -> Any:
        """The frame with values; memory: what came before its first row."""
        memory = self.first() if memory is None else copy.deepcopy(memory)
        converted = self.conversion.converted(self._followed(memory))
        new: dict[str, NewColumn] = {}
        for channel, column in zip(self.layout.channels, converted.columns, strict=True):
            new |= self._columns(channel, column)
        new |= self._decided(converted.decided)
        texts = FlagTexts([c.name for c in self.layout.channels], "", encode=str)
        new[FLAGS_COLUMN] = sorted_dictionary(texts.encoded(converted.flags()))
        values = list(new)[: -1 - len(self.layout.decided)]
        self.layout.names(values)  # no name twice
        used = [] if self.options.keep_raw else self.layout.indices
        left_out = list(dict.fromkeys(self.reader.own[index] for index in used))
        return self.kind.changed(self.frame, left_out, new)

    def _columns(self, channel: Channel, column: ConvertedColumn) -> dict[str, NewColumn]:
        labels = channel.ruler.label(0.0) is not None
        values = sorted_dictionary(labelled(channel, column)) if labels else column.values
        found: dict[str, NewColumn] = {channel.output_column: values}
        if (
            self.options.uncertainty
            and (uncertainties := uncertainty_texts(channel, ".")) is not None
        ):
            found[uncertainties.column] = uncertainties.values(column)
        return found

    def _decided(self, decided: Decided | None) -> dict[str, NewColumn]:
        """The columns of trips and drives; without a row, nothing is decided in them."""
        if not self.options.commands:
            return {}
        bench = self.bench
        found: dict[str, NewColumn] = dict.fromkeys(bench.trips, np.empty(0, np.bool_))
        found |= {drive.output_column: np.empty(0) for drive in bench.drives.values()}
        if decided is not None:
            found |= decided.trips
            found |= {bench.drives[n].output_column: each for n, each in decided.drives.items()}
        return found

    def _followed(self, memory: Memory) -> StatefulBatch:
        batch = SampleBatch(self.reader.batch(), memory.clock)
        if not len(batch):
            return StatefulBatch(batch, {})
        followed = self.conversion.followed(batch, memory.readers)
        if memory.decisions is None:
            return followed
        return self.conversion.decided(followed, memory.decisions)


def sorted_dictionary(texts: pa.DictionaryArray) -> pa.DictionaryArray:
    """The same with its texts in order, so that no order of rows shows in it."""
    order = sorted(range(len(texts.dictionary)), key=lambda i: texts.dictionary[i].as_py())
    ranks = np.empty(len(order), np.int32)
    ranks[order] = np.arange(len(order))
    indices = to_arrow(ranks).take(texts.indices)
    return pa.DictionaryArray.from_arrays(
        indices, texts.dictionary.take(to_arrow(np.array(order, np.int64)))
    )


@old_keywords(decide="commands")
def convert_frame(bench: Bench, frame: Any, **options: Any) -> Any:
    """Convert a frame of counts into the same type of frame with values: `Bench.convert`."""
    wanted = ResultOptions(**options)
    if is_a(frame, "dask.dataframe", "DataFrame"):
        return convert_lazily(bench, frame, wanted)
    return FrameConversion(bench, frame, wanted).converted()


def frame(result: Result) -> Any:
    """Return the table of a result as a DataFrame of pandas, or of Polars where pandas is not
    there. Raises `PackageError` where neither is."""
    for library in ("pandas", "polars"):
        with contextlib.suppress(ImportError):
            return import_module(library).DataFrame(dict(result.table))
    raise PackageError("to_frame", "pandas", "pandas")


#: This many partitions are asked for the first rows, which settle what a time is in samples.
FIRST_FEW = 8


class _Carried:
    """A bench and its options as one opaque object. Dask walks into every dataclass among the
    arguments of a task, and a bench in use holds a table entry for every count."""

    def __init__(self, bench: Bench, options: ResultOptions) -> None:
        self.bench, self.options = bench, options

    def __dask_tokenize__(self) -> bytes:
        return pickle.dumps((self.bench, self.options))

    def over(self, part: Any) -> FrameConversion:
        """The conversion of one partition."""
        return FrameConversion(self.bench, part, self.options)


def convert_lazily(bench: Bench, frame: Any, options: ResultOptions) -> Any:
    """The like Dask DataFrame, not computed.

    Where nothing is remembered, every partition is on its own. Else the memory passes from
    partition to partition (only the channels that remember are computed for it), and the
    partitions themselves are converted side by side.
    """
    import dask.dataframe as dd
    from dask import delayed
    from dask.dataframe.utils import clear_known_categories

    empty = FrameConversion(bench, frame._meta, options)
    meta = clear_known_categories(empty.converted(Memory()))
    carried = delayed(_Carried(bench, options), pure=True, traverse=False)
    if not empty.remembers:
        return frame.map_partitions(_converted, carried, meta=meta)
    parts = frame.to_delayed()
    head, first = delayed(_head, pure=True), delayed(_first, pure=True)
    after, converted = delayed(_after, pure=True), delayed(_converted, pure=True)
    memory = first([head(part) for part in parts[:FIRST_FEW]], carried)
    made = []
    for part in parts:
        made.append(converted(part, carried, memory))
        memory = after(part, carried, memory)
    return dd.from_delayed(made, meta=meta, divisions=frame.divisions, verify_meta=False)


def _head(part: Any) -> Any:
    return part.iloc[:HEAD_ROWS]


def _first(heads: list[Any], carried: _Carried) -> Memory:
    import pandas as pd

    return carried.over(pd.concat(heads)).first()


def _after(part: Any, carried: _Carried, memory: Memory) -> Memory:
    return carried.over(part).after(memory)


def _converted(part: Any, carried: _Carried, memory: Memory | None = None) -> Any:
    return carried.over(part).converted(memory)
