"""Every source file, parsed and walked once for all tests that read them."""

from __future__ import annotations

import ast
from functools import cache
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[2]
#: What reads every source file runs in one process.
of_sources = pytest.mark.xdist_group("sources")


@cache
def sources() -> dict[Path, list[ast.AST]]:
    """Each file, and all nodes of its tree."""
    paths = sorted((ROOT / "src").rglob("*.py"))
    return {path: list(ast.walk(ast.parse(path.read_text("utf-8")))) for path in paths}
