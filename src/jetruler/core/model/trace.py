"""The worked solution: what a good teacher writes on the board, one line a law."""

from __future__ import annotations

from dataclasses import dataclass

from ..provided import provided
from .reading import Reading
from .text import shown


@dataclass(frozen=True)
class Step:
    """One law at work: its name, its worked line, the result and the unit of the result."""

    law: str
    line: str
    result: float
    unit: str | None


@dataclass(frozen=True)
class Trace:
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

    def __str__(self) -> str:
        width = max(len(step.law) for step in self.steps)
        lines = [f"{shown(self.start, self.unit)}"]
        lines += [f"  {step.law:<{width}}  {step.line}" for step in self.steps]
        return "\n".join([*lines, f"= {self.reading}"])

    def _repr_html_(self) -> str:
        html: str = provided("html")(self)
        return html
