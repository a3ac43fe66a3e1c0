"""Marks: pairs (raw, true) that somebody trusts, with their units and uncertainties."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ..error_types import JetRulerError
from ..numerics import Array
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


#: Marks that a fit takes: nobody takes more by hand, and a log is compared, not fitted.
MOST = 20_000


@dataclass(frozen=True, eq=False)
class Marks:
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
        Where each mark stands, for messages.
    u_raw : array of float64, optional
        Standard uncertainty of each raw value, or None.
    u_common : float, default 0.0
        Standard uncertainty of an error that all true values share: that of the one reference
        thermometer, in the unit of true.
    unused : tuple[str, ...], default ()
        Columns of the marks' file that were not taken along.

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
    true: Array
    u_true: Array | None = None
    raw_unit: str | None = None
    true_unit: str | None = None
    names: tuple[str, ...] = ()
    u_raw: Array | None = None
    u_common: float = 0.0
    unused: tuple[str, ...] = ()

    def __post_init__(self) -> None:
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
        """Marks from pairs (raw, true) or triples (raw, true, u_true), one after another, or as
        columns: a frame of two or three, or a tuple of lists or arrays."""
        if isinstance(marks, Marks):
            return marks
        if isinstance(marks, Iterator):
            marks = list(marks)
        columns = isinstance(marks, tuple) and not any(isinstance(m, tuple) for m in marks)
        try:
            table = np.array(marks, dtype=np.float64)
            table = table.T if columns and len(marks) in (2, 3) else table
        except (TypeError, ValueError):
            table = np.empty(0)
        if table.ndim != 2 or table.shape[1] not in (2, 3):
            raise MarksError(
                "marks: expected pairs (raw, true) or triples (raw, true, u_true), all of one "
                f"length, found {marks!r}"
            )
        return cls(
            table[:, 0].copy(),
            table[:, 1].copy(),
            table[:, 2].copy() if table.shape[1] == 3 else None,
        )

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
