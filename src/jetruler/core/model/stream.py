"""How a stream of raw counts is written, as a bench file says it."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal, get_args

from ..error_types import ParameterError
from .quantity import seconds
from .unit_registry import factor

Form = Literal["csv", "pairs", "json"]
LineEnd = Literal["lf", "crlf", "cr"]
#: The signs that end a line, by their name.
LINE_ENDS: dict[LineEnd, str] = {"lf": "\n", "crlf": "\r\n", "cr": "\r"}
TIME_UNITS = {unit: found[1] for unit in ("s", "ms", "us", "min", "h") if (found := factor(unit))}


def time_factor(name: str) -> float:
    """Return the seconds of the unit that the name of a time column ends in."""
    unit = re.search(r"(?:^|[_\s(\[])(us|µs|ms|min|h)[)\]]?$", name.strip())
    return TIME_UNITS[unit[1].replace("µ", "u")] if unit else 1.0


@dataclass(frozen=True)
class Stream:
    """How lines come in.

    Parameters
    ----------
    format : Form, default "csv"
        "csv" (cells with `delimiter` between), "pairs" (`name=value`, between blanks, commas or
        semicolons), "json" (an object a line).
    columns : tuple[str, ...], optional
        Names of the cells, for lines without a header.
    delimiter : str, default ","
        Sign between two cells.
    baud : int, default 115200
        Of a serial port.
    timestamp : str, optional
        The column with the source's own time, in `time_unit` ("s", "ms", "us", "min", "h");
        without one, the time of arrival counts.
    time_unit : str, optional
        Unit of `timestamp`: "s", "ms", "us", "min" or "h"; that in its name (`t_ms`) if left out,
        and the second without one.
    stale : float | str, default 2.0
        Seconds of silence after which the data is stale.
    line_end : {"lf", "crlf", "cr"}, default "lf"
        What ends a line that is sent.

    Raises
    ------
    ParameterError
        For parameters that make no sense.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.Stream(columns=("t", "ch0"), timestamp="t").timestamp
    't'
    """

    format: Form = "csv"
    columns: tuple[str, ...] | None = None
    delimiter: str = ","
    baud: int = 115_200
    timestamp: str | None = None
    time_unit: str | None = None
    stale: float | str = 2.0
    line_end: LineEnd = "lf"

    def __post_init__(self) -> None:
        for error in self.errors():
            raise error

    @property
    def time_factor(self) -> float:
        """Seconds of one unit of the source's time."""
        return TIME_UNITS[self.time_unit] if self.time_unit else time_factor(self.timestamp or "")

    def errors(self) -> Iterator[ParameterError]:
        """The errors among the parameters."""
        if self.format not in get_args(Form):
            right = f"one of {', '.join(get_args(Form))} is right"
            yield ParameterError("format", self.format, right)
        if self.columns is not None and (
            not self.columns
            or not all(isinstance(name, str) and name for name in self.columns)
            or len(set(self.columns)) < len(self.columns)
        ):
            yield ParameterError("columns", self.columns, "different names, in order, are right")
        if len(self.delimiter) != 1 or self.delimiter in '"\r\n.-+' or self.delimiter.isalnum():
            yield ParameterError("delimiter", self.delimiter, 'one sign, as in "," or ";"')
        if isinstance(self.baud, bool) or not isinstance(self.baud, int) or self.baud < 1:
            yield ParameterError("baud", self.baud, "bits a second, above 0")
        if self.time_unit is not None and self.time_unit not in TIME_UNITS:
            right = f"one of {', '.join(TIME_UNITS)} is right"
            yield ParameterError("time_unit", self.time_unit, right)
        if self.line_end not in LINE_ENDS:
            right = f"one of {', '.join(LINE_ENDS)} is right"
            yield ParameterError("line_end", self.line_end, right)
        if not seconds(self.stale) > 0:
            yield ParameterError("stale", self.stale, 'a time above 0 is right, as in "2 s"')
