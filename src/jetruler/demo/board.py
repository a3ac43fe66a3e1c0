"""A stand-in board: a small physical model of the roaster that streams raw counts, and serves them
on a pseudo-terminal, a TCP port, or standard output."""

from __future__ import annotations

import argparse
import contextlib
import os
import re
import select
import socket
import time
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from .generate import KNOB_ENDS, TOP, VREF, exhaust_volts, rail_volts, thermistor_volts

COLUMNS = ("time_s", *(f"ch{i}" for i in range(8)))
OUTPUTS = {"flap": (1000.0, 2000.0), "blower": (0.0, 255.0), "buzzer": (0.0, 1.0)}

#: What can go wrong, and whether it concerns one column.
FAULTS = {"open": True, "stuck": True, "torn": False, "noise": False, "silence": False}
FAULTS["disconnect"] = False

#: A roast, in seconds: beans in, beans out, and the next one.
CHARGE_S, DROP_S, CYCLE_S = 30.0, 700.0, 780.0


@dataclass(frozen=True)
class Fault:
    """From `start` on, for `lasts` seconds of the board's own time."""

    kind: str
    column: str
    start: float
    lasts: float

    @classmethod
    def read(cls, text: str) -> Fault:
        """`open:ch2@10+5`: kind, column, start, length. Raises `ValueError`."""
        found = re.fullmatch(r"([a-z]+)(?::(ch[0-7]))?@([\d.]+)(?:\+([\d.]+))?", text)
        if found is None or found[1] not in FAULTS or FAULTS[found[1]] != bool(found[2]):
            kinds = ", ".join(f"{k}:ch2" if of_column else k for k, of_column in FAULTS.items())
            raise ValueError(f"{text!r}: one of {kinds}, then @START+SECONDS, as in open:ch2@10+5")
        return cls(found[1], found[2] or "", float(found[3]), float(found[4] or "inf"))

    def on(self, t: float) -> bool:
        """Whether it holds at a time."""
        return self.start <= t < self.start + self.lasts


_CELSIUS = np.linspace(-20.0, 400.0, 4201)
_EXHAUST_VOLTS = exhaust_volts(_CELSIUS)


class Board:
    """The roaster and its converter. `step` lets time pass and gives a line of raw counts.

    speed: seconds of the roaster in one of ours. faults: what goes wrong.
    """

    def __init__(self, seed: int = 1, speed: float = 1.0, faults: tuple[Fault, ...] = ()) -> None:
        self._random = np.random.RandomState(seed)  # its stream is frozen for good
        self.speed, self.faults = speed, faults
        self.t = 0.0
        self.air, self.probe, self.probe2 = 214.0, 214.0, 213.0
        self.mass, self.exhaust, self.draught = 214.0, 150.0, 100.0
        self.outputs: dict[str, float | None] = dict.fromkeys(OUTPUTS)
        self.taken: list[str] = []
        self._typed = b""
        self._answers: list[str] = []
        self._last: dict[str, int] = {}

    def take(self, data: bytes) -> None:
        """Commands: lines of `output=number`."""
        *lines, self._typed = (self._typed + data).split(b"\n")
        self._typed = self._typed[-100:]
        for line in lines:
            text = line.decode("ascii", "replace").strip()
            name, _, value = text.partition("=")
            try:
                number = float(value)
            except ValueError:
                number = float("nan")
            low, high = OUTPUTS.get(name, (1.0, 0.0))
            if low <= number <= high:
                self.outputs[name] = number
                self.taken.append(text)
                self._answers.append(f"# {text}")
            else:
                self._answers.append(f"# refused: {text}")

    def has(self, kind: str) -> bool:
        """Whether something is wrong now."""
        return any(fault.kind == kind and fault.on(self.t) for fault in self.faults)

    def step(self, seconds: float) -> bytes:
        """Let so much of our time pass; the line that the board then sends."""
        left = seconds * self.speed
        while left > 1e-9:
            part = min(left, 0.5)
            self._pass(part)
            left -= part
        answers = "".join(f"{line}\n" for line in self._answers)
        self._answers = []
        return answers.encode() + self._line()

    def _pass(self, dt: float) -> None:
        """The physics, by small steps."""
        self.t += dt
        t = self.t % CYCLE_S
        knob = knob_fraction(t)
        flap = self.outputs["flap"]
        opening = knob if flap is None else (flap - 1000) / 1000
        duty = self.outputs["blower"]
        blowing = 0.8 if duty is None else max(0.25, duty / 255)
        pressure = 12 + 150 * (0.35 + 0.65 * opening) * blowing
        self.draught += (pressure - self.draught) * min(1.0, dt / 1.5)
        burner = 1.25 if t < CHARGE_S else 1.0
        goal = 25 + 262 * burner - 0.35 * self.draught
        self.air += (goal - self.air) * min(1.0, dt / 45)
        full = CHARGE_S <= t < DROP_S
        if full and t - dt < CHARGE_S:
            self.mass = 25.0  # the beans come in cold
        self.mass += (self.air - self.mass) * min(1.0, dt / (240 if full else 12))
        touched = 0.75 * self.mass + 0.25 * self.air if full else self.mass
        self.probe += (touched - self.probe) * min(1.0, dt / 5)
        self.probe2 += (touched - self.probe2) * min(1.0, dt / 7)
        self.exhaust += (0.55 * self.probe + 55 - self.exhaust) * min(1.0, dt / 20)

    def _line(self) -> bytes:
        t = self.t % CYCLE_S
        light = 1.0 if t < 500 else max(0.1, 1.0 - (t - 500) / 150)
        hopper = 1450.0 if t < CHARGE_S or t > DROP_S + 40 else 3.0
        volts = [
            thermistor_volts(np.array(self.probe)),
            thermistor_volts(np.array(self.probe2)),
            (KNOB_ENDS[0] + knob_fraction(t) * (KNOB_ENDS[1] - KNOB_ENDS[0])) * VREF / TOP,
            np.interp(self.exhaust, _CELSIUS, _EXHAUST_VOLTS),
            150 * (4e-3 + 16e-3 * self.draught / 250),
            rail_volts(np.array(t)) * 10 / 43,
            0.35 + 2.3 * light,
            0.3 + 2.4 * hopper / 2000,
        ]
        noise = 1.4 * self._random.standard_normal(len(volts))
        exact = np.array(volts, dtype=np.float64) / VREF * TOP + noise
        counts = {}
        for i, ideal in enumerate(exact.tolist()):
            name = f"ch{i}"
            count = min(max(round(ideal), 0), TOP)
            for fault in self.faults:
                if fault.column == name and fault.on(self.t):
                    count = TOP if fault.kind == "open" else self._last.get(name, count)
            self._last[name] = count
            counts[name] = count * 16 if name == "ch7" else count  # passed left-scaled
        line = f"{self.t:.2f}," + ",".join(map(str, counts.values())) + "\n"
        return self._spoilt(line.encode())

    def _spoilt(self, line: bytes) -> bytes:
        if self.has("silence"):
            return b""
        if self.has("torn") and self._random.random_sample() < 0.3:
            return line[: self._random.randint(1, len(line))]
        if self.has("noise") and self._random.random_sample() < 0.3:
            return self._random.bytes(12) + line
        return line


def knob_fraction(t: float) -> float:
    """The damper knob, from 0 to 1, as somebody turns it."""
    times: list[float] = [0, 12, 16, 40, 46, 62, 70, 300, 306, 690, 696]
    fraction = [0.1, 0.1, 0.5, 0.5, 0.9, 0.9, 0.25, 0.25, 0.6, 0.6, 0.1]
    return float(np.interp(t, times, fraction))


class _Wire(Protocol):
    """What the board is connected to."""

    def send(self, data: bytes) -> None: ...

    def received(self, wait: float) -> bytes: ...

    def cut(self) -> None: ...


class _Descriptor:
    """A pseudo-terminal or standard output; what nobody reads in time is lost, as on a wire."""

    def __init__(self, descriptor: int, reads: bool) -> None:
        self._descriptor, self._reads = descriptor, reads
        if reads:
            os.set_blocking(descriptor, False)

    def send(self, data: bytes) -> None:
        with contextlib.suppress(BlockingIOError):
            os.write(self._descriptor, data)

    def received(self, wait: float) -> bytes:
        if not self._reads:
            time.sleep(wait)
            return b""
        if not select.select([self._descriptor], [], [], wait)[0]:
            return b""
        with contextlib.suppress(BlockingIOError):
            return os.read(self._descriptor, 4096)
        return b""

    def cut(self) -> None:
        """It cannot be pulled out."""


class _Tcp:
    """One client at a time."""

    def __init__(self, port: int) -> None:
        self._server = socket.create_server(("127.0.0.1", port))
        self._client: socket.socket | None = None
        self.port = int(self._server.getsockname()[1])

    def send(self, data: bytes) -> None:
        if self._client is not None:
            try:
                self._client.sendall(data)
            except OSError:
                self.cut()

    def received(self, wait: float) -> bytes:
        watched = self._client or self._server
        if not select.select([watched], [], [], wait)[0]:
            return b""
        if self._client is None:
            self._client = self._server.accept()[0]
            return b""
        try:
            data = self._client.recv(4096)
        except OSError:
            data = b""
        if not data:
            self.cut()
        return data

    def cut(self) -> None:
        if self._client is not None:
            self._client.close()
        self._client = None


def main() -> None:
    """Serve until stopped."""
    parser = argparse.ArgumentParser(prog="python -m jetruler.demo.board", description=__doc__)
    where = parser.add_mutually_exclusive_group(required=True)
    where.add_argument("--pty", action="store_true", help="a pseudo-terminal; its name is printed")
    where.add_argument("--tcp", type=int, metavar="PORT", help="a TCP port; 0 takes a free one")
    where.add_argument("--stdout", action="store_true", help="standard output")
    parser.add_argument("--rate", type=float, default=5.0, help="lines a second (5)")
    parser.add_argument("--speed", type=float, default=1.0, help="how fast the roast goes (1)")
    parser.add_argument("--seed", type=int, default=1, help="of the noise (1)")
    parser.add_argument("--lines", type=int, help="stop after this many")
    parser.add_argument("--fail", action="append", default=[], metavar="FAULT",
                        help="open:ch2@10+5, stuck:ch0@3, torn@5, noise@5+1, silence@9+3, "
                        "disconnect@20: at this many seconds, for this many")  # fmt: skip
    given = parser.parse_args()
    try:
        faults = tuple(Fault.read(text) for text in given.fail)
    except ValueError as error:
        parser.error(f"--fail {error}")
    if not (given.rate > 0 and given.speed > 0):
        parser.error("--rate and --speed are above 0")
    board = Board(given.seed, given.speed, faults)
    if given.pty and not hasattr(os, "openpty"):
        parser.error("--pty: there are no pseudo-terminals on this system; use --tcp 0")
    with contextlib.suppress(KeyboardInterrupt, BrokenPipeError):
        _serve(board, _opened(given), given.rate, given.lines)


def _opened(given: argparse.Namespace) -> _Wire:
    """The way out; where somebody has to find it, its name is printed."""
    if given.pty:
        import tty

        ours, theirs = os.openpty()  # theirs stays open, so that a reader may come and go
        tty.setraw(theirs)
        print(os.ttyname(theirs), flush=True)
        return _Descriptor(ours, reads=True)
    if given.tcp is None:
        return _Descriptor(1, reads=False)
    wire = _Tcp(given.tcp)
    print(f"socket://127.0.0.1:{wire.port}", flush=True)
    return wire


def _serve(board: Board, wire: _Wire, rate: float, lines: int | None) -> None:
    due, sent = time.monotonic(), 0
    while lines is None or sent < lines:
        wait = due - time.monotonic()
        if wait > 0:
            board.take(wire.received(wait))
            continue
        due += 1.0 / rate
        sent += 1
        line = board.step(1.0 / rate)
        if board.has("disconnect"):
            wire.cut()
        else:
            wire.send(line)


if __name__ == "__main__":
    main()
