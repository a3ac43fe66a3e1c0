"""What is done with an input of each kind, in this process; anything unexpected is raised."""

from __future__ import annotations

import random
import resource
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from tests.helpers.command import called
from tests.logs import test_exact as exact

from jetruler import JetRulerError, demo, load_bench
from jetruler.benchfile.load import parse_bench
from jetruler.core.bench.bench import LogFormat
from jetruler.live.session import Parts, Session
from jetruler.live.source_reader import Lines
from jetruler.live.stream_processor import StreamProcessor
from jetruler.live.writers import LiveEvents, Recorder

from . import mutations
from .board import ScriptedBoard


class UnexpectedError(Exception):
    """A program that did what it must not do."""


def prepare(home: Path) -> None:
    """The demo's files, for commands and logs."""
    for name in demo.FILES:
        (home / name).write_bytes(demo.read(name))


def try_bench(home: Path, text: str) -> bool:
    """Load it, and read and explain every channel. False where it is refused."""
    try:
        bench = parse_bench(text, folder=home)
        for channel in bench.channels.values():
            channel.ruler.read(np.arange(0, 4096, 97))
            channel.ruler.trace(100.0)
    except JetRulerError as error:
        _plain(str(error))
        return False
    return True


def try_log(home: Path, made: tuple[str, bytes]) -> bool:
    """Convert it and look at it."""
    name, data = made
    (home / name).write_bytes(data)
    done = [called(*args, home=home) for args in (("convert", name, "-o", "o.csv"), ("look", name))]
    for one in done:
        _sound(one.returncode, one.stderr)
    return done[0].returncode == 0


def try_stream(home: Path, data: bytes) -> bool:
    """Read it as a board's, in odd pieces, with drives that must stay within their bounds."""
    bench = load_bench(home / "bench.toml")
    station, lines = StreamProcessor(bench, bench.log or LogFormat()), Lines()
    station.stale_after = 2.0
    rows = 0
    try:
        for at in range(0, len(data), 97):
            whole = lines.add(data[at : at + 97])
            arrivals = np.full(whole.count(b"\n"), at / 1000)
            for batch in station.take(whole, arrivals, 0.0) if whole else ():
                rows += batch.rows
                for name, commands in batch.decided.drives.items():
                    low, high = bench.drives[name].bounds
                    if not np.all((commands >= low) & (commands <= high)):
                        raise UnexpectedError(f"{name}: {commands}")
    except JetRulerError as error:
        _plain(str(error))
        return False
    return rows > 0


def try_command(home: Path, args: list[str]) -> bool:
    """Call it."""
    if any("\0" in arg for arg in args):
        return False
    done = called(*args, home=home)
    _sound(done.returncode, done.stderr)
    return done.returncode == 0


def _sound(code: int, stderr: str) -> None:
    _plain(stderr)
    if "in Jet Ruler itself" in stderr or "Traceback" in stderr or code not in (0, 1, 2):
        raise UnexpectedError(stderr.strip().splitlines()[-1][:300])


def _plain(text: str) -> None:
    if any(sign in text for sign in "\x00\x1b\x07"):
        raise UnexpectedError(f"a control code in {text[:200]!r}")


def try_cells(home: Path, made: tuple[int, str, float]) -> bool:
    """Convert odd columns; each cell must be had back, in any format and memory."""
    seed, to, memory = made
    columns = exact.columns_of(random.Random(seed), random.Random(seed).randint(2, 300), 20)
    log = home / "log.csv"
    log.write_bytes(exact.as_csv(columns))
    try:
        found = exact.shown(exact.converted(log, to, memory), list(columns))
    except JetRulerError as error:
        _plain(str(error))
        return False
    for name, cells in columns.items():
        if found[name] != cells:
            raise UnexpectedError(f"{to}: a cell of {sorted(set(cells))[:3]} was changed")
    return True


def try_array(home: Path, made: tuple[str, int, int, list[int]]) -> bool:
    """Convert an array and a frame of any layout; they must read as plain ones do."""
    kind, offset, stride, counts = made
    plain = np.array(counts)
    wide = np.repeat(plain.astype(kind), stride)
    raw = b"\1" * offset + wide.tobytes()
    given = np.frombuffer(raw, np.dtype(kind), wide.size, offset)[::stride]
    wanted = exact.BENCH["level"](plain)
    import pandas as pd

    frame = exact.BENCH.convert(pd.DataFrame({"ch0": given}))["level_percent"]
    for found in (exact.BENCH["level"](given), frame):
        if not np.array_equal(found, wanted):
            raise UnexpectedError(f"{kind} of offset {offset} and stride {stride} reads otherwise")
    return True


def try_session(home: Path, steps: list[str]) -> bool:
    """Run it armed; its drive must stay within its clamp, and be safe at the end."""
    board = ScriptedBoard(steps)
    path = home / "armed.toml"
    path.write_text(ScriptedBoard.BENCH)
    bench = parse_bench(ScriptedBoard.BENCH)
    events, record = LiveEvents(home / "e.csv"), Recorder(home / "rec.csv")
    form = bench.log or LogFormat()
    parts = Parts(str(path), bench, form, board, {}, wire=board, armed=True, handled=True)
    parts = replace(parts, messages=_plain, events=events, recorder=record)
    board.session = Session(parts)
    taken = True
    try:
        board.session.run()
    except JetRulerError as error:
        _plain(str(error))
        taken = False
    finally:
        events.close()
        for name in ("e.csv", "rec.csv"):
            (home / name).unlink()
    commands = [line for line in board.got if not 1100 <= int(line.partition("=")[2]) <= 1900]
    if commands or (board.got[-1:] != ["flap=1500"] and not board.broken):
        raise UnexpectedError(f"the drive was sent {commands or board.got[-1:]}")
    return taken


KINDS: dict[str, tuple[Callable[[int], Any], Callable[[Path, Any], bool]]] = {
    "bench": (mutations.bench, try_bench),
    "log": (mutations.log, try_log),
    "stream": (mutations.stream, try_stream),
    "command": (mutations.command, try_command),
    "cells": (mutations.cells, try_cells),
    "array": (mutations.array, try_array),
    "session": (mutations.session, try_session),
}


def half_written(home: Path) -> list[str]:
    """What no command should leave behind."""
    return sorted(path.name for path in home.glob("*.part")) + [
        p.name for p in home.glob(".*.part")
    ]


def peak_memory() -> int:
    """Bytes that this process has used at most."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
