"""The installed command: what it prints, what it refuses, what it leaves behind."""

from __future__ import annotations

import contextlib
import csv
import fcntl
import itertools
import json
import os
import re
import resource
import signal
import subprocess
import sys
import termios
import threading
import time
from pathlib import Path
from typing import IO

import pytest

import jetruler.cli as command_line
from jetruler import demo
from tests.conftest import COMMAND, Cli
from tests.helpers.command import ENCODING
from tests.helpers.sizes import few, soak, thinned

LOOSE = "bean:high_rail"


def test_help_names_every_command_and_version_answers(cli: Cli) -> None:
    shown = cli("--help")
    assert shown.returncode == 0
    for command in ("demo", "new", "look", "convert", "explain", "draw", "help"):
        assert f"  {command} " in shown.stdout
        told = cli(command, "--help")
        assert told.returncode == 0
        assert not re.search(r"\b[A-Z][a-z]+[A-Z]\w*", told.stdout), "a class name in the help"
    assert not re.search(r"\b[A-Z][a-z]+[A-Z]\w*", shown.stdout), "a class name in the help"
    assert cli("--version").stdout.startswith("jetruler, version")


def test_a_process_of_its_own_says_the_same(cli: Cli, home: Path) -> None:
    """The installed entry point and the module, beside the call that most tests make."""
    by_module = [sys.executable, "-m", "jetruler"]
    for command, args in (([str(COMMAND)], "explain damper --at 1880"), (by_module, "convert no")):
        words = args.split()
        wanted = cli(*words)
        done = subprocess.run(
            [*command, *words], cwd=home, capture_output=True, encoding=ENCODING, check=False
        )
        found = (done.returncode, done.stdout, done.stderr)
        assert found == (wanted.returncode, wanted.stdout, wanted.stderr)


def test_convert_to_a_file(cli: Cli, home: Path) -> None:
    done = cli("convert", "roast.csv", "-b", "bench.toml", "-o", "out.csv")
    assert (done.returncode, done.stdout) == (0, "")
    with (home / "out.csv").open(newline="") as file:
        rows = list(csv.DictReader(file))
    assert len(rows) == 4200
    assert [name for name in rows[0] if "_" not in name] == ["note", "flags"]
    assert {row["time_s"] for row in rows if LOOSE in row["flags"]} == {
        f"{412 + i / 5:.1f}" for i in range(10)
    }
    for says in ("damper", "4200", "rail", "below", "3 empty and 0 unreadable cells (line 1509"):
        assert says in done.stderr


def test_convert_through_pipes_equals_files(cli: Cli, home: Path) -> None:
    log = (home / "roast.csv").read_text()
    assert cli("convert", "roast.csv", "-o", "out.csv").returncode == 0
    assert cli("convert", "-", stdin=log).stdout == (home / "out.csv").read_text()


def test_convert_options(cli: Cli, home: Path) -> None:
    done = cli("convert", "roast.csv", "-o", "o.csv", "--only", "damper", "--keep-raw", "--json")
    summary = json.loads(done.stdout)
    assert (summary["rows"], list(summary["channels"])) == (4200, ["damper"])
    assert summary["channels"]["damper"]["largest"] == 100.0
    head = (home / "o.csv").read_text().splitlines()[0]
    assert head == "time_s,ch0,ch1,ch2,ch3,ch4,ch5,ch6,ch7,note,damper_percent,flags"
    semicolons = "ch2;x\n198,0;1,5\n"
    done = cli("convert", "-", "--decimal-comma", "--only", "damper", stdin=semicolons)
    assert done.stdout == "x;damper_percent;flags\n1,5;0,0;\n"
    bare = "\t".join("0123") + "\n"
    (home / "b.toml").write_text(
        '[converter]\nbits=2\n[channel.a]\ncolumn=4\nlaws=[{law="line",gain=2}]'
    )
    done = cli("convert", "-", "-b", "b.toml", "--no-header", "--delimiter", "tab", stdin=bare)
    assert done.stdout == "0\t1\t2\t6.0\ta:high_rail\n"


def test_explain_both_ways(cli: Cli) -> None:
    there = cli("explain", "damper", "--at", "1880")
    assert there.returncode == 0
    for says in ("damper knob", "(1880 − 198)", "= 45.3859 %", "45.4 %", "▼", "▲"):
        assert says in there.stdout
    back = cli("explain", "draught", "--for", "125")
    for says in ("1.8 V", "nearest count is 2234", "gives 125.0 Pa"):
        assert says in back.stdout
    assert "no count reads 120 %" in cli("explain", "damper", "--for", "120").stdout
    found = json.loads(cli("explain", "damper", "--for", "50", "--json").stdout)
    assert found["result"] == {"value": 2051.0, "unit": "count"}
    assert [step["law"] for step in found["steps"]] == ["clamp", "line", "counts"]
    rail = cli("explain", "damper", "--at", "0", "--json")
    assert json.loads(rail.stdout)["flags"] == ["low_rail", "below"]


@soak
def test_draw_writes_png_and_svg(cli: Cli, home: Path) -> None:
    assert cli("draw", "ruler", "damper", "--at", "1880").stdout == "ruler-damper.png\n"
    assert (home / "ruler-damper.png").read_bytes().startswith(b"\x89PNG")
    assert cli("draw", "curve", "damper", "rail", "-o", "c.svg").returncode == 0
    assert "<svg" in (home / "c.svg").read_text()[:500]


BAD = [
    (["convert"], "convert: expected LOG..., found nothing"),
    (["fit", "bean", "--lwa", "x"], "fit: expected one of its options, found --lwa (did you mean"),
    (["look", "--blok"], "expected one of its options, found --blok (jetruler look --help lists"),
    (["--foo"], "jetruler: expected one of its options, found --foo"),
    (["explain", "bean", "--at"], "--at: expected a value, found none"),
    (["look", "--json=3"], "--json: expected no value, found one"),
    (["check", "bench.toml"], "found 'bench.toml' (a bench file goes after -b)"),
    (["fit", "bean", "--degree", "1.5"], "--degree: expected a whole number, found '1.5'"),
    (["new", "--bits", "40", "x"], "--bits: expected a whole number from 1 to 32, found 40"),
    (["convert", "a", "--memory", "0"], "--memory: expected a number from 1, found 0"),
    (["report", "--to", "docx"], "--to: expected one of html, md, tex, found 'docx'"),
    (["draw", "nothing"], "draw: expected one of budget, choose"),
    (["choose", "averaging", "bean"], "choose averaging: expected --to, found nothing"),
    (["convret"], "expected a command, found 'convret' (did you mean 'convert'?)"),
    (["convert", "none.csv"], "none.csv: expected a log, found no such file"),
    (["convert", "."], "-o: expected a folder for the results of many logs, found none"),
    (["look", "."], "found a folder"),
    (["convert", "roast.csv", "-b", "none.toml"],
     "none.toml: expected a bench file, found none; name one with --bench"),
    (["convert", "roast.csv", "-b", "."], "found a folder"),
    (["convert", "roast.csv", "-b", "roast.csv"], "roast.csv: this is not TOML"),
    (["convert", "bench.toml"], "bench.toml: there is no column 'ch0'; its lines are read as"),
    (["convert", "roast.csv", "-o", "roast.csv"],
     "-o roast.csv: expected another file, found the log"),
    (["convert", "roast.csv", "-o", "./no/out.csv"],
     "no/out.csv: expected a folder no, found none"),
    (["convert", "roast.csv", "-o", "."],
     "expected another folder for the results, found that of the log"),
    (["convert", "roast.csv", "--only", "baen"],
     "only: expected a channel of the bench, found 'baen': did you mean 'bean'?"),
    (["convert", "roast.csv", "--json"], "expected -o FILE too"),
    (["convert", "roast.csv", "-o", "/dev/full"], "No space left on device"),
    (["convert", "roast.csv", "--delimiter", "|"], "expected one of comma, semicolon, tab"),
    (["explain", "damper"], "expected one of --at RAW, --for VALUE and --every STEP"),
    (["explain", "dampr", "--at", "1"], "did you mean 'damper'?"),
    (["explain", "damper", "--at", "x"],
     "--at: expected a count, a percentage of its range or a value in %, found 'x'"),
    (["explain", "damper", "--at", "nan"],
     "--at: expected a count, a percentage of its range or a value in %, found 'nan'"),
    (["explain", "damper", "--for", "warm"], "found 'warm'"),
    (["explain", "rail", "--for", "12 ohm"], "--for: expected a quantity in V, found '12 ohm'"),
    (["choose", "resistor", "bean", "--from", "5 bar", "--to", "9"], "--from: expected a quantity"),
    (["choose", "resistor", "bean", "--from", "5", "--to", "9", "--unit", "lx"],
     "--unit: lx cannot be converted to °C"),
    (["choose", "amplifier", "--volts", "0:5 A", "--vref", "3.3"], "--volts: expected a quantity"),
    (["draw", "ruler", "damper", "-o", "x.jpg"], "expected .png or .svg, found another ending"),
    (["draw", "ruler", "damper", "-o", "no/x.png"], "expected a folder no, found none"),
    (["draw", "ruler", "damper", "--at", "5000"], "a count of damper, 0 to 4095"),
    (["draw", "curve", "damper", "-b", "none.toml"], "expected a bench file, found none"),
    (["demo", "-o", "."], "expected a new or empty folder, found files in it"),
    (["demo", "fitt"], "chapter: expected one of look, convert"),
    (["help", "bet"],
     "page: expected a page, a law or a command, found 'bet' (did you mean 'beta'?)"),
]  # fmt: skip


@pytest.mark.parametrize(("args", "says"), BAD, ids=[" ".join(args) for args, _ in BAD])
def test_bad_input(cli: Cli, home: Path, args: list[str], says: str) -> None:
    before = {p.name: p.read_bytes() for p in home.iterdir()}
    done = cli(*args)
    assert done.returncode == 2
    assert says.lower() in done.stderr.lower()
    assert "Traceback" not in done.stderr
    assert done.stderr.startswith("jetruler: ")
    assert done.stderr.count("\n") == 1
    assert {p.name: p.read_bytes() for p in home.iterdir()} == before


def test_a_mistake_of_our_own_is_a_sentence_too(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    def broken(*_: object, **__: object) -> None:
        raise KeyError("inside")

    monkeypatch.setattr(command_line.cli, "main", broken)
    monkeypatch.setattr(command_line, "_leave", sys.exit)
    with pytest.raises(SystemExit) as stopped:
        command_line.main([])
    assert stopped.value.code == 2
    assert "an error in Jet Ruler itself, please report it: KeyError" in capsys.readouterr().err
    monkeypatch.setenv("JETRULER_TRACEBACK", "1")
    with pytest.raises(SystemExit):
        command_line.main([])
    said = capsys.readouterr().err
    assert 'raise KeyError("inside")' in said
    assert "report it: KeyError" in said


@soak
def test_full_disk_leaves_the_old_result(home: Path) -> None:
    """A limit on the size of files stands in for a disk that is full."""
    (home / "out.csv").write_text("as it was")
    done = subprocess.run(
        [COMMAND, "convert", "roast.csv", "-o", "out.csv"],
        cwd=home,
        capture_output=True,
        text=True,
        check=False,
        preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_FSIZE, (50_000, 50_000)),
    )
    assert done.returncode == 2
    assert "file too large" in done.stderr
    assert (home / "out.csv").read_text() == "as it was"
    assert sorted(p.name for p in home.iterdir()) == sorted([*demo.FILES, "out.csv"])


def test_closed_pipe(home: Path) -> None:
    with subprocess.Popen(
        [COMMAND, "convert", "roast.csv"], cwd=home, stdout=subprocess.PIPE, stderr=subprocess.PIPE
    ) as process:
        assert process.stdout
        assert process.stderr
        process.stdout.close()
        message = process.stderr.read().decode()
    assert process.returncode == 2
    assert message.strip().splitlines()[-1].startswith("jetruler: standard output: the reader")
    assert "Traceback" not in message


def endless(fifo: Path) -> None:
    """A log that never ends. In a thread: whoever opens a pipe waits for its reader."""
    with contextlib.suppress(BrokenPipeError), fifo.open("w") as log:
        log.write("time_s,ch0,ch1,ch2,ch3,ch4,ch5,ch6,ch7\n")
        for i in itertools.count():
            log.write(f"{i},1,2,3,4,5,6,7,8\n")


@few
@pytest.mark.parametrize(("signum", "code"), [(signal.SIGINT, 130), (signal.SIGTERM, 143)])
def test_interrupted(home: Path, signum: int, code: int) -> None:
    os.mkfifo(home / "endless")
    with (
        subprocess.Popen(
            [COMMAND, "convert", "endless", "-o", "out.csv"],
            cwd=home,
            stderr=subprocess.PIPE,
            text=True,
        ) as process,
    ):
        feeder = threading.Thread(target=endless, args=(home / "endless",), daemon=True)
        feeder.start()
        deadline = time.monotonic() + 20
        while not list(home.glob(".out.csv.*.part")) and time.monotonic() < deadline:
            time.sleep(0.02)
        assert list(home.glob(".out.csv.*.part"))
        process.send_signal(signum)
        assert process.wait(20) == code
        assert process.stderr
        assert "Traceback" not in process.stderr.read()
    assert sorted(p.name for p in home.iterdir()) == sorted([*demo.FILES, "endless"])


#: A signal comes when the temporary file is there, and before whoever made it knows of it.
JUST_THEN = """
import os, signal
from pathlib import Path
really = Path.open
def opened(self, *args, **options):
    file = really(self, *args, **options)
    if self.suffix == ".part":
        os.kill(os.getpid(), signal.SIGTERM)
    return file
Path.open = opened
from jetruler.cli import main
main(["convert", "roast.csv", "-o", "out.csv"])
"""


@soak
def test_a_signal_just_when_a_file_is_made_leaves_none(home: Path) -> None:
    done = subprocess.run([sys.executable, "-c", JUST_THEN], cwd=home, check=False)
    assert done.returncode == 143
    assert sorted(p.name for p in home.iterdir()) == sorted(demo.FILES)


def wait_until_read(pipe: IO[bytes]) -> None:
    """Wait until somebody has taken what is in a pipe, and waits for more."""
    left = bytearray(4)
    for _ in range(500):
        fcntl.ioctl(pipe.fileno(), termios.FIONREAD, left)
        if not any(left):
            break
        time.sleep(0.02)
    time.sleep(0.2)


@few
@pytest.mark.parametrize("command", ["look", "convert"])
def test_interrupted_while_a_pipe_is_silent(home: Path, command: str) -> None:
    """A reader that waits for what never comes must not keep the command from ending."""
    process = subprocess.Popen(
        [COMMAND, command, "-"],
        cwd=home,
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
    )
    with process:
        assert process.stdin
        assert process.stderr
        process.stdin.write(b"time_s,ch0,ch1,ch2,ch3,ch4,ch5,ch6,ch7\n0,1,2,3,4,5,6,7,8\n")
        process.stdin.flush()
        wait_until_read(process.stdin)
        process.send_signal(signal.SIGINT)
        assert process.wait(10) == 130
        said = process.stderr.read().decode()
        assert "Traceback" not in said
        assert "Fatal" not in said
        assert said.strip() == "jetruler: stopped; no half-written file is left"
    assert sorted(p.name for p in home.iterdir()) == sorted(demo.FILES)


@few
@pytest.mark.parametrize("closed", thinned([0, 1, 2], 2))
@pytest.mark.parametrize(
    ("command", "needs"),
    [("explain bean --at 1880", 1), ("convert roast.csv", 1), ("convert roast.csv -o o.csv", None),
     ("live", 0), ("check", 1)],
)  # fmt: skip
def test_a_closed_stream_is_said_where_it_is_needed(
    home: Path, command: str, needs: int | None, closed: int
) -> None:
    done = subprocess.run(
        f"{COMMAND} {command} {closed}>&-", shell=True, cwd=home, capture_output=True,
        encoding=ENCODING, check=False, stdin=subprocess.DEVNULL,
    )  # fmt: skip
    assert "itself" not in done.stderr
    assert "Exception ignored" not in done.stderr
    if command != "live":
        assert done.returncode == (2 if needs == closed else 0), done.stderr
    if needs == closed == 1:
        assert "writing the output: bad file descriptor" in done.stderr


@pytest.mark.parametrize(
    ("command", "says"),
    [
        ("convert roast.csv -o o.csv --memory inf", "memory: expected more than 0, found inf MB"),
        (
            "explain bean --at 1880 --budget --noise 1e308",
            "0 or more, and less than 1e+100",
        ),
        ("explain bean --at 1880 --budget --draws 300000000", "from 1000 to 10000000"),
        ("fit damper --marks m.csv", "marks: expected up to 20000, found 20001"),
        (
            "fit damper --marks th.csv",
            "line 2: true: expected a number, without separators, as in 1234.5, found '1,234'",
        ),
        (
            "fit damper --marks th2.csv",
            "line 2: true: expected a number, without separators, as in 1234.5, found '1.234,5'",
        ),
    ],
)
def test_endless_and_unclear_requests_are_refused(
    cli: Cli, home: Path, command: str, says: str
) -> None:
    (home / "m.csv").write_text("raw,true\n" + "".join(f"{i},{i}\n" for i in range(20_001)))
    (home / "th.csv").write_text('raw,true\n100,"1,234"\n200,5\n300,7\n')
    (home / "th2.csv").write_text("raw;true\n100;1.234,5\n200;5,5\n300;7\n")
    done = cli(*command.split())
    assert done.returncode == 2
    assert says in done.stderr
