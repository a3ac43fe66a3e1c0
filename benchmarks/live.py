"""Streams: lines a second against a bare loop, memory as they go on, and from line to view."""

from __future__ import annotations

import os
import pty
import select
import socket
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from jetruler import demo

from .logs import peak_mb
from .timing import Result, process, ratio

BENCH = "[converter]\nbits = 12\nvref = 3.3\n" + "".join(
    f'[channel.c{i}]\ncolumn = "ch{i}"\ndecimals = 3\n' for i in range(6)
)

BARE = """
import sys
out = sys.stdout.buffer
for line in sys.stdin.buffer:
    cells = line.rstrip(b"\\n").split(b",")
    out.write(b",".join(cells) + b"\\n")
"""


def make_stream(path: Path, rows: int) -> None:
    """Seven columns: a time and six counts."""
    random = np.random.RandomState(4)
    block = "".join(
        f"{i * 0.02:.2f}," + ",".join(map(str, row)) + "\n"
        for i, row in enumerate(random.randint(1800, 2100, (100_000, 6)).tolist())
    )
    with path.open("w") as file:
        file.write("time_s," + ",".join(f"ch{i}" for i in range(6)) + "\n")
        for _ in range(rows // 100_000):
            file.write(block)


def piped(path: Path, *args: str) -> list[str]:
    """A command on one core that reads a file from standard input."""
    quoted = " ".join(f"'{arg}'" for arg in args)
    pin = f"taskset -c {min(os.sched_getaffinity(0))} " if sys.platform == "linux" else ""
    return ["sh", "-c", f"cat '{path}' | {pin}{quoted} > /dev/null"]


def _watched(home: Path) -> tuple[subprocess.Popen[bytes], socket.socket, int]:
    """The view of the demo's bench in a terminal: its process, where lines go in, its screen."""
    (home / "bench.toml").write_bytes(demo.read("bench.toml"))
    server = socket.create_server(("127.0.0.1", 0))
    ours, theirs = pty.openpty()
    url = f"socket://127.0.0.1:{server.getsockname()[1]}"
    command = [sys.executable, "-m", "jetruler", "live", "--source", url]
    live = subprocess.Popen(command, cwd=home, stdin=theirs, stdout=theirs, stderr=subprocess.PIPE)
    client = server.accept()[0]
    return live, client, ours


def line_to_view(home: Path, lines: int = 400) -> list[float]:
    """Milliseconds from sending a line until its count stands in the terminal, at 200 a second."""
    live, client, ours = _watched(home)
    waits: list[float] = []
    sent: dict[bytes, float] = {}
    seen = b""
    due = time.perf_counter() + 1.0
    for i in range(lines):
        while (left := due - time.perf_counter()) > 0:
            if select.select([ours], [], [], left)[0]:
                seen = (seen + os.read(ours, 1 << 16))[-20_000:]
                now = time.perf_counter()
                waits += [now - sent.pop(count) for count in list(sent) if count in seen]
        sent[b" %d " % (1000 + i)] = time.perf_counter()
        client.sendall(b"%d,%d,1,2,3,4,5,6,7\n" % (i, 1000 + i))
        due += 0.005
    live.terminate()
    live.communicate()
    return [1000 * wait for wait in waits]


def key_to_view(home: Path, keys: int = 40) -> list[float]:
    """Milliseconds from a key that holds a channel, or lets it go, until the view says so, while a
    thousand lines a second come."""
    live, client, ours = _watched(home)
    waits: list[float] = []
    pressed, wanted, seen = 0.0, b"", b""
    start = time.perf_counter()
    due, i, next_key = start + 1.0, 0, start + 2.0
    while len(waits) < keys and time.perf_counter() < start + 60:
        left = max(0.0, due - time.perf_counter())
        if select.select([ours], [], [], left)[0]:
            seen = (seen + os.read(ours, 1 << 16))[-4_000:]
            if wanted and wanted in seen:
                waits.append(time.perf_counter() - pressed)
                wanted, next_key = b"", time.perf_counter() + 0.05
        now = time.perf_counter()
        while due <= now:
            client.sendall(b"%d,%d,1,2,3,4,5,6,7\n" % (i, 1000 + i % 50))
            i, due = i + 1, due + 0.001
        if not wanted and now >= next_key:
            key, wanted = (b"h", b"bean held") if len(waits) % 2 == 0 else (b"u", b"bean released")
            seen, pressed = b"", time.perf_counter()
            os.write(ours, key)
    live.terminate()
    live.communicate()
    return [1000 * wait for wait in waits]


def results() -> Iterator[Result]:
    """Every figure of this room."""
    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder)
        (home / "b.toml").write_text(BENCH)
        live = [sys.executable, "-m", "jetruler", "live", "-b", str(home / "b.toml")]
        make_stream(home / "s.csv", 4_000_000)
        bare = piped(home / "s.csv", sys.executable, "-c", BARE)
        yield ratio(
            "live, 4 million lines × 7 on one core / split and write",
            process(*piped(home / "s.csv", *live)), process(*bare), 1.5, rounds=3,
        )  # fmt: skip
        start = time.perf_counter()
        subprocess.run(piped(home / "s.csv", *live), check=True, capture_output=True)
        rate = 4e6 / (time.perf_counter() - start)
        yield Result("live, lines a second on one core", rate, (rate, rate), 50_000, True, "")
        make_stream(home / "s.csv", 1_000_000)
        small = peak_mb(*piped(home / "s.csv", *live))
        make_stream(home / "s.csv", 10_000_000)
        large = peak_mb(*piped(home / "s.csv", *live))
        yield Result(
            "live, peak memory of 10 / 1 million lines", large / small, (small, large), 1.1
        )
        waits = sorted(line_to_view(home))
        middle, late = statistics.median(waits), waits[int(0.95 * len(waits))]
        yield Result("live, line to view at 200 lines/s: median (… 95 %)", middle,
                     (waits[0], late), 20.0, unit="ms")  # fmt: skip
        waits = sorted(key_to_view(home))
        middle, late = statistics.median(waits), waits[int(0.95 * len(waits))]
        yield Result("live, key to view at 1,000 lines/s: median (… 95 %)", middle,
                     (waits[0], late), 50.0, unit="ms")  # fmt: skip
