"""Whatever goes wrong beside an armed drive: it follows its channel, or it is safe."""

from __future__ import annotations

import contextlib
import os
import queue
import signal
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from jetruler import parse_bench
from jetruler.core.bench.bench import LogFormat
from jetruler.live.session import Parts, Session
from jetruler.live.sources import Base, SourceCut, SourceGone
from jetruler.live.writers import LiveEvents, Recorder
from tests.conftest import COMMAND
from tests.helpers.sizes import few, posix, soak, thinned

STALE = 0.4
BENCH = f"""
[converter]
bits = 12
vref = 3.3
[channel.knob]
column = "k"
laws = [{{ law = "line", marks = [[0, 0], [4000, 100]], unit = "%" }}]
[channel.pin]
column = "p"
[log]
columns = ["t", "k", "p"]
stale = {STALE}
[trip.high]
any = [{{ channel = "knob", above = 90 }}]
hold = 0.3
[drive.flap]
from = "knob"
marks = [[0, 1000], [100, 2000]]
range = "pulse"
safe = 1500
safe_when = ["high"]
"""
SAFE = "flap=1500"


class Board(Base):
    """A board in this process: what the test says comes in, what it is sent is kept with its
    time."""

    name = "board"

    def __init__(self) -> None:
        self.said: queue.Queue[bytes | type[BaseException]] = queue.Queue()
        self.got: list[tuple[float, str]] = []
        self.broken = False

    def read(self) -> bytes:
        try:
            data = self.said.get(timeout=0.02)
        except queue.Empty:
            return b""
        if isinstance(data, bytes):
            return data
        raise data("pulled out")

    def write(self, data: bytes) -> None:
        if self.broken:
            raise OSError("nobody hears")
        self.got += [(time.monotonic(), line) for line in data.decode().split("\n") if line]

    def open(self) -> None:
        if self.broken:
            raise SourceGone("nobody there")

    @property
    def last(self) -> str:
        return self.got[-1][1] if self.got else ""


class Bed:
    """A session on a board, in a thread; samples go on at 50 a second until somebody stops them."""

    def __init__(self, home: Path, bench: str = BENCH, first: bytes = b"", **more: object) -> None:
        self.board = Board()
        self.board.said.put(first)
        self.wire = more.get("wire", self.board)
        self.path = home / "bench.toml"
        self.path.write_text(bench)
        found = parse_bench(bench)
        given = {"wire": self.board, **more}
        parts = Parts(str(self.path), found, found.log or LogFormat(), self.board, {}, armed=True)
        self.heard: list[str] = []
        self.session = Session(replace(parts, messages=self.heard.append, **given))  # type: ignore[arg-type]
        self.row: Callable[[float], bytes] | None = lambda t: b"%.3f,1200,5\n" % t
        self._over = threading.Event()
        self._threads = [
            threading.Thread(target=self._talk, daemon=True),
            threading.Thread(target=self._run, daemon=True),
        ]
        self.error: BaseException | None = None

    def __enter__(self) -> Bed:
        self.started = time.monotonic()
        for thread in self._threads:
            thread.start()
        self.until(lambda: len(self.wire.got) > 1)  # type: ignore[attr-defined]
        # It has read some of the board's own lines, whose form it goes on with.
        begun = time.monotonic()
        while not self.session.processor.rows and time.monotonic() - begun < 5.0:
            time.sleep(0.005)
        return self

    def __exit__(self, *_: object) -> None:
        self._over.set()
        self.session.progress.ended = True
        for thread in self._threads:
            thread.join(5)
        assert self.wire is not self.board or self.board.last == SAFE  # whatever ended it

    def _talk(self) -> None:
        while not self._over.wait(0.02):
            if self.row is not None:
                self.board.said.put(self.row(time.monotonic() - self.started))

    def _run(self) -> None:
        try:
            self.session.run()
        except BaseException as error:
            self.error = error

    def until(self, true: Callable[[], bool], seconds: float = 10.0) -> float:
        """How long it took until something was so."""
        begun = time.monotonic()
        while not true():
            assert time.monotonic() - begun < seconds, (self.board.got[-5:], self.heard, self.error)
            time.sleep(0.005)
        return time.monotonic() - begun

    def follows(self, count: int) -> None:
        """The drive follows the channel to this count: 1000 + count/4."""
        self.row = lambda t: b"%.3f,%d,5\n" % (t, count)
        self.until(lambda: self.board.last == f"flap={1000 + count // 4}")

    def safe_within(self, seconds: float) -> None:
        self.until(lambda: self.board.last == SAFE, seconds)


@pytest.fixture
def bed(tmp_path: Path) -> Iterator[Bed]:
    with Bed(tmp_path) as bed:
        bed.follows(2400)
        yield bed


def test_it_falls_silent(bed: Bed) -> None:
    bed.row = None
    bed.safe_within(STALE + 0.3)
    bed.follows(2000)


@few
@pytest.mark.parametrize(
    "row",
    [
        b"%.3f,,5\n", b"%.3f,4095,5\n", b"%.3f,99999,5\n", b"%.3f,1e400,5\n", b"%.3f,nan,5\n",
        b"%.3f,hot,5\n", b"%.3f,4.0.0,5\n", b"%.3f\n", b"%.3f,2400,5,7,8\n", b"%.3f;2400;5\n",
        b"#%.3f,2400,5\n", b"reset at %.3f\n", b"%.3f,2400,5", b"\x00\xff%.3f\n",
    ],
)  # fmt: skip
def test_what_it_says_is_no_sample(bed: Bed, row: bytes) -> None:
    """Missing, out of range, torn or no line at all: safe at once, or when it is stale."""
    bed.row = lambda t: row % t
    bed.safe_within(STALE + 0.3)


def test_a_remark_is_no_header(tmp_path: Path) -> None:
    """Neither where columns are declared nor where they came as a header: unless it names them
    all."""
    for declared in (True, False):
        bench = BENCH if declared else BENCH.replace('columns = ["t", "k", "p"]\n', "")
        with Bed(tmp_path, bench, first=b"" if declared else b"t,k,p\n") as bed:
            bed.follows(2400)
            bed.board.said.put(b"k,over range,reset\n")
            bed.board.said.put(b"k,t,over\n")
            bed.follows(2000)
            assert all(1000 <= int(line.split("=")[1]) <= 2000 for _, line in bed.board.got)
            if not declared:
                bed.board.said.put(b"p,k,t\n")  # the board began again, with its columns turned
                bed.row = lambda t: b"5,1600,%.3f\n" % t
                bed.until(lambda: bed.board.last == "flap=1400")


@pytest.mark.parametrize("seam", [SourceGone, SourceCut])
def test_half_lines_are_dropped_at_a_seam(bed: Bed, seam: type[Exception]) -> None:
    bed.row = None
    time.sleep(0.1)
    bed.board.said.put(b"9.000,20")
    bed.board.said.put(seam)
    bed.board.said.put(b"00,5\n9.1,2000,5\n")
    bed.until(lambda: bed.board.last == "flap=1500")
    commands = {int(line.split("=")[1]) for _, line in bed.board.got}
    assert commands <= {1300, 1500, 1600}, commands


def test_lost_bytes_join_nothing(bed: Bed, monkeypatch: pytest.MonkeyPatch) -> None:
    """What comes faster than it is read is lost in whole lines."""
    reader = bed.session.reader
    bed.row = None
    time.sleep(0.1)
    monkeypatch.setattr("jetruler.live.source_reader.PROMPT_ROOM", 1)
    reader._taken_at = time.monotonic() - 9
    reader._waiting += 5
    reader._hand_on(b"9.5,40")
    reader._waiting -= 5
    monkeypatch.undo()
    reader._hand_on(b"00,5\n9.6,2000,5\n")
    bed.until(lambda: bed.board.last == "flap=1500")
    assert reader.lost == 6
    assert "flap=2000" not in {line for _, line in bed.board.got}


@soak
@pytest.mark.parametrize(
    ("time_text", "said"),
    [
        (b"1.980", "stops"), (b"x", "cannot be read"), (b"", "cannot be read"),
        (b"-5", "stops"),
    ],
)  # fmt: skip
def test_its_clock_is_of_no_use(bed: Bed, time_text: bytes, said: str) -> None:
    """Decisions go on by arrival: the trip that must hold for 0.3 s turns on, and the drive is
    safe."""
    bed.row = lambda t: time_text + b",2000,5\n"
    bed.until(
        lambda: any(
            said in text and "decisions use the times of arrival" in text for text in bed.heard
        )
    )
    bed.row = lambda t: time_text + b",1600,5\n"
    bed.until(lambda: bed.board.last == "flap=1400")
    bed.row = lambda t: time_text + b",3800,5\n"
    bed.safe_within(1.0)
    assert bed.session.processor.why_safe("flap") == "trip high"


@soak
def test_a_drive_may_be_safe_while_the_clock_is_of_no_use(tmp_path: Path) -> None:
    bench = BENCH + 'safe_flags = ["clock", "missing"]\n'
    with Bed(tmp_path, bench) as bed:
        bed.follows(2400)
        bed.row = lambda t: b"1.98,2400,5\n"
        bed.safe_within(4.0)
        assert "stops" in bed.session.processor.why_safe("flap")
        bed.follows(2000)


def test_a_loop_that_is_late(bed: Bed) -> None:
    """Something holds it: the watchdog sends safe, and the drive starts from there."""
    held = threading.Event()
    bed.session.post(lambda: held.wait(20) and None)
    bed.safe_within(1.5)
    held.set()
    bed.follows(1600)
    bed.until(lambda: any("the loop was blocked" in text for text in bed.heard))


class Stuck(Base):
    """A wire of its own that breaks and comes back."""

    name = "sink"

    def __init__(self) -> None:
        self.got: list[str] = []
        self.breaks = False
        self.opened = 0

    def open(self) -> None:
        if self.breaks:
            raise SourceGone("not there")
        self.opened += 1

    def write(self, data: bytes) -> None:
        if self.breaks:
            raise OSError("gone")
        self.got += data.decode().split()


def test_a_sink_is_opened_again_and_gets_safe_first(tmp_path: Path) -> None:
    wire = Stuck()
    with Bed(tmp_path, wire=wire) as bed:
        bed.row = lambda t: b"%.3f,2400,5\n" % t
        bed.until(lambda: wire.got[-1:] == ["flap=1600"])
        wire.breaks = True
        bed.row = lambda t: b"%.3f,2000,5\n" % t
        bed.until(lambda: bed.session.sender.failure != "")
        before = len(wire.got)
        wire.breaks = False
        bed.row = lambda t: b"%.3f,1600,5\n" % t
        bed.until(lambda: wire.got[-1:] == ["flap=1400"])
        assert wire.opened == 1
        assert wire.got[before] == SAFE
    assert wire.got[-1] == SAFE


@soak
@pytest.mark.parametrize(
    "change",
    [
        ('column = "k"', 'column = "q"'), ("bits = 12", "bits = 99"), ("bits = 12", "bits = "),
        ("[drive.flap]", "[drive.flap]\nslew = -1"), (BENCH, ""), (BENCH, "\0"),
    ],
)  # fmt: skip
def test_a_bench_is_saved_that_does_not_fit(bed: Bed, change: tuple[str, str]) -> None:
    bed.path.write_text(BENCH.replace(*change))
    bed.until(lambda: any("the last valid bench is still used" in text for text in bed.heard))
    bed.follows(2000)
    bed.path.unlink()
    time.sleep(0.6)
    bed.follows(2400)


@few
@posix
@pytest.mark.parametrize("what", ["events", "record"])
@pytest.mark.parametrize("where", thinned(["/dev/full", "pipe", "folder"], 2))
def test_what_is_written_beside_it_takes_nothing(tmp_path: Path, what: str, where: str) -> None:
    path = tmp_path / "out"
    if where == "pipe":
        os.mkfifo(path)
    else:
        path = Path(where) if where == "/dev/full" else path
    file: LiveEvents | Recorder = (LiveEvents if what == "events" else Recorder)(path)
    given: dict[str, Any] = {"events" if what == "events" else "recorder": file}
    with Bed(tmp_path, BENCH, **given) as bed:
        if where == "folder":
            path.unlink()
            path.mkdir()
        bed.follows(2400)
        if where == "pipe":  # full, and nobody reads
            writer = file._file._writer
            bed.session.post(lambda: [writer.put(b"x" * 65536, 1) for _ in range(80)] and None)
        bed.row = lambda t: b"%.3f,3800,5\n" % t
        bed.safe_within(2)
        bed.follows(2000)
        if where == "/dev/full":
            bed.until(lambda: "No space left" in file.failure)
    file.close()


# What only a process can suffer.


@pytest.fixture
def start(tmp_path: Path) -> Iterator[Callable[..., subprocess.Popen[bytes]]]:
    (tmp_path / "bench.toml").write_text(BENCH)
    running: list[subprocess.Popen[bytes]] = []

    def start(*args: str, **more: object) -> subprocess.Popen[bytes]:
        usual = dict.fromkeys(("stdin", "stdout", "stderr"), subprocess.PIPE) | more
        live: subprocess.Popen[bytes] = subprocess.Popen(
            [COMMAND, "live", "--arm", *args],
            cwd=tmp_path,
            **usual,  # type: ignore[call-overload]
        )
        running.append(live)
        return live

    yield start
    for one in running:
        one.kill()
        one.communicate()


class Peer:
    """A board on a TCP port: it sends a sample 50 times a second, and hears commands."""

    def __init__(self) -> None:
        import socket

        self.server = socket.create_server(("127.0.0.1", 0))
        self.url = f"socket://127.0.0.1:{self.server.getsockname()[1]}"
        self.count, self.heard = 2400, ""
        self._over = threading.Event()

    def __enter__(self) -> Peer:
        self.thread = threading.Thread(target=self._work, daemon=True)
        self.thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._over.set()
        self.thread.join(5)
        self.server.close()

    def _work(self) -> None:
        client, _ = self.server.accept()
        client.settimeout(0.02)
        begun = time.monotonic()
        with client, contextlib.suppress(BrokenPipeError, ConnectionResetError):
            while not self._over.is_set():
                with contextlib.suppress(TimeoutError):
                    client.sendall(b"%.3f,%d,5\n" % (time.monotonic() - begun, self.count))
                    data = client.recv(4096)
                    if not data:
                        return
                    self.heard += data.decode()

    def until(self, last: str, seconds: float = 20.0) -> None:
        end = time.monotonic() + seconds
        while not self.heard.endswith(last + "\n"):
            assert time.monotonic() < end, self.heard[-200:]
            time.sleep(0.005)

    def follows(self, count: int) -> None:
        self.count = count
        self.until(f"flap={1000 + count // 4}")


SIGNALS = ["TERM", "USR1", "RTMIN"]
MORE = [
    *("HUP", "INT", "QUIT", "USR2", "ALRM", "VTALRM", "PROF", "XCPU", "ABRT"),
    *("POLL", "PWR", "STKFLT", "SYS", "TRAP", "RTMAX"),
]


@few
@posix
@pytest.mark.parametrize("name", [*SIGNALS, *(pytest.param(n, marks=soak) for n in MORE)])
def test_any_signal_leaves_it_safe(
    start: Callable[..., subprocess.Popen[bytes]], name: str
) -> None:
    number = getattr(signal, f"SIG{name}", None)
    if number is None:
        pytest.skip("this system has no such signal")
    with Peer() as peer:
        live = start("--source", peer.url, stdout=subprocess.DEVNULL)
        peer.follows(2400)
        live.send_signal(number)
        peer.until(SAFE, STALE + 2)
        live.communicate(timeout=10)
        assert live.returncode == (0 if name == "INT" else 128 + number)


@soak
@posix
@pytest.mark.parametrize(
    "ending", ["closed", pytest.param("full", marks=soak), pytest.param("unread", marks=soak)]
)
def test_what_becomes_of_its_output_leaves_it_safe(
    start: Callable[..., subprocess.Popen[bytes]], ending: str
) -> None:
    """Its reader goes, its disk is full: safe, and an end. Nobody reads it: it goes on."""
    with Peer() as peer, open("/dev/full", "wb") as full:  # noqa: PTH123 - a device
        more = {"stdout": full} if ending == "full" else {}
        live = start("--source", peer.url, "--json", **more)
        if ending == "full":
            peer.until(SAFE)
            live.communicate(timeout=10)
            assert live.returncode == 2
            return
        peer.follows(2400)
        if ending == "closed":
            assert live.stdout is not None
            live.stdout.close()
            peer.until(SAFE, 5)
            return
        for count in (2000, 1600) * 5:
            time.sleep(0.3)
            peer.follows(count)
        live.send_signal(signal.SIGTERM)
        peer.until(SAFE, STALE + 2)


@soak
@posix
def test_events_are_there_after_a_kill(
    start: Callable[..., subprocess.Popen[bytes]], tmp_path: Path
) -> None:
    """Written as they happen; and what a file held is never cut."""
    files = ("--events", "events.csv", "--record", "all.csv")
    with Peer() as peer:
        live = start("--source", peer.url, *files, stdout=subprocess.DEVNULL)
        peer.follows(2400)
        peer.count = 3800
        peer.until(SAFE)
        time.sleep(0.3)
        live.kill()
        live.communicate()
    events, record = (tmp_path / name for name in files[1::2])
    assert events.read_text().splitlines()[1].split(",")[1:3] == ["high", "on"]
    kept = record.read_bytes()
    assert kept.count(b"\n") > 10
    with Peer() as peer:
        live = start("--source", peer.url, *files)
        _, said = live.communicate(timeout=20)
        assert live.returncode == 2
        assert (
            b"events.csv: expected a new file, found one that holds something; --append" in said
            or (b"all.csv: expected a new file" in said)
        )
        assert record.read_bytes() == kept
        live = start("--source", peer.url, *files, "--append", stdout=subprocess.DEVNULL)
        peer.follows(2400)
        live.send_signal(signal.SIGINT)
        live.communicate(timeout=20)
    assert record.read_bytes().startswith(kept)
    assert record.stat().st_size > len(kept)
    assert events.read_text().count("trip") == 1  # one header
    looked = subprocess.run(
        [COMMAND, "look", "all.csv"], cwd=tmp_path, capture_output=True, check=False
    )
    assert looked.returncode == 0, looked.stderr
