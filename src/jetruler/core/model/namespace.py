"""One namespace for all columns that a bench writes: values, trips, drives and flags."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import TYPE_CHECKING

from ..error_types import ParameterError

if TYPE_CHECKING:
    from ..decide.drives import Drive
    from .channel import Channel

#: The columns that every result has.
FIXED = ("flags",)


def column_clashes(
    channels: Mapping[str, Channel], trips: Iterable[str], drives: Mapping[str, Drive]
) -> Iterator[tuple[str, str, ParameterError]]:
    """Yield the channels, trips and drives whose column is taken, as kind, name and error."""
    taken = dict.fromkeys(FIXED, "every result")
    columns = [
        *(("channel", c.name, c.output_column) for c in channels.values()),
        *(("channel", c.name, f"{c.output_column}_u") for c in channels.values()),
        *(("trip", name, name) for name in trips),
        *(("drive", name, drive.output_column) for name, drive in drives.items()),
    ]
    for kind, name, column in columns:
        if column in taken:
            right = f"another name: the column {column} is that of {taken[column]} already"
            yield kind, name, ParameterError("name", name, right)
        taken.setdefault(column, f"{kind} {name}")
