"""Run every benchmark, or those named: `python -m benchmarks rulers startup`. Each writes its
section of docs/performance.md."""

from __future__ import annotations

import sys
from importlib import import_module

from . import page
from .timing import Result

ROOMS = (
    *("startup", "small", "rows", "rulers", "smoothing", "trust"),
    *("logs", "parquet", "fleet", "live", "firmware"),
)

if __name__ == "__main__":  # the jobs are processes that load this file again
    measured: dict[str, tuple[str, list[Result]]] = {}
    for name in sys.argv[1:] or ROOMS:
        room = import_module(f".{name}", __package__)
        about = (room.__doc__ or "").strip().replace("\n", " ")
        measured[name] = (about, [])
        for result in room.results():
            print(result, flush=True)
            measured[name][1].append(result)
    page.write(measured, ROOMS)
    print(f"written: {page.PAGE}")
