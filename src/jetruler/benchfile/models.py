"""What may be in a bench file: a Pydantic model for each of its tables, made from the
annotations of the class that the table describes.

A model reads a table of TOML and gives the object, or every error in it, each with its place and
a sentence. `read` is the one way in.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import MISSING, fields
from functools import cache, partial
from pathlib import Path
from typing import Annotated, Any, NotRequired, Required, Union, get_args
from typing import get_type_hints as hints_of

from pydantic import (
    AfterValidator,
    BeforeValidator,
    ConfigDict,
    Field,
    PlainValidator,
    Strict,
    TypeAdapter,
    ValidationError,
    ValidationInfo,
    ValidatorFunctionWrapHandler,
    WrapValidator,
)
from pydantic_core import InitErrorDetails, PydanticCustomError
from typing_extensions import TypedDict

from ..core.error_types import LogError, ParameterError, ParameterErrors, expected_found
from ..core.laws import law_named, law_names
from ..core.ruler.base_law import (
    as_temperature,
    hint_unit,
    holds_numbers,
    is_finite,
    is_numeric,
    parameters,
)
from ..core.ruler.quantity import needs_unit, read_hinted, read_number, read_numbers, seconds
from ..core.ruler.ruler import Law
from ..core.ruler.units import Unit, nearest


def read_points(folder: Path, name: str) -> list[list[float]]:
    """The first two columns of a CSV file, which is read as a log is, as [x, y] pairs.

    The name is relative to the bench file. Raises `ParameterError`.
    """
    from .number_files import NumberFile, NumberFileError  # few benches have one

    path, pairs = folder / name, "two numbers a line"
    try:
        file = NumberFile(path, str(path))
        columns = [file.column(index, "points").tolist() for index in (0, 1)]
    except (NumberFileError, IndexError) as error:
        # What is there is not shown: it may be no file of points at all.
        where = error.where if isinstance(error, NumberFileError) else str(path)
        raise ParameterError("points", name, pairs, f"{where} has others") from None
    except LogError:
        raise ParameterError("points", name, pairs, f"{path} has others") from None
    except (OSError, ValueError) as error:  # a name with a zero in it is a ValueError
        reason = getattr(error, "strerror", None) or str(error)
        raise ParameterError("points", name, "a CSV file", f"{path}: {reason}") from None
    return [list(point) for point in zip(*columns, strict=True)]


#: A type as Pydantic takes it, and what makes an object of a table's values.
Type = Any
Make = Callable[[dict[str, Any], Any], Any]

#: An error: its place below the table that was read, and a sentence.
Placed = tuple[tuple[int | str, ...], str]


class TableErrors(ValueError):  # noqa: N818 - it is a collection, told by its plural
    """All that is wrong in a table."""

    def __init__(self, errors: list[Placed]) -> None:
        if not errors:  # what is refused would be taken for sound
            raise AssertionError("not accepted (no reason given)")
        self.errors = errors
        super().__init__("; ".join(f"{'.'.join(map(str, at))}: {text}" for at, text in errors))

    def below(self, key: str) -> TableErrors:
        """The same errors in a table that is under a key."""
        return TableErrors([((key, *at), text) for at, text in self.errors])


def placed(error: ParameterError | ParameterErrors) -> TableErrors:
    """Errors of parameters, each with its name as its place."""
    parts = error.errors if isinstance(error, ParameterErrors) else [error]
    return TableErrors([(tuple(each.name.split(".")), each.sentence) for each in parts])


def read(model: Type, table: Any, **context: Any) -> Any:
    """The object that a table describes.

    Parameters
    ----------
    model : one of the models of this file.
    table : as TOML gives it.
    **context : what its readers need to know: `folder` of the files that it names, `channels`,
        `trips`.

    Raises
    ------
    TableErrors
        With every error in the table.
    """
    try:
        return _adapter(model).validate_python(table, context=context)
    except ValidationError as error:
        raise TableErrors([(each["loc"], each["msg"]) for each in error.errors()]) from None


@cache
def _adapter(model: Type) -> TypeAdapter[Any]:
    return TypeAdapter(model)  # which compiles the model: milliseconds


# Errors in our words.

#: What is expected, by the type of Pydantic's error.
EXPECTED = {
    "string_type": "a text",
    "int_type": "a whole number",
    "int_from_float": "a whole number",
    "float_type": "a number",
    "bool_type": "true or false",
    "dict_type": "a table",
    "list_type": "a list",
    "literal_error": "{expected}",
    "greater_than_equal": "greater than or equal to {ge:g}",
    "less_than_equal": "less than or equal to {le:g}",
}


def model(
    noun: str,
    types: Mapping[str, Type],
    required: Collection[str] = (),
    make: Make | None = None,
    prepare: Make | None = None,
    others: bool = False,
) -> Type:
    """A model of a table.

    Parameters
    ----------
    noun : what messages call the table.
    types : of its keys.
    required : the keys that it needs.
    make : makes an object of the values that are there; raises `ParameterError(s)`.
    prepare : makes another table of it before it is read; may raise the same.
    others : whether it may have other keys.
    """
    needs: dict[str, Any] = {key: Required if key in required else NotRequired for key in types}
    table: Any = TypedDict(noun, {key: needs[key][types[key]] for key in types})  # type: ignore[misc]
    table.__pydantic_config__ = ConfigDict(extra="allow" if others else "forbid")  # type: ignore[attr-defined]
    return Annotated[table, WrapValidator(partial(_in_words, noun, list(types), make, prepare))]


def _in_words(
    noun: str,
    names: list[str],
    make: Make | None,
    prepare: Make | None,
    table: Any,
    handler: ValidatorFunctionWrapHandler,
    info: ValidationInfo,
) -> Any:
    """Read a table; its errors become sentences here, where its own name and keys are known."""
    try:
        if prepare is not None and isinstance(table, dict):
            table = prepare(table, info.context)
        values = handler(table)
        return values if make is None else make(values, info.context)
    except ValidationError as error:
        found = [_detail(each["loc"], _sentence(each, noun, names)) for each in error.errors()]
    except ParameterErrors as errors:
        found = [_detail((each.name,), each.sentence) for each in errors.errors]
    except ParameterError as invalid:
        found = [_detail((invalid.name,), invalid.sentence)]
    raise ValidationError.from_exception_data(noun, found)


def _detail(place: tuple[int | str, ...], text: str) -> InitErrorDetails:
    return InitErrorDetails(
        type=PydanticCustomError("worded", "{text}", {"text": text}), loc=place, input=None
    )


def _sentence(error: Any, noun: str, names: list[str]) -> str:
    kind, found, context = error["type"], error["input"], error.get("ctx", {})
    if kind == "worded":
        return str(error["msg"])
    if kind == "missing":
        return f"missing; {noun} needs it"
    if kind == "extra_forbidden":
        return f"unknown for {noun}; {nearest(str(error['loc'][-1]), names)}"
    if kind in EXPECTED:
        expected = EXPECTED[kind].format(**context)
    else:
        invalid = context.get("error")
        if isinstance(invalid, ParameterError):
            return invalid.sentence
        expected = str(invalid or error["msg"])
    return expected_found(expected, found)


def expecting(kind: Type, right: str) -> Type:
    """A type whose errors are one sentence."""

    def checked(value: Any, handler: ValidatorFunctionWrapHandler) -> Any:
        try:
            return handler(value)
        except ValidationError:
            raise ValueError(right) from None

    return Annotated[kind, WrapValidator(checked)]


# The types of single values. Nothing is converted: what was written can be shown as it was.


#: Numbers beyond this would overflow in the first computation.
MOST = 1e300


def _finite(value: Any) -> Any:
    if isinstance(value, int | float) and not (is_finite(value) and abs(value) < MOST):
        raise ValueError("a finite number")
    return value


def _time(value: Any) -> Any:
    if not seconds(value) == seconds(value):
        raise ValueError('a time, as in 2 or "200 ms"')
    return value


def frozen(value: Any) -> Any:
    """Lists as tuples, at every depth."""
    return tuple(map(frozen, value)) if isinstance(value, list) else value


def many(kind: Type, least: int = 0, most: int | None = None) -> Type:
    """A list of values of a type, as a tuple."""
    listed: Any = list[kind]
    return Annotated[listed, Field(min_length=least, max_length=most), AfterValidator(tuple)]


Text: Type = Annotated[str, Strict()]
Truth: Type = Annotated[bool, Strict()]
Whole: Type = Annotated[int, Strict()]
_Either: Type = Annotated[int, Strict()] | Annotated[float, Strict()]
Number: Type = Annotated[expecting(_Either, "a number"), BeforeValidator(_finite)]
Time: Type = Annotated[Any, PlainValidator(_time)]
_Pair = many(Number, 2, 2)
Ends = expecting(_Pair, "two numbers, the low one first")
Names = expecting(many(Text), "a list of names")
Pairs = expecting(many(_Pair), "pairs [value, command], as in [[0, 1000], [100, 2000]]")


def _amount(value: Any) -> Any:
    """A number, or a text that is read where its unit is known."""
    if isinstance(value, bool) or not isinstance(value, str | int | float):
        raise ValueError("a number, or a quantity with its unit")
    return _finite(value)


Amount: Type = Annotated[Any, PlainValidator(_amount)]
Amounts = expecting(many(Amount, 2, 2), "two numbers, the low one first")
AmountPairs = expecting(
    many(many(Amount, 2, 2)), "pairs [value, command], as in [[0, 1000], [100, 2000]]"
)
#: Rows of what must come out; what is in them is read where their unit is known.
ROWS = expecting(many(many(Number | Text, 2, 3)), "rows [raw, value] or [raw, value, tolerance]")
Anything: Type = Annotated[Any, PlainValidator(frozen)]

#: The types of the fields of dataclasses, by their annotation.
TYPES: dict[Any, Type] = {
    str: Text,
    bool: Truth,
    int: Whole,
    float: Number,
    float | str: Time,
    tuple[str, ...]: Names,
    tuple[float, float]: Ends,
    tuple[tuple[float, float], ...]: Pairs,
    str | tuple[float, float]: expecting(Text | Ends, "two numbers, the low one first"),
}


def type_of(hint: Any) -> Type:
    """The type that an annotation represents; whatever has none here is checked by its class."""
    unit = hint_unit(hint)
    if unit is not None:
        return quantity_in(unit)
    if type(None) in get_args(hint):
        hint = Union[tuple(each for each in get_args(hint) if each is not type(None))]  # noqa: UP007
    return TYPES.get(hint, Anything)


def quantity_in(unit: Unit) -> Type:
    """A number, or a text with a unit and perhaps a tolerance."""

    def checked(value: Any) -> Any:
        if isinstance(value, str):
            return read_number("", value, unit)
        if isinstance(value, bool) or not isinstance(value, int | float):
            raise ValueError(f"a quantity in {unit.symbol}")
        return value

    return Annotated[Any, PlainValidator(checked)]


# Objects of dataclasses.


@cache
def model_of(
    kind: type[Any], noun: str, without: tuple[str, ...] = (), context: tuple[Any, ...] = ()
) -> Type:
    """The model of a dataclass whose method `errors` yields what is wrong with its fields.

    without: fields that are not in the table. context: classes that its annotations name.
    """
    own = own_fields(kind, without, context)
    return model(noun, own, needed(kind, own), lambda values, _: built(kind, values))


def own_fields(
    kind: type[Any], without: Collection[str] = (), context: Collection[Any] = ()
) -> dict[str, Type]:
    """The types of the fields of a dataclass."""
    hints = hints_of(kind, localns={one.__name__: one for one in context}, include_extras=True)
    names = [field.name for field in fields(kind) if field.init and field.name not in without]
    return {name: type_of(hints[name]) for name in names}


def needed(kind: type[Any], names: Collection[str]) -> list[str]:
    """The fields without a default."""
    missing = MISSING
    return [
        field.name
        for field in fields(kind)
        if field.name in names and field.default is missing and field.default_factory is missing
    ]


def built(kind: type[Any], values: Mapping[str, Any], open_ended: str = "") -> Any:
    """An object of a dataclass. Raises `ParameterErrors` with all that is wrong: construction
    stops at the first error, so an unfinished object is asked for all of them."""
    try:
        if "self" in values:  # a name of Python's, which no field has
            raise ParameterError(
                "self", values["self"], "another name", "the name has a meaning already"
            )
        return kind(**values)
    except ParameterError as error:
        draft: Any = object.__new__(kind)
        for field in fields(kind):
            object.__setattr__(draft, field.name, values.get(field.name, field.default))
        if open_ended:
            extra = values.keys() - {field.name for field in fields(kind)} | {open_ended}
            extra &= values.keys()
            object.__setattr__(draft, open_ended, tuple((k, values[k]) for k in sorted(extra)))
        raise ParameterErrors(list(draft.errors()) or [error]) from None


# Laws: a model each, when it is first met.


@cache
def law_model(law: type[Law]) -> Type:
    """The model of a law's table, without its name."""
    hints = parameters(law)
    names = [field.name for field in fields(law) if field.name != law.open_ended]  # type: ignore[arg-type]
    types = {name: _parameter(name, hints.get(name, float)) for name in names}

    def make(values: dict[str, Any], _: Any) -> Law:
        read = {
            key: value if key in types else _read_parameter(key, float, value)
            for key, value in values.items()
        }
        made: Law = built(law, read, law.open_ended)
        return made

    def prepare(table: dict[str, Any], _: Any) -> dict[str, Any]:
        return read_hinted(law.unit_hints, table)

    required = needed(law, names)
    return model(law.name, types, required, make, prepare, others=bool(law.open_ended))


def _parameter(key: str, hint: Any) -> Type:
    return Annotated[Any, PlainValidator(partial(_read_parameter, key, hint))]


def _read_parameter(key: str, hint: Any, value: Any) -> Any:
    """One parameter: quantities read, lists turned into tuples, the rest unchanged."""
    unit = hint_unit(hint)
    if isinstance(value, str) and is_numeric(hint):
        return read_number(key, value, unit)
    if isinstance(value, list) and holds_numbers(hint):
        return read_numbers(key, value, unit)
    if needs_unit(unit) and isinstance(value, int | float):
        raise ParameterError(
            key, value, f"a temperature with its unit, as in {as_temperature(value)}"
        )
    return frozen(value)


def _law(table: Any, info: ValidationInfo) -> Any:
    """A law's own model, by the name in the table."""
    if not isinstance(table, dict):
        raise ValueError('a table, as in { law = "line", gain = 2 }')
    name = table.get("law")
    try:
        law = law_named(str(name))
        if name == "table" and isinstance(table.get("points"), str):
            folder = (info.context or {})["folder"]
            table = table | {"points": read_points(folder, table["points"])}
    except ParameterError as error:
        raise ValidationError.from_exception_data(
            "law", [_detail((error.name,), error.sentence)]
        ) from None
    except KeyError:
        known = nearest(str(name), law_names()) if name else ", ".join(law_names())
        invalid = ParameterError("law", name, "the name of a law", known)
        raise ValidationError.from_exception_data("law", [_detail(("law",), invalid.sentence)])  # noqa: B904
    rest = {key: value for key, value in table.items() if key != "law"}
    return _adapter(law_model(law)).validate_python(rest, context=info.context)


#: A law, by its table.
LawTable = Annotated[Any, PlainValidator(_law)]


def build_law(table: Mapping[str, Any]) -> Law:
    """The law that a table describes: its name under `law`, its parameters beside it.

    Texts are read as quantities in the unit that each parameter represents; a plain number
    represents the SI unit, but a temperature says its unit.
    Raises `TableErrors` with every error in the table.
    """
    law: Law = read(LawTable, dict(table))
    return law
