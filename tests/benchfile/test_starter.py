"""A starter file fits the board: what it guesses is true, is said, and runs as it stands."""

from __future__ import annotations

import os
import random
import re
import threading
import time
import tomllib
import tty
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

import jetruler as jr
from jetruler.benchfile.starter import KINDS
from tests.conftest import Cli

RANDOM = random.Random(7)


def column(header: str, cell: Callable[[], object], rows: int = 60) -> str:
    """A log of a clock and one column."""
    return f"t_s,{header}\n" + "".join(f"{i},{cell()}\n" for i in range(rows))


def counts(bits: int) -> Callable[[], int]:
    return lambda: RANDOM.randrange(2**bits)


def repeated(codes: int, bits: int) -> Callable[[], int]:
    def one() -> int:
        code = RANDOM.randrange(2**codes)
        return code << (bits - codes) | code >> (2 * codes - bits)

    return one


#: A log, the keys of its channel's table that matter, and what is said of them.
LOGS: list[tuple[str, dict[str, Any], str]] = [
    (column("a", counts(10)), {"column": "a", "converter": None}, "bits = 10"),
    (
        column("a", repeated(12, 16)),
        {"converter": {"bits": 16, "codes": 12, "count_at_vref": 65535}},
        "a: codes of 12 bits, their high bits repeated below",
    ),
    (
        column("a", lambda: RANDOM.randrange(4096) << 4),
        {"converter": {"bits": 16, "codes": 12}},
        "a: codes of 12 bits, left-scaled",
    ),
    (
        column("distance_cm", lambda: RANDOM.randrange(30, 200)),
        {"input": {"unit": "cm", "resolution": 1}},
        "distance_cm: an input, not counts: cm; its values are in steps of 1",
    ),
    (
        column("temp (degC)", lambda: RANDOM.randrange(200, 300) / 10),
        {"column": "temp (degC)", "input": {"unit": "degC", "resolution": 0.1}},
        "temp: an input, not counts: °C",
    ),
    (
        column("V_in", lambda: f"{RANDOM.randrange(300, 3000) / 1000:.3f}"),
        {"input": {"unit": "V", "resolution": 0.001}},
        "V_in: an input, not counts: V",
    ),
    ("".join(f"{RANDOM.randrange(300, 800)}\n" for _ in range(60)), {"column": 1}, "bits = 10"),
    ("".join(f"A0:{RANDOM.randrange(900)}\n" for _ in range(60)), {"column": "A0"}, "bits = 10"),
]


@pytest.mark.parametrize(("log", "keys", "says"), LOGS, ids=[says for _, _, says in LOGS])
def test_what_a_log_shows(cli: Cli, home: Path, log: str, keys: dict[str, Any], says: str) -> None:
    (home / "log.txt").write_text(log)
    done = cli("new", "new.toml", "--from", "log.txt")
    assert done.returncode == 0, done.stderr
    assert f"a guess: {says}" in done.stderr
    (table,) = tomllib.loads((home / "new.toml").read_text())["channel"].values()
    for key, value in keys.items():
        assert table.get(key) == value
    assert "a guess" in (home / "new.toml").read_text()
    assert jr.convert(home / "log.txt", jr.load_bench(home / "new.toml"), home / "o.csv").rows == 60


@pytest.mark.parametrize(
    "header", ["höhe", "x²", '"q""x"', "%", "温度", "a b", "1st", "ß", "é,e", "a,a_", "channel"]
)
def test_any_header(cli: Cli, home: Path, header: str) -> None:
    width = header.count(",") + 1
    rows = "".join(",".join([str(500 + i * 7 % 20)] * width) + "\n" for i in range(20))
    (home / "log.csv").write_text(f"{header}\n{rows}")
    done = cli("new", "new.toml", "--from", "log.csv")
    assert done.returncode == 0, done.stderr
    bench = jr.load_bench(home / "new.toml")
    assert len(bench) == width
    assert jr.convert(home / "log.csv", bench, home / "o.csv").rows == 20


@pytest.mark.parametrize("kind", KINDS)
def test_each_kind_runs_on_bare_numbers(cli: Cli, home: Path, kind: str) -> None:
    """And no about is a hint: it is the title of pictures and firmware."""
    done = cli("new", "new.toml", f"--channel=x={kind}", "--bits", "10", "--vref", "5")
    assert done.returncode == 0, done.stderr
    bench = jr.load_bench(home / "new.toml")
    assert bench["x"].column == 1
    assert "jetruler" not in bench["x"].about
    assert len(list(jr.stream(["512", "700"], bench))) == 2
    converter = bench["x"].ruler.converter
    assert converter is None or converter.bits == 10


@pytest.mark.parametrize("kind", KINDS)
def test_each_kind_runs_on_a_log_of_volts(cli: Cli, home: Path, kind: str) -> None:
    (home / "v.csv").write_text(LOGS[5][0])
    done = cli("new", "new.toml", "--from", "v.csv", f"--channel=V_in={kind}")
    assert done.returncode == 0, done.stderr
    assert jr.convert(home / "v.csv", jr.load_bench(home / "new.toml"), home / "o.csv").rows == 60


def test_the_example_trip_names_a_channel_that_is_there(cli: Cli, home: Path) -> None:
    for i, args in enumerate((["--channel", "a0=knob"], ["--channel", "t=ntc"], [])):
        assert cli("new", f"{i}.toml", *args).returncode == 0
        text = (home / f"{i}.toml").read_text()
        head, _, tail = text.partition("# [trip.")
        trip = "\n".join(line.removeprefix("# ") for line in f"[trip.{tail}".splitlines())
        assert jr.parse_bench(f"{head}\n{trip}").trips


def board(port: int, stop: threading.Event) -> None:
    """The plainest board: one number a line."""
    n = 0
    while not stop.is_set():
        os.write(port, f"{500 + n % 20}\r\n".encode())
        n += 1
        time.sleep(0.002)


def test_from_nothing_to_a_right_reading_in_two_commands(cli: Cli, home: Path) -> None:
    (home / "bench.toml").unlink()
    ours, theirs = os.openpty()
    tty.setraw(theirs)
    stop = threading.Event()
    feeder = threading.Thread(target=board, args=(ours, stop))
    feeder.start()
    try:
        port = os.ttyname(theirs)
        bare = cli("live", "--source", port, "--duration", "0.6 s")
        assert f"jetruler new --from {port} writes one" in bare.stderr
        assert 500 <= int(bare.stdout.splitlines()[2].split(",")[1]) < 520
        made = cli("new", "--from", port, "--channel", "a0=volts", "--bits", "10", "--vref", "5")
        assert made.returncode == 0, made.stderr
        read = cli("live", "--source", port, "--duration", "0.6 s")
        value = float(read.stdout.splitlines()[2].split(",")[1])
        assert 5 * 500 / 1023 - 1e-3 <= value <= 5 * 519 / 1023 + 1e-3
        burst = cli("look", "--source", port, "--samples", "40")
        assert "40 rows" in burst.stdout
        assert "mean in every unit" in burst.stdout
        assert re.search(r"V  ± [0-9.]+ V \([0-9.]+ %\)$", burst.stdout.rstrip())
    finally:
        stop.set()
        feeder.join()
        os.close(ours)
        os.close(theirs)
