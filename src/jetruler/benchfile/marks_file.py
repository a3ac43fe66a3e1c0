"""Marks from a CSV file, and from texts like `1880=225`."""

from __future__ import annotations

import csv
import re
from collections.abc import Iterable
from os import PathLike
from pathlib import Path
from typing import IO, Any

import numpy as np

from ..core.calibrate.marks import Marks, MarksError
from ..core.error_types import QuantityError
from ..core.result import refuses
from ..core.ruler.quantity import Toleranced, quantity, unit_of
from ..core.ruler.units import spelled
from ..files import text_of_file

#: The columns of a marks file; the uncertainties may be missing.
COLUMNS = ("raw", "true", "u_true", "u_raw", "u_common")
#: `raw`, `raw (V)`, `raw [V]` or `raw_V`; so for the others.
_HEADING = re.compile(
    rf"({'|'.join(COLUMNS[::-1])})\s*(?:[(\[]\s*(.+?)\s*[)\]]|_(\w+|%))?\s*\Z", re.IGNORECASE
)
#: A column that is an uncertainty, of whatever.
_UNCERTAINTY = re.compile(r"u(?![a-z])", re.IGNORECASE)
_UNITS = {"percent": "%", "counts": "count"}


def _text_of(path: Any) -> str:
    if not hasattr(path, "read"):
        return text_of_file(Path(path).expanduser())
    given = path.read()
    return given.decode("utf-8") if isinstance(given, bytes) else str(given)


@refuses
def read_marks(path: str | PathLike[str] | IO[Any]) -> Marks:
    """Marks from a CSV file (comma or semicolon; with semicolons a decimal comma is read too).

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
    name = str(getattr(path, "name", "the marks") if hasattr(path, "read") else path)
    try:
        text = _text_of(path).removeprefix("\ufeff")
    except FileNotFoundError:
        raise MarksError(f"{name}: expected a CSV file of marks, found no such file") from None
    except IsADirectoryError:
        raise MarksError(f"{name}: expected a CSV file of marks, found a folder") from None
    except (OSError, UnicodeDecodeError) as error:
        no_text = isinstance(error, UnicodeDecodeError)
        reason = "it is not text" if no_text else getattr(error, "strerror", None) or str(error)
        raise MarksError(f"{name}: cannot be read: {reason}") from None
    lines = [
        (i, line)
        for i, line in enumerate(text.splitlines(), 1)
        if line.strip() and not line.lstrip().startswith("#")
    ]
    if not lines:
        raise MarksError(f"{name}: expected a header `raw,true` and marks, found nothing")
    delimiter = ";" if ";" in lines[0][1] else ","
    rows = [next(csv.reader([line], delimiter=delimiter)) for _, line in lines]
    for (number, line), row in zip(lines, rows, strict=True):
        if any("\n" in cell for cell in row) or line.count('"') % 2:
            raise MarksError(
                f"{name} line {number}: expected a quote that is closed, found {line!r}"
            )
    places, units, unused = _headings(name, rows[0])
    cells = [
        _cells(f"{name} line {i}", row, places, delimiter)
        for (i, _), row in zip(lines[1:], rows[1:], strict=True)
    ]
    if not cells:
        raise MarksError(f"{name}: expected marks below the header, found none")
    found = {side: np.array([row[side] for row in cells]) for side in places}
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
        names=tuple(f"{Path(name).name} line {i}" for i, _ in lines[1:]),
        u_raw=found.get("u_raw"),
        u_common=float(common[0]),
        unused=unused,
    )


def _headings(
    name: str, heading: list[str]
) -> tuple[dict[str, int], dict[str, str | None], tuple[str, ...]]:
    """Where the columns are, the unit each names, and the columns that are none of these."""
    places: dict[str, int] = {}
    units: dict[str, str | None] = dict.fromkeys(COLUMNS)
    unused = []
    for i, cell in enumerate(heading):
        match = _HEADING.match(cell.strip())
        if match is None and _UNCERTAINTY.match(cell.strip()):
            raise MarksError(
                f"{name}: expected the uncertainties u_true, u_raw or u_common, found the column "
                f"{cell.strip()!r}"
            )
        if match is None:
            unused.append(cell.strip())
        else:
            side = match[1].lower()
            unit = match[2] or match[3]
            places.setdefault(side, i)
            units[side] = None if unit is None else spelled(_UNITS.get(unit, unit))
    for side in ("raw", "true"):
        if side not in places:
            raise MarksError(
                f"{name}: expected a header with the columns raw and true, as in "
                f"`raw (count),true (degC)`, found {','.join(heading)!r}"
            )
    return places, units, tuple(filter(None, unused))


def _cells(place: str, row: list[str], places: dict[str, int], delimiter: str) -> dict[str, float]:
    values = {}
    for side, at in places.items():
        cell = row[at].strip() if at < len(row) else ""
        # Between semicolons a comma is a decimal mark; anywhere else it could be either.
        if "," in cell and (delimiter != ";" or "." in cell):
            expected = "a number without separators, as in 1234.5"
            raise MarksError(f"{place}: {side}: expected {expected}, found {cell!r}")
        try:
            values[side] = float(cell.replace(",", "."))
        except ValueError:
            raise MarksError(f"{place}: {side}: expected a number, found {cell!r}") from None
    return values


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
