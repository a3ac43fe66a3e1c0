"""What is written while a stream runs, each file by a thread of its own, so that whoever reads it
never holds the loop: rows, events, the record, messages."""

from __future__ import annotations

import gzip
import os
import sys
import threading
import time
from collections import deque
from datetime import UTC, datetime
from io import RawIOBase
from os import PathLike
from pathlib import Path
from typing import Any, cast

from ..core.bench.bench import Bench
from ..core.error_types import printable
from ..files import open_growing
from ..logs.check_log import EVENT_COLUMNS, csv_line, event_row
from ..samples.head import CUT, RECORD
from ..system import end_if_asked
from .stream_processor import LiveBatch

#: Bytes that wait at most to be written.
ROOM = 1 << 22

#: Bytes that are written at once at most.
AT_ONCE = 1 << 16

#: Seconds until whoever waits looks whether a signal has come.
HEARING = 0.2

#: Seconds until a full pipe is tried again.
FULL = 0.01


class OutputWriter:
    """Bytes to a raw file. lossless: the source waits too, so that nothing need be dropped;
    otherwise what finds no room is dropped whole, and its rows are counted in `dropped`.

    taken: rows that it was given. written: bytes that the file has taken. abandoned: rows that were
    on their way when it was closed; the last few thousand of them may have reached the reader."""

    def __init__(self, file: RawIOBase, lossless: bool) -> None:
        self.taken = self.dropped = self.abandoned = self.written = 0
        self.error: OSError | None = None
        self._file, self._lossless = file, lossless
        self._pieces: deque[tuple[bytes, int]] = deque()
        self._under_way = memoryview(b"")
        self._waiting = 0
        self._closing = False
        self._change = threading.Condition()
        self._thread = threading.Thread(target=self._work, name="jetruler-writer", daemon=True)
        self._thread.start()

    def put(self, data: bytes, rows: int) -> bool:
        """Write these rows; whether there was room. Raises `OSError` where writing failed."""
        with self._change:
            while self._lossless and self._waiting > ROOM and self.error is None:
                self._change.wait(0.1)
            if self.error is not None:
                raise self.error
            self.taken += rows
            if self._waiting and self._waiting + len(data) > ROOM:
                self.dropped += rows
                return False
            self._pieces.append((data, rows))
            self._waiting += len(data)
            self._change.notify_all()
        return True

    def drain(self) -> None:
        """Wait until all is written, however long the reader takes. Raises `OSError` where writing
        failed."""
        with self._change:
            while self._waiting and self.error is None:
                self._change.wait(HEARING)
                end_if_asked()
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
                    self.written += written or 0
                self._file.flush()
            except OSError as error:
                with self._change:
                    self.error = error
                    self._change.notify_all()
                return
            with self._change:
                self._under_way = memoryview(b"")
                self._waiting -= len(rows)
                self._change.notify_all()


class _File:
    """A file that grows while a stream runs. What it does not take is counted, and said."""

    def __init__(self, path: str | PathLike[str], append: bool, *, lossless: bool = False) -> None:
        self.path = str(path)
        file, self.is_new = open_growing(path, append=append)
        self._raw = file
        self._packed: Any = None
        if self.path.endswith(".gz"):
            self._packed = gzip.GzipFile("", "ab", 6, file)
        elif self.path.endswith(".zst"):
            import pyarrow as pa

            self._packed = pa.CompressedOutputStream(file, "zstd")
        self._writer = OutputWriter(cast(RawIOBase, self._packed or file), lossless)
        self._given = 0

    @property
    def failure(self) -> str:
        """Why it takes nothing more; empty where it does."""
        error = self._writer.error
        return "" if error is None else f"{self.path}: cannot be written: {error.strerror}"

    @property
    def missed(self) -> int:
        """Bytes that it did not take."""
        lost = self._given - self._writer.written if self._writer.error else 0
        return lost + self._writer.dropped

    def put(self, data: bytes) -> bool:
        """Write this, soon; whether there was room for it."""
        try:
            taken = self._writer.put(data, len(data))
        except OSError:
            taken = False
        self._given += len(data) if taken or self._writer.error is not None else 0
        return taken

    def close(self) -> None:
        """Write what waits, and end the file."""
        if self._raw.closed or not self._writer.close(CLOSING):
            return  # whoever reads it takes nothing: its thread still holds the file
        try:
            for file in (self._packed, self._raw):
                if file is not None:
                    file.close()
        except OSError as error:
            self._writer.error = self._writer.error or error


#: Seconds that a file has to take what waits when a session ends.
CLOSING = 5.0


class _Kept:
    """What is kept in a file while a stream runs."""

    _file: _File

    @property
    def failure(self) -> str:
        """Why the file takes nothing more; empty where it does."""
        return self._file.failure

    @property
    def missed(self) -> int:
        """Bytes that it did not take."""
        return self._file.missed


class LiveEvents(_Kept):
    """Writes `time, trip, state, values` as `convert --events` does, a line for each change as it
    happens, below a header once it is known what times there are.

    Parameters
    ----------
    path : file, or a name of a descriptor or a pipe.
    append : whether the file may hold something already, which stays.

    Raises
    ------
    LogError : for a file that holds something, or cannot be written.
    """

    def __init__(self, path: str | PathLike[str], *, append: bool = False) -> None:
        self._file = _File(path, append)
        self._begun = not self._file.is_new

    def begin(self, time_name: str) -> None:
        """Write the header, once."""
        if not self._begun:
            self._file.put(csv_line(time_name, *EVENT_COLUMNS))
        self._begun = True

    def add(self, bench: Bench, batch: LiveBatch) -> None:
        """The trips that turned in a batch."""
        for event in batch.decided.events:
            row = event_row(bench, event, batch.readings)
            self._file.put(csv_line(batch.times[event.sample].as_py(), *row))

    def note(self, time: str, name: str, what: str, value: str) -> None:
        """Something that was done by hand. time: that of the last sample."""
        self._file.put(csv_line(time, name, what, value))

    def close(self) -> None:
        """End the file."""
        self._file.close()


class Recorder(_Kept):
    """Writes `<time>,<the line as it came>` below a line that says so, which every command reads; a
    disk that is full stops it, and it says so. append: whether the file may hold something already,
    which stays. lossless: whether the source waits for it."""

    def __init__(
        self, path: str | PathLike[str], *, append: bool = False, lossless: bool = False
    ) -> None:
        self._file = _File(path, append, lossless=lossless)
        self._fresh = True
        self._begun = self._joined_late = False
        self._notes: list[bytes] = []
        self._lock = threading.Lock()  # notes come from another thread than data
        if not self._file.is_new and not _ends_in_a_line(path):
            self._write(CUT.encode() + b"\n")

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
        for note in notes:
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
            self._begun = True
            self._write(RECORD.encode() + b"\n")
        if self._joined_late and b"\n" in data:
            data = data.replace(b"\n", CUT.encode() + b"\n", 1)
            self._joined_late = False
        stamp = self._now() + b","
        ended = data.endswith(b"\n")
        inner = data[:-1] if ended else data
        text = inner.replace(b"\n", b"\n" + stamp) + (b"\n" if ended else b"")
        was_fresh, self._fresh = self._fresh, ended
        if not self._write(stamp + text if was_fresh else text):
            # What is not recorded may have begun a line, or ended one.
            self._fresh = was_fresh
            if not was_fresh and self._write(CUT.encode() + b"\n"):
                self._fresh = True
            self._joined_late = not ended

    def _write(self, data: bytes) -> bool:
        return self._file.put(data)

    def close(self) -> None:
        """End the file."""
        if not self._fresh:
            self._write(b"\n")
            self._fresh = True
        self._file.close()


def _ends_in_a_line(path: str | PathLike[str]) -> bool:
    with Path(path).open("rb") as file:
        file.seek(-1, os.SEEK_END)
        return file.read(1) == b"\n"


class Messages:
    """Sentences for people on standard error, which nobody may read."""

    def __init__(self) -> None:
        sys.stderr.flush()
        raw = os.fdopen(2, "wb", buffering=0, closefd=False)
        self._writer = OutputWriter(raw, lossless=False)
        self._encoding, self._errors = sys.stderr.encoding, sys.stderr.errors or "replace"

    def __call__(self, text: str) -> None:
        """Say it, soon."""
        line = f"jetruler: {printable(text, 1000)}\n".encode(self._encoding, self._errors)
        try:
            self._writer.put(line, 1)
        except OSError:
            return  # closed: there is nobody to tell

    def close(self) -> None:
        """Write what waits, or give it up."""
        self._writer.close(1.0)
