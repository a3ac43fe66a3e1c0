"""What is installed: packages, versions, optional pieces, completion; and a small computer."""

from __future__ import annotations

import filecmp
import os
import re
import resource
import shutil
import subprocess
import sys
import tarfile
import tomllib
import zipfile
from pathlib import Path
from unittest import mock

import pyarrow.parquet as pq
import pytest

from jetruler import demo
from tests.conftest import COMMAND, Cli
from tests.helpers.pythons import python
from tests.helpers.sizes import few, soak

ROOT = Path(__file__).parents[2]
PROJECT = tomllib.loads((ROOT / "pyproject.toml").read_text("utf-8"))["project"]

#: What computes, and the command line, as far as it needs no frames.
CORE = "laws published quantity bench decide firmware survey cli stream_processor fit export"


@pytest.fixture(scope="session")
def dist(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A wheel and an sdist."""
    folder = tmp_path_factory.mktemp("dist")
    build = [sys.executable, "-m", "hatchling", "build", "-d", str(folder)]
    subprocess.run(build, cwd=ROOT, check=True, capture_output=True)
    return folder


@soak
def test_what_the_packages_contain(dist: Path) -> None:
    (wheel,), (sdist,) = dist.glob("*.whl"), dist.glob("*.tar.gz")
    names = set(zipfile.ZipFile(wheel).namelist())
    assert {f"jetruler/demo/{name}" for name in demo.FILES} <= names
    assert "jetruler/py.typed" in names
    pages = {f"jetruler/pages/{page.name}" for page in (ROOT / "docs").glob("*.md")}
    assert {name for name in names if name.startswith("jetruler/pages/")} == pages
    assert any(name.endswith("licenses/LICENSE") for name in names)
    assert {name.split("/")[0].partition("-")[0] for name in names} == {"jetruler", "jet_ruler"}
    with tarfile.open(sdist) as archive:
        tops = {name.split("/")[1] for name in archive.getnames()}
    assert tops == {
        *("src", "docs", "README.md", "CHANGELOG.md", "LICENSE"),
        *("PKG-INFO", "pyproject.toml", ".gitignore"),
    }


def lowest() -> list[str]:
    """The lower bound of each requirement, as the one version."""
    bounds = [re.match(r"([\w-]+)>=([\w.]+)", text) for text in PROJECT["dependencies"]]
    return [f"{bound[1]}=={bound[2]}" for bound in bounds if bound is not None]


def test_every_requirement_has_a_lower_bound() -> None:
    assert len(lowest()) == len(PROJECT["dependencies"])
    assert PROJECT["requires-python"] == ">=3.11"


@soak
@pytest.mark.parametrize(
    ("version", "kind", "pins"),
    [("3.11", "whl", lowest()), ("3.13", "tar.gz", []), ("3.14", "whl", [])],
    ids=["lowest", "newest", "coming"],
)
def test_an_empty_environment(
    dist: Path, tmp_path: Path, version: str, kind: str, pins: list[str]
) -> None:
    """Installed there, the demo makes the same bytes, and the tests of the core pass. Pictures,
    packed logs and Parquet carry their writer's version; the last hold the same."""
    found = python(version)
    if found is None:
        pytest.skip(f"there is no Python {version} here")
    subprocess.run([found, "-m", "venv", tmp_path / "env"], check=True)
    there = tmp_path / "env" / "bin"
    (package,) = dist.glob(f"*.{kind}")
    pip: list[str | Path] = [there / "python", "-m", "pip", "install", "-qq"]
    subprocess.run([*pip, package, *pins], check=True)
    subprocess.run(
        [there / "jetruler", "demo", "-o", "there"], cwd=tmp_path, capture_output=True, check=True
    )
    subprocess.run([COMMAND, "demo", "-o", "here"], cwd=tmp_path, capture_output=True, check=True)
    here = [path for path in (tmp_path / "here").rglob("*") if path.is_file()]
    assert len(here) > 25
    for path in here:
        other = tmp_path / "there" / path.relative_to(tmp_path / "here")
        if path.suffix == ".parquet":
            assert pq.read_table(path).equals(pq.read_table(other), check_metadata=True)
        elif path.suffix in (".png", ".gz") or path.name in (".jetruler-made.json", "live.csv"):
            assert other.stat().st_size > 100
        elif path.suffix == ".html":  # its pictures are as the Matplotlib that is there draws them
            texts = [re.sub(r"<svg.*?</svg>", "", p.read_text(), flags=re.S) for p in (path, other)]
            assert texts[0] == texts[1]
        else:
            assert filecmp.cmp(path, other, shallow=False), path
    if not pins:  # what is newest here runs the whole suite anyway
        return
    subprocess.run([*pip, "pytest>=8.2,<9", "hypothesis>=6.100,<7"], check=True)
    shutil.copytree(ROOT / "tests", tmp_path / "tests")
    files = [file for name in CORE.split() for file in tmp_path.glob(f"tests/*/test_{name}.py")]
    assert len(files) == len(CORE.split())
    options = ["-q", "-p", "no:cacheprovider", "-m", "not soak", "--ignore-glob=*frame*"]
    done = subprocess.run(
        [there / "python", "-m", "pytest", *options, *files],
        cwd=tmp_path, capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stdout[-3000:]


def small() -> None:
    """One core, and 512 MB of addresses."""
    resource.setrlimit(resource.RLIMIT_AS, (512 << 20, 512 << 20))
    os.sched_setaffinity(0, {min(os.sched_getaffinity(0))})


@soak
@pytest.mark.parametrize(
    ("rows", "command"),
    [
        (1, "demo -o tour"),
        (1_000_000, "convert four.csv -o out.csv"),
        (36_000, "live --source four.csv"),  # an hour of ten samples a second
    ],
)
def test_a_small_computer(home: Path, rows: int, command: str) -> None:
    roast = [row.split(",")[1:5] for row in demo.read("roast.csv").decode().splitlines()[1:]]
    with (home / "four.csv").open("w") as log:
        log.write("time_s,ch0,ch1,ch2,ch3\n")
        for n in range(rows):
            log.write(f"{n / 10:.1f},{','.join(roast[n % len(roast)])}\n")
    bench = (home / "bench.toml").read_text()
    four = re.split(r"(?m)^(?=\[(?:channel\.draught|stream|trip)\b)", bench)[0]
    (home / "bench.toml").write_text(four if rows > 1 else bench)
    done = subprocess.run(
        [COMMAND, *command.split()], cwd=home, preexec_fn=small, capture_output=True, text=True,
        check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr[-1000:]
    if rows > 1:
        written = done.stdout or (home / "out.csv").read_text()
        assert written.count("\n") == rows + 1


WITHOUT = "import sys; sys.modules[sys.argv.pop(1)] = None; from jetruler.cli import main; main()"


@few
@pytest.mark.parametrize(
    ("missing", "command", "works"),
    [
        ("pyarrow", "explain bean --at 400 --budget", True),
        ("pyarrow", "convert roast.csv", False),
        ("serial", "live --source roast.csv", True),
        ("serial", "live --source loop://", False),
        ("pandas", "convert roast.csv", True),
        *(
            pytest.param(*row, marks=soak)
            for row in (
                ("pyarrow", "export bean --to c -o bean.h", True),
                ("pyarrow", "draw ruler bean", True),
                ("pyarrow", "fit bean --mark 1880=121.5 --mark 900=180", True),
                ("pyarrow", "fit bean --marks bath.csv", False),
                ("pyarrow", "live --source roast.csv", False),
                ("serial", "live --source socket://localhost:9 --duration 0.2", True),
                ("scipy", "explain bean --at 1880", True),
                ("pydantic", "explain bean --at 1880", False),
                ("textual", "live --source roast.csv", True),
                ("scipy", "fit bean --marks bath.csv", False),
                ("matplotlib", "draw ruler bean", False),
                ("pint", "convert roast.csv", True),
                ("tomlkit", "fit bean --marks bath.csv --write", False),
                ("jinja2", "report damper -o r.html", False),
                ("schemdraw", "draw circuit bean", False),
            )
        ),
    ],
)
def test_a_piece_that_is_missing(home: Path, missing: str, command: str, works: bool) -> None:
    done = subprocess.run(
        [sys.executable, "-c", WITHOUT, missing, *command.split()],
        cwd=home, capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert "itself" not in done.stderr
    assert ("not installed" in done.stderr) != works
    if not works:
        assert done.returncode == 2
        assert done.stderr.count("\n") == 1
        assert "pip install" in done.stderr


@pytest.mark.parametrize(
    ("typed", "found"),
    [
        ("jetruler ex", ["explain", "export"]),
        ("jetruler explain b", ["bean", "bean2"]),
        ("jetruler draw ruler da", ["damper"]),
        ("jetruler explain bean --bu", ["--budget"]),
        ("jetruler convert C:\\logs\\ro", []),
        ("jetruler fit bean --law stein", ["steinhart-hart", "steinhart-hart-extended"]),
        ("jetruler export bean --to p", ["python"]),
        ("jetruler export --to n", ["numbers"]),
        ("jetruler explain bean --arith u", ["uint16", "uint16-wraps", "uint16-saturates"]),
        ("jetruler new --channel bean=pl", ["bean=platinum"]),
        ("jetruler demo ex", ["explain", "export"]),
        ("jetruler help troub", ["troubleshooting"]),
        ("jetruler help thermo", ["thermocouple"]),
    ],
)
def test_completion(cli: Cli, typed: str, found: list[str]) -> None:
    """By Click's own protocol; PowerShell completes files itself."""
    words = typed.split()
    for shell, number in {
        "bash": str(len(words) - 1), "zsh": str(len(words) - 1),
        "fish": words[-1], "powershell": words[-1],
    }.items():  # fmt: skip
        asked = {"COMP_WORDS": typed, "COMP_CWORD": number}
        asked["_JETRULER_COMPLETE"] = f"{shell}_complete"
        with mock.patch.dict(os.environ, asked):
            done = cli()
        assert done.returncode == 0
        for name in found:
            assert name in done.stdout
        if shell == "powershell":
            assert [line.partition("\t")[0] for line in done.stdout.splitlines() if line] == found
        elif not found:
            assert "file" in done.stdout


def test_completion_scripts(cli: Cli) -> None:
    for shell, sign in {
        "bash": "complete", "zsh": "#compdef jetruler", "fish": "complete --no-files",
        "powershell": "Register-ArgumentCompleter",
    }.items():  # fmt: skip
        with mock.patch.dict(os.environ, {"_JETRULER_COMPLETE": f"{shell}_source"}):
            assert sign in cli().stdout
