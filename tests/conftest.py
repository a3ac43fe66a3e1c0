"""What the tests share: the demo in a folder, the installed command, benches from text."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

from jetruler import Bench, demo
from jetruler.bench.load import parse_bench

settings.register_profile(
    "jetruler",
    deadline=None,  # a slow machine is no failure
    derandomize=True,
    suppress_health_check=[HealthCheck.too_slow],
)
settings.load_profile("jetruler")

COMMAND = Path(sys.executable).with_name("jetruler")

BENCH = """
title = "Test bench"
[converter]
bits = 12
vref = 3.3
[channel.bean]
column = "ch0"
limits = [0.5, 3.0]
decimals = 3
[channel.damper]
column = "ch1"
laws = [
  { law = "line", marks = [[198, 0], [3904, 100]], unit = "%" },
  { law = "clamp", low = 0, high = 100 },
]
decimals = 1
"""

Run = Callable[..., "subprocess.CompletedProcess[str]"]


@pytest.fixture
def home(tmp_path: Path) -> Path:
    """A folder with the demo's bench file and log."""
    for name in demo.FILES:
        (tmp_path / name).write_bytes(demo.read(name))
    return tmp_path


@pytest.fixture
def run(home: Path) -> Run:
    """The installed command, run in the demo's folder."""

    def run(*args: str, stdin: str | None = None) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [COMMAND, *args],
            cwd=home,
            input=stdin,
            capture_output=True,
            text=True,
            timeout=120,
            check=False,
        )

    return run


@pytest.fixture
def bench() -> Bench:
    """Two channels: volts on ch0, a clamped percentage on ch1."""
    return parse_bench(BENCH)
