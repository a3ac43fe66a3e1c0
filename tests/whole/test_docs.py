"""What the documents show runs: Python blocks, bench files, smoothing lines, links."""

from __future__ import annotations

import ast
import doctest
import re
import runpy
from pathlib import Path

import pytest

from jetruler.core.ruler.reading import FLAG_NAMES
from tests.helpers.pages import PAGES, ROOT, Reader, blocks
from tests.helpers.public import PUBLIC
from tests.helpers.sizes import soak

#: Pages whose blocks draw thousands of times, prove exports or look for resistors.
SLOW = {"python.md", "uncertainty.md", "export.md", "choosing.md", "scale.md"}
SLOW |= {"calibrating.md", "look.md"}


def slow(page: Path) -> bool:
    """Whether it takes seconds, or has a live view or a report."""
    text = page.read_text("utf-8")
    return page.name in SLOW or "\njetruler live" in text or "$ jetruler report" in text


@pytest.mark.parametrize(
    "page", [pytest.param(p, id=p.name, marks=[soak] if slow(p) else []) for p in PAGES]
)
def test_every_block_of_a_page_runs_and_shows_what_comes_out(
    page: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """In order, in an empty folder, as a reader would."""
    monkeypatch.chdir(tmp_path)
    reader = Reader(tmp_path)
    reader.read(page)
    assert reader.ran == len([language for language, _ in blocks(page) if language != "text"])


@pytest.mark.parametrize(
    "name", [pytest.param(n, marks=[soak] if n == "report" else []) for n in sorted(PUBLIC)]
)
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
