"""One word for one thing: the glossary, the public names and the code agree."""

from __future__ import annotations

import ast
import re
from pathlib import Path

from .public import PUBLIC

ROOT = Path(__file__).parents[1]


def rows() -> list[list[str]]:
    """The cells of every line of the glossary's tables."""
    lines = (ROOT / "docs/glossary.md").read_text("utf-8").splitlines()
    found = [[cell.strip() for cell in line.split("|")[1:-1]] for line in lines if line[:1] == "|"]
    return [row for row in found if row[0] not in ("word", "---")]


def test_every_public_name_stands_in_the_glossary_once() -> None:
    named = [name for row in rows() for name in re.findall(r"`(\w+)`", row[2])]
    assert len(named) == len(set(named))
    assert set(named) == set(PUBLIC)


def identifiers(tree: ast.AST) -> set[str]:
    """Every name that the code gives to something."""
    found = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.ClassDef | ast.FunctionDef):
            found.add(node.name)
        elif isinstance(node, ast.arg):
            found.add(node.arg)
        elif isinstance(node, ast.Name):
            found.add(node.id)
        elif isinstance(node, ast.Attribute):
            found.add(node.attr)
    return found


def test_no_code_uses_a_word_that_the_glossary_replaced() -> None:
    replaced = {word for row in rows() for word in filter(None, row[3].split(", "))}
    assert len(replaced) > 8
    for path in (ROOT / "src").rglob("*.py"):
        used = identifiers(ast.parse(path.read_text("utf-8"))) & replaced
        assert not used, f"{path.name}: {', '.join(sorted(used))}"


def test_no_class_has_the_name_of_another() -> None:
    where: dict[str, str] = {}
    for path in (ROOT / "src").rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if isinstance(node, ast.ClassDef) and not node.name.startswith("_"):
                assert node.name not in where, f"{node.name}: {where[node.name]}, {path.name}"
                where[node.name] = path.name
