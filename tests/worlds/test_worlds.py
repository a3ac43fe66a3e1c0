"""A few worlds through every command; `make worlds` runs thousands."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.helpers.sizes import sizes, soak

from .checks import CHECKS, QUICK, SLOW, Check, wrong
from .world import world

#: Few in `make test`; in `make soak` some 200, in pieces that several processes share, and 20 of
#: them through all that draws or runs over every count.
FEW = [range(3), range(3, 6)]
MANY = [range(start, start + 10) for start in range(100, 280, 10)]
WHOLE = [range(start, start + 5) for start in range(280, 300, 5)]


@pytest.mark.parametrize("seeds", FEW, ids=str)
def test_every_quick_command_in_a_few_worlds(seeds: range, tmp_path: Path) -> None:
    assert not all_wrong(seeds, tmp_path, QUICK)


@soak
@pytest.mark.parametrize("seed", sizes(3, 5))
def test_every_command_in_a_world(seed: int, tmp_path: Path) -> None:
    assert not all_wrong(range(seed, seed + 1), tmp_path, SLOW)


@soak
@pytest.mark.parametrize("seeds", MANY, ids=str)
def test_every_quick_command_in_many_worlds(seeds: range, tmp_path: Path) -> None:
    assert not all_wrong(seeds, tmp_path, QUICK)


@soak
@pytest.mark.parametrize("seeds", WHOLE, ids=str)
def test_every_command_in_some_worlds(seeds: range, tmp_path: Path) -> None:
    assert not all_wrong(seeds, tmp_path, CHECKS)


def all_wrong(seeds: range, home: Path, checks: tuple[Check, ...]) -> str:
    """What is wrong in some worlds, to be read."""
    found = [(made := world(seed), wrong(made, home, checks=checks)) for seed in seeds]
    return "\n".join(f"{made}\n  {bad}" for made, bad in found if bad)
