"""The unit that the name of a column says: `ref_degF`, `level_cm`, `Oven (°C)`."""

from __future__ import annotations

import re

from ..error_types import UnitError
from .unit_registry import factor_and_offset, spelled
from .units import TEMPERATURES, symbol, usual

_BRACKETS = re.compile(r".*[(\[]\s*(.+?)\s*[)\]]\s*\Z")
#: What loggers write for degrees where no other unit can be meant.
_DEGREES = {"C": "degC", "F": "degF"}


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
    said = _BRACKETS.match(name)
    parts = name.split("_")
    texts = [said[1]] if said else ["_".join(parts[i:]) for i in range(1, len(parts))]
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
