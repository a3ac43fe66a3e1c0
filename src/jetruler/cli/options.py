"""What the commands share: options, finding a channel, how a log is written, completion in
shells."""

from __future__ import annotations

import contextlib
import functools
import logging
import os
import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

import click
from click.shell_completion import (
    CompletionItem,
    ShellComplete,
    add_completion_class,
    split_arg_string,
)

from ..core.bench.bench import DELIMITERS, FORMATS, Bench, LogFormat
from ..core.bench.channel import Channel
from ..core.error_types import JetRulerError, ParameterError
from ..core.ruler.quantity import amount
from ..core.ruler.units import nearest
from ..files import standard_or, unfit
from .streams import echo

bench_option = click.option(
    "-b",
    "--bench",
    "bench_path",
    default="bench.toml",
    show_default=True,
    metavar="FILE",
    help="The bench file.",
)


def load(bench_path: str) -> Bench:
    """The bench, loaded when a command needs it."""
    from ..benchfile.load import load_bench

    return load_bench(bench_path)


def channel_of(bench: Bench, name: str) -> Channel:
    """A channel by its name; the message names the nearest."""
    return bench.measured(name)


def any_channel(bench: Bench, name: str) -> Channel:
    """A channel of a log or one that is computed from others; the message names the nearest."""
    if name not in bench:
        raise ParameterError("channel", name, "a channel", nearest(name, bench))
    return bench[name]


def shown_channel(bench: Bench, name: str) -> Channel:
    """A channel, or a drive as the chain to its command, by its name."""
    if name in bench.drives:
        from ..core.bench.command_chain import command_channel

        return command_channel(bench, bench.drives[name])
    if name not in bench and bench.drives:
        known = nearest(name, [*bench, *bench.drives])
        raise ParameterError("channel", name, "a channel or drive", known)
    return channel_of(bench, name)


def read_value(option: str, text: str, unit: str | None) -> float:
    """A number from the command line: plain in the unit wanted, or a quantity. Raises
    `ParameterError`."""
    try:
        return float(text)
    except ValueError:
        return float(amount(option, text, unit or None))


def is_port(name: str) -> bool:
    """Whether a name is that of a port, a URL or the stand-in board, and of no file."""
    if name == "demo" and not Path(name).exists():
        return True
    if "://" in name or re.fullmatch(r"(\\\\\.\\)?com\d+", name, re.IGNORECASE):
        return True
    return Path(name).is_char_device()


def folder_of(path: str) -> None:
    """Refuse an output in a folder that does not exist, and a name that the system keeps, before
    any work is done."""
    if why := unfit(Path(path)):
        raise JetRulerError(f"{path}: {why}; give it another name")
    if not Path(path).parent.is_dir():
        raise JetRulerError(
            f"{path}: expected a folder {Path(path).parent}, found none; make it first"
        )


#: What the options say, by the keys of `[log]`.
Given = Mapping[str, Any]
_OPTIONS = (
    click.option(
        "--interval",
        metavar="TIME",
        help='Time between samples, if there is no time column: "20 ms".',
    ),
    click.option("--timestamp", "timestamp", metavar="COLUMN", hidden=True),
    click.option("--time", "time_column", metavar="COLUMN", help="The time column."),
    click.option("--decimal-comma", is_flag=True, help="Numbers use a decimal comma."),
    click.option(
        "--no-header", is_flag=True, help="The first line is data, even if it looks like names."
    ),
    click.option(
        "--columns", "names", metavar="A,B,…", help="Names of the columns, if there is no header."
    ),
    click.option(
        "--delimiter", type=click.Choice(list(DELIMITERS)), help="Delimiter; found by default."
    ),
    click.option(
        "--format", "log_format", metavar="FORM", help=f"Format of the log: {', '.join(FORMATS)}."
    ),
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
        chosen = {name: options.pop(name) for name in _NAMES}
        with _saying() if says else contextlib.nullcontext():
            command(given=_given(**chosen), **options)

    for option in _OPTIONS:
        with_given = option(with_given)
    return with_given


#: The same for a command whose result does not tell how the lines were read.
saying_log_options = functools.partial(log_options, says=True)


@contextlib.contextmanager
def _saying() -> Iterator[None]:
    """What is heard of the logs that are read goes to standard error, once."""
    shown_before: set[str] = set()

    class Saying(logging.Handler):
        def emit(self, record: logging.LogRecord) -> None:
            text = record.getMessage()
            if text not in shown_before:
                echo(text, err=True)
            shown_before.add(text)

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
    chosen = {
        "format": log_format,
        "delimiter": delimiter,
        "columns": names and tuple(name.strip() for name in names.split(",")),
        "header": False if no_header else None,
        "decimal": "," if decimal_comma else None,
        "time": int(time) if time and time.isdecimal() else time,
        "interval": interval,
    }
    return {key: value for key, value in chosen.items() if value is not None}


def form_of(given: Given, bench: Bench | None, **more: object) -> LogFormat:
    """How a log is written: as the options say, else as the bench does, else found out."""
    known = (bench.log if bench is not None else None) or LogFormat()
    shown_before = {**given, **{key: value for key, value in more.items() if value is not None}}
    if known.time not in shown_before.get("columns", (known.time,)):
        shown_before.setdefault("time", None)  # it is of the bench's own columns
    try:
        return replace(known, **shown_before)
    except ParameterError as error:
        raise JetRulerError(f"--{error}") from None


def standard(ctx: click.Context, param: click.Parameter, path: str) -> str:
    """Any name of standard output is "-": what is piped on must not be replaced."""
    return standard_or(path)


_POWERSHELL = """\
Register-ArgumentCompleter -Native -CommandName %(prog_name)s -ScriptBlock {
    param($word, $line, $cursor)
    $env:COMP_WORDS = $line.ToString()
    $env:COMP_CWORD = $word
    $env:%(complete_var)s = "powershell_complete"
    try {
        %(prog_name)s | Where-Object { $_ } | ForEach-Object {
            $value, $about = $_ -split "`t", 2
            [System.Management.Automation.CompletionResult]::new(
                $value, $value, "ParameterValue", $about)
        }
    } finally {
        Remove-Item Env:COMP_WORDS, Env:COMP_CWORD, Env:%(complete_var)s
    }
}
"""


class PowerShell(ShellComplete):
    """A word and what it is, with a tab between them. For a file nothing is said: PowerShell then
    completes files itself."""

    name = "powershell"
    source_template = _POWERSHELL

    def get_completion_args(self) -> tuple[list[str], str]:
        """The whole words, and the one that is not finished."""
        # A backslash separates folders here.
        words = split_arg_string(os.environ["COMP_WORDS"].replace("\\", "\\\\"))[1:]
        incomplete = os.environ["COMP_CWORD"]
        if incomplete and words and words[-1] == incomplete:
            words.pop()
        return words, incomplete

    def get_completions(self, args: list[str], incomplete: str) -> list[CompletionItem]:
        """Those that are no files."""
        found = super().get_completions(args, incomplete)
        return [item for item in found if item.type == "plain"]

    def format_completion(self, item: CompletionItem) -> str:
        """One line."""
        return f"{item.value}\t{item.help or item.value}"


add_completion_class(PowerShell)


def complete(command: click.Command) -> None:
    """Have a command complete its channels from the bench file, and its files."""
    for param in command.params:
        if param.name in ("channel", "channels", "other") and command.name != "new":
            param.shell_complete = _channels  # type: ignore[method-assign]
        elif getattr(param, "metavar", None) in ("FILE", "[FILE]", "LOG", "LOG...", "WHERE"):
            param.shell_complete = _files  # type: ignore[method-assign]
        elif words := WORDS.get((command.name, param.name)):
            param.shell_complete = functools.partial(_words, words)  # type: ignore[method-assign]
    for inner in getattr(command, "commands", {}).values():
        complete(inner)


def _channels(ctx: click.Context, incomplete: str) -> list[CompletionItem]:
    try:
        bench = load(ctx.params.get("bench_path") or "bench.toml")
    except JetRulerError:
        return []
    channels: Any = bench.every_channel.values()
    return [CompletionItem(c.name, help=c.about) for c in channels if c.name.startswith(incomplete)]


def _laws() -> list[str]:
    from ..core.calibrate.fit import fitted_laws

    return fitted_laws()


def _arithmetics() -> list[str]:
    from ..core.firmware.naive import ARITHMETICS

    return list(ARITHMETICS)


def _targets() -> list[str]:
    from ..targets import TARGETS

    return list(TARGETS)


def _kinds() -> list[str]:
    from ..benchfile.starter import KINDS

    return list(KINDS)


def _chapters() -> list[str]:
    from ..demo import CHAPTERS

    return [chapter.name for chapter in CHAPTERS]


def _help() -> list[str]:
    from . import COMMANDS
    from .guide import page_names

    return [*page_names(), *COMMANDS]


#: The words of an option or argument, by command and parameter.
WORDS: dict[tuple[str | None, str | None], Callable[[], list[str]]] = {
    ("fit", "law"): _laws,
    ("explain", "arith"): _arithmetics,
    ("explain", "language"): _targets,
    ("export", "language"): lambda: [*_targets(), "numbers"],
    ("new", "channels"): _kinds,
    ("demo", "chapters"): _chapters,
    ("help", "name"): _help,
}


def _words(
    words: Callable[[], list[str]], ctx: click.Context, incomplete: str
) -> list[CompletionItem]:
    """Those that begin so; behind an equals sign, as in `bean=ntc`, what begins there."""
    head, equals, part = incomplete.rpartition("=")
    return [CompletionItem(head + equals + w) for w in words() if w.startswith(part)]


def _files(ctx: click.Context, incomplete: str) -> list[CompletionItem]:
    return [CompletionItem(incomplete, type="file")]
