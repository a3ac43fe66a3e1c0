"""Where bytes come from: standard input, a file, a port, the stand-in board, or nowhere."""

from __future__ import annotations

import contextlib
import os
import queue
import re
import select
import socket
import threading
import time
from collections.abc import Iterable, Sequence
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol
from urllib.parse import urlsplit

from ..core.bench.bench import LogFormat
from ..core.error_types import JetRulerError
from ..files import note_read
from ..samples.source import PEEKED, LogSource, is_utf_16

if TYPE_CHECKING:
    from ..demo.board import Board


class StreamError(JetRulerError):
    """A stream that cannot be used; the sentence says why and what to do."""


class SourceGone(Exception):  # noqa: N818 - an event more than an error
    """A port that was there is gone, or is not there yet; it may return."""


class SourceCut(Exception):  # noqa: N818 - an event, not an error
    """What comes next does not go on where what came before ended: a file that was replaced."""


class SourceEnded(Exception):  # noqa: N818 - an event, not an error
    """A stream that is over."""


#: The most that is read at once, and the longest that a read waits.
CHUNK, WAIT = 1 << 18, 0.05
#: The longest that the first bytes of a pipe are waited for, to see their header.
PEEK = 0.5
#: Seconds for a connection to be made, and for a command to be taken.
CONNECTING, WRITING = 5.0, 0.25
WINDOWS_PORT = re.compile(r"(\\\\\.\\)?com\d+", re.IGNORECASE)

#: Lines of a list that are looked at first, and handed on at once.
HEAD = 512


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
        """What there is, after a short wait; empty for nothing yet. Raises `SourceGone`,
        `SourceCut` and `SourceEnded`."""

    def write(self, data: bytes) -> None:
        """Send. Raises `OSError` where that does not work."""

    def close(self) -> None:
        """Let go."""


class Base:
    """What sources share."""

    name = ""
    lossless = False
    joined_late = False

    def open(self) -> None:
        """Begin."""

    def write(self, data: bytes) -> None:
        raise OSError(f"{self.name} takes no commands")

    def close(self) -> None:
        """Let go."""


class StandardInput(Base):
    """Standard input, until it ends. A thread waits for it: not every system can be asked whether a
    pipe or a console has something to read."""

    name, lossless = "standard input", True

    def __init__(self) -> None:
        self._pieces: queue.Queue[bytes] = queue.Queue(2)
        self._head = b""
        self._closed = threading.Event()
        # A descriptor of its own: what this thread waits for is nobody else's later input.
        waiter = threading.Thread(
            target=self._work, args=(os.dup(0),), name="jetruler-stdin", daemon=True
        )
        waiter.start()

    def _work(self, descriptor: int) -> None:
        with contextlib.suppress(OSError), open(descriptor, "rb", buffering=0) as file:
            while data := file.read(CHUNK):
                self._put(data)
        self._put(b"")

    def _put(self, data: bytes) -> None:
        while not self._closed.is_set():
            with contextlib.suppress(queue.Full):
                return self._pieces.put(data, timeout=WAIT)

    def peek(self) -> bytes:
        """What comes first, after a short wait; it is read again later."""
        with contextlib.suppress(queue.Empty):
            self._head = self._head or self._pieces.get(timeout=PEEK)
            if not self._head:
                self._put(b"")  # it has ended, which `read` tells
        return self._head

    def read(self) -> bytes:
        if self._head:
            head, self._head = self._head, b""
            return head
        try:
            data = self._pieces.get(timeout=WAIT)
        except queue.Empty:
            return b""
        if not data:
            raise SourceEnded
        return data

    def close(self) -> None:
        self._closed.set()


class GrowingFile(Base):
    """A file from its start; with `follow` also what is added later, and what replaces it."""

    lossless = True

    def __init__(self, path: str, follow: bool) -> None:
        self.name, self._path, self.follows = path, Path(path), follow
        try:
            note_read(self._path)
            self._file = self._path.open("rb")
        except OSError as error:
            why = f"{error.strerror}"
            raise StreamError(f"{path}: cannot be read: {why[0].lower()}{why[1:]}") from None
        # A file that is whole may be packed, and end its lines as old systems did.
        self._whole = None
        if not follow:
            self._file.close()
            self._whole = LogSource(path)
        elif is_utf_16(self._file.peek(PEEKED)):
            self._file.close()
            raise StreamError(f"{path}: expected UTF-8 in a file that grows, found UTF-16")
        self._lone_cr: bool | None = None

    def peek(self) -> bytes:
        """What comes first; it is read again later."""
        head = self._next(CHUNK)
        if self._whole is None:
            self._file.seek(0)
        else:
            self._whole.__exit__()
            self._whole = LogSource(self.name)
        is_all = len(head) < CHUNK and not self.follows
        return head + b"\n" if is_all else head  # the last line of a file may lack its end

    def _next(self, size: int) -> bytes:
        if self._whole is None:
            return self._file.read(size)
        data = self._whole.read(size)
        if self._lone_cr is None:
            self._lone_cr = b"\r" in data and b"\n" not in data
        return data.replace(b"\r", b"\n") if self._lone_cr else data

    def read(self, size: int = CHUNK) -> bytes:
        """What there is, up to this many bytes. Raises `SourceEnded`."""
        data = self._next(size)
        if data:
            return data
        if not self.follows:
            raise SourceEnded
        time.sleep(WAIT)
        if self._is_another():
            raise SourceCut
        return b""

    def _is_another(self) -> bool:
        """Whether the file was replaced, or begun again, and is read from its start now."""
        with contextlib.suppress(OSError):  # gone for a moment while it is replaced
            now, held = self._path.stat(), os.fstat(self._file.fileno())
            if (now.st_dev, now.st_ino) != (held.st_dev, held.st_ino) and self._path.is_file():
                following = self._path.open("rb")
                self._file.close()
                self._file = following
                return True
            if now.st_size < self._file.tell():
                self._file.seek(0)
                return True
        return False

    def close(self) -> None:
        self._file.close()
        if self._whole is not None:
            self._whole.__exit__()


class Lined(Base):
    """Lines that something in Python yields, as they come."""

    name, lossless, joined_late = "the lines", True, False

    def __init__(self, lines: Iterable[str]) -> None:
        # Of a list the first lines are known; of what is still to come, the first alone.
        self.is_whole = isinstance(lines, Sequence)
        self._many = HEAD if self.is_whole else 1
        self._lines, self._seen = iter(lines), b""

    def peek(self) -> bytes:
        """The first lines, which are read again."""
        self._seen = self._seen or self._next(self._many)
        return self._seen

    def _next(self, many: int) -> bytes:
        return b"".join(line.rstrip("\r\n").encode() + b"\n" for line in islice(self._lines, many))

    def read(self) -> bytes:
        """The next line, or lines. Raises `SourceEnded`."""
        data, self._seen = self._seen or self._next(self._many), b""
        if not data:
            raise SourceEnded
        return data


class Socket(Base):
    """A TCP port: socket://host:port."""

    def __init__(self, url: str) -> None:
        self.name = url
        parts = urlsplit(url)
        try:
            self._address = (parts.hostname or "localhost", parts.port or 0)
        except ValueError:
            self._address = ("", 0)
        if not self._address[1]:
            raise StreamError(
                f"expected a host and a port, as in socket://localhost:5000, found {url}"
            )
        self._socket: socket.socket | None = None

    def open(self) -> None:
        self.close()
        try:
            self._socket = socket.create_connection(self._address, timeout=CONNECTING)
            self._socket.settimeout(WRITING)
        except OSError as error:
            raise SourceGone(_reason(error)) from None

    def read(self) -> bytes:
        try:
            if self._socket is None:
                raise SourceGone("not connected")
            if not select.select([self._socket], [], [], WAIT)[0]:
                return b""
            data = self._socket.recv(CHUNK)
        except (OSError, ValueError) as error:  # ValueError: closed meanwhile
            raise SourceGone(_reason(error)) from None
        if not data:
            raise SourceGone("the other side closed it")
        return data

    def write(self, data: bytes) -> None:
        connected = self._socket
        if connected is None:
            raise OSError("not connected")
        try:
            connected.sendall(data)
        except TimeoutError:
            raise OSError("it accepts nothing: writing timed out") from None

    def close(self) -> None:
        connected, self._socket = self._socket, None
        if connected is not None:
            connected.close()


class Port(Base):
    """A serial port, or any URL that pySerial knows."""

    def __init__(self, url: str, baud: int) -> None:
        self.name, self._baud = url, baud
        self.joined_late = "://" not in url
        self._port: Any = None
        try:
            import serial
        except ImportError:
            raise StreamError(
                f"{url}: serial ports are read with pySerial, which is not installed; "
                "pip install pyserial"
            ) from None
        try:  # whether its URL can be understood at all
            serial.serial_for_url(url, do_not_open=True)
        except (ValueError, serial.SerialException) as error:
            raise StreamError(f"{url}: {error}") from None

    def open(self) -> None:
        import serial

        self.close()
        try:
            self._port = serial.serial_for_url(
                self.name, self._baud, timeout=WAIT, write_timeout=WRITING
            )
        except ValueError as error:  # a URL that no handler knows
            raise StreamError(f"{self.name}: {error}") from None
        except (OSError, serial.SerialException) as error:
            raise SourceGone(_reason(error)) from None

    def read(self) -> bytes:
        import serial

        try:
            data: bytes = self._port.read(1)
            return data + self._port.read(self._port.in_waiting) if data else b""
        except (OSError, AttributeError, ValueError, TypeError, serial.SerialException) as error:
            raise SourceGone(_reason(error)) from None

    def write(self, data: bytes) -> None:
        import serial

        port = self._port
        if port is None:
            raise OSError("not connected")
        try:
            port.write(data)
        except serial.SerialTimeoutException:
            raise OSError("it accepts nothing: writing timed out") from None
        # The reading thread may close the port meanwhile, which pySerial tells in many ways.
        except (OSError, AttributeError, TypeError, ValueError) as error:
            raise OSError(_reason(error)) from None

    def close(self) -> None:
        port, self._port = self._port, None
        if port is not None:
            with contextlib.suppress(Exception):  # a port that is gone cannot be closed either
                port.close()


class StandIn(Base):
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


class Nowhere(Base):
    """No stream at all: an empty JSON object now and then, for values put in by hand."""

    name = "none"

    def read(self) -> bytes:
        time.sleep(WAIT)
        return b"{}\n"


def source_named(name: str, form: LogFormat, follow: bool) -> Source:
    """The source that a name represents: "-", "demo", "none", a file, a port or a URL."""
    if follow and name in ("-", "demo", "none"):
        raise StreamError(f"--follow: expected --source FILE, found {name!r}")
    if name == "-":
        return StandardInput()
    if name == "demo":
        from ..demo.board import Board

        return StandIn(Board(speed=10.0), rate=20.0)
    if name == "none":
        return Nowhere()
    if "://" not in name and (follow or Path(name).is_file()):
        return GrowingFile(name, follow)
    if "://" not in name and Path(name).is_dir():
        raise StreamError(f"{name}: expected a file, a port or a URL, found a folder")
    if name.startswith("socket://"):
        return Socket(name)
    if "://" not in name and not Path(name).exists() and not WINDOWS_PORT.fullmatch(name):
        raise StreamError(
            f"{name}: expected -, demo, none, a file, a port, or a URL "
            "(socket://localhost:5000), found none"
        )
    return Port(name, form.baud)


def reached(name: str, form: LogFormat) -> Source:
    """Where commands go: a port or a URL, opened now. Raises `StreamError`."""
    wire = Socket(name) if name.startswith("socket://") else Port(name, form.baud)
    try:
        wire.open()
    except SourceGone as gone:
        raise StreamError(f"{name}: {gone}") from None
    return wire


def _reason(error: BaseException) -> str:
    """Why, in the operating system's words where it has some."""
    inner = error if isinstance(error, OSError) and error.strerror else error.__context__
    if isinstance(inner, OSError) and inner.strerror:
        return inner.strerror.lower()
    return str(error) or type(error).__name__


def takes_commands(source: Source) -> bool:
    """Whether a source is a board, which takes commands as well."""
    return isinstance(source, Port | Socket | StandIn)
