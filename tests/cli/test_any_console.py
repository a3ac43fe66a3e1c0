"""Standard streams in any encoding, of any width: no output is lost, and documents are UTF-8."""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess
from pathlib import Path
from typing import Any

import pytest

from jetruler.cli import COMMANDS
from jetruler.cli.streams import PLAIN, plain_form
from jetruler.demo import STEPS
from tests.conftest import COMMAND
from tests.helpers.command import called
from tests.helpers.sizes import few, soak

ENCODINGS = ("ascii", "latin-1", "cp1252", "cp437", "cp850", "cp932", "koi8-r")

#: What people read. The first are as the tour has them; live is not, since it never ends the same.
SHOWN = [s.command for s in STEPS if s.command.split()[0] not in ("draw", "live", "export")]
SHOWN += [
    "--help",
    "explain bean --at 70000",
    "explain bena --at 1",
    "look --ends damper roast.csv",
]
SHOWN += ["convert roast.csv --time nothing", "choose reference bean", "draw ruler bean --at x"]
SHOWN += [f"{command} --help" for command in COMMANDS]
#: What programs read.
DOCUMENTS = (
    "convert roast.csv",
    "convert roast.csv --to jsonl",
    "export --all --to c",
    "export draught --to st",
    "export tray --to python",
    "explain bean --at 1880 --json",
    "explain bean --at 400 --budget --json",
    "look roast.csv --json",
    "check --json",
    "compare bean bean2 --log rest.csv --json",
    "fit bean --marks bath.csv --json",
    "choose resistor bean --from 20 --to 240 --json",
)


@pytest.mark.parametrize(
    ("sign", "form"),
    [
        *zip("−–·×µ…→≤", ["-", "-", "*", "x", "u", "...", "->", "<="], strict=True),
        *zip("✗▕┬╪═█ÉÅⁿᵀ₀", "x|++=#EAnT0", strict=True),
        *zip("Ωθλπß温", ["ohm", "theta", "lambda", "pi", "ss", "\\u6e29"], strict=True),
    ],
)
def test_plain_forms(sign: str, form: str) -> None:
    assert plain_form(sign) == form


@pytest.mark.parametrize(
    ("text", "encoding", "shown"),
    [
        ("4.7 kΩ · 10⁻³", "ascii", "4.7 kohm * 10^-3"),
        ("cm² 10⁻² °C", "latin-1", "cm² 10^-2 °C"),  # the run of superscripts stays together
        ("Ω     next", "ascii", "ohm   next"),
        ("20 °C    x", "ascii", "20 degC  x"),  # it gives way behind its cell
        ("Ω x", "ascii", "ohm x"),
        ("\ud800", "utf-8", "\\ud800"),
    ],
)
def test_plain_forms_take_the_room_behind_them(text: str, encoding: str, shown: str) -> None:
    assert text.encode(encoding, PLAIN).decode(encoding) == shown


BARE = {"NO_COLOR": "1", "TERM": "dumb", "HOME": None, "PYTHONUNBUFFERED": None}


def prepared(home: Path) -> Path:
    for step in STEPS:
        if step.before is not None:
            step.before(home)
    return home


def commands(listed: Any) -> list[Any]:
    """Some of them in ASCII in the usual run; every one in all seven encodings in soak."""
    return [
        pytest.param(
            command,
            encoding,
            marks=[] if encoding == "ascii" and n % 8 == 0 else [soak],
            id=f"{encoding}-{command[:40]}",
        )
        for encoding in ENCODINGS
        for n, command in enumerate(dict.fromkeys(listed))
    ]


def words(text: str) -> list[str]:
    return "".join(map(plain_form, text)).replace("^", "").split()


@few
@pytest.mark.parametrize(("command", "encoding"), commands(SHOWN))
def test_the_same_words_in_any_encoding(home: Path, command: str, encoding: str) -> None:
    args = shlex.split(command)
    wanted = called(*args, home=prepared(home))
    shutil.rmtree(home / "archive", ignore_errors=True)
    done = called(*args, home=home, encoding=encoding)
    assert done.returncode == wanted.returncode
    assert words(done.stdout) == words(wanted.stdout)
    assert words(done.stderr) == words(wanted.stderr)
    assert "\\u" not in done.stdout


@pytest.mark.parametrize(("command", "encoding"), commands(DOCUMENTS))
def test_documents_are_utf_8(home: Path, command: str, encoding: str) -> None:
    args = shlex.split(command)
    assert called(*args, home=home, encoding=encoding).raw == called(*args, home=home).raw


def test_a_document_says_its_signs(home: Path) -> None:
    done = called("explain", "bean", "--at", "9", "--json", home=home, encoding="ascii")
    assert "Ω" in done.raw.decode()


@pytest.mark.parametrize(
    "width", [pytest.param(20), *(pytest.param(n, marks=soak) for n in (40, 80, 300))]
)
def test_any_width(home: Path, monkeypatch: pytest.MonkeyPatch, width: int) -> None:
    """Whatever is narrow, every number comes out."""
    for command in (
        "explain bean --at 1880",
        "check",
        "fit bean --marks bath.csv",
        "look rest.csv",
    ):
        monkeypatch.delenv("COLUMNS", raising=False)
        wanted = called(*command.split(), home=home)
        monkeypatch.setenv("COLUMNS", str(width))
        done = called(*command.split(), home=home)
        assert done.returncode == wanted.returncode
        missing = {w for w in wanted.stdout.split() if w[0].isalpha()} - set(done.stdout.split())
        assert not missing
        assert done.stderr == wanted.stderr


@soak
@pytest.mark.parametrize(
    "bare",
    [
        {"HOME": "/proc", "PYTHONUNBUFFERED": "1"},
        *(pytest.param({k: v}, marks=soak) for k, v in BARE.items()),
    ],
    ids=str,
)
def test_a_bare_environment(home: Path, bare: dict[str, str | None]) -> None:
    """No colours, no terminal, no home, or one that cannot be written."""
    env = {
        k: v for k, v in (dict(os.environ) | bare).items() if v is not None and k != "MPLCONFIGDIR"
    }
    for command in ("explain bean --at 1880", "draw ruler bean", "live --source roast.csv"):
        done = subprocess.run(
            [COMMAND, *command.split()], cwd=home, env=env, capture_output=True, check=False
        )
        assert done.returncode == 0, done.stderr
        assert done.stdout
        assert b"\x1b" not in done.stdout + done.stderr
        assert b"atplotlib" not in done.stderr
