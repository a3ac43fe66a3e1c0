"""Small by default, large on request: what `make test` runs, and what `make soak` adds."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import settings

soak = pytest.mark.soak


def sizes(small: int, large: int) -> list[Any]:
    """The parameters of a test that can be made as large as one likes."""
    return [small, pytest.param(large, marks=soak)]


def fewer(part: int) -> settings:
    """One example where others have `part`: for a property whose examples take long."""
    return settings(max_examples=max(5, settings().max_examples // part))
