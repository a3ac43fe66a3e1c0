"""A fresh clone: what stands in its root, and the README's blocks in it, in order."""

from __future__ import annotations

import os
import re
import shlex
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import Any

import pytest

from jetruler import demo
from jetruler.benchfile.load import parse_bench
from tests.conftest import COMMAND
from tests.helpers.sizes import soak
from tests.whole.test_docs import ROOT, run_python

#: All that may stand in the root, beside folders.
IN_ROOT = {
    ".gitignore",
    "CHANGELOG.md",
    "CONTRIBUTING.md",
    "LICENSE",
    "Makefile",
    "README.md",
    "mkdocs.yml",
    "pyproject.toml",
}
FOLDERS = {".ci", "benchmarks", "docs", "examples", "fuzz", "src", "tests"}

ELSEWHERE = ("pip install .", "make test")
"""Lines that the test's own set-up has run."""


def tracked() -> list[Path]:
    git = ["git", "-C", str(ROOT), "ls-files", "-co", "--exclude-standard"]
    done = subprocess.run(git, capture_output=True, text=True, check=False)
    if done.returncode:
        pytest.skip("this is no clone")
    return [path for line in done.stdout.splitlines() if (path := ROOT / line).exists()]


def test_nothing_else_stands_in_the_root() -> None:
    inside = {path.relative_to(ROOT).parts for path in tracked()}
    assert {parts[0] for parts in inside if len(parts) == 1} == IN_ROOT
    assert {parts[0] for parts in inside if len(parts) > 1} == FOLDERS


@soak
@pytest.mark.skipif(sys.platform == "win32", reason="a pseudo-terminal stands in for the board")
def test_the_blocks_run_in_order(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """In an empty folder, so that no block leans on a file that is there by accident."""
    monkeypatch.chdir(tmp_path)
    text = (ROOT / "README.md").read_text("utf-8")
    ran: list[str] = []
    for language, block in re.findall(r"```(\w*)\n(.*?)```", text, re.DOTALL):
        if language == "python":
            run_python(block, {})
        elif language == "toml":
            assert parse_bench(block).channels
        else:
            for line in block.splitlines():
                command = line.partition("#")[0].strip()
                if command and not command.startswith(ELSEWHERE):
                    run_line(command)
                    ran.append(command)
    assert len(ran) >= 4
    assert (tmp_path / "out.csv").exists()


def run_line(line: str) -> None:
    if line == "make demo":  # its whole tour has a test of its own, under soak
        Path("demo-output").mkdir()
        demo.unpack("demo-output")
        return
    words = shlex.split(line)
    assert words[0] == "jetruler", line
    if words[1] != "live":
        subprocess.run([COMMAND, *words[1:]], check=True, capture_output=True)
        return
    board, port = os.openpty()
    feeder = threading.Thread(target=feed, args=(board,), daemon=True)
    feeder.start()
    words = [os.ttyname(port) if word.startswith("/dev/") else word for word in words[1:]]
    done = subprocess.run([COMMAND, *words, "--duration", "2 s"], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    assert len(done.stdout.splitlines()) > 1, done.stderr
    os.close(board)
    os.close(port)


def feed(board: int) -> Any:
    """The plainest board: one count a line."""
    for n in range(100_000):
        try:
            os.write(board, f"{500 + n % 20}\r\n".encode())
        except OSError:
            return
        time.sleep(0.02)
