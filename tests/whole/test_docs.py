"""What the documents show runs: Python blocks, bench files, smoothing lines, links."""

from __future__ import annotations

import ast
import doctest
import re
import runpy
import shlex
from pathlib import Path
from typing import Any

import pytest

import jetruler as jr
from jetruler import Smoothing, demo
from jetruler.benchfile.load import parse_bench
from jetruler.core.ruler.reading import FLAG_NAMES
from tests.conftest import Cli
from tests.helpers.command import ENCODING
from tests.helpers.public import PUBLIC

ROOT = Path(__file__).parents[2]
PAGES = [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))]


def blocks(page: Path, language: str) -> list[str]:
    return re.findall(rf"```{language}\n(.*?)```", page.read_text("utf-8"), re.DOTALL)


# The README's stand in `test_readme.py`, which runs all of its blocks in order.
PYTHON = [(page.name, block) for page in PAGES[1:] for block in blocks(page, "python")]


def run_python(block: str, scope: dict[str, Any]) -> None:
    """Run a block, statement by statement; a number in a comment is what comes out."""
    lines = block.splitlines()
    for statement in ast.parse(block).body:
        code = ast.get_source_segment(block, statement) or ""
        comment = lines[(statement.end_lineno or 0) - 1].partition("#")[2]
        claimed = re.match(r"\s*(\d+\.\d+)…?", comment)
        if claimed and isinstance(statement, ast.Expr):
            found = eval(code, scope)  # our own document
            assert str(found).startswith(claimed[1]), code
        else:
            exec(code, scope)


@pytest.mark.parametrize(("name", "block"), PYTHON, ids=[name for name, _ in PYTHON])
def test_python_blocks_say_what_comes_out(
    name: str, block: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(demo.unpack(tmp_path))
    run_python(block, {"jr": jr})


CONSOLE = [page for page in PAGES if blocks(page, "console")]


@pytest.mark.parametrize("page", CONSOLE, ids=lambda p: p.name)
def test_console_blocks_show_what_comes_out(page: Path, home: Path, cli: Cli) -> None:
    """Every command of a guide, in order; every line shown below it is in its output."""
    for block in blocks(page, "console"):
        typed = re.split(r"\$ (?:PYTHONIOENCODING=(\w+) )?jetruler ", block)[1:]
        for encoding, part in zip(typed[::2], typed[1::2], strict=True):
            command, *lines = part.splitlines()
            done = cli(*shlex.split(command), encoding=encoding or ENCODING)
            assert done.returncode in (0, 1), done.stderr
            said = (done.stdout + done.stderr).splitlines()
            for line in filter(None, lines):
                assert line == "…" or line in said, f"{command}: {line}"


@pytest.mark.parametrize("name", sorted(PUBLIC))
def test_the_example_of_every_public_name_runs(
    name: str, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Its own example, not one that it inherits; files are those of the demo."""
    monkeypatch.chdir(home)
    thing = PUBLIC[name]
    text = vars(thing).get("__doc__") if isinstance(thing, type) else thing.__doc__
    examples = doctest.DocTestParser().get_doctest(text or "", {}, name, None, None)
    assert any(example.want for example in examples.examples), f"{name} has no example"
    said: list[str] = []
    ran = doctest.DocTestRunner(verbose=False).run(examples, out=said.append)
    assert ran.failed == 0, "".join(said)


def test_bench_files_load() -> None:
    for block in blocks(ROOT / "README.md", "toml"):
        assert parse_bench(block).channels
    (whole, *_) = blocks(ROOT / "docs" / "bench-file.md", "toml")
    bench = parse_bench(whole.replace("[ … ]", '[{ law = "line", gain = 2, unit = "%" }]'))
    assert bench["damper"].smooth == Smoothing("median", 5)


def test_smoothing_lines_load() -> None:
    (block,) = blocks(ROOT / "docs" / "look.md", "toml")
    for line in block.splitlines():
        bench = f'[converter]\nbits = 12\nvref = 3.3\n[channel.a]\ncolumn = "x"\n{line}\n'
        assert parse_bench(bench)["a"].smooth is not None


def test_every_flag_is_in_the_documents() -> None:
    table = (ROOT / "docs" / "logs.md").read_text("utf-8")
    for name in FLAG_NAMES.values():
        assert f"`{name}`" in table


@pytest.mark.parametrize("page", PAGES, ids=lambda p: p.name)
def test_links_lead_somewhere(page: Path) -> None:
    for target in re.findall(r"\]\(([^)#]+)\)", page.read_text("utf-8")):
        assert "://" in target or (page.parent / target).exists(), target


def test_the_picture_of_the_rooms_is_that_of_the_contracts() -> None:
    build = runpy.run_path(str(ROOT / "docs/build_rooms.py"))
    drawn = (ROOT / "docs/rooms.svg").read_text("utf-8")
    assert drawn == build["page"](), "run python docs/build_rooms.py"


def test_the_page_of_keys_is_made_from_the_models() -> None:
    build = runpy.run_path(str(ROOT / "docs/build_keys.py"))
    written = (ROOT / "docs/bench-keys.md").read_text("utf-8")
    assert written == build["page"](), "run python docs/build_keys.py"


def test_the_architecture_names_files_and_rooms_that_are_there() -> None:
    text = (ROOT / "docs/architecture.md").read_text("utf-8")
    source = ROOT / "src/jetruler"
    named = set(re.findall(r"`((?:[a-z_]+/)+[\w.]*)`", text))
    assert len(named) > 60
    for name in named:
        assert any((home / name).exists() for home in (ROOT, source, source.parent)), name
    rooms = {path.parent for path in source.rglob("__init__.py")} - {source, source / "core"}
    for room in rooms:
        assert f"`{room.relative_to(source)}`" in text, room
        about = ast.get_docstring(ast.parse((room / "__init__.py").read_text("utf-8"))) or ""
        for name in re.findall(r"`(\w+\.py)`", about):
            assert (room / name).exists(), f"{room.name}: {name}"
