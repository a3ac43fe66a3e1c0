"""Do the tests bite? A sample of places in core/ is changed, one at a time, and the tests that run
the changed line are run: as `make test` runs them, then with the rows and examples of `make soak`.
`make mutants` repeats the sample; `python -m tests.mutants --seed 2` takes another, and
`--first 80` goes on with one.

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
from collections import Counter, defaultdict
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
from coverage import CoverageData

ROOT = Path(__file__).parents[1]
CORE = Path("src/jetruler/core")
ROOMS = ("laws", "calibrate", "uncertainty", "firmware", "bench", "ruler")

#: What a copy of the project has.
COPIED = ("src", "tests", "docs", "examples", "benchmarks", "fuzz", "pyproject.toml", "README.md")
#: The tests that may notice a change: all but those that start processes, which are not traced.
TESTS = (
    *("tests/" + room for room in ("core", "benchfile", "samples", "logs", "live", "targets")),
    *("tests/" + room for room in ("show", "cli", "agreement", "worlds")),
    *(f"tests/whole/test_{name}.py" for name in ("docs", "readme", "demo", "losses")),
    "tests/whole/test_wrong_arguments.py",
)

#: Statistics of two sensors, which have tests of another kind.
NOT_SAMPLED = {"comparison.py"}

#: What is changed: numbers, signs, comparisons, connections, and the ways out of loops. Not what
#: a linter refuses: `is` in the place of `==`.
_ORDERS = "(Eq|NotEq|Lt|LtE|Gt|GtE)"
KINDS = re.compile(
    "Number|AndWithOr|OrWithAnd|AddNot|Break|Continue|True|False|ZeroIteration"
    f"|ComparisonOperator_{_ORDERS}_{_ORDERS}$"
    "|Delete_|UnaryOperator_USub_UAdd|BinaryOperator_(Add|Sub|Mul|Div|FloorDiv|Mod|Pow)_"
    "(Add|Sub|Mul|Div|FloorDiv|Mod|Pow)$|BinaryOperator_.*(Shift|Bit).*(Shift|Bit)"
)

#: Seconds after which a change that loops for ever counts as noticed.
PATIENCE = 400
#: Seconds that the large rows of its tests have to notice a change.
PATIENCE_LARGE = 60
LARGE = ("-m", "soak or hypothesis", "--hypothesis-profile", "soak")


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
    """Leaves out what has no effect on a result: annotations with what is imported for them, how a
    class is decorated, and `zip`'s guard against lengths that cannot differ."""

    def visit_If(self, node: ast.If) -> ast.AST | None:
        return None if "TYPE_CHECKING" in ast.unparse(node.test) else self.generic_visit(node)

    def visit_keyword(self, node: ast.keyword) -> ast.AST | None:
        return None if node.arg == "strict" else self.generic_visit(node)

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


class Noticing:
    """Which tests run which lines of a file, the quickest first."""

    def __init__(self, home: Path) -> None:
        """Run them once in a copy of the project, each as a context of its own."""
        done = pytest(
            home,
            "-p",
            "tests.helpers.contexts",
            *TESTS,
            under=("coverage", "run", "--source", str(CORE)),
            patience=None,
        )
        if done not in (0, 1):  # some may need more than a copy has
            raise SystemExit(f"the tests ended with exit code {done}")
        times = {}
        for line in (home / "times.txt").read_text("utf-8").splitlines():
            took, test = line.split(" ", 1)
            times[test] = float(took)
        data = CoverageData(str(home / ".coverage"))
        data.read()
        self._by_line: dict[Path, dict[int, list[str]]] = defaultdict(dict)
        self._times = times
        for name in data.measured_files():
            lines = data.contexts_by_lineno(name)
            self._by_line[Path(name).relative_to(home)] = {
                line: [test for test in tests if test in times] for line, tests in lines.items()
            }

    def tests(self, file: Path, line: int) -> list[str]:
        """The tests that run a line, or, where it runs at import, those that run its file; as many
        as take a minute and a half."""
        lines = self._by_line[file]
        found = lines.get(line) or {test for tests in lines.values() for test in tests}
        kept: list[str] = []
        seconds = 0.0
        for test in sorted(found, key=self._times.__getitem__):
            seconds += self._times[test]
            if kept and seconds > 90:
                break
            kept.append(test)
        return kept


def pytest(
    home: Path, *args: str, under: tuple[str, ...] = (), patience: float | None = PATIENCE
) -> int:
    """Run tests in a copy of the project; the exit code."""
    command = [*(("-m", *under) if under else ()), "-m", "pytest", "-q", "-n", "0"]
    done = subprocess.run(
        [sys.executable, *command, "-p", "no:cacheprovider", *args],
        cwd=home,
        env=os.environ | {"PYTHONPATH": str(home / "src"), "PYTHONDONTWRITEBYTECODE": "1"},
        capture_output=True,
        timeout=patience,
        check=False,
    )
    return done.returncode


def survives(mutant: Mutant, home: Path, tests: list[str]) -> bool:
    """Whether the tests pass all the same. home: a copy of the project."""
    target = home / mutant.file
    original = target.read_text("utf-8")
    target.write_text(mutant.source, "utf-8")
    try:
        if pytest(home, "-x", *tests) != 0:
            return False
        noticed = fails_large(home, tests)
    except subprocess.TimeoutExpired:
        return False
    finally:
        target.write_text(original, "utf-8")
    return not noticed or fails_large(home, tests)  # what fails as it stands notices nothing


def fails_large(home: Path, tests: list[str]) -> bool:
    """Whether one of these tests fails with the rows and examples of the soak, in its time."""
    functions = dict.fromkeys(test.split("[")[0] for test in tests)
    try:
        return pytest(home, "-x", *LARGE, *functions, patience=PATIENCE_LARGE) == 1
    except subprocess.TimeoutExpired:
        return False


def main() -> None:
    """Make the sample, run it, and say what survived."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--mutants", type=int, default=200)
    parser.add_argument("--first", type=int, default=0, help="so many of the sample are done")
    parser.add_argument("--jobs", type=int, default=os.cpu_count() or 1)
    options = parser.parse_args()
    mutants = sample(options.mutants, options.seed)[options.first :]
    with TemporaryDirectory() as folder, ThreadPoolExecutor(options.jobs) as pool:
        homes: SimpleQueue[Path] = SimpleQueue()
        for i in range(options.jobs):
            home = Path(folder, str(i))
            for part in COPIED:
                copy = shutil.copytree if (ROOT / part).is_dir() else shutil.copy
                home.mkdir(exist_ok=True)
                copy(ROOT / part, home / part)
            homes.put(home)
        noticing = Noticing(home)

        def outcome(one: Mutant) -> tuple[Mutant, bool]:
            home = homes.get()
            try:
                return one, survives(one, home, noticing.tests(one.file, one.line))
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
