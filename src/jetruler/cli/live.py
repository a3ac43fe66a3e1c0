"""`jetruler live`: a running view of a stream; trips and drives act here."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .. import demo
from ..core.bench.bench import Bench
from ..core.error_types import JetRulerError
from ..core.result import TextTable
from ..core.ruler.quantity import seconds
from ..core.ruler.units import many, number
from ..files import reject_overlapping_paths
from ..live.outputs import AlignedRows, CsvRows, JsonRows, Rows
from ..live.overrides import injections
from ..live.parts import bare_bench, parts_for
from ..live.session import Session
from ..live.source_reader import head_of
from ..live.sources import reached, source_named, takes_commands
from ..live.writers import LiveEvents, Messages, OutputWriter, Recorder
from ..samples.shapes import EXPECTED
from ..system import has_keyboard, keyboard, on_rest
from .options import Given, bench_option, folder_of, form_of, load, log_options
from .streams import echo, encoded, raw_stdout, show

if TYPE_CHECKING:
    from ..core.bench.bench import LogFormat
    from ..live.session import Parts, Session
    from ..live.sources import Source


@click.command()
@click.option(
    "--source",
    "source_name",
    metavar="WHERE",
    help="-, demo, none, a file, a port, or a URL. Default: standard input.",
)
@click.option("--follow", is_flag=True, help="The source is a file that grows.")
@click.option("--baud", type=int, metavar="N", help="Rate of a serial port.")
@click.option("--pace", metavar="PACE", help="Speed of a log: real, 10x, or fast (default).")
@click.option("--inject", multiple=True, metavar="C=RAW", help="Use this raw value for channel C.")
@click.option(
    "--sweep",
    multiple=True,
    metavar="C=A:B/TIME",
    help="Sweep channel C from count A to B and back.",
)
@click.option("--arm", is_flag=True, help="Send the drives' commands.")
@click.option("--sink", metavar="PORT", help="Send commands here instead of to the source.")
@click.option("--record", metavar="FILE", help="Write every raw line with its time to FILE.")
@click.option("--events", metavar="FILE", help="Write trip changes and manual actions to FILE.")
@click.option("--append", is_flag=True, help="Append to the --record and --events files.")
@click.option("--duration", "how_long", metavar="TIME", help='Stop after this time: "10 s".')
@click.option("--keep-raw", is_flag=True, help="Print the raw values too.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object for each sample.")
@click.option("--plain", is_flag=True, help="Print aligned columns instead of the view.")
@log_options
@bench_option
def live_command(bench_path: str, **options: Any) -> None:
    """Show a stream of raw values as engineering values while it runs.

    On a terminal: a view with keys (? shows them, q or Ctrl-C ends it). Otherwise: one line of CSV
    for every sample. The bench file is read again whenever it is saved.

    \b
    jetruler live --source demo
    jetruler live --source /dev/ttyACM0 --arm
    """
    asked = LiveOptions(**options)
    if asked.looked_at and asked.why_no_view:
        echo(f"aligned rows instead of the view: {asked.why_no_view}", err=True)
        asked = replace(asked, plain=True)
    lasting = None if asked.how_long is None else _lasting(asked.how_long)
    if asked.as_json and asked.plain:
        raise JetRulerError("expected --json or --plain, found both")

    with ExitStack() as opened:
        _run(_parts(bench_path, asked, opened), asked, lasting)


def _run(parts: Parts, asked: LiveOptions, lasting: float | None) -> None:
    """Run a session, in the view or row by row, and say what came of it."""
    source = parts.source
    if asked.viewing:
        return _view(parts, lasting)
    with _writer(source.lossless and not parts.armed) as writer, _messages() as messages:
        parts = replace(parts, writer=writer, messages=messages)
        session = _until_stopped(Session(parts), lasting, writer)
        lasted = time.monotonic() - session.progress.started
    _end(session, lasted, writer)


def _end(session: Session, lasted: float, writer: OutputWriter | None) -> None:
    """Say what was seen and what was lost."""
    if session.parts.events is not None:
        session.parts.events.close()
    source = session.parts.source
    progress = session.progress
    if progress.ended and not progress.stopped and not session.processor.rows:
        bad = f"; {session.skipped}; {EXPECTED}" if session.skipped else ", and without a line"
        raise JetRulerError(f"{source.name}: the stream ended without a sample{bad}")
    _summary(session, lasted, writer)
    if any(file.failure for file in _files(session)):
        sys.exit(1)


def _files(session: Session) -> list[Recorder | LiveEvents]:
    """What is written beside the rows."""
    parts = session.parts
    return [file for file in (parts.recorder, parts.events) if file is not None]


@dataclass(frozen=True)
class LiveOptions:
    """What the options say."""

    source_name: str | None
    follow: bool
    baud: int | None
    pace: str | None
    inject: tuple[str, ...]
    sweep: tuple[str, ...]
    arm: bool
    sink: str | None
    record: str | None
    events: str | None
    append: bool
    how_long: str | None
    as_json: bool
    plain: bool
    keep_raw: bool
    given: Given

    @property
    def name(self) -> str:
        """The source."""
        if self.source_name is None and sys.stdin.isatty():
            expected = "a port (/dev/ttyACM0, COM3), a file, a URL, or demo for the stand-in board"
            raise JetRulerError(f"live: expected --source with {expected}")
        return self.source_name or "-"

    @property
    def looked_at(self) -> bool:
        """Whether somebody looks at a terminal."""
        return sys.stdout.isatty() and not self.as_json and not self.plain

    @property
    def why_no_view(self) -> str:
        """Why a terminal cannot show the view, in words; empty where it can."""
        if os.environ.get("TERM") in ("dumb", "unknown"):
            return f"TERM is {os.environ['TERM']}"
        return "" if has_keyboard() else "there is no keyboard"

    @property
    def viewing(self) -> bool:
        """Whether the view is shown."""
        return self.looked_at and not self.why_no_view


def _parts(bench_path: str, asked: LiveOptions, opened: ExitStack) -> Parts:
    """What the session is made of; its outlet comes later. opened: closes it, whatever happens."""

    written = {"--record": asked.record, "--events": asked.events}
    for path in written.values():
        if path is not None:
            folder_of(path)
    if asked.append and not any(written.values()):
        raise JetRulerError("--append: expected --record or --events beside it, found neither")
    reject_overlapping_paths(written, {"the source": asked.name, "the bench": bench_path})
    bench, source = _bench(bench_path, asked)
    form = form_of(asked.given, bench, baud=asked.baud)
    parts = parts_for(source, bench, form, follow=asked.follow, pace=asked.pace)
    opened.callback(parts.source.close)
    made = injections(bench, asked.inject, asked.sweep)
    wire = _wire(asked, parts.source, bench, parts.form)

    def rows_of(bench: Bench, time_name: str) -> Rows:
        if asked.plain:
            return AlignedRows(bench, time_name, encoded, keep_raw=asked.keep_raw)
        kind = JsonRows if asked.as_json else CsvRows
        return kind(bench, time_name, keep_raw=asked.keep_raw)

    recorder = _recorder(asked, parts.source)
    events = None if asked.events is None else LiveEvents(asked.events, append=asked.append)
    for file in (recorder, events):
        if file is not None:
            opened.callback(file.close)
    is_bare = not Path(bench_path).exists()
    return replace(
        parts,
        bench_path=None if is_bare else bench_path,
        remark=no_bench(asked) if is_bare else "",
        injections=made,
        wire=wire,
        armed=asked.arm,
        recorder=recorder,
        events=events,
        rows=rows_of,
    )


def _recorder(asked: LiveOptions, source: Source) -> Recorder | None:
    if asked.record is None:
        return None
    return Recorder(asked.record, append=asked.append, lossless=source.lossless and not asked.arm)


def _bench(bench_path: str, asked: LiveOptions) -> tuple[Bench, str | Source]:
    """The bench, and the source; without a file, the demo's bench for its board, else every column
    of the source as it comes."""
    if bench_path != "bench.toml" or Path(bench_path).exists() or asked.name == "none":
        return load(bench_path), asked.name
    if asked.name == "demo":
        from ..benchfile.load import parse_bench

        echo(no_bench(asked), err=True)
        return parse_bench(demo.read("bench.toml").decode()), asked.name
    form = form_of(asked.given, None, baud=asked.baud)
    source = source_named(asked.name, form, asked.follow)
    bench = bare_bench(head_of(source, form), form, source.name)
    echo(no_bench(asked), err=True)
    return bench, source


def no_bench(asked: LiveOptions) -> str:
    """What is missing, and what makes it."""
    if asked.name == "demo":
        return "no bench.toml here: using that of the demo; jetruler demo --files writes it"
    log = "LOG" if asked.name == "-" else asked.name
    return f"no bench.toml here: showing the raw columns; jetruler new --from {log} writes one"


@contextmanager
def _messages() -> Iterator[Messages]:
    """Standard error, written by a thread."""
    messages = Messages()
    try:
        yield messages
    finally:
        messages.close()


def _lasting(how_long: str) -> float:
    """Seconds; a bare number is one of them."""
    found = seconds(float(how_long) if how_long.replace(".", "", 1).isdigit() else how_long)
    if not 0 < found < float("inf"):
        raise JetRulerError(
            f'--duration: expected a time above 0, as in "10 s", found {how_long!r}'
        )
    return found


def _wire(asked: LiveOptions, source: Source, bench: Bench, form: LogFormat) -> Source | None:
    """Where commands go: nowhere unless it is armed, now or by a key of the view."""

    sink = asked.sink
    if sink is not None and not asked.arm and not asked.viewing:
        raise JetRulerError("--sink: expected --arm too, found none: nothing is sent without it")
    if asked.arm and not bench.drives:
        raise JetRulerError("--arm: expected a bench with drives, found none; add a [drive.<name>]")
    if sink is not None and sink != asked.name:
        return reached(sink, form)
    if takes_commands(source):
        return source
    if asked.arm:
        raise JetRulerError(
            f"--arm: expected a source that takes commands, found {source.name} "
            "(name a port with --sink)"
        )
    return None


@contextmanager
def _writer(lossless: bool) -> Iterator[OutputWriter]:
    """Standard output, written by a thread. What cannot be written in time is given up."""

    sys.stdout.flush()
    writer = OutputWriter(raw_stdout(), lossless)
    try:
        yield writer
    finally:
        writer.close(timeout=5.0 if lossless else 1.0)


def _view(parts: Parts, lasting: float | None) -> None:
    """The view, with its keys, until the stream ends or somebody ends it."""
    os.environ.setdefault("TEXTUAL_FPS", "120")  # a key's effect waits for the next picture
    from .view.app import run

    session = Session(replace(parts, rows=None, handled=True, viewed=True))
    with keyboard():
        code, session.progress.stopped = run(session, lasting)
    _end(session, time.monotonic() - session.progress.started, None)
    if code:
        sys.exit(code)


def _until_stopped(session: Session, lasting: float | None, writer: OutputWriter) -> Session:
    """Run, and have all of a recorded stream taken; Ctrl-C, wherever it comes, is somebody who
    wants no more; Ctrl-Z leaves drives safe."""
    if session.sender.armed:
        on_rest(lambda: setattr(session, "pause_asked", True))
    try:
        session.run(lasting)
        if session.progress.ended and session.parts.source.lossless:
            writer.drain()
    except KeyboardInterrupt:
        session.progress.stopped = True
    return session


def _summary(session: Session, lasted: float, writer: OutputWriter | None) -> None:
    """What was seen and what was lost, to stderr."""
    rows = []
    for name, seen in session.processor.seen.items():
        channel = session.bench[name]
        ends = ["–", "–", "–"]
        if seen.highest >= seen.lowest:
            at = sorted(float(channel.ruler(end)) for end in (seen.lowest, seen.highest))
            ends = [*map(channel.shown, at), f"{number(seen.lowest)} … {number(seen.highest)}"]
        rows.append([name, *ends, str(seen.flagged)])
    headings = ("channel", "lowest", "highest", "raw", "flagged")
    show([TextTable(headings, rows)], err=True)
    for note in _notes(session, lasted, writer):
        echo(note, err=True)


def _notes(session: Session, lasted: float, writer: OutputWriter | None) -> Iterator[str]:
    yield f"{many(session.processor.rows, 'sample')} in {lasted:.1f} s"
    if session.processor.lines.line_format:
        yield f"reading lines as: {session.processor.lines.line_format}"
    if session.skipped:
        yield session.skipped
    lines = session.processor.lines
    for column, n in lines.unreadable.items():
        yield f"column {column}: {n} cells are not numbers"
    if session.progress.returns:
        yield f"the source was gone {session.progress.returns} times"
    if session.reader.lost:
        yield f"{session.reader.lost} bytes came too fast and were lost"
    if writer is not None:
        yield from _unwritten(session, writer)
    for file in _files(session):
        what = "recorded" if file is session.parts.recorder else "written"
        if file.failure:
            yield f"{file.failure}; {file.missed} bytes are not {what}"
        elif file.missed:
            yield f"{file.missed} bytes are not {what}: the reader was too slow"
    if session.sender.unsent:
        yield f"{session.sender.unsent} commands could not be sent: {session.sender.failure}"
    if not session.sender.armed and session.bench.drives:
        yield "disarmed: no command was sent; --arm sends commands"


def _unwritten(session: Session, writer: OutputWriter) -> Iterator[str]:
    """Rows that did not come out, and why."""
    why = "the reader was too slow"
    if writer.error is not None:
        why = str(writer.error.strerror).lower()
    cut = 0 if session.parts.rows is None else session.processor.rows - writer.taken
    lost = (
        ("", writer.dropped, why),
        ("up to ", writer.abandoned, why),
        ("", cut, "it was stopped"),
    )
    for upto, rows, reason in lost:
        if rows > 0:
            verb = "was" if rows == 1 else "were"
            yield f"{upto}{many(rows, 'row')} {verb} not written: {reason}"
