"""Where every chain begins: the counts of a converter, or an input that is none, such as the volts
of a lab box."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, ClassVar

import numpy as np

from ..error_types import ParameterError
from ..numerics import Array, FlagArray, Truths
from ..ruler.base_law import (
    FRACTION,
    Fraction,
    Role,
    Volts,
    as_array,
    constant,
    reject,
    reject_outside,
    unit_fields,
)
from ..ruler.converter import Converter, RawInput
from ..ruler.quantity import Difference, HalfWidth, Quantityish
from ..ruler.reading import Flag
from ..ruler.ruler import Law
from ..ruler.units import factor, number, result_text, shown


@dataclass(frozen=True)
class Adc(Law, Converter):
    """Counts to volts: U = n · vref / count_at_vref.

    Parameters
    ----------
    bits : int
        1 to 32.
    vref : float, in V, optional
        Reference voltage in V, above 0.
    count_at_vref : float, optional
        The count that means the reference voltage; by default the top count (2^bits − 1, signed
        2^(bits−1) − 1). Use 2^bits for a datasheet's LSB of vref / 2^bits, and 65535 for a
        left-scaled result of 16 bits.
    signed : bool, default False
        Two's complement.
    ratiometric : bool, default False
        Give the fraction of the reference, n / count_at_vref, instead of volts; the reference then
        cancels and may be omitted. A ratiometric law behind it sets this.
    error_lsb : float, default 0.0
        Total error of the converter from its datasheet, as a half-width in counts, for budgets.
    offset_error, inl : float, default 0.0
        Parts of the total error, if the datasheet gives them instead: half-widths in counts.
    gain_error : float, default 0.0
        Gain error, if the datasheet gives it: a half-width as a fraction of the count, 0.002 or
        "0.2 %".
    codes : int, optional
        Bits of the codes, if fewer than `bits`: 12 for a left-scaled result in 16 bits.

    Raises
    ------
    ParameterError
        For parameters that make no sense.

    Notes
    -----
    Source: the transfer function of an ideal converter.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.Adc(bits=12, vref=3.3)(2048)  # volts
    1.6504029304029304
    """

    vref: Volts | None = None
    count_at_vref: float | None = None
    signed: bool = False
    ratiometric: bool = False
    error_lsb: float = 0.0
    codes: int | None = None
    offset_error: float = 0.0
    gain_error: Fraction = 0.0
    inl: float = 0.0

    if TYPE_CHECKING:  # texts and quantities are read

        def __init__(
            self,
            bits: int,
            vref: Quantityish | None = None,
            count_at_vref: Quantityish | None = None,
            signed: bool = False,
            ratiometric: bool = False,
            error_lsb: Quantityish = 0.0,
            codes: int | None = None,
            offset_error: Quantityish = 0.0,
            gain_error: Quantityish = 0.0,
            inl: Quantityish = 0.0,
        ) -> None: ...

    name: ClassVar[str] = "adc"
    role: ClassVar[Role] = Role.CONVERTER

    @property
    def gives(self) -> str | None:
        return FRACTION if self.ratiometric or self.vref is None else "V"

    @property
    def full_count(self) -> float:
        """The count that represents the reference voltage."""
        return self.top_code if self.count_at_vref is None else self.count_at_vref

    @property
    def lsb(self) -> int:
        """Counts from one code to the next: 1, but for a result that is left-scaled, which
        `codes` says, or a `count_at_vref` of 2^bits − LSB (65520 is 12 bits in 16)."""
        if self.codes is not None or self.count_at_vref is None:
            return super().lsb
        missing = self.highest + 1 - self.count_at_vref
        power = missing >= 1 and float(missing).is_integer() and int(missing).bit_count() == 1
        return int(missing) if power else 1

    @property
    def scale(self) -> float:
        """What the full count gives: the reference voltage, or 1 for a fraction."""
        return 1.0 if self.ratiometric or self.vref is None else self.vref

    def check(self) -> Iterator[ParameterError]:
        yield from super().check()
        if self.vref is not None and self.vref <= 0:
            yield ParameterError("vref", self.vref, "a voltage above 0 V")
        if self.count_at_vref is not None and self.count_at_vref <= 0:
            yield ParameterError("count_at_vref", self.count_at_vref, "a count above 0")
        for field in ("signed", "ratiometric"):
            if not isinstance(getattr(self, field), bool):
                yield ParameterError(field, getattr(self, field), "true or false")
        if self.signed is True and self.bits == 1:
            yield ParameterError("signed", True, "false", "one bit leaves no room for a sign")

    def cancels(self, field: str) -> bool:
        return field == "vref" and self.ratiometric

    def with_output(self, unit: str | None) -> Law:
        return replace(self, ratiometric=True) if unit == FRACTION else self

    def forward(self, x: Array) -> Array:
        # Divided first: the count that represents vref then reads exactly vref.
        return self.on_scale(x) / self.full_count * self.scale

    def inverse(self, y: Array) -> Array:
        return self.reachable(y / self.scale * self.full_count)

    def slope_to(self, field: str, inside: tuple[int, ...], x: Array) -> Array | None:
        if field == "vref":
            return self.forward(x) / self.scale
        return -self.forward(x) / self.full_count if field == "count_at_vref" else None

    def slope(self, x: Array) -> Array:
        return np.full_like(x, self.scale / self.full_count)

    def formula(self, x: float) -> str:
        y = float(self.forward(as_array(x))[0])
        if self.gives == FRACTION:
            symbols = "s = U / Uref = n / N"
            numbers = f"{number(x)} / {number(self.full_count)}"
            return f"{symbols} = {numbers} = {result_text(y, '1')} (Uref cancels)"
        return (
            f"U = n · Uref / N = {number(x)} · {shown(self.scale, 'V')} / "
            f"{number(self.full_count)} = {result_text(y, 'V')}"
        )

    def inverse_formula(self, y: float) -> str:
        n = y / self.scale * self.full_count
        if self.gives == FRACTION:
            return f"n = s · N = {number(y)} · {number(self.full_count)} = {result_text(n)}"
        return (
            f"n = U · N / Uref = {shown(y, 'V')} · {number(self.full_count)} / "
            f"{shown(self.scale, 'V')} = {result_text(n)}"
        )

    def program(self) -> list[str] | None:
        law: list[str] = [reject(f"x < {self.lowest} or x > {self.highest}")]
        return [*law, f"x = x / {constant(self.full_count)} * {constant(self.scale)}"]

    def typed(self) -> list[str]:
        times = "" if self.gives == FRACTION else f" * {constant(self.scale)}"
        return [f"x = x{times} / {constant(self.full_count)}"]


@dataclass(frozen=True)
class Counts(Law, Converter):
    """The converter's counts, unchanged, for marks in counts.

    Parameters
    ----------
    bits : int
        1 to 32.
    signed : bool, default False
        Two's complement.
    error_lsb : float, default 0.0
        Total error of the converter from its datasheet, as a half-width in counts, for budgets.
    offset_error, inl : float, default 0.0
        Parts of the total error, if the datasheet gives them instead: half-widths in counts.
    gain_error : float, default 0.0
        Gain error, if the datasheet gives it: a half-width as a fraction of the count, 0.002 or
        "0.2 %".
    codes : int, optional
        Bits of the codes, if fewer than `bits`: 12 for a left-scaled result in 16 bits.

    Raises
    ------
    ParameterError
        For parameters that make no sense.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.Counts(bits=8)([0, 200, 300])
    [0.0, 200.0, nan]
    """

    signed: bool = False
    error_lsb: float = 0.0
    codes: int | None = None
    offset_error: float = 0.0
    gain_error: Fraction = 0.0
    inl: float = 0.0

    if TYPE_CHECKING:  # texts and quantities are read

        def __init__(
            self,
            bits: int,
            signed: bool = False,
            error_lsb: Quantityish = 0.0,
            codes: int | None = None,
            offset_error: Quantityish = 0.0,
            gain_error: Quantityish = 0.0,
            inl: Quantityish = 0.0,
        ) -> None: ...

    name: ClassVar[str] = "counts"
    role: ClassVar[Role] = Role.CONVERTER

    @property
    def gives(self) -> str | None:
        return "count"

    def forward(self, x: Array) -> Array:
        return self.on_scale(x)

    def inverse(self, y: Array) -> Array:
        return self.reachable(y)

    def slope(self, x: Array) -> Array:
        return np.ones_like(x)

    def formula(self, x: float) -> str:
        return f"n = {number(x)} of {number(self.lowest)} to {number(self.highest)}"

    def inverse_formula(self, y: float) -> str:
        return self.formula(y)

    def program(self) -> list[str] | None:
        return [reject(f"x < {self.lowest} or x > {self.highest}")]

    def typed(self) -> list[str]:
        return []


@dataclass(frozen=True)
class Input(Law, RawInput):
    """A raw value in its own unit: volts, centimetres, m/s², percent.

    Parameters
    ----------
    unit : str
        Unit of the raw values; "1" is a plain number.
    resolution : float, optional
        Smallest difference between raw values, in `unit`.
    range : tuple[float, float], optional
        Lowest and highest raw value, in `unit`. Values outside have no value; values at an end have
        a rail flag.
    error : float, default 0.0
        Error of the input from its datasheet, as a half-width in `unit`, for budgets.

    Raises
    ------
    ParameterError
        For an unknown unit, a reversed range, or a resolution that is not above 0 and
        below the range.

    Examples
    --------
    >>> import jetruler as jr
    >>> tank = jr.Input("cm", resolution=0.1, range=(2, 400)) >> jr.Line.through((14, 0), (4, 100))
    >>> tank([9, 500])
    [50.0, nan]
    """

    unit: str
    resolution: float | None = None
    range: tuple[float, float] | None = None
    error: float = 0.0

    if TYPE_CHECKING:  # texts and quantities are read

        def __init__(
            self,
            unit: str,
            resolution: Quantityish | None = None,
            range: Sequence[Quantityish] | None = None,
            error: Quantityish = 0.0,
        ) -> None: ...

    name: ClassVar[str] = "input"
    unit_hints: ClassVar[Mapping[str, str | tuple[str, str]]] = {
        "range": "unit", "resolution": Difference("unit"), "error": HalfWidth("unit"),
    }  # fmt: skip

    def __post_init__(self) -> None:
        unit_fields(self, "unit")
        super().__post_init__()

    @property
    def takes(self) -> str | None:
        return self.unit

    @property
    def gives(self) -> str | None:
        return self.unit

    @property
    def lsb(self) -> float:
        return self.resolution or 0.0

    @property
    def lowest(self) -> float:
        return -math.inf if self.range is None else float(self.range[0])

    @property
    def highest(self) -> float:
        return math.inf if self.range is None else float(self.range[1])

    @property
    def half_width(self) -> float:
        return float(self.error)

    def check(self) -> Iterator[ParameterError]:
        if factor(self.unit) is None and self.unit != "1":
            yield ParameterError("unit", self.unit, 'a unit, as in "V", "cm" or "m/s²"')
        ends = self.range
        if ends is not None and not _are_ends(ends):
            yield ParameterError("range", ends, "two numbers, the low one first")
            ends = None
        if self.resolution is not None:
            if self.resolution <= 0:
                yield ParameterError("resolution", self.resolution, "a number above 0")
            elif ends is not None and self.resolution >= ends[1] - ends[0]:
                expected = f"less than the range, {number(ends[1] - ends[0])}"
                yield ParameterError("resolution", self.resolution, expected)
        if self.error < 0:
            yield ParameterError("error", self.error, "a half-width of 0 or more")

    def _inside(self, x: Array) -> Truths:
        room = 0.5 * self.lsb
        inside: Truths = (x >= self.lowest - room) & (x <= self.highest + room)
        return inside

    def forward(self, x: Array) -> Array:
        return x + 0.0 if self.range is None else np.where(self._inside(x), x, np.nan)

    def inverse(self, y: Array) -> Array:
        return self.forward(y)

    def slope(self, x: Array) -> Array:
        return np.ones_like(x)

    def flags(self, x: Array) -> FlagArray | None:
        if self.range is None:
            return None
        out = np.zeros(x.shape, np.uint8)
        out[x <= self.lowest] = Flag.LOW_RAIL
        out[x >= self.highest] = Flag.HIGH_RAIL
        out[~self._inside(x) & ~np.isnan(x)] = Flag.OFF_SCALE
        return out

    def formula(self, x: float) -> str:
        ends = (
            ""
            if self.range is None
            else f" of {number(self.lowest)} to {shown(self.highest, self.unit)}"
        )
        return f"x = {shown(x, self.unit)}{ends}"

    def inverse_formula(self, y: float) -> str:
        return self.formula(y)

    def program(self) -> list[str] | None:
        """For firmware the input comes in steps of its resolution."""
        if not self.is_bounded or not self.lsb:
            return None
        return [f"x = x * {constant(self.lsb)}", *reject_outside((self.lowest, self.highest))]

    def typed(self) -> list[str] | None:
        return [f"x = x * {constant(self.lsb)}"] if self.lsb else None


def _are_ends(ends: object) -> bool:
    if not isinstance(ends, tuple | list) or len(ends) != 2:
        return False
    numbers = all(isinstance(end, int | float) for end in ends)
    return numbers and -math.inf < ends[0] < ends[1] < math.inf
