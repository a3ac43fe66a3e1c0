"""The pages of the site that are made from the product; `make docs` builds it whole."""

from __future__ import annotations

import ast
import dataclasses
import inspect
import re
import runpy
import subprocess
import sys
import time
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest

import jetruler as jr
from jetruler.core.laws import LAWS
from tests.helpers.browser import browser, needs_browser
from tests.helpers.public import MODULES, PUBLIC
from tests.helpers.sizes import soak

__all__ = ["browser"]

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


#: What of a page is wider than its window, or than the box that it stands in, and hides a part.
CUT = """
const cut = [];
if (document.documentElement.scrollWidth > window.innerWidth + 1) cut.push("the page");
for (const box of document.querySelectorAll(".md-content pre > code, .md-content table, .md-content img"))
  if (box.scrollWidth > box.clientWidth + 1 || box.getBoundingClientRect().right > window.innerWidth + 1)
    cut.push(box.tagName + ": " + box.textContent.slice(0, 60));
for (const box of document.querySelectorAll("math"))
  if (box.getBoundingClientRect().right > window.innerWidth || box.getBoundingClientRect().height < 12)
    cut.push(box.textContent);
return cut;
"""  # noqa: E501

#: What somebody looks for, and the pages of which one must be among the first three.
SOUGHT = {
    "potentiometer": ("how-to", "laws", "motor", "tutorial", "concepts"),
    "Celsius": ("bench-file", "laws", "glossary", "how-to", "concepts", "troubleshooting"),
    "oversampling": ("look", "choosing", "how-to", "uncertainty"),
    "Jupyter": ("python", "install"),
    "4-20 mA": ("laws", "how-to", "bench-file"),
    "thermistor": ("laws", "how-to", "uncertainty", "calibrating", "tutorial"),
    "servo": ("live", "motor", "how-to"),
}


@pytest.fixture(scope="module")
def site(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The whole site."""
    home = tmp_path_factory.mktemp("site")
    build = [sys.executable, "-m", "mkdocs", "build", "--strict", "--quiet", "-d", str(home)]
    done = subprocess.run(build, cwd=ROOT, capture_output=True, text=True, check=False)
    if "No module named" in done.stderr:
        pytest.skip("mkdocs is not installed")
    assert not done.returncode, done.stderr[-2000:]
    return home


@soak
@needs_browser
@pytest.mark.parametrize("words", list(SOUGHT))
def test_the_search_finds_what_people_call_it(browser: Any, site: Path, words: str) -> None:
    browser.set_window_rect(width=1280, height=800)
    browser.get(f"{(site / 'index.html').as_uri()}?q={words}")
    found: list[str] = []
    for _ in range(50):
        links = browser.execute_script(
            "return [...document.querySelectorAll('.md-search-result__item > a')].map(a => a.href)"
        )
        if found and len(links) == len(found):
            break
        found = links
        time.sleep(0.2)
    first = [Path(link.partition("?")[0]).stem for link in found[:3]]
    assert set(first) & set(SOUGHT[words]), first


@soak
@needs_browser
def test_every_formula_is_typeset(browser: Any, site: Path) -> None:
    browser.get((site / "laws.html").as_uri())
    drawn = browser.execute_script("return document.querySelectorAll('.formula math').length")
    assert drawn >= len(LAWS)


@soak
@needs_browser
def test_nothing_of_a_page_is_cut(browser: Any, site: Path) -> None:
    """At the width of a desk and of a phone."""
    cut = {}
    for width in (1280, 390):
        browser.set_window_rect(width=width, height=800)
        browser.execute_cdp_cmd(
            "Emulation.setDeviceMetricsOverride",
            {"width": width, "height": 800, "deviceScaleFactor": 1, "mobile": False},
        )
        for page in sorted(site.rglob("*.html")):
            if page.name in ("404.html", "roaster-report.html"):
                continue
            browser.get(page.as_uri())
            if found := browser.execute_script(CUT):
                cut[f"{page.relative_to(site)} at {width}"] = found[:4]
    assert not cut


FIELDS = [
    jr.Bench,
    jr.Channel,
    jr.Drive,
    jr.Trip,
    jr.Condition,
    jr.LogFormat,
    jr.Marks,
    jr.Smoothing,
]
RESULTS = [getattr(jr.results, name) for name in jr.results.__all__]


@pytest.mark.parametrize(
    "kind", [one for one in (*FIELDS, *RESULTS) if dataclasses.is_dataclass(one)], ids=str
)
def test_editors_show_what_a_field_is(kind: type) -> None:
    """A text stands below each public field: what an editor shows where the field is used."""
    tree = ast.parse(Path(inspect.getsourcefile(kind) or "").read_text("utf-8"))
    (own,) = (n for n in ast.walk(tree) if isinstance(n, ast.ClassDef) and n.name == kind.__name__)
    for field, below in pairwise(own.body):
        if not isinstance(field, ast.AnnAssign) or not isinstance(field.target, ast.Name):
            continue
        name = field.target.id
        if name.startswith("_") or "ClassVar" in ast.unparse(field.annotation):
            continue
        assert isinstance(below, ast.Expr), name
        assert isinstance(below.value, ast.Constant), name
        assert str(below.value.value).strip(), name
