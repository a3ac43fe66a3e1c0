"""A channel: a ruler with what a real input needs. A bench: all channels of one set-up."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any, Literal

from ..error_types import ParameterError
from ..provided import provided
from .fit_covariance import FitCovariance
from .law import Law
from .namespace import column_clashes
from .reading import Reading
from .ruler import Ruler
from .text import fixed, nearest, shown
from .units import for_column, symbol

if TYPE_CHECKING:
    from ..decide.drives import Drive
    from ..decide.smoothing import Smoothing
    from ..decide.trips import Trip
    from .log_format import LogFormat
    from .trace import Trace


@dataclass(frozen=True)
class Channel:
    """One input: its name, the log column it comes from, its ruler, and how to show it.

    Parameters
    ----------
    name : str
        Letters, digits and _, a letter first.
    chain : Ruler
        The laws from the counts to the value, without the limits.
    column : str | int
        Name of the log column, or its number from 1.
    about : str, default ""
        Free text for people.
    limits : tuple[float, float], optional
        (low, high) within which a value is expected; values outside are flagged, not changed.
    decimals : int, optional
        Places shown.
    smooth : Smoothing, optional
        How its samples are smoothed when a log is converted.
    noise : float, optional
        Standard deviation of one reading in counts.
    calibration : float | FitCovariance, optional
        What a calibration left of its error: `Toleranced` about 0, or the covariance of a fit.
    dissipation : float, optional
        Watts that warm the sensor by one kelvin.
    rails : {"ends", "faults"}, optional
        What a sample on a rail is: the end of the travel, or a broken wire; found from the marks,
        the clamp or the limits if left out.

    Attributes
    ----------
    ruler : Ruler
        The chain with the limits behind it.

    Examples
    --------
    >>> import jetruler as jr
    >>> ruler = jr.Counts(12) >> jr.Line.through((198, 0), (3904, 100), unit="%")
    >>> damper = jr.Channel("damper", ruler, "ch2", decimals=1)
    >>> damper.shown(damper.ruler(2051))
    '50.0 %'
    """

    name: str
    chain: Ruler
    column: str | int
    about: str = ""
    limits: tuple[float, float] | None = None
    decimals: int | None = None
    smooth: Smoothing | None = None
    noise: float | None = None
    calibration: float | FitCovariance | None = None
    dissipation: float | None = None
    rails: Literal["ends", "faults"] | None = None
    ruler: Ruler = field(init=False, compare=False)
    """The laws with the limits at their end."""

    def __post_init__(self) -> None:
        object.__setattr__(self, "chain", _ruler(self.chain))
        if self.smooth is not None and not hasattr(self.smooth, "settled"):
            right = 'a Smoothing is right, as in Smoothing("median", 5)'
            raise ParameterError("smooth", self.smooth, right)
        if isinstance(self.calibration, FitCovariance):
            self.calibration.place(self.chain.laws)
        object.__setattr__(
            self, "ruler", self.chain >> self._limits() if self.limits else self.chain
        )

        if self.rails not in (None, "ends", "faults"):
            raise ParameterError("rails", self.rails, '"ends" or "faults" is right')

    def _limits(self) -> Law:
        from ..laws.interval import Limits

        try:
            low, high = self.limits or (None, None)
            return Limits(low, high)
        except (TypeError, ValueError):
            right = "two numbers are right, the low one first"
            raise ParameterError("limits", self.limits, right) from None

    @property
    def unit(self) -> str | None:
        """Unit of the channel's values."""
        return self.ruler.gives

    @property
    def title(self) -> str:
        """Name and unit for people: `bean (°C)`."""
        return f"{self.name} ({symbol(self.unit)})" if self.unit else self.name

    @property
    def output_column(self) -> str:
        """Column name in a converted log: `<channel>_<unit>`, or the name alone without unit."""
        unit = for_column(self.unit)
        return f"{self.name}_{unit}" if unit else self.name

    def _repr_html_(self) -> str:
        html: str = provided("html")(self)
        return html

    def __call__(self, counts: Any) -> Any:
        """Values: a float for one count, and the like of whatever else is given."""
        return self.ruler(counts)

    def plot(self, ax: Any = None) -> Any:
        """Draw the values over the raw edge on a Matplotlib Axes, a new one if none is given, and
        return it; `jetruler.plots` has the other pictures."""
        return provided("plot")(self, ax=ax)

    def inverse(self, value: Any) -> Any:
        """From a value back to the (fractional) count, as `Ruler.inverse`."""
        return self.ruler.inverse(value)

    def slope(self, counts: Any) -> Any:
        """Units of the value per count, as `Ruler.slope`."""
        return self.ruler.slope(counts)

    def trace(self, count: float) -> Trace:
        """The worked solution from a count to its value, as `Ruler.trace`."""
        return replace(self.ruler.trace(count), channel=self.name)

    def trace_back(self, value: float) -> Trace:
        """The worked solution from a value back to its raw value, as `Ruler.trace_back`."""
        return replace(self.ruler.trace_back(value), channel=self.name)

    def read(self, counts: Any) -> Reading:
        """Values and flags, limits included."""
        return self.ruler.read(counts)

    def cell(self, value: float) -> str:
        """The value as it stands in a converted log: to `decimals`, empty for NaN."""
        return self.cells([float(value)])[0]

    def cells(self, values: list[float]) -> list[str]:
        """Many values as they stand in a converted log."""
        if self.ruler.label(0.0) is not None:
            return ["" if v != v else self.ruler.label(v) or "" for v in values]
        if (decimals := self.decimals) is None:
            return ["" if v != v else repr(v) for v in values]
        return ["" if v != v else fixed(v, decimals) for v in values]

    def shown(self, value: float) -> str:
        """The value for people, with its unit and to `decimals`."""
        if value == value and (text := self.ruler.label(value)) is not None:
            return text
        return shown(value, self.unit, self.decimals)


def ruler_of(what: Ruler | Law | Channel) -> Ruler:
    """The ruler of a channel, of one law, or itself. Raises `TypeError` for anything else."""
    if isinstance(what, Channel):
        return what.ruler
    if isinstance(what, Ruler | Law):
        return Ruler.of(what)
    raise TypeError(f"a ruler, a law or a channel is wanted; found {what!r}")


def channel_of(what: Channel | Ruler | Law) -> Channel:
    """A channel, also of a ruler or one law, which is then called `ruler`. Raises `TypeError` for
    anything else."""
    return what if isinstance(what, Channel) else Channel("ruler", ruler_of(what), 1)


def _ruler(chain: Any) -> Ruler:
    """A channel's chain: a ruler, one law, or some laws in order."""
    if isinstance(chain, Ruler):
        return chain
    laws = [chain] if isinstance(chain, Law) else chain
    if not isinstance(laws, list | tuple) or not all(isinstance(one, Law | Ruler) for one in laws):
        raise ParameterError("chain", chain, "a ruler, a law, or laws in order are right")
    return Ruler.of(*laws)


@dataclass(frozen=True, repr=False)
class Bench(Mapping[str, Channel]):
    """All channels, trips and drives of one set-up, and how its logs are written.

    Parameters
    ----------
    title : str
        What people call it.
    channels : dict[str, Channel] | list[Channel]
        Channels by name, or one after another.
    trips : dict[str, Trip], optional
        Trips by name.
    drives : dict[str, Drive], optional
        Drives by name.
    log : LogFormat, optional
        How its logs and streams are written.

    Raises
    ------
    ParameterError
        For a name whose column is that of another channel, trip or drive.

    Examples
    --------
    >>> import jetruler as jr
    >>> knob = jr.Channel("knob", jr.Counts(12) >> jr.Line(0.1), "ch0")
    >>> jr.Bench("Desk", {"knob": knob})["knob"].column
    'ch0'
    """

    title: str
    channels: dict[str, Channel]
    trips: dict[str, Trip] = field(default_factory=dict)
    drives: dict[str, Drive] = field(default_factory=dict)
    log: LogFormat | None = None

    def __post_init__(self) -> None:
        object.__setattr__(self, "channels", _by_name(self.channels))
        for _, _, error in column_clashes(self.channels, self.trips, self.drives):
            raise error

    def __repr__(self) -> str:
        return f"Bench({self.title!r}: {', '.join(self.channels)})"

    def __getitem__(self, name: str) -> Channel:
        try:
            return self.channels[name]
        except KeyError:
            raise KeyError(f"no channel {name!r}; {nearest(str(name), self.channels)}") from None

    def __contains__(self, name: object) -> bool:
        return name in self.channels

    def __iter__(self) -> Iterator[str]:
        return iter(self.channels)

    def __len__(self) -> int:
        return len(self.channels)

    def convert(self, frame: Any, **options: Any) -> Any:
        """Convert a frame of counts into the like frame of values.

        The result has the columns that no channel uses, then a column `<channel>_<unit>` for each
        channel, then `flags`, a category of words.

        Parameters
        ----------
        frame : pandas DataFrame (its index is kept), PyArrow Table or RecordBatch, Polars
            DataFrame, or Dask DataFrame, which stays lazy and gives the same values to the last
            bit, however it is divided. Counts are whole numbers; floats may hold NaN, and text is
            read as that of a CSV log.
        **options : `only`, the names of some channels; `keep_raw`, to keep the raw columns;
            `uncertainty`, for the expanded uncertainty behind each channel; `decide`, for a column
            of truths for each trip and a column of commands for each drive before `flags` (the
            frame then needs a column, or an index, of time).

        Returns
        -------
        Values in float64 at full precision; NaN in pandas and Dask and null elsewhere where there
        is no value; zones as categories of their labels.

        Raises
        ------
        LogError : for a column that is missing.
        TypeError : for what is no frame, or no option.
        """
        return provided("convert_frame")(self, frame, **options)


def _by_name(channels: Any) -> dict[str, Channel]:
    """Channels by name. Raises `ParameterError` for what is none, and for a name twice."""
    listed = list(channels.values() if isinstance(channels, Mapping) else channels)
    for one in listed:
        if not isinstance(one, Channel):
            raise ParameterError("channels", one, "channels are right, as in Channel(name, ruler)")
    if isinstance(channels, Mapping):
        return dict(channels)
    named = {channel.name: channel for channel in listed}
    if len(named) < len(listed):
        names = [channel.name for channel in listed]
        raise ParameterError("channels", names, "a name for each is right")
    return named
