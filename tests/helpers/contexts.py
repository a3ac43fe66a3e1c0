"""A pytest plugin: what each test runs is kept apart, and how long it takes is written down."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import coverage
import pytest

TIMES = Path("times.txt")


@pytest.hookimpl(wrapper=True)
def pytest_runtest_protocol(item: pytest.Item) -> Iterator[None]:
    """Name the context after the test."""
    measured = coverage.Coverage.current()
    assert measured is not None
    measured.switch_context(item.nodeid)
    try:
        return (yield)
    finally:
        measured.switch_context("")


def pytest_runtest_logreport(report: pytest.TestReport) -> None:
    """A line for each test that passed: its seconds, its name."""
    if report.when == "call" and report.passed:
        with TIMES.open("a", encoding="utf-8") as file:
            file.write(f"{report.duration:.3f} {report.nodeid}\n")
