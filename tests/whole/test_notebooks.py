"""The notebooks run from top to bottom, and are stored without what they gave."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from tests.helpers.sizes import soak, thinned

NOTEBOOKS = sorted((Path(__file__).parents[2] / "examples").glob("*.ipynb"))


@pytest.mark.parametrize("path", NOTEBOOKS, ids=lambda path: path.name)
def test_a_notebook_is_stored_without_outputs(path: Path) -> None:
    cells = [c for c in json.loads(path.read_text("utf-8"))["cells"] if c["cell_type"] == "code"]
    assert cells
    assert not any(cell["outputs"] or cell["execution_count"] for cell in cells)


@soak
@pytest.mark.parametrize("path", thinned(NOTEBOOKS, 2), ids=lambda path: path.name)
def test_a_notebook_runs(path: Path, tmp_path: Path) -> None:
    nbclient, nbformat = pytest.importorskip("nbclient"), pytest.importorskip("nbformat")
    pytest.importorskip("ipykernel")
    notebook: Any = nbformat.read(path, as_version=4)
    nbclient.NotebookClient(
        notebook, timeout=120, resources={"metadata": {"path": str(tmp_path)}}
    ).execute()
    shown = [out for cell in notebook.cells for out in cell.get("outputs", ())]
    assert any("image/png" in out.get("data", {}) for out in shown)
    assert any("<table" in "".join(out.get("data", {}).get("text/html", "")) for out in shown)
    assert not any(out["output_type"] == "stream" and out["name"] == "stderr" for out in shown)
