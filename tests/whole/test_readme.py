"""A fresh clone: what stands in its root, and the README's blocks in it, in order."""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest

from tests.helpers.pages import ROOT

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
