"""Values with flags, worked solutions, and any kind of numbers in, the same kind out."""

from __future__ import annotations

import sys
from array import array
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from enum import IntFlag
from typing import Any

import numpy as np

from ..numerics import AnyArray, Numbers
from ..result import Content, Result
from .units import shown


class Flag(IntFlag):
    """What is notable about one reading; several can hold at once (they fit a uint8).

    Examples
    --------
    >>> import jetruler as jr
    >>> int((jr.Counts(bits=8) >> jr.Line(2)).read(255).flags) == jr.Flag.HIGH_RAIL
    True
    """

    LOW_RAIL = 1
    """The count is the lowest the converter has: it may be lower in truth."""
    HIGH_RAIL = 2
    """The count is the highest the converter has: it may be higher in truth."""
    BELOW = 4
    """Below a clamp or a limit."""
    ABOVE = 8
    """Above a clamp or a limit."""
    MISSING = 16
    """No sample: an empty or unreadable cell, or not a number."""
    OFF_SCALE = 32
    """A count that this converter cannot give; the value is NaN."""
    FAULTY = 64
    """A sample that no sound sensor gives: a law has no value for it."""

    HELD = 128
    """Not from the source: somebody holds the channel at this raw value, or put it in."""

    # One number, not a list of its bits: `series == Flag.HIGH_RAIL` then means what it says.
    __iter__ = None  # type: ignore[assignment]


#: Names in the order they are written, e.g. in the `flags` column of a converted log.
FLAG_NAMES = {flag: str(flag.name).lower() for flag in Flag}

#: Those that tell of no fault: a knob at its stop is below too, and what is held was wanted.
NO_FAULTS = Flag.BELOW | Flag.ABOVE | Flag.HELD

#: Those that a ruler, or a chip, finds by itself.
READ_FLAGS = {flag: name for flag, name in FLAG_NAMES.items() if flag != Flag.HELD}


def flag_names(flags: int) -> list[str]:
    """`["high_rail", "above"]` for the bits set."""
    return [name for flag, name in FLAG_NAMES.items() if flags & flag]


@dataclass(frozen=True)
class Reading:
    """What a ruler reads: values and flags, each of the kind and shape that was put in.

    `flags` holds `Flag` bits: a `Flag` for a single reading, else integers.

    Attributes
    ----------
    value : object
        What was read.
    flags : object
        Bits of `Flag` for each value.
    unit : str, optional
        Unit of the values.
    label : str, optional
        What a value stands for, where it is no number.

    Examples
    --------
    >>> import jetruler as jr
    >>> reading = (jr.Adc(bits=12, vref=3.3) >> jr.Line(2)).read(4095)
    >>> reading.value, reading.flags
    (6.6, <Flag.HIGH_RAIL: 2>)
    """

    value: Any
    flags: Any
    unit: str | None = None
    label: str | None = None
    """What a single value stands for, where it is no number: a zone's label."""

    def __str__(self) -> str:
        if not isinstance(self.value, float):
            return repr(self)
        names = ", ".join(flag_names(int(self.flags)))
        text = self.label or shown(self.value, self.unit)
        return text + (f" [{names}]" if names else "")


def to_array(x: Any) -> tuple[Numbers, Callable[[AnyArray], Any]]:
    """An integer or float64 array of the numbers in x, and what turns such an array back into
    the kind of x. None and pandas' NA become NaN. Raises `TypeError` for what is no number."""
    if isinstance(x, np.ndarray):
        return _numeric(_unmasked(x)), _same
    if isinstance(x, list):
        return _numeric(np.asarray(x)), _to_list
    if isinstance(x, tuple):
        return _numeric(np.asarray(x)), lambda a: tuple(a.tolist())
    if isinstance(x, range):
        return np.asarray(x), _to_list
    if isinstance(x, array):
        return _numeric(np.asarray(x)), lambda a: array("d", a.astype(np.float64).tolist())
    if (found := _labelled(x)) is not None:
        return found
    if isinstance(x, int) and not isinstance(x, bool) and not -(2**63) <= x < 2**63:
        x = float("inf") if x > 0 else float("-inf")  # beyond every converter in any case
    return _numeric(np.asarray(np.nan if x is None else x)), lambda a: a[()].item()


def _labelled(x: Any) -> tuple[Numbers, Callable[[AnyArray], Any]] | None:
    """A Series, Index or DataFrame of pandas, or a Series of Polars; None for anything else. Only
    someone who already has them can hand one over: no import is paid here."""
    series, index, frame = (loaded("pandas", name) for name in ("Series", "Index", "DataFrame"))
    if series is not None and isinstance(x, series):
        return _from_series(x), lambda a: series(a, index=x.index, name=x.name)
    if index is not None and isinstance(x, index):
        return _from_series(x), lambda a: index(a, name=x.name)
    if frame is not None and isinstance(x, frame):
        columns = [_column(x, name) for name in x]
        counts = np.stack(columns, axis=1) if columns else np.empty(x.shape)
        return counts, lambda a: frame(a, index=x.index, columns=x.columns)
    polars = loaded("polars", "Series")
    if polars is not None and isinstance(x, polars):
        return _numeric(x.to_numpy()), lambda a: polars(x.name, a)
    return None


def _column(frame: Any, name: Any) -> Numbers:
    try:
        return _from_series(frame[name])
    except TypeError as error:
        raise TypeError(f"column {name!r}: {error}") from None


def loaded(module: str, name: str) -> Any:
    """A class of a module, if that is loaded; None also while another thread is loading it."""
    return getattr(sys.modules.get(module), name, None)


def lazily(x: Any, compute: Callable[[Any], Any], dtype: str = "float64") -> Any:
    """A Dask array or Series of what `compute` makes of its parts, not computed; None for what is
    neither. Whoever has one has loaded Dask: no import is paid here."""
    array = loaded("dask.array", "Array")
    if array is not None and isinstance(x, array):
        return x.map_blocks(compute, dtype=dtype, meta=np.empty((0,) * x.ndim, dtype))
    series = loaded("dask.dataframe", "Series")
    if series is not None and isinstance(x, series):
        return x.map_partitions(compute, meta=(x.name, dtype))
    return None


def _unmasked(a: AnyArray) -> AnyArray:
    """Masked numbers become NaN. Whoever has a masked array has numpy.ma loaded already."""
    masked = loaded("numpy.ma", "MaskedArray")
    if masked is None or not isinstance(a, masked):
        return a
    filled: AnyArray = np.ma.filled(a.astype(np.float64), np.nan)
    return filled


def _same(a: AnyArray) -> AnyArray:
    return a


def _to_list(a: AnyArray) -> Any:
    return a.tolist()


def _from_series(x: Any) -> Numbers:
    plain = isinstance(x.dtype, np.dtype)
    try:
        values = x.to_numpy() if plain else x.to_numpy(dtype=np.float64, na_value=np.nan)
    except (TypeError, ValueError):
        raise TypeError(f"expected numbers, found {x.dtype} ({next(iter(x))!r})") from None
    return _numeric(values)


def _numeric(a: AnyArray) -> Numbers:
    if a.dtype.kind in "iu":
        return a
    if a.dtype.kind == "f":
        return a.astype(np.float64, copy=False)
    if a.dtype.kind == "O" and all(_is_number(v) for v in a.flat):
        return a.astype(np.float64)
    example = repr(a.flat[0]) if a.size else a.dtype
    raise TypeError(f"expected numbers, found {_KINDS.get(a.dtype.kind, 'objects')} ({example})")


def _is_number(v: object) -> bool:
    return v is None or (isinstance(v, int | float | np.number) and not isinstance(v, bool))


_KINDS = {"U": "text", "S": "bytes", "b": "truth values", "c": "complex numbers", "M": "dates"}


@dataclass(frozen=True)
class Step:
    """One law at work: its name, its worked line, the result and the unit of the result."""

    law: str
    line: str
    result: float
    unit: str | None


@dataclass(frozen=True, repr=False)
class Trace(Result):
    """A worked solution: what came in, a step a law, and the reading at the end.

    Attributes
    ----------
    start : float
        What came in.
    unit : str | None
        Its unit.
    steps : tuple[Step, ...]
        A step for each law.
    reading : Reading
        What comes out.
    channel : str, default ""
        Whose ruler it is, where it is a channel's.

    Examples
    --------
    >>> import jetruler as jr
    >>> print((jr.Counts(bits=12) >> jr.Line(0.5)).trace(200))
    200 count
      counts  n = 200 of 0 to 4095
      line    y = m · x + b = 0.5 · 200 + 0 = 100
    = 100
    """

    start: float
    unit: str | None
    steps: tuple[Step, ...]
    reading: Reading
    channel: str = ""

    @property
    def headline(self) -> str:
        return f"{shown(self.start, self.unit)} = {self.reading}"

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        fields = Step.__dataclass_fields__
        return {name: [getattr(step, name) for step in self.steps] for name in fields}

    @property
    def content(self) -> Content:
        width = max(len(step.law) for step in self.steps)
        lines = [f"  {step.law:<{width}}  {step.line}" for step in self.steps]
        return [shown(self.start, self.unit), *lines, f"= {self.reading}"]

    def _fields(self) -> Mapping[str, Any]:
        return {
            "channel": self.channel,
            "from": {"value": self.start, "unit": self.unit},
            "steps": self.steps,
            "result": {"value": self.reading.value, "unit": self.reading.unit},
            "flags": flag_names(int(self.reading.flags)),
        }
