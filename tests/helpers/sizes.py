"""Small by default, large on request: what `make test` runs, and what `make soak` adds."""

from __future__ import annotations

import os
from collections.abc import Iterable
from typing import Any

import pytest
from hypothesis import settings

soak = pytest.mark.soak
#: A test whose rows cost much: `make test` runs the first, `make soak` the others.
few = pytest.mark.few

#: The system that the product is told it runs on, where it is another.
SYSTEM = os.environ.get("JETRULER_SYSTEM", "")
posix = pytest.mark.skipif(SYSTEM == "windows", reason="only POSIX has it")


def sizes(small: int, large: int) -> list[Any]:
    """The parameters of a test that can be made as large as one likes."""
    return [small, pytest.param(large, marks=soak)]


def thinned(items: Iterable[Any], step: int) -> list[Any]:
    """The parameters of a test whose every one of them costs much: each so-many-th always, the
    others on request."""
    rows = [item if isinstance(item, tuple) else (item,) for item in items]
    return [pytest.param(*row, marks=[soak] if i % step else []) for i, row in enumerate(rows)]


def fewer(part: int) -> settings:
    """One example where others have `part`: for a property whose examples take long."""
    return settings(max_examples=max(5, settings().max_examples // part))
