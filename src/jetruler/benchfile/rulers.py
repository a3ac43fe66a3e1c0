"""A channel's ruler from its tables: the raw edge that the first law asks for, then the laws."""

from __future__ import annotations

import contextlib
from dataclasses import replace
from typing import Any

from ..core.error_types import ParameterError, QuantityError, UnitError
from ..core.laws.raw_input import Input
from ..core.model.converter import RawInput
from ..core.model.fit_covariance import FitCovariance
from ..core.model.law import FRACTION, Law, parameters
from ..core.model.quantity import Toleranced, quantity
from ..core.model.ruler import Ruler
from ..core.model.unit_registry import factor, factor_and_offset
from ..core.model.units import TEMPERATURES, symbol
from .models import TableErrors, build_law, placed, read
from .tables import COVARIANCE


def ruler_of(table: dict[str, Any], common: dict[str, Any]) -> Ruler:
    """The converter that the first law asks for, then the laws.

    A first law that takes volts, or no law at all, stands behind the converter's volts; a
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
        settings = {
            k: v for k, v in settings.items() if k in ("bits", "signed", "error_lsb", "codes")
        }
    elif wanted != FRACTION and "vref" not in settings:
        raise ParameterError("converter.vref", None, "volts need the reference voltage")
    try:
        converter = build_law({"law": "counts" if counts else "adc", **settings})
    except TableErrors as error:
        raise error.below("converter") from None
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


def taking(law: Law, unit: str) -> Law:
    """Return a law that takes another unit of the same kind: marks in metres, taken in centimetres.
    Raises `UnitError` for a unit of another kind."""
    size, offset = factor_and_offset(str(law.takes), unit)

    def restated(value: Any) -> Any:
        if isinstance(value, int | float) and not isinstance(value, bool):
            return float(f"{value * size + offset:.12g}")
        return tuple(map(restated, value)) if isinstance(value, tuple) else value

    field = "takes" if "takes" in parameters(type(law)) else "unit"
    if getattr(law, field, None) != law.takes:
        raise UnitError(f"{law.name} takes {law.takes} only")
    changed: dict[str, Any] = {field: unit}
    for key, sides in law.unit_hints.items():
        value = getattr(law, key)
        if sides == field:
            changed[key] = restated(value)
        elif value is not None and isinstance(sides, tuple) and "takes" in sides:
            raw = sides.index("takes")
            changed[key] = tuple(
                tuple(restated(v) if i == raw else v for i, v in enumerate(pair)) for pair in value
            )
    return replace(law, **changed)  # type: ignore[type-var]


def calibration_of(given: str | dict[str, Any], ruler: Ruler) -> float | FitCovariance:
    """What a calibration left: a text, or the table that a fit wrote."""
    if not isinstance(given, dict):
        return _about_zero(given, ruler.gives)
    left = given.get("left")
    if isinstance(left, str):
        given = given | {"left": _about_zero(left, ruler.gives).standard}
    try:
        found: FitCovariance = read(COVARIANCE, given)
        found.place(ruler.laws)
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
        raise ParameterError("calibration", text, str(error)) from None
    if not isinstance(value, Toleranced):
        raise ParameterError("calibration", text, 'a text with ± is right: "± 0.2 degC (k=2)"')
    if "%" in text and unit != "%":
        right = f"it is about 0, and a part of 0 is 0; say it in {symbol(unit) or 'units'}"
        raise ParameterError("calibration", text, right)
    return value
