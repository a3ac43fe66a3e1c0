"""Values with flags, and worked solutions."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import IntFlag
from html import escape
from typing import Any

from ..containers import to_array
from ..error_types import KindError
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

    @classmethod
    def _missing_(cls, value: object) -> Any:
        if isinstance(value, int):
            return super()._missing_(value)
        raise KindError(f"flag: expected a Flag or a number of flags, found {value!r:.40}")

    def __str__(self) -> str:
        return ", ".join(flag_names(self)) or "none"

    # One number, not a list of its bits: `series == Flag.HIGH_RAIL` then means what it says.
    __iter__ = None  # type: ignore[assignment]


#: Names in the order they are written, e.g. in the `flags` column of a converted log.
FLAG_NAMES = {flag: str(flag.name).lower() for flag in Flag}

#: Those that indicate no fault: a knob at its stop is below too, and what is held was wanted.
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
        What a value represents, where it is no number.

    Examples
    --------
    >>> import jetruler as jr
    >>> reading = (jr.Adc(bits=12, vref=3.3) >> jr.Line(2)).read(4095)
    >>> reading.value, reading.flags
    (6.6, <Flag.HIGH_RAIL: 2>)
    """

    value: Any
    """What was read."""
    flags: Any
    """Bits of `Flag` for each value."""
    unit: str | None = None
    """Unit of the values."""
    label: str | None = None
    """What a single value represents, where it is no number: a zone's label."""

    @property
    def flag_names(self) -> Any:
        """The names of the flags of a reading; of many readings, a list of names for each."""
        if isinstance(self.flags, int):
            return flag_names(int(self.flags))
        numbers, _ = to_array(self.flags)
        return [flag_names(flag) for flag in numbers.reshape(-1).astype(int).tolist()]

    def __float__(self) -> float:
        return float(self.value)

    def __format__(self, spec: str) -> str:
        """`f"{reading:.1f}"` is the value so; without a form it is what `print` gives."""
        return format(self.value, spec) if spec else str(self)

    def _repr_html_(self) -> str:
        return f"<code>{escape(str(self))}</code>"

    def __str__(self) -> str:
        if not isinstance(self.value, float):
            return repr(self)
        names = ", ".join(flag_names(int(self.flags)))
        text = self.label or shown(self.value, self.unit)
        return text + (f" [{names}]" if names else "")


@dataclass(frozen=True)
class Step:
    """One law at work: its name, its worked line, the result and the unit of the result."""

    law: str
    line: str
    result: float
    unit: str | None


@dataclass(frozen=True, eq=False, repr=False)
class Trace(Result):
    """A worked solution: what came in, a step a law, and the reading at the end.

    Attributes
    ----------
    start : float
        What came in.
    unit : str | None
        Unit of the values.
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
    """What came in."""
    unit: str | None
    """Unit of the values."""
    steps: tuple[Step, ...]
    """A step for each law."""
    reading: Reading
    """What comes out."""
    channel: str = ""
    """Whose ruler it is, where it is a channel's."""

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
