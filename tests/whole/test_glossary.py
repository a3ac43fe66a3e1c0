"""One word for one thing: the glossary, the public names and the code agree."""

from __future__ import annotations

import ast
import re
from collections import Counter
from collections.abc import Iterable

from jetruler.core.laws import LAWS
from tests.helpers.public import PUBLIC
from tests.helpers.sources import ROOT, of_sources, sources

pytestmark = of_sources


def rows() -> list[list[str]]:
    """The cells of every line of the glossary's tables."""
    lines = (ROOT / "docs/glossary.md").read_text("utf-8").splitlines()
    found = [[cell.strip() for cell in line.split("|")[1:-1]] for line in lines if line[:1] == "|"]
    return [row for row in found if row[0] not in ("word", "---")]


def test_every_public_name_stands_in_the_glossary_once() -> None:
    named = [name for row in rows() for name in re.findall(r"`(\w+)`", row[2])]
    assert len(named) == len(set(named))
    assert set(named) == set(PUBLIC)


def names_given(nodes: Iterable[ast.AST]) -> set[str]:
    """Every name that the code gives to something."""
    found = set()
    for node in nodes:
        if isinstance(node, ast.ClassDef | ast.FunctionDef):
            found.add(node.name)
        elif isinstance(node, ast.arg):
            found.add(node.arg)
        elif isinstance(node, ast.Name) and isinstance(node.ctx, ast.Store):
            found.add(node.id)
        elif isinstance(node, ast.Attribute) and isinstance(node.ctx, ast.Store):
            found.add(node.attr)
    return found


def parts_of(name: str) -> set[str]:
    """A name and the words that it is made of: `_SaidOften` is said and often too. The interface's
    library names its own settings in capitals."""
    if name.isupper():
        return {name}
    return {name, *re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "_", name).lower().split("_")}


def test_no_name_has_a_word_in_it_that_the_glossary_replaced() -> None:
    replaced = {word for row in rows() for word in filter(None, row[3].split(", "))}
    assert len(replaced) > 20
    for path, nodes in sources().items():
        for name in names_given(nodes):
            used = parts_of(name) & replaced
            assert not used, f"{path.name}: {name} has {', '.join(sorted(used))} in it"


#: Laws and their names in a bench file, which no room but `laws` may ask for.
LAW_NAMES = {name for name in LAWS if name not in ("to", "input", "counts", "table")}
#: Where a law's class is asked for, and why: rules and parts of dividers; how circuits are drawn.
ASKED = {"facts.py": 1, "ranges.py": 1, "resistor.py": 1, "schematic.py": 1}


def asks_for_a_law(node: ast.AST) -> bool:
    """Whether code asks what class or name a law has, instead of what it does."""
    if isinstance(node, ast.Call) and isinstance(node.func, ast.Name):
        classes = {law.__name__ for law in LAWS.values()}
        asked = {n.id for a in node.args[1:] for n in ast.walk(a) if isinstance(n, ast.Name)}
        return node.func.id == "isinstance" and bool(asked & classes)
    if isinstance(node, ast.Compare):
        parts = list(ast.walk(node))
        names = {n.value for n in parts if isinstance(n, ast.Constant) and isinstance(n.value, str)}
        return bool(names & LAW_NAMES) and any(
            isinstance(n, ast.Attribute) and n.attr == "name" for n in parts
        )
    return False


def test_rooms_ask_a_law_for_what_it_does() -> None:
    asked: Counter[str] = Counter()
    for path, nodes in sources().items():
        if path.parent.name != "laws":
            asked[path.name] += sum(map(asks_for_a_law, nodes))
    assert +asked == ASKED


def test_messages_say_what_was_expected_and_found() -> None:
    """In one form: `place: expected X, found Y`."""
    other = re.compile(r"\b(is|are) (right|wanted)\b|; found |found \{[^}]*\}; ")
    for path, nodes in sources().items():
        for node in nodes:
            if isinstance(node, ast.Raise) and node.exc is not None:
                text = ast.unparse(node.exc)
                assert not other.search(text), f"{path.name}:{node.lineno}: {text}"


def test_no_class_has_the_name_of_another() -> None:
    where: dict[str, str] = {}
    for path, nodes in sources().items():
        for node in nodes:
            if isinstance(node, ast.ClassDef) and not node.name.startswith("_"):
                assert node.name not in where, f"{node.name}: {where[node.name]}, {path.name}"
                where[node.name] = path.name
