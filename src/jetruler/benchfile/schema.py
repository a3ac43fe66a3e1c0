"""The schema of a bench file. TOML tables come in, plain values and laws come out."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, PlainValidator, ValidationInfo

from ..core.errors import ParameterError, ParameterErrors, QuantityError
from ..core.laws.build import build_law
from ..core.laws.raw_input import Input
from ..core.model.from_table import from_table, frozen
from ..core.model.law import Law
from ..core.model.quantity import quantity
from .points import read_points

if TYPE_CHECKING:
    from ..core.decide.smoothing import Smoothing


def _volts(value: Any) -> float:
    """A voltage with its tolerance, which Pydantic's own float would drop."""
    if isinstance(value, str):
        return quantity(value, "V")
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise ValueError('a voltage is right, as in 3.3 or "3.3 V ± 1 %"')
    return value


def _law(table: Any, info: ValidationInfo) -> Law:
    if not isinstance(table, dict):
        raise ValueError('a law is a table, as in { law = "line", gain = 2 }')
    if table.get("law") == "table" and isinstance(table.get("points"), str):
        try:
            table = table | {"points": read_points(info.context or Path(), table["points"])}
        except ParameterError as error:
            raise ParameterErrors([error]) from None
    return build_law(table)


Number = Annotated[float, Field(strict=True, allow_inf_nan=False)]


class _Table(BaseModel):
    model_config = ConfigDict(extra="forbid", strict=True, arbitrary_types_allowed=True)


class ConverterTable(_Table):
    """`[converter]`, or a channel's own. What a channel leaves out, the common one fills in."""

    bits: int | None = None
    vref: Annotated[Any, PlainValidator(_volts)] = None
    count_at_vref: Number | None = None
    signed: bool | None = None
    error_lsb: Annotated[Number, Field(ge=0)] | None = None
    codes: int | None = None

    def given(self) -> dict[str, Any]:
        """What is set, by name."""
        return {name: getattr(self, name) for name in self.model_fields_set}


def _smooth(table: Any) -> Smoothing:
    """A `smooth` table; its own errors are reported like those of a law."""
    from ..core.decide.smoothing import Smoothing

    if not isinstance(table, dict):
        raise ValueError('a table is right, as in { kind = "median", over = 5 }')
    return from_table(Smoothing, table, "smooth")


def _watts(value: Any) -> float:
    """Power for each kelvin that a sensor warms itself."""
    watts = quantity(value, "W") if isinstance(value, str) else value
    if isinstance(watts, bool) or not isinstance(watts, int | float) or not watts > 0:
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


class ChannelTable(_Table):
    """`[channel.<name>]`."""

    column: str | int
    about: str = ""
    converter: ConverterTable | None = None
    input: Annotated[Any, PlainValidator(_input)] = None
    laws: list[Annotated[Law, PlainValidator(_law)]] = []
    limits: tuple[Number, Number] | None = Field(default=None, strict=False)
    decimals: Annotated[int, Field(ge=0, le=12)] | None = None
    smooth: Annotated[Any, PlainValidator(_smooth)] = None
    noise: Annotated[Number, Field(ge=0)] | None = None
    calibration: Annotated[Any, PlainValidator(_calibration)] = None
    dissipation: Annotated[Any, PlainValidator(_watts)] = None
    rails: Literal["ends", "faults"] | None = None


class BenchFile(_Table):
    """The whole file; its converters and channels are checked one by one, each with its own
    schema, so that an error in one does not hide those in the others."""

    title: str = ""
    about: str = ""
    converter: dict[str, Any] = {}
    channel: dict[str, dict[str, Any]]
    stream: dict[str, Any] = {}
    trip: dict[str, dict[str, Any]] = {}
    drive: dict[str, dict[str, Any]] = {}
