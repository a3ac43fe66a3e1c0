"""Dask DataFrames through a bench, lazily: partition by partition, each with the memory of those
before it."""

from __future__ import annotations

from typing import Any

from ..core.channel import Bench
from ..logs.followers import HEAD_ROWS
from .convert import FrameConversion, Memory, Options

#: So many partitions are asked for the first rows, which settle what a time is in samples.
FIRST_FEW = 8


def convert_lazily(bench: Bench, frame: Any, options: Options) -> Any:
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
    if not empty.remembers:
        return frame.map_partitions(_converted, bench, options, meta=meta)
    parts = frame.to_delayed()
    head, first = delayed(_head, pure=True), delayed(_first, pure=True)
    after, converted = delayed(_after, pure=True), delayed(_converted, pure=True)
    memory = first([head(part) for part in parts[:FIRST_FEW]], bench, options)
    made = []
    for part in parts:
        made.append(converted(part, bench, options, memory))
        memory = after(part, bench, options, memory)
    return dd.from_delayed(made, meta=meta, divisions=frame.divisions, verify_meta=False)


def _head(part: Any) -> Any:
    return part.iloc[:HEAD_ROWS]


def _first(heads: list[Any], bench: Bench, options: Options) -> Memory:
    import pandas as pd

    return FrameConversion(bench, pd.concat(heads), options).first()


def _after(part: Any, bench: Bench, options: Options, memory: Memory) -> Memory:
    return FrameConversion(bench, part, options).after(memory)


def _converted(part: Any, bench: Bench, options: Options, memory: Memory | None = None) -> Any:
    return FrameConversion(bench, part, options).converted(memory)
