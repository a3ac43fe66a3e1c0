"""The command line: each command is loaded when it is called; no computation here."""

from __future__ import annotations

import atexit
import contextlib
import errno
import gc
import logging
import os
import re
import sys
from importlib import import_module
from typing import Any, NoReturn

import click

from .. import __version__
from ..files import guarded
from ..system import on_ending, spare_addresses
from .streams import console, detach_stdout, settle

#: Each command: its module here, and its line in `--help` (so that help loads no module).
COMMANDS = {
    "demo": ("guide", "Run the tour on the bundled data, by chapters."),
    "new": ("look", "Write a bench file with comments to start from."),
    "look": ("look", "Show what raw samples do: ends, noise, rails, range in use."),
    "convert": ("convert", "Convert logs of raw values to engineering values, with flags."),
    "explain": ("explain", "Work out one reading, from a count or for a value."),
    "check": ("look", "Check the bench file, and compare it with a log."),
    "choose": ("choose", "Choose the resistor, reference or amplifier for a sensor."),
    "fit": ("calibrate", "Fit a law to marks, with residuals."),
    "compare": ("calibrate", "Compare two sensors, or one and a reference: bias, verdict."),
    "live": ("live", "Show a stream as values while it runs; trips and drives act."),
    "export": ("export", "Export the conversion as C, Python or structured text."),
    "report": ("convert", "Write a page to hand in: circuits, solutions, budgets."),
    "draw": ("draw", "Draw a ruler, a curve, stages, a log, a circuit: PNG or SVG."),
    "help": ("guide", "Show a page of the documentation, a law or a finding."),
}

#: Packages that not every computer has, and how to get them.
OPTIONAL = {
    "serial": "pip install pyserial",
    "pyarrow": "pip install pyarrow (it reads logs, marks and points, and writes logs; there is "
    "none for 32-bit ARM, where only a 64-bit system helps)",
    "textual": "pip install textual, or add --plain",
}

#: How a shortage of memory is said where it is no `MemoryError`.
SHORT_OF_MEMORY = ("failed to map segment", "can't start new thread", "annot allocate memory")

#: The variable by which a shell asks for completions.
COMPLETING = "_JETRULER_COMPLETE"

#: Exit codes: done; done, and something found wrong; could not be done; Ctrl-C.
OK, FOUND, FAILED, INTERRUPTED = 0, 1, 2, 130


class _Commands(click.Group):
    """A group that knows its commands by name and loads one when it is called."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        if name not in COMMANDS:
            return None
        home = import_module(f".{COMMANDS[name][0]}", __name__)
        command: click.Command = getattr(home, f"{name}_command")
        if COMPLETING in os.environ:
            from .options import complete

            complete(command)
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl([(name, about) for name, (_, about) in COMMANDS.items()])

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and args[0] not in COMMANDS and not args[0].startswith("-"):
            from ..core.ruler.units import nearest

            ctx.fail(f"expected a command, found {args[0]!r} ({nearest(args[0], COMMANDS)})")
        return super().resolve_command(ctx, args)

    def invoke(self, ctx: click.Context) -> Any:
        try:
            return super().invoke(ctx)
        except BrokenPipeError:
            raise _ClosedPipe from None  # Click itself would end with exit code 1, silently


#: Characters of a line of an error message.
LONGEST_LINE = 2000


class _ClosedPipe(Exception):  # noqa: N818 - an event more than an error
    """Whoever read standard output has stopped reading."""


@click.group(cls=_Commands, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, prog_name="jetruler")
def cli() -> None:
    """Jet Ruler turns raw values into engineering values and shows its work.

    Every command takes --help. Commands read the bench file bench.toml in the current folder
    unless -b names another.
    """


def main(args: list[str] | None = None) -> NoReturn:
    """Run the command line. Whatever goes wrong ends in one sentence and an exit code."""
    try:
        _main(args)
    except SystemExit as stop:  # also one that a signal raised while an error was being said
        _leave(stop.code if isinstance(stop.code, int) else FAILED)


def _main(args: list[str] | None) -> NoReturn:
    os.environ.setdefault("ARROW_DEFAULT_MEMORY_POOL", "system")  # as fast, and a fifth smaller
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")  # to look for them takes 40 ms
    spare_addresses()
    on_ending(_terminate)
    atexit.register(gc.freeze)  # no search for cycles in what ends anyway: 70 ms
    settle()
    # A sign that a font has not is drawn as a box: nothing that anybody could do about.
    logging.getLogger("matplotlib").setLevel(logging.ERROR)
    if COMPLETING in os.environ:
        import_module(".options", __name__)
    try:
        with guarded():
            cli.main(args, prog_name="jetruler", standalone_mode=False)
        sys.stdout.flush()
    except click.exceptions.Exit as stop:
        sys.exit(stop.exit_code)
    except click.ClickException as error:
        if type(error).__name__ == "NoArgsIsHelpError":  # since Click 8.2; its text is the help
            click.echo(error.format_message(), err=True)
            sys.exit(FAILED)
        _fail(_usage(error))
    except (click.Abort, KeyboardInterrupt):
        print("jetruler: stopped; no half-written file is left", file=sys.stderr)
        sys.exit(INTERRUPTED)
    except (_ClosedPipe, BrokenPipeError):
        detach_stdout()
        _fail("standard output: the reader closed the pipe before all was written")
    except MemoryError:
        _fail("this computer has not enough memory")
    except Exception as error:
        _print_error(error)
    sys.exit(OK)


def _usage(error: click.ClickException) -> str:
    """What is wrong on a command line, in the form of all messages."""
    from ..core.ruler.units import nearest

    text, ctx = error.format_message(), getattr(error, "ctx", None)
    if isinstance(error, click.BadOptionUsage):
        some, found = ("a value", "none") if "requires" in text else ("no value", "one")
        return f"{error.option_name}: expected {some}, found {found}"
    if not isinstance(ctx, click.Context):
        return text
    place = ctx.command_path.removeprefix("jetruler ")
    match error:
        case click.NoSuchOption(option_name=option):
            known = [o for p in ctx.command.params for o in p.opts if o.startswith("--")]
            close = nearest(option, known)
            hint = close if close.startswith("did") else f"{ctx.command_path} --help lists them"
            return f"{place}: expected one of its options, found {option} ({hint})"
        case click.MissingParameter(param=click.Parameter() as missing):
            what = missing.opts[-1] if isinstance(missing, click.Option) else ""
            return f"{place}: expected {what or missing.human_readable_name}, found nothing"
        case click.BadParameter(param=click.Parameter() as param, message=said):
            value = re.match(r"'.*?'|\S+(?= is not in)", said)
            found = value.group() if value else said
            return f"{param.opts[-1]}: expected {_wanted(param.type)}, found {found}"
    # Click has no class of its own for these two.
    if extra := re.match(r"Got unexpected extra arguments? \((.*)\)", text):
        hint = " (a bench file goes after -b)" if extra[1].endswith(".toml") else ""
        return f"{place}: expected no more words, found {extra[1]!r}{hint}"
    if isinstance(ctx.command, click.Group) and text.startswith("No such command"):
        commands = ", ".join(ctx.command.list_commands(ctx))
        return f"{place}: expected one of {commands}, found {text.split()[-1].rstrip('.')}"
    return text


def _wanted(kind: Any) -> str:
    """What an option takes."""
    if isinstance(kind, click.Choice):
        return f"one of {', '.join(map(str, kind.choices))}"
    number = "a whole number" if kind.name.startswith("integer") else "a number"
    low, high = getattr(kind, "min", None), getattr(kind, "max", None)
    if high is None:
        return number if low is None else f"{number} from {low}"
    return f"{number} from {low} to {high}"


def _print_error(error: Exception) -> NoReturn:
    """Say an error in a sentence. What nobody expected is a bug, and says so."""
    from ..core.error_types import JetRulerError

    if isinstance(error, JetRulerError):
        _fail(str(error))
    if isinstance(error, OSError) and error.strerror:
        place = f"{error.filename}: " if error.filename else "writing the output: "
        if error.errno == errno.EBADF:
            detach_stdout()
        _fail(f"{place}{error.strerror[0].lower()}{error.strerror[1:]}")
    if any(sign in str(error) for sign in SHORT_OF_MEMORY):
        _fail("this computer has not enough memory")
    missing = error.name or "" if isinstance(error, ImportError) else ""
    name = missing.partition(".")[0]
    if name and name != "jetruler":
        how = OPTIONAL.get(name, f"pip install {name}")
        _fail(f"{name} is not installed, and this needs it: {how}")
    if isinstance(error, OverflowError):
        _fail("a number is too large to compute with")
    if os.environ.get("JETRULER_TRACEBACK"):
        from rich.traceback import Traceback

        console(err=True).print(Traceback.from_exception(type(error), error, error.__traceback__))
    _fail(
        f"an error in Jet Ruler itself, please report it: {type(error).__name__}: {error} "
        "(JETRULER_TRACEBACK=1 shows where)"
    )


def _fail(message: str) -> NoReturn:
    from ..core.error_types import printable

    text = "\n".join(printable(line, LONGEST_LINE) for line in message.split("\n"))
    print(f"jetruler: {text}", file=sys.stderr)
    sys.exit(FAILED)


def _leave(code: int) -> NoReturn:
    """End. A program that had a stream ends at once: the usual way waits for threads, and one of
    them may wait in a pipe for what never comes."""
    if f"{__package__.rpartition('.')[0]}.live.session" in sys.modules:
        with contextlib.suppress(OSError, ValueError):
            sys.stdout.flush()
            sys.stderr.flush()
        os._exit(code)
    sys.exit(code)


def _terminate(signum: int, frame: object) -> NoReturn:
    """A polite kill unwinds like an error does, so that unfinished files are removed."""
    sys.exit(128 + signum)
