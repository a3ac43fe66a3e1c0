"""A running bench in Python: with hands on it, or sample by sample as they come."""

from __future__ import annotations

import asyncio
import queue
import threading
import warnings
from collections import deque
from collections.abc import AsyncIterable, Callable, Generator, Iterable, Iterator
from contextlib import ExitStack
from dataclasses import dataclass, field, replace
from datetime import datetime
from os import PathLike
from pathlib import Path
from types import TracebackType
from typing import Any

from ..core.bench.bench import Bench, BenchLike, LogFormat, bench_of
from ..core.result import Findings, refuses, refuses_fields
from ..core.ruler.reading import Flag
from .controls import OperatorControls
from .parts import parts_for
from .session import Session
from .sources import Source, StreamError, reached, takes_commands
from .stream_processor import LiveBatch
from .writers import LiveEvents, Recorder

#: Lines of an asynchronous iterator that wait at most.
HANDED = 1000

#: Seconds that a session is given to send its safe values.
PATIENCE = 10.0


class Runner:
    """Runs a session until it ends, or is stopped.

    taken: is called with every batch, in the session's thread. ended: is called once when the
    session is over, in that thread too.
    """

    def __init__(
        self,
        session: Session,
        taken: Callable[[LiveBatch], None] | None = None,
        ended: Callable[[], None] | None = None,
        lasting: float | None = None,
    ) -> None:
        self.session = session
        self.error: BaseException | None = None
        """What ended it, if that was a mistake."""
        self._taken, self._ended, self._lasting = taken, ended, lasting
        self._thread = threading.Thread(target=self._work, name="jetruler-live", daemon=True)

    @property
    def started(self) -> bool:
        """Whether it was started."""
        return self._thread.ident is not None

    def start(self) -> None:
        """Begin."""
        self._thread.start()

    def stop(self) -> None:
        """End the stream: every drive is sent its safe value."""
        if self._thread.is_alive():
            self.session.progress.ended = True
            self.session.reader.wake()
            self._thread.join(timeout=PATIENCE)

    def _work(self) -> None:
        try:
            for batch in self.session.batches(self._lasting):
                if self._taken is not None:
                    self._taken(batch)
        except BaseException as error:  # to be raised where it is waited for
            self.error = error
        if self._ended is not None:
            self._ended()


@dataclass(frozen=True)
class LiveSample:
    """One line of a stream, read and decided on.

    Attributes
    ----------
    time : float
        In seconds, by the source's clock, or since the start; the sample's number in a log without
        a clock.
    timestamp : datetime | None
        The date and time of a source that says them.
    values : dict[str, float]
        The values by channel; NaN if there is none.
    flags : dict[str, Flag]
        The flags by channel.
    trips : dict[str, bool]
        Whether each trip is on, by name.
    commands : dict[str, float]
        What each drive would be sent; nothing is sent.
    turned : tuple[str, ...]
        The trips that turned on or off with this sample.
    by_hand : dict[str, str]
        Drives that are "held", "fed" from elsewhere or "gate_off", as `jr.Live` does it.

    Examples
    --------
    >>> import jetruler as jr
    >>> knob = jr.Bench("Desk", [jr.Channel("knob", jr.Counts(12) >> jr.Line(0.1), 1)])
    >>> next(jr.stream(["5000"], knob)).flags["knob"].name
    'OFF_SCALE'
    """

    time: float
    """In seconds, by the source's clock, or since the start; the sample's number in a log without a
    clock."""
    values: dict[str, float]
    """The values by channel; NaN if there is none."""
    flags: dict[str, Flag]
    """The flags by channel."""
    trips: dict[str, bool]
    """Whether each trip is on, by name."""
    commands: dict[str, float]
    """What each drive would be sent; nothing is sent."""
    turned: tuple[str, ...] = ()
    """The trips that turned on or off with this sample."""
    by_hand: dict[str, str] = field(default_factory=dict)
    """Drives that are "held", "fed" from elsewhere or "gate_off", as `jr.Live` does it."""
    timestamp: datetime | None = None
    """The date and time of a source that says them."""


class _Handed:
    """Lines of an asynchronous iterator, handed to the thread that reads them."""

    def __init__(self, lines: AsyncIterable[str]) -> None:
        self._source = lines
        self._lines: queue.SimpleQueue[str | None] = queue.SimpleQueue()

    def __iter__(self) -> Iterator[str]:
        return iter(self._lines.get, None)

    async def hand_on(self) -> None:
        """Until the lines end, or the task is cancelled."""
        try:
            async for line in self._source:
                while self._lines.qsize() >= HANDED:
                    await asyncio.sleep(0.01)
                self._lines.put(line)
        finally:
            self._lines.put(None)


class SampleStream(Iterator[LiveSample]):
    """Samples one after another, by `for` or `async for`; as a context manager, or by `close`, it
    lets its source go."""

    def __init__(self, samples: Generator[LiveSample], handed: _Handed | None = None) -> None:
        self._samples, self._handed = samples, handed
        self._task: asyncio.Task[None] | None = None

    def __iter__(self) -> SampleStream:
        return self

    def __next__(self) -> LiveSample:
        if self._handed is not None and self._task is None:
            raise StreamError("source: expected lines, found an asynchronous iterator: `async for`")
        return next(self._samples)

    def __aiter__(self) -> SampleStream:
        return self

    async def __anext__(self) -> LiveSample:
        if self._handed is not None and self._task is None:
            self._task = asyncio.create_task(self._handed.hand_on())
        sample = await asyncio.to_thread(next, self._samples, None)
        if sample is None:
            if self._task is not None:
                await self._task  # raises what went wrong with the lines
            raise StopAsyncIteration
        return sample

    def __enter__(self) -> SampleStream:
        return self

    def __exit__(self, *error: object) -> None:
        self.close()

    def close(self) -> None:
        """Stop, and close the source."""
        if self._task is not None:
            self._task.cancel()
        self._samples.close()


@refuses
def stream(
    source: str | Iterable[str] | AsyncIterable[str],
    bench: BenchLike,
    *,
    form: LogFormat | None = None,
    follow: bool = False,
    duration: float | None = None,
) -> SampleStream:
    """Read a stream of raw values, sample by sample, as they come.

    Smoothing, zones, trips and drives remember, as in `jetruler live`; no command is sent.

    Parameters
    ----------
    source : str | path | Iterable[str] | AsyncIterable[str] | frame
        As for the command: a file, a port, `socket://…`, "-" for standard input, "demo"; any
        iterable of lines, by `for` or by `async for`; or a frame, row by row.
    bench : Bench, or path or open file of one
        Whose channels are read.
    form : LogFormat, optional
        How its lines are written; as the bench says, and found out, if left out.
    follow : bool, default False
        Whether to wait at a file's end for more.
    duration : float, optional
        Seconds after which it stops; when the source ends if left out.

    Yields
    ------
    LiveSample
        One for each line that is a sample.

    Raises
    ------
    JetRulerError
        For a source that cannot be opened, or lines that do not fit the bench.

    Notes
    -----
    At the end a warning tells how many lines were no samples, and why.

    Examples
    --------
    >>> import jetruler as jr
    >>> bench = jr.load_bench("bench.toml")
    >>> with jr.stream("roast.csv", bench) as samples:
    ...     next(sample.time for sample in samples if sample.turned)
    44.0
    >>> knob = jr.Bench("Desk", [jr.Channel("knob", jr.Counts(12) >> jr.Line(0.1), 1)])
    >>> [sample.values["knob"] for sample in jr.stream(["100", "200"], knob)]
    [10.0, 20.0]
    """
    bench = bench_of(bench)
    lines = _lines(source)
    handed = lines if isinstance(lines, _Handed) else None
    return SampleStream(_samples(lines, bench, form, follow, duration), handed)


def _lines(source: Any) -> Any:
    """A source of lines: of a frame, its rows as CSV; of a path, its text."""
    if isinstance(source, PathLike):
        return str(Path(source).expanduser())
    if isinstance(source, str):
        return str(Path(source).expanduser()) if source.startswith("~") else source
    if hasattr(source, "__aiter__"):
        return _Handed(source)
    frame = source.to_arrow() if hasattr(source, "to_arrow") else source
    if hasattr(frame, "to_csv"):
        return frame.to_csv(index=False).splitlines()
    if hasattr(frame, "to_pylist") and hasattr(frame, "column_names"):
        rows = [",".join(frame.column_names)]
        cells = (row.values() for row in frame.to_pylist())
        return rows + [",".join("" if cell is None else str(cell) for cell in row) for row in cells]
    return source


def _samples(
    source: Any, bench: Bench, form: LogFormat | None, follow: bool, duration: float | None
) -> Generator[LiveSample]:
    """The samples of a source, which is opened when the first one is asked for."""
    parts = parts_for(source, bench, form, follow=follow)
    session = Session(parts)
    for batch in session.batches(duration):
        yield from samples_of(batch)
    if session.skipped:
        warnings.warn(f"{parts.source.name}: {session.skipped}", stacklevel=3)


def _timestamp(text: str) -> datetime | None:
    try:
        return datetime.fromisoformat(text) if "-" in text[1:] else None
    except ValueError:
        return None


def samples_of(batch: LiveBatch) -> Iterator[LiveSample]:
    """A batch, sample by sample."""
    values = {name: reading.value.tolist() for name, reading in batch.readings.items()}
    flags = {name: reading.flags.tolist() for name, reading in batch.readings.items()}
    trips = {name: on.tolist() for name, on in batch.decided.trips.items()}
    commands = {name: each.tolist() for name, each in batch.decided.drives.items()}
    turned: dict[int, list[str]] = {}
    for event in batch.decided.events:
        turned.setdefault(event.sample, []).append(event.trip.name)

    def at(i: int, table: dict[str, list[Any]]) -> dict[str, Any]:
        return {name: column[i] for name, column in table.items()}

    seconds = batch.decided.times.tolist()
    for i, time in enumerate(batch.times.to_pylist()):
        yield LiveSample(
            seconds[i],
            values=at(i, values),
            flags={name: Flag(flag) for name, flag in at(i, flags).items()},
            trips=at(i, trips),
            commands=at(i, commands),
            turned=tuple(turned.get(i, ())),
            by_hand=batch.by_hand,
            timestamp=_timestamp(time),
        )


#: This many samples wait at most for whoever iterates; older ones go, and are counted.
WAITING = 100_000


@refuses_fields
class Live(OperatorControls):
    """A bench at work on a stream, in a thread of its own, while you put your hands on it.

    Entering it starts the stream; leaving it sends every drive its safe value. Nothing is sent
    unless it is armed.

    Parameters
    ----------
    bench : Bench | path
        A bench, or its file, which is then read again whenever it is saved.
    source : str | Iterable[str], default "demo"
        As for `jr.stream`.
    sink : str, optional
        Where commands go, if not to the source.
    form : LogFormat, optional
        How its lines are written; as the bench says, and found out, if left out.
    follow : bool, default False
        Whether to wait at a file's end for more.
    record : path, optional
        Where every raw line is kept with its time, and what was done by hand as comments.
    events : path, optional
        Where trips that turn, and what was done by hand, are written as they happen (CSV).
    append : bool, default False
        Whether these two files may hold something already, which then stays.

    Raises
    ------
    JetRulerError
        Where a call names what the bench has not, or a value that cannot be: the sentence says
        what would be right.

    Notes
    -----
    What is done by hand takes effect with the next sample that arrives. Samples that wait to be
    fetched were decided before; where a gate went off meanwhile, they have the safe value.
    At the end a warning gives the number of lines that were no samples, and why.

    Examples
    --------
    >>> import jetruler as jr
    >>> with jr.Live("bench.toml", "demo") as live:
    ...     live.hold("damper", "50 %")
    ...     sample = next(s for s in live if s.flags["damper"])
    ...     live.release("damper")
    2051.0
    >>> round(sample.values["damper"]), sample.flags["damper"].name
    (50, 'HELD')
    """

    def __init__(
        self,
        bench: BenchLike,
        source: str | Iterable[str] = "demo",
        sink: str | None = None,
        *,
        form: LogFormat | None = None,
        follow: bool = False,
        record: str | PathLike[str] | None = None,
        events: str | PathLike[str] | None = None,
        append: bool = False,
    ) -> None:
        known = bench_of(bench)
        parts = parts_for(_lines(source), known, form, follow=follow)
        wire: Source | None = parts.source if takes_commands(parts.source) else None
        if sink is not None:
            wire = reached(sink, parts.form)
        recorder = written = None
        with ExitStack() as opened:  # closed again where what follows cannot be opened
            opened.callback(parts.source.close)
            if record is not None:
                recorder = Recorder(record, append=append, lossless=parts.source.lossless)
                opened.callback(recorder.close)
            if events is not None:
                written = LiveEvents(events, append=append)
            opened.pop_all()
        session = Session(
            replace(
                parts,
                bench_path=str(bench) if isinstance(bench, str | PathLike) else None,
                wire=wire,
                recorder=recorder,
                events=written,
                handled=True,
            )
        )
        super().__init__(session)
        self._samples: deque[LiveSample] = deque()
        self._change = threading.Condition()
        self._ended = False
        self._runner = Runner(self.session, self._take, self._end)
        self.latest: LiveSample | None = None
        """The last sample, None before the first."""
        self.dropped = 0
        """Samples that nobody fetched in time."""

    def __enter__(self) -> Live:
        if self._runner.started:
            raise StreamError("this stream has been entered already; make a new jr.Live")
        self._runner.start()
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        traceback: TracebackType | None,
    ) -> None:
        self.stop()
        if self.session.parts.events is not None:
            self.session.parts.events.close()
        if kind is None and self._runner.error is not None:
            raise self._runner.error
        if self.session.skipped:
            name = self.session.parts.source.name
            warnings.warn(f"{name}: {self.session.skipped}", stacklevel=2)

    @property
    def findings(self) -> Findings:
        """What `check` finds in the bench; empty until it has, soon after the first sample."""
        return self.session.findings

    def stop(self) -> None:
        """End the stream: every drive is sent its safe value."""
        self._runner.stop()

    def __iter__(self) -> Iterator[LiveSample]:
        """The samples as they come, until the stream ends."""
        while True:
            with self._change:
                while not self._samples and not self._ended:
                    self._change.wait(0.2)
                if not self._samples:
                    if self._runner.error is not None:
                        raise self._runner.error
                    return
                sample = self._samples.popleft()
            yield self._gated(sample)

    def _gated(self, sample: LiveSample) -> LiveSample:
        """A sample that waited, with the commands of drives whose gates went off meanwhile at safe:
        nobody must act on a command that passes no more."""
        drives, off = self.session.bench.drives, self.session.overrides.gates_off
        safe = {name: drives[name].safe for name in tuple(off) if name in drives}
        return replace(sample, commands=sample.commands | safe) if safe else sample

    def _take(self, batch: LiveBatch) -> None:
        with self._change:
            self._samples.extend(samples_of(batch))
            while len(self._samples) > WAITING:
                self._samples.popleft()
                self.dropped += 1
            self.latest = self._samples[-1] if self._samples else self.latest
            self._change.notify_all()

    def _end(self) -> None:
        with self._change:
            self._ended = True
            self._change.notify_all()
