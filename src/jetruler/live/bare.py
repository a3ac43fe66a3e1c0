"""A bench for a board that nobody has described yet: every column of numbers as it comes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ..core.laws.raw_input import Input
from ..core.model.channel import Bench, Channel
from ..core.model.log_format import LogFormat
from ..core.model.ruler import Ruler
from ..samples.cells import read_samples
from ..samples.head import find_head, head_lines
from ..samples.opening import blocks_of
from ..samples.shapes import EXPECTED
from ..samples.times import find_time_column
from .stream_errors import StreamError


@dataclass
class _Names:
    columns: list[str]
    form: LogFormat


def bare_bench(head: bytes, form: LogFormat, name: str) -> Bench:
    """A channel a column of numbers. head: the first whole lines. Raises `StreamError` where none
    of them can be read."""
    found = find_head(head_lines(head), form)
    if found is None or not found.sorts:
        quoted = head.split(b"\n")[0][:60].decode("utf-8", "replace")
        raise StreamError(f"{name}: found {quoted!r}; {EXPECTED}")
    blocks = blocks_of(found, form)
    batch = blocks.read(head.split(b"\n", found.begin)[-1]).batch
    time = find_time_column(_Names(blocks.columns, form), batch, set())
    channels: dict[str, Channel] = {}
    for place, column in enumerate(blocks.columns):
        if time is not None and place == time.place:
            continue
        samples = read_samples(batch.columns[place], form.decimal, batch.torn)
        if samples.present.size:
            called = _called(column, channels)
            known = _column(found.shape.names, place)
            whole = samples.counts.dtype.kind == "i"
            chain = Ruler((Input("1"),))
            channels[called] = Channel(called, chain, known, decimals=0 if whole else None)
    if not channels:
        raise StreamError(f"{name}: no column holds numbers; {EXPECTED}")
    return Bench("as it comes", channels)


def _column(names: Sequence[str], place: int) -> str | int:
    return place + 1 if not names else names[place] if place < len(names) else place + 1


def _called(column: str, taken: dict[str, Channel]) -> str:
    from ..benchfile.starter import channel_name

    name = base = channel_name(column)
    n = 2
    while name in taken:
        name, n = f"{base}_{n}", n + 1
    return name
