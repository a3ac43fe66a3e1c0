"""Writing in a thread of its own: a reader that is slow, or stops, never holds up the decisions."""

from __future__ import annotations

import os
import threading
from collections import deque

#: Bytes that wait at most to be written.
ROOM = 1 << 22


class Outlet:
    """Bytes to a descriptor. patient: the source waits too, so that nothing need be dropped;
    otherwise what finds no room is dropped whole, and its rows are counted in `dropped`."""

    def __init__(self, descriptor: int, patient: bool) -> None:
        self.dropped = 0
        self.error: OSError | None = None
        self._descriptor, self._patient = descriptor, patient
        self._pieces: deque[bytes] = deque()
        self._waiting = 0
        self._frame: bytes | None = None
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
            if self._waiting and self._waiting + len(data) > ROOM:
                self.dropped += rows
                return
            self._pieces.append(data)
            self._waiting += len(data)
            self._change.notify_all()

    def show(self, frame: bytes) -> None:
        """Write this picture, unless a newer one comes before its turn."""
        with self._change:
            if self.error is not None:
                raise self.error
            self._frame = frame
            self._change.notify_all()

    def close(self, timeout: float) -> bool:
        """Write what waits; whether that was done in time."""
        with self._change:
            self._closing = True
            self._change.notify_all()
        self._thread.join(timeout)
        return not self._thread.is_alive()

    def _work(self) -> None:
        while True:
            with self._change:
                while not (self._pieces or self._frame or self._closing):
                    self._change.wait()
                if not (self._pieces or self._frame):
                    return
                data = b"".join(self._pieces) if self._pieces else self._frame or b""
                taken = len(data) if self._pieces else 0
                if self._pieces:
                    self._pieces.clear()
                else:
                    self._frame = None
            try:
                view = memoryview(data)
                while view:
                    view = view[os.write(self._descriptor, view) :]
            except OSError as error:
                with self._change:
                    self.error = error
                    self._change.notify_all()
                return
            with self._change:
                self._waiting -= taken
                self._change.notify_all()
