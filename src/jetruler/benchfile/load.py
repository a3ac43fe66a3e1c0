"""Loading a bench file: every error at once, each with its place."""

from __future__ import annotations

import contextlib
import re
import tomllib
from collections.abc import Callable, Iterator
from os import PathLike
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..core.error_types import (
    JetRulerError,
    ParameterError,
    ParameterErrors,
    QuantityError,
    UnitError,
    printable,
)
from ..core.firmware.names import name_clashes
from ..core.laws import law_named
from ..core.laws.build import build_law, taking
from ..core.laws.raw_input import Input
from ..core.model.channel import Bench, Channel
from ..core.model.converter import RawInput
from ..core.model.fit_covariance import FitCovariance
from ..core.model.from_table import from_table, frozen
from ..core.model.law import FRACTION, Law, parameters
from ..core.model.namespace import column_clashes
from ..core.model.quantity import Toleranced, quantity
from ..core.model.ruler import Ruler
from ..core.model.unit_registry import factor
from ..core.model.units import TEMPERATURES, symbol
from ..files import text_of_file
from .schema import (
    ChannelTable,
    ConverterTable,
    Place,
    Wrong,
    channel_table,
    converter_table,
    file_errors,
)

if TYPE_CHECKING:
    from ..core.decide.drives import Drive
    from ..core.decide.trips import Trip

CHANNEL_NAME = re.compile(r"[^\W\d]\w*(-\w+)*")


class BenchError(JetRulerError):
    """A bench file that cannot be used; `errors` has a line for each error.

    Attributes
    ----------
    path : str
        The file.
    errors : list[str]
        A line for each error, with its place.

    Examples
    --------
    >>> import jetruler as jr
    >>> try:
    ...     jr.load_bench("none.toml")
    ... except jr.errors.BenchError as error:
    ...     print(error)
    none.toml: there is no such file; name a bench file with --bench
    """

    def __init__(self, path: str, errors: list[str]) -> None:
        self.path, self.errors = path, tuple(errors)
        head = f"{path}: " if len(errors) == 1 else f"{path}: {len(errors)} errors\n  "
        super().__init__(head + "\n  ".join(errors))


def load_bench(path: str | PathLike[str]) -> Bench:
    """Read a bench file.

    Parameters
    ----------
    path : path
        The bench file (TOML).

    Returns
    -------
    Bench
        Its channels, trips, drives and stream.

    Raises
    ------
    BenchError
        For a file that is missing, is no TOML, or has errors (all of them).

    Examples
    --------
    >>> import jetruler as jr
    >>> list(jr.load_bench("bench.toml").channels)[:3]
    ['bean', 'bean2', 'damper']
    """
    name = str(path)
    try:
        text = text_of_file(Path(path)).removeprefix("\ufeff")
    except FileNotFoundError:
        raise BenchError(name, ["there is no such file; name a bench file with --bench"]) from None
    except IsADirectoryError:
        raise BenchError(name, ["this is a folder; a bench file (TOML) is wanted"]) from None
    except UnicodeDecodeError:
        raise BenchError(name, ["this is not text; a bench file is TOML in UTF-8"]) from None
    except OSError as error:
        raise BenchError(name, [f"cannot be read: {error.strerror or error}"]) from None
    return parse_bench(text, name, Path(path).parent)


def parse_bench(text: str, name: str = "bench.toml", folder: Path = Path()) -> Bench:
    """Read a bench from a text.

    Parameters
    ----------
    text : str
        What would stand in a bench file (TOML).
    name : str
        What messages call it.
    folder : path
        Where the files stand that it names.

    Returns
    -------
    Bench
        Its channels, trips, drives and stream.

    Raises
    ------
    BenchError
        For a text that is no TOML, or has errors (all of them).

    Examples
    --------
    >>> import jetruler as jr
    >>> bench = jr.parse_bench('''
    ... [channel.rail]
    ... column = "a3"
    ... converter = { bits = 12, vref = "3.3 V" }
    ... laws = [{ law = "attenuator", upper = "10 kohm", lower = "3.3 kohm" }]
    ... ''')
    >>> round(bench["rail"](1880), 3)
    6.106
    """
    try:
        table = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise BenchError(name, [f"this is not TOML: {printable(str(error), 300)}"]) from None
    except RecursionError:
        raise BenchError(name, ["its lists or tables are nested too deeply"]) from None
    except ValueError:  # more than Python reads
        raise BenchError(name, ["it holds a whole number of thousands of digits"]) from None
    errors: list[str] = []
    wrong = file_errors(table)
    errors += _told(wrong, (), table)
    channels: dict[str, Channel] = {}
    if isinstance(table.get("converter", {}), dict):
        wrong = []
        common = converter_table(table.get("converter", {}), wrong)
        errors += _told(wrong, ("converter",), table)
        table = _inherited(table)
        for key, part in _tables(table.get("channel")):
            place = ("channel", key)
            wrong = []
            checked = channel_table(part, folder, wrong)
            errors += _told(wrong, place, table)
            if checked is not None and common is not None:
                try:
                    channels[key] = _channel(key, checked, common)
                except ParameterErrors as error:
                    errors += (_placed(m, place, part) for m in error.errors)
                except ParameterError as error:
                    errors.append(_placed(error, place, part))
                except JetRulerError as error:
                    errors.append(f"{_named(place)}: {error}")
        errors += _of_converter(common)
    if table.get("channel") == {}:
        errors.append("channel: found none; at least one [channel.<name>] is wanted")
    decided = _decided(table, channels, errors)
    errors += _clashes(table, channels, decided)
    if errors:
        raise BenchError(name, list(dict.fromkeys(errors)))
    return Bench(table.get("title", ""), channels, **decided)


def _clashes(
    table: dict[str, Any], channels: dict[str, Channel], decided: dict[str, Any]
) -> Iterator[str]:
    """The names that are taken already: as a column, or in exported code."""
    kinds = ("channel", "trip", "drive")
    named = [(kind, key) for kind in kinds for key, _ in _tables(table.get(kind))]
    columns = column_clashes(channels, decided.get("trips", {}), decided.get("drives", {}))
    told = {(kind, name): error for kind, name, error in [*columns, *name_clashes(named)]}
    yield from (f"{_named(place)}.{error}" for place, error in told.items())


def _of_converter(common: ConverterTable | None) -> list[str]:
    """The errors in `[converter]`, whether or not a law uses it."""
    given = {} if common is None else common.given
    if not given:
        return []
    try:
        build_law({"law": "adc", "bits": 32} | given)
    except ParameterErrors as error:
        return [f"converter.{m}" for m in error.errors]
    return []


def _inherited(table: dict[str, Any]) -> dict[str, Any]:
    """The same tables, where a converter that stands in a list of laws has what `[converter]` and
    the channel's own say, as far as it does not say it itself."""
    channels = dict(table.get("channel", {})) if isinstance(table.get("channel"), dict) else {}
    for key, part in _tables(channels):
        laws = part.get("laws")
        if not isinstance(laws, list) or not laws or not isinstance(laws[0], dict):
            continue
        first = laws[0]
        if first.get("law") not in ("adc", "counts"):
            continue
        known = parameters(law_named(first["law"]))
        own = part.get("converter")
        said = table.get("converter", {}) | (own if isinstance(own, dict) else {})
        given = {k: v for k, v in said.items() if k in known}
        channels[key] = part | {"laws": [given | first, *laws[1:]]}
    return table | {"channel": channels} if channels else table


def _decided(
    table: dict[str, Any], channels: dict[str, Channel], errors: list[str]
) -> dict[str, Any]:
    """The stream, trips and drives, for those who have some."""
    if not any(isinstance(table.get(key), dict) for key in ("stream", "trip", "drive")):
        return {}
    from . import decision_tables as decide

    def report(*place: str) -> Callable[[ParameterError], None]:
        return lambda error: errors.append(f"{_named(place)}.{error}")

    named = dict.fromkeys(key for key, _ in _tables(table.get("channel")))  # wrong ones too
    trips: dict[str, Trip | None] = {}
    drives: dict[str, Drive | None] = {}
    for key, part in _tables(table.get("trip")):
        _check_name(key, report("trip", key))
        trips[key] = decide.trip_of(key, part, named, report("trip", key))
    for key, part in _tables(table.get("drive")):
        _check_name(key, report("drive", key))
        if "outputs" in part:
            drives |= decide.pattern_of(key, part, channels, report("drive", key))
        else:
            drives[key] = decide.drive_of(key, part, named, trips, report("drive", key))
    made = {key: drive for key, drive in drives.items() if drive is not None}
    for key, error in decide.output_errors(made):
        report("drive", key)(error)
    stream = table.get("stream")
    return {
        "trips": {key: trip for key, trip in trips.items() if trip is not None},
        "drives": made,
        "stream": decide.stream_of(stream, report("stream")) if isinstance(stream, dict) else None,
    }


def _check_name(key: str, report: Callable[[ParameterError], None]) -> None:
    if not CHANNEL_NAME.fullmatch(key):
        report(ParameterError("name", key, "letters, digits and _ are right, a letter first"))


def listed_converters(path: str | PathLike[str], bench: Bench) -> list[str]:
    """The channels of a loaded bench whose converter stands in their own list of laws, not in
    `[converter]`: places in the file are then counted from it."""
    table = tomllib.loads(Path(path).read_bytes().decode("utf-8-sig"))
    given = {name: len(part.get("laws", [])) for name, part in _tables(table.get("channel"))}
    return [name for name, c in bench.channels.items() if given[name] == len(c.chain.laws)]


def _tables(channels: Any) -> list[tuple[str, dict[str, Any]]]:
    """The channels that are tables at all; the others are reported by the file's schema."""
    found = channels.items() if isinstance(channels, dict) else ()
    return [(key, part) for key, part in found if isinstance(part, dict)]


def _channel(key: str, table: ChannelTable, common: ConverterTable) -> Channel:
    if not CHANNEL_NAME.fullmatch(key):
        raise ParameterError("name", key, "letters, digits and _ are right, a letter first")
    if isinstance(table.column, int) and table.column < 1:
        raise ParameterError("column", table.column, "columns are numbered from 1")
    ruler = _ruler(table, common)
    return Channel(
        key,
        ruler,
        column=table.column,
        about=table.about,
        limits=table.limits,
        decimals=table.decimals,
        smooth=table.smooth,
        noise=table.noise,
        calibration=_calibration(table.calibration, ruler),
        dissipation=table.dissipation,
        rails=table.rails,
    )


def _calibration(given: str | dict[str, Any] | None, ruler: Ruler) -> float | FitCovariance | None:
    """What a calibration left: a text, or the table that a fit wrote."""
    if not isinstance(given, dict):
        return None if given is None else _about_zero(given, ruler.gives)

    def read(key: str, value: Any) -> Any:
        if key == "left" and isinstance(value, str):
            return _about_zero(value, ruler.gives).standard
        return frozen(value)

    try:
        found = from_table(FitCovariance, given, "calibration", read=read)
        found.place(ruler.laws)
    except (ParameterError, ParameterErrors) as error:
        parts = error.errors if isinstance(error, ParameterErrors) else [error]
        inside = [ParameterError(f"calibration.{e.name}", e.found, e.right) for e in parts]
        raise ParameterErrors(inside) from None
    return found


def _about_zero(text: str, unit: str | None) -> Toleranced:
    """`"± 0.2 degC (k=2)"`: a tolerance about 0, in the channel's unit."""
    zero = f"0 {unit}" if unit in TEMPERATURES else "0"
    try:
        value = quantity(f"{zero} {text.strip()}", unit if factor(unit or "") else None)
    except QuantityError as error:
        raise ParameterError("calibration", text, str(error)) from None
    if not isinstance(value, Toleranced):
        raise ParameterError("calibration", text, 'a text with ± is right: "± 0.2 degC (k=2)"')
    if "%" in text and unit != "%":
        right = f"it is about 0, and a part of 0 is 0; say it in {symbol(unit) or 'units'}"
        raise ParameterError("calibration", text, right)
    return value


def _ruler(table: ChannelTable, common: ConverterTable) -> Ruler:
    """The converter that the first law asks for, then the laws.

    A first law that takes volts, or no law at all, stands behind the converter's volts; a
    ratiometric one behind the fraction of its reference; one that takes counts, or any unit, is
    given the counts as they are.
    """
    laws = list(table.laws)
    if table.input is not None:
        return _behind_input(table.input, laws, table.converter is not None)
    if laws and isinstance(laws[0], RawInput):
        return Ruler(tuple(laws))
    wanted = "V" if not laws else laws[0].takes
    counts = wanted in (None, "count")
    settings = dict(common.given)
    if table.converter is not None:
        own = table.converter.given
        if "bits" in own:  # another size has other codes
            settings.pop("codes", None)
        settings |= own
    if counts:
        settings = {
            k: v for k, v in settings.items() if k in ("bits", "signed", "error_lsb", "codes")
        }
    elif wanted != FRACTION and "vref" not in settings:
        raise ParameterError("converter.vref", None, "volts need the reference voltage")
    try:
        converter = build_law({"law": "counts" if counts else "adc", **settings})
    except ParameterErrors as error:
        raise ParameterErrors(
            [ParameterError(f"converter.{m.name}", m.found, m.right) for m in error.errors]
        ) from None
    return Ruler((converter, *laws))


def _behind_input(raw: Input, laws: list[Law], has_converter: bool) -> Ruler:
    """The input, then the laws; the first one's quantities are taken in the input's unit."""
    if has_converter:
        raise ParameterError("input", raw.unit, "either an input or a converter is right")
    if laws and isinstance(laws[0], RawInput):
        raise ParameterError("input", raw.unit, f"either this or the law {laws[0].name} is right")
    for i, law in enumerate(laws):
        before = law.takes
        if before not in (None, raw.unit):
            with contextlib.suppress(UnitError):  # the ruler says what does not fit
                laws[i] = taking(law, raw.unit)
        if law.gives not in (None, before):
            break  # from here on it is another quantity
    return Ruler((raw, *laws))


def _placed(error: ParameterError, place: Place, part: dict[str, Any]) -> str:
    """A channel's error with its place; what the common converter says is its own error."""
    section, _, key = error.name.partition(".")
    if section == "converter" and key not in part.get("converter", {}):
        return str(error)
    return f"{_named(place)}.{error}"


def _told(wrong: list[Wrong], place: Place, table: dict[str, Any]) -> Iterator[str]:
    """What is wrong in a table, each with its place in the file."""
    for one in wrong:
        where = _named((*place, *one.place), table)
        if isinstance(one.what, ParameterErrors):
            yield from (f"{where}.{error}" for error in one.what.errors)
        else:
            yield f"{where}: {one.what}"


def _named(place: Place, table: dict[str, Any] | None = None) -> str:
    """`channel.bean.laws[2 beta]`: list positions count from 1, laws with their name."""
    text, inner = "", table
    for key in place:
        try:
            inner = inner[key]  # type: ignore[index]
        except (KeyError, IndexError, TypeError):
            inner = None
        if isinstance(key, int):
            law = inner.get("law") if isinstance(inner, dict) else None
            text += f"[{key + 1} {printable(str(law), 40)}]" if law else f"[{key + 1}]"
        else:
            name = printable(str(key), 100)
            text += f".{name}" if text else name
    return text
