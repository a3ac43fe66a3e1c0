"""Where bytes come from: standard input, a file, a port, the stand-in board, or nowhere."""

from __future__ import annotations

import contextlib
import os
import select
import sys
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

from ..core.model.stream import Stream
from .stream_errors import SourceEnded, SourceGone, StreamError

if TYPE_CHECKING:
    from ..demo.stand_in import Board

#: The most that is read at once, and the longest that a read waits.
CHUNK, WAIT = 1 << 18, 0.05
#: The longest that the first bytes of a pipe are waited for, to see their header.
PEEK = 0.5


class Source(Protocol):
    """Bytes in, and for those that have a way back, bytes out."""

    name: str
    lossless: bool
    """Whether it waits while nobody reads: nothing is lost by being slow."""
    joined_late: bool
    """Whether its first line may be the end of one that began before."""

    def open(self) -> None:
        """Begin, or begin again. Raises `SourceGone` where it is not there."""

    def read(self) -> bytes:
        """What there is, after a short wait; empty for nothing yet. Raises `SourceGone` and
        `SourceEnded`."""

    def write(self, data: bytes) -> None:
        """Send. Raises `OSError` where that does not work."""

    def close(self) -> None:
        """Let go."""


class _Base:
    name = ""
    lossless = False
    joined_late = False

    def open(self) -> None:
        """Begin."""

    def write(self, data: bytes) -> None:
        raise OSError(f"{self.name} takes no commands")

    def close(self) -> None:
        """Let go."""


class StandardInput(_Base):
    """Standard input, until it ends."""

    name, lossless = "standard input", True

    def __init__(self) -> None:
        self._head = b""

    def peek(self) -> bytes:
        """What comes first, after a short wait; it is read again later."""
        if select.select([0], [], [], PEEK)[0]:
            self._head = os.read(0, CHUNK)
        return self._head

    def read(self) -> bytes:
        if self._head:
            head, self._head = self._head, b""
            return head
        if not select.select([0], [], [], WAIT)[0]:
            return b""
        data = os.read(0, CHUNK)
        if not data:
            raise SourceEnded
        return data


class GrowingFile(_Base):
    """A file from its start; with `follow` also what is added later, and what replaces it."""

    lossless = True

    def __init__(self, path: str, follow: bool) -> None:
        self.name, self._path, self._follow = path, Path(path), follow
        try:
            self._file = self._path.open("rb")
        except OSError as error:
            why = f"{error.strerror}"
            raise StreamError(f"{path}: cannot be read: {why[0].lower()}{why[1:]}") from None

    def peek(self) -> bytes:
        """What comes first; it is read again later."""
        head = self._file.read(CHUNK)
        self._file.seek(0)
        is_all = len(head) < CHUNK and not self._follow
        return head + b"\n" if is_all else head  # the last line of a file may lack its end

    def read(self) -> bytes:
        data = self._file.read(CHUNK)
        if data:
            return data
        if not self._follow:
            raise SourceEnded
        time.sleep(WAIT)
        with contextlib.suppress(OSError):  # gone for a moment while it is replaced
            now, held = self._path.stat(), os.fstat(self._file.fileno())
            if now.st_ino != held.st_ino:
                self._file.close()
                self._file = self._path.open("rb")
            elif now.st_size < self._file.tell():  # begun again
                self._file.seek(0)
        return b""

    def close(self) -> None:
        self._file.close()


class Port(_Base):
    """A serial port, or any URL that pySerial knows."""

    def __init__(self, url: str, baud: int) -> None:
        self.name, self._baud = url, baud
        self.joined_late = "://" not in url
        self._port: Any = None
        self._descriptor: int | None = None

    def open(self) -> None:
        import serial

        self.close()
        try:
            self._port = serial.serial_for_url(
                self.name, self._baud, timeout=WAIT, write_timeout=0.25
            )
        except ValueError as error:  # a URL that no handler knows
            raise StreamError(f"{self.name}: {error}") from None
        except (OSError, serial.SerialException) as error:
            raise SourceGone(_reason(error)) from None
        try:  # where there is a descriptor, waiting for it is quicker than asking again
            self._descriptor = int(self._port.fileno()) if sys.platform != "win32" else None
        except (OSError, AttributeError):
            self._descriptor = None

    def check(self) -> None:
        """Whether its URL can be understood at all. Raises `StreamError`."""
        import serial

        try:
            serial.serial_for_url(self.name, do_not_open=True)
        except (ValueError, serial.SerialException) as error:
            raise StreamError(f"{self.name}: {error}") from None

    def reach(self) -> None:
        """Open it now. Raises `StreamError` where it is not there."""
        try:
            self.open()
        except SourceGone as gone:
            raise StreamError(f"{self.name}: {gone}") from None

    def read(self) -> bytes:
        import serial

        try:
            if self._descriptor is None:
                data: bytes = self._port.read(1)
                return data + self._port.read(self._port.in_waiting) if data else data
            if not select.select([self._descriptor], [], [], WAIT)[0]:
                return b""
            data = os.read(self._descriptor, CHUNK)
        except BlockingIOError:
            return b""
        except (OSError, ValueError, TypeError, serial.SerialException) as error:
            raise SourceGone(_reason(error)) from None
        if not data:
            raise SourceGone("the other side has closed it")
        return data

    def write(self, data: bytes) -> None:
        import serial

        port = self._port
        if port is None:
            raise OSError("not connected")
        try:
            port.write(data)
        except serial.SerialTimeoutException:
            raise OSError("it takes nothing: writing timed out") from None
        # The reading thread may close the port meanwhile, which pySerial tells in many ways.
        except (OSError, AttributeError, TypeError, ValueError) as error:
            raise OSError(_reason(error)) from None

    def close(self) -> None:
        port, self._port, self._descriptor = self._port, None, None
        if port is not None:
            with contextlib.suppress(Exception):  # a port that is gone cannot be closed either
                port.close()


class StandIn(_Base):
    """The stand-in board in this very program."""

    name = "demo"

    def __init__(self, board: Board, rate: float) -> None:
        self._board, self._every = board, 1.0 / rate
        self._next = 0.0

    def open(self) -> None:
        self._next = time.monotonic()

    def read(self) -> bytes:
        wait = self._next - time.monotonic()
        if wait > WAIT:
            time.sleep(WAIT)
            return b""
        time.sleep(max(0.0, wait))
        self._next += self._every
        return self._board.step(self._every)

    def write(self, data: bytes) -> None:
        self._board.take(data)


class Nowhere(_Base):
    """No stream at all: an empty JSON object now and then, for values put in by hand."""

    name = "none"

    def read(self) -> bytes:
        time.sleep(WAIT)
        return b"{}\n"


def source_named(name: str, stream: Stream, follow: bool) -> Source:
    """The source that a name stands for: "-", "demo", "none", a file, a port or a URL."""
    if follow and name in ("-", "demo", "none"):
        raise StreamError(f"--follow: {name!r} is no file; name one with --source FILE")
    if name == "-":
        return StandardInput()
    if name == "demo":
        from ..demo.stand_in import Board

        return StandIn(Board(speed=10.0), rate=20.0)
    if name == "none":
        return Nowhere()
    if "://" not in name and (follow or Path(name).is_file()):
        return GrowingFile(name, follow)
    if "://" not in name and Path(name).is_dir():
        raise StreamError(f"{name}: this is a folder; name a file, a port or a URL")
    if "://" not in name and not Path(name).exists() and not name.upper().startswith("COM"):
        raise StreamError(
            f"{name}: there is no such file or port; -, demo, none, a file, a port, or a URL "
            "(socket://localhost:5000) is right"
        )
    port = Port(name, stream.baud)
    port.check()
    return port


def _reason(error: BaseException) -> str:
    """Why, in the operating system's words where it has some."""
    inner = error if isinstance(error, OSError) and error.strerror else error.__context__
    if isinstance(inner, OSError) and inner.strerror:
        return inner.strerror.lower()
    return str(error) or type(error).__name__
