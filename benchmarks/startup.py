"""What a command costs before it does anything."""

from __future__ import annotations

import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

from jetruler import demo

from .timing import Result, process, python, ratio


def results() -> Iterator[Result]:
    """The one figure of this room: a command against the libraries that it stands on."""
    command = str(Path(sys.executable).with_name("jetruler"))
    with tempfile.TemporaryDirectory() as folder:
        bench = demo.unpack(folder) / "bench.toml"
        yield ratio(
            "jetruler explain / import numpy, click, rich.table, pydantic",
            process(command, "explain", "damper", "--at", "1880", "-b", str(bench)),
            python("import numpy, click, rich.table, pydantic"),
            1.4,
            rounds=15,
        )
