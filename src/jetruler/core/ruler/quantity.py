"""Reading quantities as they are on parts and in datasheets: `"4k7"`, `"3.3 V ± 15 mV"`; and
the parameters of laws, which are given so."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from decimal import Decimal
from typing import TYPE_CHECKING, Any, TypeAlias

import numpy as np

from ..containers import is_a
from ..error_types import ParameterError, QuantityError, UnitError
from ..result import refuses
from .units import PREFIXES, TEMPERATURES, Unit, factor, pint_name, spelled, symbol

if TYPE_CHECKING:
    from pint import Quantity

    #: What a parameter may be given as: a number, a text with its unit, a quantity of Pint's.
    Quantityish: TypeAlias = float | str | Quantity[Any]
else:
    Quantityish = Any

EXAMPLES = '"4k7", "4.7 kohm", "3.3 V ± 1 %" or "25 degC"'
#: A decimal number. Only one way leads through it, so that a text of many digits is read at once.
NUMBER = r"[+-]?(?:[0-9]+(?:\.[0-9]*)?|\.[0-9]+)(?:[eE][+-]?[0-9]+)?"
_NUMBER = re.compile(NUMBER)
_PLAIN = re.compile(rf"({NUMBER})\s*(\S*)\Z")
_CODE = re.compile(r"(\d*)([RLkKMGTV])(\d*)([BCDFGJKM])?\Z")
_TOLERANCE = re.compile(r"\s*(?:±|\+/?-)\s*")
_K = re.compile(
    rf"\s*\(\s*(?:k\s*=\s*({NUMBER})|({NUMBER})\s*(?:sigma|σ))\s*\)\s*\Z", re.IGNORECASE
)
# IEC 60062: the letter represents the decimal point and the multiplier; L is milli.
_CODE_FACTOR = {
    letter: Decimal(10) ** power
    for letter, power in zip("RLkKMGTV", (0, -3, 3, 3, 6, 9, 12, 0), strict=True)
}
# IEC 60062: tolerance letters, in percent.
_CODE_TOLERANCE = {"B": 0.1, "C": 0.25, "D": 0.5, "F": 1, "G": 2, "J": 5, "K": 10, "M": 20}


class Toleranced(float):
    """A number that carries its tolerance as a half-width in the same unit.

    Attributes
    ----------
    half_width : float
        Half-width in the same unit, not negative.
    k : float | None
        How many standard uncertainties the half-width is (`k=2`; one sigma is `k=1`); None is a
        tolerance as on a part, with every value between its ends as likely as another.

    Notes
    -----
    It computes as a plain float; arithmetic on it gives plain floats.

    Examples
    --------
    >>> import jetruler as jr
    >>> part = jr.Toleranced(4700, half_width=47)
    >>> part.half_width, round(part.standard, 2)
    (47.0, 27.14)
    """

    __slots__ = ("half_width", "k")
    half_width: float
    k: float | None

    @refuses
    def __new__(cls, value: float, half_width: float, k: float | None = None) -> Toleranced:
        if not (math.isfinite(value) and math.isfinite(half_width) and half_width >= 0):
            expected = "a finite value with a half-width of 0 or more"
            raise QuantityError(f"{value} ± {half_width}", expected)
        if k is not None and not 0 < k < math.inf:
            raise QuantityError(f"k = {k}", "k above 0")
        number = super().__new__(cls, value)
        number.half_width = float(half_width)
        number.k = k
        return number

    @property
    def standard(self) -> float:
        """The standard uncertainty: half_width / k, or half_width / √3 for a part's tolerance.
        Source: JCGM 100:2008, 4.3.3 and 4.3.7."""
        return self.half_width / (math.sqrt(3.0) if self.k is None else self.k)

    def __getnewargs__(self) -> tuple[float, float, float | None]:  # type: ignore[override]
        return (float(self), self.half_width, self.k)

    def __repr__(self) -> str:
        k = "" if self.k is None else f", {self.k!r}"
        return f"Toleranced({float(self)!r}, {self.half_width!r}{k})"

    def __str__(self) -> str:
        k = "" if self.k is None else f" (k={self.k:g})"
        return f"{float(self):.12g} ± {self.half_width:.6g}{k}"


def standard_of(value: float) -> float:
    """The standard uncertainty of a number that carries one; a plain number represents itself."""
    return value.standard if isinstance(value, Toleranced) else value


@refuses
def quantity(text: str, unit: str | None = None) -> float:
    """Read a quantity; the number comes back in `unit`, or in its own SI unit if none is asked.

    Understood: plain numbers, SI prefixes, the letter-and-digit code of IEC 60062 (`"4k7"`,
    `"2M2"`, `"100R"`, with its tolerance letter: `"4K7J"`), `"3V3"`, and a tolerance after `±`,
    `+-` or `+/-`, in percent or in a unit; a division by a number at the end
    (`"2.5 V / 16383"`); `(k=2)` or `(1 sigma)` behind it says that it is this many
    standard uncertainties. A temperature always says its unit; asked for in another scale it is
    converted, otherwise it is kept in its own.

    Parameters
    ----------
    text : str
        The quantity.
    unit : str, optional
        The unit wanted; its own if None.

    Returns
    -------
    float
        A float, or a `Toleranced` when a tolerance is given.

    Raises
    ------
    QuantityError
        For a text that does not read, or reads as another unit.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.quantity("4k7"), jr.quantity("15 mV")
    (4700.0, 0.015)
    """
    if (ratio := _divided(text)) is not None:
        over, by = ratio
        if not by:
            raise QuantityError(text, "a division by another number than 0")
        value = quantity(over, unit)  # "2.5 V / 16383", "1/64"
        if isinstance(value, Toleranced):
            return Toleranced(float(value) / by, value.half_width / abs(by), value.k)
        return value / by
    k, without_coverage = _coverage(text.strip().replace("−", "-"), text)
    parts = _TOLERANCE.split(without_coverage, maxsplit=1)
    if k is not None and len(parts) == 1:
        raise QuantityError(text, 'a tolerance before k and sigma, as in "± 1 % (k=2)"')
    asked = None if unit is None else spelled(unit)
    coded = asked not in TEMPERATURES
    value, found, half = _read_value(parts[0].strip(), text, coded=coded, own=asked)
    asked = asked or found
    found = found or asked
    if asked in TEMPERATURES and not _says_unit(parts[0]):
        raise QuantityError(text, 'a temperature with its unit, as in "25 degC"')
    if len(parts) == 2:
        half = _read_half_width(parts[1], value, found, text)
    value, half = _convert(value, half, found, asked, text)
    return value if half is None else Toleranced(value, half, k)


def _divided(text: str) -> tuple[str, float] | None:
    """What is divided and by which number, in a text such as `"2.5 V / 16383"`."""
    over, slash, by = text.strip().rpartition("/")
    if not slash or not _NUMBER.fullmatch(by.strip()) or over.endswith("+"):
        return None
    _, again, before = over.rpartition("/")
    if again and _NUMBER.fullmatch(before.strip()):
        return None  # once is enough
    return over, float(by)


def _coverage(text: str, whole: str) -> tuple[float | None, str]:
    """How many standard uncertainties a tolerance is, if it says so; and the text without that."""
    match = _K.search(text)
    if match is None:
        return None, text
    k = float(match[1] or match[2])
    if not 0 < k < math.inf:
        raise QuantityError(whole, "k above 0")
    return k, text[: match.start()]


def seconds(value: object) -> float:
    """A time: seconds, or a text with its unit ("5 s", "200 ms"). NaN for anything else."""
    value = as_typed(value)
    try:
        found = quantity(value, "s") if isinstance(value, str) else value
    except ValueError:
        return math.nan
    if not isinstance(found, int | float) or isinstance(found, bool):
        return math.nan
    try:
        return float(found)
    except OverflowError:
        return math.nan


def unit_of(text: str) -> str | None:
    """The SI unit a quantity text names (`"0.5 V"` → `"V"`), or None for a plain number."""
    if (ratio := _divided(text)) is not None:
        return unit_of(ratio[0])
    return _read_value(_TOLERANCE.split(text.strip().replace("−", "-"))[0].strip(), text)[1]


def unit_written(text: str) -> str | None:
    """The unit that a quantity text is written in (`"4 mA"` → `"mA"`), or None for a plain
    number, and that of a part's code (`"4k7"` → `"ohm"`)."""
    if (ratio := _divided(text)) is not None:
        return unit_written(ratio[0])
    base, value = unit_of(text), _TOLERANCE.split(text.strip().replace("−", "-"))[0].strip()
    plain = None if _CODE.match(value) else _PLAIN.match(value)
    return spelled(plain[2]) if base is not None and plain is not None and plain[2] else base


def unit_given(key: str, value: object) -> str | None:
    """The unit that a parameter is written in; None for a number. Raises `ParameterError`."""
    try:
        return unit_written(value) if isinstance(value, str) else None
    except QuantityError as error:
        raise ParameterError(key, value, error.expected, error.why) from None


def _no_unit(text: str) -> None:
    """Refuse a unit where none is known: its size would be lost. Raises `QuantityError`."""
    if unit_of(text) not in (None, "1"):
        raise QuantityError(text, "a number without a unit", "no unit is known here")


def _says_unit(text: str) -> bool:
    match = _PLAIN.match(text.strip())
    return match is not None and bool(match[2])


def _read_value(
    text: str, whole: str, coded: bool = True, own: str | None = None
) -> tuple[float, str | None, float | None]:
    """Value in SI (temperatures in their own scale), its unit, a half-width from a code letter.
    own: a unit that may be known here alone, such as NTU."""
    if coded and (code := _CODE.match(text)):
        before, letter, after, tolerance = code.groups()
        if before or after:
            value = float(Decimal(f"{before or 0}.{after or 0}") * _CODE_FACTOR[letter])
            half = value * _CODE_TOLERANCE[tolerance] / 100 if tolerance else None
            return value, "V" if letter == "V" else "ohm", half
    plain = _PLAIN.match(text)
    if plain is None:
        hint = ""
        if re.match(r"[+-]?\d+,\d", text):
            hint = f"with a decimal point it is {text.replace(',', '.', 1)!r}"
        raise QuantityError(whole, f"a quantity, as in {EXAMPLES}", hint)
    number, symbol = plain.groups()
    if not math.isfinite(float(number)):
        raise QuantityError(whole, "a number that this computer can hold")
    if not symbol:
        return float(number), None, None
    known = factor(symbol)
    if known is None and symbol in PREFIXES:  # "4.7k", the unit left to the place it is in
        return float(Decimal(number) * Decimal(repr(PREFIXES[symbol]))), None, None
    if known is None and spelled(symbol) == own:
        return float(number), own, None
    if known is None:
        raise QuantityError(whole, f"a known unit, as in {EXAMPLES}", f"{symbol!r} is none")
    base, scale = known
    # Decimal, so that "4.7 kohm" is 4700.0 and not 4700.000000000001.
    return float(Decimal(number) * Decimal(repr(scale))), base, None


def _read_half_width(text: str, value: float, unit: str | None, whole: str) -> float:
    text = text.strip()
    percent = re.match(rf"({NUMBER})\s*%\Z", text)
    if percent and unit != "%":
        if unit in TEMPERATURES and unit != "K":
            expected = 'a tolerance of a temperature in degrees, as in "± 0.2 degC"'
            raise QuantityError(whole, expected)
        half = abs(value) * float(percent[1]) / 100
    else:
        half, found, _ = _read_value(text, whole, own=unit)
        if found in TEMPERATURES and unit in TEMPERATURES:
            half = float(Decimal(repr(half)) * TEMPERATURES[found][1] / TEMPERATURES[unit][1])
        elif found is not None and found != unit:
            inner = f"the tolerance is in {symbol(found)}, the value in {symbol(unit) or '1'}"
            half *= _line(found, unit, f"{whole!r}: {inner}")[0]
    if half < 0:
        raise QuantityError(whole, "a tolerance of 0 or more")
    return half


def _convert(
    value: float, half: float | None, found: str | None, asked: str | None, text: str
) -> tuple[float, float | None]:
    if found == asked:
        return value, half
    if found in TEMPERATURES and asked in TEMPERATURES:
        zero, degree = TEMPERATURES[found]
        to_zero, to_degree = TEMPERATURES[asked]
        half = None if half is None else float(Decimal(repr(half)) * degree / to_degree)
        exact = Decimal(repr(value)) * degree + zero - to_zero
        return float(exact / to_degree), half
    wanted = factor(asked) if asked else None
    if wanted is not None and wanted[0] == found:  # asked for in "cm", written in any metres
        scale = Decimal(repr(wanted[1]))
        half = None if half is None else float(Decimal(repr(half)) / scale)
        return float(Decimal(repr(value)) / scale), half
    size, offset = (Decimal(repr(part)) for part in _line(found, asked, text))
    half = None if half is None else float(Decimal(repr(half)) * size)
    return float(Decimal(repr(value)) * size + offset), half  # 2.4 mbar are 240 Pa, not 239.99…


def _line(found: str | None, unit: str | None, text: str) -> tuple[float, float]:
    """From one unit to another. Raises `QuantityError`."""
    from .units import factor_and_offset

    try:
        return factor_and_offset(str(found), str(unit))
    except UnitError:
        raise QuantityError(text, f"a quantity in {symbol(unit)}") from None


def amount(key: str, value: Any, unit: str | None, difference: bool = False) -> Any:
    """A number, or what a text means in a unit; as a difference, 5 K are 5 °C.
    Raises `ParameterError`."""
    value = as_typed(value)
    if isinstance(value, list | tuple):
        return tuple(amount(key, one, unit, difference) for one in value)
    if not isinstance(value, str):
        return value
    try:
        if unit is None:
            _no_unit(value)
        if not difference or unit not in TEMPERATURES:
            return float(quantity(value, unit))
        found = unit_of(value)
        if found not in (None, *TEMPERATURES):
            raise QuantityError(value, f"a difference in {symbol(unit)}")
        size = TEMPERATURES[found or unit][1] / TEMPERATURES[unit][1]
        return float(Decimal(repr(float(quantity(value)))) * size)
    except QuantityError as error:
        raise ParameterError(key, value, error.expected, error.why) from None


def as_typed(value: Any) -> Any:
    """A quantity of Pint's as the text that represents it, in lists too; anything else as it is."""
    if isinstance(value, list | tuple):
        return tuple(map(as_typed, value))
    if not is_a(value, "pint", "Quantity"):
        return value
    numbers, unit = value.magnitude, _unit_of_pint(value)
    if np.ndim(numbers):
        return tuple(f"{number!r} {unit}".strip() for number in np.ravel(numbers).tolist())
    if hasattr(value, "error"):  # a measurement: its standard deviation
        best, deviation = float(value.value.magnitude), float(value.error.magnitude)
        return f"{best!r} {unit} ± {deviation!r} {unit} (k=1)"
    return f"{float(numbers)!r} {unit}".strip()


def _unit_of_pint(value: Any) -> str:
    return "" if str(value.units) == "dimensionless" else spelled(str(value.units))


def magnitude(value: Any, unit: str | None) -> Any:
    """The numbers of a quantity of Pint's in a unit; anything else as it is. Raises `UnitError`."""
    if not is_a(value, "pint", "Quantity"):
        return value
    from .units import factor_and_offset

    own = _unit_of_pint(value)
    if not own or own == unit:
        return value.magnitude
    if unit is None:
        raise UnitError(f"expected a number without a unit, found {value}")
    size, offset = factor_and_offset(own, unit)
    return value.magnitude * size + offset


def with_unit(values: Any, unit: str | None) -> Any:
    """Values as a quantity of Pint's, in the registry that the application uses."""
    import pint

    registry: Any = pint.application_registry
    return registry.get().Quantity(values, pint_name(unit))


def owned(value: Any) -> Any:
    """Lists, arrays, frames and the like as tuples, quantities of Pint's as texts: a law is not
    changed by what its caller does later."""
    value = as_typed(value)
    if hasattr(value, "to_numpy"):
        value = value.to_numpy()
    if hasattr(value, "tolist"):
        value = value.tolist()
    return tuple(map(owned, value)) if isinstance(value, list | tuple | range) else value


def read_number(key: str, text: str, unit: Unit | None) -> float:
    """A text in a parameter's unit. Raises `ParameterError`."""
    try:
        # A bare kelvin is without its unit, as a plain number and as one with a tolerance.
        if unit is None:
            _no_unit(text)
            return quantity(text)
        found = unit_of(text)
        has_unit = not unit.bare or found is not None
        if unit.bare and found in TEMPERATURES and found != unit.symbol:
            why = f"{symbol(found)} has a zero of its own"
            raise QuantityError(text, f'a difference in kelvin, as in "3950 {unit.symbol}"', why)
        return quantity(text, unit.symbol if has_unit else None)
    except QuantityError as error:
        raise ParameterError(key, text, error.expected, error.why) from None


def read_numbers(key: str, value: Any, unit: Unit | None) -> Any:
    """What is in a list of numbers, at any depth, its texts read."""
    if isinstance(value, list | tuple):
        return tuple(read_numbers(key, part, unit) for part in value)
    return read_number(key, value, unit) if isinstance(value, str) else value


#: What a gain is given for one of: of other units, such as m/s, the denominator is a part.
_PER = re.compile(r"/\s*(counts?|m?V|m?A|[kM]?ohm|K|degC|degF|%|fraction)(?![\w/])")


def needs_unit(unit: Unit | None) -> bool:
    """Whether a number of this unit says it: a temperature does."""
    return unit is not None and not unit.bare and unit.symbol in TEMPERATURES


class Difference(str):
    """The field of a unit in which a parameter is a difference: 5 K are 5 °C there, and 9 °F."""


class HalfWidth(Difference):
    """The same for a parameter that is a half-width, with or without its sign: `"± 3 mm"`."""


def read_hinted(
    hints: Mapping[str, str | tuple[str, str]], given: Mapping[str, Any]
) -> dict[str, Any]:
    """Quantities that tell a unit: `marks = [["0.5 V", 0], ["4.5 V", "10 bar"]]` tells both, and
    `low = "3.6 mA"` tells that of a clamp. The numbers come back plain, the units beside them.

    hints: the fields that take the units, by the parameters that may tell them.
    """
    plain: dict[str, Any] = {}

    def difference(key: str, text: str, unit: str, side: str) -> float:
        """A difference does not tell on which of the scales of temperature the others are."""
        others = [k for k, s in hints.items() if s == side and k != key and given.get(k)]
        if others and unit in TEMPERATURES and not given.get(side) and side not in plain:
            raise ParameterError(key, text, f"a number, or a unit for {' and '.join(others)} too")
        plain.setdefault(side, unit)
        if unit in TEMPERATURES and unit_given(key, text) is not None:
            return float(amount(key, text, unit, difference=True))
        return read_number(key, text, Unit(unit))

    def read(key: str, value: Any, side: str) -> Any:
        if not isinstance(value, str):
            return value
        has_unit = given.get(side)
        if isinstance(side, HalfWidth) and (sign := _TOLERANCE.match(value)) is not None:
            value = value[sign.end() :]
        unit = has_unit if isinstance(has_unit, str) else plain.get(side) or unit_given(key, value)
        if isinstance(side, Difference) and unit is not None:
            return difference(key, value, unit, side)
        if unit is not None:
            plain.setdefault(side, unit)
        return read_number(key, value, None if unit is None else Unit(unit))

    out = dict(given)
    for key, sides in hints.items():
        value = given.get(key)
        if isinstance(sides, tuple) and isinstance(value, str):  # a gain, perhaps "2 bar/V"
            takes, gives = sides
            if per := _PER.search(value):
                plain |= {} if given.get(takes) else {takes: spelled(per[1])}
                value = _PER.sub("", value)
            out[key] = read(key, value, gives)
            continue
        listed: Any = value if isinstance(value, list | tuple) else None
        if isinstance(sides, str) and listed is None:
            out[key] = read(key, value, sides)
        elif isinstance(sides, str):
            out[key] = [read(key, v, sides) for v in listed]
        elif listed is not None and all(isinstance(pair, list | tuple) for pair in listed):
            out[key] = [
                [read(key, v, side) for v, side in zip(pair, sides, strict=False)]
                for pair in listed
            ]
    units = {side: unit for side, unit in plain.items() if given.get(side) is None}
    return {key: value for key, value in out.items() if key in given} | units
