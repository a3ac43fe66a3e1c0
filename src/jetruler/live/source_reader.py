"""Reading in a thread of its own: what arrives is stamped, recorded, cut into whole lines, and
handed on."""

from __future__ import annotations

import math
import queue
import threading
import time
from dataclasses import dataclass, field

import numpy as np

from ..core.bench.bench import LogFormat
from ..core.numerics import Array
from ..samples.shapes import Noise
from ..samples.stream_lines import LONGEST
from .sources import (
    CHUNK,
    GrowingFile,
    Source,
    SourceCut,
    SourceEnded,
    SourceGone,
    StandardInput,
    StreamError,
    source_named,
)
from .writers import Recorder

#: Bytes that wait at most: for a source that waits itself, and for one that does not.
PATIENT_ROOM, ROOM = 4 * CHUNK, 1 << 26

#: Bytes that are worked on at once at most; and where drives follow them, so that none waits long.
AT_ONCE, PROMPT = 1 << 20, 1 << 14

#: Bytes that wait at most for a drive that follows late.
PROMPT_ROOM = 1 << 17

#: Seconds that samples may wait before a drive follows them; beyond, the newest are left out.
LAG = 0.5

#: Seconds between attempts to reach a port that is gone: the first, and the longest.
FIRST_WAIT, LONGEST_WAIT = 0.02, 2.0


@dataclass(frozen=True)
class Arrival:
    """Bytes with the time they came (seconds of the monotonic clock), or news of the source."""

    data: bytes
    at: float
    news: str = ""
    """"open", "gone", "cut" (what follows is another file), "lost", "end" or "error"."""
    why: str = ""
    error: BaseException | None = None


class SourceReader:
    """A source read by a thread. `lost` counts bytes that nobody had room for."""

    def __init__(self, source: Source, recorder: Recorder | None) -> None:
        self.source, self.recorder = source, recorder
        self.lost = 0
        self.prompt = False
        """Whether what is old is no use: a drive must not follow what was true a while ago."""
        self._losing = False
        self._taken_at = math.inf
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
        """The news that the source is gone has been acted on: it may be opened again."""
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
        most = min(AT_ONCE, PROMPT) if self.prompt else AT_ONCE
        while size < most:
            try:
                found.append(self._arrivals.get_nowait())
            except queue.Empty:
                break
            size += len(found[-1].data)
        with self._lock:
            self._waiting -= sum(len(arrival.data) for arrival in found)
            self._taken_at = found[-1].at
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
                        try:
                            data = self.source.read()
                        except SourceCut:
                            if self.recorder is not None:
                                self.recorder.broken()
                            self._tell("cut")
                            continue
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
        if self.prompt and not self.source.lossless and at - self._taken_at > LAG:
            room = PROMPT_ROOM
        while self._waiting + len(data) > room:
            if not self.source.lossless:
                self.lost += len(data)
                self._losing = True
                return
            self._room.clear()
            self._room.wait(0.1)
            if self._stop.is_set():
                return
        if self._losing:  # what was lost may have begun a line, and ended another
            self._losing = False
            self._tell("lost")
        with self._lock:
            self._waiting += len(data)
        self._arrivals.put(Arrival(data, at))


@dataclass
class Lines:
    """Cuts what arrives into whole lines. noise: what was no line, by kind."""

    noise: Noise = field(default_factory=Noise)
    _rest: bytes = b""
    _skipping: bool = False
    _first: bool = False

    def begin(self, joined_late: bool) -> None:
        """A connection begins. joined_late: its first line may be the end of one."""
        self._first = joined_late

    def broken(self) -> None:
        """A connection is gone: a line that was under way will never end."""
        if self._rest:
            self.noise.counts["torn"] += 1
        self._rest, self._skipping = b"", False

    def ended(self) -> bytes:
        """The end of a stream: its last line may lack a line end."""
        rest, self._rest = self._rest, b""
        return rest + b"\n" if rest and not self._skipping else b""

    def add(self, data: bytes) -> bytes:
        """The whole lines that are ready, each with its line end."""
        if self._skipping:
            cut = data.find(b"\n")
            if cut < 0:
                return b""
            data, self._skipping = data[cut + 1 :], False
        if self._first:
            cut = data.find(b"\n")
            if cut >= 0:
                data, self._first, self._rest = data[cut + 1 :], False, b""
                self.noise.counts["torn"] += 1
        cut = data.rfind(b"\n")
        if cut < 0:
            self._rest += data
            if len(self._rest) > LONGEST:
                self._rest, self._skipping = b"", True
                self.noise.counts["over-long"] += 1
            return b""
        whole, self._rest = self._rest + data[: cut + 1], data[cut + 1 :]
        if len(self._rest) > LONGEST:
            self._rest, self._skipping = b"", True
            self.noise.counts["over-long"] += 1
        return whole


def arrival_times(parts: list[tuple[bytes, float]]) -> Array:
    """The time of every line in parts that each end with a line end."""
    counts = [part.count(b"\n") for part, _ in parts]
    return np.repeat([at for _, at in parts], counts)


#: Seconds without a line after which nobody waits any longer.
PATIENCE = 10.0
#: Lines that show what a port prints.
FEW = 4


def listen(
    name: str, form: LogFormat, *, seconds: float | None = None, lines: int | None = None
) -> bytes:
    """The whole lines that come from a source: for some seconds from the first on, or this many.
    Raises `StreamError` where nothing comes."""
    source, cut = source_named(name, form, follow=False), Lines()
    found: list[bytes] = []
    came, begun, first = 0, time.monotonic(), None
    try:
        source.open()
        cut.begin(source.joined_late)
        while True:
            now = time.monotonic()
            if first is None and now - begun > PATIENCE:
                raise StreamError(
                    f"{name}: expected lines, found none in {PATIENCE:g} s; check --baud and wires"
                )
            if first is not None and seconds is not None and now - first > seconds:
                break
            whole = cut.add(source.read())
            first = now if whole and first is None else first
            found.append(whole)
            came += whole.count(b"\n")
            if lines is not None and came >= lines:
                break
    except SourceEnded:
        found.append(cut.ended())
    except SourceGone as gone:
        if not came:
            raise StreamError(f"{name}: {gone}") from None
    finally:
        source.close()
    block = b"".join(found)
    if lines is not None:
        block = b"".join(line + b"\n" for line in block.split(b"\n")[:-1][:lines])
    return block


def head_of(source: Source, form: LogFormat) -> bytes:
    """The first whole lines of a source, which come again where it is a file or a pipe."""
    if isinstance(source, StandardInput | GrowingFile):
        head = source.peek()
        return head[: head.rfind(b"\n") + 1]
    return listen(source.name, form, lines=FEW)
