"""Reading in a thread of its own: what arrives is stamped, recorded, and handed on."""

from __future__ import annotations

import queue
import threading
import time
from dataclasses import dataclass

from .record import Recorder
from .sources import CHUNK, Source
from .stream_errors import SourceEnded, SourceGone

#: Bytes that wait at most: for a source that waits itself, and for one that does not.
PATIENT_ROOM, ROOM = 4 * CHUNK, 1 << 26

#: Bytes that are worked on at once at most.
AT_ONCE = 1 << 20

#: Seconds between attempts to reach a port that is gone: the first, and the longest.
FIRST_WAIT, LONGEST_WAIT = 0.02, 2.0


@dataclass(frozen=True)
class Arrival:
    """Bytes with the time they came (seconds of the monotonic clock), or news of the source."""

    data: bytes
    at: float
    news: str = ""
    """"open", "gone", "end" or "error"."""
    why: str = ""
    error: BaseException | None = None


class Feed:
    """A source read by a thread. `lost` counts bytes that nobody had room for."""

    def __init__(self, source: Source, recorder: Recorder | None) -> None:
        self.source, self.recorder = source, recorder
        self.lost = 0
        self._arrivals: queue.SimpleQueue[Arrival] = queue.SimpleQueue()
        self._waiting = 0
        self._lock = threading.Lock()
        self._stop = threading.Event()
        self._room = threading.Event()
        self._known = threading.Event()
        self._thread = threading.Thread(target=self._work, name="jetruler-reader", daemon=True)

    def start(self) -> None:
        """Begin to read."""
        self._thread.start()

    def stop(self) -> None:
        """Read no more."""
        self._stop.set()
        self._room.set()
        self._known.set()
        self._thread.join(timeout=1.0)

    def known(self) -> None:
        """The news that the source is gone has been acted on: it may be opened anew."""
        self._known.set()

    def wake(self) -> None:
        """Let whoever waits for arrivals wait no longer."""
        self._arrivals.put(Arrival(b"", time.monotonic()))

    def take(self, timeout: float) -> list[Arrival]:
        """What has arrived, after waiting for the first at most so long."""
        try:
            found = [self._arrivals.get(timeout=max(0.0, timeout))]
        except queue.Empty:
            return []
        size = len(found[0].data)
        while size < AT_ONCE:
            try:
                found.append(self._arrivals.get_nowait())
            except queue.Empty:
                break
            size += len(found[-1].data)
        with self._lock:
            self._waiting -= sum(len(arrival.data) for arrival in found)
        self._room.set()
        return found

    def _work(self) -> None:
        wait = FIRST_WAIT
        try:
            while not self._stop.is_set():
                try:
                    self.source.open()
                    if self.recorder is not None:
                        self.recorder.connected(self.source.joined_late)
                    self._tell("open")
                    while not self._stop.is_set():
                        data = self.source.read()
                        if data:
                            wait = FIRST_WAIT
                            self._hand_on(data)
                except SourceGone as gone:
                    if self.recorder is not None:
                        self.recorder.broken()
                    self._known.clear()
                    self._tell("gone", str(gone))
                    # What still hears is told the safe values before it is let go.
                    self._known.wait(LONGEST_WAIT)
                    self._stop.wait(wait)
                    wait = min(2 * wait, LONGEST_WAIT)
        except SourceEnded:
            self._tell("end")
        except BaseException as error:  # to be raised where it is waited for
            self._arrivals.put(Arrival(b"", time.monotonic(), "error", error=error))

    def _tell(self, news: str, why: str = "") -> None:
        self._arrivals.put(Arrival(b"", time.monotonic(), news, why))

    def _hand_on(self, data: bytes) -> None:
        at = time.monotonic()
        if self.recorder is not None:
            self.recorder.add(data)
        room = PATIENT_ROOM if self.source.lossless else ROOM
        while self._waiting + len(data) > room:
            if not self.source.lossless:
                self.lost += len(data)
                return
            self._room.clear()
            self._room.wait(0.1)
            if self._stop.is_set():
                return
        with self._lock:
            self._waiting += len(data)
        self._arrivals.put(Arrival(data, at))
