"""Laws that know two ends: clamps, limits, what a sound sensor gives, dead bands."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

import numpy as np

from ..error_types import ParameterError
from ..numerics import AnyArray, Array, FlagArray
from ..ruler.base_law import Role, as_array, constant, reject, unit_fields
from ..ruler.quantity import Quantityish
from ..ruler.reading import Flag
from ..ruler.ruler import Law
from ..ruler.units import number, result_text, shown


@dataclass(frozen=True)
class Interval(Law):
    """An interval from low to high, either end of which may be left open."""

    low: float | None = None
    high: float | None = None
    unit: str | None = None

    if TYPE_CHECKING:  # texts and quantities are read

        def __init__(
            self,
            low: Quantityish | None = None,
            high: Quantityish | None = None,
            unit: str | None = None,
        ) -> None: ...

    unit_hints: ClassVar[Mapping[str, str | tuple[str, str]]] = {"low": "unit", "high": "unit"}

    def __post_init__(self) -> None:
        super().__post_init__()
        unit_fields(self, "unit")

    @property
    def takes(self) -> str | None:
        return self.unit

    @property
    def decides_at(self) -> tuple[float, ...]:
        return tuple(end for end in (self.low, self.high) if end is not None)

    def check(self) -> Iterator[ParameterError]:
        if self.low is None and self.high is None:
            yield ParameterError("low", None, "at least one of low and high")
        elif self.low is not None and self.high is not None and self.low >= self.high:
            yield ParameterError("low", self.low, f"a value below high, {number(self.high)}")

    def slope(self, x: Array) -> Array:
        return np.ones_like(x)

    def flags(self, x: Array) -> FlagArray:
        out = np.zeros(x.shape, np.uint8)
        if self.low is not None:
            out[x < self.low] = Flag.BELOW
        if self.high is not None:
            out[x > self.high] = Flag.ABOVE
        return out

    def _place(self, x: float) -> str:
        """Where x is to the ends, as `0 ≤ 35 ≤ 100` or `103 > 100`."""
        if self.low is not None and x < self.low:
            return f"{number(x)} < {number(self.low)}"
        if self.high is not None and x > self.high:
            return f"{number(x)} > {number(self.high)}"
        left = "" if self.low is None else f"{number(self.low)} ≤ "
        return left + number(x) + ("" if self.high is None else f" ≤ {number(self.high)}")


@dataclass(frozen=True)
class Clamp(Interval):
    """y = x, clamped to low … high; a value outside is flagged below or above.

    Parameters
    ----------
    low, high : float | None, optional
        The ends, in the unit of the input (or in `unit`); one of them may be omitted.
    unit : str | None, optional
        Unit of input and result, checked at the joint; None is any.

    Raises
    ------
    ParameterError
        When low is not below high.

    Notes
    -----
    The inverse outside the ends is NaN.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.Clamp(0, 100)([-3, 50, 120])
    [0.0, 50.0, 100.0]
    """

    name: ClassVar[str] = "clamp"
    role: ClassVar[Role] = Role.HOLD

    @property
    def keeps_within(self) -> tuple[float, float]:
        return -np.inf if self.low is None else self.low, np.inf if self.high is None else self.high

    @property
    def corners(self) -> tuple[float, ...]:
        return self.decides_at

    def forward(self, x: Array) -> Array:
        held: Array = np.clip(x, self.low, self.high)
        return held

    def inverse(self, y: Array) -> Array:
        return np.where(self.flags(y) == 0, y, np.nan)

    def slope(self, x: Array) -> Array:
        return np.where(self.flags(x) == 0, 1.0, 0.0)

    def formula(self, x: float) -> str:
        y = float(self.forward(as_array(x))[0])
        verdict = "kept" if y == x else "held at the end"
        return f"y = x held in range: {self._place(x)}, {verdict} = {result_text(y, self.unit)}"

    def inverse_formula(self, y: float) -> str:
        if self.flags(as_array(y))[0]:
            return f"{self._place(y)}: the clamp never lets {number(y)} through"
        return f"x = y = {shown(y, self.unit)}, inside the clamp"

    def program(self) -> list[str] | None:
        out = []
        if self.low is not None:
            out.append(f"if x < {constant(self.low)}:\n    x = {constant(self.low)}")
        if self.high is not None:
            out.append(f"if x > {constant(self.high)}:\n    x = {constant(self.high)}")
        return out


@dataclass(frozen=True)
class Limits(Interval):
    """y = x; values below low or above high are flagged, not changed.

    Parameters
    ----------
    low, high : float | None, optional
        The ends, in the unit of the input (or in `unit`); one of them may be omitted.
    unit : str | None, optional
        Unit of input and result, checked at the joint; None is any.

    Raises
    ------
    ParameterError
        When low is not below high.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.Limits(0, 100)(120)  # unchanged, but flagged
    120.0
    """

    name: ClassVar[str] = "limits"
    changes_value: ClassVar[bool] = False
    role: ClassVar[Role] = Role.HOLD

    def forward(self, x: Array) -> Array:
        return x

    def inverse(self, y: Array) -> Array:
        return y

    def formula(self, x: float) -> str:
        inside = not self.flags(as_array(x))[0]
        return f"{self._place(x)}: {'within' if inside else 'outside'} the limits"

    def inverse_formula(self, y: float) -> str:
        return self.formula(y)

    def program(self) -> list[str] | None:
        return []


@dataclass(frozen=True)
class Expect(Interval):
    """y = x; below low and above high, where no working sensor is, there is no value but a flag.

    Parameters
    ----------
    low, high : float | None, optional
        The ends, in the unit of the input (or in `unit`); one of them may be omitted.
    unit : str | None, optional
        Unit of input and result, checked at the joint; None is any.

    Raises
    ------
    ParameterError
        When low is not below high.

    Notes
    -----
    The flags say on which side: for a 4–20 mA loop, below 3.6 mA is a broken loop, above 21 mA a
    short.

    Source: the fault currents in use with loops by IEC 60381-1.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.Expect(low=0.0036, high=0.021)([0.002, 0.012])
    [nan, 0.012]
    """

    name: ClassVar[str] = "expect"
    role: ClassVar[Role] = Role.HOLD

    def forward(self, x: Array) -> Array:
        return np.where(super().flags(x) == 0, x, np.nan)

    def inverse(self, y: Array) -> Array:
        return self.forward(y)

    def flags(self, x: Array) -> FlagArray:
        side = super().flags(x)
        return np.where(side != 0, side | np.uint8(Flag.FAULTY), side)

    def formula(self, x: float) -> str:
        sound = not self.flags(as_array(x))[0]
        verdict = (
            f"as expected = {result_text(x, self.unit)}" if sound else "faulty: no sound sensor"
        )
        return f"{self._place(x)}, {verdict}"

    def inverse_formula(self, y: float) -> str:
        return self.formula(y)

    def program(self) -> list[str] | None:
        ends = [(self.low, "<"), (self.high, ">")]
        return [reject(f"x {sign} {constant(end)}") for end, sign in ends if end is not None]


@dataclass(frozen=True)
class DeadBand(Law):
    """y = rest for x from low to high, else y = x: idle noise around rest reads as rest.

    Parameters
    ----------
    low, high : float
        The band.
    rest : float, optional
        Result within the band; by default its middle.
    unit : str, optional
        Unit of input and result, checked at the joint.

    Raises
    ------
    ParameterError
        For parameters that make no sense.

    Notes
    -----
    The inverse inside the band is NaN, except for rest itself.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.DeadBand(-1, 1)([-3, 0.5, 2])
    [-3.0, 0.0, 2.0]
    """

    low: float
    high: float
    rest: float | None = None
    unit: str | None = None

    if TYPE_CHECKING:  # texts and quantities are read

        def __init__(
            self,
            low: Quantityish,
            high: Quantityish,
            rest: Quantityish | None = None,
            unit: str | None = None,
        ) -> None: ...

    name: ClassVar[str] = "dead-band"
    role: ClassVar[Role] = Role.HOLD
    unit_hints: ClassVar[Mapping[str, str | tuple[str, str]]] = {
        "low": "unit",
        "high": "unit",
        "rest": "unit",
    }

    def __post_init__(self) -> None:
        super().__post_init__()
        unit_fields(self, "unit")

    @property
    def takes(self) -> str | None:
        return self.unit

    @property
    def still(self) -> float:
        """What the band reads as."""
        return 0.5 * (self.low + self.high) if self.rest is None else self.rest

    def check(self) -> Iterator[ParameterError]:
        if self.low >= self.high:
            yield ParameterError("low", self.low, f"a value below high, {number(self.high)}")
        elif not self.low <= self.still <= self.high:
            expected = f"a value from {number(self.low)} to {number(self.high)}"
            yield ParameterError("rest", self.rest, expected)

    def _inside(self, x: Array) -> AnyArray:
        return (x >= self.low) & (x <= self.high)

    @property
    def corners(self) -> tuple[float, ...]:
        return (self.low, self.high)

    def forward(self, x: Array) -> Array:
        return np.where(self._inside(x), self.still, x)

    def inverse(self, y: Array) -> Array:
        return np.where(self._inside(y) & (y != self.still), np.nan, y)

    def slope(self, x: Array) -> Array:
        return np.where(self._inside(x), 0.0, 1.0)

    def formula(self, x: float) -> str:
        inside = self.low <= x <= self.high
        band = f"{number(self.low)} to {number(self.high)}"
        verdict = f"inside {band}: at rest" if inside else f"outside {band}: kept"
        return f"{number(x)} is {verdict} = {result_text(self.still if inside else x, self.unit)}"

    def inverse_formula(self, y: float) -> str:
        if np.isnan(self.inverse(as_array(y))[0]):
            return f"{number(y)} is inside the dead band: it is never given"
        return f"x = y = {result_text(y, self.unit)}"

    def program(self) -> list[str] | None:
        low, high, rest = constant(self.low), constant(self.high), constant(self.still)
        return [f"if x >= {low}:\n    if x <= {high}:\n        x = {rest}"]
