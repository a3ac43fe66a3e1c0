"""`--record`: every raw line with its time of arrival, whatever else happens."""

from __future__ import annotations

import contextlib
import threading
from datetime import UTC, datetime
from pathlib import Path
from typing import BinaryIO

from ..samples.head import CUT, RECORD
from ..system.file_names import reachable
from .stream_errors import StreamError


class Recorder:
    """Writes `<time>,<the line as it came>` below a line that says so, which every command reads; a
    disk that is full stops it, and it says so."""

    def __init__(self, path: str) -> None:
        self.path = path
        self.failure = ""
        self.missed = 0
        self._fresh = True
        try:  # what is there stays until the first line comes
            self._file: BinaryIO = reachable(Path(path)).open("ab", buffering=0)
        except OSError as error:
            raise StreamError(f"{path}: cannot be written: {error.strerror}") from None
        self._begun = self._joined_late = False
        self._notes: list[bytes] = []
        self._lock = threading.Lock()  # notes come from another thread than data

    def _begin(self) -> None:
        self._begun = True
        with contextlib.suppress(OSError):  # a pipe, or a device, has nothing to cut off
            self._file.truncate(0)
        self._write(RECORD.encode() + b"\n")

    def connected(self, joined_late: bool) -> None:
        """A connection begins. joined_late: its first line may be the end of one."""
        with self._lock:
            self._joined_late = joined_late

    def broken(self) -> None:
        """A connection is gone: a line that was under way will never end."""
        with self._lock:
            if not self._fresh:
                self._write(CUT.encode() + b"\n")
                self._fresh = True

    def note(self, text: str) -> None:
        """Record what was done by hand: a comment, on a line of its own."""
        with self._lock:
            self._notes.append(f"# {text}\n".encode())
            if self._fresh and self._begun:
                self._write_notes()

    def _write_notes(self) -> None:
        notes, self._notes = self._notes, []
        for note in notes if not self.failure else ():
            self._write(b"# " + self._now() + note[1:])

    def _now(self) -> bytes:
        now = datetime.now(UTC).isoformat(timespec="milliseconds").removesuffix("+00:00")
        return now.encode() + b"Z"

    def add(self, data: bytes) -> None:
        """Record what arrived."""
        with self._lock:
            self._add(data)
            if self._fresh:
                self._write_notes()

    def _add(self, data: bytes) -> None:
        if not self._begun:
            self._begin()
        if self.failure:
            self.missed += len(data)
            return
        if self._joined_late and b"\n" in data:
            data = data.replace(b"\n", CUT.encode() + b"\n", 1)
            self._joined_late = False
        stamp = self._now() + b","
        ended = data.endswith(b"\n")
        inner = data[:-1] if ended else data
        text = inner.replace(b"\n", b"\n" + stamp) + (b"\n" if ended else b"")
        self._write(stamp + text if self._fresh else text)
        self._fresh = ended
        if self.failure:
            self.missed += len(data)

    def _write(self, data: bytes) -> None:
        try:
            view = memoryview(data)
            while view:
                view = view[self._file.write(view) :]
        except OSError as error:
            self.failure = f"{self.path}: cannot be written: {error.strerror}"

    def close(self) -> None:
        """End the file."""
        if not self._fresh and not self.failure:
            self._write(b"\n")
        self._file.close()
