"""What the tests share: the demo in a folder, the command line, benches from text."""

from __future__ import annotations

import gc
import os
import signal
import sys
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

from jetruler import Bench, demo
from jetruler.benchfile.load import parse_bench
from tests.helpers.command import Done, called

# Few examples for `make test`, many for `make soak`, which names its profile.
for profile, examples in (("jetruler", 20), ("soak", 300)):
    settings.register_profile(
        profile,
        deadline=None,  # a slow machine is no failure
        derandomize=True,
        max_examples=examples,
        suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture],
    )
settings.load_profile("jetruler")

# Whoever runs the tests in the background has them ignore signals, and all that they start.
for number, handler in (
    (signal.SIGINT, signal.default_int_handler),
    (signal.SIGHUP, signal.SIG_DFL),
    (signal.SIGQUIT, signal.SIG_DFL),
):
    if signal.getsignal(number) is signal.SIG_IGN:
        signal.signal(number, handler)

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

Cli = Callable[..., Done]


@pytest.hookimpl(tryfirst=True)
def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Leave all but the first row of a `few` test to the soak."""
    rows: dict[str, list[pytest.Item]] = {}
    for item in items:
        if item.get_closest_marker("few") and not item.get_closest_marker("soak"):
            rows.setdefault(item.nodeid.partition("[")[0], []).append(item)
    for some in rows.values():
        for item in some[1:]:
            item.add_marker("soak")


@pytest.fixture
def home(tmp_path: Path) -> Path:
    """A folder with the demo's bench file and log."""
    return demo.unpack(tmp_path)


@pytest.fixture(scope="session")
def roaster() -> Bench:
    """The demo's bench."""
    return parse_bench(demo.read("bench.toml").decode())


@pytest.fixture
def cli(home: Path) -> Cli:
    """`cli("look", "roast.csv")` calls the command line in the demo's folder."""
    return partial(called, home=home)


@pytest.fixture(scope="session")
def cluster() -> Iterator[str]:
    """The address of a real scheduler with two worker processes, one for the session."""
    import distributed

    with distributed.LocalCluster(
        n_workers=2, threads_per_worker=1, processes=True, dashboard_address="127.0.0.1:0"
    ) as local:
        yield local.scheduler_address


#: Keeps tests in one process, which alone loads what clusters need.
of_cluster = pytest.mark.xdist_group("cluster")


@pytest.fixture
def bench() -> Bench:
    """Two channels: volts on ch0, a clamped percentage on ch1."""
    return parse_bench(BENCH)


@pytest.hookimpl(optionalhook=True)
def pytest_xdist_auto_num_workers() -> int:
    """One more than cores: many tests wait for a board, a command or a key."""
    return (os.cpu_count() or 1) + 1


def pytest_collection_finish() -> None:
    """What is loaded by now stays: no search for cycles in it again and again, and fewer in all."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(50_000, 20, 20)


def pytest_unconfigure() -> None:
    """What is left has been searched once: pytest does so five times more."""
    gc.collect()
    gc.freeze()
