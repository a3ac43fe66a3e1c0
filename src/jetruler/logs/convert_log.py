"""A log of raw counts into a log of engineering values, in bounded memory."""

from __future__ import annotations

from collections.abc import Iterable
from contextlib import ExitStack
from dataclasses import dataclass, replace
from os import PathLike
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

from ..core.bench.bench import Bench, BenchLike, LogFormat, bench_of
from ..core.bench.decisions import Decisions
from ..core.bench.derived import DerivedChannel
from ..core.error_types import KindError, LogError
from ..core.result import refuses
from ..files import Output, reject_overlapping_paths
from ..samples.passes import EveryPass, Progress, SampleBatch, columns_of, walk
from ..samples.source import Log, LogReader, kind_of, name_of
from ..samples.threads import Workers
from .conversion import (
    Conversion,
    Converted,
    ConvertOptions,
    Layout,
    StatefulBatch,
    decisions_of,
)
from .passed_types import Given, OtherTypeError
from .summary import Summary

if TYPE_CHECKING:
    from .check_log import EventWriter


@refuses
def convert(
    log: Log,
    bench: BenchLike,
    out: str | PathLike[str],
    *,
    events: str | PathLike[str] | None = None,
    progress: Progress | None = None,
    **options: Any,
) -> Summary:
    """Convert a log of counts through a bench and write the result.

    The result has the columns that no channel uses, then a column `<channel>_<unit>` a channel,
    then `flags`. CSV, JSON Lines and Parquet are read and written; names that end in .gz or .zst
    are packed. From CSV to CSV everything else stays as it is: delimiter, decimal mark and line
    ends, header or none, and the text of the columns that pass through. Values are written to the
    channel's `decimals`; in Parquet at full precision, null where there is none, with the unit in
    the column's metadata. "-" is standard input or output.

    Parameters
    ----------
    log : file of raw counts, by its path, open, or as bytes; a frame; "-" is standard input.
    bench : the channels to convert.
    out : file of the result; "-" is standard output.
    events : CSV file for where the bench's trips turn on and off.
    progress : is called after each batch with the bytes read, and the bytes in all if known.
    **options : the fields of `ConvertOptions`, such as `only`, `keep_raw`, `uncertainty`.

    Returns
    -------
    What was read, what was not, and the range of every channel.

    Raises
    ------
    LogError : for a log that cannot be read or a result that cannot be written; the output then
        is as it was before.

    Examples
    --------
    >>> import jetruler as jr
    >>> bench = jr.load_bench("bench.toml")
    >>> summary = jr.convert("roast.csv", bench, "out.csv")
    >>> summary.rows
    4200
    """
    bench = bench_of(bench)
    if not isinstance(out, str | PathLike):
        raise KindError(f"out: expected a path, found {type(out).__name__}")
    job = _Job(_ready(log), bench, Path(out).expanduser(), events, ConvertOptions(**options))
    given: dict[int, Given] = {}
    with Workers(job.options.threads, busy=job.kind == "parquet") as workers:
        while True:
            try:
                return job.done(workers, given, progress)
            except OtherTypeError as error:
                if not job.can_be_read_again:
                    raise LogError(
                        f"{job.name} line {error.line}: expected a cell of column "
                        f"{error.name!r} written as those before, found {error.found!r}: from a "
                        "file this works"
                    ) from None
                given = error.given
            except LateFieldsError as error:
                form = job.options.form or bench.log or LogFormat()
                form = replace(form, columns=tuple(dict.fromkeys(error.columns)))
                job = replace(job, options=replace(job.options, form=form))


def _ready(log: Log) -> Log:
    """What can be read twice: a path, bytes or a frame; an open file is read to its end."""
    if isinstance(log, str | PathLike):
        return Path(log).expanduser()
    if hasattr(log, "read"):
        given = log.read()
        return given if isinstance(given, bytes) else given.encode()
    return log


class LateFieldsError(Exception):
    """Fields of JSON Lines that came when the columns were settled: the log is read again with
    all of these."""

    def __init__(self, columns: list[str]) -> None:
        super().__init__()
        self.columns = columns


class Writer(Protocol):
    """Writes batches in a format. `encoded` may be called from any thread, the others in order."""

    @property
    def types(self) -> dict[str, str]: ...

    def begin(self, first: Converted) -> None: ...

    def encoded(self, converted: Converted) -> Any: ...

    def write(self, encoded: Any) -> None: ...

    def finish(self) -> None: ...

    def close(self) -> None:
        """Let go; what is not finished is lost."""


@dataclass(frozen=True)
class _Job:
    """What is to be converted, and how; see `convert`."""

    log: Log
    bench: Bench
    out: str | PathLike[str]
    events: str | PathLike[str] | None
    options: ConvertOptions

    @property
    def name(self) -> str:
        """What messages call the log."""
        return name_of(self.log)

    @property
    def can_be_read_again(self) -> bool:
        """Whether it is a file, and no pipe."""
        log = self.path
        return log is None or (str(log) != "-" and Path(log).is_file())

    @property
    def path(self) -> str | PathLike[str] | None:
        """The log's path, if it has one."""
        return self.log if isinstance(self.log, str | PathLike) else None

    def done(self, workers: Workers, given: dict[int, Given], progress: Progress | None) -> Summary:
        """Read, convert and write; given: types that columns are known to need."""
        # A block is text, then arrays, then texts, then text again, and several are under way.
        reject_overlapping_paths({"out": self.out, "events": self.events}, {"the log": self.path})
        block = int(self.options.memory * 2**20 / (14 * (workers.threads + 1)))
        with _ConvertPass(self, workers, given, progress) as one:
            walk(
                self.log,
                one,
                form=self.options.form or self.bench.log,
                wanted=columns_of(self.bench),
                block_bytes=min(max(block, 2**16), 2**23),
                workers=workers,
            )
            return one.found()

    @property
    def kind(self) -> str | None:
        """What the result is written as; None where its name does not say."""
        form = self.options.form
        kind = self.options.out_kind or kind_of(self.out)
        if kind is None and str(self.out) == "-":
            kind = (form and form.format) or (self.path and kind_of(self.path)) or None
            kind = "csv" if kind == "parquet" else kind
        return kind

    def writer(self, layout: Layout, output: Output, given: dict[int, Given]) -> Writer:
        """What writes the result."""
        kind = self.kind
        if kind == "parquet":
            from .log_writers import ParquetWriter

            if output.packs:
                raise LogError(
                    f"{self.out}: expected .parquet alone, found it packed: it is packed already"
                )
            return ParquetWriter(layout, output.file, given)
        from .log_writers import CsvWriter, JsonWriter

        if kind == "jsonl":
            return JsonWriter(layout, output.write, given)
        return CsvWriter(layout, output.write)

    def event_writer(self, files: ExitStack) -> EventWriter | None:
        """What writes where trips turn, if anybody asks."""
        if self.events is None:
            return None
        from .check_log import EventWriter

        if str(self.events) == "-":
            raise LogError("events: expected a file, found standard output, which takes the values")
        out = files.enter_context(Output(self.events, self.path or "-"))
        return EventWriter(out.write, self.bench)


class _ConvertPass(EveryPass):
    """A log while it is converted: in order what remembers, by any thread the rest."""

    def __init__(
        self,
        job: _Job,
        workers: Workers,
        given: dict[int, Given],
        progress: Progress | None,
    ) -> None:
        self.job, self._given, self._progress = job, given, progress
        self._decisions: Decisions | None = None
        self._files = ExitStack()
        self._pipeline = workers.pipeline(self._encoded, self._take)
        self._files.callback(self._pipeline.close)

    def __enter__(self) -> _ConvertPass:
        return self

    def __exit__(self, *error: Any) -> None:
        self._files.__exit__(*error)

    def begin(self, reader: LogReader) -> Iterable[int]:
        """Settle what is where, and open what is written."""
        job, options = self.job, self.job.options
        layout = Layout.of(reader, job.bench, options)
        output = self._files.enter_context(Output(job.out, job.path or "-"))
        self._writer, self._renamed = job.writer(layout, output, self._given), layout.renamed
        self._files.callback(self._writer.close)
        self._events = job.event_writer(self._files)
        self._decides = options.commands or self._events is not None
        looked_at = [c.name for c in layout.channels] if self._decides else []
        self._conversion = Conversion(reader, layout.channels, looked_at)
        self.integers = set() if options.keep_raw else set(layout.indices)
        self.timed = self._conversion.remembers or self._decides
        return layout.counts

    def add(self, batch: SampleBatch) -> None:
        """The next rows."""
        conversion = self._conversion
        found = conversion.followed(batch)
        if self._decides:
            if self._decisions is None:
                self._decisions = decisions_of(
                    self.job.bench,
                    conversion.channels,
                    batch.clock,
                    conversion.reader.name,
                    drives=self.job.options.commands,
                )
            found = conversion.decided(found, self._decisions)
        if not batch.first:
            self._writer.begin(conversion.converted(found))
        if self._events is not None and found.decided is not None:
            self._events.add(batch, found.decided.events, conversion.readings(found))
        self._pipeline.add(found)

    def _encoded(self, found: StatefulBatch) -> tuple[Converted, Any]:
        converted = self._conversion.converted(found)
        return converted, self._writer.encoded(converted)

    def _take(self, made: tuple[Converted, Any]) -> None:
        converted, ready = made
        self._conversion.count(converted)
        self._writer.write(ready)
        if self._progress:
            self._progress(*self._conversion.reader.progress)

    def found(self) -> Summary:
        """The summary. Raises `LogError` where not one sample was read."""
        self._pipeline.finish()
        reader = self._conversion.reader
        if reader.late and self.job.can_be_read_again:
            raise LateFieldsError([*reader.columns, *reader.late])
        self._writer.finish()
        summary = self._conversion.summary
        summary.pass_through = self._writer.types
        summary.renamed = {i + 1: name for i, name in self._renamed.items()}
        summary.jumps = 0 if self._decisions is None else self._decisions.clock.jumps
        return _sound(self._conversion)


def _sound(conversion: Conversion) -> Summary:
    """The summary; raises `LogError` where not one sample was read."""
    summary, reader = conversion.finished(), conversion.reader
    own = [c for c in summary.channels.values() if not isinstance(c.channel, DerivedChannel)]
    if own and all(c.empty + c.unreadable == c.rows for c in own):
        raise reader.nothing_read(c.channel.column for c in own)
    return summary
