"""What stands where in a converted log: the columns that pass through, then values, then flags."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from ..core.model.channel import Bench, Channel
from ..samples.reader import LogReader
from ..samples.source import LogError
from .options import ResultOptions

FLAGS_COLUMN = "flags"


@dataclass(frozen=True, eq=False)
class Layout:
    """The columns of a result.

    pass_through: positions of the log's columns that are kept, as they are. counts: positions of
    the columns that any channel of the bench reads. uncertainty: whether each channel that has
    numbers has its expanded uncertainty behind it.
    """

    reader: LogReader
    title: str
    channels: list[Channel]
    places: list[int]
    pass_through: list[int]
    counts: set[int]
    uncertainty: bool

    @classmethod
    def of(
        cls,
        reader: LogReader,
        bench: Bench,
        options: ResultOptions,
    ) -> Layout:
        """Of some of a bench's channels, all if `only` is empty. Raises `LogError`."""
        channels = chosen(bench, options.only)
        places = [reader.position(channel.column) for channel in channels]
        used = set() if options.keep_raw else set(places)
        pass_through = [i for i in range(len(reader.columns)) if i not in used]
        counts = reader.positions(channel.column for channel in bench.channels.values())
        return cls(
            reader,
            bench.title,
            channels=channels,
            places=places,
            pass_through=pass_through,
            counts=counts,
            uncertainty=options.uncertainty,
        )

    @property
    def kept(self) -> list[str]:
        """Names of the columns that pass through."""
        return [self.reader.columns[i] for i in self.pass_through]

    def names(self, added: Iterable[str]) -> list[str]:
        """Names of all columns. Raises `LogError` where two are the same."""
        kept, added = self.kept, [*added, FLAGS_COLUMN]
        for name in added:
            if name in kept and self.reader.has_header:
                raise LogError(
                    f"{self.reader.name}: its column {name!r} has the name of a result; rename "
                    "the column, or the channel"
                )
        return kept + added


def chosen(bench: Bench, only: Iterable[str]) -> list[Channel]:
    """Some channels of a bench by name; all if none are named. Raises `LogError`."""
    names = list(only) or list(bench.channels)
    for name in names:
        if name not in bench.channels:
            has = ", ".join(bench.channels)
            raise LogError(f"the bench has no channel {name!r}; it has: {has}")
    return [bench[name] for name in names]
