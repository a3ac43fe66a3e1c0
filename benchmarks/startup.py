"""What a command costs before it does anything."""

from __future__ import annotations

import math
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

from jetruler import demo

from .timing import Result, process, python, ratio


def results() -> Iterator[Result]:
    """A command against the libraries that it stands on."""
    command = str(Path(sys.executable).with_name("jetruler"))
    with tempfile.TemporaryDirectory() as folder:
        bench = demo.unpack(folder) / "bench.toml"
        # Pydantic loads itself only where it is used: the second row is what its use costs.
        for libraries, wanted in (
            ("import numpy, click, rich.table, pydantic", 1.4),
            ("import numpy, click, rich.table; from pydantic import TypeAdapter", math.inf),
        ):
            yield ratio(
                f"jetruler explain / {libraries}",
                process(command, "explain", "damper", "--at", "1880", "-b", str(bench)),
                python(libraries),
                wanted,
                rounds=15,
            )
