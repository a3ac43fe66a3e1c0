"""Other operating systems: files, keys and ends as Windows has them; and, in soak, the command line
under one that is made up."""

from __future__ import annotations

import ctypes
import os
import signal
import subprocess
import sys
import threading
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest

from jetruler import JetRulerError, convert, files, load_bench, system
from jetruler.files import atomic_replace, reject_overlapping_paths, same_file, temp_path
from jetruler.live.sources import WINDOWS_PORT
from jetruler.logs.workers import planned
from tests.conftest import COMMAND, Cli
from tests.helpers.foreign import sitecustomize as foreign
from tests.helpers.sizes import soak

ROOT = Path(__file__).parents[2]

#: What the whole command line is tested by.
COMMAND_LINE = """cli look check choose fit compare export live demo archives formats files inputs
edit advice budget findings own_calculations worked stream_processor session any_console"""


@soak
@pytest.mark.parametrize(
    ("system", "tests"),
    [("windows", COMMAND_LINE), ("macos", "files archives look")],
)
def test_the_command_line_on_another_system(system: str, tests: str) -> None:
    env = os.environ | {
        "JETRULER_SYSTEM": system,
        "PYTHONPATH": str(ROOT / "tests/helpers/foreign"),
    }
    if system == "windows":
        env["PYTHONIOENCODING"] = "cp1252"
    files = [str(file) for name in tests.split() for file in ROOT.glob(f"tests/*/test_{name}.py")]
    assert len(files) == len(tests.split())
    done = subprocess.run(
        [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", *files],
        cwd=ROOT, env=env, capture_output=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stdout.decode("latin-1")[-4000:]


@pytest.fixture
def windows(monkeypatch: pytest.MonkeyPatch) -> None:
    """Names of files, and processes, as on Windows."""
    windows = {"name": "nt", "kill": foreign.kill, "cpu_count": lambda: 2}
    for module in (system, files):
        monkeypatch.setattr(module, "os", SimpleNamespace(**(vars(os) | windows)))
    kernel = SimpleNamespace(kernel32=foreign.Kernel())
    monkeypatch.setattr(ctypes, "windll", kernel, raising=False)


@pytest.mark.usefixtures("windows")
@pytest.mark.parametrize(
    ("name", "why"),
    [
        ("con", "device"), ("NUL.csv", "device"), ("com3.gz", "device"), ("aux .csv", "device"),
        ("a:b.csv", "':'"), ("what?.csv", "'?'"), ("x<y", "'<'"), ("x\ty", "'\\t'"),
        ("out.", "ends in"), ("out ", "ends in"), ("console.csv", ""), ("com.csv", ""),
    ],
)  # fmt: skip
def test_names_that_windows_keeps(name: str, why: str) -> None:
    found = files.unfit(Path("folder", name))
    assert bool(found) == bool(why)
    assert why in found


@pytest.mark.parametrize(
    "command",
    [
        "convert roast.csv -o nul.csv",
        "convert roast.csv -o out.csv --events com1",
        "convert roast.csv -o prn.parquet --to parquet",
        "new aux.toml",
        "draw ruler bean -o con.png",
        "export bean --to c -o lpt1.h",
        "live --source roast.csv --record con",
    ],
)
@pytest.mark.usefixtures("windows")
def test_a_name_that_windows_keeps_is_refused(cli: Cli, home: Path, command: str) -> None:
    before = sorted(home.iterdir())
    done = cli(*command.split())
    assert done.returncode == 2
    assert "Windows keeps this name for a device; give it another name" in done.stderr
    assert sorted(home.iterdir()) == before


def test_any_name_here(cli: Cli, home: Path) -> None:
    assert cli("convert", "roast.csv", "-o", "nul.csv").returncode == 0
    long = "x" * 250 + ".c"  # the temporary name beside it is no longer
    assert cli("export", "bean", "--to", "c", "-o", long).returncode == 0
    assert (home / long).is_file()


@pytest.mark.usefixtures("windows")
def test_long_paths_get_their_prefix() -> None:
    short, long = Path("/short"), Path("/" + "x/" * 130)
    assert files.reachable(short) == short
    assert str(files.reachable(long)) == f"\\\\?\\{long}"


@pytest.mark.usefixtures("windows")
def test_processes_are_asked_without_a_signal() -> None:
    gone = subprocess.Popen([sys.executable, "-c", ""])
    gone.wait()
    assert system.is_running(os.getpid())
    assert not system.is_running(gone.pid)


@soak
def test_a_result_that_is_held_open_is_kept(
    home: Path, cli: Cli, monkeypatch: pytest.MonkeyPatch
) -> None:
    """By the calls as Windows has them: no open file is replaced or removed."""
    monkeypatch.setattr(os, "replace", foreign.guarded(os.replace, 2))
    monkeypatch.setattr(os, "unlink", foreign.guarded(os.unlink, 1))
    monkeypatch.setattr(foreign, "is_ours", lambda depth: True)
    for name, command in {
        "out.csv": "convert roast.csv -o out.csv",
        "out.parquet": "convert roast.csv -o out.parquet",
        "bean.h": "export bean --to c -o bean.h",
        "bean.png": "draw ruler bean -o bean.png",
        "bench.toml": "fit bean --marks bath.csv --write",
    }.items():
        path = home / name
        if name != "bench.toml":
            path.write_bytes(b"old")
        before = path.read_bytes()
        with path.open("rb"):
            done = cli(*command.split())
            assert done.returncode == 2
            assert f"{name}: cannot be written: another program holds it open" in done.stderr
            assert path.read_bytes() == before
        assert not list(home.glob(".*.part"))
        assert cli(*command.split()).returncode == 0
        assert path.read_bytes() != before


def test_names_that_differ_in_case_alone(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    files.folds_case.cache_clear()
    assert not files.folds_case(tmp_path)
    for name in ("day.csv", "Day.jsonl", "night.csv"):
        (tmp_path / name).write_text("t,ch0\n0,1\n")
    assert len(planned(["."], "out", out_kind="parquet")) == 3
    assert not same_file(Path("out.csv"), Path("OUT.csv"))
    monkeypatch.setattr("jetruler.files.folds_case", lambda folder: True)
    with pytest.raises(JetRulerError, match=r"its result has the same name as that of .*Day.jsonl"):
        planned(["."], "out", out_kind="parquet")
    assert same_file(Path("out.csv"), Path("OUT.csv"))
    with pytest.raises(JetRulerError, match="found what -o writes"):
        reject_overlapping_paths({"-o": "out.csv", "--events": "OUT.csv"}, {})
    (tmp_path / "out").mkdir()
    (tmp_path / "out" / "old.csv").write_text("t,ch0\n0,1\n")
    assert len(planned(["."], "OUT")) == 3  # what is in the results' folder is no log


@soak
def test_a_disk_that_folds_case(home: Path) -> None:
    """One that is made up: names are found whatever their case."""
    env = os.environ | {
        "JETRULER_SYSTEM": "macos",
        "PYTHONPATH": str(ROOT / "tests/helpers/foreign"),
    }
    (home / "a").mkdir()
    (home / "a" / "day.csv").write_bytes((home / "roast.csv").read_bytes())
    (home / "a" / "DAY.jsonl").write_text('{"ch0": 1}\n')
    for command, says in {
        "convert roast.csv -o ROAST.csv": "-o ROAST.csv: expected another file, found the log",
        "convert a -o out --to parquet": "its result has the same name as that of",
        "convert a -o A": "expected another folder for the results, found that of the logs",
        "export bean --to c -o BENCH.TOML": "expected another file, found the bench",
    }.items():
        done = subprocess.run(
            [COMMAND, *command.split()], cwd=home, env=env, capture_output=True, text=True,
            check=False,
        )  # fmt: skip
        assert done.returncode == 2, command
        assert says in done.stderr


def test_drives_of_their_own(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "day.csv").write_text("t,ch0\n0,1\n")

    def refused(paths: Any) -> str:
        raise ValueError("Paths don't have the same drive")

    monkeypatch.setattr("os.path.commonpath", refused)
    with pytest.raises(JetRulerError, match="are on different drives"):
        planned([tmp_path / "day.csv"], "out")


@pytest.mark.parametrize(
    ("name", "is_port"),
    [("COM3", True), ("com12", True), (r"\\.\COM10", True), ("common.csv", False), ("COM", False)],
)
def test_ports_of_windows(cli: Cli, name: str, is_port: bool) -> None:
    assert bool(WINDOWS_PORT.fullmatch(name)) == is_port
    if not is_port:
        assert "expected -, demo, none, a file, a port" in cli("live", "--source", name).stderr


@pytest.mark.parametrize("name", ["/dev/no-such-terminal", "/dev/null/x"])
def test_without_a_terminal_there_is_no_keyboard(
    monkeypatch: pytest.MonkeyPatch, name: str
) -> None:
    monkeypatch.setattr(os, "ctermid", lambda: name)
    monkeypatch.setattr(sys, "stdin", None)
    assert not system.has_keyboard()


@pytest.mark.skipif(not hasattr(os, "openpty"), reason="a pseudo-terminal")
def test_a_terminal_stands_in_for_a_pipe_and_gives_it_back(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    ours, theirs = os.openpty()
    monkeypatch.setattr(os, "ctermid", lambda: os.ttyname(theirs))
    monkeypatch.setattr(sys, "stdin", None)
    assert system.has_keyboard()
    before = os.fstat(0)
    with system.keyboard():
        assert os.isatty(0)
        assert os.ttyname(0) == os.ttyname(theirs)
    assert os.fstat(0) == before
    os.close(ours)
    os.close(theirs)


@pytest.mark.usefixtures("windows")
def test_a_console_that_closes_ends_the_program(monkeypatch: pytest.MonkeyPatch) -> None:
    """Its callback comes in a thread of the system's, and ends the program when it returns."""
    monkeypatch.setattr(signal, "SIGBREAK", signal.SIGUSR1, raising=False)
    monkeypatch.setattr(system, "GRACE", 0.05)
    monkeypatch.setattr(system, "_kept", [])
    before = {n: signal.getsignal(n) for n in (15, 1, 3, signal.SIGUSR1)}
    heard = threading.Event()
    try:
        system.on_ending(lambda number, frame: heard.set())
        closing = ctypes.windll.kernel32.closing  # type: ignore[attr-defined]
        assert closing(0) == 0  # Ctrl-C goes its own way
        thread = threading.Thread(target=closing, args=(2,))
        thread.start()
        thread.join()  # the main thread hears between two steps of its own
        assert heard.is_set()
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


def test_what_is_ignored_stays_ignored() -> None:
    """As `nohup` has it."""
    before = {n: signal.getsignal(n) for n in (15, 1, 3)}
    try:
        signal.signal(signal.SIGHUP, signal.SIG_IGN)
        system.on_ending(lambda *_: None)
        assert signal.getsignal(signal.SIGHUP) is signal.SIG_IGN
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


def test_temporary_names(tmp_path: Path) -> None:
    final = tmp_path / ("ü" * 120 + ".csv")
    part = temp_path(final)
    part.write_bytes(b"new")
    atomic_replace(part, final)
    assert final.read_bytes() == b"new"


def test_what_was_made_is_known_by_one_name(home: Path) -> None:
    """Whatever the separator of the system, the note beside the results is the same."""
    from jetruler import convert_all

    (home / "a" / "b").mkdir(parents=True)
    (home / "a" / "b" / "x.csv").write_bytes((home / "roast.csv").read_bytes())
    (home / "a" / "y.csv").write_bytes((home / "roast.csv").read_bytes())
    bench = load_bench(home / "bench.toml")
    convert_all([home / "a"], bench, home / "out", jobs=1)
    assert '"b/x.csv"' in (home / "out" / ".jetruler-made.json").read_text()
    convert(home / "roast.csv", bench, home / "one.csv")


@pytest.mark.filterwarnings("ignore::pytest.PytestUnraisableExceptionWarning")
def test_an_end_that_is_lost_in_a_call_back_from_c_is_asked_for_again() -> None:
    """What a signal's handler raises goes nowhere there: a drive would go on."""
    before = {name: signal.getsignal(getattr(signal, name)) for name in ("SIGTERM", "SIGINT")}
    system.on_ending(lambda number, _: sys.exit(128 + number))
    system.end_if_asked()  # nobody asked yet
    try:
        for name, end in (("SIGTERM", SystemExit), ("SIGINT", KeyboardInterrupt)):

            def back(name: str = name) -> int:
                signal.raise_signal(getattr(signal, name))
                return 0

            ctypes.CFUNCTYPE(ctypes.c_int)(back)()
            with pytest.raises(end):
                system.end_if_asked()
    finally:
        for name, handler in before.items():
            signal.signal(getattr(signal, name), handler)
        system._ending.clear()
