"""Channels that are computed from others: power from voltage and current, a tilt from two axes, a
difference, the mean of several."""

from __future__ import annotations

import ast
import math
import operator
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, get_args

import numpy as np

from ..containers import like_given
from ..error_types import JetRulerError, ParameterError, QuantityError, UnitError
from ..laws.formula import FIXED, FUNCTIONS, Dual, Duals, expression_tree, with_numbers
from ..laws.raw_edge import Input
from ..laws.thermocouple import Kind, emf, emf_slope
from ..numerics import Array
from ..result import refuses, refuses_fields
from ..ruler.base_law import Evaluator, ignore_fp_warnings
from ..ruler.quantity import Quantityish, quantity, unit_written
from ..ruler.reading import Flag, Reading, Step, Trace
from ..ruler.ruler import Ruler
from ..ruler.units import (
    factor_and_offset,
    nearest,
    number,
    number_of_units,
    shown,
    size_of,
    spelled,
    text_of_units,
)
from .channel import Channel, raw_from
from .channel_reader import ChannelReader

#: Functions of several values, each with its derivatives.
TOGETHER: dict[str, tuple[Any, Any]] = {
    "atan2": (np.arctan2, lambda y, x: (x / (x * x + y * y), -y / (x * x + y * y))),
    "hypot": (np.hypot, lambda a, b: (a / np.hypot(a, b), b / np.hypot(a, b))),
    "min": (np.minimum, lambda a, b: (np.where(a <= b, 1.0, 0.0), np.where(a <= b, 0.0, 1.0))),
    "max": (np.maximum, lambda a, b: (np.where(a >= b, 1.0, 0.0), np.where(a >= b, 0.0, 1.0))),
}


#: Millivolts of a thermocouple against 0 °C at this many °C, for cold junctions that are measured.
EMF = {f"emf_{kind.lower()}": kind for kind in get_args(Kind)}


class _Several(Duals):
    """Values with their derivatives by one of several names."""

    def call(self, name: str, values: list[Dual]) -> Dual:
        if name in EMF:
            ((t, dt),) = values
            return emf(EMF[name], t), emf_slope(EMF[name], t) * dt
        if name not in TOGETHER:
            return super().call(name, values)
        (a, da), (b, db) = values
        function, slopes = TOGETHER[name]
        by_a, by_b = slopes(a, b)
        return function(a, b), by_a * da + by_b * db


#: What operators make of plain numbers.
_OF_NUMBERS: dict[type[ast.operator], Any] = {
    ast.Add: operator.add,
    ast.Sub: operator.sub,
    ast.Mult: operator.mul,
    ast.Div: operator.truediv,
    ast.Pow: operator.pow,
}


class _Units(Evaluator[Any]):
    """Units of an expression: quantities of size 1, and plain numbers, which fit any unit. A number
    is known where it may be an exponent, and NaN where it follows from a value."""

    def __init__(self, names: Mapping[str, Any]) -> None:
        self._names = names

    def constant(self, number: Any) -> Any:
        return float(number)

    def name(self, name: str) -> Any:
        return self._names[name]

    def unary(self, op: ast.unaryop, value: Any) -> Any:
        return -value if isinstance(value, float) and isinstance(op, ast.USub) else value

    def call(self, name: str, values: list[Any]) -> Any:
        if name == "sqrt":
            return math.nan if isinstance(values[0], float) else values[0] ** 0.5
        if name in EMF:
            return size_of("mV")
        if name in ("abs", "hypot", "min", "max"):
            return self._of_one_kind(values)
        return math.nan

    def _of_one_kind(self, values: list[Any]) -> Any:
        units = [value for value in values if not isinstance(value, float)]
        if not units:
            return math.nan
        first = units[0]
        for other in units[1:]:
            if other.dimensionality != first.dimensionality:
                raise UnitError(f"{text_of_units(first)} and {text_of_units(other)} do not add up")
        return first

    def binary(self, op: ast.operator, left: Any, right: Any) -> Any:
        if isinstance(left, float) and isinstance(right, float):
            return float(_OF_NUMBERS[type(op)](left, right))
        match op:
            case ast.Add() | ast.Sub():
                return self._of_one_kind([left, right])
            case ast.Mult():
                return right if isinstance(left, float) else self._times(left, right)
            case ast.Div():
                return 1 / right if isinstance(left, float) else self._over(left, right)
        if isinstance(left, float):
            return math.nan
        if not isinstance(right, float) or math.isnan(right):
            raise ValueError("the unit differs with the values")
        return left**right

    @staticmethod
    def _times(left: Any, right: Any) -> Any:
        return left if isinstance(right, float) else left * right

    @staticmethod
    def _over(left: Any, right: Any) -> Any:
        return left if isinstance(right, float) else left / right


@dataclass(frozen=True)
class Combination:
    """A formula of the values of several channels, with its unit worked out.

    expression: of the names of the sources, as of the law `formula`, and atan2, hypot, min and max
    of two values. unit: of the result; worked out where it is left out. constants: by name, a text
    with its unit: `"5 V"`. Values are taken in the units of their channels, those of one kind in
    the unit of the first.
    """

    expression: str
    sources: tuple[Channel, ...]
    unit: str | None = None
    constants: tuple[tuple[str, float | str], ...] = ()
    _found: tuple[str | None, float] = field(init=False, compare=False, default=(None, 1.0))

    def __post_init__(self) -> None:
        for source in self.sources:
            if source.ruler.label(0.0) is not None:
                why = "a zone is no number"
                raise ParameterError("from", source.name, "channels with numbers", why)
        names = [source.name for source in self.sources]
        constants = dict(self.constants)
        both = sorted({*names} & {*FIXED, *FUNCTIONS, *TOGETHER, *EMF, *constants})
        if both:
            raise ParameterError(
                "from", both[0], "another name", "the name has a meaning in formulas"
            )
        known = {*names, *FIXED, *constants}
        tree = expression_tree(self.expression, known, tuple(TOGETHER), tuple(EMF))
        used = {node.id for node in ast.walk(tree) if isinstance(node, ast.Name)}
        if unused := [name for name in names if name not in used]:
            raise ParameterError("from", unused[0], f"a name in {self.expression!r}")
        object.__setattr__(self, "_found", self._unit_and_factor(tree))

    @cached_property
    def _tree(self) -> ast.expr:
        return ast.parse(self.expression.strip(), mode="eval").body

    @property
    def gives(self) -> str | None:
        """Unit of the result."""
        return self._found[0]

    @property
    def result_factor(self) -> float:
        """What the formula's number is multiplied by to be in the unit of the result."""
        return self._found[1]

    @cached_property
    def _commons(self) -> dict[Any, str]:
        """The unit that values of each kind are brought to: that of the first of them."""
        first: dict[Any, str] = {}
        units = [source.unit for source in self.sources] + [u for _, u in self._given.values()]
        for unit in units:
            if unit is not None and (size := size_of(unit)) is not None:
                first.setdefault(frozenset(size.dimensionality.items()), unit)
        return first

    def _common(self, unit: str | None) -> str | None:
        """The unit that one of its kind is brought to; None where it is none."""
        size = None if unit is None else size_of(unit)
        if size is None:
            return None
        return self._commons[frozenset(size.dimensionality.items())]

    @cached_property
    def _given(self) -> dict[str, tuple[float, str | None]]:
        """The constants as they are written: number and unit."""
        found: dict[str, tuple[float, str | None]] = {}
        for name, value in self.constants:
            if not isinstance(value, str):
                found[name] = (float(value), None)
                continue
            try:
                unit = unit_written(value)
                found[name] = (
                    float(quantity(value, unit)),
                    None if unit is None else spelled(unit),
                )
            except QuantityError as error:
                raise ParameterError(name, value, error.expected, error.why) from None
        return found

    @cached_property
    def numbers(self) -> dict[str, float]:
        """The constants as numbers, in the units that values of their kinds are brought to."""
        found = {}
        for name, (value, unit) in self._given.items():
            common = self._common(unit)
            times, plus = (1.0, 0.0) if common is None else factor_and_offset(str(unit), common)
            found[name] = value * times + plus
        return found

    @cached_property
    def scales(self) -> tuple[tuple[float, float], ...]:
        """Factor and offset that bring each source to the first unit of its kind."""
        found = []
        for source in self.sources:
            common = self._common(source.unit)
            same = common is None or source.unit is None
            found.append((1.0, 0.0) if same else factor_and_offset(source.unit, common))
        return tuple(found)

    def _unit_and_factor(self, tree: ast.expr) -> tuple[str | None, float]:
        """The unit of the result, and what it is multiplied by to be in that unit."""
        sizes: dict[str, Any] = dict(FIXED)
        for source in self.sources:
            common = self._common(source.unit)
            sizes[source.name] = math.nan if common is None else size_of(common)
        for name, (value, unit) in self._given.items():
            common = self._common(unit)
            sizes[name] = value if common is None else size_of(common)
        try:
            found = _Units(sizes).value(tree)
        except UnitError as error:
            raise ParameterError(
                "expression", self.expression, "units that fit", str(error)
            ) from None
        except Exception:  # a power that is no number, or whatever Pint raises
            found = 1.0
        if isinstance(found, float):
            return (None if self.unit is None else spelled(self.unit)), 1.0
        if self.unit is None:
            return self._plain_unit(found), 1.0
        own, wanted = spelled(self.unit), size_of(self.unit)
        if wanted is None:
            return own, 1.0
        if wanted.dimensionality != found.dimensionality:
            if found.dimensionless:  # an angle, a part: what a formula makes of it, it says
                return own, 1.0
            expected = f"a unit of {text_of_units(found)}"
            raise ParameterError("unit", self.unit, expected, f"{self.expression} gives that")
        return own, float(number_of_units(found, wanted))

    def _plain_unit(self, found: Any) -> str | None:
        """The unit as it is written: that of a source, where it is that."""
        for source in self.sources:
            size = None if source.unit is None else size_of(source.unit)
            if size is not None and size.units == found.units:
                return source.unit
        text = text_of_units(found)
        return None if text == "1" else text

    def scaled(self, values: Sequence[Array]) -> list[Array]:
        """The values of the sources, those of one kind in one unit."""
        pairs = zip(values, self.scales, strict=True)
        return [v if scale == (1.0, 0.0) else v * scale[0] + scale[1] for v, scale in pairs]

    @ignore_fp_warnings
    def of(self, values: Sequence[Array]) -> Array:
        """The result, from the values of the sources in order; NaN where there is none."""
        return self._with_slope(values, None)[0]

    @ignore_fp_warnings
    def slopes(self, values: Sequence[Array]) -> list[Array]:
        """The derivative of the result to each source."""
        return [self._with_slope(values, i)[1] for i in range(len(self.sources))]

    def _with_slope(self, values: Sequence[Array], by: int | None) -> Dual:
        arrays = self.scaled([np.asarray(v, np.float64) for v in values])
        names: dict[str, Dual] = {}
        for i, (source, x) in enumerate(zip(self.sources, arrays, strict=True)):
            moved = self.scales[i][0] if i == by else 0.0
            names[source.name] = (x, np.full_like(x, moved))
        like = np.zeros_like(arrays[0])
        for key, value in {**FIXED, **self.numbers}.items():
            names.setdefault(key, (like + value, like))
        y, slope = _Several(like, names).value(self._tree)
        times = self._found[1]
        finite = np.isfinite(y)
        for x in arrays:
            finite = finite & ~np.isnan(x)
        return np.where(finite, y * times, np.nan), np.where(finite, slope * times, np.nan)

    def worked(self, values: Sequence[float]) -> str:
        """The worked line: names, then numbers, then the result."""
        given = [float(v[0]) for v in self.scaled([np.array([v]) for v in values])]
        numbers = dict(zip((s.name for s in self.sources), given, strict=True))
        text = with_numbers(self.expression, {**numbers, **self.numbers})
        times = self._found[1]
        scale = "" if times == 1 else f" · {number(times)}"
        y = float(self.of([np.array([v]) for v in values])[0])
        result = "no value" if np.isnan(y) else shown(y, self.gives)
        return f"{self.expression} = {text}{scale} = {result}"


@refuses_fields
@dataclass(frozen=True)
class DerivedChannel(Channel):
    """A channel computed from the values of others: a combination of them, then laws.

    Parameters
    ----------
    name, chain, column, about, limits, decimals, smooth, … : as of `Channel`
        The chain begins with an input in the unit of the combination. The column is empty: there
        is none in a log.
    combination : Combination
        The formula, and the channels it is computed from.

    Notes
    -----
    It has a value where all its sources have one, and their flags besides its own.

    Examples
    --------
    >>> import jetruler as jr
    >>> bench = jr.parse_bench('''
    ... [channel.u]
    ... column = "u"
    ... input = { unit = "V" }
    ... [channel.i]
    ... column = "i"
    ... input = { unit = "mA" }
    ... [channel.power]
    ... from = ["u", "i"]
    ... laws = [{ law = "formula", expression = "u * i", unit = "W" }]
    ... ''')
    >>> bench.derived["power"].value_of({"u": 12.0, "i": 250.0})
    3.0
    """

    combination: Combination | None = None

    def __post_init__(self) -> None:
        if not isinstance(self.combination, Combination):
            raise ParameterError("combination", self.combination, "a Combination of channels")
        super().__post_init__()

    @property
    def combined(self) -> Combination:
        """The combination."""
        assert self.combination is not None
        return self.combination

    @property
    def sources(self) -> tuple[Channel, ...]:
        """The channels that it is computed from."""
        return self.combined.sources

    @property
    def measured(self) -> tuple[Channel, ...]:
        """The channels of a log at the bottom of it all, each once."""
        found: dict[str, Channel] = {}
        for source in self.sources:
            inner = source.measured if isinstance(source, DerivedChannel) else (source,)
            found |= {channel.name: channel for channel in inner}
        return tuple(found.values())

    def read_from(
        self, readings: Mapping[str, Reading], reader: ChannelReader, times: Array | None
    ) -> tuple[Array, Reading]:
        """What its laws take, and its reading, from the readings of its sources by name. reader:
        its memory, if it smooths or holds zones."""
        sources = [readings[source.name] for source in self.sources]
        raw = self.combined.of([np.asarray(each.value, np.float64) for each in sources])
        there = ~np.isnan(raw)
        _, reading = reader.add(raw, ~there, times)
        flags = np.zeros(raw.shape, np.uint8)
        for each in sources:
            flags |= np.asarray(each.flags, np.uint8)
        own = np.where(there, reading.flags, np.where(flags == 0, np.uint8(Flag.FAULTY), 0))
        return raw, replace(reading, flags=(flags | own).astype(np.uint8))

    def value_of(self, raws: Mapping[str, Quantityish]) -> float:
        """The value where its measured channels have these raw values, by name."""
        return float(self.trace_from(raws)[-1].reading.value)

    def with_sources(self, channels: Mapping[str, Channel]) -> DerivedChannel:
        """The same, computed from these channels by name. Raises `ParameterError`."""
        found = []
        for source in self.sources:
            if source.name not in channels:
                why = nearest(source.name, channels)
                raise ParameterError("from", source.name, "a channel of the bench", why)
            found.append(channels[source.name])
        if tuple(found) == self.sources:
            return self
        return replace(self, combination=replace(self.combined, sources=tuple(found)))

    def raws_of(self, given: Mapping[str, Quantityish]) -> dict[str, float]:
        """The raw value of each measured channel. Raises `JetRulerError` where one is missing."""
        names = [channel.name for channel in self.measured]
        if set(given) != set(names):
            expected = ", ".join(f"{name} = RAW" for name in names)
            found = ", ".join(map(str, given)) or "none"
            raise JetRulerError(f"{self.name}: expected {expected}, found {found}")
        return {c.name: raw_from(c, given[c.name], c.name) for c in self.measured}

    def trace_from(self, given: Mapping[str, Quantityish]) -> list[Trace]:
        """The worked solutions from the raw values of its measured channels: one for each source,
        its own last."""
        raws = self.raws_of(given)
        found: dict[str, Trace] = {}
        for channel in in_order([self]):
            if not isinstance(channel, DerivedChannel):
                found[channel.name] = channel.trace(raws[channel.name])
                continue
            traces = [found[source.name] for source in channel.sources]
            values = [float(trace.reading.value) for trace in traces]
            raw = float(channel.combined.of([np.array([v]) for v in values])[0])
            own = replace(channel.ruler.trace(raw), channel=channel.name)
            line = channel.combined.worked(values)
            steps = (Step("formula", line, raw, channel.chain.takes), *own.steps[1:])
            flags = Flag(0)
            for trace in traces:
                flags |= Flag(int(trace.reading.flags))
            if np.isnan(raw):
                flags = flags or Flag.FAULTY
                reading = replace(own.reading, flags=flags)
            else:
                reading = replace(own.reading, flags=Flag(int(own.reading.flags)) | flags)
            found[channel.name] = replace(own, steps=steps, reading=reading)
        return list(found.values())

    @like_given
    def inverse(self, value: Any) -> Any:
        """There is none: several sources give one value."""
        names = " and ".join(source.name for source in self.sources)
        raise JetRulerError(f"{self.name}: {names} do not follow from one value of it")


@refuses
def derived(
    name: str,
    sources: Sequence[Channel],
    expression: str,
    unit: str | None = None,
    *,
    laws: Iterable[Any] = (),
    constants: Mapping[str, float | str] | None = None,
    **settings: Any,
) -> DerivedChannel:
    """A channel computed from others.

    Parameters
    ----------
    name : str
        Name of the channel.
    sources : Sequence[Channel]
        What it is computed from.
    expression : str
        A formula of their names: arithmetic, powers, the functions of the law `formula`, and
        `atan2`, `hypot`, `min` and `max` of two values.
    unit : str, optional
        Unit of the result. It is worked out if it is omitted, and checked and converted to where it
        is given: V · mA are W by a thousandth.
    laws : Iterable[Law], optional
        Laws behind the formula.
    constants : Mapping[str, float | str], optional
        Numbers by name, or texts with a unit.
    **settings : decimals, limits, smooth, about; as of `Channel`.

    Returns
    -------
    DerivedChannel
        To be put into a bench.

    Raises
    ------
    ParameterError
        For a formula that makes no sense, and for units that do not fit.

    Examples
    --------
    >>> import jetruler as jr
    >>> x = jr.Channel("x", jr.Input("m/s^2"), "ax")
    >>> z = jr.Channel("z", jr.Input("m/s^2"), "az")
    >>> tilt = jr.derived("tilt", [x, z], "atan2(x, z) * 180 / pi", "deg")
    >>> round(tilt.value_of({"x": 9.81, "z": 9.81}), 6)
    45.0
    """
    combination = Combination(expression, tuple(sources), unit, tuple((constants or {}).items()))
    chain = Ruler((Input(combination.gives or "1"), *laws))
    return DerivedChannel(name, chain, "", combination=combination, **settings)


def in_order(channels: Iterable[Channel]) -> list[Channel]:
    """Channels with all that they are computed from, each once, sources first."""
    found: dict[str, Channel] = {}

    def add(channel: Channel) -> None:
        if isinstance(channel, DerivedChannel):
            for source in channel.sources:
                add(source)
        found.setdefault(channel.name, channel)

    for channel in channels:
        add(channel)
    return list(found.values())
