"""The tables of a bench file, each as a model; a channel's ruler made of them; and
what tables share (laws by name, channels like others, a common converter), put into each."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field, PlainValidator, ValidationInfo

from ..core.bench.bench import LogFormat
from ..core.bench.channel import Channel
from ..core.bench.conditions import WITH_UNITS, Condition
from ..core.bench.covariance import Correlation, FitCovariance
from ..core.bench.drives import RANGES, Drive, pattern_drives
from ..core.bench.modes import DriveMode, WireLines
from ..core.bench.smoothing import Smoothing
from ..core.bench.trips import Trip
from ..core.error_types import ParameterError, QuantityError, expected_found
from ..core.laws import law_named, law_names
from ..core.laws.raw_edge import Adc, Input
from ..core.laws.shape import zones_of
from ..core.ruler.base_law import FRACTION, is_finite, parameters
from ..core.ruler.converter import RawInput
from ..core.ruler.quantity import Toleranced, quantity, read_hinted
from ..core.ruler.ruler import Law, Ruler
from ..core.ruler.units import TEMPERATURES, factor, nearest, symbol
from .models import (
    ROWS,
    Amount,
    AmountPairs,
    Amounts,
    Anything,
    Ends,
    LawTable,
    Names,
    Number,
    Pairs,
    TableErrors,
    Text,
    Type,
    Whole,
    build_law,
    built,
    expecting,
    many,
    model,
    model_of,
    needed,
    own_fields,
    placed,
    read,
)


def _known(noun: str, *kinds: str) -> Type:
    """A name of something that the bench has. kinds: as the context calls them."""

    def checked(name: Any, info: ValidationInfo) -> Any:
        known = [each for kind in kinds for each in (info.context or {})[kind]]
        if not isinstance(name, str) or name not in known:
            why = nearest(str(name), known) if known else "there is none"
            raise ParameterError("", name, f"a {noun} of the bench", why)
        return name

    return Annotated[Any, PlainValidator(checked)]


def _watts(value: Any) -> float:
    """Power for each kelvin that a sensor warms itself."""
    power = quantity(value, "W") if isinstance(value, str) else value
    number = isinstance(power, int | float) and not isinstance(power, bool) and is_finite(power)
    if not number or not power > 0:
        raise ValueError('a power above 0 for each kelvin, as in "1.5 mW"')
    return float(power)


def _left(value: Any) -> Any:
    """What a calibration left; the channel's unit, which is not known here, reads it."""
    if not isinstance(value, str | dict):
        raise ValueError('a text with ±, as in "± 0.2 degC (k=2)", or what fit wrote')
    return value


# The raw edge.


def _input(values: dict[str, Any], _: Any) -> Input:
    made: Input = built(Input, read_hinted(Input.unit_hints, values))
    return made


_INPUT = dict.fromkeys(own_fields(Input), Anything)
INPUT = model("an input", _INPUT, needed(Input, _INPUT), _input)

#: What a converter table says; what a channel's own leaves out, the common one fills in.
CONVERTER = model(
    "a converter",
    own_fields(Adc, without=("ratiometric",))
    | dict.fromkeys(("error_lsb", "offset_error", "inl"), Annotated[Number, Field(ge=0)]),
)

# Channels.

_OF_RULER = ("name", "chain", "lists_edge", "other_of")
CHANNEL = model(
    "a channel",
    own_fields(Channel, without=_OF_RULER, context=(Smoothing, Correlation))
    | {
        "limits": Amounts,
        "column": expecting(Text | Whole, "a name or a number from 1"),
        "decimals": Annotated[Whole, Field(ge=0, le=12)],
        "smooth": model_of(Smoothing, "smooth"),
        "rails": Literal["ends", "faults"],
        "noise": Amount,
        "calibration": Annotated[Any, PlainValidator(_left)],
        "correlated": many(model_of(Correlation, "correlated")),
        "dissipation": Annotated[Any, PlainValidator(_watts)],
        "expected": ROWS,
        "also": expecting(many(Text), "a list of units"),
        "converter": CONVERTER,
        "input": INPUT,
        "laws": many(LawTable),
    },
    required=needed(Channel, ("column",)),
)
#: What only a channel with a column of its own has.
_OF_INPUT = ("column", "rails", "noise", "dissipation", "calibration", "correlated", "expected")
#: A channel that is computed from others: its first law may be a formula of their names.
DERIVED = model(
    "a channel from others",
    own_fields(Channel, without=(*_OF_RULER, *_OF_INPUT), context=(Smoothing, Correlation))
    | {
        "from": expecting(Text | Names, "names of channels"),
        "formula": Anything,
        "limits": Amounts,
        "decimals": Annotated[Whole, Field(ge=0, le=12)],
        "smooth": model_of(Smoothing, "smooth"),
        "laws": many(LawTable),
    },
    required=["from"],
)
COVARIANCE = model_of(FitCovariance, "calibration")

# Logs, trips and drives.

LOG = model_of(LogFormat, "a log")
WIRE = model(
    "a wire",
    {"setup": expecting(many(Text), "a list of lines"), "lines": dict[str, Text]},
    make=lambda values, _: built(WireLines, values),
)
CONDITION = model(
    "a condition",
    own_fields(Condition)
    | {"channel": _known("channel", "channels")}
    | dict.fromkeys(WITH_UNITS, Amount),
    ["channel"],
    lambda values, context: _condition(values, context["made"].get(values["channel"])),
)


def _condition(values: dict[str, Any], channel: Channel | None) -> Condition:
    made: Condition = built(Condition, values)
    return made if channel is None else made.in_unit(channel.unit)


def _trip(values: dict[str, Any], context: Any) -> Trip:
    joins = [key for key in ("any", "all") if key in values]
    if len(joins) != 1:
        found = " and ".join(joins) or None
        expected = "a list of conditions under any, or under all"
        raise ParameterError("any", found, expected)
    (join,) = joins
    conditions = tuple(values.pop(join))
    given = {"name": context["name"], "conditions": conditions, "join": join}
    made: Trip = built(Trip, values | given)
    return made


TRIP = model(
    "a trip",
    dict.fromkeys(("any", "all"), many(CONDITION))
    | own_fields(Trip, without=("name", "conditions", "join")),
    make=_trip,
)


def _marks_of_a_trip(table: dict[str, Any], context: Any) -> dict[str, Any]:
    """What follows a trip goes from one end of its range to the other, unless it says its marks."""
    follows = table.get("from")
    if not isinstance(follows, str) or follows not in context["trips"] or "marks" in table:
        return table
    kind = table.get("range", "duty8")
    ends = RANGES[kind][:2] if isinstance(kind, str) and kind in RANGES else kind
    if not isinstance(ends, list | tuple) or len(ends) != 2:
        return table
    return table | {"marks": [[0, ends[0]], [1, ends[1]]]}


def _marks_of_zones(table: dict[str, Any], context: Any) -> dict[str, Any]:
    """Zones in the marks of a drive by their names (`[["off", 0], ["low", 80]]`) as numbers."""
    table = _marks_of_a_trip(table, context)
    follows, marks = table.get("from"), table.get("marks")
    channel = context["made"].get(follows) if isinstance(follows, str) else None
    if channel is None or not isinstance(marks, list) or channel.ruler.label(0.0) is None:
        return table
    found = zones_of(channel.chain.laws)
    labels = (
        [] if found is None else [found[1].label(float(i)) for i in range(len(found[1].values))]
    )

    def numbered(mark: Any) -> Any:
        if not isinstance(mark, list) or not mark or not isinstance(mark[0], str):
            return mark
        if mark[0] not in labels:
            known = nearest(mark[0], [label for label in labels if label])
            raise ParameterError("marks", mark[0], f"a zone of {channel.name}", known)
        return [labels.index(mark[0]), *mark[1:]]

    return table | {"marks": [numbered(mark) for mark in marks]}


def _drive(values: dict[str, Any], context: Any) -> Drive:
    source = values.pop("from")
    made: Drive = built(Drive, values | {"name": context["name"], "source": source})
    channel = context["made"].get(source)
    return (
        made
        if channel is None and source in context["channels"]
        else made.in_unit(None if channel is None else channel.unit)
    )


_DRIVE = {"from": _known("channel or trip", "channels", "trips")}


_DRIVE |= own_fields(Drive, without=("name", "source", "modes"))


_DRIVE |= dict.fromkeys(("safe", "off", "dead_band", "slew"), Amount)
_DRIVE |= {"marks": AmountPairs, "clamp": Amounts}
_DRIVE["expected"] = ROWS
_DRIVE["range"] = expecting(Text | Amounts, "two numbers, the low one first")
_DRIVE["safe_when"] = many(_known("trip", "trips"))
_MODE = own_fields(DriveMode) | {"when": _known("trip", "trips"), "marks": Pairs, "clamp": Ends}
MODE = model("a mode", _MODE, ["name"], lambda values, _: built(DriveMode, values))
_DRIVE["modes"] = many(MODE)
DRIVE = model("a drive", _DRIVE, ["from", *needed(Drive, _DRIVE)], _drive, prepare=_marks_of_zones)


def _patterns(values: dict[str, Any], context: Any) -> dict[str, Drive]:
    """A drive for each place of a zone's pattern."""
    channel = context["made"].get(values["from"])
    if channel is None:  # its own errors are told
        return {}
    return pattern_drives(context["name"], channel, values["outputs"], values.get("safe"))


PATTERNS = model(
    "a drive with outputs",
    {
        "from": _known("channel", "channels"),
        "outputs": Names,
        "safe": expecting(many(Number), "a list of commands, one for each output"),
    },
    ["from", "outputs"],
    _patterns,
)

# The file as a whole.

TABLE = dict[str, Any]
FILE = model(
    "a bench file",
    {"title": Text, "about": Text}
    | dict.fromkeys(("converter", "log", "stream", "wire"), TABLE)
    | dict.fromkeys(("channel", "trip", "drive", "law"), dict[str, TABLE]),
    ["channel"],
)


def ruler_of(table: dict[str, Any], common: dict[str, Any]) -> Ruler:
    """The converter that the first law asks for, then the laws.

    A first law that takes volts, or no law at all, is behind the converter's volts; a
    ratiometric one behind the fraction of its reference; one that takes counts, or any unit, is
    given the counts as they are.
    """
    laws = list(table.get("laws", ()))
    if "input" in table:
        return _behind_input(table["input"], laws, "converter" in table)
    if laws and isinstance(laws[0], RawInput):
        return Ruler(tuple(laws))
    wanted = "V" if not laws else laws[0].takes
    counts = wanted in (None, "count")
    settings, own = dict(common), table.get("converter", {})
    if "bits" in own:  # another size has other codes
        settings.pop("codes", None)
    settings |= own
    if counts:
        settings = {k: v for k, v in settings.items() if k not in ("vref", "count_at_vref")}
    elif wanted != FRACTION and "vref" not in settings:
        raise ParameterError("converter.vref", None, "a reference voltage (vref)", "volts need it")
    try:
        converter = build_law({"law": "counts" if counts else "adc", **settings})
    except TableErrors as error:
        raise error.below("converter") from None
    return Ruler((converter, *laws))


def _behind_input(raw: Input, laws: list[Law], has_converter: bool) -> Ruler:
    """The input, then the laws."""
    if has_converter:
        raise ParameterError("input", raw.unit, "either an input or a converter")
    if laws and isinstance(laws[0], RawInput):
        raise ParameterError("input", raw.unit, f"either this or the law {laws[0].name}")
    return Ruler((raw, *laws))


def calibration_of(given: str | dict[str, Any], ruler: Ruler) -> float | FitCovariance:
    """What a calibration left: a text, or the table that a fit wrote."""
    if not isinstance(given, dict):
        return _about_zero(given, ruler.gives)
    left = given.get("left")
    if isinstance(left, str):
        given = given | {"left": _about_zero(left, ruler.gives).standard}
    try:
        # As written before 0.3; read for one version more.
        given = {"dof" if key == "degrees" else key: value for key, value in given.items()}
        found: FitCovariance = read(COVARIANCE, given)
        found.index(ruler.laws)
    except TableErrors as error:
        raise error.below("calibration") from None
    except ParameterError as error:
        raise placed(error).below("calibration") from None
    return found


def _about_zero(text: str, unit: str | None) -> Toleranced:
    """`"± 0.2 degC (k=2)"`: a tolerance about 0, in the channel's unit."""
    zero = f"0 {unit}" if unit in TEMPERATURES else "0"
    try:
        value = quantity(f"{zero} {text.strip()}", unit if factor(unit or "") else None)
    except QuantityError as error:
        raise ParameterError("calibration", text, error.expected, error.why) from None
    if not isinstance(value, Toleranced):
        raise ParameterError("calibration", text, 'a text with ±: "± 0.2 degC (k=2)"')
    if "%" in text and unit != "%":
        expected = f"a tolerance in {symbol(unit) or 'the unit'}"
        raise ParameterError("calibration", text, expected, "a part of 0 is 0")
    return value


def with_named_laws(table: dict[str, Any], errors: list[str]) -> dict[str, Any]:
    """The same tables, where `{ law = "probe" }` in a list is what `[law.probe]` says, but for
    what it says itself."""
    named = dict(tables_in(table.get("law")))
    for name in [name for name in named if name in law_names()]:
        expected = "another name than that of a law"
        errors.append(f"law.{name}.name: {expected_found(expected, name)}")
        del named[name]

    def whole(part: Any) -> Any:
        base = named.get(str(part.get("law"))) if isinstance(part, dict) else None
        return part if base is None else base | {k: v for k, v in part.items() if k != "law"}

    channels = dict(table.get("channel", {})) if isinstance(table.get("channel"), dict) else {}
    for key, part in tables_in(channels):
        if isinstance(part.get("laws"), list):
            channels[key] = part | {"laws": [whole(law) for law in part["laws"]]}
    return table | {"channel": channels} if channels else table


#: Where a channel's raw values come from: it says one of them, and leaves the other's place.
_RAW = ("input", "converter")


def with_likes(table: dict[str, Any], errors: list[str]) -> dict[str, Any]:
    """The same tables, where a channel with `like` has all that the other one says, but for what
    it says itself."""
    channels = dict(table.get("channel", {})) if isinstance(table.get("channel"), dict) else {}
    named = dict(tables_in(channels))

    def whole(key: str, before: tuple[str, ...]) -> dict[str, Any]:
        part = dict(named[key])
        if "like" not in part:
            return part
        other = part.pop("like")
        if not isinstance(other, str) or other not in named or other in before:
            why = nearest(str(other), [name for name in named if name not in before])
            found = expected_found("another channel of the bench", other)
            errors.append(f"channel.{before[0]}.like: {found}; {why}")
            return part
        base = whole(other, (*before, other))
        if any(raw in part for raw in _RAW):
            base = {k: v for k, v in base.items() if k not in _RAW}
        return base | part

    whole_ones = {key: whole(key, (key,)) for key in named}
    return table | {"channel": channels | whole_ones} if whole_ones else table


def inherited(table: dict[str, Any]) -> dict[str, Any]:
    """The same tables, where a converter that is in a list of laws has what `[converter]` and
    the channel's own say, as far as it does not say it itself."""
    channels = dict(table.get("channel", {})) if isinstance(table.get("channel"), dict) else {}
    for key, part in tables_in(channels):
        laws = part.get("laws")
        if not isinstance(laws, list) or not laws or not isinstance(laws[0], dict):
            continue
        first = laws[0]
        if first.get("law") not in ("adc", "counts"):
            continue
        known = parameters(law_named(first["law"]))
        own = part.get("converter")
        declared = table.get("converter", {}) | (own if isinstance(own, dict) else {})
        given = {k: v for k, v in declared.items() if k in known}
        channels[key] = part | {"laws": [given | first, *laws[1:]]}
    return table | {"channel": channels} if channels else table


def tables_in(named: Any) -> list[tuple[str, dict[str, Any]]]:
    """Those that are tables at all; the others are told by the file's model."""
    found = named.items() if isinstance(named, dict) else ()
    return [(key, part) for key, part in found if isinstance(part, dict)]
