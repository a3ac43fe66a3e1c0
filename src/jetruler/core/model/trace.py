"""The worked solution: what a good teacher writes on the board, one line a law."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from .reading import Reading, flag_names
from .result import Content, Result
from .text import shown


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
      line    y = m · x + b = 0.5 · 200 + 0 = 100 count
    = 100 count
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
