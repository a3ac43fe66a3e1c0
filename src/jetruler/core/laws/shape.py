"""Laws that shape a value: whole numbers, magnitudes, zones, and none at all."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, ClassVar, Literal, get_args

import numpy as np

from ..error_types import ParameterError, UnitError
from ..numerics import Array
from ..ruler.base_law import Role, as_array, constant, unit_fields
from ..ruler.quantity import Difference, Quantityish, amount
from ..ruler.rounding import nearest, on_edges, on_steps
from ..ruler.ruler import Law
from ..ruler.units import number, result_text, shown

Rounding = Literal["nearest", "down", "up", "toward zero"]


_ROUNDINGS: dict[str, Callable[[Array], Array]] = {
    "nearest": nearest,
    "down": lambda x: np.floor(on_steps(x, 1.0)),
    "up": lambda x: np.ceil(on_steps(x, 1.0)),
    "toward zero": lambda x: np.trunc(on_steps(x, 1.0)),
}


class _Rounded(Law):
    """y = x rounded to multiples of `size`."""

    rounding: Rounding
    role: ClassVar[Role] = Role.ROUND

    @property
    def step(self) -> float:
        """What results are multiples of."""
        return 1.0

    @property
    def _scale(self) -> tuple[float, float]:
        """What a value is multiplied with, and divided by, so that it counts steps: of 0.1 there
        are ten in 1, and 3 of them are 3 / 10, while 3 · 0.1 is something else."""
        many = round(1.0 / self.step)
        return (float(many), 1.0) if many > 1 and 1.0 / many == self.step else (1.0, self.step)

    def check(self) -> Iterator[ParameterError]:
        if not isinstance(self.rounding, str) or self.rounding not in _ROUNDINGS:
            expected = ", ".join(repr(r) for r in get_args(Rounding))
            yield ParameterError("rounding", self.rounding, f"one of {expected}")

    def on_edges(self, x: Array, size: float = 0.0) -> Array:
        return on_steps(x, self.step if self.cuts else 0.5 * self.step, size)

    def forward(self, x: Array) -> Array:
        times, over = self._scale
        steps = _ROUNDINGS[self.rounding](x * times / over)
        return steps * over / times + 0.0  # + 0.0 turns a negative zero into zero

    def inverse(self, y: Array) -> Array:
        return np.where(on_steps(y, self.step) == np.rint(y / self.step) * self.step, y, np.nan)

    def slope(self, x: Array) -> Array:
        return np.ones_like(x)

    def _goal(self) -> str:
        """To what it rounds."""
        to = "a whole number" if self.step == 1 else f"a multiple of {number(self.step)}"
        return {
            "nearest": f"to the nearest {to.removeprefix('a ')}",
            "toward zero": "toward zero" if self.step == 1 else f"toward zero to {to}",
        }.get(self.rounding, self.rounding if self.step == 1 else f"{self.rounding} to {to}")

    def formula(self, x: float) -> str:
        y = float(self.forward(as_array(x))[0])
        return f"y = x rounded {self._goal()} = {number(x)} → {result_text(y)}"

    def inverse_formula(self, y: float) -> str:
        if np.isnan(self.inverse(as_array(y))[0]):
            what = "whole number" if self.step == 1 else f"multiple of {number(self.step)}"
            return f"{number(y)} is not a {what}: rounding never gives it"
        return f"x = y = {number(y)}, before rounding {self._goal()}"

    def program(self) -> list[str] | None:
        # `tie` is what rounding may take from a value, as a part of it.
        up = "x = floor(x + tie * x + 0.5)"
        nearest = f"if x < 0.0:\n    x = -floor(-x - tie * x + 0.5)\nelse:\n    {up}"
        rounded = {
            "nearest": nearest,
            "down": "x = floor(x + tie * abs(x))",
            "up": "x = ceil(x - tie * abs(x))",
            "toward zero": "x = trunc(x + tie * x)",
        }[self.rounding]
        (times, over), steps = self._scale, [rounded]
        if times != 1:
            steps = [f"x = x * {constant(times)}", *steps, f"x = x / {constant(times)}"]
        if over != 1:
            steps = [f"x = x / {constant(over)}", *steps, f"x = x * {constant(over)}"]
        return steps

    @property
    def rounds_to(self) -> float:
        return self.step

    @property
    def cuts(self) -> bool:
        return self.rounding != "nearest"


@dataclass(frozen=True)
class Whole(_Rounded):
    """y = x rounded to a whole number.

    Parameters
    ----------
    rounding : Rounding, default "nearest"
        "nearest" (a tie is rounded away from zero: 2.5 → 3, −2.5 → −3), "down" (to −∞), "up" (to
        +∞) or "toward zero" (as an integer conversion in C).

    Raises
    ------
    ParameterError
        For parameters that make no sense.

    Notes
    -----
    The inverse is the whole number itself; the slope is 1. A value within 16 units in the last
    place of a tie, or of a whole number, counts as exactly there.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.Whole()([0.4, 0.5, 2.5])
    [0.0, 1.0, 3.0]
    """

    rounding: Rounding = "nearest"
    name: ClassVar[str] = "whole"


@dataclass(frozen=True)
class Steps(_Rounded):
    """y = x rounded to a multiple of a step: to tens, to halves, to 0.05.

    Parameters
    ----------
    size : float
        The step, in the unit of the value (or in `unit`).
    rounding : Rounding, default "nearest"
        As for `Whole`: "nearest", "down", "up" or "toward zero".
    unit : str | None, optional
        Unit of the size, which is converted to that of the value.

    Raises
    ------
    ParameterError
        For a step that is not above 0, or a rounding that does not exist.
    UnitError
        Where its unit is none of what the value has.

    Notes
    -----
    As for `Whole`: the inverse is the multiple itself, the slope is 1, and a value within 16
    units in the last place of a tie counts as exactly there.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.Steps(10)([4.9, 5, 187])
    [0.0, 10.0, 190.0]
    """

    size: float
    rounding: Rounding = "nearest"
    unit: str | None = None

    if TYPE_CHECKING:  # texts and quantities are read

        def __init__(
            self, size: Quantityish, rounding: Rounding = "nearest", unit: str | None = None
        ) -> None: ...

    name: ClassVar[str] = "steps"
    unit_hints: ClassVar[Mapping[str, str | tuple[str, str]]] = {"size": Difference("unit")}

    def __post_init__(self) -> None:
        super().__post_init__()
        unit_fields(self, "unit")

    def with_input(self, unit: str | None) -> Steps:
        if self.unit is None or unit is None:
            return self
        try:
            size = amount("size", f"{float(self.size)!r} {self.unit}", unit, difference=True)
        except ParameterError as error:
            what, found = f"{self.name}: size", shown(self.size, self.unit)
            raise UnitError(f"{what}: expected {error.expected}, found {found}") from None
        return replace(self, size=size, unit=None)

    @property
    def step(self) -> float:
        return float(self.size)

    def check(self) -> Iterator[ParameterError]:
        yield from super().check()
        if not self.size > 0:
            yield ParameterError("size", self.size, "a step above 0")


@dataclass(frozen=True)
class Magnitude(Law):
    """y = |x|. The inverse is the positive branch; below 0 there is none.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.Magnitude()(-3)
    3.0
    """

    name: ClassVar[str] = "magnitude"
    role: ClassVar[Role] = Role.FOLD

    @property
    def corners(self) -> tuple[float, ...]:
        return (0.0,)

    def forward(self, x: Array) -> Array:
        return np.abs(x)

    def inverse(self, y: Array) -> Array:
        return np.where(y >= 0, y, np.nan)

    def slope(self, x: Array) -> Array:
        return np.where(x < 0, -1.0, 1.0)

    def formula(self, x: float) -> str:
        return f"y = |x| = |{number(x)}| = {result_text(abs(x))}"

    def inverse_formula(self, y: float) -> str:
        if y < 0:
            return f"{number(y)}: a magnitude is never below 0"
        return f"x = y = {number(y)} (or −{number(y)})" if y else f"x = y = {result_text(y)}"

    def program(self) -> list[str] | None:
        return ["x = abs(x)"]


@dataclass(frozen=True)
class PassThrough(Law):
    """y = x, for a sensor that gives true values already.

    Parameters
    ----------
    unit : str, optional
        Unit of the values.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.PassThrough()(7)
    7.0
    """

    unit: str | None = None
    name: ClassVar[str] = "pass-through"
    role: ClassVar[Role] = Role.UNIT

    def __post_init__(self) -> None:
        super().__post_init__()
        unit_fields(self, "unit")

    @property
    def gives(self) -> str | None:
        return self.unit

    def forward(self, x: Array) -> Array:
        return x

    def inverse(self, y: Array) -> Array:
        return y

    def slope(self, x: Array) -> Array:
        return np.ones_like(x)

    def formula(self, x: float) -> str:
        return f"y = x = {result_text(x, self.unit)}"

    def inverse_formula(self, y: float) -> str:
        return f"x = y = {result_text(y)}"

    def program(self) -> list[str] | None:
        return []


#: What a zone represents: a number, a label, or one entry for each of several outputs.
ZoneValue = float | str | tuple[float | str, ...]


@dataclass(frozen=True)
class Zones(Law):
    """n ascending edges make n + 1 zones, without gaps or overlaps.

    Parameters
    ----------
    edges : tuple[float, ...]
        Ascending, in the unit of the input; not together with `over`.
    values : tuple[ZoneValue, ...]
        One per zone: numbers, labels, or tuples (one zone can switch several outputs). A value on
        an edge belongs to the zone above.
    unit : str, optional
        Unit of the numbers.
    takes : str, optional
        Unit of the input.
    hysteresis : float, default 0.0
        A zone is left only when the value is this far beyond its edge, in the unit of the input; 0
        leaves it at once.
    over : tuple[float, float], optional
        Instead of edges: a range that is divided into equal zones.

    Raises
    ------
    ParameterError
        For parameters that make no sense.

    Notes
    -----
    With numbers the result is the number; with labels or tuples it is the zone's own number from 0
    up, and `names` has its label. The inverse of a zone is its middle (of an outer one,
    its edge). The slope is 0.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.Zones(edges=(20, 70), values=(0, 1, 2))([10, 20, 90])
    [0.0, 1.0, 2.0]
    """

    edges: tuple[float, ...] = ()
    values: tuple[ZoneValue, ...] = ()
    unit: str | None = None
    takes: str | None = None
    hysteresis: float = 0.0
    over: tuple[float, float] | None = None

    if TYPE_CHECKING:  # texts and quantities are read

        def __init__(
            self,
            edges: Sequence[Quantityish] = (),
            values: Sequence[Any] = (),
            unit: str | None = None,
            takes: str | None = None,
            hysteresis: Quantityish = 0.0,
            over: Sequence[Quantityish] | None = None,
        ) -> None: ...

    name: ClassVar[str] = "zones"
    role: ClassVar[Role] = Role.LABEL
    unit_hints: ClassVar[Mapping[str, str | tuple[str, str]]] = {
        "edges": "takes", "over": "takes", "hysteresis": Difference("takes"),
    }  # fmt: skip

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.over is not None:  # from here on they are edges like others
            low, high = self.over
            many = len(self.values)
            edges = tuple(low + (high - low) * i / many for i in range(1, many))
            object.__setattr__(self, "edges", edges)
            object.__setattr__(self, "over", None)
        unit_fields(self, "unit", "takes")

    @property
    def gives(self) -> str | None:
        return self.unit or ("zone" if self.names else None)

    @property
    def names(self) -> tuple[ZoneValue, ...] | None:
        """What each zone number represents; None where the zones are numbers themselves."""
        plain = all(isinstance(v, int | float) for v in self.values)
        return None if plain else self.values

    def check(self) -> Iterator[ParameterError]:
        if self.over is not None:
            yield from self._check_over(self.over)
            return
        try:
            edges = np.array(self.edges, dtype=np.float64)
        except (TypeError, ValueError, OverflowError):
            edges = np.empty(0)
        if edges.ndim != 1 or not edges.size or not np.all(np.isfinite(edges)):
            yield ParameterError("edges", self.edges, "a list of finite numbers")
        elif np.any(np.diff(edges) <= 0):
            at = int(np.argmax(np.diff(edges) <= 0))
            why = f"{number(edges[at + 1])} follows {number(edges[at])}"
            yield ParameterError("edges", self.edges, "ascending edges", why)
        elif not isinstance(self.values, tuple) or len(self.values) != len(edges) + 1:
            expected = f"{len(edges) + 1} values for {len(edges)} edges"
            yield ParameterError("values", self.values, expected)
        else:
            yield from self._check_kinds()
        if not self.hysteresis >= 0:
            yield ParameterError("hysteresis", self.hysteresis, "0 or more")

    def _check_over(self, over: Any) -> Iterator[ParameterError]:
        given = over if isinstance(over, tuple | list) else ()
        numbers = [end for end in given if isinstance(end, int | float)]
        if self.edges:
            yield ParameterError("over", over, "either edges or the range that zones share")
        elif len(numbers) != 2 or len(given) != 2 or not numbers[0] < numbers[1]:
            yield ParameterError("over", over, "two numbers, the low one first")
        elif not isinstance(self.values, tuple) or len(self.values) < 2:
            yield ParameterError("values", self.values, "two values or more")
        else:
            yield from self._check_kinds()

    def _check_kinds(self) -> Iterator[ParameterError]:
        kinds = {_kind(value) for value in self.values}
        if len(kinds) != 1 or None in kinds:
            expected = "all numbers, all labels, or all lists of one length"
            yield ParameterError("values", self.values, expected)

    @property
    def decides_at(self) -> tuple[float, ...]:
        return self.edges

    def on_edges(self, x: Array, size: float = 0.0) -> Array:
        far = self.hysteresis
        sides = (-far, 0.0, far) if far else (0.0,)
        return on_edges(x, [edge + side for edge in self.edges for side in sides], size)

    def _numbers(self) -> Array:
        numbers = range(len(self.values)) if self.names else self.values
        return np.array(numbers, dtype=np.float64)

    def zone(self, x: Array) -> Any:
        """The zone's own number, from 0 up."""
        return np.searchsorted(np.array(self.edges, dtype=np.float64), x, side="right")

    def forward(self, x: Array) -> Array:
        return self.values_of(self.zone(x), x)

    def values_of(self, zone: Any, x: Array) -> Array:
        """What zones represent; not a number where x is none."""
        return np.where(np.isnan(x), np.nan, self._numbers()[zone])

    def inverse(self, y: Array) -> Array:
        edges = np.array(self.edges, dtype=np.float64)
        middles = np.concatenate((edges[:1], 0.5 * (edges[1:] + edges[:-1]), edges[-1:]))
        middles[0] = np.nextafter(edges[0], -np.inf)
        x = np.full_like(y, np.nan)
        for value, middle in reversed(list(zip(self._numbers(), middles, strict=True))):
            x[y == value] = middle
        return x

    def slope(self, x: Array) -> Array:
        return np.where(np.isnan(x), np.nan, 0.0)

    def label(self, y: float) -> str | None:
        """The label of a zone number, or its outputs side by side: `"1 0 1"`."""
        if not self.names:
            return None
        value = "" if np.isnan(y) else self.names[int(y)]
        entries = value if isinstance(value, tuple) else (value,)
        return " ".join(v if isinstance(v, str) else number(v) for v in entries)

    def _interval(self, i: int) -> str:
        if i == 0:
            return f"below {number(self.edges[0])}"
        if i == len(self.edges):
            return f"from {number(self.edges[-1])} up"
        return f"from {number(self.edges[i - 1])} to below {number(self.edges[i])}"

    def formula(self, x: float) -> str:
        if np.isnan(x):
            return "NaN has no zone"
        i = int(self.zone(np.array(x)))
        y = float(self._numbers()[i])
        stands = (
            f"zone {i}, {self.label(y)!r}"
            if self.names
            else f"zone {i} = {result_text(y, self.unit)}"
        )
        return f"{number(x)} is {self._interval(i)}: {stands}"

    def inverse_formula(self, y: float) -> str:
        found = np.flatnonzero(self._numbers() == y)
        if not found.size:
            return f"no zone represents {number(y)}"
        return f"zone {found[0]} is {self._interval(int(found[0]))}"

    def program(self) -> list[str] | None:
        values = [float(i) if self.names else float(v) for i, v in enumerate(self.values)]  # type: ignore[arg-type]
        out = [f"z = {constant(values[0])}"]
        for edge, value in zip(self.edges, values[1:], strict=True):
            out.append(f"if x >= {constant(edge)}:\n    z = {constant(value)}")
        return [*out, "x = z"]


def _kind(value: object) -> object:
    """What values must share; None for a value that is none."""
    if isinstance(value, bool):
        return "truth"
    if isinstance(value, tuple):
        plain = all(isinstance(entry, int | float | str) for entry in value)
        return (len(value), "entries") if plain and value else None
    if isinstance(value, int | float):
        return "number"
    return "label" if isinstance(value, str) else None


def zones_of(laws: Sequence[Law]) -> tuple[int, Zones] | None:
    """The last zones among laws, and their index; None where there are none."""
    found = [(i, law) for i, law in enumerate(laws) if isinstance(law, Zones)]
    return found[-1] if found else None
