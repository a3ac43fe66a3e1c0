"""The schema of a bench file. TOML tables come in, plain values and laws come out."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from ..core.error_types import ParameterError, ParameterErrors, QuantityError
from ..core.laws.build import build_law
from ..core.laws.raw_input import Input
from ..core.model.from_table import from_table, frozen
from ..core.model.law import Law, is_finite
from ..core.model.quantity import quantity
from ..core.model.text import nearest
from .points import read_points

if TYPE_CHECKING:
    from ..core.decide.smoothing import Smoothing

#: Place in the file: keys and list positions.
Place = tuple[int | str, ...]

#: Makes a value of what stands in the file. Raises `ValueError` with what would be right, or
#: `ParameterErrors` of what is inside.
Read = Callable[[Any], Any]


@dataclass(frozen=True)
class Wrong:
    """What is wrong in a table: where, and a sentence on it or the errors of what stands there."""

    place: Place
    what: str | ParameterErrors


@dataclass(frozen=True)
class ConverterTable:
    """`[converter]`, or a channel's own. What a channel leaves out, the common one fills in."""

    given: dict[str, Any]
    """What is set, by name."""


@dataclass(frozen=True)
class ChannelTable:
    """`[channel.<name>]`."""

    column: str | int
    about: str = ""
    converter: ConverterTable | None = None
    input: Input | None = None
    laws: tuple[Law, ...] = ()
    limits: tuple[float, float] | None = None
    decimals: int | None = None
    smooth: Smoothing | None = None
    noise: float | None = None
    calibration: str | dict[str, Any] | None = None
    dissipation: float | None = None
    rails: Literal["ends", "faults"] | None = None


def converter_table(table: Any, wrong: list[Wrong], place: Place = ()) -> ConverterTable | None:
    """The table of a converter; its errors are added to the list."""
    before = len(wrong)
    values = _read_table(table, _CONVERTER, wrong, place)
    return ConverterTable(values) if len(wrong) == before else None


def channel_table(table: dict[str, Any], folder: Path, wrong: list[Wrong]) -> ChannelTable | None:
    """The table of a channel; files that it names stand in the folder."""
    before = len(wrong)
    if "column" not in table:
        wrong.append(Wrong(("column",), "missing; it is needed"))
    values = _known(table, _CHANNEL, wrong)
    if "converter" in table:
        values["converter"] = converter_table(table["converter"], wrong, ("converter",))
    laws = table.get("laws", [])
    if not isinstance(laws, list):
        wrong.append(Wrong(("laws",), f"found {laws!r}; a list is right"))
    else:
        values["laws"] = tuple(_laws(laws, folder, wrong))
    _unknown(table, [*_CHANNEL, "converter", "laws"], wrong)
    return ChannelTable(**values) if len(wrong) == before else None


def file_errors(table: dict[str, Any]) -> list[Wrong]:
    """What is wrong with the file as a whole, beside what stands in its tables."""
    wrong: list[Wrong] = []
    _read_table(table, _FILE, wrong)
    if "channel" not in table:
        wrong.append(Wrong(("channel",), "missing; it is needed"))
    for kind in ("channel", "trip", "drive"):
        named = table.get(kind, {})
        if isinstance(named, dict):
            wrong += (
                Wrong((kind, name), f"found {part!r}; a table is right")
                for name, part in named.items()
                if not isinstance(part, dict)
            )
    return wrong


def _read_table(
    table: Any, fields: Mapping[str, Read], wrong: list[Wrong], place: Place = ()
) -> dict[str, Any]:
    """What a table has, by name, each read."""
    if not isinstance(table, dict):
        wrong.append(Wrong(place, f"found {table!r}; a table is right"))
        return {}
    values = _known(table, fields, wrong, place)
    _unknown(table, fields, wrong, place)
    return values


def _known(
    table: dict[str, Any], fields: Mapping[str, Read], wrong: list[Wrong], place: Place = ()
) -> dict[str, Any]:
    values = {}
    for key in (key for key in fields if key in table):
        try:
            values[key] = fields[key](table[key])
        except ParameterErrors as errors:
            wrong.append(Wrong((*place, key), errors))
        except ValueError as error:
            wrong.append(Wrong((*place, key), f"found {table[key]!r}; {error}"))
    return values


def _unknown(
    table: dict[str, Any], names: Iterable[str], wrong: list[Wrong], place: Place = ()
) -> None:
    right = list(names)
    wrong += (
        Wrong((*place, key), f"unknown; {nearest(key, right)}") for key in table if key not in right
    )


def _laws(listed: list[Any], folder: Path, wrong: list[Wrong]) -> Iterator[Law]:
    for i, table in enumerate(listed):
        try:
            yield _law(table, folder)
        except ParameterErrors as errors:
            wrong.append(Wrong(("laws", i), errors))
        except ValueError as error:
            wrong.append(Wrong(("laws", i), f"found {table!r}; {error}"))


def _law(table: Any, folder: Path) -> Law:
    if not isinstance(table, dict):
        raise ValueError('a law is a table, as in { law = "line", gain = 2 }')
    if table.get("law") == "table" and isinstance(table.get("points"), str):
        try:
            table = table | {"points": read_points(folder, table["points"])}
        except ParameterError as error:
            raise ParameterErrors([error]) from None
    return build_law(table)


def _kind(right: str, *kinds: type, least: float = -math.inf, most: float = math.inf) -> Read:
    """A reader of values of some types, within bounds. What is true or false is no number."""

    def read(value: Any) -> Any:
        truth = isinstance(value, bool)
        if not isinstance(value, kinds) or (truth and bool not in kinds):
            raise ValueError(f"{right} is right")
        if isinstance(value, int | float) and not truth:
            if not is_finite(value):
                raise ValueError("a finite number is right")
            if not least <= value <= most:
                far, bound = ("greater", least) if value < least else ("less", most)
                raise ValueError(f"{far} than or equal to {bound:g} is right")
        return value

    return read


_TEXT, _NUMBER, _TABLE = _kind("a text", str), _kind("a number", int, float), _kind("a table", dict)


def _volts(value: Any) -> float:
    """A voltage, perhaps with its tolerance."""
    if isinstance(value, str):
        return quantity(value, "V")
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise ValueError('a voltage is right, as in 3.3 or "3.3 V ± 1 %"')
    return value


def _limits(value: Any) -> tuple[float, float]:
    if not isinstance(value, list) or len(value) != 2:
        raise ValueError("two numbers are right, the low one first")
    low, high = map(_NUMBER, value)
    return float(low), float(high)


def _rails(value: Any) -> Any:
    if value not in ("ends", "faults"):
        raise ValueError("'ends' or 'faults' is right")
    return value


def _smooth(table: Any) -> Smoothing:
    """A `smooth` table; its own errors are reported like those of a law."""
    from ..core.decide.smoothing import Smoothing

    if not isinstance(table, dict):
        raise ValueError('a table is right, as in { kind = "median", over = 5 }')
    return from_table(Smoothing, table, "smooth")


def _watts(value: Any) -> float:
    """Power for each kelvin that a sensor warms itself."""
    watts = quantity(value, "W") if isinstance(value, str) else value
    number = isinstance(watts, int | float) and not isinstance(watts, bool) and is_finite(watts)
    if not number or not watts > 0:
        raise ValueError('a power above 0 for each kelvin is right, as in "1.5 mW"')
    return float(watts)


def _calibration(left: Any) -> Any:
    """What a calibration left; the channel's unit, which is not known here, reads it."""
    if not isinstance(left, str | dict):
        raise ValueError('a text with ± is right, as in "± 0.2 degC (k=2)", or what fit wrote')
    return left


def _input(table: Any) -> Input:
    """An `input` table: a raw edge that is no converter, its quantities in its own unit."""
    if not isinstance(table, dict):
        raise ValueError('a table is right, as in { unit = "cm", resolution = 0.1 }')
    unit = table.get("unit")

    def read(key: str, value: Any) -> Any:
        if key == "range" and isinstance(value, list):
            return tuple(read("end", end) for end in value)
        if key == "unit" or not isinstance(value, str) or not isinstance(unit, str | None):
            return frozen(value)
        try:
            own = None if unit == "1" else unit
            if key != "error" or not value.strip().startswith(("±", "+")):
                return float(quantity(value, own))
            zero = "0" if own is None else f"0 {own}"
            return getattr(quantity(f"{zero} {value}", own), "half_width", value)
        except QuantityError as error:
            raise ParameterError(key, value, str(error)) from None

    return from_table(Input, table, "input", read=read)


_CONVERTER: dict[str, Read] = {
    "bits": _kind("a whole number", int),
    "vref": _volts,
    "count_at_vref": _NUMBER,
    "signed": _kind("true or false", bool),
    "error_lsb": _kind("a number", int, float, least=0),
    "codes": _kind("a whole number", int),
}

_CHANNEL: dict[str, Read] = {
    "column": _kind("a name or a number from 1", str, int),
    "about": _TEXT,
    "input": _input,
    "limits": _limits,
    "decimals": _kind("a whole number", int, least=0, most=12),
    "smooth": _smooth,
    "noise": _kind("a number", int, float, least=0),
    "calibration": _calibration,
    "dissipation": _watts,
    "rails": _rails,
}

_FILE: dict[str, Read] = {
    "title": _TEXT,
    "about": _TEXT,
    **dict.fromkeys(("converter", "channel", "stream", "trip", "drive"), _TABLE),
}
