"""Streams: through the installed command, a real pseudo-terminal, TCP, and bad luck."""

from __future__ import annotations

import contextlib
import csv
import fcntl
import io
import json
import os
import random
import re
import select
import signal
import socket
import struct
import subprocess
import sys
import termios
import time
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path

import numpy as np
import pytest

from jetruler import demo, load_bench
from jetruler.core.bench.bench import LogFormat
from jetruler.demo.board import Board, Fault
from jetruler.live.outputs import Sender
from jetruler.live.source_reader import Lines
from jetruler.live.sources import Nowhere as Wire
from jetruler.samples.stream_lines import LONGEST, StreamLines
from tests.conftest import COMMAND, Cli
from tests.helpers.sizes import SYSTEM, few, posix, sizes, soak, thinned

Start = Callable[..., "subprocess.Popen[bytes]"]

TWO = """
title = "Two"
[converter]
bits = 12
vref = 3.3
[channel.knob]
rails = "ends"
column = "k"
laws = [{ law = "line", marks = [[0, 0], [4000, 100]], unit = "%" }]
decimals = 1
[channel.pin]
column = "p"
decimals = 3
[stream]
columns = ["k", "p"]
stale = 0.3
[trip.high]
any = [{ channel = "knob", above = 50, release = 40 }]
[drive.flap]
from = "knob"
marks = [[0, 1000], [100, 2000]]
range = "pulse"
safe = 1500
"""


@pytest.fixture
def two(home: Path) -> None:
    """The bench above in the place of the demo's."""
    (home / "bench.toml").write_text(TWO)


@pytest.fixture
def start(home: Path, two: None) -> Iterator[Start]:
    """Start `jetruler live` on the bench above; what still runs at the end is stopped."""
    running: list[subprocess.Popen[bytes]] = []

    def start(*args: str, **more: object) -> subprocess.Popen[bytes]:
        command: list[str | Path] = [COMMAND, "live", *args]
        usual = {"stdin": subprocess.PIPE, "stdout": subprocess.PIPE, "stderr": subprocess.PIPE}
        running.append(subprocess.Popen(command, cwd=home, **(usual | more)))  # type: ignore[call-overload]
        return running[-1]

    yield start
    for one in running:
        one.kill()
        one.communicate()


def rows(text: str) -> list[dict[str, str]]:
    """CSV as dictionaries."""
    return list(csv.DictReader(io.StringIO(text)))


def wait_for(true: Callable[[], bool], seconds: float = 20) -> None:
    """Wait until something is so."""
    until = time.monotonic() + seconds
    while not true():
        assert time.monotonic() < until, "waited in vain"
        time.sleep(0.01)


@soak
def test_the_demo_source(cli: Cli) -> None:
    def live(*options: str) -> str:
        done = cli("live", "--source", "demo", "--duration", "0.8 s", *options)
        assert done.returncode == 0, done.stderr
        assert "disarmed: no command was sent" in done.stderr
        return done.stdout

    found, again = rows(live()), rows(live())
    assert 200 < float(found[0]["bean_degC"]) < 230
    assert found[0]["tray_zone"] == "empty"
    both = min(len(found), len(again))
    assert both >= 5
    assert again[:both] == found[:both]  # seeded
    first = json.loads(live("--json").splitlines()[0])
    assert first["drives"] == {"flap": 2000, "buzzer": 0, "blower": 255}
    plain = live("--plain").splitlines()
    ends = [i for i, sign in enumerate(plain[0]) if sign != " " and plain[0][i + 1 : i + 2] == " "]
    assert all(line[i] != " " for line in plain[1:] for i in ends)


def test_a_recorded_log_gives_what_convert_gives(cli: Cli, home: Path) -> None:
    live = rows(cli("live", stdin=demo.read("roast.csv").decode()).stdout)
    cli("convert", "roast.csv", "-o", "out.csv", "--events", "events.csv")
    converted = rows((home / "out.csv").read_text())
    for name in ("time_s", "bean_degC", "tray_zone", "hopper_g", "flags"):
        assert [row[name] for row in live] == [row[name] for row in converted]
    events = rows((home / "events.csv").read_text())
    assert [(e["trip"], e["state"]) for e in events[:4]] == [
        ("charge", "on"), ("charge", "off"), ("loose", "on"), ("loose", "off")]  # fmt: skip
    assert 40 < float(events[0]["time_s"]) < 46
    assert float(events[2]["time_s"]) == 412.4
    hot = next(e for e in events if e["trip"] == "too-hot")
    assert float(hot["values"].removeprefix("bean=")) >= 225
    on = {trip: [row["time_s"] for row in live if row[trip] == "1"] for trip in ("loose", "charge")}
    assert on["loose"][0] == "412.4"
    assert on["charge"][0] == events[0]["time_s"]
    at = {row["time_s"]: row["flap_us"] for row in live}
    assert at["412.2"] != "2000"
    assert at["412.4"] == at["413.8"] == "2000"


@pytest.mark.parametrize(
    ("form", "text", "values"),
    [
        ("csv", "2000,1\n1000,2\n", ["50.0", "25.0"]),
        ("csv", "p,k\n1,2000\n2,1000", ["50.0", "25.0"]),  # a header rules; no line end at the end
        ("csv", "2000,1\r\n\r\n# a remark\r\n1000.5,2\r\n", ["50.0", "25.0"]),
        ("pairs", "k=2000 p=1\nk=1000;p=2\np=3\n", ["50.0", "25.0", ""]),
        ("json", '{"k": 2000, "p": 1}\n{"p": 3}\n{"k": null, "p": 3}\n', ["50.0", "", ""]),
    ],
)
def test_forms(cli: Cli, two: None, form: str, text: str, values: list[str]) -> None:
    done = cli("live", "--format", form, stdin=text)
    assert [row["knob_percent"] for row in rows(done.stdout)] == values, done.stderr


@pytest.mark.parametrize(
    ("text", "says"),
    [
        (b"1,2\n1,2,3\n1\n5,6\n", "2 lines have too few or too many cells: missing samples"),
        (b"\xff\xfe\x00,\x80\n1,2\n", "1 line was no sample: other text 1"),
        (b"1,2\n" + b"9" * (LONGEST + 5) + b"\n3,4\n", "over-long 1"),
        (b"1,2\n3,4x\n5,6\n", "column p: 1 cells are not numbers"),
    ],
    ids=["fields", "noise", "over-long", "no number"],
)
def test_what_is_no_sample_is_counted(cli: Cli, two: None, text: bytes, says: str) -> None:
    done = cli("live", stdin=text)
    assert done.returncode == 0, done.stderr
    assert says in done.stderr
    assert len(rows(done.stdout)) >= 1


def test_both_ways_of_reading_give_the_same() -> None:
    lines = [f"{i % 4096},{i * 7 % 4096}".encode() for i in range(300)]
    lines[7], lines[9] = b" 12 ,+3", b"-1,99999999999"
    form, block = LogFormat(columns=("k", "p")), b"\n".join(lines) + b"\n"
    (quick,) = StreamLines(form, ["k", "p"]).add(block.replace(b"+3", b"3"), np.zeros(300))
    one = StreamLines(form, ["k", "p"])
    slow = [taken for line in lines for taken in one.add(line + b"\n", np.zeros(1))]
    for i in (0, 1):
        assert quick.columns[i].counts.tolist() == [int(s.columns[i].counts[0]) for s in slow]


def test_lines_over_any_cuts() -> None:
    text = b"".join(b"%d,%d\n" % (i, i) for i in range(200)) + b"x" * (LONGEST + 9) + b"\n7,7\n"
    random.seed(5)
    lines, found, at = Lines(), [], 0
    reader = StreamLines(LogFormat(columns=("k", "p")), ["k", "p"], noise=lines.noise)
    while at < len(text):
        size = random.choice((1, 3, 50, 4000, 90_000))
        whole = lines.add(text[at : at + size])
        for taken in reader.add(whole, np.zeros(whole.count(b"\n"))):
            found += taken.columns[0].counts.tolist()
        at += size
    assert found == [*range(200), 7]
    assert lines.noise.counts == {"over-long": 1}


@soak
@pytest.mark.parametrize("lines", sizes(50_000, 1_000_000))
def test_every_line_among_noise_is_a_sample_or_is_counted(cli: Cli, two: None, lines: int) -> None:
    random.seed(6)
    noise = [b"\xff" + random.randbytes(9).translate(None, b"\r\n") for _ in range(100)]
    sent = [b"%d,7" % (i % 4001) if i % 11 == 0 else noise[i % 100] for i in range(lines)]
    done = cli("live", stdin=b"\n".join(sent) + b"\n")
    assert done.returncode == 0, done.stderr
    samples = range(0, lines, 11)
    knob = [(i % 4001) / 40 for i in samples]
    assert f"{len(samples)} samples in" in done.stderr
    assert f"{lines - len(samples)} lines were no samples: " in done.stderr
    found = [float(row["knob_percent"]) for row in rows(done.stdout)]
    assert found == pytest.approx(knob, abs=0.0501)


@soak
def test_made_up_values(cli: Cli, two: None) -> None:
    made_up = ("--inject", "knob=1000", "--sweep", "pin=0:4000/0.5s")
    done = cli("live", "--source", "none", *made_up, "--duration", "1.2 s")
    found = rows(done.stdout)
    assert len(found) >= 10
    assert {row["knob_percent"] for row in found} == {"25.0"}
    assert found[0]["flap_us"] == "1250"
    volts = [float(row["pin_V"]) for row in found]
    assert max(volts) > 1.5
    assert min(volts) < 1
    assert all(0 <= v <= 3.23 for v in volts)


@pytest.mark.parametrize(
    ("args", "says"),
    [
        (["--source", "nowhere"], "nowhere: expected -, demo, none, a file, a port"),
        (["--source", "bogus://x"], "bogus://x:"),
        (["--inject", "nob=3"], "expected a channel, found 'nob'"),
        (["--inject", "knob=x"], "a count, a percentage of its range or a value in %"),
        (["--sweep", "knob=1:2"], "--sweep: expected damper=0:4095/10s"),
        (
            ["--arm"],
            "expected a source that takes commands, found standard input (name a port with --sink)",
        ),
        (["--sink", "x"], "nothing is sent without it"),
        (["--duration", "never"], "a time above 0"),
        (["--time", "q"], "--time: expected one of columns (k, p), found 'q'"),
        (["--json", "--plain"], "expected --json or --plain, found both"),
        (["--follow", "--source", "demo"], "expected --source FILE, found 'demo'"),
        (["--record", "no/where.csv"], "expected a folder no, found none"),
    ],
)
def test_one_sentence(cli: Cli, two: None, args: list[str], says: str) -> None:
    done = cli("live", *args, stdin="")
    assert (done.returncode, done.stdout) == (2, "")
    assert says in done.stderr
    assert "Traceback" not in done.stderr
    assert len(done.stderr.splitlines()) == 1


@pytest.mark.parametrize(("text", "why"), [(b"", "without a line"), (b"a,b,c\n", "'a,b,c'")])
def test_a_stream_without_a_sample(cli: Cli, two: None, text: bytes, why: str) -> None:
    done = cli("live", stdin=text)
    assert done.returncode == 2
    assert "standard input: the stream ended without a sample" in done.stderr
    assert why in done.stderr
    assert len(done.stderr.splitlines()) == 1


def test_no_header_is_said(cli: Cli, home: Path) -> None:
    (home / "b.toml").write_text(TWO.replace('columns = ["k", "p"]', ""))
    done = cli("live", "-b", "b.toml", stdin="1,2\n3,4\n5,6\n7,8\n")
    assert done.returncode == 2
    assert "there is no column 'k'; its lines are read as 2 cells separated by com" in done.stderr


@soak
def test_a_growing_file_and_a_bench_that_is_saved(start: Start, home: Path) -> None:
    (home / "grow.csv").write_text("0,0\n")
    live = start("--source", "grow.csv", "--follow")
    assert live.stdout is not None
    assert live.stderr is not None
    assert live.stdout.readline().startswith(b"time_s")
    assert b",0.0," in live.stdout.readline()

    def save(text: str) -> None:
        (home / "new.toml").write_text(text)
        (home / "new.toml").replace(home / "bench.toml")

    save(TWO.replace("[4000, 100]", "[4000, 200]"))
    assert b"was read again" in live.stderr.readline()
    with (home / "grow.csv").open("a") as file:
        file.write("1000,0\n")
    assert b",50.0," in live.stdout.readline()
    save(TWO.replace("above = 50", "above = true"))
    assert b"the last valid bench is still used" in live.stderr.readline()
    save(TWO.replace("channel.pin", "channel.pan"))
    assert b"its columns differ from those of the output" in live.stderr.readline()
    (home / "grow.csv").write_text("2000,0\n")  # begun again
    assert b",100.0," in live.stdout.readline()
    live.send_signal(signal.SIGINT)
    _, err = live.communicate(timeout=20)
    assert live.returncode == 0
    assert b"3 samples" in err


def test_a_record_is_a_log(cli: Cli, two: None, home: Path) -> None:
    cli("live", "--record", "rec.csv", stdin=b"2000,1\n\xff!\n1000,2\n")
    done = cli("convert", "rec.csv", "-o", "again.csv")
    assert done.returncode == 0, done.stderr
    assert [r["knob_percent"] for r in rows((home / "again.csv").read_text())] == [
        "50.0",
        "25.0",
    ]


def test_a_full_disk_is_said_and_the_view_goes_on(cli: Cli, two: None) -> None:
    done = cli("live", "--record", "/dev/full", stdin="2000,1\n1000,2\n")
    assert done.returncode == 1
    assert len(rows(done.stdout)) == 2
    assert "/dev/full: cannot be written: No space left on device" in done.stderr


class Server:
    """A TCP port that sends what it is told and keeps what it gets."""

    def __init__(self) -> None:
        self.server = socket.create_server(("127.0.0.1", 0))
        self.server.settimeout(20)
        self.url = f"socket://127.0.0.1:{self.server.getsockname()[1]}"

    def __enter__(self) -> Server:
        return self

    def __exit__(self, *_: object) -> None:
        self.server.close()

    def client(self) -> socket.socket:
        client, _ = self.server.accept()
        client.settimeout(20)
        return client


def told(client: socket.socket, what: bytes) -> bytes:
    """Read until something was said."""
    got = b""
    while what not in got:
        part = client.recv(4096)
        assert part, got
        got += part
    return got


@soak
@pytest.mark.parametrize("times", sizes(10, 100))
def test_gone_and_back_many_times(start: Start, home: Path, times: int) -> None:
    sent = 0
    with Server() as server:
        live = start("--source", server.url, "--arm", "--record", "all.csv")
        for i in range(times):
            with server.client() as client:
                told(client, b"flap=1500\n")  # safe, before anything is known
                for _ in range(3):
                    client.sendall(b"%d,7\n" % (1008 + 20 * (sent % 100)))
                    sent += 1
                told(client, b"flap=%d\n" % (1252 + 5 * ((sent - 1) % 100)))  # of the last
                client.sendall(b"12" if i % 2 else b"")  # torn in mid-line
        wait_for(lambda: (home / "all.csv").read_bytes().count(b",7\n") == sent)
        live.send_signal(signal.SIGINT)
    out, err = live.communicate(timeout=20)
    cut = re.search(rb"(\d) rows were not written: it was stopped", err)
    assert len(rows(out.decode())) + (int(cut[1]) if cut else 0) == sent == 3 * times, err
    torn, gone = (re.search(p, err) for p in (rb"torn (\d+)", rb"gone (\d+) times"))
    assert torn is not None
    assert gone is not None
    assert times // 2 - int(torn[1]) in (0, 1)  # the last may end after the signal
    assert times - int(gone[1]) in (0, 1)


@soak
def test_silence_and_the_end_send_safe(start: Start) -> None:
    with Server() as server:
        live = start("--source", server.url, "--arm")
        client = server.client()
    with client:
        told(client, b"flap=1500\n")
        client.sendall(b"4000,1\n")
        told(client, b"flap=2000\n")
        told(client, b"flap=1500\n")  # stale after 0.3 s
        client.sendall(b"4000,1\n")
        told(client, b"flap=2000\n")
        live.send_signal(signal.SIGTERM)
        told(client, b"flap=1500\n")
    live.communicate(timeout=20)
    assert live.returncode == 143


NO_SAMPLES = {
    "comments": b"# booting\n",
    "blank lines": b"\n",
    "boot messages": b"rst cause:2, boot mode:(3,6)\n",
    "too many cells": b"1,2,3,4\n",
    "too few cells": b"1\n",
    "no numbers": b"nan,nan\n",
    "empty cells": b",\n",
    "words": b"x,y\n",
    "noise": b"\xff\xfe\x00\x80",
    "noise in lines": b"\xff\x00,\x9a\n",
    "a huge cell": b"9" * 5000 + b",1\n",
    "an over-long line": b"7" * 70_000,
}


#: What `make test` tries of these; `make soak` tries all.
SOME = {"noise"}


@pytest.mark.parametrize(
    "kind", [pytest.param(kind, marks=[] if kind in SOME else [soak]) for kind in NO_SAMPLES]
)
def test_what_is_no_sample_keeps_no_drive_running(start: Start, kind: str) -> None:
    """Safe within `stale` and 0.2 s of the last sample, whatever else a board says."""
    with Server() as server:
        live = start("--source", server.url, "--arm")
        client = server.client()
    with client:
        told(client, b"flap=1500\n")
        client.sendall(b"4000,1\n")
        told(client, b"flap=2000\n")
        begun = time.monotonic()
        client.setblocking(False)
        said = b""
        while b"flap=1500\n" not in said and time.monotonic() - begun < 3:
            with contextlib.suppress(BlockingIOError):
                client.send(NO_SAMPLES[kind])
            time.sleep(0.02)
            with contextlib.suppress(BlockingIOError):
                said += client.recv(1000)
        assert said == b"flap=1500\n"
        assert time.monotonic() - begun < 0.3 + 0.2 + 1.0  # a slow computer's share
        client.settimeout(0.2)
        said = b""
        while b"flap=2000\n" not in said and time.monotonic() - begun < 20:
            client.sendall(b"\n4000,1\n")  # the board is back, and goes on
            with contextlib.suppress(TimeoutError):
                said += client.recv(1000)
        assert said.startswith(b"flap=2000\n")
    live.terminate()


def test_a_drive_whose_channel_is_silent_is_safe_though_others_speak(
    start: Start, home: Path
) -> None:
    """One that a fault flag does not stop, since the bench says that none does."""
    (home / "bench.toml").write_text(
        TWO + 'safe_flags = []\n[drive.lamp]\nfrom = "high"\nmarks = [[0, 0], [1, 9]]\nsafe = 3\n'
        "safe_flags = []\n"
    )
    with Server() as server:
        live = start("--source", server.url, "--arm")
        client = server.client()
    with client:
        told(client, b"flap=1500\nlamp=3\n")
        client.sendall(b"4000,1\n")
        told(client, b"flap=2000\nlamp=9\n")
        said = b""
        while b"lamp=3\n" not in said:
            client.sendall(b",7\n")  # the knob has no value, the pin has
            time.sleep(0.02)
            with contextlib.suppress(BlockingIOError):
                said += client.recv(1000, socket.MSG_DONTWAIT)
        assert said == b"flap=1500\nlamp=3\n"
    live.terminate()


#: Ctrl-Break of Windows is a signal of its own there.
ENDS = ["SIGINT", "SIGTERM", "stdout", "wire"]
ENDS += ["SIGUSR1"] if SYSTEM == "windows" else ["SIGHUP", "SIGQUIT", "SIGTSTP"]


def stopped(process: subprocess.Popen[bytes]) -> bool:
    return Path(f"/proc/{process.pid}/stat").read_text().split()[2] == "T"


@few
@pytest.mark.parametrize("times", sizes(1, 5))
@pytest.mark.parametrize("name", thinned(ENDS, 3))
def test_whatever_ends_it_the_safe_value_is_last(start: Start, name: str, times: int) -> None:
    for _ in range(times):
        with Server() as server:
            live = start("--source", server.url, "--arm")
            client = server.client()
        with client:
            told(client, b"flap=1500\n")
            client.sendall(b"4000,1\n")
            told(client, b"flap=2000\n")
            time.sleep(random.random() * 0.2)
            if name == "stdout":
                assert live.stdout is not None
                live.stdout.close()
                client.sendall(b"3000,1\n2000,1\n")
            elif name == "wire":
                client.shutdown(socket.SHUT_WR)  # the board is gone; what it hears is the last word
            else:
                live.send_signal(getattr(signal, name))
            said = b""
            while not said.endswith(b"flap=1500\n"):
                part = client.recv(1000)
                assert part, said
                said += part
            if name == "SIGTSTP":
                wait_for(partial(stopped, live))
                live.send_signal(signal.SIGCONT)
                client.sendall(b"4000,1\n")
                told(client, b"flap=2000\n")
            if name in ("SIGTSTP", "stdout", "wire"):
                live.send_signal(signal.SIGTERM)
        live.wait(20)


def test_a_torn_command_ends_before_the_next_and_safe_is_insisted_on(
    two: None, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A wire that takes a part, fails, and fails again: the safe value comes whole in the end."""

    class Torn(Wire):
        def __init__(self) -> None:
            self.taken, self.fail = b"", 0

        def write(self, data: bytes) -> None:
            if self.fail:
                self.fail -= 1
                self.taken += data[:4]
                raise OSError("timed out")
            self.taken += data

    monkeypatch.setattr("jetruler.live.outputs.RETRY", 0.001)
    wire = Torn()
    sender = Sender(load_bench(home / "bench.toml"), wire, armed=True)
    sender.send({"flap": 1234.0})
    wire.fail = 4
    sender.safe()
    sender.insist(1.0)
    assert wire.taken.split(b"\n") == [
        b"flap=1234",
        b"flap",
        b"fla",
        b"fla",
        b"fla",
        b"flap=1500",
        b"",
    ]


@soak
@pytest.mark.parametrize("where", ["--pty", pytest.param("--tcp", marks=soak)])
def test_the_board_through_a_real_port(start: Start, home: Path, where: str) -> None:
    """Roasts of 2.2 s, and a wire that breaks after some of them for good: all that should be seen
    is waited for, by a computer that may be slow to start."""
    (home / "bench.toml").write_bytes(demo.read("bench.toml"))
    args = [where] if where == "--pty" else [where, "0"]
    # A terminal streams before anybody listens, who may take seconds to start; so may a loop.
    faults = ["--fail", "open:ch2@2600+1000000", "--fail", "torn@20+5"]
    board = subprocess.Popen(
        [sys.executable, "-m", "jetruler.demo.board", *args, "--rate", "200", "--speed", "360",
         *faults], stdout=subprocess.PIPE)  # fmt: skip
    wanted = {"moving", "loose", "too-hot", "charge"}
    seen: set[str] = set()
    try:
        assert board.stdout is not None
        name = board.stdout.readline().decode().strip()
        live = start("--source", name, "--arm", "--json", stderr=subprocess.DEVNULL)
        assert live.stdout is not None
        begun = time.monotonic()
        while not wanted <= seen:
            assert time.monotonic() - begun < 60, f"not seen: {wanted - seen}"
            row = json.loads(live.stdout.readline())
            open_wire = "high_rail" in row["flags"].get("damper", [])
            flap = row["drives"]["flap"]
            assert flap == 2000 or not open_wire
            seen |= {trip for trip, on in row["trips"].items() if on}
            seen |= {"moving"} if flap < 1900 else set()
    finally:
        board.kill()  # in mid-line, for all it knows
        board.communicate()
    live.send_signal(signal.SIGINT)
    live.communicate(timeout=20)
    assert live.returncode == 0


@soak
@pytest.mark.parametrize("times", sizes(4, 12))
def test_a_sink_that_blocks_holds_up_nothing(start: Start, times: int) -> None:
    with Server() as server:
        live = start("--source", server.url, "--arm", "--json")  # nobody reads its output
        client = server.client()
    with client:
        told(client, b"flap=1500\n")
        for i in range(times):
            client.sendall(b"3000,1\n" * 12_000 + b"%d,1\n" % (40 + 40 * i))
            told(client, b"flap=%d\n" % (1010 + 10 * i))  # decisions go on
        live.send_signal(signal.SIGINT)
        told(client, b"flap=1500\n")
    _, err = live.communicate(timeout=20)
    assert b"rows were not written" in err


@soak
def test_a_slow_reader_of_a_recorded_stream_gets_it_all(start: Start, home: Path) -> None:
    """More than a pipe holds, and no longer needed by anybody but the reader."""
    (home / "log.csv").write_bytes(b"1000,7\n" * 20_000)
    live = start("--source", "log.csv")
    with pytest.raises(subprocess.TimeoutExpired):
        live.wait(2)
    out, err = live.communicate(timeout=20)
    assert out.count(b"\n") == 20_001
    assert b"not written" not in err


@soak
def test_rows_that_nobody_took_are_counted(start: Start, home: Path) -> None:
    (home / "log.csv").write_bytes(b"1000,7\n" * 20_000)
    live = start("--source", "log.csv", stdout=subprocess.PIPE)
    assert live.stdout is not None
    got = live.stdout.read(1 << 12)
    live.send_signal(signal.SIGINT)
    assert live.stderr is not None
    said = live.stderr.read().decode()
    assert live.wait(20) == 0
    got += live.stdout.read()
    lost = re.search(r"up to (\d+) rows were not written: the reader was too slow", said)
    assert lost is not None
    assert 20_000 <= got.count(b"\n") - 1 + int(lost[1]) <= 20_000 + (1 << 16) / 40


class Terminal:
    """A pseudo-terminal of 24 lines of 80, on which texts are waited for."""

    def __init__(self) -> None:
        self.ours, self.theirs = os.openpty()
        self.resize(24, 80)

    def resize(self, high: int, wide: int) -> None:
        fcntl.ioctl(self.theirs, termios.TIOCSWINSZ, struct.pack("HHHH", high, wide, 0, 0))

    def demo(self, start: Start, home: Path) -> subprocess.Popen[bytes]:
        """The live view of the demo on it. It has a group whose parent is outside of it: systems
        stop no group that nobody could wake."""
        (home / "bench.toml").write_bytes(demo.read("bench.toml"))
        more = {"stdin": self.theirs, "stdout": self.theirs, "process_group": 0}
        return start("--source", "demo", env=os.environ | {"TERM": "xterm-256color"}, **more)

    def seen(self, what: bytes, meanwhile: Callable[[], object] = lambda: None) -> bytes:
        got, until = b"", time.monotonic() + 20
        while what not in got:
            assert time.monotonic() < until, got[-3000:]
            meanwhile()
            if select.select([self.ours], [], [], 0.1)[0]:
                got += os.read(self.ours, 1 << 16)
        return got


@soak
def test_the_view_in_a_terminal(start: Start, home: Path) -> None:
    terminal = Terminal()
    live = terminal.demo(start, home)
    got = terminal.seen(b"samples/s")
    assert b"\x1b[?1049h" in got
    assert b"Roaster bench" in got
    for high, wide in ((10, 40), (60, 200), (2, 10), (24, 80)):
        terminal.resize(high, wide)
        time.sleep(0.1)
    for key, text in ((b"", b"disarmed"), (b"r", b"live for"), (b"q", b"\x1b[?1049l")):
        os.write(terminal.ours, key)
        terminal.seen(text)
    assert live.wait(20) == 0


@soak
def test_keys_work_while_data_comes_through_a_pipe(start: Start, home: Path) -> None:
    """The terminal is the controlling one; standard input is a pipe that never ends."""
    terminal, (reading, writing) = Terminal(), os.pipe()
    live = start(
        "--source", "-", stdin=reading, stdout=terminal.theirs, stderr=terminal.theirs,
        start_new_session=True, env=os.environ | {"TERM": "xterm-256color"},
        preexec_fn=lambda: fcntl.ioctl(1, termios.TIOCSCTTY, 0),
    )  # fmt: skip
    os.close(terminal.theirs)
    terminal.seen(b"live for", lambda: os.write(writing, b"100,200\n"))
    os.write(terminal.ours, b"q")
    until = time.monotonic() + 20
    while live.poll() is None and time.monotonic() < until:
        if select.select([terminal.ours], [], [], 0.05)[0]:
            with contextlib.suppress(OSError):
                os.read(terminal.ours, 1 << 16)
    assert live.wait(1) == 0
    os.close(writing)


@soak
@posix
def test_the_view_rests_and_wakes(start: Start, home: Path) -> None:
    """Ctrl-Z gives the terminal back and stops the process; it goes on where it was."""
    terminal = Terminal()
    live = terminal.demo(start, home)
    terminal.seen(b"live for")
    os.write(terminal.ours, b"\x1a")
    terminal.seen(b"\x1b[?1049l")
    until = time.monotonic() + 10
    while Path(f"/proc/{live.pid}/stat").read_text().rpartition(")")[2].split()[0] != "T":
        assert time.monotonic() < until
        time.sleep(0.02)
    live.send_signal(signal.SIGCONT)
    terminal.seen(b"\x1b[?1049h")
    terminal.seen(b"live for")
    live.send_signal(signal.SIGINT)
    terminal.seen(b"\x1b[?1049l")
    assert live.wait(20) == 0


@soak
def test_a_terminal_without_a_source_says_what_there_is(start: Start) -> None:
    _, theirs = os.openpty()
    live = start(stdin=theirs, stdout=theirs)
    assert live.wait(20) == 2
    assert live.stderr is not None
    assert b"expected --source with a port" in live.stderr.read()


@soak
@pytest.mark.parametrize("term", thinned(["dumb", "unknown"], 2))
def test_a_terminal_that_cannot_show_it_gets_rows(start: Start, term: str) -> None:
    ours, theirs = os.openpty()
    more = {"stdin": theirs, "stdout": theirs, "env": os.environ | {"TERM": term}}
    live = start("--source", "demo", "--duration", "2 s", **more)
    got = b""
    while live.poll() is None:
        if select.select([ours], [], [], 0.1)[0]:
            got += os.read(ours, 1 << 16)
    assert b"\x1b[" not in got
    assert live.stderr is not None
    assert b"aligned rows instead of the view: TERM is " in live.stderr.read()


def test_faults_of_the_board() -> None:
    faults = tuple(Fault.read(t) for t in ("stuck:ch0@1+2", "silence@5+1", "open:ch1@0"))
    board = Board(seed=3, faults=faults)
    lines = [board.step(0.5) for _ in range(14)]
    stuck = {line.split(b",")[1] for line in lines[1:5]}
    assert len(stuck) == 1
    assert lines[9] == lines[10] == b""
    assert lines[3].split(b",")[2] == b"4095"
    board.take(b"flap=1250\nflap=99\nnonsense\n")
    answer = board.step(0.5)
    assert answer.startswith(b"# flap=1250\n# refused: flap=99\n# refused: nonsense\n")
    for text in ("open@1", "torn:ch0@1", "melted@1", "stuck:ch9@1"):
        with pytest.raises(ValueError, match="open:ch2"):
            Fault.read(text)


@soak
@posix
def test_a_terminal_that_closes_sends_safe(start: Start) -> None:
    ours, theirs = os.openpty()
    with Server() as server:
        live = start(
            "--source", server.url, "--arm", stdin=theirs, stdout=theirs, start_new_session=True,
            preexec_fn=lambda: fcntl.ioctl(0, termios.TIOCSCTTY, 0),
        )  # fmt: skip
        client = server.client()
    os.close(theirs)
    with client:
        told(client, b"flap=1500\n")
        client.sendall(b"4000,1\n")
        told(client, b"flap=2000\n")
        os.close(ours)  # the window is gone
        told(client, b"flap=1500\n")
    live.wait(20)
