"""The pages of the site that are made from the product; `make docs` builds it whole."""

from __future__ import annotations

import re
import runpy
from pathlib import Path
from typing import Any

import pytest

from tests.helpers.public import MODULES, PUBLIC

ROOT = Path(__file__).parents[2]


@pytest.fixture(scope="module")
def made() -> dict[str, str]:
    pages: Any = runpy.run_path(str(ROOT / "docs/site_pages.py"))["pages"]
    return {place: text for place, _, text in pages()}


def test_the_reference_tells_every_public_name_once(made: dict[str, str]) -> None:
    told = [home for text in made.values() for home in re.findall(r"^::: (\S+)$", text, re.M)]
    wanted = [f"{value.__module__}.{value.__qualname__}" for value in PUBLIC.values()]
    plots = [home for home in told if home.startswith("jetruler.plots.")]
    assert sorted(told) == sorted([*wanted, *plots])
    assert len(plots) == len(__import__("jetruler").plots.__all__)
    index = set(re.findall(r"`(\w+)`", made["reference/index.md"]))
    assert index >= set(PUBLIC)


def test_the_groups_of_the_help_are_those_of_the_reference(made: dict[str, str]) -> None:
    told = " ".join((MODULES[0].__doc__ or "").split())
    index = re.findall(r"- \[(.+?)\]\(.*?\): (.*)", made["reference/index.md"])
    for title, names in index[1:]:
        short = "Rulers" if title.startswith("Rulers") else title
        assert f"{short} {' '.join(re.findall(r'`(.+?)`', names))}" in told


def test_the_page_of_the_command_line_has_every_command(made: dict[str, str]) -> None:
    titles = re.findall(r"^## `jetruler (.+)`$", made["commands.md"], re.M)
    assert {"look", "convert", "draw ruler", "choose resistor"} <= set(titles)
    assert "--budget" in made["commands.md"]


def test_the_site_has_every_guide() -> None:
    listed = (ROOT / "mkdocs.yml").read_text("utf-8")
    for guide in (ROOT / "docs").glob("*.md"):
        assert f" {guide.name}\n" in listed
