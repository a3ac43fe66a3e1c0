"""Units and numbers as a person writes them: one spelling inside, the trade's symbols for people,
conversion by Pint's registry, digits as they are needed."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from functools import cache
from typing import Any

from ..error_types import UnitError
from .rounding import fixed, guard, to_place

_ALIASES = {
    "Ω": "ohm",
    "\u2126": "ohm",
    "ohms": "ohm",
    "Ohm": "ohm",
    "R": "ohm",
    "°C": "degC",
    "deg C": "degC",
    "deg F": "degF",
    "°F": "degF",
    "counts": "count",
    "percent": "%",
    "°": "deg",
    "rev": "turn",
    "rev/s": "turn/s",
    "rev/min": "rpm",
    "turn/min": "rpm",
    "RPM": "rpm",
}
_SYMBOLS = {"ohm": "Ω", "degC": "°C", "degF": "°F", "deg": "°", "us": "µs", "um/m": "µm/m", "1": ""}
PREFIXES = {"p": 1e-12, "n": 1e-9, "u": 1e-6, "m": 1e-3, "c": 1e-2, "h": 1e2}


PREFIXES |= {"k": 1e3, "M": 1e6, "G": 1e9, "T": 1e12}


_PREFIXED = ("ohm", "V", "A", "W", "s", "m", "Hz", "Pa", "bar", "K", "F", "g", "N", "L", "lx")
_PLAIN = ("%", "count", "deg", "degC", "degF")
_TIMES = {"min": 60.0, "h": 3600.0}

#: Kelvin of 0 in each temperature scale, and the size of its degree in kelvin (28 digits).
TEMPERATURES = {
    "K": (Decimal(0), Decimal(1)),
    "degC": (Decimal("273.15"), Decimal(1)),
    "degF": (Decimal("459.67") * 5 / 9, Decimal(5) / 9),
}


@dataclass(frozen=True)
class Unit:
    """Mark of a parameter: the SI unit that a plain number in this place represents.

    bare: a plain number is right even though the unit is that of a temperature (a Beta).
    """

    symbol: str
    bare: bool = False


def canonical(unit: str) -> str:
    """Return the one spelling used inside: `"Ω"` is `"ohm"`, `"°C"` is `"degC"`."""
    unit = unit.strip()
    return _ALIASES.get(unit, unit)


def symbol(unit: str | None) -> str:
    """Return the spelling for people: `"ohm"` is `"Ω"`; no unit is an empty text."""
    return "" if unit is None else _SYMBOLS.get(unit, unit)


def raw_symbol(unit: str | None) -> str:
    """Return what people call the raw edge: `"count"`, or the symbol of its unit."""
    return symbol(unit) or "raw"


def for_column(unit: str | None) -> str:
    """Return the spelling for a column name, of letters, digits and `_`: `"%"` is `"percent"`."""
    if unit in (None, "1"):
        return ""
    words = unit.replace("%", "percent").replace("/", "_per_").replace("°", "deg")
    return re.sub(r"\W+", "_", words).strip("_")


def usual(symbol: str) -> tuple[str, float] | None:
    """Return the base unit of a symbol and its size in it, without the registry."""
    symbol = symbol.replace("µ", "u").replace("μ", "u")
    name = canonical(symbol)
    if name in _PLAIN or name in _PREFIXED:
        return name, 1.0
    if name in _TIMES:
        return "s", _TIMES[name]
    prefix, rest = symbol[:1], canonical(symbol[1:])
    if prefix in PREFIXES and rest in _PREFIXED:
        return rest, PREFIXES[prefix]
    return None


#: Significant digits of a number in a worked solution, if no line needs more.
USUAL_DIGITS = 6
_digits: ContextVar[int | None] = ContextVar("digits", default=None)

#: The unit of the joint behind the law that is being written.
_joint: ContextVar[str | None] = ContextVar("joint", default=None)


#: Significant digits of the result that ends it all, which nothing is computed from.
_end: ContextVar[int | None] = ContextVar("end", default=None)


@contextmanager
def written_with(digits: int, unit: str | None = None, end: int | None = None) -> Iterator[None]:
    """Write numbers with this many significant digits, and a result without a unit in this one.
    end: digits of the result, if it has others."""
    before, joint, last = _digits.set(digits), _joint.set(unit), _end.set(end)
    try:
        yield
    finally:
        _digits.reset(before)
        _joint.reset(joint)
        _end.reset(last)


def digits_written() -> int:
    """With how many significant digits numbers are being written."""
    return _digits.get() or USUAL_DIGITS


def is_writing() -> bool:
    """Whether lines are being written, with digits that somebody has chosen."""
    return _digits.get() is not None


def number(value: float, digits: int | None = None) -> str:
    """Six significant digits, or as many as `written_with` says; no exponent where plain digits
    are short: `4700`, `0.00335402`. digits: this many of them count, the rest are zeros."""
    if digits is not None:
        value = significant(value, digits)
    if math.isnan(value):
        return "no value"
    if math.isinf(value):
        return "∞" if value > 0 else "−∞"
    if value == 0:
        return "0"
    return _plain_digits(value).replace("-", "−")


def _plain_digits(value: float) -> str:
    """Large numbers, such as counts of 24 bits, to the unit, without an exponent."""
    if 999_999.5 <= abs(value) < 1e10 and 10.0 ** digits_written() <= 10 * abs(value) + 5:
        return fixed(value, 0)
    return plain(value)


def plain(value: float) -> str:
    """As a program reads it: with as many digits as `number` writes, half away from zero."""
    digits = digits_written()
    if digits < 14 and value and math.isfinite(value):  # what is beside a tie goes its way
        value = float(value + math.copysign(float(guard(value)), value))
    return f"{float(value):.{digits}g}"


def printed_as(value: float) -> float:
    """The number that somebody reads where `number` has written this one."""
    return float(_plain_digits(value))


def shown(
    value: float, unit: str | None = None, decimals: int | None = None, size: float = 0.0
) -> str:
    """A number with its unit, as in `4700 Ω`; with `decimals`, to that many places, half away
    from zero (size: see `rounding.guard`)."""
    if math.isnan(value):
        return "no value"
    if decimals is None or math.isinf(value):
        text = number(value)
    else:
        text = fixed(value, decimals, size).replace("-", "−")
    return f"{text} {symbol(unit)}".rstrip()


def significant(value: float, digits: int = 3) -> float:
    """The number rounded to this many significant digits."""
    with written_with(digits):
        return float(plain(value))


def result_text(value: float, unit: str | None = None) -> str:
    """The result of a worked line: a law that keeps any unit has that of its joint in a ruler."""
    unit = _joint.get() if unit is None else unit
    if (end := _end.get()) is None:
        return shown(value, unit)
    with written_with(end):
        return shown(value, unit)


def bracketed(value: float) -> str:
    """As `number`, in brackets where a sign in front would confuse: `(−5)`."""
    return f"({number(value)})" if value < 0 else number(value)


def nearest(word: object, known: Iterable[str]) -> str:
    """`did you mean 'known'?` where one of the known words is close, else the whole list."""
    import difflib  # only an error needs it

    known = sorted(known)
    close = difflib.get_close_matches(str(word), known, n=1, cutoff=0.6)
    if close:
        return f"did you mean {close[0]!r}?"
    return "known: " + ", ".join(known)


#: A unit as text: names with small exponents, multiplied or divided. Anything else (a power
#: tower, a call) is not even shown to Pint, which evaluates what it is given.
_PART = r"[^\W\d]{1,30}(?:(?:\^|\*\*)?-?\d|[²³])?"
_UNIT = re.compile(rf"(?:1/)?{_PART}(?:[*/·]{_PART}){{0,5}}\Z")
_PINT_NAMES = {"%": "percent", "fraction": "dimensionless", "1": "dimensionless"}
_PINT_NAMES |= {"inH2O": "inch_of_water", "cmH2O": "centimeter_of_water"}
#: What the registry calls units that have another name here.
_OWN_NAMES = {"degree_Celsius": "degC", "degree_Fahrenheit": "degF", "kelvin": "K", "liter": "L"}
_SINGLE = re.compile(r"[^\W\d]{1,30}\Z")
#: A word is known whatever its case; a symbol is not: mA is no MA.
_WORD = re.compile(r"[A-Za-z]{4,}\Z")


@cache
def _registry() -> Any:
    import pint

    registry: Any = pint.UnitRegistry(non_int_type=Fraction)
    # Conventional water, 1000 kg/m³ at 9.80665 m/s²: not every version has these, by one name.
    registry.define("inch_of_water = 249.08891 * pascal")
    registry.define("centimeter_of_water = 98.0665 * pascal")
    return registry


@cache
def spelled(unit: str) -> str:
    """Return the one spelling used inside of any that the registry knows: `"fahrenheit"` is
    `"degF"`, `"millivolt"` is `"mV"`. A text that is unknown stays as it is."""
    name = canonical(unit)
    if usual(name) is not None or name in TEMPERATURES or not _SINGLE.match(name):
        return name
    for text in (name, name.lower()) if _WORD.match(name) else (name,):
        try:
            found = _registry().parse_units(text)
        except Exception:  # Pint raises many kinds
            continue
        if (own := _OWN_NAMES.get(str(found))) is not None:
            return own
        short = f"{found:~}".replace("µ", "u").replace("Ω", "ohm")
        return short if usual(short) is not None else text
    return name


def factor(name: str) -> tuple[str, float] | None:
    """Return the base unit of a symbol and its size in it: `"kohm"` → `("ohm", 1000.0)`.

    A unit of the registry alone, such as psi, is its own base. None if nobody knows the symbol.
    """
    found = usual(name)
    if found is None and name not in PREFIXES:
        own = spelled(name)
        found = usual(own) or ((own, 1.0) if is_unit(own) else None)
    return found


@cache
def is_unit(unit: str) -> bool:
    """Return whether a text is a unit that anybody knows."""
    unit = spelled(unit)
    return unit in TEMPERATURES or usual(unit) is not None or _quantity(0, unit) is not None


@cache
def factor_and_offset(source: str, unit: str) -> tuple[float, float]:
    """Return the factor and the offset of the way from one unit to another.

    y = factor · x + offset, from exact fractions, each rounded once. Raises `UnitError` for units
    of two kinds, and for a unit that is none.
    """
    source, unit = spelled(source), spelled(unit)
    if source in TEMPERATURES and unit in TEMPERATURES:
        (zero, degree), (to_zero, to_degree) = TEMPERATURES[source], TEMPERATURES[unit]
        return float(degree / to_degree), float((zero - to_zero) / to_degree)
    own, other = usual(source), usual(unit)
    if own is not None and other is not None and own[0] == other[0]:
        return float(Fraction(repr(own[1])) / Fraction(repr(other[1]))), 0.0
    if source.startswith("delta_") and unit in ("degC", "degF"):
        raise UnitError(f"{source} cannot be converted to {symbol(unit)}: a difference is no scale")
    if {_is_angle(source), _is_angle(unit)} == {True, False}:
        raise UnitError(f"{symbol(source)} cannot be converted to {symbol(unit)}")
    ways = {_goes_round(source), _goes_round(unit)}
    if ways == {"often", "radians"}:
        about = "1 Hz is 2π rad/s of turns, or 1 rad/s of radians; a line says which (gain)"
        raise UnitError(f"{source} cannot be converted to {unit}: {about}")
    if ways == {"often", "turns"}:
        source, unit = map(_of_turns, (source, unit))
    try:
        if not is_unit(unit):
            raise ValueError(unit)
        first, second, third = (_converted(x, source, unit) for x in (0, 1, 2))
        if second - first != third - second:  # a logarithmic unit
            raise ValueError(unit)
        return float(second - first), float(first)
    except Exception:  # Pint raises many kinds
        names = (symbol(u) or u for u in (source, unit))
        raise UnitError("{} cannot be converted to {}".format(*names)) from None


def _of_turns(unit: str) -> str:
    """A unit of how often, as one of turns."""
    if _goes_round(unit) != "often":
        return unit
    return f"turn/{unit[2:]}" if unit.startswith("1/") else f"turn*{unit}"


@cache
def _goes_round(unit: str) -> str:
    """What a unit per second counts: `"turns"` (rpm), `"radians"` (of any angle), or just
    how `"often"` (Hz). The registry takes all three for the same; a turn is not 2π hertz. Empty for
    any other unit."""
    found = _quantity(1, unit)
    if found is None or found.dimensionality != {"[time]": -1}:
        return ""
    names = {str(name) for name, _ in found.unit_items()}
    if names & {"revolutions_per_minute", "revolutions_per_second", *_TURNS}:
        return "turns"
    return "radians" if names & _ANGLES else "often"


_TURNS = {"turn", "revolution", "cycle"}
_ANGLES = {"radian", "degree", "arcminute", "arcsecond", "grade", "milliradian"}


@cache
def _is_angle(unit: str) -> bool | None:
    """Whether a unit without a dimension is one of an angle; None for one with a dimension."""
    found = _quantity(1, unit)
    if found is None or not found.dimensionless:
        return None
    return any(str(name) in _TURNS | _ANGLES for name, _ in found.unit_items())


def _converted(x: int, source: str, unit: str) -> Fraction:
    """x of one unit in another; a temperature by way of kelvin, since scales begin elsewhere."""
    found = _quantity(x, source)
    if source in TEMPERATURES:
        found = _registry().Quantity(_zero(source) + x * _degree(source), "kelvin")
    if unit in TEMPERATURES:
        return (Fraction(found.to("kelvin").magnitude) - _zero(unit)) / _degree(unit)
    return Fraction(found.to(_PINT_NAMES.get(unit, unit)).magnitude)


def _zero(unit: str) -> Fraction:
    return Fraction(TEMPERATURES[unit][0])


def _degree(unit: str) -> Fraction:
    return Fraction(TEMPERATURES[unit][1])


def pint_name(unit: str | None) -> str:
    """Return what Pint calls a unit."""
    return "dimensionless" if unit in (None, "1") else _PINT_NAMES.get(unit, unit)


def _quantity(x: int, unit: str) -> Any:
    """x of a unit, None for what is no unit."""
    if unit not in _PINT_NAMES and not _UNIT.match(unit):
        return None
    try:
        return _registry().Quantity(Fraction(x), _PINT_NAMES.get(unit, unit))
    except Exception:  # Pint raises many kinds, down to those of its tokenizer
        return None


def size_of(unit: str) -> Any:
    """1 of a unit as a quantity of the registry, a degree as its difference; None for what nobody
    knows."""
    unit = spelled(unit)
    if unit in TEMPERATURES:
        return _registry().Quantity(_degree(unit), "kelvin")
    return _quantity(1, unit)


def number_of_units(quantity: Any, unit: Any) -> float:
    """How many times a unit a quantity is, both as of `size_of`."""
    return float((quantity / unit).to("dimensionless").magnitude)


def text_of_units(quantity: Any) -> str:
    """The unit of a quantity of the registry as it is written: `V*A`, `K/W`, `m^2`."""
    above: list[str] = []
    below: list[str] = []
    for name, exponent in quantity.unit_items():
        symbol = _registry().get_symbol(str(name)).replace("Ω", "ohm").replace("µ", "u")
        power = "" if abs(exponent) == 1 else f"^{float(abs(exponent)):g}"
        (above if exponent > 0 else below).append(symbol + power)
    return "/".join(["*".join(above) or "1", *below])


#: What loggers write for degrees where no other unit can be meant.
_DEGREES = {"C": "degC", "F": "degF"}


def many(n: int, word: str) -> str:
    """`1 row`, `2 rows`, `0 rows`."""
    return f"{n} {word}" if n == 1 else f"{n} {word}s"


def in_brackets(name: str) -> tuple[str, str | None]:
    """A column's name without the brackets it ends in, and what is in them: a unit, most often."""
    name = name.rstrip()
    opening = max(name.rfind("("), name.rfind("["))
    inner = name[opening + 1 : -1].strip()
    if opening < 0 or name[-1] not in ")]" or not inner:
        return name, None
    return name[:opening].rstrip(), inner


#: Units that stand in front of a name too: `V_in`.
_IN_FRONT = ("V", "mV", "A", "mA", "uA", "Hz")


def stated_unit(name: str, beside: str) -> str | None:
    """Return the usual unit that a log states for a column: beside its name, or in it.

    None where it states none.
    """
    bracketed = in_brackets(name)[1]
    first, *others = name.split("_")
    texts = [bracketed] if bracketed else [text for text in others[-1:] if text != "in"]
    texts += [first] if others and first in _IN_FRONT else []
    for text in [beside, *texts]:
        unit = spelled(text.replace("percent", "%").replace("_per_", "/").strip())
        unit = "degC" if unit == "C" else unit  # nobody logs coulombs
        if text and unit != "1" and usual(unit):
            return unit
    return None


def column_unit(name: str, like: str | None) -> str | None:
    """Return the unit in a column's name, if values in it can be taken in the unit `like`.

    None where the name says no unit.

    Raises
    ------
    UnitError
        Where it says a usual unit of another kind: volts for degrees.
    """
    if like is None:
        return None
    bracketed = in_brackets(name)[1]
    parts = name.split("_")
    texts = [bracketed] if bracketed else ["_".join(parts[i:]) for i in range(1, len(parts))]
    other = None
    for text in texts:
        unit = spelled(text.replace("_per_", "/").replace("percent", "%"))
        unit = _DEGREES.get(unit, unit) if like in TEMPERATURES else unit
        try:
            factor_and_offset(unit, like)
        except UnitError:
            other = unit if usual(unit) is not None and (len(unit) > 1 or unit in "VAKW") else other
            continue
        return unit
    if other is not None:
        kinds = f"{symbol(other)}, which is no {symbol(like)}"
        raise UnitError(f"the column {name} says {kinds}; --unit says otherwise")
    return None


def rounded(value: float, uncertainty: float) -> tuple[str, str]:
    """Value and uncertainty as texts: the uncertainty to two significant digits, the value to the
    same place. `(225.314, 2.5534)` → `("225.3", "2.6")`. An uncertainty of 0, or none, leaves the
    value at six digits. Source: JCGM 100:2008, 7.2.6."""
    if not (math.isfinite(value) and math.isfinite(uncertainty) and uncertainty > 0):
        return shown(value), shown(uncertainty) if uncertainty == uncertainty else "–"
    place = Decimal(1).scaleb(math.floor(math.log10(uncertainty)) - 1)
    if Decimal(to_place(uncertainty, place)) >= 100 * place:  # 0.0996 → 0.10
        place = place.scaleb(1)
    a, b = (brief(to_place(number, place)).replace("-", "−") for number in (value, uncertainty))
    return a, b


def brief(text: str) -> str:
    """The text of a small number with its power of ten instead of many zeros: `5.00e-10` for
    `0.000000000500`."""
    small = len(text.partition(".")[2]) > 9 and 0 < abs(float(text)) < 1e-4
    return f"{Decimal(text):e}" if small else text


def with_uncertainty(value: float, uncertainty: float, unit: str | None) -> str:
    """`(225.3 ± 2.6) °C`; very small or large ones with their power of ten in front."""
    if not (math.isfinite(uncertainty) and uncertainty > 0):
        return shown(value, unit)
    size = max(abs(value), uncertainty)
    power = math.floor(math.log10(size)) if math.isfinite(size) else 0
    scale, factor = 1.0, ""
    if power < -3 or power > 6:
        scale, factor = 10.0**power, f"·1e{power}".replace("-", "−")
    a, b = rounded(value / scale, uncertainty / scale)
    brackets = f"({a} ± {b}){factor}"
    return f"{brackets} {symbol(unit)}" if unit else (brackets if factor else f"{a} ± {b}")
