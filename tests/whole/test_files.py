"""Files: outputs that appear whole or not at all, bench files changed in place, reading ahead."""

from __future__ import annotations

import gzip
import os
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from importlib.metadata import EntryPoint
from pathlib import Path

import numpy as np
import pytest

import jetruler.core.laws as laws
from jetruler import load_bench
from jetruler.benchfile.edit import replace_file, write_marks
from jetruler.benchfile.load import parse_bench
from jetruler.errors import BenchError, LogError
from jetruler.files import Output, write_file
from jetruler.samples.threads import ahead
from tests.conftest import COMMAND, Cli
from tests.helpers.sizes import few, sizes, soak


def names(folder: Path) -> list[str]:
    return sorted(p.name for p in folder.iterdir())


def test_output_appears_when_it_is_complete(tmp_path: Path) -> None:
    with Output(tmp_path / "o.csv") as out:
        out.write(b"first")
        assert names(tmp_path) != ["o.csv"]
    assert (tmp_path / "o.csv").read_bytes() == b"first"
    (tmp_path / "o.csv").chmod(0o640)
    stopped = Output(tmp_path / "o.csv")
    stopped.write(b"half")
    stopped.__exit__(KeyboardInterrupt, KeyboardInterrupt(), None)
    assert (tmp_path / "o.csv").read_bytes() == b"first"
    write_file(tmp_path / "o.csv", b"second")
    assert names(tmp_path) == ["o.csv"]
    assert (tmp_path / "o.csv").stat().st_mode & 0o777 == 0o640


def test_output_through_a_link_and_packed(tmp_path: Path) -> None:
    (tmp_path / "real.csv").write_bytes(b"old")
    (tmp_path / "link.csv").symlink_to("real.csv")
    write_file(tmp_path / "link.csv", b"new")
    assert (tmp_path / "link.csv").is_symlink()
    assert (tmp_path / "real.csv").read_bytes() == b"new"
    for _ in range(2):
        write_file(tmp_path / "o.gz", b"same bytes each time")
    assert gzip.decompress((tmp_path / "o.gz").read_bytes()) == b"same bytes each time"
    assert (tmp_path / "o.gz").read_bytes()[4:8] == b"\0\0\0\0"  # no date in it


def test_output_refuses_what_it_cannot_write(tmp_path: Path) -> None:
    (tmp_path / "in.csv").write_bytes(b"x")
    (tmp_path / "twin.csv").hardlink_to(tmp_path / "in.csv")
    for path, says in [
        ("in.csv", "expected another file for the output, found the input"),
        ("twin.csv", "expected another file for the output, found the input"),
        (".", "expected a file for the output, found a folder"),
        ("no/o.csv", "expected a folder .*no, found none"),
    ]:
        with pytest.raises(LogError, match=says):
            Output(tmp_path / path, tmp_path / "in.csv")
    assert names(tmp_path) == ["in.csv", "twin.csv"]


BENCH = """\
# kept above
title = "T" # kept beside

[converter]
bits = 12

[channel.knob] # the knob
column = "x"
laws = [
  # the ends, noted on a Saturday
  { law = "line", marks = [[1, 0], [2, 100]], unit = "%" }, # kept here
  { law = "clamp", low = 0, high = 100 },
]

[channel.other]
column = "y"
laws = [{ law = "line", gain = 2 }]
# kept below
"""


def test_marks_are_changed_and_nothing_else(tmp_path: Path) -> None:
    path = tmp_path / "bench.toml"
    path.write_text(BENCH)
    path.chmod(0o600)
    before, after = write_marks(str(path), "knob", ((203, 0), (3899, 100)))
    assert (before, after) == ("marks = [[1, 0], [2, 100]]", "marks = [[203, 0], [3899, 100]]")
    assert path.read_text() == BENCH.replace("[[1, 0], [2, 100]]", "[[203, 0], [3899, 100]]")
    assert path.stat().st_mode & 0o777 == 0o600
    assert load_bench(path)["knob"].ruler(203) == 0.0
    for channel in ("other", "none"):
        with pytest.raises(BenchError, match=f"channel.{channel}: expected a line with marks"):
            write_marks(str(path), channel, ((0, 0), (1, 1)))
    with pytest.raises(BenchError, match="two different raw values"):
        write_marks(str(path), "knob", ((5, 0), (5, 100)))
    assert load_bench(path)["knob"].ruler(203) == 0.0
    assert names(tmp_path) == ["bench.toml"]


def test_a_read_only_bench_stays_as_it_is(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "bench.toml"
    path.write_text("kept")
    monkeypatch.setattr(os, "access", lambda *_: False)  # root may write everything
    with pytest.raises(BenchError, match="cannot be written: it is read-only"):
        replace_file(str(path), "lost")
    assert path.read_text() == "kept"
    assert names(tmp_path) == ["bench.toml"]


def test_ahead_keeps_order_and_hands_on_errors() -> None:
    assert list(ahead(range(1000))) == list(range(1000))

    def failing() -> Iterator[int]:
        yield 1
        raise LogError("torn")

    items = ahead(failing())
    assert next(items) == 1
    with pytest.raises(LogError, match="torn"):
        next(items)


def test_ahead_stops_when_nobody_reads_on() -> None:
    made: list[int] = []

    def endless() -> Iterator[int]:
        while True:
            made.append(len(made))
            yield made[-1]

    items = ahead(endless())
    assert next(items) == 0
    items.close()  # type: ignore[attr-defined]
    assert not [t for t in threading.enumerate() if t.name == "jetruler-reader"]
    assert len(made) < 10


@pytest.mark.parametrize(
    ("value", "says"),
    [
        ("no_such_package:Law", "gives ModuleNotFoundError"),
        ("json:dumps", "expected a subclass of Law"),
    ],
)
def test_another_packages_law_that_is_none(
    monkeypatch: pytest.MonkeyPatch, value: str, says: str
) -> None:
    entry = EntryPoint("hall", value, laws.GROUP)
    monkeypatch.setattr(laws, "_own_laws", lambda: {"hall": entry})
    text = '[converter]\nbits = 12\n[channel.a]\ncolumn = "x"\nlaws = [{ law = "hall" }]'
    with pytest.raises(BenchError, match=says):
        parse_bench(text)
    with pytest.raises(BenchError, match="did you mean 'hall'"):
        parse_bench(text.replace('"hall"', '"hal"'))


APART = [
    ("convert roast.csv -o {}", ["roast.csv", "bench.toml"]),
    ("convert roast.csv -o o.csv --events {}", ["roast.csv", "bench.toml", "o.csv"]),
    ("export bean --to c -o {}", ["bench.toml"]),
    ("live --source roast.csv --record {}", ["roast.csv", "bench.toml"]),
]


@few
@pytest.mark.parametrize(("command", "file"), [(c, f) for c, files in APART for f in files])
@pytest.mark.parametrize("way", ["path", "other path", "symlink", "hard link"])
def test_no_output_destroys_a_file_of_the_command(
    cli: Cli, home: Path, command: str, file: str, way: str
) -> None:
    before = {path.name: path.read_bytes() for path in home.iterdir()}
    name = {"path": file, "other path": f"./{file}"}.get(way, "link.csv")
    if "link" in way and file == "o.csv":
        return  # not there yet: nothing to link to
    if way == "symlink":
        (home / name).symlink_to(file)
    elif way == "hard link":
        (home / name).hardlink_to(home / file)
    done = cli(*command.format(name).split())
    assert done.returncode == 2
    assert f"{name}: expected another file, found " in done.stderr
    after = {path.name: path.read_bytes() for path in home.iterdir() if path.name != "link.csv"}
    assert after == before


def test_a_record_stays_until_the_first_line_comes(cli: Cli, home: Path) -> None:
    (home / "old.csv").write_text("precious")
    for args in (["--source", "nowhere.csv"], ["--arm"], ["--duration", "x"]):
        assert cli("live", "--record", "old.csv", *args, stdin="").returncode == 2
    assert cli("live", "--record", "old.csv", stdin="").returncode == 2  # not one line
    assert (home / "old.csv").read_text() == "precious"


def test_what_a_killed_run_left_is_removed_by_the_next(cli: Cli, home: Path) -> None:
    gone = subprocess.run([sys.executable, "-c", "import os; print(os.getpid())"],
                          capture_output=True, text=True, check=True).stdout.strip()  # fmt: skip
    left = [home / f".out.csv.{gone}-0123abcd.part", home / f".out.csv.{gone}.part"]
    others = [home / f".out.csv.{os.getppid()}-0123abcd.part", home / ".out.csv.mine.part"]
    for path in (*left, *others):
        path.write_text("half")
    assert cli("convert", "roast.csv", "-o", "out.csv").returncode == 0
    assert [path.exists() for path in (*left, *others)] == [False, False, True, True]


@soak
@pytest.mark.parametrize("times", sizes(2, 30))
def test_a_kill_at_any_moment_leaves_nothing_half_written(cli: Cli, home: Path, times: int) -> None:
    whole = cli("convert", "roast.csv", "-o", "whole.csv")
    assert whole.returncode == 0
    random = np.random.RandomState(7)
    for _ in range(times):
        (home / "out.csv").write_text("before")
        args = [str(COMMAND), "convert", "roast.csv", "-o", "out.csv"]
        with subprocess.Popen(args, cwd=home, stderr=subprocess.DEVNULL) as process:
            time.sleep(float(random.rand()) * 2.0)
            process.kill()
        found = (home / "out.csv").read_bytes()
        assert found in (b"before", (home / "whole.csv").read_bytes())
    assert cli("convert", "roast.csv", "-o", "out.csv").returncode == 0
    assert not list(home.glob(".*.part"))
