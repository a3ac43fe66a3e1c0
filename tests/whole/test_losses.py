"""No command loses what was there: inputs, files of others, what stands behind a descriptor, and
what somebody else has just written."""

from __future__ import annotations

import gzip
import os
import subprocess
import sys
import threading
from pathlib import Path

import pytest

import jetruler as jr
from jetruler.files import descriptor_of, standard_or
from tests.conftest import COMMAND, Cli
from tests.helpers.sizes import few, posix, sizes, soak

TABLE = """
[channel.bent]
column = "ch0"
converter = { bits = 12, vref = 3.3 }
laws = [{ law = "table", points = "level.csv", unit = "%" }]
"""


@pytest.fixture
def house(home: Path) -> Path:
    """The demo, a bench that names a file of points, and links to files by other names."""
    (home / "table.toml").write_text(TABLE)
    (home / "level.csv").write_text("0,0\n1.5,40\n3.3,100\n")
    (home / "link.csv").symlink_to("roast.csv")
    (home / "out").mkdir()
    (home / "out" / "again.csv").symlink_to("../bath.csv")
    os.link(home / "bath.csv", home / "hard.csv")
    (home / "old.csv").write_text("yesterday\n")
    return home


def contents(folder: Path) -> dict[str, bytes]:
    return {
        str(path.relative_to(folder)): path.read_bytes()
        for path in sorted(folder.rglob("*"))
        if path.is_file()
    }


CLASHES = """
convert roast.csv -o roast.csv
convert roast.csv -o link.csv
convert link.csv -o ./out/../roast.csv
convert roast.csv -o bench.toml
convert roast.csv -o out.csv --events out.csv
convert roast.csv -o out.csv --events roast.csv
convert roast.csv -b table.toml -o level.csv
convert roast.csv -b table.toml -o out.csv --events level.csv
report --marks bean=bath.csv -o bath.csv
report --marks bean=bath.csv -o hard.csv
report bean --marks bean=bath.csv -o out/again.csv
report --log roast.csv -o roast.csv
report -b table.toml -o level.csv
report -b bench.toml -o bench.toml
export bean --to c -o bench.toml
export bent --to c -b table.toml -o level.csv
export bent --to python -b table.toml -o ./level.csv
draw ruler bent -b table.toml -o level.csv
draw ruler bean -o bench.toml
look roast.csv -b table.toml --plot level.csv
fit bean --marks bath.csv --plot bath.csv
live --source roast.csv --record roast.csv
live --source roast.csv --record bench.toml
live --source roast.csv --events link.csv
live --source roast.csv --record old.csv
live --source roast.csv --events old.csv
live --source roast.csv --record new.csv --events new.csv
live --source roast.csv -b table.toml --record level.csv
live --source roast.csv -b table.toml --events level.csv --append
new bench.toml
new old.csv
demo .
""".strip().split("\n")


@pytest.mark.parametrize("line", CLASHES)
def test_a_command_that_would_lose_something_is_refused(cli: Cli, house: Path, line: str) -> None:
    before = contents(house)
    done = cli(*line.split())
    assert done.returncode == 2, done.stdout + done.stderr
    assert done.stderr.startswith("jetruler: ")
    assert contents(house) == before


@few
@posix
@pytest.mark.parametrize(
    "args",
    [
        "convert roast.csv -o /dev/stdout",
        "convert roast.csv -o /dev/fd/1",
        "convert roast.csv -o /proc/self/fd/1",
        "convert roast.csv -o named",
        "export bean --to c -o /dev/stdout",
        "live --source roast.csv --events /dev/stdout",
        "convert roast.csv -o new.csv --events /dev/stdout",
        "convert roast.csv -o /dev/fd/3",
        "live --source roast.csv --record /dev/fd/3",
    ],
)
def test_descriptors_are_written_into(house: Path, args: str) -> None:
    """What a file held before `>>` stays, and what was written stands behind it."""
    (house / "named").symlink_to("/dev/stdout")
    every = house / "all.csv"
    every.write_text("yesterday\n")
    into = "3>>" if "fd/3" in args else ">>"
    shell = ["sh", "-c", f'"{COMMAND}" {args} {into} all.csv']
    done = subprocess.run(
        shell, cwd=house, stdin=subprocess.DEVNULL, capture_output=True, check=False
    )
    assert done.returncode == 0, done.stderr
    kept = every.read_text()
    assert kept.startswith("yesterday\n")
    assert len(kept) > 200
    assert not every.is_symlink()


@posix
def test_names_of_descriptors(tmp_path: Path) -> None:
    (tmp_path / "one").symlink_to("two")
    (tmp_path / "two").symlink_to("/dev/fd/7")
    (tmp_path / "self").symlink_to("self")
    known: dict[str | Path, int | None] = {
        "/dev/stdin": 0, "/dev/stdout": 1, "/dev/stderr": 2, "/dev/fd/12": 12,
        f"/proc/{os.getpid()}/fd/5": 5, "/proc/self/fd/1": 1, tmp_path / "one": 7,
        tmp_path / "self": None, "out.csv": None, "/dev/null": None, "fd/1": None, "1": None,
    }  # fmt: skip
    for name, number in known.items():
        assert descriptor_of(name) == number, name
    assert standard_or("/dev/fd/1") == "-"
    assert standard_or("out.csv") == "out.csv"


@posix
def test_devices_and_pipes_are_written_to(cli: Cli, house: Path) -> None:
    assert cli("convert", "roast.csv", "-o", "/dev/null").returncode == 0
    pipe, got = house / "pipe", []
    os.mkfifo(pipe)
    reader = threading.Thread(target=lambda: got.append(pipe.read_bytes()))
    reader.start()
    assert cli("convert", "roast.csv", "-o", "pipe").returncode == 0
    reader.join(10)
    assert got[0].count(b"\n") == 4201
    assert pipe.is_fifo()


def test_files_that_grow_may_be_packed(cli: Cli, house: Path) -> None:
    for _ in range(2):
        done = cli("live", "--source", "roast.csv", "--events", "e.csv.gz", "--append")
        assert done.returncode == 0, done.stderr
    with gzip.open(house / "e.csv.gz", "rt") as file:
        lines = file.read().splitlines()
    assert sum(line.startswith("time_s,") for line in lines) == 1
    assert len(lines) > 4


EDIT = """
import sys, jetruler as jr
for i in range(int(sys.argv[2])):
    try:
        channel = jr.load_bench("bench.toml")[sys.argv[1]]
        jr.write_correction("bench.toml", channel, jr.Line(gain=1.0, offset=0.125))
        print("done")
    except jr.JetRulerError as error:
        assert "has changed since" in str(error) or "another program" in str(error), error
"""  # fmt: skip


@soak
@pytest.mark.parametrize("rounds", sizes(4, 50))
def test_writers_at_the_same_time_lose_nothing(home: Path, rounds: int) -> None:
    """Every change that was said to be made is there: four writers, each of its own channel."""
    bench = "".join(
        f'[channel.c{i}]\ncolumn = "ch{i}"\nconverter = {{ bits = 12, vref = 3.3 }}\nlaws = [\n]\n'
        for i in range(4)
    )
    (home / "bench.toml").write_text(bench)
    running = [
        subprocess.Popen(
            [sys.executable, "-c", EDIT, f"c{i}", str(rounds)], cwd=home, stdout=subprocess.PIPE
        )
        for i in range(4)
    ]
    made = [one.communicate(timeout=300)[0].decode().count("done") for one in running]
    assert [one.returncode for one in running] == [0] * 4
    found = jr.load_bench(home / "bench.toml")
    volts = jr.parse_bench(bench)
    shifts = [float(found[f"c{i}"](100) - volts[f"c{i}"](100)) for i in range(4)]
    assert shifts == pytest.approx([0.125 * n for n in made])
    assert sum(made) > rounds
    assert not list(home.glob(".*"))


HOSTILE = {
    "\x1b[31mred\x07": "a control code",
    "\u202egnp.exe": "turned round",
    "\x9b31m": "a control code of one byte",
    "\u2066a\u2069": "an isolate",
    "line\u2028end": "a line separator",
}


@pytest.mark.parametrize("text", HOSTILE, ids=HOSTILE.values())
def test_nothing_from_outside_reaches_a_terminal_raw(cli: Cli, home: Path, text: str) -> None:
    """Names of files and columns, cells, arguments, texts of a bench."""
    log = home / f"{text}.csv"
    log.write_text(f"t,{text},b{text}\n" + "".join(f"{i},{i % 7},{text}\n" for i in range(60)))
    (home / "evil.toml").write_text(
        f'title = "{text}"\n'.encode("unicode_escape").decode().replace("\\x", "\\u00")
        + "[channel.a]\ncolumn = 2\nconverter = { bits = 12, vref = 3.3 }\nlaws = []\n"
    )
    said = ""
    for args in (
        ["look", log.name], ["look", log.name, "-b", "evil.toml"], ["check", "-b", "evil.toml"],
        ["convert", log.name, "-o", f"{text}.jsonl"], ["new", f"{text}.toml", "--from", log.name],
        ["live", "--source", log.name], ["explain", text], ["compare", "bean", text],
        ["look", f"no{text}.csv"], ["check", "-b", f"no{text}.toml"], [text], [f"--{text}"],
    ):  # fmt: skip
        done = cli(*args)
        said += done.stdout + done.stderr if args[0] != "live" else done.stderr
    for sign in text:
        assert sign.isprintable() or sign not in said, said


@soak
def test_texts_stay_texts_in_every_form(cli: Cli, home: Path) -> None:
    """Fences, links, names of files and formulas of spreadsheets."""
    bench = """
[channel."温度"]
column = "ch0"
about = "100% a_b#c $x$ ```"
converter = { bits = 12, vref = 3.3 }
laws = [{ law = "zones", edges = [1, 2], values = ["a```b", "=HYPERLINK(1)", "-"] }]
[channel."湿度"]
column = "ch1"
converter = { bits = 12, vref = 3.3 }
laws = []
"""
    (home / "b.toml").write_text(bench)
    assert cli("check", "-b", "b.toml").returncode == 0
    done = cli("report", "-b", "b.toml", "-o", "my report (1).md", "--at", "0")
    assert done.returncode == 0, done.stderr
    assert "lyph" not in done.stderr
    text = (home / "my report (1).md").read_text()
    assert "````text\n" in text
    assert text.count("````") == 2 * text.count("````text")
    assert "](my%20report%20%281%29-figures/" in text
    assert cli("report", "-b", "b.toml", "-o", "100% a_b#c.tex").returncode == 0
    tex = (home / "100% a_b#c.tex").read_text()
    assert "{100--a-b-c-figures/" in tex
    assert (home / "100--a-b-c-figures").is_dir()
    code = cli("export", "--all", "--to", "c", "-b", "b.toml")
    assert code.returncode == 0, code.stderr
    assert len({line for line in code.stderr.splitlines() if "called ch_" in line}) == 2
    (home / "z.csv").write_text("ch0,ch1\n0,1\n1,2\n3,3\n")
    assert cli("convert", "z.csv", "-b", "b.toml", "-o", "o.csv", "--only", "温度").returncode == 0
    cells = [line.split(",")[1] for line in (home / "o.csv").read_text().splitlines()[1:]]
    assert cells == ["a```b", "'=HYPERLINK(1)", "'-"]


BOMBS = {
    "deep key": ("a" + ".a" * 50_000 + " = 1\n", "expected a key of few parts"),
    "deep header": ("[" + "a." * 50_000 + "a]\n", "expected a key of few parts"),
    "quoted": ("".join(['"a" . '] * 50_000) + "a = 1\n", "expected a key of few parts"),
    "keys": ("".join(f"k{i} = 1\n" for i in range(200_000)), "expected up to 50000 keys"),
    "nested": ("a = " + "[" * 5000 + "]" * 5000, "nested too deeply"),
    "errors": ("[channel.a]\n" + "".join(f"k{i} = 1\n" for i in range(300)), "… and 28"),
}


@pytest.mark.parametrize("kind", BOMBS)
def test_a_bench_file_has_bounds(kind: str) -> None:
    text, told = BOMBS[kind]
    with pytest.raises(jr.errors.BenchError, match=told) as caught:
        jr.parse_bench(text)
    assert str(caught.value).count("\n") <= 22


def test_other_files_have_bounds(cli: Cli, home: Path) -> None:
    (home / "points.toml").write_text(TABLE.replace("level.csv", "../../../../etc/passwd"))
    done = cli("check", "-b", "points.toml")
    assert done.returncode == 2
    assert "root" not in done.stderr
    assert ":/" not in done.stderr
    (home / "wide.csv").write_text(
        ",".join(f"c{i}" for i in range(3000)) + "\n" + "1," * 2999 + "1\n" * 2
    )
    done = cli("look", "wide.csv")
    assert "which of its 3000 columns to look at" in done.stderr
    for marks in ("/dev/zero", "loop"):
        (home / "loop").unlink(missing_ok=True)
        (home / "loop").symlink_to("loop")
        done = cli("fit", "bean", "--marks", marks)
        assert (done.returncode, done.stderr.count("\n")) == (2, 1)
