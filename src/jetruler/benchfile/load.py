"""Loading a bench file: every error at once, each with its place."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator, Mapping
from os import PathLike
from pathlib import Path
from typing import IO, Any, cast

from ..core.bench.bench import Bench, column_clashes
from ..core.bench.channel import Channel
from ..core.bench.derived import derived
from ..core.error_types import (
    JetRulerError,
    KindError,
    ParameterError,
    ParameterErrors,
    expected_found,
    is_safe,
    printable,
)
from ..core.firmware.names import name_clashes
from ..core.laws.raw_edge import Adc
from ..core.result import refuses
from ..core.ruler.ruler import written
from ..core.ruler.units import nearest
from ..files import text_of_file
from .models import TableErrors, Type, build_law, placed, read
from .tables import (
    CHANNEL,
    CONVERTER,
    DERIVED,
    DRIVE,
    FILE,
    LOG,
    PATTERNS,
    TRIP,
    WIRE,
    calibration_of,
    inherited,
    ruler_of,
    tables_in,
    with_likes,
    with_named_laws,
)

CHANNEL_NAME = re.compile(r"[^\W\d]\w*(-\w+)*")

#: Place in the file: keys and list positions.
Place = tuple[int | str, ...]


#: Errors that a message shows at most.
SHOWN = 20


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
    none.toml: expected a bench file, found none; name one with --bench
    """

    def __init__(self, path: str, errors: list[str]) -> None:
        self.path, self.errors = path, tuple(errors)
        head = f"{path}: " if len(errors) == 1 else f"{path}: {len(errors)} errors\n  "
        left = len(errors) - SHOWN
        more = [f"… and {left} more"] if left > 0 else []
        super().__init__(head + "\n  ".join([*errors[:SHOWN], *more]))


@refuses
def load_bench(path: str | PathLike[str] | IO[Any]) -> Bench:
    """Read a bench file.

    Parameters
    ----------
    path : path, or open file
        The bench file (TOML); `~` is one's own folder.

    Returns
    -------
    Bench
        Its channels, trips, drives, and how its logs are written.

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
    if hasattr(path, "read"):
        name, given = str(getattr(path, "name", "the bench file")), path.read()
        return parse_bench(given.decode("utf-8") if isinstance(given, bytes) else given, name)
    if not isinstance(path, str | PathLike):
        expected = "a bench, a bench file's path, or an open file"
        raise KindError(f"bench: expected {expected}, found {type(path).__name__}")
    name, path = str(path), Path(path).expanduser()
    try:
        text = text_of_file(path).removeprefix("\ufeff")
    except FileNotFoundError:
        raise BenchError(
            name, ["expected a bench file, found none; name one with --bench"]
        ) from None
    except IsADirectoryError:
        raise BenchError(name, ["expected a bench file (TOML), found a folder"]) from None
    except UnicodeDecodeError:
        raise BenchError(
            name, ["expected TOML in UTF-8, found another encoding; save it as UTF-8"]
        ) from None
    except OSError as error:
        raise BenchError(name, [f"cannot be read: {error.strerror or error}"]) from None
    except (RuntimeError, ValueError):  # a loop of links, or a name with a zero in it
        raise BenchError(name, ["cannot be read: the link points to nothing"]) from None
    return parse_bench(text, name, path.parent)


@refuses
def parse_bench(text: str, name: str = "bench.toml", folder: Path = Path()) -> Bench:
    """Read a bench from a text.

    Parameters
    ----------
    text : str
        What would be in a bench file (TOML).
    name : str
        What messages call it.
    folder : path
        Where the files are that it names.

    Returns
    -------
    Bench
        Its channels, trips, drives, and how its logs are written.

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
    if deep := _DEEP.search(text):
        line = text.count("\n", 0, deep.start()) + 1
        raise BenchError(name, [f"line {line}: expected a key of few parts, found over {DEEPEST}"])
    if (keys := text.count("=")) > MOST_KEYS:
        raise BenchError(name, [f"expected up to {MOST_KEYS} keys, found about {keys}"])
    try:
        table = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise BenchError(name, [f"this is not TOML: {printable(str(error), 300)}"]) from None
    except RecursionError:
        raise BenchError(name, ["its lists or tables are nested too deeply"]) from None
    except ValueError:  # more than Python reads
        raise BenchError(name, ["it holds a whole number of thousands of digits"]) from None
    if (keys := _keys_in(table)) > MOST_KEYS:
        raise BenchError(name, [f"expected up to {MOST_KEYS} keys, found {keys}"])
    file = _File(table, folder)
    file.errors += _unsafe((), table)
    bench = file.bench()
    if file.errors:
        raise BenchError(name, list(dict.fromkeys(file.errors)))
    return bench


#: Parts of a dotted key, and keys, that nobody writes by hand; they would take minutes to read.
DEEPEST, MOST_KEYS = 40, 50_000
_PART = r"""(?:(?<![\w-])[\w-]++|"[^"\n]*"|'[^'\n]*')[ \t]*+\.[ \t]*+"""
_DEEP = re.compile(rf"(?:{_PART}){{{DEEPEST}}}")


def _keys_in(table: Any) -> int:
    """How many keys a table has, at all depths."""
    if isinstance(table, dict):
        return len(table) + sum(map(_keys_in, table.values()))
    return sum(map(_keys_in, table)) if isinstance(table, list) else 0


def _unsafe(place: tuple[str, ...], value: Any) -> Iterator[str]:
    """The texts that would do something to what shows them."""
    if isinstance(value, dict):
        for key, inner in value.items():
            yield from _unsafe((*place, printable(str(key), 100)), inner)
    elif isinstance(value, list):
        for inner in value:
            yield from _unsafe(place, inner)
    elif isinstance(value, str) and not all(is_safe(sign) or sign in "\n\t" for sign in value):
        expected = "a text without control codes and signs that change the text direction"
        yield f"{'.'.join(place)}: {expected_found(expected, printable(value, 100))}"


#: Keys of `[stream]`, which is read for one version more, and what they are in `[log]`.
_OLD_KEYS = {"kind": "format", "timestamp": "time"}


class _File:
    """A bench file while it is read: each table by its model, errors in the order of the file."""

    def __init__(self, table: dict[str, Any], folder: Path) -> None:
        self.folder = folder
        self.errors: list[str] = []
        self.table = with_likes(with_named_laws(table, self.errors), self.errors)
        self._shared: Adc | None = None

    def bench(self) -> Bench:
        """The bench, as far as it can be made; `errors` has what is wrong."""
        self._read((), FILE, self.table)
        channels = self._channels()
        if self.table.get("channel") == {}:
            self.errors.append("channel: expected at least one [channel.<name>], found none")
        decided = self._decided(channels)
        self.errors += _clashes(self.table, channels, decided)
        if self.errors:
            return Bench("", {})
        if len(channels) < len(tables_in(self.table.get("channel"))):
            raise AssertionError("a channel is not accepted (no reason given)")
        return Bench(self.table.get("title", ""), channels, **decided, converter=self._shared)

    def _read(self, place: Place, model: Type, table: Any, **context: Any) -> Any:
        """What a table describes; None where it has errors, which are noted with their places."""
        try:
            return read(model, table, folder=self.folder, **context)
        except TableErrors as error:
            self.errors += (f"{self._named((*place, *at))}: {text}" for at, text in error.errors)
            return None

    def _named(self, place: Place) -> str:
        """`channel.bean.laws[2 beta]`: list positions count from 1, laws with their name."""
        text, inner = "", self.table
        for key in place:
            try:
                inner = inner[key]  # type: ignore[index]
            except (KeyError, IndexError, TypeError):
                inner = None  # type: ignore[assignment]
            if isinstance(key, int):
                law = inner.get("law") if isinstance(inner, dict) else None
                text += f"[{key + 1} {printable(str(law), 40)}]" if law else f"[{key + 1}]"
            else:
                name = printable(str(key), 100)
                text += f".{name}" if text else name
        return text

    def _check_name(self, place: Place) -> None:
        if not CHANNEL_NAME.fullmatch(str(place[-1])):
            expected = "letters, digits and _, a letter first"
            self.errors.append(f"{self._named(place)}.name: {expected_found(expected, place[-1])}")

    def _channels(self) -> dict[str, Channel]:
        given = self.table.get("converter", {})
        if not isinstance(given, dict):
            return {}
        common = self._read(("converter",), CONVERTER, given)
        channels: dict[str, Channel] = {}
        tables = tables_in(inherited(self.table).get("channel"))
        named = dict(tables)
        waiting = {key: part for key, part in tables if "from" in part}
        for key, part in tables:
            place = ("channel", key)
            self._check_name(place)
            if key in waiting:
                continue
            checked = self._read(place, CHANNEL, part)
            if checked is None or common is None:
                continue
            try:
                channels[key] = _channel(key, checked, common)
                for unit in checked.get("also", ()):
                    other = channels[key].in_unit(unit)
                    if other.name in named:
                        why = f"channel {other.name} is there already"
                        raise ParameterError("also", unit, "a unit that no channel names", why)
                    channels[other.name] = other
            except (ParameterError, ParameterErrors) as error:
                self._note(placed(error), place, part)
            except TableErrors as error:
                self._note(error, place, part)
            except JetRulerError as error:
                self.errors.append(f"{self._named(place)}: {error}")
        if common:
            self._check_converter(common)
        self._derive(waiting, channels)
        return channels

    def _derive(self, waiting: dict[str, dict[str, Any]], channels: dict[str, Channel]) -> None:
        """The channels that are computed from others, those first that others need."""
        named = {key for key, _ in self._of("channel")}
        while waiting:
            ready = [k for k, part in waiting.items() if not {*_from(part)} & {*waiting}]
            if not ready:
                circle = " and ".join(waiting)
                expected = "channels that are computed from others than one another"
                for key in waiting:
                    place = f"channel.{key}.from"
                    self.errors.append(f"{place}: {expected_found(expected, circle)}")
                return
            for key in ready:
                self._derive_one(key, waiting.pop(key), channels, named)

    def _derive_one(
        self, key: str, part: dict[str, Any], channels: dict[str, Channel], named: set[str]
    ) -> None:
        place = ("channel", key)
        sources = _from(part)
        for name in sources:
            if name not in named:
                found = expected_found("a channel of the bench", name)
                self.errors.append(f"channel.{key}.from: {found}; {nearest(str(name), named)}")
                return
        table, first = dict(part), None
        laws = table.get("laws")
        if isinstance(laws, list) and laws and isinstance(laws[0], dict):
            first = laws[0] if laws[0].get("law") == "formula" else None
            table["laws"] = laws[1:] if first is not None else laws
        if first is None and len(sources) > 1:
            expected = "a formula of " + ", ".join(map(str, sources))
            self.errors.append(f"channel.{key}.laws: {expected_found(expected, None)}")
            return
        checked = self._read(place, DERIVED, table)
        if checked is None or any(name not in channels for name in sources):
            return  # what is wrong with a source is noted there
        settings = {k: v for k, v in checked.items() if k not in ("from", "laws", "also")}
        formula = dict(first or {"law": "formula", "expression": sources[0]})
        constants = {k: v for k, v in formula.items() if k not in ("law", "expression", "unit")}
        try:
            channels[key] = derived(
                key,
                [channels[name] for name in sources],
                formula.get("expression", ""),
                formula.get("unit"),
                laws=checked.get("laws", ()),
                constants=constants,
                **settings,
            )
        except ParameterError as error:
            at = ("laws", 0) if error.name in (*formula, "expression") else ()
            self._note(TableErrors([((*at, error.name), error.sentence)]), place, part)
        except JetRulerError as error:
            self.errors.append(f"{self._named(place)}: {error}")

    def _note(self, error: TableErrors, place: Place, part: dict[str, Any]) -> None:
        """A channel's errors; what the common converter says is its own error."""
        for at, text in error.errors:
            own = at[0] != "converter" or at[1] in part.get("converter", {})
            self.errors.append(f"{self._named((*place, *at) if own else at)}: {text}")

    def _check_converter(self, common: dict[str, Any]) -> None:
        """The errors in `[converter]`, whether or not a law uses it; the converter if it is one."""
        try:
            shared = build_law({"law": "adc", "bits": 32} | common)
            self._shared = cast(Adc, shared) if "bits" in common else None
        except TableErrors as error:
            at = (f"{self._named(('converter', *at))}: {text}" for at, text in error.errors)
            self.errors += at

    def _decided(self, channels: Mapping[str, Channel]) -> dict[str, Any]:
        """Trips, drives, and how logs are written."""
        made: dict[str, Any] = {"trips": {}, "drives": {}}
        names: dict[str, Any] = {"channels": dict.fromkeys(k for k, _ in self._of("channel"))}
        names |= {"trips": dict.fromkeys(k for k, _ in self._of("trip")), "made": channels}
        for key, part in self._of("trip"):
            self._check_name(("trip", key))
            trip = self._read(("trip", key), TRIP, part, name=key, **names)
            made["trips"] |= {key: trip} if trip is not None else {}
        for key, part in self._of("drive"):
            self._check_name(("drive", key))
            model = PATTERNS if "outputs" in part else DRIVE
            drive = self._read(("drive", key), model, part, name=key, **names)
            drives = drive if isinstance(drive, dict) else {key: drive}
            made["drives"] |= {name: each for name, each in drives.items() if each is not None}
        taken: dict[str, str] = {}
        for name, drive in made["drives"].items():
            if (first := taken.setdefault(drive.output, name)) != name:
                expected = f"another name than that of drive.{first}"
                self.errors.append(f"drive.{name}.output: {expected_found(expected, drive.output)}")
        lines: dict[str, str] = {}
        for name, drive in made["drives"].items():
            if (first := lines.setdefault(drive.addressed, name)) != name:
                expected = f"another line than that of drive.{first}"
                self.errors.append(f"drive.{name}.wire: {expected_found(expected, drive.wire)}")
        wire = self.table.get("wire")
        if isinstance(wire, dict):
            made["wire"] = self._read(("wire",), WIRE, wire)
        place = "stream" if "log" not in self.table else "log"
        table = self.table.get(place)
        if isinstance(table, dict):
            renamed = {_OLD_KEYS.get(key, key): value for key, value in table.items()}
            table = renamed if place == "stream" else table
            return {**made, "log": self._read((place,), LOG, table)}
        return made

    def _of(self, kind: str) -> list[tuple[str, dict[str, Any]]]:
        return tables_in(self.table.get(kind))


def _clashes(
    table: dict[str, Any], channels: dict[str, Channel], decided: dict[str, Any]
) -> Iterator[str]:
    """The names that are taken already: as a column, or in exported code."""
    kinds = ("channel", "trip", "drive")
    named = [(kind, key) for kind in kinds for key, _ in tables_in(table.get(kind))]
    columns = column_clashes(channels, decided.get("trips", {}), decided.get("drives", {}))
    clashes = {(kind, name): error for kind, name, error in [*columns, *name_clashes(named)]}
    yield from (f"{'.'.join(place)}.{error}" for place, error in clashes.items())


#: Keys of a channel's table that its ruler, or other channels, are made of.
_NOT_OF_CHANNEL = ("converter", "input", "laws", "also")


def _from(part: dict[str, Any]) -> list[Any]:
    """The names of what a channel is computed from."""
    given = part.get("from")
    listed = given if isinstance(given, list) else [given]
    return [name if isinstance(name, str) else repr(name) for name in listed]


def _channel(key: str, table: dict[str, Any], common: dict[str, Any]) -> Channel:
    column = table["column"]
    if isinstance(column, int) and column < 1:
        raise ParameterError("column", column, "a number from 1", "columns are numbered so")
    ruler = ruler_of(table, common)
    own = {name: table[name] for name in table if name not in _NOT_OF_CHANNEL}
    if "calibration" in own:
        own["calibration"] = calibration_of(own["calibration"], ruler)
    lists_edge = len(table.get("laws", ())) == len(written(ruler.laws))
    return Channel(key, ruler, lists_edge=lists_edge, **own)
