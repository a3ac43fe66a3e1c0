"""Dask DataFrames through a bench, lazily: partition by partition, each with the memory of those
before it."""

from __future__ import annotations

import pickle
from typing import Any

from ..core.model.channel import Bench
from ..logs.options import FrameOptions
from ..samples.times import HEAD_ROWS
from .frame_conversion import FrameConversion, Memory

#: So many partitions are asked for the first rows, which settle what a time is in samples.
FIRST_FEW = 8


class _Carried:
    """A bench and its options as one opaque object. Dask walks into every dataclass among the
    arguments of a task, and a bench in use holds a table entry for every count."""

    def __init__(self, bench: Bench, options: FrameOptions) -> None:
        self.bench, self.options = bench, options

    def __dask_tokenize__(self) -> bytes:
        return pickle.dumps((self.bench, self.options))

    def over(self, part: Any) -> FrameConversion:
        """The conversion of one partition."""
        return FrameConversion(self.bench, part, self.options)


def convert_lazily(bench: Bench, frame: Any, options: FrameOptions) -> Any:
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
