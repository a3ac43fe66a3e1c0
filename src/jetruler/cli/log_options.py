"""The options that say how a log is written: the same for every command that reads one."""

from __future__ import annotations

import contextlib
import functools
import logging
from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import click

from ..core.error_types import JetRulerError, ParameterError
from ..core.model.log_format import DELIMITERS, FORMATS, LogFormat
from .streams import echo

if TYPE_CHECKING:
    from ..core.model.channel import Bench

#: What the options say, by the keys of `[log]`.
Given = Mapping[str, Any]

_OPTIONS = (
    click.option(
        "--interval", metavar="TIME", help='Between two samples, without a time column: "20 ms".'
    ),
    click.option("--timestamp", "timestamp", metavar="COLUMN", hidden=True),
    click.option("--time", "time_column", metavar="COLUMN", help="The log's own time."),
    click.option("--decimal-comma", is_flag=True, help="Numbers have a decimal comma."),
    click.option(
        "--no-header", is_flag=True, help="The first line is data, also if it holds names."
    ),
    click.option("--columns", "names", metavar="A,B,…", help="Their names, without a header."),
    click.option("--delimiter", type=click.Choice(list(DELIMITERS)), help="Else found out."),
    click.option("--format", "log_format", metavar="FORM", help=f"{', '.join(FORMATS)}."),
)

_NAMES = (
    "log_format",
    "delimiter",
    "names",
    "no_header",
    "decimal_comma",
    "time_column",
    "timestamp",
    "interval",
)


def log_options(command: Callable[..., None], says: bool = False) -> Callable[..., None]:
    """Add the options; the command gets what they say as `given`. says: whether how the lines were
    read goes to standard error, for a command whose result does not tell it."""

    @functools.wraps(command)
    def with_given(**options: Any) -> None:
        told = {name: options.pop(name) for name in _NAMES}
        with _saying() if says else contextlib.nullcontext():
            command(given=_given(**told), **options)

    for option in _OPTIONS:
        with_given = option(with_given)
    return with_given


#: The same for a command whose result does not tell how the lines were read.
saying_log_options = functools.partial(log_options, says=True)


@contextlib.contextmanager
def _saying() -> Iterator[None]:
    """What is heard of the logs that are read goes to standard error, once."""
    said: set[str] = set()

    class Saying(logging.Handler):
        def emit(self, record: logging.LogRecord) -> None:
            text = record.getMessage()
            if text not in said:
                echo(text, err=True)
            said.add(text)

    logger, handler = logging.getLogger("jetruler.samples"), Saying()
    logger.addHandler(handler)
    logger.setLevel(logging.INFO)
    try:
        yield
    finally:
        logger.removeHandler(handler)


def _given(
    log_format: str | None,
    delimiter: str | None,
    names: str | None,
    no_header: bool,
    decimal_comma: bool,
    time_column: str | None,
    timestamp: str | None,
    interval: str | None,
) -> Given:
    time = time_column or timestamp
    told = {
        "format": log_format,
        "delimiter": delimiter,
        "columns": names and tuple(name.strip() for name in names.split(",")),
        "header": False if no_header else None,
        "decimal": "," if decimal_comma else None,
        "time": int(time) if time and time.isdecimal() else time,
        "interval": interval,
    }
    return {key: value for key, value in told.items() if value is not None}


def form_of(given: Given, bench: Bench | None, **more: object) -> LogFormat:
    """How a log is written: as the options say, else as the bench does, else found out."""
    known = (bench.log if bench is not None else None) or LogFormat()
    said = {**given, **{key: value for key, value in more.items() if value is not None}}
    if known.time not in said.get("columns", (known.time,)):
        said.setdefault("time", None)  # it is of the bench's own columns
    try:
        return replace(known, **said)
    except ParameterError as error:
        raise JetRulerError(f"--{error}") from None
