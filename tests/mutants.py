"""Do the tests bite? A sample of places in core/ is changed, one at a time, and the tests of that
room are run. `make mutants` repeats the sample; `python -m tests.mutants --seed 2` takes another.

A change that no test notices has survived. Some survive rightly: those that change no result.
"""

from __future__ import annotations

import argparse
import ast
import os
import random
import re
import shutil
import subprocess
import sys
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from queue import SimpleQueue
from tempfile import TemporaryDirectory
from typing import Any

import parso
from cosmic_ray import plugins
from cosmic_ray.ast import ast_nodes
from cosmic_ray.mutating import mutate_code

ROOT = Path(__file__).parents[1]
CORE = Path("src/jetruler/core")

#: The tests of each room, the quickest to notice first; those that name something of the changed
#: file follow.
ROOMS = {
    "laws": "own_calculations laws published physics worked sensitivities ruler bench firmware",
    "calibrate": "own_calculations fit regression constants published compare pairs",
    "uncertainty": "own_calculations budget sensitivities",
    "firmware": "own_calculations constants firmware compiled export",
    "bench": "own_calculations decide smoothing findings stream_processor session raw_values "
    "compiled bench",
    "ruler": "ruler quantity worked own_calculations laws",
}

#: Statistics of two sensors, which have tests of another kind.
NOT_SAMPLED = {"comparison.py"}

#: What is changed: numbers, signs, comparisons, connections, and the ways out of loops.
KINDS = re.compile(
    "Number|AndWithOr|OrWithAnd|AddNot|Break|Continue|True|False|ZeroIteration|Comparison"
    "|Delete_|UnaryOperator_USub_UAdd|BinaryOperator_(Add|Sub|Mul|Div|FloorDiv|Mod|Pow)_"
    "(Add|Sub|Mul|Div|FloorDiv|Mod|Pow)$|BinaryOperator_.*(Shift|Bit).*(Shift|Bit)"
)

#: Seconds after which a change that loops for ever counts as noticed.
PATIENCE = 400


@dataclass(frozen=True)
class Place:
    """Where something can be changed, and into what: (operator, its occurrence in the file)."""

    file: Path
    at: tuple[int, int]
    changes: tuple[tuple[str, int], ...]


def places(file: Path) -> Iterator[Place]:
    """All places of a file at which a result could change."""
    tree: Any = parso.parse((ROOT / file).read_text("utf-8"))  # type: ignore[no-untyped-call]
    nodes = list(ast_nodes(tree))
    found: dict[tuple[int, int], list[tuple[str, int]]] = {}
    for name in sorted(plugins.operator_names()):
        if not KINDS.search(name):
            continue
        operator, occurrence = plugins.get_operator(name)(), 0
        for node in nodes:
            for start, _ in operator.mutation_positions(node):
                found.setdefault(start, []).append((name, occurrence))
                occurrence += 1
    for at, changes in sorted(found.items()):
        yield Place(file, at, tuple(changes))


class _Meaning(ast.NodeTransformer):
    """Leaves out what has no effect on a result: annotations, and how a class is decorated."""

    def visit_ClassDef(self, node: ast.ClassDef) -> ast.AST:
        node.decorator_list = []
        return self.generic_visit(node)

    def visit_arg(self, node: ast.arg) -> ast.arg:
        node.annotation = None
        return node

    def visit_FunctionDef(self, node: ast.FunctionDef) -> ast.AST:
        node.returns = None
        return self.generic_visit(node)

    def visit_AnnAssign(self, node: ast.AnnAssign) -> ast.AST:
        node.annotation = ast.Constant(None)
        return self.generic_visit(node)


def meaning(source: str) -> str:
    """The code as it runs, to be compared."""
    return ast.dump(_Meaning().visit(ast.parse(source)))


@dataclass(frozen=True)
class Mutant:
    """One changed file."""

    file: Path
    line: int
    before: str
    after: str
    source: str


def mutant(place: Place, chance: random.Random) -> Mutant | None:
    """A change at this place, taken by chance; None where it changes nothing."""
    source = (ROOT / place.file).read_text("utf-8")
    name, occurrence = chance.choice(place.changes)
    changed = mutate_code(source, plugins.get_operator(name)(), occurrence)
    try:
        if changed is None or meaning(changed) == meaning(source):
            return None
    except SyntaxError:
        return None
    row = place.at[0] - 1
    before, after = (text.splitlines()[row].strip() for text in (source, changed))
    return Mutant(place.file, place.at[0], before, after, changed)


def sample(many: int, seed: int) -> list[Mutant]:
    """So many mutants of all rooms, the same for the same seed."""
    files = [file for room in ROOMS for file in sorted((ROOT / CORE / room).glob("*.py"))]
    files = [file for file in files if file.name not in NOT_SAMPLED]
    every = [place for file in files for place in places(file.relative_to(ROOT))]
    chance = random.Random(seed)
    chance.shuffle(every)
    found: list[Mutant] = []
    while len(found) < many and every:
        if (made := mutant(every.pop(), chance)) is not None:
            found.append(made)
    return found


def naming(home: Path, source: str, stem: str) -> list[Path]:
    """The tests of calculations that name something of a source, or its file."""
    own = {n.name for n in ast.parse(source).body if isinstance(n, ast.ClassDef | ast.FunctionDef)}
    words = re.compile(rf"\b(?:{'|'.join(map(re.escape, own | {stem}))})\b")
    files = [
        f for room in ("core", "targets", "benchfile") for f in home.glob(f"tests/{room}/*.py")
    ]
    return sorted(f for f in files if words.search(f.read_text("utf-8")))


def survives(mutant: Mutant, home: Path) -> bool:
    """Whether the tests pass all the same. home: a copy of the project."""
    target = home / mutant.file
    original = target.read_text("utf-8")
    target.write_text(mutant.source, "utf-8")
    room = mutant.file.relative_to(CORE).parts[0]
    listed = [
        f
        for name in ("corners", *ROOMS[room].split())
        for f in sorted(home.glob(f"tests/*/test_{name}.py"))
    ]
    tests = list(map(str, dict.fromkeys([*listed, *naming(home, original, target.stem)])))
    command = [sys.executable, "-m", "pytest", "-x", "-q", "-n", "0", "-p", "no:cacheprovider"]
    environment = os.environ | {"PYTHONPATH": str(home / "src"), "PYTHONDONTWRITEBYTECODE": "1"}
    try:
        done = subprocess.run(
            [*command, *tests], cwd=home, env=environment, capture_output=True, timeout=PATIENCE,
            check=False,
        )  # fmt: skip
        return done.returncode == 0
    except subprocess.TimeoutExpired:
        return False
    finally:
        target.write_text(original, "utf-8")


def main() -> None:
    """Make the sample, run it, and say what survived."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--mutants", type=int, default=200)
    options = parser.parse_args()
    mutants = sample(options.mutants, options.seed)
    with TemporaryDirectory() as folder, ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        homes: SimpleQueue[Path] = SimpleQueue()
        for i in range(os.cpu_count() or 1):
            home = Path(folder, str(i))
            for part in ("src", "tests", "docs", "examples", "pyproject.toml", "README.md"):
                copy = shutil.copytree if (ROOT / part).is_dir() else shutil.copy
                home.mkdir(exist_ok=True)
                copy(ROOT / part, home / part)
            homes.put(home)

        def outcome(one: Mutant) -> tuple[Mutant, bool]:
            home = homes.get()
            try:
                return one, survives(one, home)
            finally:
                homes.put(home)

        killed: Counter[Path] = Counter()
        survived: Counter[Path] = Counter()
        for one, alive in pool.map(outcome, mutants):
            (survived if alive else killed)[one.file] += 1
            if alive:
                print(f"survived: {one.file}:{one.line}\n  - {one.before}\n  + {one.after}")
                sys.stdout.flush()
            tried = killed.total() + survived.total()
            if tried % 10 == 0:
                print(f"{killed.total()} of {tried} killed", file=sys.stderr, flush=True)
    print("\nkilled  survived  file")
    for file in sorted({*killed, *survived}):
        print(f"{killed[file]:6}  {survived[file]:8}  {file.relative_to(CORE)}")
    total = killed.total()
    print(f"{total} of {len(mutants)} killed ({total / len(mutants):.0%}), seed {options.seed}")


if __name__ == "__main__":
    main()
