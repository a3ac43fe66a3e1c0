"""docs/performance.md: the machine, the versions, and every figure as a ratio with its spread."""

from __future__ import annotations

import math
import os
import platform
from collections.abc import Mapping, Sequence
from datetime import date
from importlib.metadata import version
from pathlib import Path

from .timing import Result

PAGE = Path(__file__).parents[1] / "docs" / "performance.md"

PACKAGES = (
    "jet-ruler",
    "numpy",
    "pyarrow",
    "pandas",
    "polars",
    "dask",
    "scipy",
    "click",
    "rich",
    "pydantic",
    "textual",
)

HEAD = """# Performance

Written by `make bench`; do not edit. Every figure is a ratio against the obvious alternative, both
timed in turn in one run, so that it means the same on another machine: the median, the spread
of the rounds, and the goal.

"""


def machine() -> str:
    """What it was measured on."""
    memory = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") / 2**30
    return (
        f"{platform.machine()}, {os.cpu_count()} cores, {memory:.0f} GB, "
        f"{platform.system()} {platform.release().split('-')[0]}"
    )


def write(measured: Mapping[str, tuple[str, Sequence[Result]]], order: Sequence[str]) -> None:
    """Write the sections of what was measured; those of other rooms stay as they are.

    measured: what each room measures, and its figures, by its name. order: of the sections.
    """
    old = PAGE.read_text() if PAGE.exists() else ""
    sections = {part.split("\n", 1)[0]: part for part in old.split("\n## ")[1:]}
    sections |= {name: _section(name, *found) for name, found in measured.items()}
    packages = ", ".join(f"{package} {version(package)}" for package in PACKAGES)
    where = f"{machine()}, Python {platform.python_version()}, {packages}"
    parts = [f"{HEAD}On {where}", *(sections[name].rstrip() for name in order if name in sections)]
    PAGE.write_text("\n\n## ".join(parts) + "\n")


def _section(name: str, about: str, found: Sequence[Result]) -> str:
    lines = [name, "", about, "", "| figure | measured | spread | wanted |", "|---|---:|---|---|"]
    return "\n".join([*lines, *map(_row, found), "", f"Measured {date.today()}."])


def _row(result: Result) -> str:
    low, high = result.spread
    sign = "≥" if result.at_least else "≤"
    told = "" if result.reached else " **not reached**"
    value = f"{result.value:,.0f}" if result.unit == "rows" else f"{result.value:.2f}"
    spread = "" if low == high else f"{low:.2f} … {high:.2f}"
    return (
        f"| {result.name} | {value} {result.unit} | {spread} "
        f"| {f'{sign} {result.wanted:g}' if math.isfinite(result.wanted) else '–'}{told} |"
    )
