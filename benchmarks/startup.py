"""What a command costs before it does anything."""

from __future__ import annotations

import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

from jetruler import demo

from .timing import Result, process, python, ratio


def results() -> Iterator[Result]:
    """Every figure of this room."""
    yield ratio(
        "import jetruler / import numpy",
        python("import jetruler"),
        python("import numpy"),
        1.3,
        rounds=21,
    )
    command = str(Path(sys.executable).with_name("jetruler"))
    yield ratio(
        "jetruler --help / import click",
        process(command, "--help"),
        python("import click"),
        1.5,
        rounds=21,
    )
    with tempfile.TemporaryDirectory() as folder:
        bench = Path(folder) / "bench.toml"
        bench.write_bytes(demo.read("bench.toml"))
        yield ratio(
            "jetruler explain / import numpy, click",
            process(command, "explain", "damper", "--at", "1880", "-b", str(bench)),
            python("import numpy, click"),
            1.8,
            rounds=15,
        )
        yield ratio(
            "jetruler check / import numpy, click",
            process(command, "check", "-b", str(bench)),
            python("import numpy, click"),
            1.9,
            rounds=15,
        )
