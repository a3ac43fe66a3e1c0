"""Run every benchmark, or those named: `python -m benchmarks rulers startup`."""

from __future__ import annotations

import sys
from importlib import import_module

ROOMS = ("startup", "rulers", "smoothing", "trust", "logs", "live", "firmware")

for room in sys.argv[1:] or ROOMS:
    for result in import_module(f".{room}", __package__).results():
        print(result, flush=True)
