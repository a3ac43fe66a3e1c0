"""What a type checker knows. `make lint` checks this file as well; every documented call and ten
wrong ones are looked at here, by two checkers."""

from __future__ import annotations

import ast
import doctest
import importlib.util
import json
import re
import subprocess
import sys
from pathlib import Path
from typing import Any, assert_type

import numpy as np
import numpy.typing as npt
import pandas as pd
import pytest

import jetruler as jr
from tests.helpers.sizes import soak

RULER = jr.Counts(12) >> jr.Line(0.5)
ROOT = Path(__file__).parents[2]


def test_the_kind_that_comes_in_comes_out() -> None:
    assert assert_type(RULER(10), float) == 5.0
    counts: npt.NDArray[np.float64] = np.array([10.0])
    assert assert_type(RULER(counts), npt.NDArray[np.float64]).tolist() == [5.0]
    assert assert_type(RULER([10]), list[float]) == [5.0]
    assert assert_type(RULER((10, 20)), tuple[float, ...]) == (5.0, 10.0)
    assert assert_type(RULER(range(2)), list[float]) == [0.0, 0.5]
    assert assert_type(RULER(pd.Series([10.0])), "pd.Series[float]").tolist() == [5.0]
    assert assert_type(RULER.lookup(), dict[int, float])[10] == 5.0
    assert assert_type(RULER.inverse([5]), list[float]) == [10.0]
    channel = jr.Channel("pin", jr.Line(2, unit="V"), "a", limits=("0 V", 9))
    assert assert_type(channel(3), float) == 6.0
    assert assert_type(jr.Bench("Desk", [channel])["pin"], jr.Channel) == channel
    divider = jr.Divider("4k7 ± 1 %", supply="3.3 V")
    assert assert_type(divider.known, float) == 4700.0
    assert assert_type(jr.smooth([1, 2], jr.Smoothing("mean", 2)), Any) == [1.0, 1.5]


def documented() -> dict[str, str]:
    """Every documented piece of code, by a name: pages, examples, notebooks, docstrings."""
    found = {}
    for page in (ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))):
        blocks = re.findall(r"```python\n(.*?)```", page.read_text("utf-8"), re.DOTALL)
        if blocks:
            found[f"page_{page.stem}"] = "\n".join(blocks)
    for path in sorted((ROOT / "examples").glob("*.py")):
        found[f"example_{path.stem}"] = path.read_text("utf-8")
    for path in sorted((ROOT / "examples").glob("*.ipynb")):
        cells = json.loads(path.read_text("utf-8"))["cells"]
        code = ["".join(cell["source"]) for cell in cells if cell["cell_type"] == "code"]
        found[f"notebook_{path.stem}"] = "\n".join(code)
    parser = doctest.DocTestParser()
    for path in sorted((ROOT / "src").rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if isinstance(node, ast.FunctionDef | ast.ClassDef):
                text = ast.get_docstring(node) or ""
                code = [example.source for example in parser.get_examples(text)]
                if any("import jetruler" in line for line in code):
                    found[f"of_{path.stem}_{node.name}_{len(found)}"] = "".join(code)
    return {name.replace("-", "_"): code for name, code in found.items()}


#: Calls that a checker must refuse, each by itself.
WRONG = {
    "a list of counts gives no integers": "values: list[int] = (jr.Counts(8) >> jr.Line(2))([1])",
    "no law is a list": "jr.Divider([4700])",
    "no such leg": 'jr.Divider(4700, sensor="middle")',
    "bits are whole": 'jr.Adc("12")',
    "no such keyword": "jr.Beta(1e5, 3950, t9=25)",
    "a column has a name": 'jr.Channel("bean", jr.Counts(8), None)',
    "no such smoothing": 'jr.Smoothing("best", 5)',
    "a bench has channels": 'jr.Bench("Desk", [jr.Counts(8)])',
    "no such join": 'jr.Trip("hot", [jr.Condition("bean", above=1)], join="either")',
    "a value is no text": "text: str = (jr.Counts(8) >> jr.Line(2))(3)",
}


def mypy_errors(folder: Path) -> list[str]:
    words = [
        sys.executable,
        "-m",
        "mypy",
        "--strict",
        "--ignore-missing-imports",
        "--no-error-summary",
    ]
    done = subprocess.run([*words, "."], cwd=folder, capture_output=True, text=True)
    return [line for line in done.stdout.splitlines() if ": error:" in line]


def pyright_errors(folder: Path) -> list[str]:
    settings = {"typeCheckingMode": "standard", "reportMissingModuleSource": False}
    (folder / "pyrightconfig.json").write_text(json.dumps(settings))
    words = [sys.executable, "-m", "basedpyright", "-p", ".", "--pythonpath", sys.executable]
    done = subprocess.run(words, cwd=folder, capture_output=True, text=True)
    return [line for line in done.stdout.splitlines() if " - error:" in line]


CHECKERS = {"mypy": mypy_errors, "basedpyright": pyright_errors}


@soak
@pytest.mark.parametrize("checker", CHECKERS)
def test_documented_calls_are_typed_and_wrong_ones_refused(checker: str, tmp_path: Path) -> None:
    if importlib.util.find_spec(checker) is None:
        pytest.skip(f"{checker} is not installed; `make lint` brings it")
    pieces = documented()
    assert len(pieces) > 100
    right, wrong = tmp_path / "right", tmp_path / "wrong"
    for folder, code in ((right, pieces), (wrong, WRONG)):
        folder.mkdir()
        for i, (name, text) in enumerate(code.items()):
            file = folder / (f"{name}.py" if folder == right else f"wrong_{i}.py")
            file.write_text(
                text if folder == right else f"import jetruler as jr\n\n{text}\n", "utf-8"
            )
    assert CHECKERS[checker](right) == []
    refused = {
        line.split(":")[0].split("/")[-1].split(".py")[0] for line in CHECKERS[checker](wrong)
    }
    assert [name for i, name in enumerate(WRONG) if f"wrong_{i}" not in refused] == []
