"""`python -m tests.worlds --many 3000`: what is wrong with how many worlds, by check."""

from __future__ import annotations

import argparse
import sys
import tempfile
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

from .checks import wrong
from .world import world


def one(seed: int, only: str) -> tuple[int, str, dict[str, list[str]]]:
    """A world in a folder of its own."""
    with tempfile.TemporaryDirectory() as home:
        made = world(seed)
        return seed, str(made), wrong(made, Path(home), only)


def main() -> int:
    """Run them; 1 if something is wrong."""
    asked = argparse.ArgumentParser(prog="worlds", description=__doc__)
    asked.add_argument("--many", type=int, default=3000)
    asked.add_argument("--first", type=int, default=0)
    asked.add_argument("--only", default="")
    asked.add_argument("--show", type=int, default=3)
    asked.add_argument("--jobs", type=int, default=None)
    given = asked.parse_args()
    seeds = range(given.first, given.first + given.many)
    bad: Counter[str] = Counter()
    with ProcessPoolExecutor(given.jobs) as pool:
        for _seed, about, found in pool.map(one, seeds, [given.only] * len(seeds), chunksize=4):
            for name, says in found.items():
                bad[name] += 1
                if bad[name] <= given.show:
                    print(f"{about}\n  {name}: " + "\n    ".join(says[:4]), flush=True)
    print(f"{given.many} worlds: " + (", ".join(f"{k} {n}" for k, n in bad.items()) or "all right"))
    return int(bool(bad))


if __name__ == "__main__":
    sys.exit(main())
