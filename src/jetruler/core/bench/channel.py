"""A channel: a ruler with what a real input needs, at every count it can have, and a raw value of
it as somebody writes it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from .. import OUTER
from ..containers import converts, like_given
from ..error_types import JetRulerError, KindError, ParameterError, QuantityError, UnitError
from ..numerics import AnyArray, Array, FlagArray
from ..result import refuses_fields
from ..ruler.base_law import FRACTION, Role
from ..ruler.quantity import Quantityish, amount, as_typed, quantity, unit_of, unit_written
from ..ruler.raw_range import raw_ends
from ..ruler.reading import Flag, Reading
from ..ruler.rounding import to_decimals
from ..ruler.ruler import Law, Ruler, To
from ..ruler.units import factor_and_offset, for_column, number, shown, spelled, symbol, usual
from .covariance import Correlation, FitCovariance
from .expected import ExpectedRow, expected_rows

#: Of a channel.
MOST_DECIMALS = 12

if TYPE_CHECKING:
    from ..ruler.reading import Trace
    from .smoothing import Smoothing


@refuses_fields
@dataclass(frozen=True)
class Channel:
    """One input: its name, the log column it comes from, its ruler, and how to show it.

    Parameters
    ----------
    name : str
        A name of letters, digits and _ that begins with a letter.
    chain : Ruler
        The laws from the raw value to the value, without the limits.
    column : str | int
        Name of the log's column, or its number from 1.
    about : str, default ""
        A description for people.
    limits : tuple[float, float], optional
        (low, high): values outside are flagged, not changed.
    decimals : int, optional
        Decimals in converted logs and displays.
    smooth : Smoothing, optional
        Smoothing of the samples of a log or stream.
    noise : float, optional
        Standard deviation of one reading, in raw units.
    calibration : float | FitCovariance, optional
        Uncertainty of a calibration: `Toleranced` about 0, or the covariance of a fit.
    dissipation : float, optional
        Power in W that warms the sensor by one kelvin.
    rails : {"ends", "faults"}, optional
        What a sample on a rail means: "ends", the end of the travel, or "faults", a broken wire. By
        default this follows from the marks, the clamp or the limits.
    correlated : tuple[Correlation, ...], default ()
        Parameters whose errors are correlated.
    expected : tuple[ExpectedRow, ...], default ()
        Rows `(raw, value)` or `(raw, value, tolerance)` that `check` tests.
    lists_edge : bool, default False
        Whether a bench file has the converter in the channel's own list of laws: messages count
        laws from it.
    other_of : str, default ""
        The channel of which this is the reading in another unit; its name includes the unit.

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
    """A name of letters, digits and _ that begins with a letter."""
    chain: Ruler
    """The laws from the raw value to the value, without the limits."""
    column: str | int
    """Name of the log's column, or its number from 1."""
    about: str = ""
    """A description for people."""
    limits: tuple[float, float] | None = None
    """(low, high): values outside are flagged, not changed."""
    decimals: int | None = None
    """Decimals in converted logs and displays."""
    smooth: Smoothing | None = None
    """Smoothing of the samples of a log or stream."""
    noise: float | None = None
    """Standard deviation of one reading, in raw units."""
    calibration: float | FitCovariance | None = None
    """Uncertainty of a calibration: `Toleranced` about 0, or the covariance of a fit."""
    dissipation: float | None = None
    """Power in W that warms the sensor by one kelvin."""
    rails: Literal["ends", "faults"] | None = None
    """What a sample on a rail means: "ends", the end of the travel, or "faults", a broken wire. By
    default this follows from the marks, the clamp or the limits."""
    correlated: tuple[Correlation, ...] = ()
    """Parameters whose errors are correlated."""
    expected: tuple[ExpectedRow, ...] = ()
    """Rows `(raw, value)` or `(raw, value, tolerance)` that `check` tests."""
    lists_edge: bool = field(default=False, compare=False, repr=False)
    """Whether a bench file has the converter in the channel's own list of laws: messages count laws
    from it."""
    other_of: str = ""
    """The channel of which this is the reading in another unit; its name includes the unit."""
    ruler: Ruler = field(init=False, compare=False)
    """The laws with the limits at their end."""

    if TYPE_CHECKING:  # a law is made a ruler, and texts and quantities are read

        def __init__(
            self,
            name: str,
            chain: Ruler | Law,
            column: str | int,
            about: str = "",
            limits: Sequence[Quantityish] | None = None,
            decimals: int | None = None,
            smooth: Smoothing | None = None,
            noise: Quantityish | None = None,
            calibration: float | FitCovariance | None = None,
            dissipation: Quantityish | None = None,
            rails: Literal["ends", "faults"] | None = None,
            correlated: Sequence[Correlation] = (),
            expected: Sequence[ExpectedRow | Sequence[Quantityish]] = (),
            lists_edge: bool = False,
            other_of: str = "",
        ) -> None: ...

    def __post_init__(self) -> None:
        object.__setattr__(self, "chain", _ruler(self.chain))
        if not isinstance(self.name, str):
            raise ParameterError("name", self.name, "a text")
        if not (isinstance(self.column, str) or _is_whole(self.column, 1, math.inf)):
            raise ParameterError("column", self.column, "the name or number of a column")
        if not (self.decimals is None or _is_whole(self.decimals, 0, MOST_DECIMALS)):
            raise ParameterError(
                "decimals", self.decimals, f"a whole number from 0 to {MOST_DECIMALS}"
            )
        if self.limits is not None and len(self.limits) != 2:
            raise ParameterError("limits", self.limits, "two values, as in (0, 100)")
        if self.smooth is not None and not hasattr(self.smooth, "settled"):
            expected = 'a Smoothing, as in Smoothing("median", 5)'
            raise ParameterError("smooth", self.smooth, expected)
        if isinstance(self.calibration, FitCovariance):
            self.calibration.index(self.chain.laws)
        object.__setattr__(self, "correlated", tuple(self.correlated))
        for correlation in self.correlated:
            correlation.places(self.chain.laws)
        read = {
            "limits": amount("limits", self.limits, self.chain.gives),
            "noise": self.raw_difference("noise", self.noise),
            "dissipation": amount("dissipation", self.dissipation, "W"),
        }
        for key, value in read.items():
            object.__setattr__(self, key, value)
        object.__setattr__(self, "expected", expected_rows(self.expected, self.chain.gives))
        if self.noise is not None and not self.noise >= 0:
            raise ParameterError("noise", self.noise, "0 or more")
        object.__setattr__(
            self, "ruler", self.chain >> self._limits() if self.limits else self.chain
        )

        if self.rails not in (None, "ends", "faults"):
            raise ParameterError("rails", self.rails, '"ends" or "faults"')

    def raw_difference(self, key: str, given: Any) -> Any:
        """A number, or a text such as `"2 mV"`, in the unit of the raw edge; volts behind a
        converter in counts. Raises `ParameterError`."""
        first, takes = self.chain.laws[0], self.chain.takes
        volts = takes == "count" and self.chain.units[1] != FRACTION
        if isinstance(given, str) and volts and _names_unit(key, given):
            size = amount(key, given, self.chain.units[1], difference=True)
            return abs(size / float(first.slope(np.zeros(1))[0]))
        return amount(key, given, takes, difference=True)

    def _limits(self) -> Law:
        from ..laws.interval import Limits

        try:
            low, high = self.limits or (None, None)
            return Limits(low, high)
        except (TypeError, ValueError):
            expected = "two numbers, the low one first"
            raise ParameterError("limits", self.limits, expected) from None

    @property
    def unit(self) -> str | None:
        """Unit of the channel's values."""
        return self.ruler.gives

    @property
    def sources(self) -> tuple[Channel, ...]:
        """The channels that it is computed from; none for one of a log."""
        return ()

    @property
    def is_whole(self) -> bool:
        """Whether its values are whole numbers, which are then written without a point."""
        last = next((law for law in reversed(self.chain.laws) if law.role is not Role.HOLD), None)
        return last is not None and last.rounds_to is not None and last.rounds_to % 1 == 0

    @property
    def title(self) -> str:
        """Name and unit for people: `bean (°C)`."""
        unit = symbol(self.unit)
        return f"{self.name} ({unit})" if unit else self.name

    @property
    def output_column(self) -> str:
        """Column name in a converted log: `<channel>_<unit>`, or the name alone without unit."""
        if self.other_of:
            return self.name
        unit = for_column(self.unit)
        return f"{self.name}_{unit}" if unit else self.name

    def in_unit(self, unit: str) -> Channel:
        """The same reading in another unit of its kind, or at a joint of its chain that has the
        unit: a channel `<name>_<unit>` of the same column, smoothed alike.

        Examples
        --------
        >>> import jetruler as jr
        >>> chain = jr.Adc(12) >> jr.Divider("10 kohm") >> jr.Beta("100 kohm", 3950)
        >>> bean = jr.Channel("bean", chain, "ch0", decimals=1)
        >>> round(bean.in_unit("degF")(1880), 1), round(bean.in_unit("ohm")(1880))
        (199.5, 8488)
        """
        unit = spelled(unit)
        chain, decimals = self.chain, self.decimals
        try:
            if self.unit is None:
                raise UnitError("it has none")
            factor, _ = factor_and_offset(self.unit, unit)
            chain = Ruler.of(self.chain, To(unit))
            if decimals is not None:
                decimals = max(0, decimals - math.floor(math.log10(factor) + 0.5))
        except UnitError:
            joints = {each.gives: each for each in self.chain.from_the_pin if each.gives}
            if unit not in joints:
                known = ", ".join(symbol(each) for each in joints if each not in ("1", FRACTION))
                expected = f"a unit of {symbol(self.unit) or 'its result'}, or of a joint: {known}"
                raise ParameterError("also", unit, expected) from None
            chain = joints[unit]
            size = chain.sizes[-1]
            decimals = max(0, 4 - math.floor(math.log10(size))) if 0 < size < math.inf else 4
        name = f"{self.name}_{for_column(unit)}"
        return replace(
            self,
            name=name,
            chain=chain,
            limits=None,
            decimals=min(decimals, MOST_DECIMALS) if decimals is not None else None,
            calibration=None,
            correlated=(),
            expected=(),
            other_of=self.name,
        )

    def _repr_html_(self) -> str:
        return OUTER.html(self)

    @converts
    def __call__(
        self, counts: Any, out: Array | None = None, threads: int = 1, units: bool = False
    ) -> Any:
        """Values: a float for one count, and the same type for anything else, as of a ruler."""
        return self.ruler(counts, out, threads, units)  # type: ignore[call-overload]

    def plot(self, ax: Any = None) -> Any:
        """Draw the values over the raw edge on a Matplotlib Axes, a new one if none is given, and
        return it; `jetruler.plots` has the other pictures."""
        return OUTER.plot(self, ax=ax)

    @like_given
    def inverse(self, value: Any) -> Any:
        """From a value back to the (fractional) count, as `Ruler.inverse`."""
        return self.ruler.inverse(value)

    @like_given
    def slope(self, counts: Any) -> Any:
        """Units of the value per count, as `Ruler.slope`."""
        return self.ruler.slope(counts)

    def trace(self, count: Quantityish) -> Trace:
        """The worked solution from a count to its value, as `Ruler.trace`; of a text such as
        `"1.5 V"` too."""
        return replace(self.ruler.trace(raw_from(self, count, "count")), channel=self.name)

    def trace_back(self, value: float) -> Trace:
        """The worked solution from a value back to its raw value, as `Ruler.trace_back`."""
        return replace(self.ruler.trace_back(value), channel=self.name)

    def read(self, counts: Any) -> Reading:
        """Values and flags, limits included."""
        return self.ruler.read(counts)

    def cell(self, value: float) -> str:
        """The value as a converted log has it: to `decimals`, empty for NaN."""
        return self.cells([float(value)])[0]

    def cells(self, values: list[float]) -> list[str]:
        """Many values as they stand in a converted log."""
        if self.ruler.label(0.0) is not None:
            return ["" if v != v else self.ruler.label(v) or "" for v in values]
        if self.decimals is None and self.is_whole:
            return ["" if v != v else _plain(v) for v in values]
        if self.decimals is None:
            return ["" if v != v else repr(v) for v in values]
        rounded = to_decimals(np.array(values), self.decimals, self.ruler.sizes[-1]).tolist()
        return ["" if v != v else f"{v:.{self.decimals}f}" for v in rounded]

    def shown(self, value: float) -> str:
        """The value for people, with its unit and to `decimals`."""
        if value == value and (text := self.ruler.label(value)) is not None:
            return text
        return shown(value, self.unit, self.decimals, self.ruler.sizes[-1])


def _names_unit(key: str, text: str) -> bool:
    """Whether a text says another unit than counts. Raises `ParameterError`."""
    try:
        return unit_of(text) not in (None, "count")
    except QuantityError as error:
        raise ParameterError(key, text, error.expected, error.why) from None


def _plain(value: float) -> str:
    """A whole number without a point."""
    return str(int(value)) if value.is_integer() else repr(value)


def ruler_of(what: Ruler | Law | Channel) -> Ruler:
    """The ruler of a channel, of one law, or itself. Raises `TypeError` for anything else."""
    if isinstance(what, Channel):
        return what.ruler
    if isinstance(what, Ruler | Law):
        return Ruler.of(what)
    raise KindError(f"expected a ruler, a law or a channel, found {what!r}")


def channel_of(what: Channel | Ruler | Law) -> Channel:
    """A channel, also of a ruler or one law, which is then called `ruler`. Raises `TypeError` for
    anything else."""
    return what if isinstance(what, Channel) else Channel("ruler", ruler_of(what), 1)


def _is_whole(given: object, least: int, most: float) -> bool:
    """Whether something is a whole number within its ends."""
    whole = isinstance(given, int | np.integer) and not isinstance(given, bool)
    return whole and least <= int(given) <= most  # type: ignore[call-overload]


def _ruler(chain: Any) -> Ruler:
    """A channel's chain: a ruler, one law, or some laws in order."""
    if isinstance(chain, Ruler):
        return chain
    laws = [chain] if isinstance(chain, Law) else chain
    if not isinstance(laws, list | tuple) or not all(isinstance(one, Law | Ruler) for one in laws):
        raise ParameterError("chain", chain, "a ruler, a law, or laws in order")
    return Ruler.of(*laws)


@dataclass(frozen=True, eq=False)
class CodeTable:
    """The readings of a channel at all its counts, and at three places more.

    values, flags: one for all counts below, then one a count from `lowest` up, then one for all
    counts above, then one for a sample that is missing. A place is an index into both.
    """

    lowest: int
    values: Array
    flags: FlagArray

    @classmethod
    def of(cls, channel: Channel) -> CodeTable | None:
        """None for a ruler that has no finite input."""
        tables = channel.ruler.compiled()
        if tables is None:
            return None
        values, flags = (table.values for table in tables)
        off, gone = np.uint8(Flag.OFF_SCALE), np.uint8(Flag.MISSING)
        return cls(
            tables[0].lowest,
            np.concatenate(([np.nan], values, [np.nan, np.nan])),
            np.concatenate(([off], flags, [off, gone])).astype(np.uint8),
        )

    @property
    def missing(self) -> int:
        """The place of a missing sample."""
        return self.values.size - 1

    def indices(self, counts: AnyArray, missing: AnyArray | None = None) -> AnyArray:
        """The place of each of some integer counts (int32)."""
        low, high = self.lowest - 1, self.lowest + self.values.size - 3
        kind, size = counts.dtype.kind, counts.dtype.itemsize
        if kind == "u" and size == 8:
            counts = np.minimum(counts, np.uint64(2**62))
        if size < 4:
            counts = counts.astype(np.int32)
        elif kind == "u" or not counts.dtype.isnative:
            counts = counts.astype(np.int64)
        # Clipped first: the shift of a very large count would overflow.
        indices = np.clip(counts, low, high)
        indices -= low
        if missing is not None:
            indices[missing] = self.missing
        return indices.astype(np.int32, copy=False)

    def histogram(self, indices: AnyArray) -> AnyArray:
        """How many samples are at each place."""
        return np.bincount(indices, minlength=self.values.size)

    def read(self, indices: AnyArray, unit: str | None = None) -> Reading:
        """The readings at some places."""
        values = np.take(self.values, indices, mode="clip")
        return Reading(values, np.take(self.flags, indices, mode="clip"), unit)


def raw_from(channel: Channel, text: Quantityish, place: str, *, whole: bool = False) -> float:
    """The raw value that is meant.

    Parameters
    ----------
    channel : Channel
        Whose raw value it is.
    text : float | str
        A number is raw. A text may have a unit: `700 count`, `50 %` of the range, what the channel
        reads (`90 degC`), or what is anywhere on its chain, from the pin on (`3.42 V`,
        `3.9 kohm`); it goes back through the laws before.
    place : str
        What messages call it.
    whole : bool, default False
        Whether counts are needed, as a converter gives them.

    Raises
    ------
    JetRulerError
        For a text that is none of these.
    """
    takes, kind = channel.ruler.takes, type(text).__name__
    text = as_typed(text)
    if not isinstance(text, int | float | str | np.number):
        raise KindError(f"{place}: expected one raw value, found {kind}")
    raw = _raw(channel, text)
    if not math.isfinite(raw):
        found = (back.gives for back in reversed(_joints(channel)))
        units = dict.fromkeys(u for u in found if u not in (None, "1", "count", "fraction"))
        ways = ["a count" if takes == "count" else "a number", "a percentage of its range"]
        ways += [f"a value in {', '.join(map(symbol, units))}"] if units else []
        expected = f"{', '.join(ways[:-1])} or {ways[-1]}"
        raise JetRulerError(f"{place}: expected {expected}, found {_shown(text)}")
    if takes != "count":
        return raw
    nearest = float(np.rint(raw))  # what a way back through floats leaves is no part of a count
    return nearest if whole or math.isclose(raw, nearest, rel_tol=1e-12) else raw


def raw_at(what: Ruler | Law | Channel, at: Quantityish) -> float:
    """The raw value that is meant by `at`, of a channel, a ruler or a law: see `raw_from`."""
    channel = what if isinstance(what, Channel) else Channel("the ruler", what, 1)
    return raw_from(channel, at, "at")


def _shown(text: float | str) -> str:
    return repr(text) if isinstance(text, str) else number(float(text))


def _raw(channel: Channel, text: float | str) -> float:
    try:
        return float(text)
    except ValueError:
        pass
    ruler, given = channel.ruler, str(text)
    given = given.strip()
    if ruler.takes == "count" and given.endswith(("count", "counts")):
        return _number(given.removesuffix("s").removesuffix("count"))
    if ruler.takes not in ("count", None):
        raw = _in_unit(given, str(ruler.takes))
        if not math.isnan(raw):
            return raw
    for back in _joints(channel):
        value = _in_unit(given, back.gives)
        if not math.isnan(value):
            return float(back.inverse(value))
    if given.endswith(("%", "percent")):
        try:
            low, high = raw_ends(ruler)
        except JetRulerError:
            return math.nan
        return low + (high - low) * _number(given.removesuffix("%").removesuffix("percent")) / 100.0
    return math.nan


def _joints(channel: Channel) -> list[Ruler]:
    """The chain up to where a value may be said: its end first, then from the pin on."""
    ends = [] if channel.ruler.label(0.0) is not None else [channel.chain]
    return [*ends, *channel.chain.from_the_pin]


def _number(text: str) -> float:
    try:
        return float(text)
    except ValueError:
        return math.nan


#: Units that no other one converts into.
_ELECTRICAL = {"V", "A", "ohm"}


def _in_unit(text: str, unit: str | None) -> float:
    if unit in (None, "1", "count", "fraction"):
        return math.nan
    try:
        given, wanted = usual(unit_written(text) or ""), usual(unit or "")
        if given and wanted and {given[0], wanted[0]} & _ELECTRICAL and given[0] != wanted[0]:
            return math.nan  # said without the registry, which takes a while to load
        return float(quantity(text, unit))
    except QuantityError:
        return math.nan
