"""`python -m tests.worlds --many 3000`: what is wrong with how many worlds, by check. Every world
goes through the quick checks, and through one of the slow ones, which take turns."""

from __future__ import annotations

import argparse
import sys
import tempfile
import time
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

from .checks import CHECKS, QUICK, SLOW, Check, wrong
from .world import world

#: Worlds after which it is said how far it got.
SAYING = 100


def one(seed: int, only: str) -> tuple[str, dict[str, list[str]]]:
    """A world in a folder of its own."""
    checks: tuple[Check, ...] = (*QUICK, SLOW[seed % len(SLOW)])
    if only:
        checks = tuple(c for c in CHECKS if only == "all" or c.__name__ in only.split(","))
    with tempfile.TemporaryDirectory() as home:
        made = world(seed)
        return str(made), wrong(made, Path(home), checks)


def main() -> int:
    """Run them; 1 if something is wrong."""
    asked = argparse.ArgumentParser(prog="worlds", description=__doc__)
    asked.add_argument("--many", type=int, default=3000)
    asked.add_argument("--first", type=int, default=0)
    asked.add_argument("--only", default="", help="names of checks, or all")
    asked.add_argument("--show", type=int, default=3)
    asked.add_argument("--jobs", type=int, default=None)
    given = asked.parse_args()
    seeds = range(given.first, given.first + given.many)
    bad: Counter[str] = Counter()
    begun = time.monotonic()
    with ProcessPoolExecutor(given.jobs) as pool:
        worlds = pool.map(one, seeds, [given.only] * len(seeds), chunksize=4)
        for done, (about, found) in enumerate(worlds, 1):
            for name, says in found.items():
                bad[name] += 1
                if bad[name] <= given.show:
                    print(f"{about}\n  {name}: " + "\n    ".join(says[:4]), flush=True)
            if done % SAYING == 0:
                said = (
                    f"{done} worlds in {time.monotonic() - begun:.0f} s, {bad.total()} unexpected"
                )
                print(said, file=sys.stderr, flush=True)
    print(f"{given.many} worlds: " + (", ".join(f"{k} {n}" for k, n in bad.items()) or "all right"))
    return int(bool(bad))


if __name__ == "__main__":
    sys.exit(main())
