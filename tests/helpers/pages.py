"""Reads a page of the documentation as its reader does: each block in order, in an empty folder."""

from __future__ import annotations

import ast
import contextlib
import os
import re
import shlex
import shutil
import subprocess
import threading
import tomllib
from collections.abc import Iterator
from functools import partial
from pathlib import Path
from typing import Any

import pytest

from jetruler import demo
from jetruler.benchfile.load import parse_bench
from jetruler.core.error_types import JetRulerError

from ..conftest import COMMAND
from .command import ENCODING, Done, called

ROOT = Path(__file__).parents[2]
PAGES = [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))]

#: Lines that are not run: the test's own set-up has run them, or they need what is not here.
ELSEWHERE = (
    *("pip ", "python3 -m venv", ". .venv/", "make test", "sudo ", "gcc ", "import dask"),
    *("archive", "python -m jetruler.demo.board", "jetruler live --source /dev/pts"),
    "jetruler convert 'logs/**/*.parquet' -o archive/ --cluster",
)


def blocks(page: Path) -> list[tuple[str, str]]:
    """Each block of a page with its language."""
    text = page.read_text("utf-8")
    return re.findall(r"^```(\w*)\n(.*?)^```$", text, re.DOTALL | re.MULTILINE)


#: A comment that shows a value.
CLAIM = re.compile(r"[-\d'\"(\[]|None$|True$|False$")


class Reader:
    """Somebody who follows a page, with a folder and a Python session of their own."""

    def __init__(self, home: Path) -> None:
        self.home, self.c_head, self.ran = home, "", 0
        self.scope: dict[str, Any] = {}

    def read(self, page: Path) -> None:
        """Run every block."""
        runs = {"": self.shell, "console": self.console, "python": self.python}
        runs |= {"toml": self.toml, "c": self.c, "text": lambda block: None}
        for language, block in blocks(page):
            runs[language](block)
            self.ran += language != "text"

    def console(self, block: str) -> None:
        """Commands behind a `$`, each with all that it prints; `…` stands for any lines."""
        typed = re.split(r"^\$ ", block, flags=re.M)[1:]
        for part in typed:
            command, _, shown = part.partition("\n")
            encoding, words = ENCODING, shlex.split(command)
            while "=" in words[0]:
                encoding = words.pop(0).partition("=")[2]
            assert words[0] == "jetruler", command
            done = called(*words[1:], home=self.home, encoding=encoding)
            assert done.returncode in (0, 1), done.stderr
            found = (done.stdout + done.stderr, done.stderr + done.stdout)
            assert any(matches(shown, text) for text in found), difference(command, shown, done)

    def python(self, block: str) -> None:
        """Statement by statement; a comment behind an expression shows what comes out."""
        lines = block.splitlines()
        for statement in ast.parse(block).body:
            code = ast.get_source_segment(block, statement) or ""
            claim = lines[(statement.end_lineno or 0) - 1].partition("  # ")[2]
            if isinstance(statement, ast.Expr) and re.match(
                r"[-\d'\"(\[]|None$|True$|False$", claim
            ):
                value = eval(code, self.scope)  # our own document
                wanted = ".*".join(map(re.escape, claim.split("…")))
                assert any(re.fullmatch(wanted, text) for text in (repr(value), str(value))), (
                    f"{code}: {claim}, found {value!r}"
                )
            else:
                exec(code, self.scope)

    def toml(self, block: str) -> None:
        """A bench, or a part of one: tables beside the demo's, or keys of a channel."""
        lines = block.splitlines()
        if all(line.startswith("smooth = ") for line in lines):  # one key in several ways
            for line in lines:
                parse_bench(f"{CONVERTER}[channel.a]\ncolumn = 1\n{line}\n")
            return
        errors = []
        for text in candidates(block):
            try:
                parse_bench(text)
            except JetRulerError as error:
                errors.append(str(error))
            else:
                return
        pytest.fail("\n".join([block, *errors]))

    def c(self, block: str) -> None:
        """Declarations, then statements as the body of a function; or a whole program."""
        if (compiler := shutil.which("gcc")) is None:
            return
        if "main(" not in block:
            head = re.findall(r"^(?:#include.*|\w+ \w+\([^()]*\);.*)$", block, re.M)
            body = "\n".join(line for line in block.splitlines() if line not in head)
            if "#include" in block:  # another file's names
                self.c_head = re.sub(r"#include.*\n", "", self.c_head)
            self.c_head = "\n".join(head) + "\n" + self.c_head
            block = f"{self.c_head}void page(void)\n{{\n{body}\n}}\n"
        source = self.home / "page.c"
        source.write_text(block)
        words = [compiler, "-std=c99", "-fsyntax-only", "-Wall", "-Wno-unused", source.name]
        done = subprocess.run(words, cwd=self.home, capture_output=True, text=True, check=False)
        assert not done.returncode, done.stderr

    def shell(self, block: str) -> None:
        """Lines without what they print, behind each perhaps a remark."""
        for line in block.splitlines():
            command = line.partition("  # ")[0].split(" # ")[0].strip()
            if command and not command.startswith((*ELSEWHERE, "#")):
                self.shell_line(command)

    def shell_line(self, command: str) -> None:
        """A command; a live one for two seconds, with a board at its port."""
        words = shlex.split(command)
        if command == "make demo":  # its whole tour has a test of its own
            (self.home / "demo-output").mkdir()
            demo.unpack(self.home / "demo-output")
            return
        assert words[0] == "jetruler", command
        run = partial(subprocess.run, cwd=self.home, capture_output=True, text=True)
        with board() as port:
            words = [port if word.startswith("/dev/") else word for word in words[1:]]
            if words[0] == "live":
                words += ["--duration", "2 s"]
            done = run([COMMAND, *words])
        assert done.returncode in (0, 1), done.stderr
        assert words[0] != "live" or len(done.stdout.splitlines()) > 1, done.stderr


class board:  # noqa: N801 - a context
    """The plainest board, at a pseudo-terminal: one count a line."""

    def __enter__(self) -> str:
        self.ends, self.over = os.openpty(), threading.Event()
        os.set_blocking(self.ends[0], False)
        self.feeder = threading.Thread(target=self.feed, daemon=True)
        self.feeder.start()
        return os.ttyname(self.ends[1])

    def feed(self) -> None:
        n = 0
        while not self.over.wait(0.02):
            with contextlib.suppress(BlockingIOError):  # nobody reads it yet
                os.write(self.ends[0], f"{500 + n % 20}\r\n".encode())
            n += 1

    def __exit__(self, *_: object) -> None:
        self.over.set()
        self.feeder.join()
        for end in self.ends:
            os.close(end)


def matches(shown: str, found: str) -> bool:
    """Whether a page shows what a command prints, line by line; `…` stands for any lines."""
    pattern = "".join(
        r"(?:[^\n]*\n)*?" if line == "…" else re.escape(line.rstrip()) + r"[ ]*\n"
        for line in shown.rstrip("\n").split("\n")
        if shown.strip()
    )
    return re.fullmatch(pattern, found.rstrip("\n") + "\n" if found else "") is not None


def difference(command: str, shown: str, done: Done) -> str:
    """The lines of a page that a command does not print, and all that it prints."""
    printed = (done.stdout + done.stderr).splitlines()
    gone = [line for line in shown.splitlines() if line != "…" and line not in printed]
    return f"{command}: not printed: {gone}; printed:\n" + "\n".join(printed[:60])


CONVERTER = '[converter]\nbits = 12\nvref = "3.3 V"\n'


def candidates(block: str) -> Iterator[str]:
    """What a block may be."""
    block = block.replace("[ … ]", '[{ law = "line", gain = 2, unit = "%" }]')
    yield block
    yield CONVERTER + block
    own = tomllib.loads(block)
    bench = demo.read("bench.toml").decode()
    tables = [[kind, name] for kind in ("channel", "trip", "drive") for name in own.get(kind, ())]
    tables += [["log"]] if "log" in own else []
    for table in tables:  # in the place of the demo's own, or beside its keys
        found = re.search(rf"(?ms)^\[{re.escape('.'.join(table))}\]\n(.*?)(?=^\[|\Z)", bench)
        if found:
            bench = bench[: found.start()] + bench[found.end() :]
            keys = own[table[0]] if len(table) == 1 else own[table[0]][table[1]]
            if set(keys) == {"expected"}:
                others = re.sub(r"(?m)^expected = .*\n(?:[ \]].*\n)*", "", found[1])
                block = block.replace(f"[{'.'.join(table)}]\n", f"[{'.'.join(table)}]\n{others}")
    yield bench + block
    yield bench + block + '\n[drive.fan]\nfrom = "damper"\nmarks = [[0, 0], [100, 255]]\nsafe = 0\n'
