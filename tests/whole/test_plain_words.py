"""Plain English: turns that a reader has to read twice are in no page, help text or message."""

from __future__ import annotations

import ast
import inspect
import re
from collections.abc import Iterator, Sequence
from pathlib import Path

import pytest

from tests.helpers.pages import PAGES
from tests.helpers.public import PUBLIC
from tests.helpers.sources import ROOT, of_sources, sources

#: Each turn that is banned, and what to write instead.
BANNED = {
    r"stands?(?! out\b| still\b| alone\b|[- ]in\b)": "is, are; represents",
    r"stood": "was",
    r"told|tells? (?:\w+ )?apart|tells? \w+ from": "shows, reports; distinguishes",
    r"who(?:m|so)?ever": "you; a caller; the reader",
    r"anew": "again",
    r"(?:of )?so many": "a number of; this many",
    r"the like": "the same type",
    r"hand(?:s|ed|ing)? over": "give, pass",
    r"(?:it is|is|are|and) said": "reported, stated",
    r"had back": "recovered",
    r"(?:is|are) wanted": "needed",
    r"(?:taken|come|comes|go|goes) along": "included, exported",
    r"next to nothing": "almost nothing",
    r"holds? still|keeps? within": "has a standard deviation of; is within",
    r"in earnest": "really",
    r"for right": "as the reference",
    r"be of use|of no use": "usable, invalid",
    r"lets nobody": "does not allow",
    r"for want of": "because … is missing",
    r"heeds?": "takes into account",
    r"what may be in": "the keys of",
    r"not a number in": "NaN in",
    r"own memory": "autocorrelation",
    r"thereof|wherein|thereby|lest|whence": "plain words",
}
#: Texts that are quoted or generated from logs of runs.
CODE = re.compile(r"```.*?```|`[^`]*`|\]\([^)]*\)|<[^>]*>", re.S)


def turns(text: str) -> list[str]:
    """The banned turns in a text."""
    plain = CODE.sub("·", text)
    return [
        f"{found[0]}: write {instead} (… {plain[max(0, found.start() - 50) : found.end() + 30]!r})"
        for turn, instead in BANNED.items()
        for found in re.finditer(rf"\b(?:{turn})\b", plain, re.I)
    ]


def messages(nodes: Sequence[ast.AST]) -> Iterator[tuple[int, str]]:
    """The texts of a file that are no docstrings and no texts below a field."""
    silent = {id(node.value) for node in nodes if isinstance(node, ast.Expr)}
    texts = (node for node in nodes if isinstance(node, ast.Constant) and id(node) not in silent)
    yield from ((node.lineno, node.value) for node in texts if isinstance(node.value, str))


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_pages(page: Path) -> None:
    text = page.read_text("utf-8")
    if page.name == "glossary.md":  # the last column has the words that we avoid
        text = re.sub(r"[^|\n]*\|$", "", text, flags=re.M)
    assert not turns(text)


@of_sources
def test_help_texts_and_messages() -> None:
    found = {
        f"{path.relative_to(ROOT)}:{line}": bad
        for path, nodes in sources().items()
        for line, text in messages(nodes)
        if " " in text and (bad := turns(text))
    }
    assert not found


@pytest.mark.parametrize("name", sorted(PUBLIC))
def test_public_docstrings(name: str) -> None:
    thing = PUBLIC[name]
    texts = [inspect.getdoc(thing) or ""]
    if inspect.isclass(thing):
        texts += [inspect.getdoc(member) or "" for member in vars(thing).values()]
    assert not [bad for text in texts for bad in turns(text)]


@of_sources
def test_commands() -> None:
    """What `--help` says above the options is a docstring."""
    found = {}
    for path, nodes in sources().items():
        for node in nodes if path.parent.name == "cli" else ():
            if isinstance(node, ast.FunctionDef) and node.name.endswith("_command"):
                found[node.name] = turns(ast.get_docstring(node) or "")
    assert len(found) > 12
    assert not any(found.values())
