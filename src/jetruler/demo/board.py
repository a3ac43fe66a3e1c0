"""Serves the stand-in board: on a pseudo-terminal, a TCP port, or standard output."""

from __future__ import annotations

import argparse
import contextlib
import os
import select
import socket
import time
from typing import Protocol

from .stand_in import Board, Fault


class _Wire(Protocol):
    """What the board is connected to."""

    def send(self, data: bytes) -> None: ...

    def received(self, wait: float) -> bytes: ...

    def cut(self) -> None: ...


class _Descriptor:
    """A pseudo-terminal or standard output; what nobody reads in time is lost, as on a wire."""

    def __init__(self, descriptor: int, reads: bool) -> None:
        self._descriptor, self._reads = descriptor, reads
        if reads:
            os.set_blocking(descriptor, False)

    def send(self, data: bytes) -> None:
        with contextlib.suppress(BlockingIOError):
            os.write(self._descriptor, data)

    def received(self, wait: float) -> bytes:
        if not self._reads:
            time.sleep(wait)
            return b""
        if not select.select([self._descriptor], [], [], wait)[0]:
            return b""
        with contextlib.suppress(BlockingIOError):
            return os.read(self._descriptor, 4096)
        return b""

    def cut(self) -> None:
        """It cannot be pulled out."""


class _Tcp:
    """One client at a time."""

    def __init__(self, port: int) -> None:
        self._server = socket.create_server(("127.0.0.1", port))
        self._client: socket.socket | None = None
        self.port = int(self._server.getsockname()[1])

    def send(self, data: bytes) -> None:
        if self._client is not None:
            try:
                self._client.sendall(data)
            except OSError:
                self.cut()

    def received(self, wait: float) -> bytes:
        watched = self._client or self._server
        if not select.select([watched], [], [], wait)[0]:
            return b""
        if self._client is None:
            self._client = self._server.accept()[0]
            return b""
        try:
            data = self._client.recv(4096)
        except OSError:
            data = b""
        if not data:
            self.cut()
        return data

    def cut(self) -> None:
        if self._client is not None:
            self._client.close()
        self._client = None


def main() -> None:
    """Serve until stopped."""
    parser = argparse.ArgumentParser(prog="python -m jetruler.demo.board", description=__doc__)
    where = parser.add_mutually_exclusive_group(required=True)
    where.add_argument("--pty", action="store_true", help="a pseudo-terminal; its name is printed")
    where.add_argument("--tcp", type=int, metavar="PORT", help="a TCP port; 0 takes a free one")
    where.add_argument("--stdout", action="store_true", help="standard output")
    parser.add_argument("--rate", type=float, default=5.0, help="lines a second (5)")
    parser.add_argument("--speed", type=float, default=1.0, help="how fast the roast goes (1)")
    parser.add_argument("--seed", type=int, default=1, help="of the noise (1)")
    parser.add_argument("--lines", type=int, help="stop after so many")
    parser.add_argument("--fail", action="append", default=[], metavar="FAULT",
                        help="open:ch2@10+5, stuck:ch0@3, torn@5, noise@5+1, silence@9+3, "
                        "disconnect@20: at so many seconds, for so many")  # fmt: skip
    given = parser.parse_args()
    try:
        faults = tuple(Fault.read(text) for text in given.fail)
    except ValueError as error:
        parser.error(f"--fail {error}")
    if not (given.rate > 0 and given.speed > 0):
        parser.error("--rate and --speed are above 0")
    board = Board(given.seed, given.speed, faults)
    wire: _Wire
    if given.pty:
        try:
            import tty
        except ImportError:
            parser.error("--pty: there are no pseudo-terminals on this system; --tcp 0 is right")
        ours, theirs = os.openpty()  # theirs stays open, so that a reader may come and go
        tty.setraw(theirs)
        print(os.ttyname(theirs), flush=True)
        wire = _Descriptor(ours, reads=True)
    elif given.tcp is not None:
        wire = tcp = _Tcp(given.tcp)
        print(f"socket://127.0.0.1:{tcp.port}", flush=True)
    else:
        wire = _Descriptor(1, reads=False)
    with contextlib.suppress(KeyboardInterrupt, BrokenPipeError):
        _serve(board, wire, given.rate, given.lines)


def _serve(board: Board, wire: _Wire, rate: float, lines: int | None) -> None:
    due, sent = time.monotonic(), 0
    while lines is None or sent < lines:
        wait = due - time.monotonic()
        if wait > 0:
            board.take(wire.received(wait))
            continue
        due += 1.0 / rate
        sent += 1
        line = board.step(1.0 / rate)
        if board.has("disconnect"):
            wire.cut()
        else:
            wire.send(line)


if __name__ == "__main__":
    main()
