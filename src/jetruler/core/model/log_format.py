"""How the lines of a log or a stream are written, as a bench file or options say it."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from ..error_types import ParameterError
from .quantity import seconds
from .unit_registry import factor

LineEnd = Literal["lf", "crlf", "cr"]
#: The signs that end a line, by their name.
LINE_ENDS: dict[LineEnd, str] = {"lf": "\n", "crlf": "\r\n", "cr": "\r"}
#: The formats of a log: four forms of lines, and a file of typed columns.
FORMATS = ("csv", "pairs", "words", "jsonl", "parquet")
#: The signs between two cells, by the name that options and messages use.
DELIMITERS = {"comma": ",", "semicolon": ";", "tab": "\t", "blank": " ", "bar": "|"}
TIME_UNITS = {unit: found[1] for unit in ("s", "ms", "us", "min", "h") if (found := factor(unit))}


def time_factor(name: str) -> float:
    """Return the seconds of the unit that the name of a time column ends in."""
    unit = re.search(r"(?:^|[_\s(\[])(us|µs|ms|min|h)[)\]]?$", name.strip())
    return TIME_UNITS[unit[1].replace("µ", "u")] if unit else 1.0


@dataclass(frozen=True)
class LogFormat:
    """How a log or a stream is written. What is left out is found out from the first lines.

    Parameters
    ----------
    delimiter : str, optional
        Sign between two cells, or its name: "comma", "semicolon", "tab", "blank", "bar".
    decimal : str, default "."
        "." or ",".
    header : bool, optional
        Whether the first line has the names. A first line of nothing but numbers and times is data.
    comment : str, default "#"
        Lines that start with it are left out, and counted.
    format : str, optional
        "csv" (cells), "pairs" (`name=value` or `name: value`), "words" (numbers between words that
        stay the same), "jsonl" (a JSON object a line), "parquet".
    columns : tuple[str, ...], optional
        Names of the cells, for lines without a header.
    time : str | int, optional
        The column with the log's own time.
    time_unit : str, optional
        Unit of `time`: "s", "ms", "us", "min" or "h"; that in its name (`t_ms`) if left out, and
        the second without one.
    interval : float | str, optional
        Time between two samples, for a log without a time column.
    baud : int, default 115200
        Of a serial port.
    stale : float | str, default 2.0
        Seconds of silence after which a stream is stale.
    line_end : {"lf", "crlf", "cr"}, default "lf"
        What ends a line that is sent.

    Raises
    ------
    ParameterError
        For parameters that make no sense.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.LogFormat(delimiter="semicolon", decimal=",").delimiter
    ';'
    """

    delimiter: str | None = None
    decimal: str = "."
    header: bool | None = None
    comment: str = "#"
    format: str | None = None
    columns: tuple[str, ...] | None = None
    time: str | int | None = None
    time_unit: str | None = None
    interval: float | str | None = None
    baud: int = 115_200
    stale: float | str = 2.0
    line_end: LineEnd = "lf"

    def __post_init__(self) -> None:
        if self.delimiter in DELIMITERS:
            object.__setattr__(self, "delimiter", DELIMITERS[self.delimiter])
        if self.format == "json":
            object.__setattr__(self, "format", "jsonl")
        for error in self.errors():
            raise error

    @property
    def seconds_between(self) -> float | None:
        """The interval in seconds."""
        return None if self.interval is None else seconds(self.interval)

    def errors(self) -> Iterator[ParameterError]:
        """The errors among the parameters."""
        if self.format not in (None, "json", *FORMATS):
            yield ParameterError("format", self.format, f"one of {', '.join(FORMATS)} is right")
        sign = DELIMITERS.get(self.delimiter or "", self.delimiter)
        if sign is not None and (
            len(sign) != 1 or sign in '"\r\n.-+' or sign.isalnum() or not sign.isascii()
        ):
            right = f"one of {', '.join(DELIMITERS)}, or one sign, is right"
            yield ParameterError("delimiter", self.delimiter, right)
        if self.decimal not in (".", ","):
            yield ParameterError("decimal", self.decimal, "a point or a comma is right")
        if self.decimal == "," and sign == ",":
            right = "a comma cannot be both the delimiter and the decimal mark"
            yield ParameterError("decimal", self.decimal, right)
        if self.columns is not None and (
            not self.columns
            or not all(isinstance(name, str) and name for name in self.columns)
            or len(set(self.columns)) < len(self.columns)
        ):
            yield ParameterError("columns", self.columns, "different names, in order, are right")
        if isinstance(self.time, bool) or (isinstance(self.time, int) and self.time < 1):
            yield ParameterError("time", self.time, "the name or number of a column is right")
        if isinstance(self.time, str) and self.columns and self.time not in self.columns:
            yield ParameterError("time", self.time, f"one of columns ({', '.join(self.columns)})")
        if self.time_unit is not None and self.time_unit not in TIME_UNITS:
            yield ParameterError(
                "time_unit", self.time_unit, f"one of {', '.join(TIME_UNITS)} is right"
            )
        if self.interval is not None and not 0 < seconds(self.interval) < math.inf:
            yield ParameterError("interval", self.interval, 'a time above 0, as in "20 ms"')
        if isinstance(self.baud, bool) or not isinstance(self.baud, int) or self.baud < 1:
            yield ParameterError("baud", self.baud, "bits a second, above 0")
        if self.line_end not in LINE_ENDS:
            yield ParameterError(
                "line_end", self.line_end, f"one of {', '.join(LINE_ENDS)} is right"
            )
        if not seconds(self.stale) > 0:
            yield ParameterError("stale", self.stale, 'a time above 0 is right, as in "2 s"')
