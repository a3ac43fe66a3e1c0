"""The tables of a bench file, each as a model."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field, PlainValidator, ValidationInfo

from ..core.decide.conditions import Condition
from ..core.decide.drives import RANGES, Drive
from ..core.decide.pattern_drives import pattern_drives
from ..core.decide.smoothing import Smoothing
from ..core.decide.trips import Trip
from ..core.error_types import ParameterError, QuantityError
from ..core.laws.adc import Adc
from ..core.laws.raw_input import Input
from ..core.model.channel import Channel
from ..core.model.fit_covariance import FitCovariance
from ..core.model.law import is_finite
from ..core.model.log_format import LogFormat
from ..core.model.quantity import quantity
from ..core.model.text import nearest
from .models import (
    Anything,
    LawTable,
    Names,
    Number,
    Text,
    Type,
    Whole,
    built,
    many,
    model,
    model_of,
    needed,
    own_fields,
    said,
)


def _known(noun: str, *kinds: str) -> Type:
    """A name of something that the bench has. kinds: as the context calls them."""

    def checked(name: Any, info: ValidationInfo) -> Any:
        known = [each for kind in kinds for each in (info.context or {})[kind]]
        if not isinstance(name, str) or name not in known:
            raise ValueError(f"the bench has no {noun} of this name; {nearest(str(name), known)}")
        return name

    return Annotated[Any, PlainValidator(checked)]


def _watts(value: Any) -> float:
    """Power for each kelvin that a sensor warms itself."""
    power = quantity(value, "W") if isinstance(value, str) else value
    number = isinstance(power, int | float) and not isinstance(power, bool) and is_finite(power)
    if not number or not power > 0:
        raise ValueError('a power above 0 for each kelvin is right, as in "1.5 mW"')
    return float(power)


def _left(value: Any) -> Any:
    """What a calibration left; the channel's unit, which is not known here, reads it."""
    if not isinstance(value, str | dict):
        raise ValueError('a text with ± is right, as in "± 0.2 degC (k=2)", or what fit wrote')
    return value


# The raw edge.


def _input(values: dict[str, Any], _: Any) -> Input:
    """An input; its quantities are in its own unit."""
    unit = values.get("unit")
    own = None if unit == "1" else unit

    def in_unit(key: str, value: Any) -> Any:
        if isinstance(value, tuple):
            return tuple(in_unit(key, end) for end in value)
        if key == "unit" or not isinstance(value, str) or not isinstance(unit, str | None):
            return value
        try:
            if key != "error" or not value.strip().startswith(("±", "+")):
                return float(quantity(value, own))
            zero = "0" if own is None else f"0 {own}"
            return getattr(quantity(f"{zero} {value}", own), "half_width", value)
        except QuantityError as error:
            raise ParameterError(key, value, str(error)) from None

    made: Input = built(Input, {key: in_unit(key, value) for key, value in values.items()})
    return made


_INPUT = dict.fromkeys(own_fields(Input), Anything)
INPUT = model("an input", _INPUT, needed(Input, _INPUT), _input)

#: What a converter table says; what a channel's own leaves out, the common one fills in.
CONVERTER = model(
    "a converter",
    own_fields(Adc, without=("ratiometric",)) | {"error_lsb": Annotated[Number, Field(ge=0)]},
)

# Channels.

_OF_RULER = ("name", "chain")
CHANNEL = model(
    "a channel",
    own_fields(Channel, without=_OF_RULER, context=(Smoothing,))
    | {
        "column": said(Text | Whole, "a name or a number from 1 is right"),
        "decimals": Annotated[Whole, Field(ge=0, le=12)],
        "smooth": model_of(Smoothing, "smooth"),
        "rails": Literal["ends", "faults"],
        "noise": Annotated[Number, Field(ge=0)],
        "calibration": Annotated[Any, PlainValidator(_left)],
        "dissipation": Annotated[Any, PlainValidator(_watts)],
        "converter": CONVERTER,
        "input": INPUT,
        "laws": many(LawTable),
    },
    required=needed(Channel, ("column",)),
)
COVARIANCE = model_of(FitCovariance, "calibration")

# Logs, trips and drives.

LOG = model_of(LogFormat, "a log")
CONDITION = model(
    "a condition",
    own_fields(Condition) | {"channel": _known("channel", "channels")},
    ["channel"],
    lambda values, _: built(Condition, values),
)


def _trip(values: dict[str, Any], context: Any) -> Trip:
    joins = [key for key in ("any", "all") if key in values]
    if len(joins) != 1:
        found = " and ".join(joins) or None
        right = "a list of conditions under any, or under all, is right"
        raise ParameterError("any", found, right)
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


def _drive(values: dict[str, Any], context: Any) -> Drive:
    source = values.pop("from")
    made: Drive = built(Drive, values | {"name": context["name"], "source": source})
    return made


_DRIVE = {"from": _known("channel or trip", "channels", "trips")}
_DRIVE |= own_fields(Drive, without=("name", "source"))
_DRIVE["safe_when"] = many(_known("trip", "trips"))
DRIVE = model("a drive", _DRIVE, ["from", *needed(Drive, _DRIVE)], _drive, prepare=_marks_of_a_trip)


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
        "safe": said(many(Number), "a list of commands is right, one for each output"),
    },
    ["from", "outputs"],
    _patterns,
)

# The file as a whole.

TABLE = dict[str, Any]
FILE = model(
    "a bench file",
    {"title": Text, "about": Text}
    | dict.fromkeys(("converter", "log", "stream"), TABLE)
    | dict.fromkeys(("channel", "trip", "drive"), dict[str, TABLE]),
    ["channel"],
)
