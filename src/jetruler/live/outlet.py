"""Writing in a thread of its own: a reader that is slow, or stops, never holds up the decisions."""

from __future__ import annotations

import threading
import time
from collections import deque
from io import RawIOBase

#: Bytes that wait at most to be written.
ROOM = 1 << 22

#: Bytes that are written at once at most.
AT_ONCE = 1 << 16

#: Seconds until whoever waits looks whether a signal has come.
HEARING = 0.2

#: Seconds until a full pipe is tried again.
FULL = 0.01


class Outlet:
    """Bytes to a raw file. lossless: the source waits too, so that nothing need be dropped;
    otherwise what finds no room is dropped whole, and its rows are counted in `dropped`.

    taken: rows that it was given. abandoned: rows that were on their way when it was closed; the
    last few thousand of them may have reached the reader."""

    def __init__(self, file: RawIOBase, lossless: bool) -> None:
        self.taken = self.dropped = self.abandoned = 0
        self.error: OSError | None = None
        self._file, self._patient = file, lossless
        self._pieces: deque[tuple[bytes, int]] = deque()
        self._under_way = memoryview(b"")
        self._waiting = 0
        self._closing = False
        self._change = threading.Condition()
        self._thread = threading.Thread(target=self._work, name="jetruler-writer", daemon=True)
        self._thread.start()

    def put(self, data: bytes, rows: int) -> None:
        """Write these rows. Raises `OSError` where writing failed."""
        with self._change:
            while self._patient and self._waiting > ROOM and self.error is None:
                self._change.wait(0.1)
            if self.error is not None:
                raise self.error
            self.taken += rows
            if self._waiting and self._waiting + len(data) > ROOM:
                self.dropped += rows
                return
            self._pieces.append((data, rows))
            self._waiting += len(data)
            self._change.notify_all()

    def drain(self) -> None:
        """Wait until all is written, however long the reader takes. Raises `OSError` where writing
        failed."""
        with self._change:
            while self._waiting and self.error is None:
                self._change.wait(HEARING)
            if self.error is not None:
                raise self.error

    def close(self, timeout: float) -> bool:
        """Write what waits; whether that was done in time. Rows that were not are `abandoned`."""
        with self._change:
            self._closing = True
            self._change.notify_all()
        self._thread.join(timeout)
        with self._change:
            left, self._under_way = bytes(self._under_way), memoryview(b"")
            self.abandoned += left.count(b"\n") + sum(rows for _, rows in self._pieces)
            self._pieces.clear()
        return not self._thread.is_alive()

    def _work(self) -> None:
        while True:
            with self._change:
                while not (self._pieces or self._closing):
                    self._change.wait()
                if not self._pieces:
                    return
                rows = b"".join(data for data, _ in self._pieces)
                self._pieces.clear()
                view = self._under_way = memoryview(rows)
            try:
                while view:
                    self._under_way = view
                    written = self._file.write(view[:AT_ONCE])
                    if written is None:  # a pipe that never waits, and is full
                        time.sleep(FULL)
                    view = view[written or 0 :]
            except OSError as error:
                with self._change:
                    self.error = error
                    self._change.notify_all()
                return
            with self._change:
                self._under_way = memoryview(b"")
                self._waiting -= len(rows)
                self._change.notify_all()
