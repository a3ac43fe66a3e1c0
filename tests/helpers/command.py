"""The command line in this process: the real `main`, on real file descriptors."""

from __future__ import annotations

import os
import signal
import sys
import threading
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryFile
from typing import Any
from unittest import mock

from jetruler import cli
from jetruler.cli.streams import PLAIN

#: The signals that a command may handle in its own way.
SIGNALS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP, signal.SIGQUIT, signal.SIGTSTP)


#: Of the standard streams.
ENCODING = os.environ.get("PYTHONIOENCODING", "utf-8")


class Said(str):
    """A text in the encoding of the streams: what is looked for in it takes the same form."""

    def __contains__(self, what: object) -> bool:
        return super().__contains__(str(what).encode(ENCODING, PLAIN).decode(ENCODING))


@dataclass(frozen=True)
class Done:
    """What a command left behind: its exit code and all that it wrote."""

    returncode: int
    stdout: str
    stderr: str
    raw: bytes
    """Standard output as it came."""


def called(
    *args: str, home: Path, stdin: str | bytes | None = None, encoding: str = ENCODING
) -> Done:
    """Call `jetruler` with these arguments in the folder `home`, its streams in this encoding.

    A process of its own is started by the tests that are about one: pipes, signals, start-up.
    """
    with ExitStack() as stack:
        out, err = (stack.enter_context(TemporaryFile()) for _ in "12")
        reading = stack.enter_context(_fed(stdin))
        stack.enter_context(_in_place(encoding, reading, out.fileno(), err.fileno()))
        stack.enter_context(_here(home))
        # A process may end while a thread still waits in a pipe; this one goes on.
        stack.enter_context(mock.patch.object(cli, "_leave", sys.exit))
        try:
            cli.main(list(args))
        except SystemExit as stop:
            code = stop.code
        assert isinstance(code, int)
        sys.stdout.flush()
        sys.stderr.flush()
        out.seek(0)
        err.seek(0)
        raw, said = out.read(), err.read()
        return Done(code, Said(raw.decode(encoding, "replace")), Said(said.decode(encoding)), raw)


@contextmanager
def _fed(text: str | bytes | None) -> Iterator[int]:
    """A descriptor from which the text can be read, through a pipe; nothing, if it is None."""
    if text is None:
        yield (nothing := os.open(os.devnull, os.O_RDONLY))
        os.close(nothing)
        return
    ours, theirs = os.pipe()

    def feed() -> None:
        try:
            with os.fdopen(theirs, "wb") as pipe:
                pipe.write(text.encode() if isinstance(text, str) else text)
        except BrokenPipeError:
            pass  # a command that was refused reads nothing

    feeder = threading.Thread(target=feed)
    feeder.start()
    yield ours
    os.close(ours)
    feeder.join()


@contextmanager
def _in_place(encoding: str, *descriptors: int) -> Iterator[None]:
    """Put these in the place of the descriptors 0, 1 and 2, and of the streams on them."""
    streams: tuple[Any, Any, Any] = (sys.stdin, sys.stdout, sys.stderr)
    sys.stdout.flush()
    sys.stderr.flush()
    kept = [os.dup(place) for place in range(3)]
    for place, descriptor in enumerate(descriptors):
        os.dup2(descriptor, place)
    sys.stdin, sys.stdout, sys.stderr = (
        os.fdopen(place, mode, encoding=encoding, closefd=False)
        for place, mode in enumerate(("r", "w", "w"))
    )
    try:
        yield
    finally:
        sys.stdin, sys.stdout, sys.stderr = streams
        for place, descriptor in enumerate(kept):
            os.dup2(descriptor, place)
            os.close(descriptor)


@contextmanager
def _here(home: Path) -> Iterator[None]:
    """Work in a folder, and leave folder and signals as they were."""
    folder, handlers = Path.cwd(), [signal.getsignal(number) for number in SIGNALS]
    os.chdir(home)
    try:
        yield
    finally:
        os.chdir(folder)
        for number, handler in zip(SIGNALS, handlers, strict=True):
            signal.signal(number, handler)
