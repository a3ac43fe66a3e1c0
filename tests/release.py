"""`make release`: the packages, built and checked as users get them, and their digests.

It stops at the first thing that is wrong. Nothing is uploaded.
"""

from __future__ import annotations

import filecmp
import hashlib
import re
import shlex
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

import jetruler

from .helpers.pythons import python

ROOT = Path(__file__).parents[1]
DIST = ROOT / "dist"
#: Those that the metadata allows.
PYTHONS = ("3.11", "3.12", "3.13", "3.14")
#: Every command, in the order of the work, in a folder with the demo's files.
SMOKE = (
    "demo --files -o .",
    "help bench-file",
    "new mine.toml --channel a0=ntc",
    "look roast.csv",
    "convert roast.csv -o out.parquet",
    "explain bean --at 1880 --budget",
    "check --log roast.csv",
    "choose resistor bean --from 20 --to 240",
    "fit bean --marks bath.csv",
    "compare bean bean2 --log rest.csv",
    'live --source demo --duration "0.5 s"',
    "export bean --to c -o bean.h",
    "draw ruler bean",
    "report bean -o bean.html",
)


def main() -> None:
    """Build, check, install, run, print."""
    _check_changelog()
    packages = _build(DIST)
    with tempfile.TemporaryDirectory() as again:
        for package in _build(Path(again)):
            if not filecmp.cmp(package, DIST / package.name, shallow=False):
                sys.exit(f"{package.name}: expected the same bytes from a second build")
    _run([sys.executable, "-m", "twine", "check", "--strict", *packages])
    for version in PYTHONS:
        found = python(version)
        print(f"Python {version}: {'not at hand' if found is None else _smoke(found, packages[0])}")
    for package in packages:
        digest = hashlib.sha256(package.read_bytes()).hexdigest()
        print(f"{digest}  {package.relative_to(ROOT)}  {package.stat().st_size} bytes")


def _check_changelog() -> None:
    """Its first version is that of the code, and has a date."""
    first = re.search(r"^## (.+)$", (ROOT / "CHANGELOG.md").read_text("utf-8"), re.M)
    wanted = rf"{re.escape(jetruler.__version__)} \(\d{{4}}-\d\d-\d\d\)"
    if first is None or not re.fullmatch(wanted, first[1]):
        found = first and first[1]
        sys.exit(f"CHANGELOG.md: expected {jetruler.__version__} and its date, found {found}")


def _build(folder: Path) -> list[Path]:
    """The wheel and the sdist, alone in a folder."""
    shutil.rmtree(folder, ignore_errors=True)
    _run([sys.executable, "-m", "hatchling", "build", "-d", folder])
    return [*folder.glob("*.whl"), *folder.glob("*.tar.gz")]


def _smoke(found: str, wheel: Path) -> str:
    """Every command, from the wheel, in an environment of its own."""
    with tempfile.TemporaryDirectory() as folder:
        there, home = Path(folder) / "env", Path(folder) / "home"
        home.mkdir()
        _run([found, "-m", "venv", there])
        _run([there / "bin" / "python", "-m", "pip", "install", "-qq", wheel])
        for command in SMOKE:
            words: list[str | Path] = [there / "bin" / "jetruler", *shlex.split(command)]
            _run(words, home, allowed=(0, 1) if command.startswith("check") else (0,))
    return f"{len(SMOKE)} commands ran"


def _run(words: list[str | Path], home: Path = ROOT, allowed: tuple[int, ...] = (0,)) -> None:
    done = subprocess.run(words, cwd=home, capture_output=True, text=True, check=False)
    if done.returncode not in allowed:
        sys.exit(f"{' '.join(map(str, words))}: exit code {done.returncode}\n{done.stderr}")


if __name__ == "__main__":
    main()
