"""A bench: all channels of one set-up, with their trips and drives, and how its logs are
written."""

from __future__ import annotations

import math
import re
from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from os import PathLike
from typing import IO, TYPE_CHECKING, Any, Literal, TypeAlias, TypeVar, cast

from .. import OUTER
from ..error_types import ParameterError
from ..result import old_fields, refuses_fields
from ..ruler.converter import Converter
from ..ruler.quantity import seconds
from ..ruler.units import factor, nearest
from .channel import Channel
from .derived import DerivedChannel, in_order
from .drives import Drive
from .modes import WireLines
from .trips import Trip

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
            why = f"the column {column} is that of {taken[column]} already"
            yield kind, name, ParameterError("name", name, "another name", why)
        taken.setdefault(column, f"{kind} {name}")


LineEnd = Literal["lf", "crlf", "cr"]
#: The signs that end a line, by their name.
LINE_ENDS: dict[LineEnd, str] = {"lf": "\n", "crlf": "\r\n", "cr": "\r"}
#: The formats of a log: four forms of lines, and a file of typed columns.
FORMATS = ("csv", "pairs", "words", "jsonl", "parquet")
#: The signs between two cells, by the name that options and messages use.
DELIMITERS = {"comma": ",", "semicolon": ";", "tab": "\t", "blank": " ", "bar": "|"}
TIME_UNITS = {unit: found[1] for unit in ("s", "ms", "us", "min", "h") if (found := factor(unit))}


#: Words for units of time, as names of columns have them.
_TIME_WORDS = {
    **dict.fromkeys(("millis", "msec", "milliseconds"), "ms"),
    **dict.fromkeys(("micros", "usec", "microseconds", "µs"), "us"),
    **dict.fromkeys(("sec", "secs", "second", "seconds"), "s"),
    "mins": "min",
    "minutes": "min",
    "hours": "h",
}


def time_factor(name: str) -> float | None:
    """Return the seconds of the unit that the name of a time column ends in; None where it names
    none."""
    words = "|".join((*_TIME_WORDS, "us", "ms", "min", "h"))
    unit = re.search(rf"(?:^|[_\s(\[])({words}|(?<=[_\s(\[])s)[)\]]?$", name.strip())
    return TIME_UNITS[_TIME_WORDS.get(unit[1], unit[1])] if unit else None


@refuses_fields
@old_fields(kind="format", timestamp="time")
@dataclass(frozen=True)
class LogFormat:
    """How a log or a stream is written. What is left out is found out from the first lines.

    Parameters
    ----------
    delimiter : str, optional
        The character between two cells, or its name: "comma", "semicolon", "tab", "blank", "bar".
    decimal : str, default "."
        The decimal mark: "." or ",".
    header : bool, optional
        Whether the first line has the names. A first line with only numbers and times is data.
    comment : str, default "#"
        Lines that start with this are skipped and counted.
    format : str, optional
        "csv" (cells), "pairs" (`name=value` or `name: value`), "words" (numbers between words that
        stay the same), "jsonl" (one JSON object per line), "parquet".
    columns : tuple[str, ...], optional
        Names of the columns, for lines without a header.
    time : str | int, optional
        The column with the log's own time.
    time_unit : str, optional
        Unit of the time column: "s", "ms", "us", "min" or "h"; by default from its name (`t_ms`),
        else seconds.
    interval : float | str, optional
        Time between two samples, for a log without a time column.
    baud : int, default 115200
        Baud rate of a serial port.
    stale : float | str, default 2.0
        Seconds of silence after which the data of a stream is stale.
    line_end : {"lf", "crlf", "cr"}, default "lf"
        Line end of the lines that are sent.

    Raises
    ------
    ParameterError
        For parameters that make no sense.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.LogFormat(delimiter="semicolon", decimal=",").delimiter
    ';'
    """

    delimiter: str | None = None
    """The character between two cells, or its name: "comma", "semicolon", "tab", "blank", "bar"."""
    decimal: str = "."
    """The decimal mark: "." or ","."""
    header: bool | None = None
    """Whether the first line has the names. A first line with only numbers and times is data."""
    comment: str = "#"
    """Lines that start with this are skipped and counted."""
    format: str | None = None
    """"csv" (cells), "pairs" (`name=value` or `name: value`), "words" (numbers between words that
    stay the same), "jsonl" (one JSON object per line), "parquet"."""
    columns: tuple[str, ...] | None = None
    """Names of the columns, for lines without a header."""
    time: str | int | None = None
    """The column with the log's own time."""
    time_unit: str | None = None
    """Unit of the time column: "s", "ms", "us", "min" or "h"; by default from its name (`t_ms`),
    else seconds."""
    interval: float | str | None = None
    """Time between two samples, for a log without a time column."""
    baud: int = 115_200
    """Baud rate of a serial port."""
    stale: float | str = 2.0
    """Seconds of silence after which the data of a stream is stale."""
    line_end: LineEnd = "lf"
    """Line end of the lines that are sent."""

    def __post_init__(self) -> None:
        if self.delimiter in DELIMITERS:
            object.__setattr__(self, "delimiter", DELIMITERS[self.delimiter])
        if self.format == "json":
            object.__setattr__(self, "format", "jsonl")
        for error in self.errors():
            raise error

    @property
    def seconds_between(self) -> float | None:
        """The interval in seconds."""
        return None if self.interval is None else seconds(self.interval)

    def errors(self) -> Iterator[ParameterError]:
        """The errors among the parameters."""
        if self.format not in (None, "json", *FORMATS):
            yield ParameterError("format", self.format, f"one of {', '.join(FORMATS)}")
        sign = DELIMITERS.get(self.delimiter or "", self.delimiter)
        if sign is not None and (
            len(sign) != 1 or sign in '"\r\n.-+' or sign.isalnum() or not sign.isascii()
        ):
            expected = f"one of {', '.join(DELIMITERS)}, or one sign"
            yield ParameterError("delimiter", self.delimiter, expected)
        if self.decimal not in (".", ","):
            yield ParameterError("decimal", self.decimal, "a point or a comma")
        if self.decimal == "," and sign == ",":
            expected = "different signs for the delimiter and the decimal mark"
            yield ParameterError("decimal", self.decimal, expected)
        if not isinstance(self.comment, str) or not self.comment:
            yield ParameterError("comment", self.comment, "the text that a comment begins with")
        if self.columns is not None and (
            not self.columns
            or isinstance(self.columns, str)
            or not all(isinstance(name, str) and name for name in self.columns)
            or len(set(self.columns)) < len(self.columns)
        ):
            yield ParameterError("columns", self.columns, "different names, in order")
        if isinstance(self.time, bool) or (isinstance(self.time, int) and self.time < 1):
            yield ParameterError("time", self.time, "the name or number of a column")
        if isinstance(self.time, str) and self.columns and self.time not in self.columns:
            yield ParameterError("time", self.time, f"one of columns ({', '.join(self.columns)})")
        if self.time_unit is not None and self.time_unit not in TIME_UNITS:
            yield ParameterError("time_unit", self.time_unit, f"one of {', '.join(TIME_UNITS)}")
        if self.interval is not None and not 0 < seconds(self.interval) < math.inf:
            yield ParameterError("interval", self.interval, 'a time above 0, as in "20 ms"')
        if isinstance(self.baud, bool) or not isinstance(self.baud, int) or self.baud < 1:
            yield ParameterError("baud", self.baud, "bits a second, above 0")
        if self.line_end not in LINE_ENDS:
            yield ParameterError("line_end", self.line_end, f"one of {', '.join(LINE_ENDS)}")
        if not 0 < seconds(self.stale) < math.inf:
            yield ParameterError("stale", self.stale, 'a time above 0, as in "2 s"')


@refuses_fields
@old_fields(stream="log")
@dataclass(frozen=True, repr=False)
class Bench(Mapping[str, Channel]):
    """All channels, trips and drives of one set-up, and how its logs are written.

    Parameters
    ----------
    title : str
        What people call it.
    channels : dict[str, Channel] | list[Channel]
        Channels by name, or one after another.
    trips : dict[str, Trip] | list[Trip], optional
        Trips by name, or one after another.
    drives : dict[str, Drive] | list[Drive], optional
        Drives by name, or one after another.
    log : LogFormat, optional
        How its logs and streams are written.
    converter : Converter, optional
        The converter that its channels share, where the file has a table `[converter]`; each
        channel's own is in its ruler.
    derived : dict[str, DerivedChannel], optional
        The channels that are computed from others; those among `channels` go here. As a mapping
        a bench has both.
    wire : WireLines, optional
        Set-up lines and lines by name that its actuators' controller is sent.

    Raises
    ------
    ParameterError
        For a name whose column is that of another channel, trip or drive; for a trip or drive that
        follows what is not on the bench.

    Examples
    --------
    >>> import jetruler as jr
    >>> knob = jr.Channel("knob", jr.Counts(12) >> jr.Line(0.1), "ch0")
    >>> jr.Bench("Desk", {"knob": knob})["knob"].column
    'ch0'
    """

    title: str
    """What people call it."""
    channels: dict[str, Channel]
    """Channels by name, or one after another."""
    trips: dict[str, Trip] = field(default_factory=dict)
    """Trips by name, or one after another."""
    drives: dict[str, Drive] = field(default_factory=dict)
    """Drives by name, or one after another."""
    log: LogFormat | None = None
    """How its logs and streams are written."""
    converter: Converter | None = None
    """The converter that its channels share, where the file has a table `[converter]`; each
    channel's own is in its ruler."""
    derived: dict[str, DerivedChannel] = field(default_factory=dict)
    """The channels that are computed from others; those among `channels` go here. As a mapping a
    bench has both."""
    wire: WireLines | None = None
    """Set-up lines and lines by name that its actuators' controller is sent."""

    if TYPE_CHECKING:  # a list of channels is one by their names

        def __init__(
            self,
            title: str,
            channels: Mapping[str, Channel] | Iterable[Channel],
            trips: Mapping[str, Trip] | Iterable[Trip] = ...,
            drives: Mapping[str, Drive] | Iterable[Drive] = ...,
            log: LogFormat | None = None,
            converter: Converter | None = None,
            derived: Mapping[str, DerivedChannel] = ...,
            wire: WireLines | None = None,
        ) -> None: ...

    def __post_init__(self) -> None:
        named = _by_name("channels", self.channels, Channel) | self.derived
        measured = {n: c for n, c in named.items() if not isinstance(c, DerivedChannel)}
        known = dict(measured)
        for channel in in_order(named.values()):
            if isinstance(channel, DerivedChannel):  # a source may have been changed
                known[channel.name] = channel.with_sources(known)
        computed = {n: c for n, c in known.items() if isinstance(c, DerivedChannel)}
        object.__setattr__(self, "channels", measured)
        object.__setattr__(self, "derived", computed)
        trips, drives = _by_name("trips", self.trips, Trip), _by_name("drives", self.drives, Drive)
        trips = {key: trip.in_units(self._unit_of) for key, trip in trips.items()}
        drives = {key: drive.in_unit(self._unit_of(drive.source)) for key, drive in drives.items()}
        object.__setattr__(self, "trips", trips)
        object.__setattr__(self, "drives", drives)
        for trip in trips.values():
            for condition in trip.conditions:
                _check_known("channel", condition.channel, self.every_channel, "a channel")
        for drive in drives.values():
            sources = [*self.every_channel, *trips]
            _check_known("source", drive.source, sources, "a channel or a trip")
            for name in drive.safe_when:
                _check_known("safe_when", name, trips, "a trip")
            for mode in drive.modes:
                if mode.when:
                    _check_known("when", mode.when, trips, "a trip")
        for _, _, error in column_clashes(self.every_channel, self.trips, self.drives):
            raise error

    def _unit_of(self, source: str) -> str | None:
        """Unit of a channel; a trip has none."""
        return self.every_channel[source].unit if source in self.every_channel else None

    @property
    def every_channel(self) -> dict[str, Channel]:
        """The channels of a log, then those that are computed from others, sources first."""
        return {**self.channels, **self.derived}

    @property
    def own_channels(self) -> list[Channel]:
        """The channels of a log, but for those that are another's reading in another unit."""
        return [channel for channel in self.channels.values() if not channel.other_of]

    def narrowed(self, names: Iterable[str], **others: Any) -> Bench:
        """The bench with some channels of the log, and those that are computed from them alone.
        others: what else is replaced."""
        kept = {name: self.channels[name] for name in self.channels if name in {*names}}
        computed = {
            name: channel
            for name, channel in self.derived.items()
            if all(source.name in kept for source in channel.measured)
        }
        return replace(self, channels=kept, derived=computed, **others)

    def __repr__(self) -> str:
        return f"Bench({self.title!r}: {', '.join(self)})"

    def __getitem__(self, name: str) -> Channel:
        if name in self.channels:
            return self.channels[name]
        if name in self.derived:
            return self.derived[name]
        raise KeyError(f"no channel {name!r}; {nearest(str(name), self.every_channel)}")

    def measured(self, name: str) -> Channel:
        """A channel with a column of a log. Raises `ParameterError` for any other name."""
        if name in self.channels:
            return self.channels[name]
        if name in self.derived:
            sources = " and ".join(source.name for source in self.derived[name].sources)
            why = f"it is computed from {sources}"
            raise ParameterError("channel", name, "a channel of a log", why)
        raise ParameterError("channel", name, "a channel", nearest(str(name), self.channels))

    def _ipython_key_completions_(self) -> list[str]:
        return list(self)

    def _repr_html_(self) -> str:
        return OUTER.html(self)

    def __hash__(self) -> int:
        return hash((self.title, *self))

    def __contains__(self, name: object) -> bool:
        return name in self.channels or name in self.derived

    def __iter__(self) -> Iterator[str]:
        return iter([*self.channels, *self.derived])

    def __len__(self) -> int:
        return len(self.channels) + len(self.derived)

    def convert(self, frame: Any, **options: Any) -> Any:
        """Convert a frame of counts into the same type of frame with values.

        The result has the columns that no channel uses, then a column `<channel>_<unit>` for each
        channel, then `flags`, a category of words.

        Parameters
        ----------
        frame : pandas DataFrame (its index is kept), PyArrow Table or RecordBatch, Polars
            DataFrame, or Dask DataFrame, which stays lazy and gives the same values to the last
            bit, however it is divided. Counts are whole numbers; floats may hold NaN, and text is
            read as that of a CSV log.
        **options : `only`, the names of some channels; `keep_raw`, to keep the raw columns;
            `uncertainty`, for the expanded uncertainty behind each channel; `commands`, for a
            column of truths for each trip and a column of commands for each drive before `flags`
            (where they ask for times, the frame needs a column, or an index, of time).

        Returns
        -------
        Values in float64 at full precision; NaN in pandas and Dask and null elsewhere where there
        is no value; zones as categories of their labels.

        Raises
        ------
        LogError : for a column that is missing.
        TypeError : for what is no frame, or no option.
        """
        return OUTER.convert_frame(self, frame, **options)


#: Where a bench is needed: one, or its file by path, or open.
BenchLike: TypeAlias = Bench | str | PathLike[str] | IO[Any]


def bench_of(bench: BenchLike) -> Bench:
    """A bench, or the one of a bench file: a path, or something that can be read."""
    return bench if isinstance(bench, Bench) else cast(Bench, OUTER.load_bench(bench))


Part = TypeVar("Part", Channel, Trip, Drive)


def _by_name(key: str, given: Any, kind: type[Part]) -> dict[str, Part]:
    """Parts of a bench by name. Raises `ParameterError` for what is none, and for a name twice."""
    by_name = dict(given) if isinstance(given, Mapping) else None
    parts = given if by_name is None else by_name.values()
    listed = list(parts) if isinstance(parts, Iterable) else [parts]
    for one in listed:
        if not isinstance(one, kind):
            raise ParameterError(key, one, f"{key}, as in {kind.__name__}(name, …)")
    if by_name is not None:
        return by_name
    named = {one.name: one for one in listed}
    if len(named) < len(listed):
        raise ParameterError(key, [one.name for one in listed], "a name for each")
    return named


def _check_known(key: str, name: object, known: Collection[str], what: str) -> None:
    if name not in known:
        why = nearest(str(name), known)
        raise ParameterError(key, name, f"{what} of the bench", why)
