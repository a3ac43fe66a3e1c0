"""The loop: what arrives goes through the station; what is decided is sent; what came out is
written or shown; a bench file that is saved is read again."""

from __future__ import annotations

import math
import queue
import sys
import threading
import time
from collections import Counter, deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future
from dataclasses import dataclass, field
from typing import TypeVar

import pyarrow as pa

from ..core.bench.bench import Bench, LogFormat
from ..core.error_types import JetRulerError, printable
from ..core.result import Findings
from ..core.ruler.quantity import seconds
from ..system import end_if_asked, rest
from .outputs import Rows, Sender, Watchdog
from .overrides import BenchChecker, BenchReloader, FileWatcher, Injection, Overrides
from .source_reader import Arrival, Lines, SourceReader, arrival_times
from .sources import Nowhere, Source, StreamError
from .stream_processor import LiveBatch, StreamProcessor
from .writers import LiveEvents, OutputWriter, Recorder

Answer = TypeVar("Answer")

#: Seconds between two looks at the bench file, and between two decisions while nothing comes.
LOOK_AGAIN, TICK = 0.25, 0.1
#: Lines of the log that are kept.
LOG = 200
#: Seconds in which the last safe values are tried again, if the wire did not take them.
LAST_TRY = 2.0
#: Seconds of silence after which the first line's form is not waited for any longer.
SETTLE = 0.5


@dataclass
class Progress:
    """How the stream is doing, for people."""

    started: float
    connected: bool = False
    why_gone: str = ""
    first_sample: float | None = None
    last_sample: float | None = None
    stale: bool = False
    returns: int = 0
    ended: bool = False
    stopped: bool = False
    """Whether somebody wanted no more."""
    message: str = ""
    """What was last said about the bench file."""
    _recent: deque[tuple[float, int]] = field(default_factory=deque)

    def add(self, now: float, samples: int) -> None:
        """Some samples came."""
        self.first_sample = now if self.first_sample is None else self.first_sample
        self.last_sample = now
        self._recent.append((now, samples))
        while now - self._recent[0][0] > 2.0:
            self._recent.popleft()

    def rate(self, now: float) -> float:
        """Samples a second, over the last two."""
        since = min(2.0, max(now - self.started, 0.1))
        return sum(samples for at, samples in self._recent if now - at <= 2.0) / since


@dataclass(frozen=True)
class Parts:
    """What a session is made of."""

    bench_path: str | None
    """The file that is read again when it is saved, if there is one."""
    bench: Bench
    form: LogFormat
    source: Source
    injections: dict[str, Injection]
    wire: Source | None = None
    """Where commands could go."""
    armed: bool = False
    """Whether they are sent from the start."""
    recorder: Recorder | None = None
    writer: OutputWriter | None = None
    events: LiveEvents | None = None
    rows: Callable[[Bench, str], Rows] | None = None
    handled: bool = False
    """Whether hands may come while it runs: silence then matters, and the last minutes are kept."""
    viewed: bool = False
    """Whether a view shows what it says; else it goes to standard error."""
    head: bytes = b""
    """The first bytes of a recorded stream, which come again."""
    remark: str = ""
    """What is to be said from the start."""
    messages: Callable[[str], None] | None = None
    """What takes sentences for people; standard error, where nothing is said."""
    arrives: bool = True
    """Whether the time of arrival is a clock: not in a file, which is read at once."""


class Session:
    """A running stream. `run` returns when it ends; whatever ends it, the drives are sent safe."""

    def __init__(self, parts: Parts) -> None:
        self.parts = parts
        now = time.monotonic()
        self.overrides = Overrides(dict(parts.injections))
        self.sender = Sender(
            parts.bench,
            parts.wire,
            parts.armed,
            parts.form.line_end,
            reopens=parts.wire is not parts.source,
        )
        self.processor = StreamProcessor(
            parts.bench,
            parts.form,
            self.overrides,
            keeps=parts.handled,
            holds=parts.source.lossless and not self._follows(),
            arrives=parts.arrives,
            name=parts.source.name,
        )
        if parts.head:
            self.processor.prime(parts.head)
        self.progress = Progress(now, message=parts.remark)
        self.reader = SourceReader(parts.source, parts.recorder)
        self.lines = Lines(self.processor.noise)
        self._stale_after = seconds(parts.form.stale)
        if self._silence_matters():
            self.processor.stale_after = self._stale_after
        self._last_decision = self._last_look = now
        self._last_data = math.inf
        self._watcher = FileWatcher(parts.bench_path) if parts.bench_path is not None else None
        self._reading: BenchReloader | None = None
        self._rows: Rows | None = None
        self._headed = False
        self.pause_asked = False
        """Whether somebody wants the whole program to rest: with Ctrl-Z."""
        self._asked: queue.SimpleQueue[Callable[[], object]] = queue.SimpleQueue()
        self._thread: int | None = None
        self._file_bench = parts.bench
        self._time = "0"
        """That of the last sample, as outputs have it."""
        self._safe: set[str] = set()
        self._clock_why = ""
        self._new: list[LiveBatch] = []
        self._checker: BenchChecker | None = None
        self.findings = Findings()
        """What `check` finds in the bench, as soon as it has."""
        self.log: deque[str] = deque(maxlen=LOG)
        """What happened, with the source's time, newest last."""
        self._last_noted = ("", "")

    @property
    def bad(self) -> Counter[str]:
        """Lines that were none, by kind."""
        return self.processor.noise.counts

    @property
    def skipped(self) -> str:
        """How many lines were no samples, by kind, in words; empty where all were. A header is none
        and says so itself."""
        return "; ".join(
            filter(None, (self.processor.noise.words, self.processor.lines.torn_words))
        )

    @property
    def elapsed(self) -> float:
        """Seconds since the start."""
        return time.monotonic() - self.progress.started

    @property
    def bench(self) -> Bench:
        """The bench in force."""
        return self.processor.bench

    def run(self, lasting: float | None = None) -> None:
        """Until the stream ends, or for this many seconds from its first sample on (from the start,
        while none has come)."""
        for _ in self.batches(lasting):
            pass

    def batches(self, lasting: float | None = None) -> Iterator[LiveBatch]:
        """The same, passing on what was decided as it comes. Whoever stops early closes it."""
        # PyArrow would take a signal that comes while it reads a block, and might keep it.
        pa.enable_signal_handlers(False)
        self.progress.started = time.monotonic()
        self._thread = threading.get_ident()
        for name, injection in self.parts.injections.items():
            self.noted(name, "held", injection.text)
        self.reader.start()
        watchdog = self._watchdog = Watchdog(self.sender)
        try:
            if self.parts.wire is not self.parts.source:  # which tells when it is open
                self.sender.begin()
            while not self.progress.ended and not self._is_over(lasting):
                if watchdog.beat():
                    self._was_late()
                self.reader.prompt = self.sender.armed
                self._work(self.reader.take(TICK / 2))
                end_if_asked()
                self._obey()
                if self.pause_asked:
                    self._pause()
                now = time.monotonic()
                if now - self._last_data > SETTLE:
                    self._last_data = math.inf
                    self._decided(self.processor.settle(final=False))
                self._watch_silence(now)
                self.sender.try_again()
                if now - self._last_look >= LOOK_AGAIN:
                    self._last_look = now
                    self._look_at_bench()
                yield from self._fresh()
            watchdog.beat()
            self._work([Arrival(self.lines.ended(), time.monotonic())])
            self._decided(self.processor.settle())
            self.processor.lines.leave()
            self._decided(self.processor.flush())
            yield from self._fresh()
        except KeyboardInterrupt:  # what waits for its pace need not wait any longer
            self._decided(self.processor.flush())
            raise
        finally:
            self._thread = None
            watchdog.close()
            self.sender.safe()
            self.sender.insist(LAST_TRY)
            self.sender.close()
            self.reader.stop()
            if self._checker is not None:
                self._checker.wait()
            self._obey()
            self.parts.source.close()
            if self.parts.recorder is not None:
                self.parts.recorder.close()
            if self.parts.events is not None and self.processor.rows:
                self.parts.events.begin(self.processor.lines.time_name)

    def _was_late(self) -> None:
        """Something held the loop; its drives went to safe meanwhile, and start from there."""
        for driver in self.processor.decisions.drivers.values():
            driver.start_at(driver.drive.safe)
        if self.sender.armed:
            self._say("every drive was safe while the loop was blocked for more than a second")

    def _is_over(self, lasting: float | None) -> bool:
        begun = self.progress.first_sample or self.progress.started
        return lasting is not None and time.monotonic() >= begun + lasting

    def ask(self, action: Callable[[], Answer]) -> Answer:
        """Do something in the thread that runs the session, and return what it gives; at once where
        that is this thread, or where nothing runs."""
        if self._thread in (None, threading.get_ident()):
            return action()
        answer: Future[Answer] = Future()

        def work() -> None:
            try:
                answer.set_result(action())
            except BaseException as error:
                answer.set_exception(error)

        self.post(work)
        return answer.result()

    def post(self, action: Callable[[], object]) -> None:
        """Have the thread that runs the session do something, without waiting for it."""
        self._asked.put(action)
        self.reader.wake()

    def _obey(self) -> None:
        """What other threads asked for."""
        while not self._asked.empty():
            self._asked.get()()

    def arm(self) -> None:
        """Send commands from now on. Drives start at their safe values, which are sent first."""
        for driver in self.processor.decisions.drivers.values():
            driver.start_at(driver.drive.safe)
        self.sender.arm()
        self.processor.stale_after = self._stale_after if self._silence_matters() else math.inf

    def feed_drives(self) -> None:
        """Let drives follow what the bench file says, or somebody wants."""
        bench = self.overrides.applied(self._file_bench)
        self.processor.take_over(bench)
        self.sender.change(bench)

    def act(self) -> None:
        """Decide at once, by what was read last: a hand does not wait for the next sample."""
        off = self.overrides.gates_off
        self.sender.send({name: self.bench.drives[name].safe for name in off})

    def noted(self, name: str, what: str, value: str) -> None:
        """Something was done by hand: for the record and the events."""
        if self._last_noted == (name, what) and self.log:
            self.log.pop()  # what moves in many small steps is one line
        self._last_noted = (name, what)
        self._log(" ".join(part for part in (name, what, value) if part))
        if self.parts.recorder is not None:
            self.parts.recorder.note(" ".join(part for part in (what, name, value) if part))
        if self.parts.events is not None:
            self.parts.events.begin(self.processor.lines.time_name)
            self.parts.events.note(self._time, name, what, value)

    def _log(self, text: str) -> None:
        self.log.append(f"{self._time}  {text}")

    def _fresh(self) -> list[LiveBatch]:
        """What was decided since the last time."""
        found, self._new = self._new, []
        return found

    def _pause(self) -> None:
        """Rest, with every drive safe; what comes later starts from there."""
        self.pause_asked = False
        self.make_safe()
        self._watchdog.rest()
        rest()
        self.wake()

    def wake(self) -> None:
        """Go on after a rest: what comes later starts from the safe values."""
        self._go_stale(time.monotonic())

    def make_safe(self) -> None:
        """Send every drive its safe value, tried for some time."""
        self.sender.safe()
        self.sender.insist(LAST_TRY)

    def _work(self, arrivals: list[Arrival]) -> None:
        parts: list[tuple[bytes, float]] = []
        for arrival in arrivals:
            if arrival.data and (whole := self.lines.add(arrival.data)):
                parts.append((whole, arrival.at))
            if arrival.news:
                self._take(parts)
                parts = []
                self._heard(arrival)
        self._take(parts)

    def _take(self, parts: list[tuple[bytes, float]]) -> None:
        if not parts:
            return
        self._last_data = time.monotonic()
        at = arrival_times(parts)
        block = b"".join(data for data, _ in parts)
        self._decided(self.processor.take(block, at, self.progress.started))

    def _decided(self, batches: list[LiveBatch]) -> None:
        """Send and write what comes of some samples."""
        self._new += batches
        if batches and self._checker is None:
            self._check()
        for batch in batches:
            if not isinstance(
                self.parts.source, Nowhere
            ):  # lines that are no samples keep nothing fresh
                self.progress.add(self.progress.started + batch.at, batch.rows)
            self.progress.stale, self.progress.why_gone = False, ""
            self._last_decision = time.monotonic()
            self._speak_in_modes()
            self.sender.send({name: float(v[-1]) for name, v in batch.decided.drives.items()})
            self._say_what_is_safe()
            self._watch_clock()
            self._time = batch.times[-1].as_py()
            for event in batch.decided.events:
                state = "on" if event.on else "off"
                self._last_noted = ("", "")
                self.log.append(f"{batch.times[event.sample].as_py()}  {event.trip.name} {state}")
            if self.parts.events is not None:
                self.parts.events.begin(self.processor.lines.time_name)
                self.parts.events.add(self.bench, batch)
            self._put(batch)

    def _put(self, batch: LiveBatch) -> None:
        """Write a batch, below a header if it is the first."""
        writer, parts = self.parts.writer, self.parts
        if writer is None or parts.rows is None:
            return
        if self._rows is None:
            self._rows = parts.rows(self.bench, self.processor.lines.time_name)
            if not self._headed:
                writer.put(self._rows.header(), 0)
                self._headed = True
        writer.put(self._rows(batch), batch.rows)

    def _watch_clock(self) -> None:
        """Say that the source's clock is of no use, and that it is again, once each time."""
        if not self.processor.lines.has_source_clock:
            return
        why = self.processor.decisions.clock.why
        if why == self._clock_why:
            return
        self._clock_why = why
        used = "the times of arrival" if self.parts.arrives else "the usual step"
        if why:
            self._say(f"the source's time {why}: decisions use {used}")
        else:
            self._say("the source's time is valid again")

    def _say_what_is_safe(self) -> None:
        """Say why a drive went to its safe value, once each time, where it is sent."""
        if not self.sender.armed:
            return
        for name, driver in self.processor.decisions.drivers.items():
            if driver.safe and name not in self._safe:
                self._say(f"drive {name} is safe: {self.processor.why_safe(name)}")
        self._safe = {n for n, d in self.processor.decisions.drivers.items() if d.safe}

    def _heard(self, arrival: Arrival) -> None:
        """News of the source."""
        if arrival.news == "error" and arrival.error is not None:
            raise arrival.error
        if arrival.news == "open":
            self.progress.connected = True
            self.lines.begin(self.parts.source.joined_late)
            self.sender.begin()  # the other side may know nothing of what was sent before
        elif arrival.news == "gone":
            if self.progress.connected:
                self.progress.returns += 1
            if not self.parts.viewed and self.progress.why_gone != arrival.why:
                name = self.parts.source.name
                self._tell(f"{name}: {arrival.why}; trying again")
            self.progress.connected, self.progress.why_gone = False, arrival.why
            self.lines.broken()
            self._go_stale(arrival.at)
            self.reader.known()
        elif arrival.news in ("cut", "lost"):
            self.lines.broken()
            self.lines.begin(joined_late=arrival.news == "lost")
        elif arrival.news == "end":
            self.progress.ended = True

    def _watch_silence(self, now: float) -> None:
        last = self.progress.last_sample or self.progress.started
        silent = self.progress.stale or now - last > self._stale_after
        if self._silence_matters() and silent and now - self._last_decision >= TICK:
            self._go_stale(now)

    def _silence_matters(self) -> bool:
        return not self.parts.source.lossless or self._follows()

    def _follows(self) -> bool:
        """Whether silence means anything: a pipe or a file may rest as long as it likes, unless
        somebody waits for its samples."""
        return self.sender.armed or self.parts.handled

    def _speak_in_modes(self) -> None:
        """Have the lines of each drive that has modes be those of the one it is in."""
        for driver in self.processor.decisions.drivers.values():
            if driver.drive.modes:
                mode = driver.mode
                wire = driver.drive.wire if mode is None or not mode.wire else mode.wire
                self.sender.speak(driver.drive.output, wire)

    def _go_stale(self, now: float) -> None:
        if isinstance(self.parts.source, Nowhere):
            return
        self.progress.stale = True
        decided = self.processor.silent(max(0.0, now - self._last_decision))
        self._last_decision = now
        self._speak_in_modes()
        self.sender.send({name: float(v[-1]) for name, v in decided.drives.items()})

    def _look_at_bench(self) -> None:
        """Read the bench file again if it was saved; a broken one changes nothing."""
        path = self.parts.bench_path
        if self._watcher is None or path is None:
            return
        if self._reading is None and self._watcher.again():
            self._reading = BenchReloader(path)
        if self._reading is None or not self._reading.ready():
            return
        bench, why, self._reading = self._reading.bench, self._reading.why, None
        try:
            if bench is None:
                raise StreamError(why)
            if self._headed and _columns(bench) != _columns(self.bench):
                raise StreamError(
                    "its columns differ from those of the output; restart to use them"
                )
            self._file_bench, bench = bench, self.overrides.applied(bench)
            self.processor.take_over(bench)
        except JetRulerError as error:
            self._say(f"the last valid bench is still used: {error}")
            return
        self.sender.change(bench)
        self._rows = None
        self._say(f"{self.parts.bench_path} was read again")
        self._check()

    def _check(self) -> None:
        """Say what `check` finds in the bench, as soon as it has."""
        self._checker = BenchChecker(
            self.bench, lambda found, alert: self._asked.put(lambda: self._found(found, alert))
        )

    def _found(self, findings: Findings, alert: str) -> None:
        self.findings = findings
        if alert:
            self._say(alert)

    def _say(self, message: str) -> None:
        self.progress.message = message
        self._last_noted = ("", "")
        self._log(message)
        if not self.parts.viewed:
            self._tell(message)

    def _tell(self, message: str) -> None:
        if self.parts.messages is not None:
            self.parts.messages(message)
        else:
            print(f"jetruler: {printable(message, 1000)}", file=sys.stderr, flush=True)


def _columns(bench: Bench) -> list[str]:
    """What rows of this bench are made of."""
    names = [channel.output_column for channel in bench.every_channel.values()]
    return [*names, *bench.trips, *bench.drives]
