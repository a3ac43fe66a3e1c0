"""Marks from a CSV file, and from texts like `1880=225`."""

from __future__ import annotations

import re
from collections.abc import Iterable
from os import PathLike
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any

import numpy as np

from ..core.calibrate.marks import Marks, MarksError
from ..core.error_types import LogError, QuantityError
from ..core.result import refuses
from ..core.ruler.quantity import Toleranced, quantity, unit_of
from ..core.ruler.units import spelled

if TYPE_CHECKING:
    from .number_files import NumberFile

#: The columns of a marks file; the uncertainties may be missing.
COLUMNS = ("raw", "true", "u_true", "u_raw", "u_common")
#: `raw`, `raw (V)`, `raw [V]` or `raw_V`; so for the others.
_HEADING = re.compile(
    rf"({'|'.join(COLUMNS[::-1])})\s*(?:[(\[]\s*(.+?)\s*[)\]]|_(\w+|%))?\s*\Z", re.IGNORECASE
)
#: A column that is an uncertainty, of whatever.
_UNCERTAINTY = re.compile(r"u(?![a-z])", re.IGNORECASE)
_UNITS = {"percent": "%", "counts": "count"}


@refuses
def read_marks(path: str | PathLike[str] | IO[Any]) -> Marks:
    """Marks from a CSV file, which is read as a log is: any delimiter, decimal commas, units behind
    numbers.

    Its header names the columns `raw` and `true`, and perhaps the standard uncertainties `u_true`
    and `u_raw` of each mark, and `u_common` of an error that all marks share; each may say its unit
    in brackets: `raw (count),true (degC),u_true (K)`. Other columns are not used, and a fit names
    them; blank lines and lines that start with # are left out.

    Parameters
    ----------
    path : path, or open file
        The CSV file; `~` is one's own folder.

    Returns
    -------
    Marks
        The marks, with their units.

    Raises
    ------
    MarksError
        Naming the line.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.read_marks("bath.csv").raw.size
    5
    """
    from .number_files import NumberFile  # marks on the command line need no PyArrow

    name = str(getattr(path, "name", "the marks") if hasattr(path, "read") else path)
    try:
        file = NumberFile(path, name, header=True)
        if file.is_empty:
            raise MarksError(f"{name}: expected a header `raw,true` and marks, found nothing")
        places, units, unused = _headings(file)
        found = {side: file.column(at, side) for side, at in places.items()}
    except FileNotFoundError:
        raise MarksError(f"{name}: expected a CSV file of marks, found no such file") from None
    except IsADirectoryError:
        raise MarksError(f"{name}: expected a CSV file of marks, found a folder") from None
    except OSError as error:
        raise MarksError(f"{name}: cannot be read: {error.strerror or error}") from None
    except LogError as error:
        raise MarksError(str(error)) from None
    for side, of in (("u_true", "true"), ("u_raw", "raw"), ("u_common", "true")):
        if side in found:
            found[side] *= _scale(name, side, units[side], units[of])
    common = found.get("u_common", np.zeros(1))
    if np.ptp(common):
        raise MarksError(
            f"{name}: u_common: expected one number for all marks, found {common.min():g} to "
            f"{common.max():g}"
        )
    return Marks(
        found["raw"],
        found["true"],
        u_true=found.get("u_true"),
        raw_unit=units["raw"],
        true_unit=units["true"],
        names=tuple(f"{Path(name).name} line {line}" for line in file.lines),
        u_raw=found.get("u_raw"),
        u_common=float(common[0]),
        unused=unused,
    )


def _headings(
    file: NumberFile,
) -> tuple[dict[str, int], dict[str, str | None], tuple[str, ...]]:
    """Where the columns are, the unit of each, and the columns that are none of these."""
    places: dict[str, int] = {}
    units: dict[str, str | None] = dict.fromkeys(COLUMNS)
    unused = []
    for i, column in enumerate(file.columns):
        cell = column.strip()
        match = _HEADING.match(cell)
        if match is None and _UNCERTAINTY.match(cell):
            expected = "expected the uncertainties u_true, u_raw or u_common"
            raise MarksError(f"{file.name}: {expected}, found the column {cell!r}")
        if match is None:
            unused.append(cell)
        else:
            side = match[1].lower()
            unit = match[2] or match[3] or file.units.get(column)
            places.setdefault(side, i)
            units[side] = None if unit is None else spelled(_UNITS.get(unit, unit))
    if not {"raw", "true"} <= places.keys():
        expected = "a header with the columns raw and true, as in `raw (count),true (degC)`"
        raise MarksError(f"{file.name}: expected {expected}, found {','.join(file.columns)!r}")
    return places, units, tuple(filter(None, unused))


def _scale(name: str, side: str, unit: str | None, its_unit: str | None) -> float:
    """What an uncertainty is worth in the unit of its column: a difference has no zero point."""
    from ..core.error_types import UnitError
    from ..core.ruler.units import factor_and_offset

    if unit is None or its_unit is None or unit == its_unit:
        return 1.0
    try:
        return abs(factor_and_offset(unit, its_unit)[0])
    except UnitError as error:
        raise MarksError(f"{name}: {side}: {error}") from None


def marks_from_texts(texts: Iterable[str]) -> Marks:
    """Marks from texts `raw=true`, each side a number or a quantity: `1880=225`, `1.2 V=35 degC`.
    Raises `MarksError`."""
    pairs, units, texts = [], [], list(texts)
    for text in texts:
        raw, equals, true = text.partition("=")
        if not equals:
            raise MarksError(f"--mark: expected RAW=TRUE, as in 1880=225, found {text!r}")
        try:
            sides = [(_number(side), unit_of(side)) for side in (raw, true)]
        except QuantityError as error:
            raise MarksError(f"--mark {text}: {error}") from None
        pairs.append([value for value, _ in sides])
        units.append(tuple(unit for _, unit in sides))
    if len(set(units)) > 1:
        raise MarksError("--mark: expected units for all marks or for none, found them for some")
    table = np.array(pairs, dtype=np.float64)
    names = tuple(f"--mark {text}" for text in texts)
    raw_unit, true_unit = units[0]
    return Marks(
        table[:, 0].copy(),
        table[:, 1].copy(),
        u_true=None,
        raw_unit=raw_unit,
        true_unit=true_unit,
        names=names,
    )


def _number(text: str) -> float:
    value = quantity(text, unit_of(text))
    if isinstance(value, Toleranced):
        raise QuantityError(
            text, "a value without ±", "uncertainties go into a marks file, as u_true"
        )
    return value
