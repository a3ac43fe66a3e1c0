"""Marks: pairs (raw, true) that somebody trusts, with their units and uncertainties."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from ..containers import to_array
from ..error_types import JetRulerError
from ..numerics import Array
from ..result import ByValue, refuses_fields
from ..ruler.quantity import as_typed, quantity, unit_written
from ..ruler.units import factor, factor_and_offset, number, shown, spelled, symbol


class MarksError(JetRulerError):
    """Marks that cannot be used; the message names the mark and what would be right.

    Examples
    --------
    >>> import jetruler as jr
    >>> try:
    ...     jr.fit([(1, 5)])
    ... except jr.errors.MarksError as error:
    ...     print(error)
    line: expected marks at 2 different raw values or more, found 1
    """


#: The columns of marks in their order, and what they may be called.
SIDES = ("raw", "true", "u_true")
NAMES = {"raw": "raw", "true": "true", "u_true": "u_true", "u": "u_true", "u_raw": "u_raw"}


def _by_name(marks: Any) -> dict[str, Any] | None:
    """The columns of what has names: a dict, a frame, records, dicts one after another."""
    found: dict[str, Any]
    names: Any
    if isinstance(marks, Mapping):
        found = dict(marks)
    elif hasattr(marks, "columns") or hasattr(marks, "column_names"):
        names = list(getattr(marks, "column_names", None) or marks.columns)
        if all(isinstance(name, int | np.integer) for name in names):
            return None  # a frame that was given no names
        found = {str(name): marks[name] for name in names}
    elif names := getattr(getattr(marks, "dtype", None), "names", None):
        found = {name: marks[name] for name in names}
    elif isinstance(marks, Sequence) and marks and not isinstance(marks, str):
        rows = [row if isinstance(row, Mapping) else _fields_of(row) for row in marks]
        if not all(row is not None for row in rows):
            return None
        known = list(dict.fromkeys(name for row in rows if row for name in row))
        found = {name: [(row or {}).get(name) for row in rows] for name in known}
    else:
        return None
    if {"raw", "true"} - found.keys() or found.keys() - NAMES.keys():
        wanted = "raw, true, and perhaps u_true (or u) and u_raw"
        raise MarksError(f"marks: expected columns {wanted}, found {', '.join(found)}")
    return {NAMES[name]: column for name, column in found.items()}


def _fields_of(row: Any) -> Mapping[str, Any] | None:
    named = getattr(row, "_asdict", None)
    return named() if callable(named) else None


def _in_order(marks: Any) -> list[Any]:
    """The columns of what has no names: raw, true, and perhaps u_true."""
    if isinstance(marks, Iterator):
        marks = list(marks)
    of_columns = isinstance(marks, tuple) and not any(isinstance(c, tuple) for c in marks)
    if of_columns and len(marks) in (2, 3):
        return list(marks)
    try:
        rows = list(marks.to_numpy() if hasattr(marks, "to_numpy") else marks)
        widths = {len(row) for row in rows}
    except TypeError:
        rows, widths = [], set()
    if len(widths) == 1:
        (wide,) = widths
        # Rows of three are series where there are two of them; tuples are always marks.
        series = wide > 3 or (wide == 3 and len(rows) == 2 and not isinstance(rows[0], tuple))
        if series and len(rows) in (2, 3):
            return rows
        if wide in (2, 3):
            return [[row[i] for row in rows] for i in range(wide)]
    raise MarksError(
        "marks: expected pairs (raw, true) or triples (raw, true, u_true), all of one length, "
        f"found {marks!r}"
    )


def _numbers(name: str, column: Any) -> tuple[Array, str | None]:
    """A column as numbers, and the unit that it brings."""
    column = as_typed(column)
    texts = isinstance(column, list | tuple) and any(isinstance(as_typed(v), str) for v in column)
    try:
        if texts:
            listed = [as_typed(value) for value in column]
            unit = next((u for v in listed if isinstance(v, str) and (u := unit_written(v))), None)
            values = [quantity(v, unit) if isinstance(v, str) else float(v) for v in listed]
            return np.array(values, np.float64), unit
        numbers, _ = to_array(column)
    except (JetRulerError, ValueError) as error:
        raise MarksError(f"marks: {name}: {error}") from None
    return numbers.astype(np.float64).reshape(-1), None


#: Marks that a fit takes: nobody takes more by hand, and a log is compared, not fitted.
MOST = 20_000


@refuses_fields
@dataclass(frozen=True, eq=False)
class Marks(ByValue):
    """Pairs (raw, true), one array a side.

    Parameters
    ----------
    raw : array of float64
        Shape (n,).
    true : array of float64
        Shape (n,).
    u_true : array of float64, optional
        Standard uncertainty of each true value, independent from mark to mark, or None.
    raw_unit : str, optional
        "count", or the unit at some joint of a channel's laws; None is whatever the law takes.
    true_unit : str, optional
        None is whatever the law gives.
    names : tuple[str, ...], default ()
        Where each mark is, for messages.
    u_raw : array of float64, optional
        Standard uncertainty of each raw value, or None.
    u_common : float, default 0.0
        Standard uncertainty of an error that all true values share: that of the one reference
        thermometer, in the unit of true.
    unused : tuple[str, ...], default ()
        Columns of the marks' file that were not included.

    Raises
    ------
    MarksError
        For numbers that are not finite, or uncertainties not above 0.

    Examples
    --------
    >>> import jetruler as jr
    >>> marks = jr.Marks.of([(0, 1.0), (1, 3.1)])
    >>> marks.raw.tolist()
    [0.0, 1.0]
    """

    raw: Array
    """Shape (n,)."""
    true: Array
    """Shape (n,)."""
    u_true: Array | None = None
    """Standard uncertainty of each true value, independent from mark to mark, or None."""
    raw_unit: str | None = None
    """"count", or the unit at some joint of a channel's laws; None is whatever the law takes."""
    true_unit: str | None = None
    """None is whatever the law gives."""
    names: tuple[str, ...] = ()
    """Where each mark is, for messages."""
    u_raw: Array | None = None
    """Standard uncertainty of each raw value, or None."""
    u_common: float = 0.0
    """Standard uncertainty of an error that all true values share: that of the one reference
    thermometer, in the unit of true."""
    unused: tuple[str, ...] = ()
    """Columns of the marks' file that were not included."""

    if TYPE_CHECKING:  # whatever holds numbers is read

        def __init__(
            self,
            raw: Any,
            true: Any,
            u_true: Any = None,
            raw_unit: str | None = None,
            true_unit: str | None = None,
            names: tuple[str, ...] = (),
            u_raw: Any = None,
            u_common: float = 0.0,
            unused: tuple[str, ...] = (),
        ) -> None: ...

    def __post_init__(self) -> None:
        for kind in ("raw", "true", "u_true", "u_raw"):
            if (given := getattr(self, kind)) is not None:
                object.__setattr__(self, kind, _numbers(kind, given)[0])
        if not self.names:
            names = tuple(f"mark {i}" for i in range(1, self.raw.size + 1))
            object.__setattr__(self, "names", names)
        if self.raw.size > MOST:
            raise MarksError(f"marks: expected up to {MOST}, found {self.raw.size}")
        if not 0 <= self.u_common < np.inf:
            raise MarksError(f"u_common: expected 0 or more, found {self.u_common:g}")
        for kind in ("raw", "true", "u_true", "u_raw"):
            values = getattr(self, kind)
            if values is None:
                continue
            is_u = kind.startswith("u_")
            invalid = ~np.isfinite(values) | ((values <= 0) if is_u else False)
            for i in np.flatnonzero(invalid)[:1]:
                expected = "a number above 0" if is_u else "a finite number"
                raise MarksError(
                    f"{self.names[i]}: {kind}: expected {expected}, found {values[i]:g}"
                )

    @classmethod
    def of(cls, marks: Marks | Sequence[Sequence[float]] | Any) -> Marks:
        """Marks from whatever holds them.

        Pairs (raw, true) or triples (raw, true, u_true), one after another; columns, as a tuple of
        two or three, or as a list or array of two rows (of two rows of two, each is a mark); by
        name (raw, true, u_true or u, u_raw), as a dict, a frame, records or dicts one after
        another. Texts and Pint's quantities bring their unit.
        """
        if isinstance(marks, Marks):
            return marks
        columns = _by_name(marks)
        if columns is None:
            columns = dict(zip(SIDES, _in_order(marks), strict=False))
        read = {name: _numbers(name, column) for name, column in columns.items()}
        sizes = {name: values.size for name, (values, _) in read.items()}
        if len(set(sizes.values())) > 1:
            raise MarksError(f"marks: expected columns of one length, found {sizes}")
        values: dict[str, Any] = {name: numbers for name, (numbers, _) in read.items()}
        return cls(**values, raw_unit=read["raw"][1], true_unit=read["true"][1])

    def __len__(self) -> int:
        return int(self.raw.size)

    def together(self, other: Marks) -> Marks:
        """These and others, which have the same units and either all or none an uncertainty."""
        u: list[Array | None] = []
        for name in ("u_true", "u_raw"):
            own, its = getattr(self, name), getattr(other, name)
            if (own is None) != (its is None):
                raise MarksError(f"marks: some have an uncertainty {name} and some have none")
            u.append(None if own is None else np.concatenate((own, its)))
        for side in ("raw_unit", "true_unit"):
            if getattr(self, side) != getattr(other, side):
                raise MarksError(
                    f"marks: {side} is {symbol(getattr(self, side))!r} for some and "
                    f"{symbol(getattr(other, side))!r} for others; one unit"
                )
        return replace(
            self,
            raw=np.concatenate((self.raw, other.raw)),
            true=np.concatenate((self.true, other.true)),
            u_true=u[0],
            u_raw=u[1],
            names=self.names + other.names,
            u_common=max(self.u_common, other.u_common),
            unused=self.unused + other.unused,
        )

    def in_units(self, raw_units: Sequence[str | None], true_unit: str | None) -> Marks:
        """The same marks with their raw side in one of `raw_units` (the units a channel has at its
        joints) and their true side in `true_unit`. Raises `MarksError` for any other unit."""
        raw, raw_unit = self.raw, self.raw_unit and spelled(self.raw_unit)
        u_raw = self.u_raw
        if raw_unit is not None and raw_unit not in raw_units:
            known = factor(raw_unit)
            if known is None or known[0] not in raw_units:
                has = ", ".join(dict.fromkeys(symbol(unit) for unit in raw_units if unit))
                raise MarksError(
                    f"marks: raw is in {symbol(raw_unit)}; this channel has {has} between its laws"
                )
            raw, raw_unit = raw * known[1], known[0]
            u_raw = None if u_raw is None else u_raw * known[1]
        if self.true_unit is None or spelled(self.true_unit) == true_unit:
            return replace(self, raw=raw, u_raw=u_raw, raw_unit=raw_unit, true_unit=true_unit)
        if true_unit is None:
            raise MarksError(f"marks: true is in {symbol(self.true_unit)}; the law gives no unit")
        try:
            scale, offset = factor_and_offset(self.true_unit, true_unit)
        except JetRulerError as error:
            raise MarksError(f"marks: true: {error}") from None
        u = None if self.u_true is None else self.u_true * abs(scale)
        return replace(
            self,
            raw=raw,
            true=self.true * scale + offset,
            u_true=u,
            raw_unit=raw_unit,
            true_unit=true_unit,
            u_raw=u_raw,
            u_common=self.u_common * abs(scale),
        )

    def repeats(self) -> tuple[float, ...]:
        """Raw values that were noted more than once."""
        raw, counts = np.unique(self.raw, return_counts=True)
        return tuple(raw[counts > 1].tolist())

    def averaged(self) -> Marks:
        """Each raw value once, sorted: repeated ones by the (weighted) mean of their truths."""
        raw, index = np.unique(self.raw, return_inverse=True)
        weight = np.ones(len(self)) if self.u_true is None else self.u_true**-2.0
        total = np.bincount(index, weight)
        true = np.bincount(index, weight * self.true) / total
        u: Array | None = None if self.u_true is None else 1.0 / np.sqrt(total)
        return Marks(raw, true, u, self.raw_unit, self.true_unit)

    def shown(self, i: int) -> str:
        """A mark for people: `bath.csv line 3 (raw 1880, true 120.8 °C)`."""
        raw, true = number(self.raw[i]), shown(float(self.true[i]), self.true_unit)
        return f"{self.names[i]} (raw {raw}, true {true})"
