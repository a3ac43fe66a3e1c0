"""Laws in order, joined where the units fit: call, inverse, slope, read, trace. Worked lines
multiply out as printed, with as many digits as that needs."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from typing import Any, ClassVar, TypeVar

import numpy as np

from .. import OUTER
from ..containers import converts, is_a, lazily, like_given, to_array
from ..error_types import KindError, ParameterError, UnitError
from ..numerics import Array, FlagArray, NoInverseError, Numbers
from ..result import refuses_fields
from .base_law import FRACTION, BaseLaw, Role, as_array, constant, unit_fields
from .chain import (
    alone,
    cleared,
    each_number,
    joined,
    of_any_numbers,
    one_number,
    slope_of,
    steps_of,
)
from .converter import Converter, CountTable, RawInput, for_blocks, usual_sizes
from .quantity import magnitude, with_unit
from .reading import Flag, Reading, Trace
from .units import (
    bracketed,
    factor_and_offset,
    is_unit,
    number,
    printed_as,
    result_text,
    shown,
    symbol,
)

#: Rulers that start with a converter of up to this many bits are compiled to a table.
TABLE_BITS = 16
#: Raw values at which it is looked what reaches a law.
LOOKED_AT = 4097
Like = TypeVar("Like")


@refuses_fields
@dataclass(frozen=True, repr=False)
class Ruler:
    """Laws in order. `adc >> divider >> beta` makes one; units are checked at every joint.

    A ruler takes an int, float, list, tuple, array of any shape or pandas Series and gives the
    like, in float64. One that starts with a converter of up to 16 bits compiles itself at first
    use; integer counts then cost one gather. Both paths give the same numbers to the last bit.

    Parameters
    ----------
    laws : tuple[Law, ...]
        One or more laws, from the raw side to the true side.

    Attributes
    ----------
    units : tuple[str | None, ...]
        Units at the joints: before the first law, then behind each.

    Raises
    ------
    UnitError
        Where a law takes another unit than the law before it gives.

    Examples
    --------
    >>> import jetruler as jr
    >>> bean = jr.Adc(bits=12) >> jr.Divider(known=4700) >> jr.Beta(r0=100e3, beta=3950)
    >>> round(bean(1880), 2)
    120.8
    >>> round(bean.inverse(225.0), 2)  # the count that means 225 °C
    386.44
    """

    laws: tuple[Law, ...]
    units: tuple[str | None, ...] = field(init=False, compare=False)
    """Unit at every joint: before the first law, after the first, … after the last."""

    _each_count: dict[int, float] = field(init=False, compare=False, default_factory=dict)
    _tables: tuple[CountTable, CountTable] | None = field(init=False, compare=False, default=None)
    _sizes: tuple[float, ...] | None = field(init=False, compare=False, default=None)

    def __post_init__(self) -> None:
        laws, units = joined(self.laws, Between)
        object.__setattr__(self, "laws", laws)
        object.__setattr__(self, "units", units)

    def __getstate__(self) -> dict[str, Any]:
        """What is sent to another process: the laws; each compiles its own tables."""
        return self.__dict__ | {"_each_count": {}, "_tables": None}

    @classmethod
    def of(cls, *parts: Law | Ruler) -> Ruler:
        """A ruler of laws and rulers, in order."""
        laws: list[Law] = []
        for part in parts:
            if not isinstance(part, Law | Ruler):
                raise KindError(f"expected a law or a ruler, found {part!r}")
            laws += part.laws if isinstance(part, Ruler) else [part]
        return cls(tuple(laws))

    def __rshift__(self, other: Law | Ruler) -> Ruler:
        return Ruler.of(self, other)

    def __repr__(self) -> str:
        return " >> ".join(map(repr, self.laws))

    def _repr_html_(self) -> str:
        return OUTER.html(self)

    @property
    def takes(self) -> str | None:
        """Unit of the raw edge."""
        return self.units[0]

    @property
    def gives(self) -> str | None:
        """Unit of the true edge."""
        return self.units[-1]

    @property
    def edge(self) -> RawInput | None:
        """The raw edge this ruler starts with, if it does: a converter or another input."""
        first = self.laws[0]
        return first if isinstance(first, RawInput) else None

    @property
    def converter(self) -> Converter | None:
        """The converter this ruler starts with, if it does."""
        first = self.laws[0]
        return first if isinstance(first, Converter) else None

    def plot(self, ax: Any = None) -> Any:
        """Draw the values over the raw edge on a Matplotlib Axes, a new one if none is given, and
        return it; `jetruler.plots` has the other pictures."""
        return OUTER.plot(self, ax=ax)

    @converts
    def __call__(
        self, x: Any, out: Array | None = None, threads: int = 1, units: bool = False
    ) -> Any:
        """Convert. `out` (a float64 array of the same shape) takes the result if given; threads:
        how many share the work on a large array. What is lazy stays lazy. A quantity of Pint's is
        read in the unit of the raw edge, or of any joint before the last: volts at the pin.
        units: whether the values come back as a quantity of Pint's."""
        if x.__class__ is int and not units and out is None:
            try:
                return self._each_count[x]
            except KeyError:  # the first one, or one that is off scale
                if not self._each_count:
                    self._one_by_one()
        if units:
            return with_unit(self(x, out, threads), self.gives)
        if (later := lazily(x, self)) is not None:
            return later
        counts, like = to_array(self._raw_numbers(x))
        if out is None:
            out = np.empty(counts.shape, np.float64)
        elif not isinstance(out, np.ndarray):
            expected = "a float64 array (several counts are a list)"
            raise KindError(f"out: expected {expected}, found {out!r}")
        elif out.dtype != np.float64 or out.shape != counts.shape:
            raise ValueError(
                f"out: expected float64 of {counts.shape}, found {out.dtype} of shape {out.shape}"
            )
        self._fill(counts, out, None, threads)
        return like(out)

    def read(self, x: Any, threads: int = 1) -> Reading:
        """Convert and flag: `Reading.value` and `Reading.flags` are each like x."""
        if (values := lazily(x, self)) is not None:
            return Reading(values, lazily(x, self._flags_of, "uint8"), self.gives)
        counts, like = to_array(self._raw_numbers(x))
        values = np.empty(counts.shape, np.float64)
        flags = np.empty(counts.shape, np.uint8)
        self._fill(counts, values, flags, threads)
        value, flagged = like(values), like(flags)
        if isinstance(flagged, int):
            return Reading(value, Flag(flagged), self.gives, self.label(value))
        return Reading(value, flagged, self.gives)

    @like_given
    def inverse(self, y: Any) -> Any:
        """From the true edge back to the raw edge: the (fractional) count that means y.

        NaN where no input gives y: beyond a clamp, or beyond the converter's own counts.
        """
        return each_number(magnitude(y, self.gives), self._inverse)

    @like_given
    def slope(self, x: Any) -> Any:
        """Units of the true edge per unit of the raw edge at x, by the chain rule."""
        return each_number(self._raw_numbers(x), self._slope)

    def label(self, value: float) -> str | None:
        """What a value of the true edge represents, where that is no number: a zone's label."""
        last = next((law for law in reversed(self.laws) if law.changes_value), self.laws[-1])
        return last.label(value)

    @like_given
    def direct(self, x: Any) -> Any:
        """Convert law by law, without the compiled table."""
        return each_number(self._raw_numbers(x), self._values)

    def _raw_numbers(self, x: Any) -> Any:
        """The numbers of the raw edge that a quantity of Pint's means; anything else as it is."""
        if not is_a(x, "pint", "Quantity"):
            return x
        with contextlib.suppress(UnitError):
            return magnitude(x, self.takes)
        ways = [symbol(self.takes)]
        for before in self.from_the_pin:
            ways += [symbol(before.gives)] if before.gives not in (None, FRACTION) else []
            with contextlib.suppress(UnitError):
                return before.inverse(magnitude(x, before.gives))
        raise UnitError(f"expected a quantity in {' or '.join(dict.fromkeys(ways))}, found {x}")

    @property
    def from_the_pin(self) -> list[Ruler]:
        """The laws up to each joint before the last; the volts at a converter's pin come first,
        also where the chain goes on with a fraction of its reference."""
        pin, in_volts = self.converter, {"ratiometric": False}
        has_volts = pin is not None and hasattr(pin, "ratiometric")
        volts = [Ruler((replace(pin, **in_volts),))] if has_volts else []  # type: ignore[arg-type,type-var]
        return [*volts, *(Ruler(self.laws[:i]) for i in range(1, len(self.laws)))]

    def trace(self, x: float) -> Trace:
        """The worked solution from raw to true, one line a law."""
        joints = self.joints(as_array(float(x)))
        values = [cleared(float(at[0]), s) for at, s in zip(joints, self.sizes, strict=True)]
        steps = steps_of(self.laws, self.units[1:], values, back=False)
        return Trace(float(x), self.takes, steps, self.read(x))

    def trace_back(self, y: float) -> Trace:
        """The worked solution from true to raw, one line a law, the last law first."""
        values, laws = [float(y)], []
        sizes = list(self.sizes)
        for i in reversed(range(len(self.laws))):
            with np.errstate(all="ignore"):
                law, found = self._back(i, as_array(values[-1]))
            laws.append(law)
            x, behind = float(found[0]), sizes.pop()
            steep = abs(one_number(law.slope, x))
            lost = behind / steep if steep > 0 else 0.0
            values.append(cleared(x, max(sizes[-1], lost if lost < np.inf else 0.0)))
            if np.isnan(values[-1]):  # nothing comes from the laws before it
                break
        steps = steps_of((*laws,), self.units[-2::-1], values, back=True)
        return Trace(float(y), self.gives, steps, Reading(steps[-1].result, Flag(0), self.takes))

    def compiled(self) -> tuple[CountTable, CountTable] | None:
        """Values and flags over all counts; None for a ruler that has no finite input."""
        if self._tables is None and self.converter and self.converter.bits <= TABLE_BITS:
            low, high = self.converter.lowest, self.converter.highest
            values, flags = self._walk(np.arange(low, high + 1, dtype=np.float64))
            tables = (CountTable(values, low, np.nan), CountTable(flags, low, Flag.OFF_SCALE))
            object.__setattr__(self, "_tables", tables)
        return self._tables

    def _one_by_one(self) -> None:
        """Make the table for single counts, which takes more room than the other two."""
        if (tables := self.compiled()) is not None:
            values = tables[0].values.tolist()
            each = dict(enumerate(values, start=tables[0].lowest))
            object.__setattr__(self, "_each_count", each)

    def lookup(self) -> dict[int, float]:
        """The value of every count, for the tightest loop of your own: `values[n]` costs a fifth of
        `ruler(n)`, and has no flags. A count off scale is a `KeyError`.

        Returns
        -------
        dict[int, float]
            Yours to keep and to change.

        Raises
        ------
        UnitError
            For a ruler that takes no counts, or more of them than a table holds.

        Examples
        --------
        >>> import jetruler as jr
        >>> values = (jr.Counts(8) >> jr.Line(0.5)).lookup()
        >>> values[10]
        5.0
        """
        if self.compiled() is None:
            raise UnitError(
                f"lookup: a table needs the counts of a converter of up to {TABLE_BITS} bits in "
                f"front; this ruler takes {symbol(self.takes) or 'any number'}"
            )
        self._one_by_one()
        return dict(self._each_count)

    def _flags_of(self, x: Any) -> Any:
        return self.read(x).flags

    def _fill(self, counts: Numbers, values: Array, flags: FlagArray | None, threads: int) -> None:
        """Write values (and flags, if wanted) block by block, through the table if there is one."""
        if not values.flags.c_contiguous:
            whole = np.empty(values.shape, np.float64)
            self._fill(counts, whole, flags, threads)
            values[...] = whole
            return
        tables = self.compiled() if counts.dtype.kind in "iu" else None
        counts, values = counts.reshape(-1), values.reshape(-1)
        flags = None if flags is None else flags.reshape(-1)

        def walk(part: slice) -> None:
            x = counts[part].astype(np.float64)
            if flags is None:
                values[part] = self._values(x)
            else:
                values[part], flags[part] = self._walk(x)

        if tables is None:
            for_blocks(counts.size, walk, threads)
            return
        value_of, flag_of = (table.gather(counts.dtype) for table in tables)

        def gather(part: slice) -> None:
            block = np.ascontiguousarray(counts[part])
            value_of(block, values[part])
            if flags is not None:
                flag_of(block, flags[part])

        for_blocks(counts.size, gather, threads)

    @property
    def sizes(self) -> tuple[float, ...]:
        """What the values at every joint, and those that they are differences of, are as large as,
        usually. An edge is met within so much's rounding, see `core.ruler.rounding`."""
        if self._sizes is None:
            object.__setattr__(self, "_sizes", usual_sizes(self.laws, self.units))
        assert self._sizes is not None
        return self._sizes

    def joints(self, x: Array, first: int = 0) -> list[Array]:
        """What comes to each law from the first on, and the result; without warnings."""
        found = []
        with np.errstate(all="ignore"):
            for law, size in zip(self.laws[first:], self.sizes[first:], strict=False):
                found.append(law.on_edges(x, size))
                x = law.forward(found[-1])
        return [*found, x]

    def _values(self, x: Array) -> Array:
        """The laws one after the other: values of a contiguous block."""
        with np.errstate(all="ignore"):
            for law, size in zip(self.laws, self.sizes, strict=False):
                x = law.forward(law.on_edges(x, size))
        return x

    def _walk(self, x: Array) -> tuple[Array, FlagArray]:
        """The laws one after the other: values and flags of a contiguous block."""
        missing = np.isnan(x)
        flags = np.where(missing, np.uint8(Flag.MISSING), np.uint8(0))
        with np.errstate(all="ignore"):
            for law, size in zip(self.laws, self.sizes, strict=False):
                x = law.on_edges(x, size)
                found = law.flags(x)
                if found is not None:
                    flags |= found
                x = law.forward(x)
        # A law without a value for a sample that was there: never silently so.
        flags[np.isnan(x) & (flags == 0)] = Flag.FAULTY
        return x, flags

    def _inverse(self, y: Array) -> Array:
        for i in reversed(range(len(self.laws))):
            y = self._back(i, y)[1]
        return y

    def _back(self, i: int, y: Array) -> tuple[Law, Array]:
        """Back through a law, and that law: one that turns back somewhere is taken for the inputs
        that come from this ruler's raw edge."""
        law, edge = self.laws[i], self.edge
        try:
            return law, law.inverse(y)
        except NoInverseError:
            if edge is None or not edge.is_bounded:
                raise
            x = self.joints(edge.samples(LOOKED_AT))[i]
            x = x[np.isfinite(x)]
            if x.size < 2 or (on := law.on(float(x.min()), float(x.max()))) is law:
                raise
            return on, on.inverse(y)

    def _slope(self, x: Array) -> Array:
        joints = self.joints(x)
        slope = slope_of(self.laws, joints)
        slope[np.isnan(joints[-1])] = np.nan
        return slope


class Law(BaseLaw):
    """One conversion from one unit to another.

    A law is a frozen dataclass; its fields are the datasheet's symbols. `forward`, `inverse` and
    `slope` are written for float64 arrays, and take and give whatever a ruler does: a number, a
    list, an array of any shape and type, a Series. NaN in, NaN out.

    Raises
    ------
    ParameterError
        At construction for a parameter that makes no sense.

    Examples
    --------
    >>> import jetruler as jr
    >>> law = jr.Line(gain=2, offset=1)
    >>> law(3), law.inverse_formula(7)
    (7.0, 'x = (y − b) / m = (7 − 1) / 2 = 3')
    """

    def __init_subclass__(cls, **more: Any) -> None:
        super().__init_subclass__(**more)
        for name in ("forward", "inverse", "slope"):
            if name in cls.__dict__:
                setattr(cls, name, of_any_numbers(cls.__dict__[name]))
        for name in ("formula", "inverse_formula"):
            if name in cls.__dict__:
                setattr(cls, name, alone(cls.__dict__[name], name != "formula"))

    def __rshift__(self, other: Law | Ruler) -> Ruler:
        return Ruler.of(self, other)

    def _repr_html_(self) -> str:
        return OUTER.html(self)

    @like_given
    def __call__(self, x: Any) -> Any:
        """Convert as a ruler of this one law; the result has the type of x."""
        return Ruler.of(self)(x)


@dataclass(frozen=True)
class To(Law):
    """The same quantity in another unit: `To("degF")`, `To("mA")`, `To("psi")`.

    Parameters
    ----------
    unit : str
        Unit of the result.
    source : str, optional
        Unit of the input; a ruler takes it from the law before.

    Raises
    ------
    ParameterError
        For a unit that is unknown and, when the ruler is made.
    UnitError
        For one of another kind.

    Notes
    -----
    Conversions are exact fractions, rounded once.

    Source: Pint's unit registry.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.To("degF", "degC")(100)
    212.0
    """

    unit: str
    source: str | None = None
    name: ClassVar[str] = "to"
    role: ClassVar[Role] = Role.UNIT

    def __post_init__(self) -> None:
        unit_fields(self, "unit", "source")
        super().__post_init__()

    def check(self) -> Iterator[ParameterError]:
        for key in ("unit", "source"):
            value = getattr(self, key)
            if value is not None and not is_unit(value):
                yield ParameterError(key, value, "a unit, as in degF, mA or psi")

    @property
    def takes(self) -> str | None:
        return self.source

    @property
    def gives(self) -> str | None:
        return self.unit

    def with_input(self, unit: str | None) -> Law:
        if unit is None and self.source is None:
            raise UnitError(f"to {symbol(self.unit)}: the unit before it is not known; give source")
        if self.source is None:
            factor_and_offset(str(unit), self.unit)
            return replace(self, source=unit)
        return self

    def _line(self) -> tuple[float, float]:
        return factor_and_offset(self.source or self.unit, self.unit)

    def forward(self, x: Array) -> Array:
        factor, offset = self._line()
        return x * factor + offset

    def inverse(self, y: Array) -> Array:
        factor, offset = factor_and_offset(self.unit, self.source or self.unit)
        return y * factor + offset

    def slope(self, x: Array) -> Array:
        return np.full_like(x, self._line()[0])

    def formula(self, x: float) -> str:
        return self._worked(x, self.source, self.unit)

    def inverse_formula(self, y: float) -> str:
        return self._worked(y, self.unit, self.source)

    def worked_result(self, x: float, back: bool = False) -> float:
        ends = self.source or self.unit, self.unit
        factor, offset = factor_and_offset(*(ends[::-1] if back else ends))
        return x * printed_as(factor) + printed_as(offset)

    def _worked(self, x: float, source: str | None, unit: str | None) -> str:
        factor, offset = factor_and_offset(source or "", unit or "")
        result = result_text(self.worked_result(x, back=unit == self.source != self.unit), unit)
        times = "" if factor == 1.0 else f" · {number(factor)}"
        line = f"{shown(x, source)} = {bracketed(x)}{times}"
        if not offset:
            return f"{line} = {result}"
        sign, size = ("−", -offset) if offset < 0 else ("+", offset)
        return f"{line} {sign} {number(size)} = {result}"

    def program(self) -> list[str] | None:
        factor, offset = self._line()
        return [f"x = x * {constant(factor)} + {constant(offset)}"]

    def typed(self) -> list[str]:
        factor, offset = self._line()
        times = "" if factor == 1.0 else f" * {constant(factor)}"
        return [f"x = x{times} + {constant(offset)}" if offset else f"x = x{times}"]


class Between(To):
    """Put by a ruler between two laws whose units differ in size only; no bench file names it."""


def written(laws: tuple[Law, ...]) -> tuple[Law, ...]:
    """The laws without those that a ruler put between them."""
    return tuple(law for law in laws if not isinstance(law, Between))
